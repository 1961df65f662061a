package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

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
		batch, err := tx.NextDirty(ctx, phase, x.subject, *after, planBatch)
		if looked = len(batch); err != nil || looked == 0 {
			return err
		}
		last = refOf(batch[looked-1])
		if err := tx.Unhold(ctx, refsOf(batch)); err != nil {
			return err
		}
		p = &planner{settings: x.settings, cloud: x.offer, now: x.now, last: phase == store.DirtyLater, claims: tx.ReplaceClaims, tells: x.run.Rehearsal}
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
			if err = state.Fenced(ctx, work); !store.Deadlock(err) {
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
	cloud    offer
	now      time.Time
	claims   func(context.Context, []store.Ref, []store.NewClaim) (map[string]store.Claimant, error)
	last     bool // clashes with entries that are still to be planned are real
	tells    bool // also keeps decisions by which nothing is done

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
	waits    []store.Ref // deleted, and made again: the new entry takes the link over
	from, to []store.Ref // links that are handed over
	joined   int
}

// offer is what the cloud takes, as far as plans ask.
type offer struct {
	domains []string                // verified login domains, nil when unknown
	kinds   map[entry.Kind]bool     // those that it has resources for
	unique  map[entry.Kind][]string // keys of paths whose values are unique
	members []entry.Kind            // what groups can hold
}

// subject is one entry of the batch on its way to a decision.
type subject struct {
	store.Dirty
	plan.Subject
	ref      store.Ref
	person   person
	claims   []plan.Claim
	decision plan.Decision
	written  bool           // its kind goes to the cloud
	near     []match.Key    // by what somebody else in the cloud may be the same person
	holdsOff bool           // waits for others of this plan
	formers  []store.Former // what the entry was, see match.Returned
}

func refsOf(batch []store.Dirty) []store.Ref {
	refs := make([]store.Ref, len(batch))
	for i, d := range batch {
		refs[i] = refOf(d)
	}
	return refs
}

func refOf(d store.Dirty) store.Ref { return store.Ref{Directory: d.Entry.Directory, ID: d.Entry.ID} }

// judge is scope and rules for one entry; match follows when all keys of a
// batch are known.
func (c *compiled) judge(d store.Dirty, one person, cloud offer, now time.Time) *subject {
	of := c.of(d.Entry.Kind)
	s := &subject{Dirty: d, ref: refOf(d), person: one, written: !of.rules.Empty() && cloud.kinds[d.Entry.Kind]}
	s.Subject = plan.Subject{Entry: d.Entry, Link: d.Link, Resource: d.Resource, Leavers: of.leavers, Verdict: c.scope.Decide(d.Entry)}
	s.GraceOver = of.grace == 0 || d.LeftAt != nil && !now.Before(d.LeftAt.Add(of.grace))
	if s.Verdict.In && s.written {
		s.Desired = of.rules.Apply(c.entriesOf(d.Entry, one.followers))
	}
	return s
}

// unmatched tells whether the entry needs matching.
func (s *subject) unmatched() bool {
	return s.written && s.Verdict.In && s.Dirty.Link == nil && s.person.joined == nil
}

// matchWith decides the match from what the mirror holds.
func (c *compiled) matchWith(s *subject, holders map[string][]store.Holder) {
	kind := s.Dirty.Entry.Kind
	s.Match = match.Decide(c.keysOf(s), func(key match.Key) []match.Candidate {
		var candidates []match.Candidate
		for _, holder := range holders[key.Text()] {
			if holder.Kind == kind {
				candidates = append(candidates, match.Candidate{Resource: holder.Resource, LinkedTo: holder.LinkedDN, Gone: holder.Gone, Former: s.was(holder)})
			}
		}
		return candidates
	})
}

// keysOf are the values by which the subject's resource may be found.
func (c *compiled) keysOf(s *subject) []match.Key {
	of := c.of(s.Dirty.Entry.Kind)
	// A resource that was made for another entry of the person bears its id.
	others := of.join.Carried(s.Dirty.Entry)
	for _, f := range s.person.followers {
		others = append(others, f.Entry.ID)
	}
	keys := of.match.Keys(s.Dirty.Entry, s.Desired.Texts, others...)
	for _, former := range s.formers {
		keys = slices.Insert(keys, 1, match.FormerKey(s.Dirty.Entry.Kind, cmp.Or(former.LinkKey, former.Entry.LinkKey())))
	}
	return keys
}

