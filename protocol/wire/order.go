// Package wire holds the messages that cross Kambrel's own HTTP interface:
// between service and agent, and between service and its clients. They do nothing
// but say what is wrong with them.
package wire

import (
	"slices"

	"kambrel.example/kambrel/core/entry"
)

// Order is one piece of work for an agent. Orders are idempotent: one that was
// begun and not finished is simply done again.
type Order struct {
	ID         int64         `json:"id"`
	Kind       OrderKind     `json:"kind"`
	Directory  string        `json:"directory"`
	Dialect    entry.Dialect `json:"dialect"`
	Base       string        `json:"base"`
	Attributes []string      `json:"attributes"`
	// Pointers are those of the attributes by which entries name others; the
	// service keeps them with the answer.
	Pointers []string `json:"pointers,omitempty"`
	// Cookie is where the last read stopped; empty asks for everything.
	Cookie []byte `json:"cookie,omitempty"`
	// Features and Containers are what a probe tries rights for; Repairable are
	// the attributes that repairs write, by kind.
	Features   []entry.Feature         `json:"features,omitempty"`
	Containers []string                `json:"containers,omitempty"`
	Repairable map[entry.Kind][]string `json:"repairable,omitempty"`
	// Find is the name, login, address or id that a fetch looks for.
	Find string `json:"find,omitempty"`
	// Repairs are the values to write.
	Repairs []ValueChange `json:"repairs,omitempty"`
	Repair  int64         `json:"repair,omitempty"` // which repair they belong to
	// LeaseSeconds is how long the order stays this agent's without a word.
	LeaseSeconds int `json:"leaseSeconds"`
}

// OrderKind is what an order asks for.
type OrderKind string

// The kinds of orders.
const (
	OrderRead   OrderKind = "read"   // everything, or what changed since the cookie
	OrderProbe  OrderKind = "probe"  // try the connection step by step
	OrderRepair OrderKind = "repair" // write values
	OrderFetch  OrderKind = "fetch"  // entries of a name, whole
)

// ValueChange is one value to write; Number ties its result to it.
type ValueChange struct {
	Number    int      `json:"number"`
	EntryID   entry.ID `json:"entryId"`
	DN        string   `json:"dn"`
	Attribute string   `json:"attribute"`
	Before    string   `json:"before"`
	After     string   `json:"after"`
}

// Repaired is the result of one repair; Code is "" when it was done.
type Repaired struct {
	Number int    `json:"number"`
	Code   string `json:"code,omitempty"`
	Detail string `json:"detail,omitempty"`
}

// Verdict is the result of one step of a probe.
type Verdict struct {
	Step    string `json:"step" doc:"configuration, name, connect, tls, bind, base, read, changes, deleted-objects, clock or right"`
	Subject string `json:"subject,omitempty" doc:"The kind or feature that was tried"`
	Outcome string `json:"outcome" enum:"good,doubtful,bad,skipped"`
	Detail  string `json:"detail" doc:"What was found"`
	Advice  string `json:"advice,omitempty" doc:"What to do about it"`
}

// Line is one line of an agent's NDJSON answer; exactly one field is set. The
// last line is Done or Failed; an answer without either counts as broken off.
type Line struct {
	Entry   *entry.Entry `json:"entry,omitempty"`
	Gone    *entry.ID    `json:"gone,omitempty"`
	Present []entry.ID   `json:"present,omitempty"`
	Restart bool         `json:"restart,omitempty"`
	Alive   bool         `json:"alive,omitempty"` // keeps the lease while the directory is slow
	Done    *ReadDone    `json:"done,omitempty"`
	Failed  *Failure     `json:"failed,omitempty"`
	Verdict *Verdict     `json:"verdict,omitempty"`
	Repair  *Repaired    `json:"repaired,omitempty"`
}

// ReadDone ends an order that succeeded; for a read see directory.Result.
type ReadDone struct {
	Cookie   []byte `json:"cookie"`
	Complete bool   `json:"complete"`
}

// Failure ends an order that could not be done.
type Failure struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
}

// Hello is what an agent tells about itself when it starts.
type Hello struct {
	Version     string   `json:"version"`
	Host        string   `json:"host"`
	Directories []string `json:"directories"`
	Plain       []string `json:"plain" doc:"Those of them that it reaches by plain LDAP"`
}

// Check tells what is wrong with a hello, "" when nothing is.
func (h Hello) Check() string {
	switch {
	case len(h.Version) > 63, len(h.Host) > 255:
		return "the version has up to 63 bytes, and the host up to 255"
	case len(h.Directories) > 200, len(h.Plain) > 200:
		return "an agent serves up to 200 directories"
	}
	for _, name := range append(slices.Clone(h.Directories), h.Plain...) {
		if name == "" || len(name) > 63 {
			return "the name of a directory has up to 63 bytes"
		}
	}
	return ""
}

// EnrolRequest exchanges a one-time code for an identity. PublicKey is a JWK
// (RFC 7517) of an Ed25519 key; the private half never leaves the agent.
type EnrolRequest struct {
	Code      string `json:"code" minLength:"1" maxLength:"200"`
	Name      string `json:"name" minLength:"1" maxLength:"63"`
	Host      string `json:"host" maxLength:"255"`
	PublicKey string `json:"publicKey" maxLength:"1000"`
}

// EnrolResponse tells the agent who it is.
type EnrolResponse struct {
	AgentID string `json:"agentId"`
}
