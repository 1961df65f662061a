package signin_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/signin"
)

var asks = signin.Cloud{EntityID: "https://cloud.example/saml", Consumer: "https://cloud.example/acs", Formats: []string{signin.Persistent},
	Wanted: []signin.Wanted{{Name: signin.LoginClaim, Friendly: "eduPersonPrincipalName", Required: true}, {Name: "urn:oid:2.5.4.42", Friendly: "givenName"}, {Name: "urn:x:colour", Friendly: "colour"}}}

func ada() entry.Resource {
	return entry.Resource{"id": "7", "externalId": "key-of-ada", "userName": "ada@brisling.example", "name": map[string]any{"givenName": "Ada"},
		"emails": []any{map[string]any{"value": "ada@brisling.example", "type": "work"}}}
}

func TestClaimsFollowFromWhatTheCloudAsksFor(t *testing.T) {
	t.Parallel()
	claims := signin.DefaultClaims(asks)
	assert.Equal(t, signin.Claims{Format: signin.Persistent, Subject: signin.Claim{From: "externalId"}, Claims: []signin.Claim{{Name: signin.LoginClaim, From: "userName"}, {Name: "urn:oid:2.5.4.42", From: "name.givenName"}}}, claims)
	maker, err := signin.Compile(claims)
	require.NoError(t, err)
	said, err := maker.Of(ada())
	require.NoError(t, err)
	assert.Equal(t, signin.Said{Subject: "key-of-ada", Format: signin.Persistent, Claims: map[string][]string{signin.LoginClaim: {"ada@brisling.example"}, "urn:oid:2.5.4.42": {"Ada"}}}, said)
	for _, field := range signin.Fit(said, asks, "brisling.example", ada()) {
		if field.Name == "colour" {
			assert.Equal(t, signin.Warn, field.Outcome, field)
		} else {
			assert.Equal(t, signin.Good, field.Outcome, field)
		}
	}
	assert.False(t, signin.Accepted(signin.Fit(said, asks, "halvard.example", ada())), "of another domain")
	mail := asks
	mail.Formats = []string{"urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"}
	assert.Equal(t, "userName", signin.DefaultClaims(mail).Subject.From)
}

func TestClaimsThatCannotWorkAreRefused(t *testing.T) {
	t.Parallel()
	for text, claims := range map[string]signin.Claims{
		"format":                   {Subject: signin.Claim{From: "externalId"}},
		"sign everybody in as one": {Format: "x", Subject: signin.Claim{Always: "captain"}},
		"one of from, always":      {Format: "x", Subject: signin.Claim{From: "externalId", Formula: `resource["id"]`}},
		"claims[0] (login): say":   {Format: "x", Subject: signin.Claim{From: "externalId"}, Claims: []signin.Claim{{Name: "login"}}},
		"a name of its own":        {Format: "x", Subject: signin.Claim{From: "externalId"}, Claims: []signin.Claim{{Name: "login", From: "id"}, {Name: "login", From: "userName"}}},
		"subject: ":                {Format: "x", Subject: signin.Claim{Formula: `resource["id"`}},
	} {
		_, err := signin.Compile(claims)
		assert.ErrorContains(t, err, text)
	}
	maker, err := signin.Compile(signin.Claims{Format: "x", Subject: signin.Claim{Formula: `resource["externalId"] + "@saml"`}, Claims: []signin.Claim{{Name: "where", Always: "quay"}}})
	require.NoError(t, err)
	said, err := maker.Of(ada())
	require.NoError(t, err)
	assert.Equal(t, "key-of-ada@saml", said.Subject)
	assert.Equal(t, []string{"quay"}, said.Claims["where"])
	maker, err = signin.Compile(signin.DefaultClaims(asks))
	require.NoError(t, err)
	_, err = maker.Of(entry.Resource{"id": "8"})
	assert.Error(t, err, "nobody is named by nothing")
}

