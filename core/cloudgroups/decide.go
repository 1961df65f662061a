package cloudgroups

import (
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
)

// DN stands in the place of an attribute where an entry is renamed or moved.
const DN = "dn"

// Link is what is known of a group that was made in a directory, or given to the cloud.
type Link struct {
	EntryID entry.ID
	// Written is what the entry was last given, by attribute, with its name at DN.
	Written entry.Attributes
	// Left: it is no longer kept, and goes when it is Due.
	Left bool
	Due  *time.Time
	// Forgone: it was deleted in the directory, and somebody has said that it stays so.
	Forgone bool
	// Stays: it is no longer kept, and somebody has said that it does not go.
	Stays bool
}

// Subject is everything a decision is made from.
type Subject struct {
	Group entry.Resource // nil when the cloud has it no more
	Owner string         // the name of the entry that it comes from, if a directory owns it
	Link  *Link
	// Entry is what the mirror has, nil when it was not read yet.
	Entry *entry.Entry
	// Holder has a name that the group wants, nil when it is free.
	Holder *problem.Entry
	// Hidden are attributes of which nothing can be seen in the directory.
	Hidden []string
	// Tried: it is written for a trial, chosen or not.
	Tried bool
	Now   time.Time
}

// Decision is what is to be done about one group, its members apart.
type Decision struct {
	Verdict   Verdict
	Wanted    Wanted
	Code      plan.Code
	Operation plan.Operation // "" when nothing is sent
	Diffs     []change.Diff
	// Drift are the diffs that put back what somebody has changed in the directory.
	Drift   []change.Diff
	Problem *problem.Error
	Due     *time.Time // when it goes
	// Again: it was deleted in the directory, and would be made with another identity.
	Again bool
	// Members tells whether its members are kept.
	Members bool
}

// Forgone is the code of a group that was deleted in the directory and is to stay so.
const Forgone plan.Code = "forgone"

// Decide compares and decides.
func (k *Keeping) Decide(s Subject) Decision {
	d := Decision{Verdict: k.Chosen(s.Group, s.Owner, s.Link != nil)}
	gone := s.Entry != nil && s.Entry.Gone
	if !d.Verdict.In && (!s.Tried || s.Group == nil || s.Owner != "") {
		return k.decideOut(d, s, gone)
	}
	d.Wanted = k.Want(s.Group)
	switch {
	case d.Wanted.Problem != nil:
		d.Problem = d.Wanted.Problem
	case s.Holder != nil:
		d.Problem = problem.Of(problem.CloudGroupNameTaken, problem.Facts{Value: d.Wanted.DN, Entries: []problem.Entry{*s.Holder}})
	}
	switch {
	case s.Link == nil && d.Problem != nil:
		d.Code = plan.Blocked
		return d
	case s.Link == nil:
		return d.create()
	case gone && s.Link.Forgone:
		d.Code = Forgone
		return d
	case gone && d.Problem != nil:
		d.Code = plan.Blocked
		return d
	case gone:
		d.Again = true
		return d.create()
	}
	d.Members, d.Code = true, plan.InStep
	if s.Entry != nil {
		d.compare(k, s)
	}
	switch {
	case s.Link.Left:
		d.Operation, d.Code = plan.Restore, plan.Code(plan.Restore)
	case len(d.Diffs) > 0:
		d.Operation, d.Code = plan.Update, plan.Code(plan.Update)
	case d.Problem != nil:
		d.Code = plan.Blocked
	}
	return d
}

func (k *Keeping) decideOut(d Decision, s Subject, gone bool) Decision {
	source := "leaver policy " + string(k.Leavers) + "; " + d.Verdict.Summary
	switch {
	case s.Link == nil:
		d.Code = plan.OutSide
	case gone:
		d.Code = plan.Unlinked
	case k.Leavers == "keep", s.Link.Stays:
		d.Code = plan.Left
	case s.Link.Due == nil:
		due := s.Now.Add(k.GraceTime())
		d.Code, d.Operation, d.Due = plan.Code(plan.Leave), plan.Leave, &due
		d.Diffs = []change.Diff{{Target: plan.Deletion, After: due.UTC().Format(time.DateOnly), Source: source}}
	case s.Now.Before(*s.Link.Due):
		d.Code, d.Due = plan.Left, s.Link.Due
	default:
		d.Code, d.Operation, d.Due = plan.Code(plan.Delete), plan.Delete, s.Link.Due
		d.Diffs = []change.Diff{{Target: DN, Before: nameOf(s), Source: "the grace time is over; " + source}}
	}
	return d
}

func nameOf(s Subject) string {
	if s.Entry != nil {
		return s.Entry.DN
	}
	return s.Link.Written.First(DN)
}

