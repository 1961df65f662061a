// Package plan compares what a resource should be with what it is and decides
// the change: what to do, attribute by attribute, or the problem that stands
// in the way. It also makes the SCIM PATCH of a change, finds clashes of unique
// values, and guards against removing too many. All of it is pure.
package plan

import (
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
)

// Operation is what a change does to its resource.
type Operation string

// The operations.
const (
	Create  Operation = "create"
	Adopt   Operation = "adopt"
	Update  Operation = "update"
	Suspend Operation = "suspend"
	Restore Operation = "restore"
	// Leave lets a resource that nobody can be signed in by stay until its grace time is
	// over; nothing is sent.
	Leave  Operation = "leave"
	Delete Operation = "delete"
	Unlink Operation = "unlink" // the resource stays, and bears no link key any more
)

// Removes tells whether an operation takes something away from people, now or when the
// grace time is over, so that the guard counts it.
func (o Operation) Removes() bool { return o == Suspend || o == Leave || o == Delete }

// Code tells what a decision came to.
type Code string

// The codes beside the operations, which are codes too.
const (
	InStep   Code = "in-step"       // the resource is as it should be
	OutSide  Code = "out-of-scope"  // nothing in the cloud, and nothing wanted
	NotSent  Code = "not-written"   // its kind is not written to the cloud
	Left     Code = "left"          // out of scope, and the leaver policy is carried out
	Blocked  Code = "problem"       // see Problem
	Unlinked Code = "link-dropped"  // out of scope, and the resource is gone too
	Relinked Code = "link-restored" // in step, but the link had to be rebuilt
	Kept     Code = "kept"          // it would go, and an operator has discarded that
	Follows  Code = "same-person"   // one person with another entry, which bears the link
	Returns  Code = "returns"       // deleted, and made again under the same name: that entry takes the link over
)

// Link is what is known about an entry's link.
type Link struct {
	ResourceID string
	// Left is set once the leaver policy was carried out, and Due when the resource is to
	// be deleted, as it was said then; nil when it stays.
	Left bool
	Due  *time.Time
}

// Subject is everything a decision is made from.
type Subject struct {
	Entry   entry.Entry
	Verdict scope.Verdict
	// Desired is set when the verdict lets the entry in.
	Desired rules.Desired
	// Link is nil when there is none; Resource is the linked resource in the
	// mirror, nil when the cloud no longer has it.
	Link     *Link
	Resource entry.Resource
	Forms    change.Forms // of the resource
	// Match is used when the entry is in and has no link.
	Match   match.Decision
	Leavers settings.Policy
	// GraceOver: what the policy delete waits for has passed. Due is when it does.
	GraceOver bool
	Due       *time.Time
}

// Decision is the outcome for one subject. With an Operation and a Problem, the
// change is made without the value that the problem is about.
type Decision struct {
	Code       Code
	Operation  Operation // "" when nothing is sent to the cloud
	ResourceID string
	Diffs      []change.Diff
	Problem    *problem.Error
	// Due is when the resource of somebody who leaves is deleted. Of a deletion it is set
	// when that was said when it left.
	Due *time.Time
}

// Decide compares and decides.
func Decide(s Subject) Decision {
	if !s.Verdict.In {
		return decideOut(s)
	}
	if s.Entry.Fault != "" {
		return faulty(s)
	}
	if s.Link != nil && s.Resource != nil {
		d := Compare(s.Resource, s.Desired, s.Forms)
		if s.Link.Left && d.Operation == Update && !s.Resource.Active() {
			d.Operation, d.Code = Restore, Code(Restore)
		}
		if s.Desired.Problem != nil {
			d = d.without(s.Desired.Problem, func(change.Diff) bool { return false })
		}
		return d
	}
	if s.Desired.Problem != nil {
		return blocked(s.Desired.Problem)
	}
	switch {
	case s.Link != nil:
		return create(s.Desired, s.Entry)
	}
	switch s.Match.Action {
	case match.Stop:
		return blocked(s.Match.Problem)
	case match.Adopt:
		d := Compare(s.Match.Resource, s.Desired, nil)
		d.Operation, d.Code = Adopt, Code(Adopt)
		d.Diffs = append([]change.Diff{{Target: "externalId", Before: nil, After: s.Entry.LinkKey(), Source: "match rule " + s.Match.Rule}}, d.Diffs...)
		return d
	case match.Relink:
		d := Compare(s.Match.Resource, s.Desired, nil)
		switch {
		case d.Operation == "":
			d.Code = Relinked
		case !s.Match.Resource.Active():
			d.Operation, d.Code = Restore, Code(Restore)
		}
		return d
	}
	return create(s.Desired, s.Entry)
}

