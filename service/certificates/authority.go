// Package certificates is what the service shows itself by: the operator's certificate, read
// again when its files change, or one of an authority of the service's own.
package certificates

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"time"

	"kambrel.example/kambrel/core/fingerprint"
)

const (
	authorityYears = 10
	// skew is how far the clock of a host that checks a new certificate may be behind.
	skew = time.Hour
)

// Authority issues certificates for servers; its key stays in its folder.
type Authority struct {
	folder      string
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// OpenAuthority reads the authority of a folder (ca.pem and ca.key), or makes one where
// there is none. One that is half there is an error: a new one would be trusted by nobody.
func OpenAuthority(folder, name string) (*Authority, error) {
	a := &Authority{folder: folder}
	err := a.load()
	if !errors.Is(err, fs.ErrNotExist) {
		return a, err
	}
	for _, file := range []string{a.File(), a.keyFile()} {
		if _, err := os.Stat(file); err == nil {
			return nil, fmt.Errorf("of the certificate authority in %s only %s is there: bring the other file back, or remove it to make a new authority that agents and browsers must be told of", folder, filepath.Base(file))
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	a.certificate = &x509.Certificate{
		Subject: pkix.Name{CommonName: name}, SerialNumber: serial(), NotBefore: time.Now().Add(-skew), NotAfter: time.Now().AddDate(authorityYears, 0, 0),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
	}
	if err := a.write("ca", a.certificate, a.key); err != nil {
		return nil, err
	}
	return a, a.load()
}

// File is the authority's certificate.
func (a *Authority) File() string    { return filepath.Join(a.folder, "ca.pem") }
func (a *Authority) keyFile() string { return filepath.Join(a.folder, "ca.key") }

func (a *Authority) load() error {
	text, err := os.ReadFile(a.File())
	if err != nil {
		return err
	}
	keyText, err := os.ReadFile(a.keyFile())
	if err != nil {
		return err
	}
	block, _ := pem.Decode(text)
	keyBlock, _ := pem.Decode(keyText)
	if block == nil || keyBlock == nil {
		return fmt.Errorf("the certificate authority in %s cannot be read", a.folder)
	}
	if a.certificate, err = x509.ParseCertificate(block.Bytes); err != nil {
		return fmt.Errorf("read %s: %w", a.File(), err)
	}
	if a.key, err = x509.ParseECPrivateKey(keyBlock.Bytes); err != nil {
		return fmt.Errorf("read %s: %w", a.keyFile(), err)
	}
	if !a.key.PublicKey.Equal(a.certificate.PublicKey) {
		return fmt.Errorf("%s is not the key of %s", a.keyFile(), a.File())
	}
	return nil
}

// Fingerprint is by what people compare the authority.
func (a *Authority) Fingerprint() string { return fingerprint.Of(a.certificate.Raw) }

// Issue makes a certificate for a server and writes it with the authority's behind it, and
// its key, into the authority's folder. Serial number and use are filled in.
func (a *Authority) Issue(name string, template x509.Certificate) (certFile, keyFile string, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	template.SerialNumber = serial()
	template.KeyUsage, template.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	return filepath.Join(a.folder, name+".pem"), filepath.Join(a.folder, name+".key"), a.write(name, &template, key)
}

func (a *Authority) write(name string, template *x509.Certificate, key *ecdsa.PrivateKey) error {
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key)
	if err != nil {
		return fmt.Errorf("issue the certificate %s: %w", name, err)
	}
	keyDER, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	if !template.IsCA {
		text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.certificate.Raw})...)
	}
	// The key first: who reads the pair again when the certificate is new finds both.
	if err := replace(filepath.Join(a.folder, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), 0o600); err != nil {
		return err
	}
	return replace(filepath.Join(a.folder, name+".pem"), text, 0o644)
}

// replace writes a file so that it is never half there.
func replace(file string, text []byte, mode os.FileMode) error {
	if err := os.WriteFile(file+".new", text, mode); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// serial is positive and random; Go refuses negative ones.
func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) // reads from the system's generator, which does not fail
	return n.Add(n, big.NewInt(1))
}