func TestClocksMayBeApartByMinutes(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	outcome := func(off time.Duration, name string) signin.Outcome {
		a := signin.Assertion{Status: "Success", Count: 1, ID: "a", IssuedAt: now.Add(off), NotBefore: now.Add(off), NotOnOrAfter: now.Add(off + 5*time.Minute)}
		for _, field := range signin.Judge(a, signin.Expectation{Now: now}) {
			if field.Name == name {
				return field.Outcome
			}
		}
		return ""
	}
	for off, want := range map[time.Duration][3]signin.Outcome{
		0:                 {signin.Good, signin.Good, signin.Good},
		-2 * time.Minute:  {signin.Good, signin.Good, signin.Warn},
		2 * time.Minute:   {signin.Good, signin.Good, signin.Warn},
		10 * time.Minute:  {signin.Good, signin.Bad, signin.Bad},
		-10 * time.Minute: {signin.Bad, signin.Good, signin.Bad},
	} {
		assert.Equal(t, want, [3]signin.Outcome{outcome(off, "valid until"), outcome(off, "valid from"), outcome(off, "made at")}, off)
	}
}

func TestACertificateIsToldOfBeforeItEnds(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	certificate := func(from, until int) signin.Certificate {
		return signin.Certificate{Fingerprint: "f", From: now.AddDate(0, 0, from), Until: now.AddDate(0, 0, until)}
	}
	of := func(certificates ...signin.Certificate) signin.Provider {
		return signin.Provider{EntityID: "e", SignedBy: "s", Signing: certificates, SignOn: []signin.Endpoint{{Binding: signin.Redirect, Location: "https://login.example/sso"}}}
	}
	bad := func(p signin.Provider) bool {
		_, found := signin.FirstBad(signin.CheckProvider(p, signin.Trust{Fingerprint: "s"}, asks, now))
		return found
	}
	assert.False(t, bad(of(certificate(-1, 400))))
	assert.True(t, bad(of(certificate(-400, -1))), "ended")
	assert.False(t, bad(of(certificate(-400, -1), certificate(-1, 400))), "the next is there")
	assert.True(t, bad(of(certificate(1, 400))), "not yet")
	assert.True(t, bad(of()), "none")
	assert.Equal(t, now.AddDate(0, 0, 9), of(certificate(-9, 3), certificate(-1, 9), certificate(1, 99)).Ends(now))
}

func TestDesktopsAreToldWhatTheirDomainNeeds(t *testing.T) {
	t.Parallel()
	text := func(d signin.Desk) string {
		var out []string
		for _, section := range signin.Desktops(d) {
			out = append(append(out, section.Title), section.Lines...)
		}
		return strings.Join(out, "\n")
	}
	own := signin.Desk{Domain: "halvard.example", SignOn: "https://sign-in.halvard.example/people/sign-in", Own: true, Tickets: true, Realms: []string{"CORP.HALVARD.EXAMPLE"}, Cloud: "https://cloud.example:8443/acs"}
	for _, wanted := range []string{"sign-in.halvard.example  TCP 443", "cloud.example  TCP 8443", "HTTP/sign-in.halvard.example", "AuthServerAllowlist = sign-in.halvard.example", "https://sign-in.halvard.example/people/check", ".corp.halvard.example = CORP.HALVARD.EXAMPLE"} {
		assert.Contains(t, text(own), wanted)
	}
	assert.NotContains(t, text(own), "NOT ENCRYPTED")
	other := signin.Desk{Domain: "brisling.example", SignOn: "https://login.brisling.example/sso", Cloud: "https://cloud.example/acs"}
	assert.NotContains(t, text(other), "samba-tool")
	assert.Contains(t, text(other), "login.brisling.example  TCP 443")
	local := signin.Desk{SignOn: "http://127.0.0.1:7600/people/sign-in", Own: true, Tickets: true, Realms: []string{"CORP.HALVARD.EXAMPLE"}}
	assert.Contains(t, text(local), "NOT ENCRYPTED")
	assert.Contains(t, text(local), "127.0.0.1 is an address")
}
