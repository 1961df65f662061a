// Package signin decides about how the people of a login domain sign in: whether an identity
// provider's metadata is to be believed, what an assertion about somebody must say, whether one
// does, and whether a domain may be switched. All of it is pure; messages are read in
// protocol/saml.
package signin

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/address"
)

// Endpoint is where a message goes, and how.
type Endpoint struct{ Binding, Location string }

// The bindings that are spoken here (saml-bindings-2.0-os sections 3.4 and 3.5).
const (
	Redirect = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"
	Post     = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
)

// Certificate is one of a message or of metadata.
type Certificate struct {
	Fingerprint string // SHA-256 of it, in lower-case hexadecimal digits
	Subject     string
	From, Until time.Time
	// Weak says what makes its key too weak to be believed, "" for nothing.
	Weak string
}

// Provider is what the metadata of an identity provider says (saml-metadata-2.0-os section 2.4.3).
type Provider struct {
	EntityID  string
	SignOn    []Endpoint
	LogOut    []Endpoint
	Formats   []string // of subjects
	Signing   []Certificate
	Until     time.Time // zero where it does not say
	SignedBy  string    // the fingerprint of the certificate by which the metadata is signed, "" where it is not
	WantsSign bool      // whether requests must be signed
}

// Cloud is what the metadata of the cloud says (section 2.4.4).
type Cloud struct {
	EntityID string
	Consumer string // where assertions go
	Formats  []string
	Wanted   []Wanted
	Signing  []Certificate
	Signs    bool // whether its requests are signed
}

// Wanted is an attribute that the cloud asks for.
type Wanted struct {
	Name     string `json:"name"`
	Friendly string `json:"friendly,omitempty"`
	Required bool   `json:"required"`
}

// Outcome is how something stands.
type Outcome string

// The outcomes.
const (
	Good Outcome = "good"
	Warn Outcome = "doubtful" // works, but somebody should know
	Bad  Outcome = "bad"
)

// Check is one thing that was looked at.
type Check struct {
	Name    string
	Outcome Outcome
	Detail  string
	Advice  string // what to do about it
}

// FirstBad is the first that is bad.
func FirstBad(verdicts []Check) (Check, bool) {
	i := slices.IndexFunc(verdicts, func(v Check) bool { return v.Outcome == Bad })
	if i < 0 {
		return Check{}, false
	}
	return verdicts[i], true
}

// Trust is why metadata is believed.
type Trust struct {
	// Fingerprint is of the certificate that people have compared with what the provider's
	// administrators told them: the one by which the metadata is signed, or, where it is not,
	// the one by which assertions are.
	Fingerprint string
	// Unsigned says that metadata which is not signed is believed all the same.
	Unsigned bool
	// EntityID is that of before, "" while there is none.
	EntityID string
}

// tellBefore is how long beforehand it is told that a certificate ends.
const tellBefore = 30 * 24 * time.Hour

// CheckProvider looks at metadata of an identity provider.
func CheckProvider(p Provider, trust Trust, cloud Cloud, now time.Time) []Check {
	var out []Check
	add := func(name string, outcome Outcome, advice, detail string, facts ...any) {
		out = append(out, Check{name, outcome, fmt.Sprintf(detail, facts...), advice})
	}
	switch {
	case p.EntityID == "":
		add("entity", Bad, "Ask for the metadata of the identity provider itself.", "it names no entity")
	case trust.EntityID != "" && trust.EntityID != p.EntityID:
		add("entity", Bad, "If the provider was really replaced, remove the one of before first, which brings people back to their passwords.", "it is of %s, and the provider of this domain is %s", p.EntityID, trust.EntityID)
	default:
		add("entity", Good, "", "%s", p.EntityID)
	}
	out = append(out, trusted(p, trust))
	switch {
	case !p.Until.IsZero() && !now.Before(p.Until):
		add("valid", Bad, "Fetch the metadata anew: a provider that publishes it keeps it fresh.", "it was valid until %s", day(p.Until))
	case !p.Until.IsZero():
		add("valid", Good, "", "until %s", day(p.Until))
	default:
		add("valid", Good, "", "it names no end")
	}
	if at := p.at(Redirect); at == "" {
		add("sign-in", Bad, "Have the provider offer the binding HTTP-Redirect for requests.", "it takes no request by HTTP-Redirect")
	} else if plain(at) {
		add("sign-in", Bad, "Have the provider offer HTTPS.", "people would give their passwords at %s, without TLS", at)
	} else {
		add("sign-in", Good, "", "at %s", at)
	}
	out = append(out, certificates(p, now)...)
	if len(cloud.Formats) > 0 && len(p.Formats) > 0 && !slices.ContainsFunc(p.Formats, func(f string) bool { return slices.Contains(cloud.Formats, f) || strings.HasSuffix(f, ":unspecified") }) {
		add("subject", Warn, "Have the provider offer it for this cloud; the test of a sign-in shows what it really sends.", "the cloud wants the format %s, which the metadata does not name", short(cloud.Formats[0]))
	}
	return out
}