func decideOut(s Subject) Decision {
	switch {
	case s.Link == nil:
		return Decision{Code: OutSide}
	case s.Resource == nil:
		return Decision{Code: Unlinked}
	case s.Leavers == settings.Delete && s.GraceOver:
		return Decision{Code: Code(Delete), Operation: Delete, ResourceID: s.Resource.ID(), Due: s.said(), Diffs: []change.Diff{
			{Target: "externalId", Before: s.Resource.ExternalID(), Source: "leaver policy delete, and the grace time is over; " + s.Verdict.Summary},
		}}
	case s.Leavers != settings.Keep && s.Entry.Kind == entry.User && s.Resource.Active():
		return Decision{Code: Code(Suspend), Operation: Suspend, ResourceID: s.Resource.ID(), Due: s.Due, Diffs: []change.Diff{
			{Target: "active", Before: true, After: false, Source: "leaver policy " + string(s.Leavers) + "; " + s.Verdict.Summary},
		}}
	case s.Leavers == settings.Delete && s.Link.Due == nil:
		return Decision{Code: Code(Leave), Operation: Leave, ResourceID: s.Resource.ID(), Due: s.Due, Diffs: []change.Diff{
			{Target: Deletion, After: dayOf(s.Due), Source: "leaver policy delete, when the grace time is over; " + s.Verdict.Summary},
		}}
	case s.Leavers == settings.Delete:
		return Decision{Code: Left, ResourceID: s.Resource.ID(), Due: s.Link.Due}
	}
	return Decision{Code: Left, ResourceID: s.Resource.ID()}
}

// Deletion stands in the place of an attribute where a deletion to come is told.
const Deletion = "deletion"

func dayOf(due *time.Time) any {
	if due == nil {
		return nil
	}
	return due.UTC().Format(time.DateOnly)
}

// said is when a deletion that is due was said to come; nil when it comes sooner, since
// the grace time was shortened.
func (s Subject) said() *time.Time {
	if s.Link.Due == nil || s.Due == nil || s.Link.Due.After(*s.Due) {
		return nil
	}
	return s.Link.Due
}

// Let is the decision to let a resource go that an entry has: to untie or to
// delete it, for a reason that is not its scope.
func Let(operation Operation, resource entry.Resource, source string) Decision {
	return Decision{Code: Code(operation), Operation: operation, ResourceID: resource.ID(), Diffs: []change.Diff{
		{Target: "externalId", Before: resource.ExternalID(), Source: source},
	}}
}

func blocked(p *problem.Error) Decision { return Decision{Code: Blocked, Problem: p} }

// faulty decides about an entry that was read in part: what is missing may be
// there, so nothing is emptied or made, and only access is taken away.
func faulty(s Subject) Decision {
	p := problem.Of(problem.ValueUnusable, problem.Facts{Answer: s.Entry.Fault})
	if s.Link == nil || s.Resource == nil {
		return blocked(p)
	}
	d := Compare(s.Resource, s.Desired, s.Forms)
	d.Diffs, _ = Withdraw(d.Diffs)
	return d.without(p, func(change.Diff) bool { return false })
}

// changes tells whether the decision is about a resource that is there and
// Kambrel's already, so that one value can wait while the others do not.
func (d Decision) changes() bool {
	return d.ResourceID != "" && (d.Operation == Update || d.Operation == Restore || d.Operation == "")
}

// without leaves the diffs out that a problem is about; nothing else waits for
// it, least of all that access is taken away.
func (d Decision) without(p *problem.Error, faulty func(change.Diff) bool) Decision {
	if !d.changes() {
		return blocked(p)
	}
	d.Diffs = slices.DeleteFunc(slices.Clone(d.Diffs), faulty)
	if d.Problem == nil {
		d.Problem = p
	}
	if len(d.Diffs) == 0 {
		d.Operation, d.Code = "", Blocked
	}
	return d
}

// Withdraw divides what a change does into what takes access away, which is sent
// by itself and first, and the rest: a value that the cloud refuses must not
// keep an account open.
func Withdraw(diffs []change.Diff) (away, rest []change.Diff) {
	for _, d := range diffs {
		switch {
		case strings.EqualFold(d.Target, "active") && d.After == false:
			away = append(away, d)
		case len(d.Removed) > 0:
			less := d
			less.Added = nil
			away = append(away, less)
			if len(d.Added) > 0 {
				more := d
				more.Removed = nil
				rest = append(rest, more)
			}
		default:
			rest = append(rest, d)
		}
	}
	return away, rest
}

