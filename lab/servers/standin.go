package servers

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
)

// Cloud is a running cloud stand-in.
type Cloud struct {
	*Process
	// URL is the SCIM base; Control is the base of the stand-in's own switches.
	URL, Control string
	Token        string
	TokenFile    string
	// Base is where the rest of the stand-in is: its events and the page for people (/me).
	Base string
	// AgentsFile lists the agents for which it seals passwords.
	AgentsFile string
}

// LetIn lets the stand-in seal passwords of a directory for an agent, by the thumbprint of
// its identity.
func (c *Cloud) LetIn(directory, thumbprint string) error {
	line := directory + " " + thumbprint + "\n"
	text, err := os.ReadFile(c.AgentsFile)
	if err == nil && strings.Contains(string(text), line) {
		return nil
	}
	return os.WriteFile(c.AgentsFile, append(text, line...), 0o600)
}

// KeySet is the address of the keys by which it signs events.
func (c *Cloud) KeySet() string { return c.Base + "/.well-known/jwks.json" }

// StartCloud starts the stand-in from the program given; more are further
// arguments, such as features to take away.
func (l *Lab) StartCloud(ctx context.Context, program string, port int, domains []string, more ...string) (*Cloud, error) {
	port, err := FreePort(port)
	if err != nil {
		return nil, err
	}
	base := fmt.Sprintf("http://127.0.0.1:%d", port)
	c := &Cloud{Base: base, URL: base + "/scim/v2", Control: base + "/standin", TokenFile: filepath.Join(l.Dir, "cloud.token"), AgentsFile: filepath.Join(l.Dir, "cloud.agents")}
	if c.Token, err = Secret(c.TokenFile); err != nil {
		return nil, err
	}
	c.Process, err = l.Start(ctx, Command{
		Name: "cloud", Path: program,
		Args:  append([]string{"cloud", "--listen", fmt.Sprintf("127.0.0.1:%d", port), "--token-file", c.TokenFile, "--dir", filepath.Join(l.Dir, "cloud"), "--domains", strings.Join(domains, ","), "--agents-file", c.AgentsFile}, more...),
		Ready: func(ctx context.Context) error { return answers(ctx, c.URL+"/Users?count=1", c.Token) },
	})
	return c, err
}

// Mail is a mail server that keeps what it gets.
type Mail struct {
	URL      string // smtp://host:port
	Messages string // where it is shown as JSON
	Page     string
	CAFile   string
}

// StartMail starts a mail server, with a certificate of the lab.
func (l *Lab) StartMail(ctx context.Context, program string, port int) (*Mail, error) {
	port, err := FreePort(port)
	if err != nil {
		return nil, err
	}
	show, err := FreePort(port + 1)
	if err != nil {
		return nil, err
	}
	certificate, key, err := issue(l.certificate, "mail", "127.0.0.1", RightCertificate)
	if err != nil {
		return nil, err
	}
	m := &Mail{URL: fmt.Sprintf("smtp://127.0.0.1:%d", port), Page: fmt.Sprintf("http://127.0.0.1:%d/", show), CAFile: l.CAFile()}
	m.Messages = m.Page + "messages"
	_, err = l.Start(ctx, Command{
		Name: "mail", Path: program,
		Args:  []string{"mail", "--listen", fmt.Sprintf("127.0.0.1:%d", port), "--show", fmt.Sprintf("127.0.0.1:%d", show), "--dir", filepath.Join(l.Dir, "mail"), "--tls-cert", certificate, "--tls-key", key},
		Ready: Answers(m.Messages),
	})
	return m, err
}

// StartOtherCloud starts a second SCIM service, on a public library, from the
// folder of its program; it knows nothing of domains or contacts. Its Control
// has the counts of writes only.
func (l *Lab) StartOtherCloud(ctx context.Context, folder string, more ...string) (*Cloud, error) {
	port, err := FreePort(0)
	if err != nil {
		return nil, err
	}
	base := fmt.Sprintf("http://127.0.0.1:%d", port)
	c := &Cloud{URL: base + "/scim/v2", Control: base, TokenFile: filepath.Join(l.Dir, "cloud.token")}
	if c.Token, err = Secret(c.TokenFile); err != nil {
		return nil, err
	}
	c.Process, err = l.Start(ctx, Command{
		Name: "cloud", Path: "node",
		Args:  append([]string{filepath.Join(folder, "server.mjs"), "--listen", fmt.Sprintf("127.0.0.1:%d", port), "--token-file", c.TokenFile}, more...),
		Ready: func(ctx context.Context) error { return answers(ctx, c.URL+"/ServiceProviderConfig", c.Token) },
	})
	return c, err
}

// Answers tells by a GET whether a server is up.
func Answers(url string) func(context.Context) error {
	return func(ctx context.Context) error { return answers(ctx, url, "") }
}

// AnswersByTLS waits for a server that shows any certificate.
func AnswersByTLS(address string) func(context.Context) error {
	return func(ctx context.Context) error {
		conn, err := (&tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true}}).DialContext(ctx, "tcp", address)
		if err != nil {
			return err
		}
		return conn.Close()
	}
}

func answers(ctx context.Context, url, token string) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answers %s", url, response.Status)
	}
	return nil
}

// Secret reads a secret from a file, or makes one and writes it (0600).
func Secret(file string) (string, error) {
	if text, err := os.ReadFile(file); err == nil && len(text) > 0 {
		return strings.TrimSpace(string(text)), nil
	}
	secret := rand.Text()
	return secret, os.WriteFile(file, []byte(secret+"\n"), 0o600)
}
