package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/problem"
)

// Connection says how to reach a directory. It lives on the agent's host only.
type Connection struct {
	// URL is ldaps://host[:port], or ldap://host[:port] with StartTLS.
	URL      string
	StartTLS bool
	// AllowPlain permits ldap:// without TLS; nothing is secret then.
	AllowPlain bool
	// CAFile is a PEM bundle; "" means the system's.
	CAFile   string
	BindDN   string
	Password string
}

// String leaves the password out.
func (c Connection) String() string { return c.URL + " as " + c.BindDN }

// Check tells what is wrong with a connection before it is tried.
func (c Connection) Check() error {
	address, err := url.Parse(c.URL)
	switch {
	case err != nil || address.Host == "":
		return fmt.Errorf("url %q is no LDAP address: write ldaps://host or ldap://host with startTLS", c.URL)
	case address.Scheme != "ldaps" && address.Scheme != "ldap":
		return fmt.Errorf("url %q: the scheme is ldaps or ldap", c.URL)
	case address.Scheme == "ldap" && !c.StartTLS && !c.AllowPlain:
		return fmt.Errorf("url %q would send the password unprotected: use ldaps://, set startTLS, or allow it with allowPlain", c.URL)
	}
	return nil
}

const (
	connectTimeout = 10 * time.Second
	requestTimeout = 5 * time.Minute
)

// Session is an open, bound connection.
type Session struct{ conn *ldap.Conn }

// Open connects, protects the connection and binds. Its errors are problems
// with code directory-unreachable and say which step failed.
func Open(ctx context.Context, c Connection) (*Session, error) {
	fail := func(step string, err error) (*Session, error) {
		return nil, problem.Wrap(problem.DirectoryUnreachable, err, "%s: %s", c.URL, step)
	}
	if err := c.Check(); err != nil {
		return fail("configuration", err)
	}
	address, _ := url.Parse(c.URL) // checked above
	roots, err := certificates(c.CAFile)
	if err != nil {
		return fail("read the CA bundle", err)
	}
	config := &tls.Config{RootCAs: roots, ServerName: address.Hostname(), MinVersion: tls.VersionTLS12}
	dialer := &net.Dialer{Timeout: connectTimeout}
	if deadline, ok := ctx.Deadline(); ok {
		dialer.Deadline = deadline
	}
	conn, err := ldap.DialURL(c.URL, ldap.DialWithTLSConfig(config), ldap.DialWithDialer(dialer))
	if err != nil {
		return fail(stepOf(err), plain(err))
	}
	conn.SetTimeout(requestTimeout)
	if address.Scheme == "ldap" && c.StartTLS {
		if err := conn.StartTLS(config); err != nil {
			_ = conn.Close()
			return fail("start TLS", plain(err))
		}
	}
	if err := conn.Bind(c.BindDN, c.Password); err != nil {
		_ = conn.Close()
		return fail("bind as "+c.BindDN, plain(err))
	}
	return &Session{conn}, nil
}

// Close ends the session.
func (s *Session) Close() { _ = s.conn.Close() }

func certificates(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM form", file)
	}
	return pool, nil
}

func stepOf(err error) string {
	var certificate *tls.CertificateVerificationError
	var name *net.DNSError
	switch {
	case errors.As(err, &certificate):
		return "verify the certificate"
	case errors.As(err, &name):
		return "look up the name"
	case strings.Contains(err.Error(), "tls:"):
		return "TLS"
	}
	return "connect"
}

// plain keeps what the server or the system said, without the library's prefix.
func plain(err error) error {
	var failure *ldap.Error
	if errors.As(err, &failure) && failure.Err != nil {
		if failure.ResultCode < ldap.ErrorNetwork {
			return fmt.Errorf("%s: %w", ldap.LDAPResultCodeMap[failure.ResultCode], failure.Err)
		}
		return failure.Err
	}
	return err
}
