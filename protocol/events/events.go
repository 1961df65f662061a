// Package events is what a cloud tells Kambrel by security event tokens (RFC 8417) over a
// stream that is polled (RFC 8936), what is sealed in them (RFC 7516), and how the keys for
// that reach the cloud. docs/protocols.md shows each as JSON.
package events

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/password"
)

// Types of events. Verification is that of OpenID Shared Signals, by which a stream is
// tried.
const (
	Reset        = "urn:kambrel:event:password-reset"
	Change       = "urn:kambrel:event:password-change"
	Unlock       = "urn:kambrel:event:unlock"
	Verification = "https://schemas.openid.net/secevent/ssf/event-type/verification"
)

// Delivery is poll-based delivery (RFC 8936), as stream configurations name it.
const Delivery = "urn:ietf:rfc:8936"

// TokenType is the type in a token's header (RFC 8417 section 2.3).
const TokenType = "secevent+jwt"

// Acts are what is asked, by the type of event.
var Acts = map[string]password.Act{Reset: password.Reset, Change: password.Change, Unlock: password.Unlock}

// Subject is whom a token is about (RFC 9493 section 3.2.4, Issuer and Subject).
type Subject struct {
	Format  string `json:"format"`
	Issuer  string `json:"iss"`
	Subject string `json:"sub"` // the id of the resource
}

// IssuerAndSubject is the format of a Subject.
const IssuerAndSubject = "iss_sub"

// signedWith are the algorithms by which a cloud may sign.
var signedWith = []jose.SignatureAlgorithm{jose.ES256, jose.ES384, jose.EdDSA, jose.PS256, jose.RS256}

// Signed reads a token that is not verified yet.
func Signed(text string) (*jose.JSONWebSignature, error) {
	signed, err := jose.ParseSignedCompact(text, signedWith)
	if err != nil || len(signed.Signatures) != 1 {
		return nil, errors.New("the token is no signed token")
	}
	if kind, _ := signed.Signatures[0].Header.ExtraHeaders[jose.HeaderType].(string); kind != TokenType {
		return nil, fmt.Errorf("the token is of type %q; it must be %s", kind, TokenType)
	}
	return signed, nil
}

// Token is what a cloud signs (RFC 8417 section 2.2).
type Token struct {
	Issuer   string                     `json:"iss"`
	Audience Audience                   `json:"aud"`
	ID       string                     `json:"jti"`
	IssuedAt int64                      `json:"iat"` // seconds since 1970
	Subject  *Subject                   `json:"sub_id,omitempty"`
	Events   map[string]json.RawMessage `json:"events"`
}

// Audience is a text or a list of texts (RFC 7519 section 4.1.3).
type Audience []string

// UnmarshalJSON reads both forms.
func (a *Audience) UnmarshalJSON(text []byte) error {
	var one string
	if json.Unmarshal(text, &one) == nil {
		*a = Audience{one}
		return nil
	}
	return json.Unmarshal(text, (*[]string)(a))
}

// Request is what an event asks for.
type Request struct {
	// Directory and Entry are those that the cloud keeps with the person, as Origin.
	Directory string `json:"directory"`
	Entry     string `json:"entry"`
	By        string `json:"by"` // ByPerson or ByAdministrator
	// Expires is until when it may be begun, in seconds since 1970.
	Expires int64 `json:"expires"`
	// MustChange asks for a new password at the next sign-in.
	MustChange bool `json:"mustChange,omitempty"`
	// Envelope is a JWE whose plaintext is a Secret; absent from an unlock.
	Envelope json.RawMessage `json:"envelope,omitempty"`
}

// Who asks.
const (
	ByPerson        = "person"
	ByAdministrator = "administrator"
)

// Ask is a request with what it asks for.
type Ask struct {
	Act password.Act
	Request
}

// Asked reads the one event of a token that is about a password.
func (t Token) Asked() (Ask, error) {
	if len(t.Events) != 1 {
		return Ask{}, fmt.Errorf("the token holds %d events; it needs just one", len(t.Events))
	}
	name := slices.Collect(maps.Keys(t.Events))[0]
	act, known := Acts[name]
	if !known {
		return Ask{}, fmt.Errorf("the event %s is not known", name)
	}
	ask := Ask{Act: act}
	if err := json.Unmarshal(t.Events[name], &ask.Request); err != nil {
		return Ask{}, fmt.Errorf("the event %s: %w", name, err)
	}
	switch {
	case t.Subject == nil || t.Subject.Format != IssuerAndSubject || t.Subject.Subject == "":
		return Ask{}, fmt.Errorf("sub_id names nobody in the format %s", IssuerAndSubject)
	case t.Subject.Issuer != t.Issuer:
		return Ask{}, fmt.Errorf("sub_id is of another issuer, %s", t.Subject.Issuer)
	case ask.Directory == "" || ask.Entry == "":
		return Ask{}, fmt.Errorf("the event names no entry of a directory")
	case ask.Expires-t.IssuedAt > int64(LongestLife/time.Second):
		return Ask{}, fmt.Errorf("the event would be valid for more than %s", LongestLife)
	case act != password.Unlock && len(ask.Envelope) == 0:
		return Ask{}, fmt.Errorf("the event holds no envelope")
	}
	return ask, nil
}

