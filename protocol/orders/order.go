// Package orders is what a service asks of its agents and what they answer: a file
// for each kind of order, with its request and the lines of its answer. An order
// goes to one agent as JSON, and its answer comes as a stream of lines of JSON
// (NDJSON), the last of which says how it ended.
package orders

import (
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Order is one piece of work for an agent at one directory. Orders are idempotent:
// one that was begun and not finished is simply done again.
type Order struct {
	ID        int64         `json:"id"`
	Directory string        `json:"directory"`
	Dialect   entry.Dialect `json:"dialect"`
	Base      string        `json:"base"`
	// LeaseSeconds is how long the order stays this agent's without a word.
	LeaseSeconds int `json:"leaseSeconds"`

	// Just one of these is set; it is what is asked, and the kind.
	Read   *Read   `json:"read,omitempty"`
	Fetch  *Fetch  `json:"fetch,omitempty"`
	Probe  *Probe  `json:"probe,omitempty"`
	Repair *Repair `json:"repair,omitempty"`
	Search *Search `json:"search,omitempty"`

	Password *Password `json:"password,omitempty"`
	Digest   *Digest   `json:"digest,omitempty"`
	Groups   *Groups   `json:"groups,omitempty"`
	SignIn   *SignIn   `json:"signIn,omitempty"`
}

// Kind is what an order asks for.
type Kind string

// The kinds.
const (
	KindRead   Kind = "read"
	KindFetch  Kind = "fetch"
	KindProbe  Kind = "probe"
	KindRepair Kind = "repair"
	KindSearch Kind = "search"

	KindPassword Kind = "password"
	KindDigest   Kind = "digest"
	KindGroups   Kind = "groups"
	KindSignIn   Kind = "sign-in"
)

// Kind is that of the request, "" when there is none, as from a newer service.
func (o Order) Kind() Kind {
	switch {
	case o.Read != nil:
		return KindRead
	case o.Fetch != nil:
		return KindFetch
	case o.Probe != nil:
		return KindProbe
	case o.Repair != nil:
		return KindRepair
	case o.Search != nil:
		return KindSearch
	case o.Password != nil:
		return KindPassword
	case o.Digest != nil:
		return KindDigest
	case o.Groups != nil:
		return KindGroups
	case o.SignIn != nil:
		return KindSignIn
	}
	return ""
}

// Priority is the order in which what waits is taken, the lowest first: somebody
// waits before the screen for a probe, a fetch and a search.
func (k Kind) Priority() int {
	switch k {
	case KindPassword, KindSignIn:
		return 0
	case KindProbe:
		return 1
	case KindFetch, KindSearch:
		return 2
	case KindRepair, KindGroups:
		return 3
	}
	return 4
}

// Slow tells kinds that may take minutes. An agent keeps a hand free of them, so
// that two long reads never make a probe wait.
func (k Kind) Slow() bool { return k == KindRead || k == KindDigest || k == KindGroups }

// Erases tells kinds of which the service forgets what was asked once they have
// ended: they carry what is kept nowhere else, or in a better place.
func (k Kind) Erases() bool {
	return k == KindRepair || k == KindPassword || k == KindGroups || k == KindSignIn
}

// Lease is how long an order stays an agent's without a word, where others stay for usual.
func (k Kind) Lease(usual time.Duration) time.Duration {
	switch k {
	case KindPassword:
		return min(usual, passwordLease)
	case KindSignIn:
		return min(usual, signInLease)
	}
	return usual
}

// Line is one line of an answer; just one field is set. The last line is Done or
// Failed; an answer without either counts as broken off.
type Line struct {
	// Of a read and a fetch.
	Entry   *entry.Entry `json:"entry,omitempty"`
	Gone    *entry.ID    `json:"gone,omitempty"`
	Present []entry.ID   `json:"present,omitempty"`
	Restart bool         `json:"restart,omitempty"`
	Hidden  string       `json:"hidden,omitempty"`
	Check   CheckMark    `json:"check,omitempty"`
	Schema  entry.Schema `json:"schema,omitempty"`
	// Of a probe, and of a repair.
	Verdict  *Verdict  `json:"verdict,omitempty"`
	Repaired *Repaired `json:"repaired,omitempty"`
	// Of a password.
	Password *PasswordDone `json:"password,omitempty"`
	// Of digests.
	Digest *Digested `json:"digest,omitempty"`
	// Of groups.
	Group *GroupWritten `json:"group,omitempty"`
	// Of a sign-in.
	SignedIn *SignedIn `json:"signedIn,omitempty"`
	// Of all.
	Alive  bool     `json:"alive,omitempty"` // keeps the lease while the directory is slow
	Done   *Done    `json:"done,omitempty"`
	Failed *Failure `json:"failed,omitempty"`
}

// CheckMark stands before and after what a cross-check finds.
type CheckMark string

// The marks.
const (
	CheckBegins CheckMark = "begin"
	CheckEnds   CheckMark = "end"
)

// Done ends an order that was carried out; what it holds is of a read, see
// directory.Result.
type Done struct {
	Cookie   []byte `json:"cookie,omitempty"`
	Complete bool   `json:"complete,omitempty"`
}

// Failure ends an order that could not be carried out.
type Failure struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
}
