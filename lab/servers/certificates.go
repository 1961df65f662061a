package servers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// authority issues the lab's server certificates; its key stays in the folder.
type authority struct {
	dir, file   string
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

func openAuthority(dir string) (*authority, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	a := &authority{dir: dir, file: filepath.Join(dir, "ca.pem")}
	if err := a.load(); err == nil {
		return a, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	a.key = key
	a.certificate = &x509.Certificate{
		Subject: pkix.Name{CommonName: "Kambrel lab"}, SerialNumber: serial(), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(10, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
	}
	if err := a.write("ca", a.certificate, key); err != nil {
		return nil, err
	}
	return a, a.load()
}

func (a *authority) load() error {
	text, err := os.ReadFile(a.file)
	if err != nil {
		return err
	}
	keyText, err := os.ReadFile(filepath.Join(a.dir, "ca.key"))
	if err != nil {
		return err
	}
	block, _ := pem.Decode(text)
	keyBlock, _ := pem.Decode(keyText)
	if block == nil || keyBlock == nil {
		return errors.New("the lab's certificate authority cannot be read")
	}
	if a.certificate, err = x509.ParseCertificate(block.Bytes); err != nil {
		return err
	}
	a.key, err = x509.ParseECPrivateKey(keyBlock.Bytes)
	return err
}

// CertificateFault is what is wrong with a server's certificate.
type CertificateFault int

// The faults that a lab can make.
const (
	RightCertificate CertificateFault = iota
	ExpiredCertificate
	OtherHostCertificate
)

// issue makes a certificate for a server at an address, and returns its files.
func (a *authority) issue(name, address string, fault CertificateFault) (certFile, keyFile string, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	template := &x509.Certificate{
		Subject: pkix.Name{CommonName: name}, SerialNumber: serial(), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.ParseIP(address)},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	switch fault {
	case ExpiredCertificate:
		template.NotBefore, template.NotAfter = time.Now().AddDate(-1, 0, 0), time.Now().Add(-time.Hour)
	case OtherHostCertificate:
		template.DNSNames, template.IPAddresses = []string{"ldap.elsewhere.example"}, nil
	}
	return filepath.Join(a.dir, name+".pem"), filepath.Join(a.dir, name+".key"), a.write(name, template, key)
}

func (a *authority) write(name string, template *x509.Certificate, key *ecdsa.PrivateKey) error {
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key)
	if err != nil {
		return fmt.Errorf("issue the certificate %s: %w", name, err)
	}
	keyDER, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(a.dir, name+".pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(a.dir, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), 0o600)
}

// serial is positive and random; Go refuses negative ones.
func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) // reads from the system's generator, which does not fail
	return n.Add(n, big.NewInt(1))
}