func trusted(p Provider, trust Trust) Check {
	compare := "Compare the fingerprint with what the provider's administrators tell you by another way than this file, and give it."
	first := ""
	if len(p.Signing) > 0 {
		first = p.Signing[0].Fingerprint
	}
	switch {
	case p.SignedBy != "" && trust.Fingerprint == "":
		return Check{"signature", Bad, "it is signed by a key that nobody has vouched for: " + p.SignedBy, compare}
	case p.SignedBy != "" && trust.Fingerprint == p.SignedBy:
		return Check{"signature", Good, "signed by " + p.SignedBy, ""}
	case p.SignedBy != "":
		return Check{"signature", Bad, "it is signed by " + p.SignedBy + ", and trusted is " + trust.Fingerprint, "If the provider has another key for its metadata now, compare the fingerprint and give the new one."}
	case !trust.Unsigned:
		return Check{"signature", Bad, "it is not signed, so anybody on the way could have put another key into it", "Ask for signed metadata. Where there is none: compare the fingerprint of the certificate by which assertions are signed (" + first + "), give it, and say that unsigned metadata is accepted."}
	case trust.Fingerprint == "":
		return Check{"signature", Bad, "it is not signed, and nobody has vouched for its certificate " + first, compare}
	case !slices.ContainsFunc(p.Signing, func(c Certificate) bool { return c.Fingerprint == trust.Fingerprint }):
		return Check{"signature", Bad, "it is not signed, and its certificate " + first + " is not the one that is trusted, " + trust.Fingerprint, "If the provider has a new certificate, compare its fingerprint and give that."}
	}
	return Check{"signature", Warn, "it is not signed; trusted for its certificate " + trust.Fingerprint, "Ask the provider's administrators for signed metadata: a new certificate comes without anybody's doing then."}
}

func certificates(p Provider, now time.Time) []Check {
	if len(p.Signing) == 0 {
		return []Check{{"certificate", Bad, "it has no certificate by which assertions are signed", "Ask for the metadata with its certificate."}}
	}
	var out []Check
	valid := false
	for _, c := range p.Signing {
		v := Check{"certificate", Good, fmt.Sprintf("%s, of %s, until %s", c.Fingerprint, c.Subject, day(c.Until)), ""}
		switch {
		case c.Weak != "":
			v.Outcome, v.Detail, v.Advice = Bad, v.Detail+": "+c.Weak, "Have the provider sign with a stronger key."
		case now.Before(c.From):
			v.Outcome, v.Detail, v.Advice = Warn, v.Detail+": valid from "+day(c.From), "It is for a later change of certificates."
		case !now.Before(c.Until):
			v.Outcome, v.Detail, v.Advice = Warn, v.Detail+": it has ended", "Have the provider take it out of its metadata."
		case c.Until.Sub(now) < tellBefore:
			v.Outcome, v.Advice = Warn, "Ask when the provider changes it: until the cloud has the new one nobody signs in."
			valid = true
		default:
			valid = true
		}
		out = append(out, v)
	}
	if !valid {
		out = append(out, Check{"certificate", Bad, "none is valid now, so no assertion would be believed", "Fetch the metadata anew, or have the provider renew its certificate."})
	}
	return out
}

// Ends is when the last certificate that is valid now ends; zero where none is.
func (p Provider) Ends(now time.Time) time.Time {
	var last time.Time
	for _, c := range p.Signing {
		if c.Weak == "" && !now.Before(c.From) && now.Before(c.Until) && c.Until.After(last) {
			last = c.Until
		}
	}
	return last
}

func (p Provider) at(binding string) string { return at(p.SignOn, binding) }

func at(endpoints []Endpoint, binding string) string {
	for _, e := range endpoints {
		if e.Binding == binding {
			return e.Location
		}
	}
	return ""
}

// plain tells an address that anybody on the way can read; that of the same machine is none.
func plain(text string) bool {
	u, err := url.Parse(text)
	return err != nil || u.Scheme != "https" && !(u.Scheme == "http" && address.Loopback(u.Hostname()))
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// short is the last word of a URN.
func short(urn string) string { return urn[strings.LastIndexByte(urn, ':')+1:] }
