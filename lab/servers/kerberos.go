package servers

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Kerberos is how tickets of the domain controller are got, and by what a service reads them.
type Kerberos struct {
	Realm  string
	Config string // for KRB5_CONFIG
	// Keytab has the key of Service, which is HTTP/ and the name by which browsers know it.
	Keytab, Service string
}

const signInAccount = "svc-sign-in"

// Kerberos makes an account of a domain controller for a host that people sign in at, and the table
// with its key.
func (l *Lab) Kerberos(ctx context.Context, s *LDAPServer, host string) (*Kerberos, error) {
	dir := filepath.Join(l.Dir, "dc")
	conf := filepath.Join(dir, "etc", "smb.conf")
	k := &Kerberos{Realm: realm, Config: filepath.Join(l.Dir, "krb5.conf"), Keytab: filepath.Join(l.Dir, "sign-in.keytab"), Service: "HTTP/" + host}
	address := strings.TrimPrefix(s.URL, "ldaps://")
	text := fmt.Sprintf("[libdefaults]\n default_realm = %[1]s\n dns_lookup_kdc = false\n dns_lookup_realm = false\n dns_canonicalize_hostname = false\n rdns = false\n[realms]\n %[1]s = {\n  kdc = tcp/%[2]s:88\n  kdc = %[2]s:88\n }\n[domain_realm]\n .corp.halvard.example = %[1]s\n", realm, address)
	if err := os.WriteFile(k.Config, []byte(text), 0o644); err != nil {
		return nil, err
	}
	if _, err := os.Stat(k.Keytab); err == nil {
		return k, nil
	}
	run := func(arguments ...string) error {
		out, err := exec.CommandContext(ctx, "samba-tool", append(arguments, "-s", conf)...).CombinedOutput()
		if err != nil && !strings.Contains(string(out), "already exists") {
			return fmt.Errorf("samba-tool %s: %w\n%s", strings.Join(arguments[:2], " "), err, lastLines(string(out)))
		}
		return nil
	}
	sam := filepath.Join(dir, "private", "sam.ldb")
	if err := errors.Join(run("user", "create", signInAccount, "--random-password", "-H", sam), run("spn", "add", k.Service, signInAccount, "-H", sam)); err != nil {
		return nil, err
	}
	return k, run("domain", "exportkeytab", k.Keytab, "--principal="+k.Service)
}
