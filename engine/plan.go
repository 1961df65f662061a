package engine

import (
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

const (
	planBatch     = 500
	planWorkers   = 3
	deadlockTries = 10
)

// plan decides about everything dirty. state is where links, claims and the
// dirty set are changed; out is where the decisions are kept. In a run they are
// the same; in a rehearsal state is a transaction that is thrown away.
func (x *execution) plan(ctx context.Context, state, out *store.Store) error {
	workers := planWorkers
	if state != out {
		workers = 1 // one transaction serves one at a time
	}
	for _, phase := range []int{store.DirtyNow, store.DirtyLater} {
		group, groupCtx := errgroup.WithContext(ctx)
		for range workers {
			group.Go(func() error {
				var after store.Ref
				for {
					looked, err := x.planBatch(groupCtx, phase, &after, state, out)
					if err != nil || looked == 0 {
						return err
					}
				}
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// planBatch decides about one batch in one transaction, and returns how many
// entries it has looked at, beginning after the one given. Batches that wait for each other's logins are
// resolved by the database, which ends one of them; that one is done again.
func (x *execution) planBatch(ctx context.Context, phase int, after *store.Ref, state, out *store.Store) (int, error) {
	var p *planner
	var last store.Ref
	looked := 0
	work := func(tx *store.Store) error {
		batch, err := tx.NextDirty(ctx, phase, *after, planBatch)
		if looked = len(batch); err != nil || looked == 0 {
			return err
		}
		last = refOf(batch[looked-1])
		p = &planner{settings: x.settings, domains: x.domains, last: phase == store.DirtyLater, claims: tx.ReplaceClaims}
		if err := p.decide(ctx, tx, batch); err != nil {
			return err
		}
		if err := p.saveState(ctx, tx, x.run.ID); err != nil {
			return err
		}
		if state != out {
			return out.AddChanges(ctx, x.run.ID, p.changes)
		}
		if err := tx.AddChanges(ctx, x.run.ID, p.changes); err != nil {
			return err
		}
		if err := tx.CloseProblems(ctx, p.well); err != nil {
			return err
		}
		return tx.SaveProblems(ctx, x.run.ID, p.problems)
	}
	var err error
	if state != out {
		err = work(state)
	} else {
		for range deadlockTries {
			if err = state.Tx(ctx, work); !store.Deadlock(err) {
				break
			}
		}
	}
	if err != nil || looked == 0 {
		return 0, err
	}
	*after = last
	return looked, x.count(ctx, func(c *wire.Counts) { p.count(c, looked) })
}

// planner decides about one batch and gathers what follows from it.
type planner struct {
	settings *compiled
	domains  []string
	claims   func(context.Context, []store.Ref, []store.NewClaim) (map[string]store.Claimant, error)
	last     bool // clashes with entries that are still to be planned are real

	changes  []store.NewChange
	problems []store.NewProblem
	well     []store.Ref // planned without a problem
	cleared  []store.Ref
	blocked  []store.Ref
	later    []store.Ref
	links    []store.NewLink
	unlink   []store.Ref
	left     []store.Ref
	back     []store.Ref
	unclaim  []store.Ref
}

// subject is one entry of the batch on its way to a decision.
type subject struct {
	store.Dirty
	plan.Subject
	ref      store.Ref
	claims   []plan.Claim
	decision plan.Decision
	holdsOff bool // waits for others of this plan
}

func refOf(d store.Dirty) store.Ref { return store.Ref{Directory: d.Entry.Directory, ID: d.Entry.ID} }

// judge is scope and rules for one entry; match follows when all keys of a
// batch are known.
func (c *compiled) judge(d store.Dirty) *subject {
	s := &subject{Dirty: d, ref: refOf(d)}
	s.Subject = plan.Subject{Entry: d.Entry, Link: d.Link, Resource: d.Resource, Leavers: c.document.Users.Leavers, Verdict: c.scope.Decide(d.Entry)}
	if s.Verdict.In {
		s.Desired = c.rules.Apply(d.Entry)
	}
	return s
}

// unmatched tells whether the entry needs matching.
func (s *subject) unmatched() bool { return s.Verdict.In && s.Dirty.Link == nil }

// matchWith decides the match from what the mirror holds.
func (c *compiled) matchWith(s *subject, holders map[string][]store.Holder) {
	s.Match = c.match.Decide(s.Dirty.Entry, func(key match.Key) []match.Candidate {
		var candidates []match.Candidate
		for _, holder := range holders[key.Text()] {
			candidates = append(candidates, match.Candidate{Resource: holder.Resource, LinkedTo: holder.LinkedDN})
		}
		return candidates
	})
}

func (p *planner) decide(ctx context.Context, state *store.Store, batch []store.Dirty) error {
	subjects := make([]*subject, len(batch))
	var keys []string
	if p.settings.asksForGroups {
		entries := make([]*entry.Entry, len(batch))
		for i := range batch {
			entries[i] = &batch[i].Entry
		}
		if err := state.FillGroups(ctx, entries); err != nil {
			return err
		}
	}
	for i, dirty := range batch {
		subjects[i] = p.settings.judge(dirty)
		if subjects[i].unmatched() {
			for _, key := range p.settings.match.Keys(dirty.Entry) {
				keys = append(keys, key.Text())
			}
		}
	}
	holders, err := state.Holders(ctx, keys)
	if err != nil {
		return fmt.Errorf("look for resources to match: %w", err)
	}
	for _, s := range subjects {
		if s.unmatched() {
			p.settings.matchWith(s, holders)
		}
		s.decision = plan.CheckLogin(plan.Decide(s.Subject), p.domains)
		if s.Verdict.In && s.decision.Problem == nil {
			s.claims = plan.Claims(s.Desired)
		}
		if s.unmatched() && s.decision.ResourceID != "" {
			s.claims = append(s.claims, plan.ResourceClaim(s.decision.ResourceID))
		}
	}
	if err := p.claim(ctx, subjects); err != nil {
		return err
	}
	if err := p.clashWithCloud(ctx, state, subjects); err != nil {
		return err
	}
	for _, s := range subjects {
		p.gather(s)
	}
	return nil
}

// claim takes the unique values of the batch. Those with a resource come first,
// so that a newcomer never takes a login from the person who has it.
func (p *planner) claim(ctx context.Context, subjects []*subject) error {
	ordered := slices.Clone(subjects)
	slices.SortStableFunc(ordered, func(a, b *subject) int {
		return boolRank(a.Dirty.Link == nil) - boolRank(b.Dirty.Link == nil)
	})
	var refs []store.Ref
	var claims []store.NewClaim
	for _, s := range ordered {
		refs = append(refs, s.ref)
		for _, claim := range s.claims {
			claims = append(claims, store.NewClaim{Ref: s.ref, Key: claim.Key(), DN: s.Dirty.Entry.DN})
		}
	}
	taken, err := p.claims(ctx, refs, claims)
	if err != nil {
		return fmt.Errorf("claim unique values: %w", err)
	}
	for _, s := range subjects {
		for _, claim := range s.claims {
			holder, clash := taken[claim.Key()]
			if !clash || holder.Ref == s.ref {
				continue
			}
			if holder.Dirty && !p.last {
				s.holdsOff = true
				continue
			}
			s.decision = plan.Clash(claim, holder.DN)
			s.holdsOff = false
			break
		}
		if s.holdsOff || s.decision.Problem != nil {
			p.unclaim = append(p.unclaim, s.ref)
		}
	}
	return nil
}

func boolRank(b bool) int {
	if b {
		return 1
	}
	return 0
}

// clashWithCloud finds resources that have a value the plan would give to
// another, and that no entry in scope owns.
func (p *planner) clashWithCloud(ctx context.Context, state *store.Store, subjects []*subject) error {
	var keys []string
	for _, s := range subjects {
		for _, claim := range s.claims {
			if s.sends(claim) {
				keys = append(keys, claim.Key())
			}
		}
	}
	holders, err := state.Holders(ctx, keys)
	if err != nil {
		return fmt.Errorf("look for resources with the same values: %w", err)
	}
	for _, s := range subjects {
		for _, claim := range s.claims {
			if !s.sends(claim) {
				continue
			}
			for _, holder := range holders[claim.Key()] {
				if holder.Resource.ID() == s.decision.ResourceID || holder.EntryID != "" && !holder.Left {
					continue
				}
				if s.decision.Operation == plan.Create && holder.Resource.ExternalID() == s.Dirty.Entry.LinkKey() {
					continue
				}
				name := fmt.Sprintf("the resource %s (%s) in the cloud", holder.Resource.Login(), holder.Resource.ID())
				if holder.LinkedDN != "" {
					name += ", which belongs to " + holder.LinkedDN
				}
				s.decision = plan.Clash(claim, name)
				p.unclaim = append(p.unclaim, s.ref)
			}
		}
	}
	return nil
}

// sends tells whether the decision gives the resource a value that must be
// unique and that it did not have.
func (s *subject) sends(claim plan.Claim) bool {
	return !s.holdsOff && slices.ContainsFunc(s.decision.Diffs, func(d plan.Diff) bool {
		path, err := entry.ParsePath(d.Target)
		return err == nil && path.Key() == claim.Attribute
	})
}

// gather turns a decision into what is kept.
func (p *planner) gather(s *subject) {
	if s.holdsOff {
		p.later = append(p.later, s.ref)
		return
	}
	d := s.decision
	if d.Problem != nil {
		p.blocked = append(p.blocked, s.ref)
		p.problems = append(p.problems, store.NewProblem{Ref: s.ref, Code: string(d.Problem.Code), Detail: d.Problem.Detail})
		p.changes = append(p.changes, store.NewChange{
			Ref: s.ref, DN: s.Dirty.Entry.DN, ResourceID: s.resourceID(), Name: s.name(), Code: string(d.Problem.Code), Detail: d.Problem.Detail,
		})
		return
	}
	p.well, p.cleared = append(p.well, s.ref), append(p.cleared, s.ref)
	if d.Operation != "" {
		p.changes = append(p.changes, store.NewChange{
			Ref: s.ref, Operation: d.Operation, DN: s.Dirty.Entry.DN, ResourceID: d.ResourceID, Name: s.name(), Diffs: d.Diffs,
			Lookup: d.Operation == plan.Create && (s.Dirty.Lookup || s.Dirty.Link != nil),
		})
	}
	if s.unmatched() && s.Match.Action == match.Relink {
		p.links = append(p.links, store.NewLink{Ref: s.ref, LinkKey: s.Dirty.Entry.LinkKey(), ResourceID: s.Match.Resource.ID(), How: string(match.Relink)})
	}
	switch {
	case d.Code == plan.Unlinked:
		p.unlink = append(p.unlink, s.ref)
	case d.Code == plan.Left:
		p.left = append(p.left, s.ref)
	case d.Code == plan.InStep && s.Dirty.Link != nil && s.Dirty.Link.Left:
		p.back = append(p.back, s.ref)
	}
}

func (s *subject) resourceID() string {
	if s.Dirty.Link != nil {
		return s.Dirty.Link.ResourceID
	}
	return ""
}

// name is what people call the object.
func (s *subject) name() string {
	if login := s.Desired.Text("userName"); login != "" {
		return login
	}
	if s.Dirty.Resource != nil {
		return s.Dirty.Resource.Login()
	}
	if cn := s.Dirty.Entry.Attributes.First("cn"); cn != "" {
		return cn
	}
	return s.Dirty.Entry.DN
}

func (p *planner) saveState(ctx context.Context, state *store.Store, run int64) error {
	steps := []func() error{
		func() error { return state.DropClaims(ctx, p.unclaim) },
		func() error { return state.SaveLinks(ctx, run, p.links) },
		func() error { return state.DropLinks(ctx, p.unlink) },
		func() error { return state.SetLeft(ctx, p.left, true) },
		func() error { return state.SetLeft(ctx, p.back, false) },
		func() error { return state.ClearDirty(ctx, p.cleared) },
		func() error { return state.SetDirty(ctx, p.blocked, store.DirtyNext, false) },
		func() error { return state.SetDirty(ctx, p.later, store.DirtyLater, false) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (p *planner) count(c *wire.Counts, looked int) {
	c.Planned += looked - len(p.later)
	c.Problems += len(p.problems)
	for _, change := range p.changes {
		if change.Operation != "" {
			tally(c, change.Operation, 1)
		}
	}
}

// tally adds changes of one operation to the counts.
func tally(c *wire.Counts, operation plan.Operation, n int) {
	c.Changes += n
	switch operation {
	case plan.Create:
		c.Create += n
	case plan.Adopt:
		c.Adopt += n
	case plan.Update:
		c.Update += n
	case plan.Restore:
		c.Restore += n
	case plan.Suspend:
		c.Suspend += n
	}
}