func (d Decision) create() Decision {
	d.Code, d.Operation, d.Members = plan.Code(plan.Create), plan.Create, true
	d.Diffs = []change.Diff{{Target: DN, After: d.Wanted.DN, Source: "the container and the rule for cn"}}
	for _, v := range d.Wanted.Values {
		if len(v.Values) > 0 {
			d.Diffs = append(d.Diffs, change.Diff{Target: v.Attribute, After: shown(v.Values), Source: v.Source})
		}
	}
	return d
}

// compare finds what differs between the entry and what it shall be.
func (d *Decision) compare(k *Keeping, s Subject) {
	if !slices.ContainsFunc(s.Entry.Attributes.All("objectClass"), func(c string) bool { return strings.EqualFold(c, k.ObjectClass()) }) && len(s.Entry.Attributes.All("objectClass")) > 0 {
		d.Problem = problem.Of(problem.CloudGroupClass, problem.Facts{Value: k.ObjectClass(), Names: s.Entry.Attributes.All("objectClass")})
		return
	}
	note := func(diff change.Diff, wanted []string) {
		d.Diffs = append(d.Diffs, diff)
		if written, known := find(s.Link.Written, diff.Target); known && sameValues(written, wanted) {
			d.Drift = append(d.Drift, diff)
		}
	}
	if d.Problem == nil && !sameName(s.Entry.DN, d.Wanted.DN) {
		note(change.Diff{Target: DN, Before: s.Entry.DN, After: d.Wanted.DN, Source: "the container and the rule for cn"}, []string{d.Wanted.DN})
	}
	for _, v := range d.Wanted.Values {
		have := s.Entry.Attributes.All(v.Attribute)
		switch {
		case v.CreateOnly, sameValues(have, v.Values):
			continue
		case d.Problem != nil && strings.EqualFold(v.Attribute, "sAMAccountName"):
			continue // a name that is taken waits, and the rest does not
		case slices.ContainsFunc(s.Hidden, func(name string) bool { return strings.EqualFold(name, v.Attribute) }):
			continue // what cannot be seen is not missing
		}
		note(change.Diff{Target: v.Attribute, Before: shown(have), After: shown(v.Values), Source: v.Source}, v.Values)
	}
}

// sameName compares names as a directory shows them: in other letters, one is another.
func sameName(a, b string) bool {
	x, err := entry.ParseDN(a)
	y, err2 := entry.ParseDN(b)
	return err == nil && err2 == nil && x.Equal(y) && x.Name() == y.Name()
}

func find(attributes entry.Attributes, name string) ([]string, bool) {
	for have, values := range attributes {
		if strings.EqualFold(have, name) {
			return values, true
		}
	}
	return nil, false
}

func sameValues(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(a, b)
}

// shown is a value as a diff has it.
func shown(values []string) any {
	switch len(values) {
	case 0:
		return nil
	case 1:
		return values[0]
	}
	return values
}

// Written is what an entry has been given once a decision was carried out.
func (d Decision) Written() entry.Attributes {
	out := entry.Attributes{DN: {d.Wanted.DN}}
	for _, v := range d.Wanted.Values {
		out[v.Attribute] = v.Values
	}
	return out
}

// Explain states the decision as a reason.
func (d Decision) Explain() reason.Node {
	node := reason.Node{Outcome: reason.Note, Deciding: true}
	switch {
	case d.Again:
		node.Text, node.Outcome = "it was deleted in the directory: it is made again once somebody has said so, since it gets another identity", reason.Bad
	case d.Code == Forgone:
		node.Text = "it was deleted in the directory, and an operator has said that it stays so"
	case d.Code == plan.Unlinked:
		node.Text = "not kept, and the directory has it no more: it is forgotten"
	case d.Code == plan.InStep:
		node.Text, node.Outcome = "the entry is as it should be: nothing to do", reason.Yes
	case d.Code == plan.OutSide:
		node.Text = "not kept, and nothing in the directory: nothing to do"
	case d.Code == plan.Left && d.Due != nil:
		node.Text = "not kept; it is deleted from the directory on " + d.Due.UTC().Format(time.DateOnly)
	case d.Code == plan.Left:
		node.Text = "not kept; it stays in the directory as it is"
	case d.Code == plan.Blocked:
		node.Text, node.Outcome, node.Value = problem.Describe(d.Problem.Code).Title, reason.Bad, d.Problem.Detail
	case d.Operation == plan.Leave:
		node.Text = "the next run notes that it is no longer kept; it is deleted on " + d.Due.UTC().Format(time.DateOnly)
	default:
		node.Text = "the next run will " + string(d.Operation) + " the entry"
	}
	node.Children = change.Explain(d.Diffs)
	for i, diff := range d.Diffs {
		if slices.ContainsFunc(d.Drift, func(other change.Diff) bool { return other.Target == diff.Target }) {
			node.Children[i].Source += "; changed in the directory, and put back"
		}
	}
	if d.Problem != nil && d.Code != plan.Blocked {
		node.Children = append(node.Children, reason.Node{Text: problem.Describe(d.Problem.Code).Title, Outcome: reason.Bad, Value: d.Problem.Detail})
	}
	return node
}
