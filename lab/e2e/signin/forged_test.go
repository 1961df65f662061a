package signin_test

import (
	"bytes"
	"compress/flate"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/beevik/etree"
	dsig "github.com/russellhaering/goxmldsig"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// keyPair signs for a provider that a test plays itself.
type keyPair struct {
	key  *rsa.PrivateKey
	cert []byte
}

func (k keyPair) GetKeyPair() (*rsa.PrivateKey, []byte, error) { return k.key, k.cert, nil }

func newKeyPair(t *testing.T, bits int, until time.Time) keyPair {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, bits)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "forger"}, NotBefore: time.Now().AddDate(0, -1, 0), NotAfter: until}
	cert, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	return keyPair{key, cert}
}

const forgerEntity = "https://forger.brisling.example/idp"

// metadata is a provider's own.
func metadata(entity string, keys keyPair, more string) string {
	return fmt.Sprintf(`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID=%q ID="m1"%s><IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><KeyDescriptor use="signing"><KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data><X509Certificate>%s</X509Certificate></X509Data></KeyInfo></KeyDescriptor><SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="https://forger.brisling.example/sso"/></IDPSSODescriptor></EntityDescriptor>`,
		entity, more, base64.StdEncoding.EncodeToString(keys.cert))
}

// signed adds the signature of the element, after its first child or as the first.
func signed(t *testing.T, text string, keys keyPair, method string, path string) string {
	t.Helper()
	document := etree.NewDocument()
	require.NoError(t, document.ReadFromString(text), text)
	element := document.Root()
	if path != "" {
		element = document.FindElement(path)
	}
	context := dsig.NewDefaultSigningContext(keys)
	context.IdAttribute = "ID"
	context.Canonicalizer = dsig.MakeC14N10ExclusiveCanonicalizerWithPrefixList("")
	require.NoError(t, context.SetSignatureMethod(method))
	signature, err := context.ConstructSignature(element, true)
	require.NoError(t, err)
	element.InsertChildAt(min(1, len(element.ChildElements())-1), signature)
	out, err := document.WriteToString()
	require.NoError(t, err)
	return out
}

// claim is what a forged assertion says.
type claim struct {
	issuer, audience, recipient, request, subject, login, status string
	made                                                         time.Time
	valid                                                        time.Duration
}

func (c claim) text() string {
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }
	return fmt.Sprintf(`<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="r%[1]d" Version="2.0" IssueInstant="%[2]s" Destination="%[3]s" InResponseTo="%[4]s"><saml:Issuer>%[5]s</saml:Issuer><samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:%[6]s"/></samlp:Status><saml:Assertion xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="a%[1]d" Version="2.0" IssueInstant="%[2]s"><saml:Issuer>%[5]s</saml:Issuer><saml:Subject><saml:NameID Format="urn:oasis:names:tc:SAML:2.0:nameid-format:persistent">%[7]s</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData NotOnOrAfter="%[8]s" Recipient="%[3]s" InResponseTo="%[4]s"/></saml:SubjectConfirmation></saml:Subject><saml:Conditions NotBefore="%[2]s" NotOnOrAfter="%[8]s"><saml:AudienceRestriction><saml:Audience>%[9]s</saml:Audience></saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant="%[2]s"><saml:AuthnContext><saml:AuthnContextClassRef>urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement><saml:AttributeStatement><saml:Attribute Name="urn:oid:1.3.6.1.4.1.5923.1.1.1.6" NameFormat="urn:oasis:names:tc:SAML:2.0:attrname-format:uri"><saml:AttributeValue>%[10]s</saml:AttributeValue></saml:Attribute></saml:AttributeStatement></saml:Assertion></samlp:Response>`,
		time.Now().UnixNano(), at(c.made), c.recipient, c.request, c.issuer, c.status, c.subject, at(c.made.Add(c.valid)), c.audience, c.login)
}

// asks opens the address of a test as a browser does, and returns what the cloud asks the provider.
func asks(t *testing.T, address string) (request, relay string) {
	t.Helper()
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := stay.Get(address)
	require.NoError(t, err)
	defer answer.Body.Close()
	location, err := answer.Location()
	require.NoError(t, err)
	packed, err := base64.StdEncoding.DecodeString(location.Query().Get("SAMLRequest"))
	require.NoError(t, err)
	text, err := io.ReadAll(flate.NewReader(bytes.NewReader(packed)))
	require.NoError(t, err)
	var read struct {
		ID string `xml:"ID,attr"`
	}
	require.NoError(t, xml.Unmarshal(text, &read))
	return read.ID, location.Query().Get("RelayState")
}

func posts(t *testing.T, consumer, response, relay string) (int, string) {
	t.Helper()
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := stay.PostForm(consumer, url.Values{"SAMLResponse": {response}, "RelayState": {relay}})
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(text)
}