// LongestLife is how long after it was issued an event may expire. It bounds how long a
// stolen token could be of use, and how late somebody could be surprised.
const LongestLife = time.Minute

// Binding is the additional authenticated data of an envelope, as JSON: what it may serve
// for and nothing else.
type Binding struct {
	ID        string       `json:"jti"`
	Person    string       `json:"person"`
	Directory string       `json:"directory"`
	Entry     string       `json:"entry"`
	Act       password.Act `json:"act"`
	Expires   int64        `json:"expires"`
}

// BindingOf is the one that an event's envelope must have.
func BindingOf(t Token, a Ask) Binding {
	return Binding{t.ID, t.Subject.Subject, a.Directory, a.Entry, a.Act, a.Expires}
}

// Secret is the plaintext of an envelope.
type Secret struct {
	Password string `json:"password"`
	Old      string `json:"old,omitempty"`
	// Padding makes all envelopes equally long, so that they do not tell how long a
	// password is.
	Padding string `json:"padding,omitempty"`
}

// DigestURN extends users by the digest of their password in a directory, sealed for the
// cloud's key: a text that is written and never read.
const DigestURN = "urn:kambrel.example:params:scim:schemas:extension:digest:1.0:User"

// DigestBinding is the additional authenticated data of a sealed digest: whose it is, and
// when it was made, so that an older one cannot be put back.
type DigestBinding struct {
	Directory string `json:"directory"`
	Entry     string `json:"entry"`
	Made      int64  `json:"made"` // microseconds since 1970
}

// Poll asks for tokens and answers for others (RFC 8936 section 2.2).
type Poll struct {
	MaxEvents         *int                 `json:"maxEvents,omitempty"`
	ReturnImmediately bool                 `json:"returnImmediately,omitempty"`
	Ack               []string             `json:"ack,omitempty"`
	SetErrs           map[string]SetFailed `json:"setErrs,omitempty"`
}

// SetFailed says that a token was not taken, or that what it asks was not done. Code is one
// of RFC 8935 section 2.4 or a password.Reason, and Description a sentence for the person.
type SetFailed struct {
	Code        string `json:"err"`
	Description string `json:"description"`
}

// Codes of tokens that are not taken (RFC 8935 section 2.4).
const (
	InvalidRequest       = "invalid_request"
	InvalidKey           = "invalid_key"
	InvalidIssuer        = "invalid_issuer"
	InvalidAudience      = "invalid_audience"
	AuthenticationFailed = "authentication_failed"
)

// Polled is what is there (RFC 8936 section 2.4).
type Polled struct {
	Sets          map[string]string `json:"sets"`
	MoreAvailable bool              `json:"moreAvailable,omitempty"`
}

// Transmitter is what /.well-known/ssf-configuration tells of a cloud (OpenID Shared
// Signals Framework 1.0 section 7.1).
type Transmitter struct {
	Issuer               string   `json:"issuer"`
	KeysURI              string   `json:"jwks_uri"`
	DeliveryMethods      []string `json:"delivery_methods_supported,omitempty"`
	ConfigurationURI     string   `json:"configuration_endpoint,omitempty"`
	VerificationURI      string   `json:"verification_endpoint,omitempty"`
	SpecificationVersion string   `json:"spec_version,omitempty"`
}

// Stream is the configuration of a stream (the same, section 8.1.1).
type Stream struct {
	ID        string   `json:"stream_id"`
	Issuer    string   `json:"iss"`
	Audience  Audience `json:"aud"`
	Delivered []string `json:"events_delivered,omitempty"`
	Requested []string `json:"events_requested,omitempty"`
	Delivery  struct {
		Method      string `json:"method"`
		EndpointURL string `json:"endpoint_url,omitempty"`
	} `json:"delivery"`
}

// Verify asks for a token that tries the stream (the same, section 8.1.4.2).
type Verify struct {
	StreamID string `json:"stream_id"`
	State    string `json:"state"`
}

// Extension schemas of SCIM (RFC 7643 section 3.3) that a cloud needs for passwords.
const (
	// OriginURN extends users by which entry of which directory they come from.
	OriginURN = password.OriginURN
	// KeySetURN is the schema of the keys for which passwords are sealed, a resource for
	// each directory.
	KeySetURN = "urn:kambrel.example:params:scim:schemas:core:1.0:KeySet"
)

// Statement is what an agent signs with the key of its identity, whose public half is in
// the header (jwk): that a key is its own, to seal for a directory. So nobody can put
// another key in its place, not even the service by which it reaches the cloud.
type Statement struct {
	Directory string          `json:"directory"`
	Agent     string          `json:"agent"`
	Key       json.RawMessage `json:"key"` // JWK (RFC 7517), of which kid is the thumbprint
	Made      int64           `json:"made"`
}
