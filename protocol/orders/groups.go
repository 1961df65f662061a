package orders

import (
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Groups asks to write groups of the cloud into one container. Whatever was done already
// is found done. The answer is of GroupWritten lines, one for each change.
type Groups struct {
	Container string `json:"container"`
	Mark      string `json:"mark"`   // the attribute that bears the id of a group
	Class     string `json:"class"`  // the object class of a new one
	Member    string `json:"member"` // the attribute that holds members
	// Attributes are read back of an entry that was made.
	Attributes []string      `json:"attributes"`
	Changes    []GroupChange `json:"changes"`
}

// GroupOperation is what is done to one group.
type GroupOperation string

// The operations.
const (
	// GroupMake makes an entry, or takes the one in the container that bears the group's
	// id; then it is as GroupChange says.
	GroupMake   GroupOperation = "make"
	GroupUpdate GroupOperation = "update"
	GroupDelete GroupOperation = "delete" // only one that bears the group's id
)

// GroupChange is what is done to one group; Number ties its result to it.
type GroupChange struct {
	Number    int64          `json:"number"`
	Operation GroupOperation `json:"operation"`
	Group     string         `json:"group"` // the id that the entry bears
	EntryID   entry.ID       `json:"entryId"`
	// DN is what it shall be called, "" to leave that.
	DN string `json:"dn,omitempty"`
	// Values are whole attributes; of none, the attribute is taken away.
	Values entry.Attributes `json:"values,omitempty"`
	// Placeholder is the only member of a new group whose class needs one.
	Placeholder string   `json:"placeholder,omitempty"`
	Add         []string `json:"add,omitempty"` // members by distinguished name
	Remove      []string `json:"remove,omitempty"`
	// Drift asks who has changed the entry last, before it is written.
	Drift bool `json:"drift,omitempty"`
}

// GroupWritten is the result of one change; Code is "" when all of it was done.
type GroupWritten struct {
	Number int64 `json:"number"`
	// Entry is the group as it was made.
	Entry *entry.Entry `json:"entry,omitempty"`
	DN    string       `json:"dn,omitempty"` // what it is called now
	SID   string       `json:"sid,omitempty"`
	// By and At tell who has changed it last before, as far as the directory does.
	By      string          `json:"by,omitempty"`
	At      *time.Time      `json:"at,omitempty"`
	Refused []RefusedMember `json:"refused,omitempty"`
	Code    string          `json:"code,omitempty"`
	Detail  string          `json:"detail,omitempty"`
}

// RefusedMember is a member that the directory did not add, or did not remove.
type RefusedMember struct {
	DN     string `json:"dn"`
	Code   string `json:"code"`
	Detail string `json:"detail"`
}
