package servers

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"net"
	"time"

	"kambrel.example/kambrel/service/certificates"
)

// CertificateFault is what is wrong with a server's certificate.
type CertificateFault int

// The faults that a lab can make.
const (
	RightCertificate CertificateFault = iota
	ExpiredCertificate
	ExpiringCertificate
	OtherHostCertificate
)

// issue makes a certificate for a server at an address, and returns its files.
func issue(a *certificates.Authority, name, address string, fault CertificateFault) (certFile, keyFile string, err error) {
	template := x509.Certificate{
		Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.ParseIP(address)},
	}
	switch fault {
	case ExpiredCertificate:
		template.NotBefore, template.NotAfter = time.Now().AddDate(-1, 0, 0), time.Now().Add(-time.Hour)
	case ExpiringCertificate:
		template.NotAfter = time.Now().AddDate(0, 0, 10)
	case OtherHostCertificate:
		template.DNSNames, template.IPAddresses = []string{"ldap.elsewhere.example"}, nil
	}
	return a.Issue(name, template)
}
