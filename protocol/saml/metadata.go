// Package saml reads and checks messages and metadata of SAML 2.0, by a library (crewjam/saml),
// into the words of core/signin. Nothing here decides whether somebody is to be believed.
package saml

import (
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/beevik/etree"
	"github.com/crewjam/saml"
	"github.com/crewjam/saml/samlsp"

	"kambrel.example/kambrel/core/signin"
)

// MostOctets is how long metadata or a message may be.
const MostOctets = 512 << 10

// plainXML refuses what no message needs and what readers of XML have stumbled over: length, and
// document types, by which entities come.
func plainXML(what, text string) error {
	switch {
	case strings.TrimSpace(text) == "":
		return fmt.Errorf("the %s is empty", what)
	case len(text) > MostOctets:
		return fmt.Errorf("the %s has %d octets; %d are taken at most", what, len(text), MostOctets)
	case strings.Contains(strings.ToUpper(text), "<!DOCTYPE"), strings.Contains(strings.ToUpper(text), "<!ENTITY"):
		return fmt.Errorf("the %s brings a document type, by which entities could be defined; it is not read", what)
	}
	return nil
}

func readMetadata(what, text string) (*saml.EntityDescriptor, error) {
	if err := plainXML(what, text); err != nil {
		return nil, err
	}
	metadata, err := samlsp.ParseMetadata([]byte(text))
	if err != nil {
		return nil, fmt.Errorf("the %s cannot be read: %w", what, err)
	}
	return metadata, nil
}

// Provider reads the metadata of an identity provider. Where it is signed, what is returned is
// what the signature covers, and SignedBy says by whose key, whoever that may be.
func Provider(text string) (signin.Provider, error) {
	var p signin.Provider
	what := "metadata"
	if err := plainXML(what, text); err != nil {
		return p, err
	}
	signer, err := signerOf(text)
	if err != nil {
		return p, err
	}
	if signer != nil {
		covered, err := saml.VerifyMetadataSignature([]byte(text), []*x509.Certificate{signer})
		if err != nil {
			return p, fmt.Errorf("the signature of the metadata does not fit it, so something of it was changed: %w", err)
		}
		text, p.SignedBy = string(covered), Fingerprint(signer)
	}
	metadata, err := readMetadata(what, text)
	if err != nil {
		return p, err
	}
	if len(metadata.IDPSSODescriptors) == 0 {
		if len(metadata.SPSSODescriptors) > 0 {
			return p, errors.New("the metadata is of a service that people sign in to, not of an identity provider")
		}
		return p, errors.New("the metadata is of no identity provider")
	}
	role := metadata.IDPSSODescriptors[0]
	p.EntityID, p.Until = metadata.EntityID, metadata.ValidUntil
	if role.ValidUntil != nil && (p.Until.IsZero() || role.ValidUntil.Before(p.Until)) {
		p.Until = *role.ValidUntil
	}
	p.SignOn, p.LogOut = endpoints(role.SingleSignOnServices), endpoints(role.SingleLogoutServices)
	p.WantsSign = role.WantAuthnRequestsSigned != nil && *role.WantAuthnRequestsSigned
	for _, format := range role.NameIDFormats {
		p.Formats = append(p.Formats, strings.TrimSpace(string(format)))
	}
	p.Signing, err = signing(role.KeyDescriptors)
	return p, err
}

// Cloud reads the metadata of the service that people sign in to.
func Cloud(text string) (signin.Cloud, error) {
	metadata, err := readMetadata("cloud's metadata", text)
	if err != nil {
		return signin.Cloud{}, err
	}
	if len(metadata.SPSSODescriptors) == 0 {
		return signin.Cloud{}, errors.New("the cloud's metadata is of no service that people sign in to")
	}
	role := metadata.SPSSODescriptors[0]
	c := signin.Cloud{EntityID: metadata.EntityID, Signs: role.AuthnRequestsSigned != nil && *role.AuthnRequestsSigned}
	for _, e := range role.AssertionConsumerServices {
		if e.Binding == signin.Post && (c.Consumer == "" || e.IsDefault != nil && *e.IsDefault) {
			c.Consumer = e.Location
		}
	}
	if c.Consumer == "" {
		return c, errors.New("the cloud's metadata names no address for assertions by HTTP-POST")
	}
	for _, format := range role.NameIDFormats {
		c.Formats = append(c.Formats, strings.TrimSpace(string(format)))
	}
	for _, service := range role.AttributeConsumingServices {
		for _, a := range service.RequestedAttributes {
			c.Wanted = append(c.Wanted, signin.Wanted{Name: a.Name, Friendly: a.FriendlyName, Required: a.IsRequired != nil && *a.IsRequired})
		}
	}
	c.Signing, err = signing(role.KeyDescriptors)
	return c, err
}

