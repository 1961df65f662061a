package standin

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"html"
	"math/big"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/crewjam/saml"
	"github.com/crewjam/saml/samlsp"
	"github.com/gofiber/fiber/v2"
	dsig "github.com/russellhaering/goxmldsig"

	"kambrel.example/kambrel/protocol/federation"
)

// This side of SAML 2.0 is as strict as a careful cloud: what comes must be asked for, signed by
// a key of the provider's metadata, for this cloud, in time, once; its subject must be the link key
// of somebody whose login it says, and that login must be of the domain that the provider is for.

const (
	// samlMost is how long a response may be.
	samlMost = 256 << 10
	// signInLife is how long a sign-in may take at the provider.
	signInLife = 10 * time.Minute
	// LoginClaim is the attribute that holds the login (eduPersonPrincipalName).
	LoginClaim = "urn:oid:1.3.6.1.4.1.5923.1.1.1.6"
	// nameClaim is one that is taken where it is there (displayName).
	nameClaim     = "urn:oid:2.16.840.1.113730.3.1.241"
	attributeURIs = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
)

// samlKey is what requests are signed by.
type samlKey struct {
	key         crypto.Signer
	certificate *x509.Certificate
}

func openSAMLKey(dir string) (samlKey, error) {
	file := filepath.Join(dir, "saml.pem")
	if dir != "" {
		if text, err := os.ReadFile(file); err == nil {
			return readSAMLKey(text)
		} else if !errors.Is(err, os.ErrNotExist) {
			return samlKey{}, err
		}
	}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return samlKey{}, err
	}
	now := time.Now()
	template := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "cloud stand-in, SAML"}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(3, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return samlKey{}, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return samlKey{}, err
	}
	text := slices.Concat(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	if dir != "" {
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return samlKey{}, err
		}
	}
	return readSAMLKey(text)
}

func readSAMLKey(text []byte) (samlKey, error) {
	first, rest := pem.Decode(text)
	second, _ := pem.Decode(rest)
	if first == nil || second == nil {
		return samlKey{}, errors.New("the file of the key for SAML holds no certificate and key")
	}
	certificate, err := x509.ParseCertificate(first.Bytes)
	if err != nil {
		return samlKey{}, err
	}
	key, err := x509.ParsePKCS8PrivateKey(second.Bytes)
	if err != nil {
		return samlKey{}, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return samlKey{}, errors.New("the key for SAML cannot sign")
	}
	return samlKey{signer, certificate}, nil
}

// serviceProvider is this cloud for one identity provider.
func (s *Server) serviceProvider(provider *saml.EntityDescriptor) *saml.ServiceProvider {
	at := func(path string) url.URL {
		address, _ := url.Parse(s.address + path)
		return *address
	}
	return &saml.ServiceProvider{
		EntityID: s.address + "/saml", Key: s.saml.key, Certificate: s.saml.certificate, IDPMetadata: provider,
		MetadataURL: at("/saml/metadata"), AcsURL: at("/me/saml/consumer"), SloURL: at("/me/saml/logout"), LogoutBindings: []string{saml.HTTPRedirectBinding, saml.HTTPPostBinding},
		AssertionConsumerServiceBindings: []string{saml.HTTPPostBinding}, AuthnNameIDFormat: saml.PersistentNameIDFormat,
		SignatureMethod: dsig.RSASHA256SignatureMethod, RejectSHA1Signatures: true, RejectUnknownConditions: true, RejectExpiredIDPMetadata: true, MetadataOmitValidUntil: true, ReplayCache: s.replays,
	}
}

// samlMetadata is this cloud's own.
func (s *Server) samlMetadata() string {
	metadata := s.serviceProvider(nil).Metadata()
	yes := true
	wanted := func(name, friendly string, required *bool) saml.RequestedAttribute {
		return saml.RequestedAttribute{Attribute: saml.Attribute{Name: name, FriendlyName: friendly, NameFormat: attributeURIs}, IsRequired: required}
	}
	metadata.SPSSODescriptors[0].AttributeConsumingServices = []saml.AttributeConsumingService{{Index: 1, IsDefault: &yes,
		ServiceNames:        []saml.LocalizedName{{Lang: "en", Value: "Cloud"}},
		RequestedAttributes: []saml.RequestedAttribute{wanted(LoginClaim, "eduPersonPrincipalName", &yes), wanted(nameClaim, "displayName", nil)}}}
	text, err := xml.MarshalIndent(metadata, "", "  ")
	if err != nil {
		return "" // of our own types: it cannot fail
	}
	return xml.Header + string(text) + "\n"
}

