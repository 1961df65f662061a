package decide

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
)

// Case is one entry to decide about, with its link and the resource that it has.
type Case struct {
	Entry entry.Entry
	// Lookup: a creation may have been sent already, so the cloud is asked first.
	Lookup bool
	// Link is nil when there is none; LinkKey is what the resource bears then.
	Link    *plan.Link
	LinkKey string
	// LeftAt is when the leaver policy was carried out.
	LeftAt *time.Time
	// Resource is the linked one, nil when the cloud no longer has it.
	Resource entry.Resource
	Forms    change.Forms // of the resource
	// Kept is what operators have kept of it, and Pins what they have put back.
	Kept []Kept
	Pins []Pin
}

// Facts answers what decisions ask about others. An answer covers just what was
// asked for; what is not in it is not there. Implementations need not be safe for
// concurrent use. They return errors of their own, which Decide wraps.
type Facts interface {
	// FillGroups gives entries the groups that hold them, through others too.
	FillGroups(ctx context.Context, entries []*entry.Entry) error
	// Kin tells of entries whom they follow or who follows them.
	Kin(ctx context.Context, refs []entry.Ref) (map[entry.Ref]Kin, error)
	// Formers finds for entries those of their directory, kind and name that were
	// deleted; Heirs finds for deleted ones those that are there without a link.
	Formers(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]Former, error)
	Heirs(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]Former, error)
	// Holders finds resources by match.Key texts; FreeHolders only those that
	// bear no link key.
	Holders(ctx context.Context, keys []string) (map[string][]Holder, error)
	FreeHolders(ctx context.Context, keys []string) (map[string][]Holder, error)
	// Chosen tells what was decided by hand.
	Chosen(ctx context.Context, refs []entry.Ref) (map[entry.Ref]Chosen, error)
	// Claim ends the claims of refs, then gives out the claims in their order, and
	// returns by key who holds those that were taken.
	Claim(ctx context.Context, refs []entry.Ref, claims []Claim) (map[string]Claimant, error)
	// Unclaim ends the claims of entries that could not be planned.
	Unclaim(ctx context.Context, refs []entry.Ref) error
}

// Kin is what an entry is part of: whom it follows, or who follows it.
type Kin struct {
	Follows   *Following
	Followers []Follower
}

// Following says which entry leads the person that an entry belongs to; with a
// Problem it cannot be told.
type Following struct {
	Lead    entry.Ref
	LeadDN  string
	Rule    string
	Problem *problem.Error
}

// Code is why it cannot be told, "" when it can.
func (f Following) Code() problem.Code {
	if f.Problem == nil {
		return ""
	}
	return f.Problem.Code
}

// Follower is an entry that lends its values to the one that leads.
type Follower struct {
	Entry entry.Entry
	Rule  string
}

// Former is an entry that may be another one under a former id, with its link
// key where it still has a link.
type Former struct {
	Entry   entry.Entry
	LinkKey string // "" without a link
}

// Holder is a resource that was found by a key, and to whom it is linked.
type Holder struct {
	Resource entry.Resource
	Kind     entry.Kind
	Key      string
	// Of the entry that it is linked to; Ref is zero without a link.
	Ref      entry.Ref
	LinkedDN string
	Left     bool // that entry has left the scope, or was deleted
	Gone     bool // that entry was deleted
}

// Linked tells whether the resource belongs to an entry.
func (h Holder) Linked() bool { return h.Ref != entry.Ref{} }

// owner is the entry that the resource belongs to, nil when it is free.
func (h Holder) owner() *problem.Entry {
	if h.LinkedDN == "" {
		return nil
	}
	owner := problem.EntryOf(h.Ref, h.LinkedDN)
	owner.Gone = h.Gone
	return &owner
}

// Choice is what an operator can decide about an entry.
type Choice string

// The choices.
const (
	ChooseLink   Choice = "link"   // to the resource, whatever the match rules say
	ChooseCreate Choice = "create" // although somebody looks like the same person
	ChooseHold   Choice = "hold"   // no resource until something else is decided
	ChooseMerge  Choice = "merge"  // the resource that it has is deleted, and the other linked
)

// Chosen is what an operator has decided about an entry; the zero value says
// nothing.
type Chosen struct {
	Choice     Choice
	ResourceID string
	By         string
	// Resource is that of the mirror, nil when the cloud no longer has it; Owner
	// is the entry that it is linked to, "" when it is free.
	Resource entry.Resource
	OwnerRef entry.Ref
	Owner    string
}

// Claim is a unique value that an entry wants.
type Claim struct {
	Ref entry.Ref
	Key string
}

// Claimant is who holds a claimed value.
type Claimant struct {
	Ref   entry.Ref
	DN    string
	Dirty bool // the plan has still to look at the holder
}
