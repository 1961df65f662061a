package signin

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Assertion is what a response says (saml-core-2.0-os sections 2 and 3.3.3), as it was read and
// not yet believed; values that are not there are "".
type Assertion struct {
	ID             string
	Status         string // of the response, the last words of its codes and its message
	Issuer         string
	Destination    string
	InResponseTo   string // of the response and of the confirmation of the subject, if they agree
	Recipient      string
	Audiences      []string
	Subject        string
	Format         string
	IssuedAt       time.Time
	NotBefore      time.Time
	NotOnOrAfter   time.Time // the first of those of the conditions and of the confirmation
	Context        string    // how somebody has signed in
	Claims         map[string][]string
	Count          int    // of assertions in the response, encrypted ones included
	Encrypted      bool   // so that nothing of it can be read here
	Signed         string // what is signed: assertion, response, or ""
	Algorithm      string // of the signature, as a URI
	SignedBy       string // the fingerprint of the certificate that the signature names, "" for none
	SignatureFault string // why the signature is not that of a key of the provider
}

// Expectation is what an assertion is held against.
type Expectation struct {
	Cloud    Cloud
	Provider Provider
	Request  string // the id of the cloud's request, "" where it is not known
	Login    string // of the person
	Domain   string // for which the provider is
	Said     Said
	Now      time.Time
	Seen     bool // whether an assertion of this id was there before
}

// AssertionField is one field of an assertion against what the cloud expects.
type AssertionField struct {
	Name     string  `json:"name"`
	Got      string  `json:"got"`
	Expected string  `json:"expected"`
	Outcome  Outcome `json:"outcome" enum:"good,doubtful,bad"`
	Reason   string  `json:"reason,omitempty" doc:"Why the cloud would refuse it, and what to do"`
}

// skew is how far clocks may be apart.
const skew = 3 * time.Minute

// Judge holds each field of an assertion against what the cloud expects. No field of it is bad
// where the cloud would let the person in.
func Judge(a Assertion, e Expectation) []AssertionField {
	j := &judgement{}
	j.text("status", a.Status, "Success", "The provider itself has refused: its own log says why.")
	if a.Encrypted {
		j.add("assertion", "encrypted", "one that can be read", Warn, "Only the cloud can read it; what follows cannot be looked at here, and the cloud's word decides.")
		return j.fields
	}
	switch {
	case a.Count == 0 && a.Status == "Success":
		j.add("assertion", "none", "one", Bad, "The response says nothing of anybody: have the provider send an assertion.")
	case a.Count > 1:
		j.add("assertion", fmt.Sprintf("%d", a.Count), "one", Bad, "A response with several assertions may hide one that nobody has signed: this is how assertions are wrapped. Do not switch this provider on before its administrators have explained it.")
	}
	if a.Count == 0 {
		return j.fields
	}
	j.signature(a, e)
	j.text("issuer", a.Issuer, e.Provider.EntityID, "The assertion is of another provider than the metadata: fetch the metadata of the one that people are sent to.")
	j.text("destination", a.Destination, e.Cloud.Consumer, "The response was made for another address: give the provider the cloud's metadata anew.")
	j.text("recipient", a.Recipient, e.Cloud.Consumer, "The assertion was made for another address: give the provider the cloud's metadata anew.")
	if slices.Contains(a.Audiences, e.Cloud.EntityID) {
		j.add("audience", strings.Join(a.Audiences, ", "), e.Cloud.EntityID, Good, "")
	} else {
		j.add("audience", strings.Join(a.Audiences, ", "), e.Cloud.EntityID, Bad, "The assertion is for somebody else: set the audience at the provider to the cloud's entity id.")
	}
	switch {
	case a.InResponseTo == "":
		j.add("answer to", "", cmp.Or(e.Request, "the cloud's request"), Bad, "The cloud takes only what it has asked for: begin at the cloud, not at the provider.")
	case e.Request == "":
		j.add("answer to", a.InResponseTo, "the cloud's request", Warn, "Which request the cloud has made is not known here; the cloud looks.")
	default:
		j.text("answer to", a.InResponseTo, e.Request, "It answers another request: it may have been sent a second time.")
	}
	if e.Seen {
		j.add("once", a.ID, "an assertion that was not there before", Bad, "It was there before: somebody has sent it a second time.")
	}
	j.times(a, e)
	j.subject(a, e)
	j.claims(a, e)
	return j.fields
}

