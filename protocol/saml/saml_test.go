package saml_test

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/saml"
)

const response = `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="r1" Version="2.0" IssueInstant="2026-12-01T12:00:00Z" Destination="https://cloud.example/acs" InResponseTo="q1"><saml:Issuer>https://login.example</saml:Issuer><samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status><saml:Assertion ID="a1" Version="2.0" IssueInstant="2026-12-01T12:00:00Z"><saml:Issuer>https://login.example</saml:Issuer><saml:Subject><saml:NameID Format="urn:oasis:names:tc:SAML:2.0:nameid-format:persistent">key-of-ada</saml:NameID></saml:Subject></saml:Assertion></samlp:Response>`

// TestAResponseIsReadAsBrowsersShowIt takes it as people copy it, out of a log or with its name.
func TestAResponseIsReadAsBrowsersShowIt(t *testing.T) {
	t.Parallel()
	text := base64.StdEncoding.EncodeToString([]byte(response))
	escaped := strings.NewReplacer("+", "%2B", "/", "%2F", "=", "%3D").Replace(text)
	for _, copied := range []string{text, text[:70] + "\n  " + text[70:], escaped, "SAMLResponse=" + escaped + "&RelayState=x"} {
		a, err := saml.Response(copied)
		assert.NoError(t, err)
		assert.Equal(t, "key-of-ada", a.Subject)
		assert.Equal(t, "q1", a.InResponseTo)
		assert.Equal(t, 1, a.Count)
	}
	_, err := saml.Response(text[:len(text)-3])
	assert.ErrorContains(t, err, "copy the value of SAMLResponse")
}

// FuzzMessages reads anything as a response and as metadata: nothing panics, and what is not signed
// is never taken for signed.
func FuzzMessages(f *testing.F) {
	f.Add(response)
	f.Add(`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="e"><IDPSSODescriptor protocolSupportEnumeration="p"></IDPSSODescriptor></EntityDescriptor>`)
	f.Add(`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"><Signature xmlns="http://www.w3.org/2000/09/xmldsig#"/></EntityDescriptor>`)
	f.Add(`<a:b xmlns:a="urn:oasis:names:tc:SAML:2.0:protocol"><a:b/>`)
	f.Fuzz(func(t *testing.T, text string) {
		if p, err := saml.Provider(text); err == nil && !strings.Contains(text, "SignatureValue") {
			assert.Empty(t, p.SignedBy)
		}
		_, _ = saml.Cloud(text)
		fields, err := saml.Judge(base64.StdEncoding.EncodeToString([]byte(text)), text, signin.Expectation{Cloud: signin.Cloud{EntityID: "c", Consumer: "https://cloud.example/acs"}, Now: time.Unix(1796126400, 0)})
		if err == nil {
			assert.False(t, signin.Accepted(fields), "nothing of it is signed by anybody")
		}
	})
}