func create(desired rules.Desired, e entry.Entry) Decision {
	d := Decision{Code: Code(Create), Operation: Create, Diffs: []change.Diff{{Target: "externalId", After: e.LinkKey(), Source: "link key"}}}
	for _, v := range desired.Values {
		if v.Granted != nil && len(v.Granted.Have) > 0 {
			d.Diffs = append(d.Diffs, change.Diff{Target: v.Path.String(), Added: change.Members(v.Granted.Have), Source: v.Source})
		}
		if v.Value != nil {
			d.Diffs = append(d.Diffs, change.Diff{Target: v.Path.String(), After: v.Value, Source: v.Source})
		}
	}
	return d
}

// Compare tells what must change in a resource so that it is as desired. What the cloud
// is known to write its own way is as desired.
func Compare(resource entry.Resource, desired rules.Desired, forms change.Forms) Decision {
	d := Decision{Code: InStep, ResourceID: resource.ID()}
	for _, v := range desired.Values {
		if v.CreateOnly {
			continue
		}
		if v.Granted != nil {
			if diff := granted(v, v.Path.Values(resource)); diff.Elements() {
				d.Diffs = append(d.Diffs, diff)
			}
			continue
		}
		if stale := forms.Stale(v.Path, resource, v.Value); stale != "" {
			d.Diffs = append(d.Diffs, change.Diff{Target: v.Path.Whole().String(), Removed: change.Members([]string{stale}), Source: v.Source})
		}
		if forms.Means(v.Path, resource, v.Value) {
			continue
		}
		d.Diffs = append(d.Diffs, change.Diff{Target: v.Path.String(), Before: v.Path.Get(resource), After: v.Value, Source: v.Source})
	}
	if len(d.Diffs) > 0 {
		d.Operation, d.Code = Update, Code(Update)
	}
	return d
}

// granted compares what a membership gives with what the resource has, of the
// values that the rule owns.
func granted(v rules.Value, have []string) change.Diff {
	diff := change.Diff{Target: v.Path.String(), Source: v.Source}
	for _, value := range v.Granted.Have {
		if !slices.Contains(have, value) {
			diff.Added = append(diff.Added, change.Member{Value: value})
		}
	}
	for _, value := range v.Granted.Owned {
		if slices.Contains(have, value) && !slices.Contains(v.Granted.Have, value) {
			diff.Removed = append(diff.Removed, change.Member{Value: value})
		}
	}
	return diff
}

// Will says what the next run does.
func (d Decision) Will() string {
	switch {
	case d.Due == nil || d.Operation == Delete:
		return "the next run will " + string(d.Operation) + " the resource"
	case d.Operation == Leave:
		return "the resource stays until its grace time is over, and is deleted on " + d.Due.UTC().Format(time.DateOnly)
	}
	return "the next run will " + string(d.Operation) + " the resource, and it is deleted on " + d.Due.UTC().Format(time.DateOnly)
}

// Explain states the decision as a reason.
func (d Decision) Explain() reason.Node {
	node := reason.Node{Outcome: reason.Note, Deciding: true}
	switch d.Code {
	case InStep:
		node.Text = "the resource is as it should be: nothing to do"
		node.Outcome = reason.Yes
	case NotSent:
		node.Text = "entries of this kind are read and surveyed, but not written to the cloud: there are no rules for them, or the cloud has no such resources"
	case Follows:
		node.Text = "one person with another entry, which bears the link: nothing to do for this one alone"
		node.Outcome = reason.Yes
	case OutSide:
		node.Text = "out of scope and nothing in the cloud: nothing to do"
	case Kept:
		node.Text = "it would be suspended or deleted, and an operator has discarded that: it stays until the cause changes"
		node.Outcome = reason.Yes
	case Left:
		node.Text = "out of scope; the leaver policy is carried out already: nothing to do"
		if d.Due != nil {
			node.Text = "out of scope; the resource is deleted when its grace time is over, on " + d.Due.UTC().Format(time.DateOnly)
		}
	case Unlinked:
		node.Text = "out of scope, and its resource is gone: the link is dropped"
	case Returns:
		node.Text = "deleted, and made again under the same name: the new entry takes the resource over"
	case Relinked:
		node.Text = "the resource bears the link key: the link is restored"
		node.Outcome = reason.Yes
	case Blocked:
		node.Text = problem.Describe(d.Problem.Code).Title
		node.Outcome, node.Value = reason.Bad, d.Problem.Detail
	default:
		node.Text = d.Will()
	}
	node.Children = change.Explain(d.Diffs)
	if d.Problem != nil && d.Code != Blocked {
		node.Children = append(node.Children, reason.Node{Text: problem.Describe(d.Problem.Code).Title, Outcome: reason.Bad, Value: d.Problem.Detail + "; this value waits, and the others do not"})
	}
	return node
}
