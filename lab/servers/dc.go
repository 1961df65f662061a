package servers

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// ErrNoDomainController says that this machine cannot run one.
var ErrNoDomainController = errors.New("no domain controller can be started here")

// prepareReader makes the account that Kambrel reads with, and gives it the one
// right it needs beyond an everyday account's: to see deleted objects.
//
//go:embed prepare_reader.py
var prepareReader string

//go:embed grant.py
var grant string

// Grant gives the reading account of a domain controller rights on a container:
// access control entries in SDDL, with SID-OF-THE-ACCOUNT for the account.
func (s *LDAPServer) Grant(ctx context.Context, container string, entries ...string) error {
	dir := filepath.Join(s.dir, "dc")
	account, _, _ := strings.Cut(dcReader, "@")
	arguments := append([]string{"-", filepath.Join(dir, "etc", "smb.conf"), filepath.Join(dir, "private", "sam.ldb"), account, container}, entries...)
	script := exec.CommandContext(ctx, "/usr/bin/python3", arguments...)
	script.Stdin = strings.NewReader(grant)
	if out, err := script.CombinedOutput(); err != nil {
		return fmt.Errorf("grant rights on %s: %w\n%s", container, err, lastLines(string(out)))
	}
	return nil
}

// The domain of every lab's controller.
const (
	realm      = "CORP.HALVARD.EXAMPLE"
	dcBase     = "DC=corp,DC=halvard,DC=example"
	dcAdmin    = "Administrator@corp.halvard.example"
	dcPassword = "Harbour-Bell-27"
	dcReader   = "svc-kambrel@corp.halvard.example"
)

// imageVersion changes when what is provisioned changes.
const imageVersion = "1"

const smbConf = `[global]
	netbios name = DC1
	realm = ` + realm + `
	workgroup = HALVARD
	server role = dc
	server services = ldap kdc
	private dir = %[1]s/private
	lock directory = %[1]s
	state directory = %[1]s/state
	cache directory = %[1]s/cache
	binddns dir = %[1]s/bind-dns
	pid directory = %[1]s/run
	ncalrpc dir = %[1]s/run/ncalrpc
	interfaces = %[2]s/8
	bind interfaces only = yes
	old password allowed period = 0
	log file = %[1]s/samba.log
	logging = file
	tls certfile = %[3]s
	tls keyfile = %[4]s
	tls cafile = %[5]s
`

// StartDomainController starts an AD-compatible domain controller for
// corp.halvard.example on a loopback address of its own; its ports 389 and 636
// are fixed. Without root, or without the packages, the error is
// ErrNoDomainController with the reason.
func (l *Lab) StartDomainController(ctx context.Context) (*LDAPServer, error) {
	if os.Geteuid() != 0 {
		return nil, fmt.Errorf("%w: it needs root for its ports and file rights", ErrNoDomainController)
	}
	samba, err := exec.LookPath("samba")
	if err != nil {
		return nil, fmt.Errorf("%w: the package samba-ad-dc is not installed", ErrNoDomainController)
	}
	dir := filepath.Join(l.Dir, "dc")
	if _, err := os.Stat(filepath.Join(dir, "private", "sam.ldb")); err != nil {
		if err := l.copyImage(ctx, dir); err != nil {
			return nil, err
		}
	}
	address, err := l.freeAddress()
	if err != nil {
		return nil, err
	}
	certificate, key, err := issue(l.certificate, "dc", address, RightCertificate)
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"run", "cache", "state", "etc"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			return nil, err
		}
	}
	conf := filepath.Join(dir, "etc", "smb.conf")
	if err := os.WriteFile(conf, fmt.Appendf(nil, smbConf, dir, address, certificate, key, l.CAFile()), 0o644); err != nil {
		return nil, err
	}
	s := &LDAPServer{
		dir: l.Dir, LocalSocket: "ldapi://" + filepath.Join(dir, "private", "ldap_priv", "ldapi"), URL: "ldaps://" + address, CAFile: l.CAFile(), BaseDN: dcBase,
		AdminDN: dcAdmin, AdminPassword: dcPassword, ReaderDN: dcReader, ReaderPassword: readerPassword,
	}
	s.Process, err = l.Start(ctx, Command{
		Name: "domain-controller", Path: samba, Args: []string{"-F", "--no-process-group", "-M", "single", "-s", conf},
		Ready: func(context.Context) error { return s.answersTo(s.ReaderDN, s.ReaderPassword) },
	})
	return s, err
}