// Accepted tells whether no field is bad.
func Accepted(fields []AssertionField) bool {
	return !slices.ContainsFunc(fields, func(f AssertionField) bool { return f.Outcome == Bad })
}

type judgement struct{ fields []AssertionField }

func (j *judgement) add(name, got, expected string, outcome Outcome, reason string) {
	j.fields = append(j.fields, AssertionField{name, got, expected, outcome, reason})
}

func (j *judgement) text(name, got, expected, reason string) {
	if got == expected {
		j.add(name, got, expected, Good, "")
	} else {
		j.add(name, got, expected, Bad, reason)
	}
}

func (j *judgement) signature(a Assertion, e Expectation) {
	expected := "by a key of the provider's metadata"
	got := a.Signed
	if got != "" {
		got = "the " + got + ", " + a.Algorithm[strings.LastIndexAny(a.Algorithm, "#/")+1:]
	}
	i := slices.IndexFunc(e.Provider.Signing, func(c Certificate) bool { return c.Fingerprint == a.SignedBy })
	switch {
	case a.Signed == "":
		j.add("signature", "none", expected, Bad, "Anybody could have written it: have the provider sign its assertions.")
	case weak(a.Algorithm):
		j.add("signature", got, "SHA-256 or stronger", Bad, "Signatures with SHA-1 can be forged: have the provider sign with SHA-256.")
	case a.SignedBy != "" && i < 0:
		j.add("signature", got+", by "+a.SignedBy, expected, Bad, "The certificate is not in the metadata: if the provider has a new one, fetch its metadata anew and compare the fingerprint.")
	case a.SignatureFault != "":
		j.add("signature", got, expected, Bad, "It does not fit what is signed: "+a.SignatureFault+". Something was changed on the way, or another key has signed.")
	case i >= 0 && !e.Now.Before(e.Provider.Signing[i].Until):
		j.add("signature", got+", by "+a.SignedBy, expected, Bad, "The certificate ended at "+day(e.Provider.Signing[i].Until)+": have the provider renew it.")
	default:
		j.add("signature", got, expected, Good, "")
	}
}

func weak(algorithm string) bool {
	algorithm = strings.ToLower(algorithm)
	return strings.HasSuffix(algorithm, "sha1") || strings.Contains(algorithm, "md5") || strings.Contains(algorithm, "hmac")
}

func (j *judgement) times(a Assertion, e Expectation) {
	format := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04:05 MST")
	}
	now := format(e.Now)
	switch {
	case a.NotOnOrAfter.IsZero():
		j.add("valid until", "", "a time after "+now, Bad, "Without an end it could be used for ever: have the provider set NotOnOrAfter.")
	case !e.Now.Before(a.NotOnOrAfter.Add(skew)):
		j.add("valid until", format(a.NotOnOrAfter), "a time after "+now, Bad, "It has ended: it is an old one, or the provider's clock is behind by more than "+minutes(skew)+".")
	case a.NotOnOrAfter.Sub(e.Now) > longest:
		j.add("valid until", format(a.NotOnOrAfter), "within some minutes", Warn, "Whoever gets hold of it may use it that long: have the provider set some minutes.")
	default:
		j.add("valid until", format(a.NotOnOrAfter), "a time after "+now, Good, "")
	}
	if a.NotBefore.Add(-skew).After(e.Now) {
		j.add("valid from", format(a.NotBefore), "a time before "+now, Bad, "It is not valid yet: the provider's clock is ahead by more than "+minutes(skew)+".")
	} else {
		j.add("valid from", format(a.NotBefore), "a time before "+now, Good, "")
	}
	if off := e.Now.Sub(a.IssuedAt).Round(time.Second); a.IssuedAt.IsZero() || off > 90*time.Second+skew || off < -skew {
		j.add("made at", format(a.IssuedAt), now, Bad, "The provider's clock is off by "+off.String()+", or the assertion is an old one: set the clock by NTP.")
	} else if off > time.Minute || off < -5*time.Second {
		j.add("made at", format(a.IssuedAt), now, Warn, "Off by "+off.String()+": look at the provider's clock.")
	} else {
		j.add("made at", format(a.IssuedAt), now, Good, "")
	}
}

// longest is how long an assertion should be valid at most.
const longest = time.Hour

