package runs

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/service/store"
)

// results gathers what a chunk came to.
type results struct {
	sending   store.Sending
	sent      int // of the sending
	outcomes  []store.Outcome
	resources map[entry.Kind][]entry.Resource
	links     []store.NewLink
	settings  *decide.Settings
	settled   []store.NewLink // those that were in doubt
	vanished  map[entry.Kind][]string
	stale     []pending // changed in the cloud since they were read
	taken     []pending // refused since somebody there has one of the values
	clashes   []clash   // the same in the last pass
	divided   []divided // refused as a whole, to be sent in parts
	parted    []store.Parted
	forms     []store.Form // what the cloud writes its own way
	left      []store.Leaving
	unlinked  []entry.Ref
	back      []entry.Ref
	problems  []store.NewProblem
	again     []entry.Ref     // to be planned anew in this run
	lookup    []entry.Ref     // the same, and to be looked up before a creation
	refer     []entry.Ref     // whose references are to be compared anew
	members   []store.Outcome // done changes of members
	deleted   []string
	deletions []store.Change // of those
	next      []entry.Ref    // to be planned anew in the next run
	doubtful  []entry.Ref    // the same, and to be looked up

	membersNow []membersNow
	own        map[string]bool // resources that are as this chunk has made them, from what the mirror had
}

func (r *results) done(p pending, resource entry.Resource) {
	// Whoever others have made, or were away, may name somebody whom nobody compares.
	if operation := plan.Operation(p.Operation); (operation == plan.Adopt || operation == plan.Restore) && r.settings.Of(p.Kind).Rules.Loose(nil, resource) {
		r.refer = append(r.refer, p.Ref())
	}
	id := p.ResourceID
	if resource != nil {
		id = resource.ID()
		r.resources[p.Kind] = append(r.resources[p.Kind], resource)
	}
	outcome := store.Outcome{Change: p.Change, State: "done", ResourceID: id}
	r.outcomes = append(r.outcomes, outcome)
	switch plan.Operation(p.Operation) {
	case plan.Create, plan.Adopt:
		link := store.NewLink{Ref: p.Ref(), Kind: p.Kind, LinkKey: p.linkKey(), ResourceID: id, How: p.Operation}
		r.links = append(r.links, link)
		if p.look {
			r.settled = append(r.settled, link)
		}
	case plan.Suspend, plan.Leave:
		r.left = append(r.left, store.Leaving{Ref: p.Ref(), Due: p.Due})
	case plan.Delete:
		// Of a double that was merged, the entry takes the other resource next.
		r.deleted, r.again = append(r.deleted, id), append(r.again, p.Ref())
		r.deletions = append(r.deletions, p.Change)
	case plan.Unlink:
		r.unlinked, r.again = append(r.unlinked, p.Ref()), append(r.again, p.Ref())
	case plan.Restore, plan.Update:
		r.back = append(r.back, p.Ref())
	}
	if p.ofMembers() {
		r.members = append(r.members, outcome)
	}
}

// written is done, of what the cloud has answered to what it was sent.
func (r *results) written(p pending, resource entry.Resource) {
	r.done(p, resource)
	if resource != nil && !p.look && !p.anyway { // else somebody else may have come before
		r.own[resource.ID()] = true
	}
	r.altered(p, resource)
}

// groupsOfOthers are the groups that were found as somebody else may have made them.
func (r *results) groupsOfOthers() []string {
	var ids []string
	for _, group := range r.resources[entry.Group] {
		if !r.own[group.ID()] {
			ids = append(ids, group.ID())
		}
	}
	return ids
}