// copyImage copies the provisioned folder, which is made once per user.
func (l *Lab) copyImage(ctx context.Context, dir string) error {
	cache, err := os.UserCacheDir()
	if err != nil {
		return fmt.Errorf("find a folder for the domain controller's image: %w", err)
	}
	cache = filepath.Join(cache, "kambrel-lab")
	if err := os.MkdirAll(cache, 0o700); err != nil {
		return err
	}
	lock, err := lockFile(filepath.Join(cache, "lock"), true)
	if err != nil {
		return err
	}
	defer unlock(lock)
	image := filepath.Join(cache, "dc-"+imageVersion)
	if _, err := os.Stat(image); err != nil {
		l.log("provisioning a domain controller (once, about 15 s)")
		if err := provision(ctx, image); err != nil {
			return err
		}
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, "cp", "-a", image, dir).CombinedOutput(); err != nil {
		return fmt.Errorf("copy the domain controller's image: %w\n%s", err, out)
	}
	return nil
}

func provision(ctx context.Context, image string) error {
	work := image + ".new"
	if err := os.RemoveAll(work); err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, "samba-tool", "domain", "provision", "--targetdir", work, "--dns-backend=NONE",
		"--realm="+realm, "--domain=HALVARD", "--server-role=dc", "--adminpass="+dcPassword, "--host-name=dc1",
		"--host-ip=127.0.0.11", "--use-rfc2307").CombinedOutput()
	if err != nil {
		return fmt.Errorf("provision a domain controller: %w\n%s", err, lastLines(string(out)))
	}
	// samba's Python modules belong to Debian's own interpreter.
	script := exec.CommandContext(ctx, "/usr/bin/python3", "-", filepath.Join(work, "etc", "smb.conf"), filepath.Join(work, "private", "sam.ldb"), readerPassword)
	script.Stdin = strings.NewReader(prepareReader)
	if out, err := script.CombinedOutput(); err != nil {
		return fmt.Errorf("prepare the reading account: %w\n%s", err, lastLines(string(out)))
	}
	return os.Rename(work, image)
}

func lastLines(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.Join(lines[max(0, len(lines)-10):], "\n")
}

// freeAddress takes a loopback address whose LDAP ports are free, and holds it
// against other labs by a lock that ends with this process.
func (l *Lab) freeAddress() (string, error) {
	for last := 11; last < 250; last++ {
		address := fmt.Sprintf("127.0.0.%d", last)
		lock, err := lockFile(filepath.Join(os.TempDir(), "kambrel-lab-"+address+".lock"), false)
		if err != nil {
			continue
		}
		if portsFree(address, "88", "389", "464", "636") {
			l.mu.Lock()
			l.held = append(l.held, lock)
			l.mu.Unlock()
			return address, nil
		}
		_ = unlock(lock)
	}
	return "", fmt.Errorf("%w: every address from 127.0.0.11 on is taken", ErrNoDomainController)
}

func portsFree(address string, ports ...string) bool {
	for _, port := range ports {
		listener, err := net.Listen("tcp", net.JoinHostPort(address, port))
		if err != nil {
			return false
		}
		_ = listener.Close()
	}
	return true
}

func tlsConfig(caFile, address string) (*tls.Config, error) {
	text, err := os.ReadFile(caFile)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(text)
	parsed, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	return &tls.Config{RootCAs: pool, ServerName: parsed.Hostname(), MinVersion: tls.VersionTLS12}, nil
}