// readProvider reads an identity provider's metadata.
func readProvider(text string) (*saml.EntityDescriptor, *failure) {
	if len(text) > samlMost || strings.Contains(text, "<!") && strings.Contains(text, "<!DOCTYPE") {
		return nil, invalidValue("provider: the metadata is too long, or brings a document type")
	}
	provider, err := samlsp.ParseMetadata([]byte(text))
	if err != nil {
		return nil, invalidValue("provider: the metadata cannot be read: %s", err)
	}
	if len(provider.IDPSSODescriptors) == 0 {
		return nil, invalidValue("provider: the metadata is of no identity provider")
	}
	sp := saml.ServiceProvider{IDPMetadata: provider}
	if sp.GetSSOBindingLocation(saml.HTTPRedirectBinding) == "" {
		return nil, invalidValue("provider: it takes no sign-in by HTTP-Redirect")
	}
	return provider, nil
}

func (s *Server) samlRoutes() {
	s.app.Get("/saml/metadata", func(c *fiber.Ctx) error {
		c.Set("Content-Type", "application/samlmetadata+xml")
		return c.SendString(s.samlMetadata())
	})
	s.app.Get("/me/way", s.way)
	s.app.Get("/me/saml/start", s.startSignIn)
	s.app.Get("/me/saml/tests/:id", s.startTest)
	s.app.Post("/me/saml/consumer", s.consume)
	s.app.Get("/me/saml/logout", s.logout)
}

// way tells somebody how to sign in.
func (s *Server) way(c *fiber.Ctx) error {
	if who, found := s.store.person(c.Query("login")); found {
		if _, there := s.signsOnThere(who); there {
			return c.JSON(fiber.Map{"there": "/me/saml/start?login=" + url.QueryEscape(who.login)})
		}
	}
	return c.JSON(fiber.Map{})
}

func (s *Server) startSignIn(c *fiber.Ctx) error {
	who, found := s.store.person(c.Query("login"))
	if !found {
		return s.sentence(c, 404, "Nobody has this login.")
	}
	d, there := s.signsOnThere(who)
	if !there {
		return c.Redirect("/me")
	}
	provider, f := readProvider(d.Provider)
	if f != nil {
		return s.sentence(c, 500, f.detail)
	}
	domain, _ := loginDomain(who.login)
	return s.sendThere(c, provider, asked{domain: domain}, func(string) {})
}

// sendThere sends a browser to the identity provider.
func (s *Server) sendThere(c *fiber.Ctx, provider *saml.EntityDescriptor, one asked, tell func(id string)) error {
	sp := s.serviceProvider(provider)
	request, err := sp.MakeAuthenticationRequest(sp.GetSSOBindingLocation(saml.HTTPRedirectBinding), saml.HTTPRedirectBinding, saml.HTTPPostBinding)
	if err != nil {
		return err
	}
	one.id, one.provider, one.until = request.ID, provider, time.Now().Add(signInLife)
	tell(request.ID)
	address, err := request.Redirect(s.federations.send(one), sp)
	if err != nil {
		return err
	}
	return c.Redirect(address.String(), fiber.StatusSeeOther)
}

// consume takes what an identity provider says of somebody (assertion consumer).
func (s *Server) consume(c *fiber.Ctx) error {
	text := c.FormValue("SAMLResponse")
	one, found := s.federations.take(c.FormValue("RelayState"))
	if !found {
		return s.sentence(c, 403, "Nobody asked for this sign-in, it took too long, or it came a second time.")
	}
	who, session, reason := s.believe(text, one)
	if one.test != "" {
		test, _ := s.federations.test(one.test)
		test.Answered, test.Response, test.Accepted, test.Reason = time.Now().UTC(), text, reason == "", reason
		if reason == "" && who.id != test.Person {
			test.Accepted, test.Reason = false, fmt.Sprintf("it is of %s, and the test was for somebody else", who.login)
		}
		s.federations.keepTest(test)
		if !test.Accepted {
			return s.sentence(c, 200, "The test of the sign-in was refused. You can close this window: whoever began the test sees why.")
		}
		return s.sentence(c, 200, "The test of the sign-in was accepted. You can close this window.")
	}
	if reason != "" {
		return s.sentence(c, 403, "You are not signed in: "+reason+".")
	}
	if _, there := s.signsOnThere(who); !there {
		return s.sentence(c, 403, "You are not signed in: this account signs in with its password.")
	}
	s.begin(c, who, session)
	return c.Redirect("/me", fiber.StatusSeeOther)
}

