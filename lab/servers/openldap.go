package servers

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/go-ldap/ldap/v3"
)

// LDAPServer is a running directory and how to reach it.
type LDAPServer struct {
	*Process
	dir string // the lab's
	URL string // verified TLS
	// PlainURL has StartTLS but does not ask for it; "" unless wanted.
	PlainURL string
	CAFile   string
	BaseDN   string
	// LocalSocket is a domain controller's privileged one, "" for others.
	LocalSocket string
	// AdminDN may change entries, ReaderDN may read all that Kambrel needs.
	AdminDN, AdminPassword   string
	ReaderDN, ReaderPassword string
}

// OpenLDAPOptions says what the server holds.
type OpenLDAPOptions struct {
	BaseDN string
	Port   int
	// LDIF, when set, is loaded with slapadd before the first start.
	LDIF string
	// Plain also listens without TLS, at PlainURL.
	Plain bool
	// Certificate says for what its certificate is wrong; none by default.
	Certificate CertificateFault
	// Access are lines put before the server's own access rules.
	Access string
	// NoSync is a server that does not tell what changed (RFC 4533).
	NoSync bool
	// Policy is the name of the password policy that holds where none other does; "" for
	// none.
	Policy string
}

const slapdConf = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
# A group that may be empty, as many directories have it; Debian ships no file of it. The
# number is of OpenLDAP's arc for experiments.
objectclass ( 1.3.6.1.4.1.4203.666.11.99.1 NAME 'groupOfMembers' SUP top STRUCTURAL
  MUST cn MAY ( businessCategory $ seeAlso $ owner $ ou $ o $ description $ member ) )
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload syncprov
moduleload ppolicy
pidfile %[1]s/slapd.internal.pid
TLSCACertificateFile %[2]s
TLSCertificateFile %[3]s
TLSCertificateKeyFile %[4]s
sizelimit unlimited
timelimit unlimited
database mdb
suffix "%[5]s"
rootdn "cn=admin,%[5]s"
rootpw %[6]s
directory %[1]s/data
maxsize 4294967296
dbnosync
index objectClass,entryCSN,entryUUID,uid,mail eq
%[8]s
access to attrs=userPassword by anonymous auth by * none
access to * by dn.exact="%[7]s" read by anonymous auth by * none
%[9]soverlay ppolicy
ppolicy_use_lockout
%[10]s`

// readerPassword is that of the account with which Kambrel reads.
const readerPassword = "Rope-And-Tide-9"

// ReaderLDIF is that account and its container, to be loaded below a base.
func ReaderLDIF(base string) string {
	return "dn: ou=Service Accounts," + base + "\nobjectClass: organizationalUnit\n\ndn: uid=svc-kambrel,ou=Service Accounts," + base +
		"\nobjectClass: account\nobjectClass: simpleSecurityObject\nuserPassword: " + readerPassword + "\n\n"
}

// ldapServer is how a server of the lab is reached that holds what ReaderLDIF says.
func (l *Lab) ldapServer(port int, base, admin string) *LDAPServer {
	return &LDAPServer{
		URL: fmt.Sprintf("ldaps://127.0.0.1:%d", port), CAFile: l.CAFile(), BaseDN: base,
		AdminDN: admin, AdminPassword: "Capstan-Deep-41",
		ReaderDN: "uid=svc-kambrel,ou=Service Accounts," + base, ReaderPassword: readerPassword,
	}
}

// StartOpenLDAP starts slapd with its data in the lab.
func (l *Lab) StartOpenLDAP(ctx context.Context, name string, options OpenLDAPOptions) (*LDAPServer, error) {
	const slapd = "/usr/sbin/slapd"
	if _, err := os.Stat(slapd); err != nil {
		return nil, fmt.Errorf("OpenLDAP is not installed: run lab/servers/install.sh, or make demo")
	}
	port, err := FreePort(options.Port)
	if err != nil {
		return nil, err
	}
	s := l.ldapServer(port, options.BaseDN, "cn=admin,"+options.BaseDN)
	dir := filepath.Join(l.Dir, name)
	if err := os.MkdirAll(filepath.Join(dir, "data"), 0o700); err != nil {
		return nil, err
	}
	certificate, key, err := issue(l.certificate, name, "127.0.0.1", options.Certificate)
	if err != nil {
		return nil, err
	}
	conf := filepath.Join(dir, "slapd.conf")
	tracking := "overlay syncprov\nsyncprov-checkpoint 1000 5\nsyncprov-sessionlog 100000\n"
	if options.NoSync {
		tracking = ""
	}
	policy := ""
	if options.Policy != "" {
		policy = fmt.Sprintf("ppolicy_default %q\n", options.Policy)
	}
	text := fmt.Sprintf(slapdConf, dir, l.CAFile(), certificate, key, options.BaseDN, s.AdminPassword, s.ReaderDN, options.Access, tracking, policy)
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(dir, "data", "data.mdb")); err != nil && options.LDIF != "" {
		load := exec.CommandContext(ctx, "/usr/sbin/slapadd", "-q", "-f", conf, "-l", options.LDIF)
		load.Env = append(os.Environ(), l.clock(name)...)
		if out, err := load.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("slapadd: %w\n%s", err, out)
		}
	}
	listen, ready := s.URL, func(context.Context) error { return s.answersTo(s.AdminDN, s.AdminPassword) }
	if options.Plain {
		plain, err := FreePort(0)
		if err != nil {
			return nil, err
		}
		s.PlainURL = fmt.Sprintf("ldap://127.0.0.1:%d", plain)
		listen += " " + s.PlainURL
	}
	if options.Certificate != RightCertificate {
		ready = func(context.Context) error {
			conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				return err
			}
			return conn.Close()
		}
	}
	s.Process, err = l.Start(ctx, Command{Name: name, Path: slapd, Args: []string{"-d", "0", "-f", conf, "-h", listen}, Ready: ready})
	return s, err
}

// Dial opens a verified connection as the administrator.
func (s *LDAPServer) Dial() (*ldap.Conn, error) { return s.dialAs(s.AdminDN, s.AdminPassword) }

func (s *LDAPServer) dialAs(dn, password string) (*ldap.Conn, error) {
	config, err := tlsConfig(s.CAFile, s.URL)
	if err != nil {
		return nil, err
	}
	conn, err := ldap.DialURL(s.URL, ldap.DialWithTLSConfig(config))
	if err != nil {
		return nil, err
	}
	if err := conn.Bind(dn, password); err != nil {
		_ = conn.Close()
		return nil, err
	}
	return conn, nil
}

// answersTo tells whether the server is up and lets an account in.
func (s *LDAPServer) answersTo(dn, password string) error {
	conn, err := s.dialAs(dn, password)
	if err != nil {
		return err
	}
	return conn.Close()
}
