package certificates

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"kambrel.example/kambrel/core/logkey"
)

const (
	// lookEvery is how often it is looked whether the files have changed.
	lookEvery = 2 * time.Second
	// ownDays is for how long the service's own authority vouches, and renewDays how long
	// before its end the certificate is made anew.
	ownDays, renewDays = 365, 60
)

// Source gives the certificate by which the service is known at the moment. It may be used
// from many goroutines.
type Source struct {
	certFile, keyFile string
	authority         *Authority // nil with the operator's own files
	names             []string

	mu      sync.Mutex
	now     *tls.Certificate
	looked  time.Time
	seen    [2][]byte
	failure string // of the last look
}

// FromFiles takes a certificate chain and its key in PEM form, and reads them again when
// they change.
func FromFiles(certFile, keyFile string) (*Source, error) {
	s := &Source{certFile: certFile, keyFile: keyFile}
	return s, s.read()
}

// Own makes a certificate for names and addresses by the authority of a folder, and anew
// before it expires.
func Own(folder string, names []string) (*Source, error) {
	authority, err := OpenAuthority(folder, "Kambrel "+names[0])
	if err != nil {
		return nil, err
	}
	s := &Source{authority: authority, names: names, certFile: filepath.Join(folder, "service.pem"), keyFile: filepath.Join(folder, "service.key")}
	return s, s.issue()
}

// Authority is the service's own, nil where the certificate is the operator's.
func (s *Source) Authority() *Authority { return s.authority }

// issue makes the certificate where there is none that still serves.
func (s *Source) issue() error {
	if err := s.read(); err == nil && s.serves(s.now.Leaf) {
		return nil
	}
	template := x509.Certificate{Subject: pkix.Name{CommonName: s.names[0]}, NotBefore: time.Now().Add(-skew), NotAfter: time.Now().AddDate(0, 0, ownDays)}
	if template.NotAfter.After(s.authority.certificate.NotAfter) {
		template.NotAfter = s.authority.certificate.NotAfter
	}
	for _, name := range s.names {
		if address := net.ParseIP(name); address != nil {
			template.IPAddresses = append(template.IPAddresses, address)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	if _, _, err := s.authority.Issue("service", template); err != nil {
		return err
	}
	return s.read()
}

// serves tells whether a certificate is of the authority, for all names, and for long enough.
func (s *Source) serves(leaf *x509.Certificate) bool {
	wrong := slices.ContainsFunc(s.names, func(name string) bool { return leaf.VerifyHostname(name) != nil })
	return !wrong && leaf.CheckSignatureFrom(s.authority.certificate) == nil && time.Until(leaf.NotAfter) > renewDays*24*time.Hour
}

// read takes what the files hold.
func (s *Source) read() error {
	certText, err := os.ReadFile(s.certFile)
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	keyText, err := os.ReadFile(s.keyFile)
	if err != nil {
		return fmt.Errorf("read the certificate's key: %w", err)
	}
	if bytes.Equal(certText, s.seen[0]) && bytes.Equal(keyText, s.seen[1]) {
		return nil
	}
	pair, err := tls.X509KeyPair(certText, keyText)
	if err != nil {
		return fmt.Errorf("use the certificate %s with the key %s: %w", s.certFile, s.keyFile, err)
	}
	if s.now != nil {
		slog.Info("the certificate is new", logkey.File, s.certFile, logkey.Until, pair.Leaf.NotAfter)
	}
	s.now, s.seen = &pair, [2][]byte{certText, keyText}
	return nil
}

// Get is for tls.Config. What cannot be read leaves the certificate as it was.
func (s *Source) Get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.looked) > lookEvery {
		s.looked = time.Now()
		look, failure := s.read, ""
		if s.authority != nil {
			look = s.issue
		}
		if err := look(); err != nil {
			failure = err.Error()
		}
		if failure != "" && failure != s.failure {
			slog.Warn("the certificate stays as it was", logkey.Error, failure)
		}
		s.failure = failure
	}
	return s.now, nil
}

// Expires is when the certificate ends, or the first of those that vouch for it.
func (s *Source) Expires() time.Time {
	now, _ := s.Get(nil)
	expires := now.Leaf.NotAfter
	for _, der := range now.Certificate[1:] {
		if above, err := x509.ParseCertificate(der); err == nil && above.NotAfter.Before(expires) {
			expires = above.NotAfter
		}
	}
	return expires
}