// decideByHand puts what an operator has decided in the place of the rules.
func (s *subject) decideByHand(chosen store.Chosen) {
	switch {
	case chosen.Action == store.ChosenLink && chosen.Resource != nil && s.Match.Action != match.Relink:
		s.Match = match.ByHand(chosen.Resource, chosen.By)
	case chosen.Action == store.ChosenHold:
		s.Match = match.Held(chosen.By)
	case chosen.Action == store.ChosenCreate && s.Match.Action == match.Stop:
		s.Match = match.Decision{Action: match.Create, Reasons: s.Match.Reasons}
	}
}

// alike finds resources that nobody owns and that look like the same person.
func (s *subject) alike(holders map[string][]store.Holder) []match.Alike {
	var found []match.Alike
	for _, key := range s.near {
		for _, holder := range holders[key.Text()] {
			free := holder.Kind == entry.User && holder.EntryID == "" && holder.Resource.ExternalID() == ""
			if free && !slices.ContainsFunc(found, func(a match.Alike) bool { return a.Resource.ID() == holder.Resource.ID() }) {
				found = append(found, match.Alike{Resource: holder.Resource, Key: key})
			}
		}
	}
	return found
}

// likeness is by what somebody in the cloud may be the same person as one for
// whom an account is about to be made.
func (s *subject) likeness() []match.Key {
	if s.decision.Operation != plan.Create || s.Dirty.Entry.Kind != entry.User || s.Dirty.Link != nil {
		return nil
	}
	resource, err := plan.NewResource(s.decision.Diffs)
	if err != nil {
		return nil
	}
	return match.LikenessOf(resource).Keys()
}

// fillGroups gives entries the groups that hold them where decisions ask.
func (c *compiled) fillGroups(ctx context.Context, state *store.Store, batch []store.Dirty) error {
	if !c.asksForGroups {
		return nil
	}
	entries := make([]*entry.Entry, len(batch))
	for i := range batch {
		entries[i] = &batch[i].Entry
	}
	return state.FillGroups(ctx, entries)
}