// altered notices that the cloud keeps something else than it was sent.
func (r *results) altered(p pending, resource entry.Resource) {
	if resource == nil {
		return
	}
	altered := change.Altered(resource, p.Diffs)
	for _, d := range p.Diffs {
		if form, other := change.FormOf(resource, d); other {
			r.forms = append(r.forms, store.Form{ResourceID: resource.ID(), Target: d.Target, Form: form})
		}
	}
	// In other letters it is the same (RFC 7643 section 2.4, caseExact).
	altered = slices.DeleteFunc(altered, func(a problem.Altered) bool { return strings.EqualFold(a.Sent, a.Kept) })
	if len(altered) > 0 {
		met := r.met(p, problem.ValueAltered, problem.Facts{Altered: altered})
		outcome := &r.outcomes[len(r.outcomes)-1]
		outcome.Code, outcome.Answer = string(met.Code), met.Detail
	}
}

// met notes a problem that the entry of a change has.
func (r *results) met(p pending, code problem.Code, facts problem.Facts) *problem.Error {
	met := problem.Of(code, facts)
	r.problems = append(r.problems, store.ProblemOf(about.EntryOf(p.Ref()), met))
	return met
}

// planAgain lets the next pass of this run decide anew.
func (r *results) planAgain(p pending, answer string) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "superseded", ResourceID: p.ResourceID, Answer: answer})
	r.again = append(r.again, p.Ref())
	if p.Rank == store.RankReferences {
		r.refer = append(r.refer, p.Ref())
	}
}

// planNext lets the next run decide anew.
func (r *results) planNext(p pending, answer string) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "superseded", ResourceID: p.ResourceID, Answer: answer})
	r.next = append(r.next, p.Ref())
}

func (r *results) vanish(p pending) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "superseded", ResourceID: p.ResourceID, Answer: "the resource is gone from the cloud"})
	r.vanished[p.Kind], r.lookup = append(r.vanished[p.Kind], p.ResourceID), append(r.lookup, p.Ref())
	r.refer = append(r.refer, p.Ref())
}

// refused sorts a refusal: what the next pass may heal, what a person must, and
// what ends the run.
func (r *results) refused(p pending, err error, last bool) error {
	var refusal *cloud.Refusal
	if problem.CodeOf(err) != "" || !errors.As(err, &refusal) {
		return err
	}
	again := func(answer string) { r.planAgain(p, answer) }
	switch {
	case refusal.Status == http.StatusNotFound && p.Operation == string(plan.Delete):
		r.done(p, nil)
		return nil
	case refusal.Status == http.StatusNotFound && p.Operation != string(plan.Create):
		r.vanish(p)
		return nil
	case refusal.Status == http.StatusPreconditionFailed && !last:
		again("the resource was changed in the cloud meanwhile")
		p.older = true
		r.stale = append(r.stale, p)
		return nil
	case p.ofMembers() && !last:
		again(refusal.Error())
		r.stale = append(r.stale, p)
		return nil
	case refusal.ScimType == "uniqueness" && !last:
		// Another change of this run may free the value, or somebody was made in
		// the cloud meanwhile whom the next pass adopts.
		again(refusal.Error())
		r.taken = append(r.taken, p)
		return nil
	}
	switch {
	case refusal.ScimType == "uniqueness":
		r.clashes = append(r.clashes, clash{p, refusal.Error()})
	case aboutValues(refusal) && p.divisible():
		r.divided = append(r.divided, divided{p, refusal})
	default:
		r.refuse(p, refusal)
	}
	return nil
}

// fail ends a change that the cloud refused.
func (r *results) fail(p pending, code problem.Code, facts problem.Facts, answer string) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "failed", ResourceID: p.ResourceID, Code: string(code), Answer: answer})
	r.met(p, code, facts)
	r.next = append(r.next, p.Ref())
	if p.Rank == store.RankReferences {
		r.refer = append(r.refer, p.Ref())
	}
}

// clash is a change that the cloud refused since somebody has one of its values.
type clash struct {
	pending
	answer string
}

