package saml

import (
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/beevik/etree"
	"github.com/crewjam/saml"
	dsig "github.com/russellhaering/goxmldsig"

	"kambrel.example/kambrel/core/signin"
)

const (
	assertionNamespace = "urn:oasis:names:tc:SAML:2.0:assertion"
	bearer             = "urn:oasis:names:tc:SAML:2.0:cm:bearer"
)

// Response reads a response as it came, in Base64, without believing any of it.
func Response(text string) (signin.Assertion, error) {
	var a signin.Assertion
	raw, err := decoded(text)
	if err != nil {
		return a, err
	}
	document := etree.NewDocument()
	if err := document.ReadFromString(raw); err != nil || document.Root() == nil {
		return a, errors.New("the response is no well-formed XML")
	}
	var response saml.Response
	if err := xml.Unmarshal([]byte(raw), &response); err != nil {
		return a, fmt.Errorf("this is no response of SAML 2.0: %w", err)
	}
	root := document.Root()
	// Wherever they are: what is hidden somewhere is counted too.
	plain, sealed := descendants(root, assertionNamespace, "Assertion"), descendants(root, assertionNamespace, "EncryptedAssertion")
	a.Count, a.Encrypted = len(plain)+len(sealed), len(plain) == 0 && len(sealed) == 1
	a.Status, a.Destination = statusOf(response.Status), response.Destination
	a.InResponseTo = response.InResponseTo
	if response.Issuer != nil {
		a.Issuer = strings.TrimSpace(response.Issuer.Value)
	}
	if response.Assertion == nil || len(plain) == 0 {
		return a, nil
	}
	one := response.Assertion
	a.ID, a.IssuedAt = one.ID, one.IssueInstant
	if a.Issuer == "" || a.Issuer == strings.TrimSpace(one.Issuer.Value) {
		a.Issuer = strings.TrimSpace(one.Issuer.Value)
	} else {
		a.Issuer += " and " + strings.TrimSpace(one.Issuer.Value)
	}
	readSignature(&a, root, plain)
	readConditions(&a, one)
	a.Claims = map[string][]string{}
	for _, statement := range one.AttributeStatements {
		for _, attribute := range statement.Attributes {
			for _, value := range attribute.Values {
				a.Claims[attribute.Name] = append(a.Claims[attribute.Name], strings.TrimSpace(value.Value))
			}
		}
	}
	for _, statement := range one.AuthnStatements {
		if class := statement.AuthnContext.AuthnContextClassRef; class != nil {
			a.Context = class.Value
		}
	}
	return a, nil
}

func decoded(text string) (string, error) {
	text = strings.Join(strings.Fields(text), "")
	if len(text) > 2*MostOctets {
		return "", fmt.Errorf("the response has %d octets; %d are taken at most", len(text), MostOctets)
	}
	// As it stands in a log of a browser it may be escaped for a form still.
	if strings.Contains(text, "%") {
		if plain, err := url.QueryUnescape(text); err == nil {
			text = plain
		}
	}
	text = strings.TrimPrefix(text, "SAMLResponse=")
	if i := strings.IndexByte(text, '&'); i >= 0 {
		text = text[:i]
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return "", errors.New("the response is no Base64: copy the value of SAMLResponse from what the browser has sent, whole")
	}
	return string(raw), plainXML("response", string(raw))
}

func statusOf(status saml.Status) string {
	last := func(urn string) string { return urn[strings.LastIndexByte(urn, ':')+1:] }
	text := last(status.StatusCode.Value)
	if inner := status.StatusCode.StatusCode; inner != nil {
		text += ": " + last(inner.Value)
	}
	if status.StatusMessage != nil && status.StatusMessage.Value != "" {
		text += ": " + status.StatusMessage.Value
	}
	return text
}

