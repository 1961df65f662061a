// Package federation is what a cloud and Kambrel say to each other about how the people of a
// login domain sign in: an extension of the cloud's resource for a domain (RFC 7643 section 3.3),
// and a resource by which a sign-in is tried before anybody depends on it.
package federation

import "time"

// URN extends a domain by how its people sign in.
const URN = "urn:kambrel.example:params:scim:schemas:extension:federation:1.0:Domain"

// TestURN is the schema of a sign-in that is tried.
const TestURN = "urn:kambrel.example:params:scim:schemas:core:1.0:SignInTest"

// SignOn is how the people of a domain sign in.
type SignOn string

// The ways.
const (
	// ByPassword is with what the cloud has: a digest, or a password of its own.
	ByPassword SignOn = "password"
	// BySome is at the identity provider for those who are named, and by password for others.
	BySome SignOn = "some"
	// ByProvider is at the identity provider for everybody of the domain.
	ByProvider SignOn = "provider"
)

// Domain is how the people of a domain sign in.
type Domain struct {
	// Metadata is the cloud's own (SAML 2.0 metadata, section 2.4.4); the cloud alone sets it.
	Metadata string `json:"metadata,omitempty"`
	SignOn   SignOn `json:"signOn"`
	// Provider is the metadata of the identity provider, "" while there is none.
	Provider string `json:"provider,omitempty"`
	// People and Groups are the ids of who signs in there, where it is some.
	People []string `json:"people,omitempty"`
	Groups []string `json:"groups,omitempty"`
}

// Test is a sign-in of one person that is tried: the cloud takes what comes of it for no session.
type Test struct {
	Schemas  []string `json:"schemas"`
	ID       string   `json:"id,omitempty"`
	Domain   string   `json:"domain"`
	Person   string   `json:"person"`   // the id
	Metadata string   `json:"provider"` // the provider's, which need not be that of the domain
	// What the cloud sets: where the person is to go with a browser, until when, the id of its
	// request, and then what came.
	URL      string    `json:"url,omitempty"`
	Expires  time.Time `json:"expires,omitzero"`
	Request  string    `json:"request,omitempty"`
	Answered time.Time `json:"answered,omitzero"`
	Response string    `json:"response,omitempty"` // as it came, in Base64
	Accepted bool      `json:"accepted,omitempty"`
	Reason   string    `json:"reason,omitempty"` // why it was not
}