func (p *planner) decide(ctx context.Context, state *store.Store, batch []store.Dirty) error {
	if err := p.settings.fillGroups(ctx, state, batch); err != nil {
		return err
	}
	persons, err := p.settings.personsOf(ctx, state, batch)
	if err != nil {
		return err
	}
	subjects := make([]*subject, len(batch))
	for i, dirty := range batch {
		subjects[i] = p.settings.judge(dirty, persons[refOf(dirty)], p.cloud, p.now)
	}
	if err := p.match(ctx, state, subjects); err != nil {
		return err
	}
	for _, s := range subjects {
		if s.Verdict.In && (s.decision.Problem == nil || s.decision.ResourceID != "") && s.written && s.decision.Code != plan.Follows {
			s.claims = plan.Claims(s.Dirty.Entry.Kind, s.Desired, p.cloud.unique[s.Dirty.Entry.Kind])
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

// match decides for every subject, what operators have decided before the rules.
func (p *planner) match(ctx context.Context, state *store.Store, subjects []*subject) error {
	if err := p.returns(ctx, state, subjects); err != nil {
		return err
	}
	var keys []string
	var open []store.Ref
	for _, s := range subjects {
		if s.unmatched() {
			open = append(open, s.ref)
			for _, key := range p.settings.keysOf(s) {
				keys = append(keys, key.Text())
			}
		}
	}
	holders, err := state.Holders(ctx, keys)
	if err != nil {
		return fmt.Errorf("look for resources to match: %w", err)
	}
	chosen, err := state.ChosenFor(ctx, open)
	if err != nil {
		return fmt.Errorf("look for what operators have decided: %w", err)
	}
	keys = nil
	for _, s := range subjects {
		if !s.written {
			s.decision = plan.Decision{Code: plan.NotSent}
			continue
		}
		if s.person.joined != nil && s.Verdict.In {
			s.decision = follow(*s.person.joined)
			continue
		}
		if s.decision.Code == plan.Returns {
			continue
		}
		if s.unmatched() {
			p.settings.matchWith(s, holders)
			s.decideByHand(chosen[s.ref])
		}
		s.decision = plan.CheckLogin(plan.Decide(s.Subject), p.cloud.domains)
		if chosen[s.ref].Action != store.ChosenCreate {
			s.near = s.likeness()
			for _, key := range s.near {
				keys = append(keys, key.Text())
			}
		}
	}
	if len(keys) == 0 {
		return nil
	}
	if holders, err = state.FreeHolders(ctx, keys); err != nil {
		return fmt.Errorf("look for resources that are alike: %w", err)
	}
	for _, s := range subjects {
		if found := s.alike(holders); len(found) > 0 {
			tried := s.Match.Reasons
			s.Match = match.TooNear(found)
			s.Match.Reasons = append(tried, s.Match.Reasons...)
			s.decision = plan.Decide(s.Subject)
		}
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
			s.decision = plan.Clash(s.decision, claim, holder.DN)
			if s.holdsOff = false; s.decision.ResourceID == "" {
				break
			}
		}
		if s.holdsOff || s.decision.Problem != nil && s.decision.ResourceID == "" {
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
				if s.decision.Operation == plan.Create && holder.Kind == s.Dirty.Entry.Kind && holder.Resource.ExternalID() == s.Dirty.Entry.LinkKey() {
					continue
				}
				name := fmt.Sprintf("the resource %s (%s) in the cloud", holder.Resource.Name(), holder.Resource.ID())
				if holder.LinkedDN != "" {
					name += ", which belongs to " + holder.LinkedDN
				}
				s.decision = plan.Clash(s.decision, claim, name)
				s.decision.Candidates = []string{holder.Resource.ID()}
				if s.decision.ResourceID == "" {
					p.unclaim = append(p.unclaim, s.ref)
				}
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
		p.problems = append(p.problems, store.NewProblem{Ref: s.ref, Code: string(d.Problem.Code), Detail: d.Problem.Detail, Candidates: d.Candidates})
		p.changes = append(p.changes, store.NewChange{
			Ref: s.ref, Kind: s.Dirty.Entry.Kind, DN: s.Dirty.Entry.DN, ResourceID: s.resourceID(), Name: s.name(), Code: string(d.Problem.Code), Detail: d.Problem.Detail,
			Candidates: d.Candidates,
		})
	} else if d.Code == plan.Returns {
		p.waits = append(p.waits, s.ref)
	} else {
		p.well, p.cleared = append(p.well, s.ref), append(p.cleared, s.ref)
	}
	if d.Code == plan.Follows {
		p.joined++
		if p.tells {
			j := s.person.joined
			p.changes = append(p.changes, store.NewChange{
				Ref: s.ref, Kind: s.Dirty.Entry.Kind, DN: s.Dirty.Entry.DN, Name: s.name(), Code: string(d.Code), Detail: fmt.Sprintf("one person with %s, by %s", j.LeadDN, j.Rule),
			})
		}
	}
	if d.Operation != "" {
		change := store.NewChange{
			Ref: s.ref, Kind: s.Dirty.Entry.Kind, Operation: d.Operation, DN: s.Dirty.Entry.DN, ResourceID: d.ResourceID, Name: s.name(), Diffs: d.Diffs,
			Lookup: d.Operation == plan.Create && (s.Dirty.Lookup || s.Dirty.Link != nil),
		}
		if away, rest := plan.Withdraw(d.Diffs); d.Operation == plan.Update && len(away) > 0 && len(rest) > 0 {
			first := change
			first.Diffs = away
			p.changes = append(p.changes, first)
			change.Diffs, change.Later = rest, true
		}
		p.changes = append(p.changes, change)
	}
	switch {
	case !s.unmatched() || s.Match.Action != match.Relink:
	case s.linkedFormer() != nil:
		p.from, p.to = append(p.from, refOf(store.Dirty{Entry: s.linkedFormer().Entry})), append(p.to, s.ref)
		if d.Code == plan.Relinked {
			p.back = append(p.back, s.ref)
		}
	default:
		p.links = append(p.links, store.NewLink{Ref: s.ref, Kind: s.Dirty.Entry.Kind, LinkKey: s.Match.Resource.ExternalID(), ResourceID: s.Match.Resource.ID(), How: string(match.Relink)})
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
	for _, target := range []string{"userName", "displayName"} {
		if name := s.Desired.Text(target); name != "" {
			return name
		}
	}
	if s.Dirty.Resource != nil {
		return s.Dirty.Resource.Name()
	}
	return s.Dirty.Entry.Name()
}

func (p *planner) saveState(ctx context.Context, state *store.Store, run int64) error {
	steps := []func() error{
		func() error { return state.DropClaims(ctx, p.unclaim) },
		func() error { return state.HandOver(ctx, p.from, p.to) },
		func() error { return state.SaveLinks(ctx, run, p.links) },
		func() error { return state.DropLinks(ctx, p.unlink) },
		func() error { return state.SetLeft(ctx, p.left, true) },
		func() error { return state.SetLeft(ctx, p.back, false) },
		func() error { return state.ClearDirty(ctx, p.cleared) },
		func() error { return state.SetDirty(ctx, p.blocked, store.DirtyNext, false) },
		func() error { return state.SetDirty(ctx, p.waits, store.DirtyNext, false) },
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
	c.Joined += p.joined
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
	case plan.Delete:
		c.Delete += n
	}
}