// world is one in which three people are in the cloud, and a captain who has a role there and a
// login in another domain.
func world(t *testing.T) *worldtest.World {
	t.Helper()
	w := worldtest.WithPasswords(t, worldtest.Options{Cloud: []string{"--domains", "halvard.example"}})
	captain(w)
	w.InStep(0)
	return w
}

func captain(w *worldtest.World) string {
	status, made := worldtest.SCIM(w.T, w.Address(), "POST", w.Cloud.URL+"/Users", map[string]any{"userName": "captain@halvard.example", "active": true, "roles": []map[string]string{{"value": "owner", "type": "administrative"}}})
	require.Equal(w.T, 201, status, made)
	return fmt.Sprint(made["id"])
}

const domain = "brisling.example"

// TestForgedAssertionsAreRefused plays an identity provider that is trusted for a domain, and sends
// what attackers send: the cloud takes none of it, and each test says which field is wrong and why,
// on the page and in the audit.
func TestForgedAssertionsAreRefused(t *testing.T) {
	t.Parallel()
	w := world(t)
	keys, others := newKeyPair(t, 2048, time.Now().AddDate(1, 0, 0)), newKeyPair(t, 2048, time.Now().AddDate(1, 0, 0))
	tried, err := w.Client.TryProvider(t.Context(), domain, wire.ProviderMetadata{Metadata: metadata(forgerEntity, keys, "")})
	require.NoError(t, err)
	federation, err := w.Client.SetProvider(t.Context(), domain, wire.ProviderMetadata{Metadata: metadata(forgerEntity, keys, ""), Fingerprint: strings.ToUpper(tried.Compare), Unsigned: true})
	require.NoError(t, err)
	key := fmt.Sprint(w.User("anna@" + domain)["externalId"])
	honest := claim{issuer: forgerEntity, audience: federation.Cloud.EntityID, recipient: federation.Cloud.Consumer, subject: key, login: "anna@" + domain, status: "Success", made: time.Now(), valid: 5 * time.Minute}
	sign := func(text string) string {
		return signed(t, text, keys, dsig.RSASHA256SignatureMethod, "//saml:Assertion")
	}
	as := func(change func(*claim)) func(claim) string {
		return func(c claim) string {
			change(&c)
			return sign(c.text())
		}
	}
	var kept string // a response that was accepted
	for _, one := range []struct {
		name, field, reason string
		made                func(claim) string
	}{
		{"honest", "", "", func(c claim) string { return sign(c.text()) }},
		{"sent a second time", "answer to", "another request", func(claim) string { return kept }},
		{"not signed", "signature", "Anybody could have written it", func(c claim) string { return c.text() }},
		{"signed by somebody else", "signature", "not in the metadata", func(c claim) string {
			return signed(t, c.text(), others, dsig.RSASHA256SignatureMethod, "//saml:Assertion")
		}},
		{"signed by somebody else who names the provider's certificate", "signature", "does not fit", func(c claim) string {
			return signed(t, c.text(), keyPair{others.key, keys.cert}, dsig.RSASHA256SignatureMethod, "//saml:Assertion")
		}},
		{"changed after it was signed", "signature", "does not fit", func(c claim) string {
			return strings.Replace(sign(c.text()), ">anna@", ">bo@", 1)
		}},
		{"signed with SHA-1", "signature", "SHA-1", func(c claim) string {
			return signed(t, c.text(), keys, dsig.RSASHA1SignatureMethod, "//saml:Assertion")
		}},
		{"for another audience", "audience", "for somebody else", as(func(c *claim) { c.audience = "https://shop.example" })},
		{"for another recipient", "recipient", "another address", as(func(c *claim) { c.recipient = "https://shop.example/acs" })},
		{"by another issuer", "issuer", "another provider", as(func(c *claim) { c.issuer = "https://other.example" })},
		{"for another request", "answer to", "another request", as(func(c *claim) { c.request = "id-of-somebody-else" })},
		{"not asked for", "answer to", "begin at the cloud", as(func(c *claim) { c.request = "" })},
		{"of yesterday", "valid until", "It has ended", as(func(c *claim) { c.made = c.made.AddDate(0, 0, -1) })},
		{"of tomorrow", "valid from", "clock is ahead", as(func(c *claim) { c.made = c.made.AddDate(0, 0, 1) })},
		{"of somebody else", "subject", "another person, or for nobody", as(func(c *claim) { c.subject = fmt.Sprint(w.User("bo@" + domain)["externalId"]) })},
		{"of another domain", "eduPersonPrincipalName", "It is not of brisling.example", as(func(c *claim) { c.login = "captain@halvard.example" })},
		{"with a comment in the subject", "subject", "another person, or for nobody", func(c claim) string {
			c.subject += ".evil"
			return strings.Replace(sign(c.text()), key+".evil", key+"<!-- -->.evil", 1)
		}},
		{"wrapped around a signed one", "assertion", "how assertions are wrapped", func(c claim) string {
			// The signed one is hidden, and another stands in its place.
			text := sign(c.text())
			begin, end := strings.Index(text, "<saml:Assertion"), strings.Index(text, "</samlp:Response>")
			evil := claim{c.issuer, c.audience, c.recipient, c.request, fmt.Sprint(w.User("bo@" + domain)["externalId"]), "bo@" + domain, c.status, c.made, c.valid}.text()
			evil = evil[strings.Index(evil, "<saml:Assertion"):strings.Index(evil, "</samlp:Response>")]
			return text[:begin] + `<samlp:Extensions>` + text[begin:end] + `</samlp:Extensions>` + evil + text[end:]
		}},
		{"a refusal of the provider", "status", "own log", as(func(c *claim) { c.status = "Responder" })},
		{"with entities", "message", "Nothing of it was read", func(c claim) string {
			return `<!DOCTYPE r [<!ENTITY a "anna">]>` + sign(c.text())
		}},
		{"very long", "message", "Nothing of it was read", func(c claim) string { return sign(c.text()) + strings.Repeat(" ", 1<<20) }},
		{"no XML", "message", "Nothing of it was read", func(claim) string { return "anna, please" }},
	} {
		t.Run(one.name, func(t *testing.T) {
			test, err := w.Client.TestSignIn(t.Context(), domain, wire.NewSignInTest{Person: "anna@" + domain})
			require.NoError(t, err)
			c := honest
			var relay string
			c.request, relay = asks(t, test.URL)
			response := one.made(c)
			status, page := posts(t, federation.Cloud.Consumer, base64.StdEncoding.EncodeToString([]byte(response)), relay)
			require.Equal(t, 200, status, page)
			test, err = w.Client.SignInTest(t.Context(), domain, test.ID)
			require.NoError(t, err)
			require.NotNil(t, test.CloudAccepted)
			if one.field == "" {
				kept = response
				require.Equal(t, "accepted", test.State, "%+v", test)
				return
			}
			assert.Equal(t, "refused", test.State)
			assert.False(t, *test.CloudAccepted, "the cloud takes it")
			assert.NotEmpty(t, test.CloudReason)
			told := ""
			for _, f := range test.Fields {
				if f.Name == one.field && f.Outcome == "bad" {
					told = f.Reason
				}
			}
			assert.Contains(t, told, one.reason, "%+v", test.Fields)
		})
	}
	// Whoever takes the relay state of another's sign-in, or none, gets nowhere.
	status, page := posts(t, federation.Cloud.Consumer, base64.StdEncoding.EncodeToString([]byte(kept)), "made-up")
	assert.Equal(t, 403, status, page)
	// Where the cloud tries no sign-ins, what a browser has sent is looked at; also that once.
	file := filepath.Join(t.TempDir(), "response.txt")
	pasted := honest
	pasted.request, pasted.made = "id-of-the-cloud", time.Now()
	paste := []string{"domain", "test", domain, "--person", "anna@" + domain, "--response", file}
	require.NoError(t, os.WriteFile(file, []byte(base64.StdEncoding.EncodeToString([]byte(sign(pasted.text())))), 0o600))
	w.Says(paste, "ACCEPTED: anna@"+domain, "Which request the cloud has made is not known here")
	out, _, exit := w.Kambrel(paste...)
	assert.Equal(t, 2, exit, out)
	assert.Contains(t, out, "REFUSED")
	assert.Contains(t, out, "somebody has sent it a second time")
	_, err = w.Client.TestSignIn(t.Context(), domain, wire.NewSignInTest{Person: "anna@" + domain, Response: strings.Repeat("A", 10<<20)})
	assert.ErrorContains(t, err, "expected length <= 1200000", "of 10 MB")
	acts := w.Says([]string{"acts", "--kind", "test-sign-in", "--result", "refused", "--limit", "50"}, "SHA-1", "how assertions are wrapped", "for somebody else", "Nothing of it was read")
	assert.Equal(t, 22, strings.Count(acts, "(refused)"), acts)
	assert.NotContains(t, w.Dump(), "samlp:Response", "a response that signs somebody in is kept nowhere")
}

