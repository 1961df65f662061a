package servers

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
)

// DS389Options says what a 389 Directory Server holds.
type DS389Options struct {
	BaseDN string
	Port   int
	// LDIF, when set, is imported before the first start.
	LDIF string
	// Sync switches content synchronization (RFC 4533) on, which this server has as a plug-in
	// that is off.
	Sync bool
}

const (
	ds389     = "/usr/sbin/ns-slapd"
	ds389Data = "/usr/share/dirsrv"
)

// StartDS389 starts a 389 Directory Server of its own, from the templates that its package
// brings, with everything in the lab: the server's own set-up tool would write to /etc.
func (l *Lab) StartDS389(ctx context.Context, name string, options DS389Options) (*LDAPServer, error) {
	if _, err := os.Stat(ds389); err != nil {
		return nil, fmt.Errorf("389 Directory Server is not installed: run lab/servers/install.sh, or make demo")
	}
	port, err := FreePort(options.Port)
	if err != nil {
		return nil, err
	}
	s := l.ldapServer(port, options.BaseDN, "cn=Directory Manager")
	dir := filepath.Join(l.Dir, name)
	config := filepath.Join(dir, "config")
	if _, err := os.Stat(filepath.Join(config, "dse.ldif")); err != nil {
		if err := l.setUpDS389(ctx, name, dir, port, s, options); err != nil {
			return nil, err
		}
		if options.LDIF != "" {
			if out, err := exec.CommandContext(ctx, ds389, "ldif2db", "-D", config, "-n", "userRoot", "-i", options.LDIF).CombinedOutput(); err != nil {
				return nil, fmt.Errorf("import into %s: %w\n%s", name, err, out)
			}
		}
	}
	s.Process, err = l.Start(ctx, Command{Name: name, Path: ds389, Args: []string{"-D", config, "-d", "0", "-i", filepath.Join(dir, "run", "pid")},
		Ready: func(context.Context) error { return s.answersTo(s.AdminDN, s.AdminPassword) }})
	return s, err
}

// setUpDS389 fills the templates, and gives the server its certificate.
func (l *Lab) setUpDS389(ctx context.Context, name, dir string, port int, s *LDAPServer, options DS389Options) error {
	for _, part := range []string{"config/schema", "db", "run", "log", "tmp", "ldif", "bak"} {
		if err := os.MkdirAll(filepath.Join(dir, part), 0o700); err != nil {
			return err
		}
	}
	who, err := user.Current()
	if err != nil {
		return err
	}
	config := filepath.Join(dir, "config")
	facts := strings.NewReplacer(
		"%schema_dir%", filepath.Join(config, "schema"), "%config_dir%", config, "%cert_dir%", config, "%lock_dir%", filepath.Join(dir, "run"), "%run_dir%", filepath.Join(dir, "run"),
		"%tmp_dir%", filepath.Join(dir, "tmp"), "%ldif_dir%", filepath.Join(dir, "ldif"), "%bak_dir%", filepath.Join(dir, "bak"), "%inst_dir%", dir, "%log_dir%", filepath.Join(dir, "log"),
		"%db_dir%", filepath.Join(dir, "db"), "%db_home_dir%", filepath.Join(dir, "db"), "%db_lib%", "bdb", "%fqdn%", "localhost", "%ds_port%", "0", "%ds_user%", who.Username,
		"%rootdn%", s.AdminDN, "%ds_passwd%", "{CLEAR}"+s.AdminPassword, "%ldapi_enabled%", "off", "%ldapi%", filepath.Join(dir, "run", "ldapi"), "%ldapi_autobind%", "off",
		"%ds_suffix%", options.BaseDN, "%ds_bename%", "userRoot",
	)
	text := ""
	for _, template := range []string{"template-dse.ldif", "template-suffix-db.ldif"} {
		part, err := os.ReadFile(filepath.Join(ds389Data, "data", template))
		if err != nil {
			return err
		}
		_, entries, _ := strings.Cut("\n"+string(part), "\ndn:") // what stands before is a comment
		text += "dn:" + strings.TrimRight(facts.Replace(entries), "\n") + "\n\n"
	}
	text = regexp.MustCompile(`\n{3,}`).ReplaceAllString(text, "\n\n") // an empty entry is refused
	// A lab need not survive a loss of power, and tells its log to nobody.
	more := fmt.Sprintf("nsslapd-security: on\nnsslapd-secureport: %d\nnsslapd-minssf: 0\nnsslapd-disk-monitoring: off\nnsslapd-accesslog-logging-enabled: off\n", port)
	text = strings.Replace(text, "nsslapd-localhost:", more+"nsslapd-localhost:", 1)
	text = strings.Replace(text, "nsslapd-subtree-rename-switch: on\n", "nsslapd-subtree-rename-switch: on\nnsslapd-db-durable-transaction: off\n", 1)
	if options.Sync {
		for _, plugin := range []string{"Retro Changelog Plugin", "Content Synchronization"} {
			before, after, _ := strings.Cut(text, "dn: cn="+plugin+",cn=plugins,cn=config")
			text = before + "dn: cn=" + plugin + ",cn=plugins,cn=config" + strings.Replace(after, "nsslapd-pluginenabled: off", "nsslapd-pluginenabled: on", 1)
		}
		// What a retro changelog keeps beside the change, by which content synchronization names entries.
		text = strings.Replace(text, "cn: Retro Changelog Plugin\n", "cn: Retro Changelog Plugin\nnsslapd-attribute: nsuniqueid:targetUniqueId\n", 1)
	}
	if err := os.WriteFile(filepath.Join(config, "dse.ldif"), []byte(text), 0o600); err != nil {
		return err
	}
	collations, err := os.ReadFile("/etc/dirsrv/config/slapd-collations.conf")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(config, "slapd-collations.conf"), collations, 0o600); err != nil {
		return err
	}
	// The server adds to the file of what was defined by hand.
	user := "dn: cn=schema\nobjectclass: top\nobjectclass: ldapSubentry\nobjectclass: subschema\ncn: schema\n"
	if err := os.WriteFile(filepath.Join(config, "schema", "99user.ldif"), []byte(user), 0o600); err != nil {
		return err
	}
	certificate, key, err := issue(l.certificate, name, "127.0.0.1", RightCertificate)
	if err != nil {
		return err
	}
	both, secret := filepath.Join(dir, "tmp", "server.p12"), filepath.Join(config, "pwdfile.txt")
	if err := os.WriteFile(secret, []byte(s.AdminPassword+"\n"), 0o600); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(config, "pin.txt"), []byte("Internal (Software) Token:"+s.AdminPassword+"\n"), 0o600); err != nil {
		return err
	}
	for _, command := range [][]string{
		{"certutil", "-N", "-d", config, "-f", secret},
		{"certutil", "-A", "-d", config, "-f", secret, "-n", "CA", "-t", "CT,,", "-a", "-i", l.CAFile()},
		{"openssl", "pkcs12", "-export", "-in", certificate, "-inkey", key, "-name", "Server-Cert", "-out", both, "-passout", "file:" + secret},
		{"pk12util", "-i", both, "-d", config, "-k", secret, "-w", secret},
	} {
		if out, err := exec.CommandContext(ctx, command[0], command[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s of %s: %w\n%s", command[0], name, err, out)
		}
	}
	return nil
}
