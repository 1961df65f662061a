package orders

import "kambrel.example/kambrel/core/entry"

// Repair asks to write values, each only where the directory still has the one
// before. The answer is of Repaired lines.
type Repair struct {
	Number int64         `json:"number"` // which repair the values belong to
	Values []ValueChange `json:"values"`
}

// ValueChange is one value to write; Number ties its result to it.
type ValueChange struct {
	Number    int      `json:"number"`
	EntryID   entry.ID `json:"entryId"`
	DN        string   `json:"dn"`
	Attribute string   `json:"attribute"`
	Before    string   `json:"before"`
	After     string   `json:"after"`
}

// Repaired is the result of one value; Code is "" when it was written.
type Repaired struct {
	Number int    `json:"number"`
	Code   string `json:"code,omitempty"`
	Detail string `json:"detail,omitempty"`
}