// settleClashes ends changes that clash. SCIM does not say which value it is (RFC
// 7644 section 3.12), so the cloud is asked who has those that it gives once only.
func (x *execution) settleClashes(ctx context.Context, r *results) error {
	var failure error
	for _, c := range r.clashes {
		code, facts := problem.CloudRefused, problem.Facts{Answer: c.answer}
		unique := x.uniqueValues(c.pending)
		if len(unique) == 1 {
			code = plan.Duplicate(unique[0].key)
		}
		for _, u := range unique {
			if failure != nil {
				break
			}
			var holders []entry.Resource
			if holders, failure = x.cloud.Finder(c.Kind).Having(ctx, u.key, u.value); failure != nil {
				failure = wholeCloud(failure)
				break
			}
			r.resources[c.Kind] = append(r.resources[c.Kind], holders...)
			if at := slices.IndexFunc(holders, func(h entry.Resource) bool { return h.ID() != c.ResourceID }); at >= 0 {
				code, facts = plan.Duplicate(u.key), problem.Facts{Attribute: u.key, Value: u.value, Resources: []problem.Resource{problem.ResourceOf(holders[at])}}
				break
			}
		}
		r.fail(c.pending, code, facts, c.answer)
	}
	r.clashes = nil
	return failure
}

// keep makes the results of a chunk durable in one transaction.
func (x *execution) keep(ctx context.Context, r *results) error {
	work := func(tx *store.Store) error {
		steps := []func() error{
			func() error { return tx.ByIndex(ctx) },
			func() error { return tx.Changes.SaveOutcomes(ctx, &r.sending, r.outcomes) },
			func() error { return tx.Changes.SaveParts(ctx, r.parted) },
			func() error { return tx.Changes.EndSending(ctx, r.sending, len(r.outcomes) == r.sent) },
			// Before the resources, which are loose as long as nothing links them.
			func() error { return tx.Links.Save(ctx, x.run.ID, r.links) },
			func() error {
				for kind, resources := range r.resources {
					if _, err := tx.Resources.Store(ctx, kind, resources, x.Settings.Of(kind).Indexed, false); err != nil {
						return err
					}
				}
				return nil
			},
			func() error { return tx.Resources.MembersUnread(ctx, r.groupsOfOthers()) },
			func() error { return tx.Resources.NoteForms(ctx, r.forms) },
			func() error { return r.keepMembers(ctx, tx) },
			func() error { return tx.Changes.SettleDoubts(ctx, r.settled) },
			func() error { return tx.Links.SetLeft(ctx, r.left) },
			func() error { return tx.Links.SetBack(ctx, r.back) },
			func() error { return tx.Problems.Save(ctx, store.MetByPlan, x.run.ID, r.problems) },
			func() error { return tx.Dirty.Set(ctx, r.again, store.DirtyNow, false) },
			func() error { return tx.Dirty.Set(ctx, r.lookup, store.DirtyNow, true) },
			func() error { return tx.Dirty.Set(ctx, r.next, store.DirtyNext, false) },
			func() error { return tx.References.Mark(ctx, r.refer) },
			func() error { return tx.Dirty.Set(ctx, r.doubtful, store.DirtyNext, true) },
			func() error {
				for _, ids := range r.vanished {
					if err := tx.Resources.Drop(ctx, ids); err != nil {
						return err
					}
				}
				return nil
			},
			func() error { return x.certify(ctx, tx, r.deletions) },
			func() error { return tx.Resources.Delete(ctx, r.deleted) },
			func() error { return tx.Links.Drop(ctx, r.unlinked) },
			func() error { return tx.Choices.Drop(ctx, r.links) },
		}
		for _, step := range steps {
			if err := step(); err != nil {
				return err
			}
		}
		return nil
	}
	if err := x.fenced(ctx, work); err != nil {
		return fmt.Errorf("keep what the cloud answered: %w", err)
	}
	done, failed := 0, 0
	for _, o := range r.outcomes {
		switch o.State {
		case "done":
			done++
		case "failed":
			failed++
		}
	}
	return x.count(ctx, func(c *progress.Counts) { c.Done += done; c.Failed += failed })
}
