package wire

import (
	"time"

	"kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/orders"
)

// Federation is how the people of a login domain sign in, and what that hangs on.
type Federation struct {
	Domain string `json:"domain"`
	// Offered is false where the cloud lets nobody set it by its interface.
	Offered   bool              `json:"offered"`
	Away      string            `json:"away,omitempty" doc:"Why the cloud could not be asked"`
	Cloud     *FederationCloud  `json:"cloud,omitempty" doc:"The cloud's side of SAML, as it gives it"`
	Provider  *IdentityProvider `json:"provider,omitempty" doc:"The identity provider, as its metadata is believed"`
	Offer     *IdentityProvider `json:"offer,omitempty" doc:"Metadata that was fetched since and is not believed"`
	Claims    signin.Claims     `json:"claims" doc:"What an assertion says of somebody"`
	Default   bool              `json:"default" doc:"Whether the claims are those that follow from the cloud's metadata"`
	SignOn    string            `json:"signOn" enum:"password,some,provider" doc:"What an operator has said"`
	People    []NamedResource   `json:"people" doc:"Who signs in at the provider, where some do"`
	Groups    []NamedResource   `json:"groups"`
	ChangedBy string            `json:"changedBy,omitempty"`
	ChangedAt *time.Time        `json:"changedAt,omitempty"`
	State     string            `json:"state" enum:"in-step,sending,failing,drifted" doc:"Whether the cloud has it so"`
	Detail    string            `json:"detail,omitempty" doc:"Why it has not"`
	SentAt    *time.Time        `json:"sentAt,omitempty"`
	Checks    []orders.Verdict  `json:"checks" doc:"What everybody's sign-in at the provider hangs on"`
	Tests     []SignInTest      `json:"tests" doc:"The newest first"`
}

// NamedResource is a resource of the cloud by name.
type NamedResource struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Login string `json:"login,omitempty"`
}

// FederationCloud is the cloud's side.
type FederationCloud struct {
	EntityID string          `json:"entityId"`
	Consumer string          `json:"consumer" doc:"Where assertions go"`
	Formats  []string        `json:"formats"`
	Wanted   []signin.Wanted `json:"wanted"`
	Metadata string          `json:"metadata" doc:"To give to the provider"`
}

// IdentityProvider is what is known of one.
type IdentityProvider struct {
	EntityID     string                `json:"entityId"`
	SignOn       string                `json:"signOn" doc:"Where people sign in"`
	Own          bool                  `json:"own" doc:"It is Kambrel's own"`
	Certificates []ProviderCertificate `json:"certificates"`
	SignedBy     string                `json:"signedBy,omitempty" doc:"The fingerprint of the certificate by which the metadata is signed"`
	Compare      string                `json:"compare" doc:"The fingerprint that is to be compared"`
	Fingerprint  string                `json:"fingerprint,omitempty" doc:"The one that somebody has compared"`
	Unsigned     bool                  `json:"unsigned"`
	URL          string                `json:"url,omitempty"`
	Fetched      *time.Time            `json:"fetched,omitempty"`
	FetchFailure string                `json:"fetchFailure,omitempty"`
	Verdicts     []orders.Verdict      `json:"verdicts"`
	Metadata     string                `json:"metadata,omitempty"`
}

// ProviderCertificate is one by which assertions are signed.
type ProviderCertificate struct {
	Fingerprint string    `json:"fingerprint"`
	Subject     string    `json:"subject"`
	From        time.Time `json:"from"`
	Until       time.Time `json:"until"`
}

// ProviderMetadata is metadata that somebody gives.
type ProviderMetadata struct {
	Metadata    string `json:"metadata,omitempty" maxLength:"600000" doc:"SAML 2.0 metadata"`
	URL         string `json:"url,omitempty" maxLength:"2000" doc:"Where to fetch it, now and from time to time"`
	Fingerprint string `json:"fingerprint,omitempty" maxLength:"200" doc:"SHA-256 of the certificate that was compared with what the provider's administrators say"`
	Unsigned    bool   `json:"unsigned,omitempty" doc:"Take metadata that is not signed"`
}

// TriedClaims is what an assertion would say of somebody.
type TriedClaims struct {
	Person NamedResource           `json:"person"`
	Said   signin.Said             `json:"said"`
	Fields []signin.AssertionField `json:"fields" doc:"Held against what the cloud knows of the person"`
}

// TryClaims asks for it.
type TryClaims struct {
	Person string         `json:"person" minLength:"1" maxLength:"1000" doc:"A login, a distinguished name or an id"`
	Claims *signin.Claims `json:"claims,omitempty" doc:"Other claims than those that are kept"`
}

// NewSignInTest begins a test of a sign-in.
type NewSignInTest struct {
	Person   string `json:"person" minLength:"1" maxLength:"1000" doc:"A login, a distinguished name or an id"`
	Response string `json:"response,omitempty" maxLength:"1200000" doc:"A response that a browser has sent, in Base64; none has the cloud try"`
}

// SignInTest is a sign-in that was tried.
type SignInTest struct {
	ID            int64                   `json:"id"`
	Person        NamedResource           `json:"person"`
	By            string                  `json:"by"`
	Began         time.Time               `json:"began"`
	URL           string                  `json:"url,omitempty" doc:"Where the person is to begin it with a browser"`
	Expires       *time.Time              `json:"expires,omitempty"`
	State         string                  `json:"state" enum:"waiting,ended,accepted,refused"`
	Answered      *time.Time              `json:"answered,omitempty"`
	CloudAccepted *bool                   `json:"cloudAccepted,omitempty" doc:"What the cloud said; none where it was not asked"`
	CloudReason   string                  `json:"cloudReason,omitempty"`
	Counts        bool                    `json:"counts" doc:"Whether it was of the provider and the claims as they are now"`
	Fields        []signin.AssertionField `json:"fields"`
}

// SwitchSignIn has people sign in another way.
type SwitchSignIn struct {
	SignOn string   `json:"signOn" enum:"password,some,provider"`
	People []string `json:"people,omitempty" maxItems:"100" doc:"Who, where some: logins, names or ids"`
	Groups []string `json:"groups,omitempty" maxItems:"20"`
}

// SwitchPreview is what a switch would do.
type SwitchPreview struct {
	Domain  string           `json:"domain"`
	SignOn  string           `json:"signOn" enum:"password,some,provider"`
	Text    []string         `json:"text" doc:"What it would do, in sentences"`
	Checks  []orders.Verdict `json:"checks" doc:"Nothing of it may be bad"`
	People  []NamedResource  `json:"people"`
	Groups  []NamedResource  `json:"groups"`
	Allowed bool             `json:"allowed"`
}

// Desktops is what desktops and browsers need so that people of a domain sign in.
type Desktops struct {
	Domain   string           `json:"domain"`
	Sections []signin.Section `json:"sections"`
}

// SignOnTrouble is what is wrong with how the people of a domain sign in.
type SignOnTrouble struct {
	Domain string `json:"domain"`
	Code   string `json:"code"`
	Detail string `json:"detail"`
}
