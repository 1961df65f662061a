package decide

import (
	"slices"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
)

// Outcome is what was decided about one case, with everything that it followed
// from.
type Outcome struct {
	Case
	Kin     Kin
	Verdict scope.Verdict
	// Written: entries of its kind go to the cloud.
	Written bool
	Desired rules.Desired
	Match   match.Decision
	plan.Decision
	// Waits: somebody who is still to be planned holds a value that it wants, so
	// that it is decided about again at the end of the plan.
	Waits bool
	// Lapsed is what operators have kept and what nothing would take away any more.
	Lapsed []Kept
	// LapsedPins are those that rules and scope agree with, so that nothing is to be held.
	LapsedPins []Pin

	pinned  pins   // what is held against rules or scope
	kept    []Kept // what else would have been taken away
	subject plan.Subject
	chosen  Chosen
	claims  []plan.Claim
	keys    []match.Key // by what its resource may be found
	near    []match.Key // by what somebody else in the cloud may be the same person
	formers []Former    // what the entry was, see match.Returned
}

// Ref names the entry.
func (o *Outcome) Ref() entry.Ref { return o.Case.Entry.Ref() }

// Unmatched tells whether the entry needs matching.
func (o *Outcome) Unmatched() bool {
	return o.Written && o.Verdict.In && o.Case.Link == nil && o.Kin.Follows == nil
}

// Former is the former id of the entry under which the resource that was found
// is linked, nil when it is linked to nobody.
func (o *Outcome) Former() *Former {
	if !o.Unmatched() || o.Match.Action != match.Relink {
		return nil
	}
	for i, former := range o.formers {
		if key := o.Match.Resource.ExternalID(); former.LinkKey != "" && (key == "" || key == former.LinkKey) {
			return &o.formers[i]
		}
	}
	return nil
}

// Again tells whether the entry is to be decided about once more in this plan,
// since its link led nowhere and something else was decided by hand.
func (o *Outcome) Again() bool { return o.Code == plan.Unlinked && o.chosen.Choice != "" }

// Linked is the resource that the entry is linked to, or will be without a change of it;
// nil without.
func (o *Outcome) Linked() entry.Resource {
	if o.Unmatched() && o.Match.Action == match.Relink {
		return o.Match.Resource
	}
	return o.Case.Resource
}

// LinkedID is the id of the resource that the entry is linked to, "" without.
func (o *Outcome) LinkedID() string {
	if o.Case.Link != nil {
		return o.Case.Link.ResourceID
	}
	return ""
}

// Name is what people call the object.
func (o *Outcome) Name() string {
	for _, target := range []string{"userName", "displayName"} {
		if name := o.Desired.Text(target); name != "" {
			return name
		}
	}
	if o.Case.Resource != nil {
		return o.Case.Resource.Name()
	}
	return o.Case.Entry.Name()
}

// sends tells whether the decision gives the resource a value that must be
// unique and that it did not have.
func (o *Outcome) sends(claim plan.Claim) bool {
	return !o.Waits && slices.ContainsFunc(o.Diffs, func(d change.Diff) bool {
		path, err := entry.ParsePath(d.Target)
		return err == nil && path.Key() == claim.Attribute && change.Same(d.After, claim.Value)
	})
}

// was tells whether a resource is that of the entry under its former id.
func (o *Outcome) was(h Holder) bool {
	return slices.ContainsFunc(o.formers, func(f Former) bool { return h.Ref == f.Entry.Ref() })
}

// likeness is by what somebody in the cloud may be the same person as one for
// whom an account is about to be made.
func (o *Outcome) likeness() []match.Key {
	if o.Operation != plan.Create || o.Case.Entry.Kind != entry.User || o.Case.Link != nil {
		return nil
	}
	resource, err := change.NewResource(o.Diffs)
	if err != nil {
		return nil
	}
	return match.LikenessOf(resource).Keys()
}

// alike finds resources that nobody owns and that look like the same person.
func (o *Outcome) alike(holders map[string][]Holder) []match.Alike {
	var found []match.Alike
	for _, key := range o.near {
		for _, holder := range holders[key.Text()] {
			free := holder.Kind == entry.User && !holder.Linked() && holder.Resource.ExternalID() == ""
			if free && !slices.ContainsFunc(found, func(a match.Alike) bool { return a.Resource.ID() == holder.Resource.ID() }) {
				found = append(found, match.Alike{Resource: holder.Resource, Key: key})
			}
		}
	}
	return found
}

// Rule is the match rule by which a resource is adopted, or who chose it by hand.
func (o *Outcome) Rule() string {
	if o.Operation != plan.Adopt {
		return ""
	}
	return o.Match.Rule
}

func refsOf(outcomes []*Outcome) []entry.Ref {
	refs := make([]entry.Ref, len(outcomes))
	for i, o := range outcomes {
		refs[i] = o.Ref()
	}
	return refs
}