func readSignature(a *signin.Assertion, root *etree.Element, plain []*etree.Element) {
	signature := childOf(plain[0], dsigNamespace, "Signature")
	a.Signed = "assertion"
	if signature == nil {
		signature, a.Signed = childOf(root, dsigNamespace, "Signature"), "response"
	}
	if signature == nil {
		a.Signed = ""
		return
	}
	if methods := descendants(signature, dsigNamespace, "SignatureMethod"); len(methods) > 0 {
		a.Algorithm = methods[0].SelectAttrValue("Algorithm", "")
	}
	if found := descendants(signature, dsigNamespace, "X509Certificate"); len(found) > 0 {
		if certificate, err := certificateOf(found[0].Text()); err == nil {
			a.SignedBy = Fingerprint(certificate)
		}
	}
}

func readConditions(a *signin.Assertion, one *saml.Assertion) {
	if c := one.Conditions; c != nil {
		a.NotBefore, a.NotOnOrAfter = c.NotBefore, c.NotOnOrAfter
		for _, restriction := range c.AudienceRestrictions {
			for _, audience := range append([]saml.Audience{restriction.Audience}, restriction.AdditionalAudiences...) {
				a.Audiences = append(a.Audiences, strings.TrimSpace(audience.Value))
			}
		}
	}
	if one.Subject == nil {
		return
	}
	if name := one.Subject.NameID; name != nil {
		a.Subject, a.Format = strings.TrimSpace(name.Value), name.Format
	}
	for _, confirmation := range one.Subject.SubjectConfirmations {
		data := confirmation.SubjectConfirmationData
		if confirmation.Method != bearer || data == nil {
			continue
		}
		a.Recipient = data.Recipient
		if a.InResponseTo == "" || data.InResponseTo == a.InResponseTo {
			a.InResponseTo = data.InResponseTo
		} else {
			a.InResponseTo += " and " + data.InResponseTo
		}
		if !data.NotOnOrAfter.IsZero() && (a.NotOnOrAfter.IsZero() || data.NotOnOrAfter.Before(a.NotOnOrAfter)) {
			a.NotOnOrAfter = data.NotOnOrAfter
		}
	}
}

// Believe tells whether the library would take a response for the cloud, at a time: why not
// otherwise, and whether that is for its signature. Where the request is not known, whatever it
// answers is taken.
func Believe(text, metadata string, cloud signin.Cloud, request string, now time.Time) (fault error, signature bool) {
	raw, err := decoded(text)
	if err != nil {
		return err, false
	}
	provider, err := readMetadata("metadata", metadata)
	if err != nil {
		return err, false
	}
	consumer, err := url.Parse(cloud.Consumer)
	if err != nil {
		return err, false
	}
	if request == "" {
		var response saml.Response
		if err := xml.Unmarshal([]byte(raw), &response); err == nil {
			request = response.InResponseTo
		}
	}
	sp := saml.ServiceProvider{EntityID: cloud.EntityID, AcsURL: *consumer, IDPMetadata: provider, RejectSHA1Signatures: true, RejectUnknownConditions: true, Clock: dsig.NewFakeClockAt(now)}
	_, err = sp.ParseXMLResponse([]byte(raw), []string{request}, *consumer)
	if err == nil {
		return nil, false
	}
	signature = errors.Is(err, saml.ErrInvalidSignature)
	var invalid *saml.InvalidResponseError
	if errors.As(err, &invalid) && invalid.PrivateErr != nil {
		err = invalid.PrivateErr
	}
	return err, signature
}

// Judge reads a response and holds each field against what the cloud expects; what the library
// refuses and no field tells is a field of its own.
func Judge(text, metadata string, e signin.Expectation) ([]signin.AssertionField, error) {
	a, err := Response(text)
	if err != nil {
		return nil, err
	}
	fault, signature := Believe(text, metadata, e.Cloud, e.Request, e.Now)
	if signature {
		a.SignatureFault = fault.Error()
	}
	fields := signin.Judge(a, e)
	if fault != nil && !a.Encrypted && signin.Accepted(fields) {
		fields = append(fields, signin.AssertionField{Name: "message", Got: fault.Error(), Expected: "a message by the rules of SAML 2.0", Outcome: signin.Bad, Reason: "A strict reader refuses it as a whole."})
	}
	return fields, nil
}