// believe reads what came, and tells who it is, or why it is not believed.
func (s *Server) believe(text string, one asked) (person, string, string) {
	no := func(format string, facts ...any) (person, string, string) {
		return person{}, "", fmt.Sprintf(format, facts...)
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	switch {
	case len(text) > samlMost:
		return no("the response is longer than %d octets", samlMost)
	case err != nil:
		return no("the response is no Base64")
	case strings.Contains(string(raw), "<!DOCTYPE"):
		return no("the response brings a document type")
	}
	consumer, err := url.Parse(s.address + "/me/saml/consumer")
	if err != nil {
		return no("%s", err)
	}
	assertion, err := s.serviceProvider(one.provider).ParseXMLResponse(raw, []string{one.id}, *consumer)
	var invalid *saml.InvalidResponseError
	if errors.As(err, &invalid) && invalid.PrivateErr != nil {
		return no("%s", invalid.PrivateErr)
	} else if err != nil {
		return no("%s", err)
	}
	name := assertion.Subject.NameID
	if name.Format != string(saml.PersistentNameIDFormat) {
		return no("the subject's format is %q and not persistent", name.Format)
	}
	logins := claimed(assertion, LoginClaim)
	if len(logins) != 1 {
		return no("the attribute %s has %d values and needs one, the login", LoginClaim, len(logins))
	}
	domain, f := loginDomain(logins[0])
	if f != nil || domain != one.domain {
		return no("the login %s is not of %s, for which this provider is", logins[0], one.domain)
	}
	who, found := s.store.person(logins[0])
	switch {
	case !found:
		return no("nobody has the login %s", logins[0])
	case who.external == "" || who.external != name.Value:
		return no("the subject %q is not the externalId of %s", name.Value, who.login)
	case !who.active:
		return no("the account %s is suspended", who.login)
	}
	session := ""
	for _, statement := range assertion.AuthnStatements {
		session = statement.SessionIndex
	}
	return who, session, ""
}

func claimed(assertion *saml.Assertion, name string) []string {
	var values []string
	for _, statement := range assertion.AttributeStatements {
		for _, attribute := range statement.Attributes {
			if attribute.Name != name {
				continue
			}
			for _, value := range attribute.Values {
				values = append(values, strings.TrimSpace(value.Value))
			}
		}
	}
	return values
}

// logout ends somebody's sessions because the identity provider says so, and answers it; or takes
// its answer.
func (s *Server) logout(c *fiber.Ctx) error {
	if c.Query("SAMLResponse") != "" {
		return c.Redirect("/me")
	}
	for _, d := range s.federations.all() {
		provider, f := readProvider(d.Provider)
		if f != nil {
			continue
		}
		sp := s.serviceProvider(provider)
		request, err := sp.ValidateLogoutRequest(samlRequest(c, s.address))
		if err != nil || request.NameID == nil {
			continue
		}
		s.people.endSessions(s.store.byExternal(request.NameID.Value))
		answer, err := sp.MakeRedirectLogoutResponse(request.ID, c.Query("RelayState"))
		if err != nil {
			return err
		}
		return c.Redirect(answer.String(), fiber.StatusSeeOther)
	}
	return s.sentence(c, 403, "This is no sign-out by an identity provider that is known here.")
}

func (f *federations) all() []federation.Domain {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []federation.Domain
	for _, d := range f.domains {
		if d.Provider != "" {
			all = append(all, d)
		}
	}
	return all
}

// sentence is a page of one sentence.
func (s *Server) sentence(c *fiber.Ctx, status int, text string) error {
	c.Set("Content-Type", "text/html; charset=utf-8")
	return c.Status(status).SendString(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Your account</title><body style="font: 16px/1.5 Georgia, serif; background: #f3efe6"><main style="max-width: 40rem; margin: 3rem auto; background: #fffdf8; border: 1px solid #d9d0bd; padding: 2rem"><p id="said" role="status">` + html.EscapeString(text) + `</p><p><a href="/me">Your account</a></p></main></body></html>`)
}

// logoutThere is where a browser goes to end somebody's session at the identity provider, "" where
// that offers nothing.
func (s *Server) logoutThere(who person, index string) (string, error) {
	domain, f := loginDomain(who.login)
	if f != nil {
		return "", nil
	}
	provider, f := readProvider(s.federations.of(domain).Provider)
	if f != nil {
		return "", nil
	}
	sp := s.serviceProvider(provider)
	there := sp.GetSLOBindingLocation(saml.HTTPRedirectBinding)
	if there == "" {
		return "", nil
	}
	address, err := sp.MakeRedirectLogoutRequest(who.external, "", saml.WithSessionIndex(index))
	if err != nil {
		return "", err
	}
	return address.String(), nil
}

// samlRequest is a request as the library reads it.
func samlRequest(c *fiber.Ctx, address string) *http.Request {
	request, err := http.NewRequest(http.MethodGet, address+c.OriginalURL(), nil)
	if err != nil {
		return &http.Request{Method: http.MethodGet, URL: &url.URL{}}
	}
	return request
}

// byExternal is the id of the user who bears a link key.
func (s *store) byExternal(key string) string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.types["Users"].external[key]
}
