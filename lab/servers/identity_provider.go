package servers

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
)

//go:embed identity_provider.py
var identityProvider []byte

// IdentityProvider is a running sign-in service, independent of the product: on pysaml2.
type IdentityProvider struct {
	*Process
	Base string
	// Metadata is where its own is, signed; Services is the page where services are made known.
	Metadata, Services string
}

// StartIdentityProvider starts one that tries people's passwords at a directory.
func (l *Lab) StartIdentityProvider(ctx context.Context, name string, port int, directory *LDAPServer) (*IdentityProvider, error) {
	port, err := FreePort(port)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(l.Dir, name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	reader, err := json.Marshal(map[string]string{"reader": directory.ReaderDN, "secret": directory.ReaderPassword})
	if err != nil {
		return nil, err
	}
	program := filepath.Join(dir, "identity_provider.py")
	for file, text := range map[string][]byte{program: identityProvider, filepath.Join(dir, "reader.json"): reader} {
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return nil, err
		}
	}
	base := fmt.Sprintf("http://127.0.0.1:%d", port)
	p := &IdentityProvider{Base: base, Metadata: base + "/metadata", Services: base + "/services"}
	p.Process, err = l.Start(ctx, Command{
		Name: name, Path: "/usr/bin/python3",
		Args:  []string{program, "--dir", dir, "--port", fmt.Sprint(port), "--ldap", directory.URL, "--ca", directory.CAFile, "--base", directory.BaseDN},
		Ready: Answers(p.Metadata),
	})
	return p, err
}

// Fault makes it do something on purpose: say another login or subject of whoever signs in, sign
// with another key ("signing", with those that are told beside it in "also" and for how many
// "days"), sign its metadata with another ("metadata key") or not ("unsigned"); "" ends one.
func (p *IdentityProvider) Fault(ctx context.Context, faults map[string]string) error {
	text, err := json.Marshal(faults)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, p.Base+"/faults", bytes.NewReader(text))
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("the identity provider answers %s", response.Status)
	}
	return nil
}
