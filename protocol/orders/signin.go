package orders

import (
	"encoding/json"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
)

// SignIn asks whether somebody is who they say, and which of some groups they belong to.
// One of the two names them.
type SignIn struct {
	Name  string    `json:"name,omitempty"`  // as typed: the login
	Entry *entry.ID `json:"entry,omitempty"` // who is known: with no password, whether all is still so
	// Ticket says that somebody else has proved who has the name (Kerberos), so that no password
	// is there.
	Ticket bool `json:"ticket,omitempty"`
	// Groups are those asked about.
	Groups []entry.ID `json:"groups"`
	// Sealed is the password, a JWE for the keys of the agents that may take the order, bound
	// to what it may serve for.
	Sealed json.RawMessage `json:"sealed,omitempty"`
}

// SignInBinding is the additional authenticated data of a sealed password, as JSON.
type SignInBinding struct {
	Use       string `json:"use"` // SignInUse
	Directory string `json:"directory"`
	Name      string `json:"name"`            // as typed
	Entry     string `json:"entry,omitempty"` // or the id of who is known
	Expires   int64  `json:"expires"`         // seconds since 1970
}

// SignInUse says that a password is sealed for signing in, and for nothing else.
const SignInUse = "sign-in"

// SignedIn is what became of it.
type SignedIn struct {
	Standing password.Standing `json:"standing"`
	// Proven says that the password was tried at the directory. An agent from before there were
	// passwords of known people does not say so, and then nothing was tried.
	Proven bool   `json:"proven,omitempty"`
	Detail string `json:"detail,omitempty"` // for operators
	// Who it is, of whoever stands well.
	Entry  entry.ID   `json:"entry,omitzero"`
	Login  string     `json:"login,omitempty"`
	Groups []entry.ID `json:"groups,omitempty"` // of those asked about, to which they belong, also through others
}

// signInLease is how long an agent may be at it without a word: somebody waits.
const signInLease = 5 * time.Second