// TestMetadataIsBelievedForAReason gives metadata that nobody should believe.
func TestMetadataIsBelievedForAReason(t *testing.T) {
	t.Parallel()
	w := world(t)
	year := time.Now().AddDate(1, 0, 0)
	keys, signer, others := newKeyPair(t, 2048, year), newKeyPair(t, 2048, year), newKeyPair(t, 2048, year)
	whole := signed(t, metadata(forgerEntity, keys, ""), signer, dsig.RSASHA256SignatureMethod, "")
	tried, err := w.Client.TryProvider(t.Context(), domain, wire.ProviderMetadata{Metadata: whole})
	require.NoError(t, err)
	print := tried.Compare
	assert.Equal(t, tried.SignedBy, print)
	past := ` validUntil="` + time.Now().AddDate(0, 0, -1).UTC().Format(time.RFC3339) + `"`
	for name, one := range map[string]struct {
		in    wire.ProviderMetadata
		fault string
	}{
		"nobody has vouched":   {wire.ProviderMetadata{Metadata: whole}, "nobody has vouched for"},
		"another key":          {wire.ProviderMetadata{Metadata: signed(t, metadata(forgerEntity, keys, ""), others, dsig.RSASHA256SignatureMethod, ""), Fingerprint: print}, "and trusted is " + print},
		"changed":              {wire.ProviderMetadata{Metadata: strings.Replace(whole, "forger.brisling.example/sso", "evil.example/sso", 1), Fingerprint: print}, "something of it was changed"},
		"not signed":           {wire.ProviderMetadata{Metadata: metadata(forgerEntity, keys, ""), Fingerprint: print}, "it is not signed"},
		"another certificate":  {wire.ProviderMetadata{Metadata: metadata(forgerEntity, others, ""), Fingerprint: print, Unsigned: true}, "is not the one that is trusted"},
		"ended":                {wire.ProviderMetadata{Metadata: signed(t, metadata(forgerEntity, keys, past), signer, dsig.RSASHA256SignatureMethod, ""), Fingerprint: print}, "it was valid until"},
		"certificate ended":    {wire.ProviderMetadata{Metadata: signed(t, metadata(forgerEntity, newKeyPair(t, 2048, time.Now().AddDate(0, 0, -1)), ""), signer, dsig.RSASHA256SignatureMethod, ""), Fingerprint: print}, "none is valid now"},
		"weak key":             {wire.ProviderMetadata{Metadata: signed(t, metadata(forgerEntity, newKeyPair(t, 1024, year), ""), signer, dsig.RSASHA256SignatureMethod, ""), Fingerprint: print}, "1024 bits"},
		"without TLS":          {wire.ProviderMetadata{Metadata: signed(t, strings.Replace(metadata(forgerEntity, keys, ""), "https://forger.brisling.example/sso", "http://forger.brisling.example/sso", 1), signer, dsig.RSASHA256SignatureMethod, ""), Fingerprint: print}, "without TLS"},
		"of the cloud":         {wire.ProviderMetadata{Metadata: cloudMetadata(t, w), Fingerprint: print}, "a service that people sign in to"},
		"with entities":        {wire.ProviderMetadata{Metadata: `<!DOCTYPE m [<!ENTITY e "x">]>` + whole, Fingerprint: print}, "a document type"},
		"too long":             {wire.ProviderMetadata{Metadata: whole + strings.Repeat(" ", 590_000), Fingerprint: print}, "octets"},
		"no metadata":          {wire.ProviderMetadata{Metadata: "<html></html>", Fingerprint: print}, "cannot be read"},
		"neither file nor URL": {wire.ProviderMetadata{Fingerprint: print}, "give the metadata, or the URL"},
		"a URL without TLS":    {wire.ProviderMetadata{URL: "http://login.brisling.example/metadata", Fingerprint: print}, "https://host/path"},
		"a file of the host":   {wire.ProviderMetadata{URL: "file:///etc/passwd", Fingerprint: print}, "https://host/path"},
	} {
		_, err := w.Client.SetProvider(t.Context(), domain, one.in)
		assert.ErrorContains(t, err, one.fault, name)
	}
	federation, err := w.Client.Federation(t.Context(), domain)
	require.NoError(t, err)
	assert.Nil(t, federation.Provider, "nothing of it was kept")
	_, err = w.Client.SetProvider(t.Context(), "nowhere.example", wire.ProviderMetadata{Metadata: whole, Fingerprint: print})
	require.ErrorContains(t, err, "the cloud lists no login domain")
	w.Says([]string{"acts", "--kind", "set-identity-provider", "--result", "refused"}, "something of it was changed")

	// People copy fingerprints as other programs show them.
	federation, err = w.Client.SetProvider(t.Context(), domain, wire.ProviderMetadata{Metadata: whole, Fingerprint: strings.ToUpper(colons(print))})
	require.NoError(t, err)
	assert.Equal(t, forgerEntity, federation.Provider.EntityID)
}

func colons(text string) string {
	var parts []string
	for i := 0; i < len(text); i += 2 {
		parts = append(parts, text[i:i+2])
	}
	return strings.Join(parts, ":")
}

func cloudMetadata(t *testing.T, w *worldtest.World) string {
	t.Helper()
	return w.Says([]string{"domain", "metadata", domain})
}
