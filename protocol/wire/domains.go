package wire

// Whether the cloud has verified a login domain.
const (
	DomainVerified   = "verified"
	DomainUnverified = "unverified"
	DomainUnknown    = "unknown" // neither the cloud nor the settings tell
)

// LoginDomains are all login domains: those that the cloud lists or the settings name, and those in
// which people have logins or would have.
type LoginDomains struct {
	Items  []LoginDomain `json:"items"`
	From   string        `json:"from" enum:"cloud,settings," doc:"Who tells which are verified; none where nobody does"`
	Looked int           `json:"looked" doc:"At how many people it was looked; fewer than of where the counts are estimated"`
	Of     int           `json:"of" doc:"How many people the cloud has"`
	Away   string        `json:"away,omitempty" doc:"Why the cloud could not be asked"`
}

// LoginDomain is a login domain.
type LoginDomain struct {
	Name         string `json:"name" doc:"Empty for logins without a domain"`
	Verified     string `json:"verified" enum:"verified,unverified,unknown"`
	Verification string `json:"verification,omitempty" doc:"How somebody proves to have it, in the cloud's words"`
	People       int    `json:"people" doc:"With a login in it, in the cloud"`
	Active       int    `json:"active" doc:"Of these: not suspended"`
	Linked       int    `json:"linked" doc:"Of these: linked to an entry that takes part"`
	Digests      int    `json:"digests" doc:"Of the linked: who sign in with the directory's password, by a digest"`
	SignOn       string `json:"signOn" enum:"password,some,provider" doc:"Whether its people sign in with a password, or some or all at an identity provider, as an operator has said"`
	Waiting      int    `json:"waiting" doc:"Entries whose login would end in it, and that are not sent because it is not verified"`
}
