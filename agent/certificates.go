package agent

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"maps"
	"net"
	"net/url"
	"sync"
	"time"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/directory"
)

// met is until when the certificates are valid by which directories are known, by directory.
type met struct {
	mu   sync.Mutex
	ends map[string]time.Time
}

func (m *met) see(name string, session *directory.Session) {
	ends, protected := session.CertificateExpires()
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.ends == nil {
		m.ends = map[string]time.Time{}
	}
	if delete(m.ends, name); protected {
		m.ends[name] = ends
	}
}

func (m *met) all() map[string]time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.ends)
}

// open connects to the order's directory.
func (w work) open(ctx context.Context) (*directory.Session, error) {
	session, err := directory.Open(ctx, w.connection)
	if err == nil {
		w.agent.met.see(w.own.Name, session)
	}
	return session, err
}

// Authorities are the certificates that a service shows, of which a person has to compare one
// before it is believed.
type Authorities struct {
	Host  string
	shown []*x509.Certificate // the service's own first
}

const handshakeWithin = 10 * time.Second

// Shown asks a service for its certificates, of which none is believed yet.
func Shown(ctx context.Context, service string) (Authorities, error) {
	parsed, err := url.Parse(service)
	if err != nil || parsed.Scheme != "https" {
		return Authorities{}, problem.New(problem.BadInput, "service %q: only one that is reached by https has a certificate", service)
	}
	port := parsed.Port()
	if port == "" {
		port = "443"
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeWithin)
	defer cancel()
	// What is shown is compared by its fingerprint before anything is sent.
	dialer := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, ServerName: parsed.Hostname(), MinVersion: tls.VersionTLS12}}
	conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(parsed.Hostname(), port))
	if err != nil {
		return Authorities{}, fmt.Errorf("the service at %s cannot be reached: %w", service, err)
	}
	defer conn.Close()
	return Authorities{Host: parsed.Hostname(), shown: conn.(*tls.Conn).ConnectionState().PeerCertificates}, nil
}

// verify checks the service's own certificate for its host, by the system's authorities or by
// one.
func (a Authorities) verify(by *x509.Certificate) error {
	options := x509.VerifyOptions{DNSName: a.Host, Intermediates: x509.NewCertPool()}
	for _, above := range a.shown[1:] {
		options.Intermediates.AddCert(above)
	}
	if by != nil {
		options.Roots = x509.NewCertPool()
		options.Roots.AddCert(by)
	}
	_, err := a.shown[0].Verify(options)
	return err
}

// Any tells whether a certificate is shown at all; over http there is none.
func (a Authorities) Any() bool { return len(a.shown) > 0 }

// VouchedBy tells whether an authority (PEM) vouches for the service.
func (a Authorities) VouchedBy(authority string) bool {
	block, _ := pem.Decode([]byte(authority))
	if block == nil {
		return false
	}
	by, err := x509.ParseCertificate(block.Bytes)
	return err == nil && a.verify(by) == nil
}

// Trusted tells whether this host's own authorities vouch for the service.
func (a Authorities) Trusted() bool { return a.verify(nil) == nil }

// Fingerprint is the SHA-256 of the topmost certificate that is shown, as browsers and openssl
// write it.
func (a Authorities) Fingerprint() string {
	return fingerprint.Of(a.shown[len(a.shown)-1].Raw)
}

// Matching is the one with a fingerprint, in PEM form, where it vouches for the service.
func (a Authorities) Matching(wanted string) (string, error) {
	for _, one := range a.shown {
		if !fingerprint.Same(fingerprint.Of(one.Raw), wanted) {
			continue
		}
		if err := a.verify(one); err != nil {
			return "", fmt.Errorf("the certificate with this fingerprint does not vouch for %s: %w", a.Host, err)
		}
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: one.Raw})), nil
	}
	return "", problem.New(problem.BadInput, "the service at %s shows the authority %s, and not the fingerprint that was given: compare it with what 'kambrel serve' has logged. Nothing was sent; if they differ, somebody is in between", a.Host, a.Fingerprint())
}
