package wire

import (
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
)

// NewDecision is what an operator wants done about one entry.
type NewDecision struct {
	Entry    string `json:"entry" minLength:"1" maxLength:"1000" doc:"Id, distinguished name, login or address"`
	Action   string `json:"action" enum:"link,merge,take-over,swap,hold,create,forget,keep,return" doc:"link it to a resource; merge: remove the resource that it has and link another; take-over: link the resource of another entry, which gets none; swap: exchange the resources of two entries; hold: unlink it and wait; create an account although somebody looks alike; forget what was decided by hand; of somebody who has left, keep the resource from its deletion, or let it return into the sync"`
	Resource string `json:"resource,omitempty" maxLength:"1000" doc:"Id or login of the resource to link"`
	Do       bool   `json:"do,omitempty" doc:"Without, only what would be done is told"`
}

// DecidedOther is what a swap does to the other entry.
type DecidedOther struct {
	Entry      string        `json:"entry" doc:"Distinguished name"`
	ResourceID string        `json:"resourceId" doc:"The resource that it gets"`
	Operation  string        `json:"operation,omitempty"`
	Diffs      []change.Diff `json:"diffs"`
}

// Decided is what a decision does.
type Decided struct {
	Entry      string        `json:"entry" doc:"Distinguished name"`
	EntryID    string        `json:"entryId"`
	Kind       string        `json:"kind"`
	ResourceID string        `json:"resourceId,omitempty"`
	Resource   string        `json:"resource,omitempty" doc:"What people call it"`
	Removes    string        `json:"removes,omitempty" doc:"The id of the resource that is deleted"`
	Summary    string        `json:"summary"`
	Operation  string        `json:"operation,omitempty" doc:"What the run that carries it out does to the resource, as planned now"`
	Code       string        `json:"code,omitempty" doc:"The problem that would stand in the way"`
	Warnings   []string      `json:"warnings,omitempty"`
	Diffs      []change.Diff `json:"diffs" doc:"What changes in the resource"`
	Other      *DecidedOther `json:"other,omitempty" doc:"Of a swap, what becomes of the other entry's"`
	Done       bool          `json:"done"`
	RunID      int64         `json:"runId,omitempty" doc:"The run that carries it out"`
}

// NewTrial asks for the whole way of one entry.
type NewTrial struct {
	Text  string `json:"text" minLength:"1" maxLength:"1000" doc:"Id, distinguished name, login or address"`
	Write bool   `json:"write,omitempty" doc:"Write what is planned, for this entry alone"`
}

// Trial is the way of one entry up to the plan; the run tells the rest.
type Trial struct {
	EntryID string        `json:"entryId"`
	DN      string        `json:"dn"`
	Steps   []reason.Node `json:"steps"`
	RunID   int64         `json:"runId"`
}

// Outcome counts what a rehearsal of everybody came to.
type Outcome struct {
	Kind    string `json:"kind" enum:"user,group,contact"`
	Outcome string `json:"outcome" doc:"linked, create, adopt, update, restore, suspend, delete, unclaimed, or the code of a problem"`
	Rule    string `json:"rule,omitempty" doc:"The match rule that adopts"`
	Count   int    `json:"count"`
}

// Forecast is what would become of everybody.
type Forecast struct {
	Run      Run       `json:"run"`
	Outcomes []Outcome `json:"outcomes"`
}

// CloudOnly is a resource that no entry claims.
type CloudOnly struct {
	ID     string `json:"id"`
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Login  string `json:"login,omitempty"`
	Active bool   `json:"active"`
}

// TryFormula works a formula out on an entry or on typed values.
type TryFormula struct {
	Formula    string              `json:"formula" maxLength:"10000"`
	Entry      string              `json:"entry,omitempty" maxLength:"1000" doc:"Id, distinguished name, login or address; empty for typed values"`
	Attributes map[string][]string `json:"attributes,omitempty" doc:"Typed values"`
	Groups     []string            `json:"groups,omitempty"`
	DN         string              `json:"dn,omitempty"`
	// Over says what the formula reads; Entry then names a group of the cloud.
	Over string `json:"over,omitempty" enum:"entry,resource" doc:"entry, or resource for the rules of cloud groups: then entry is the id or the name of a group in the cloud"`
}

// TriedFormula is what a formula gives, or what is wrong with it.
type TriedFormula struct {
	Faults     []problem.Fault     `json:"faults"`
	Value      string              `json:"value,omitempty"`
	Error      string              `json:"error,omitempty" doc:"Why it fails on this entry"`
	Parts      []reason.Node       `json:"parts" doc:"The value of every part of the formula"`
	Reads      []string            `json:"reads" doc:"The directory attributes that it reads"`
	DN         string              `json:"dn,omitempty"`
	Attributes map[string][]string `json:"attributes,omitempty" doc:"The values that it was worked out on"`
}

// FormulaFunction is one line of the library of formulas.
type FormulaFunction struct {
	Name    string `json:"name"`
	Does    string `json:"does"`
	Example string `json:"example"`
	Gives   string `json:"gives"`
}