func endpoints(list []saml.Endpoint) []signin.Endpoint {
	var out []signin.Endpoint
	for _, e := range list {
		out = append(out, signin.Endpoint{Binding: e.Binding, Location: e.Location})
	}
	return out
}

func signing(descriptors []saml.KeyDescriptor) ([]signin.Certificate, error) {
	var out []signin.Certificate
	seen := map[string]bool{}
	for _, descriptor := range descriptors {
		if descriptor.Use == "encryption" {
			continue
		}
		for _, one := range descriptor.KeyInfo.X509Data.X509Certificates {
			certificate, err := certificateOf(one.Data)
			if err != nil {
				return nil, fmt.Errorf("a certificate of the metadata cannot be read: %w", err)
			}
			read := signin.Certificate{Fingerprint: Fingerprint(certificate), Subject: certificate.Subject.String(), From: certificate.NotBefore, Until: certificate.NotAfter, Weak: weakness(certificate)}
			if !seen[read.Fingerprint] {
				seen[read.Fingerprint] = true
				out = append(out, read)
			}
		}
	}
	return out, nil
}

func certificateOf(text string) (*x509.Certificate, error) {
	der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Fingerprint is SHA-256 of a certificate, in hexadecimal digits.
func Fingerprint(certificate *x509.Certificate) string {
	sum := sha256.Sum256(certificate.Raw)
	return hex.EncodeToString(sum[:])
}

// weakness says why a key is too weak: RSA of fewer than 2,048 bits (NIST SP 800-131A).
func weakness(certificate *x509.Certificate) string {
	switch key := certificate.PublicKey.(type) {
	case *rsa.PublicKey:
		if key.N.BitLen() < 2048 {
			return fmt.Sprintf("its RSA key has %d bits, and 2,048 are the least", key.N.BitLen())
		}
	case *ecdsa.PublicKey:
	default:
		return fmt.Sprintf("its key is of a kind that is not known for signatures here (%T)", key)
	}
	return ""
}

// signerOf is the certificate that the signature of a document names, nil where there is no
// signature on its root.
func signerOf(text string) (*x509.Certificate, error) {
	document := etree.NewDocument()
	if err := document.ReadFromString(text); err != nil {
		return nil, fmt.Errorf("the metadata is no well-formed XML: %w", err)
	}
	root := document.Root()
	if root == nil {
		return nil, errors.New("the metadata holds nothing")
	}
	signature := childOf(root, dsigNamespace, "Signature")
	if signature == nil {
		return nil, nil
	}
	found := descendants(signature, dsigNamespace, "X509Certificate")
	if len(found) != 1 {
		return nil, fmt.Errorf("the signature of the metadata names %d certificates and should name one", len(found))
	}
	certificate, err := certificateOf(found[0].Text())
	if err != nil {
		return nil, fmt.Errorf("the certificate of the metadata's signature cannot be read: %w", err)
	}
	return certificate, nil
}

const dsigNamespace = "http://www.w3.org/2000/09/xmldsig#"

func childOf(parent *etree.Element, namespace, tag string) *etree.Element {
	for _, child := range parent.ChildElements() {
		if child.Tag == tag && child.NamespaceURI() == namespace {
			return child
		}
	}
	return nil
}

func descendants(root *etree.Element, namespace, tag string) []*etree.Element {
	var found []*etree.Element
	for _, child := range root.ChildElements() {
		if child.Tag == tag && child.NamespaceURI() == namespace {
			found = append(found, child)
		}
		found = append(found, descendants(child, namespace, tag)...)
	}
	return found
}