func minutes(d time.Duration) string { return fmt.Sprintf("%d minutes", int(d.Minutes())) }

func (j *judgement) subject(a Assertion, e Expectation) {
	j.text("subject's format", a.Format, e.Said.Format, "Have the provider send the subject in this format for the cloud.")
	reason := "The cloud would look for another person, or for nobody: have the provider send the link key, as the claims say."
	if a.Subject != "" && strings.EqualFold(a.Subject, e.Said.Subject) {
		reason = "Only the letter case differs, and the cloud compares exactly."
	}
	j.text("subject", a.Subject, e.Said.Subject, reason)
}

func (j *judgement) claims(a Assertion, e Expectation) {
	seen := map[string]bool{}
	one := func(name, label string, required bool) {
		seen[name] = true
		got, expected := a.Claims[name], e.Said.Claims[name]
		switch {
		case len(got) == 0 && !required:
			j.add(label, "", strings.Join(expected, ", "), Warn, "The cloud would take it, and does without.")
		case len(got) == 0:
			j.add(label, "", strings.Join(expected, ", "), Bad, "The cloud needs this attribute: have the provider send it under the name "+name+".")
		case len(expected) == 0:
			j.add(label, strings.Join(got, ", "), "", Warn, "The claims make no value for it, so it was held against nothing.")
		case slices.Equal(slices.Sorted(slices.Values(got)), slices.Sorted(slices.Values(expected))):
			j.add(label, strings.Join(got, ", "), strings.Join(expected, ", "), Good, "")
		case !required:
			j.add(label, strings.Join(got, ", "), strings.Join(expected, ", "), Warn, "The cloud would show something else than it has.")
		default:
			reason := "The cloud has another value for this person: correct where the provider takes it from."
			if len(got) > 1 && len(expected) == 1 {
				reason = "The cloud takes one value."
			} else if i := strings.LastIndexByte(got[0], '@'); i >= 0 && e.Domain != "" && strings.Contains(e.Login, "@") && !strings.EqualFold(got[0][i+1:], e.Domain) {
				reason = "It is not of " + e.Domain + ", and this provider is for no other domain."
			}
			j.add(label, strings.Join(got, ", "), strings.Join(expected, ", "), Bad, reason)
		}
	}
	for _, wanted := range e.Cloud.Wanted {
		one(wanted.Name, cmp.Or(wanted.Friendly, wanted.Name), wanted.Required)
	}
	for _, name := range slices.Sorted(maps.Keys(e.Said.Claims)) {
		if !seen[name] {
			one(name, name, false)
		}
	}
}

// Fit holds what an assertion would say of somebody against what the cloud asks for and knows of
// the person.
func Fit(said Said, cloud Cloud, domain string, resource entry.Resource) []AssertionField {
	text := func(name string) string { value, _ := resource[name].(string); return value }
	j := &judgement{}
	switch {
	case len(cloud.Formats) == 0 || slices.Contains(cloud.Formats, said.Format):
		j.add("subject's format", said.Format, strings.Join(cloud.Formats, ", "), Good, "")
	default:
		j.add("subject's format", said.Format, strings.Join(cloud.Formats, ", "), Bad, "The cloud's metadata does not name this format.")
	}
	switch said.Subject {
	case text("externalId"):
		j.add("subject", said.Subject, "externalId", Good, "")
	case text("userName"), text("id"):
		j.add("subject", said.Subject, "what the cloud looks for", Good, "")
	default:
		j.add("subject", said.Subject, text("externalId"), Warn, "It is neither the link key, nor the login, nor the id of the person; the test of a sign-in shows whether the cloud knows it.")
	}
	for _, wanted := range cloud.Wanted {
		label, got := cmp.Or(wanted.Friendly, wanted.Name), said.Claims[wanted.Name]
		switch {
		case len(got) > 0:
			j.add(label, strings.Join(got, ", "), wanted.Name, Good, "")
		case wanted.Required:
			j.add(label, "", wanted.Name, Bad, "The cloud needs it, and no claim makes a value for this person.")
		default:
			j.add(label, "", wanted.Name, Warn, "The cloud would take it, and does without.")
		}
	}
	if login := text("userName"); !strings.HasSuffix(strings.ToLower(login), "@"+domain) {
		j.add("domain", login, domain, Bad, "The person's login is not of this domain, so nobody would send them to its provider.")
	}
	return j.fields
}
