package runs

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// deadlockTries is how often a transaction is done that the database has ended.
const deadlockTries = 10

// fenced does work in one transaction under the lock; one that the database ends, since it
// and another wait for each other, is done again.
func (x *execution) fenced(ctx context.Context, work func(*store.Store) error) error {
	var err error
	for range deadlockTries {
		if err = x.store.Fenced(ctx, work); !store.Deadlock(err) {
			break
		}
	}
	return err
}

// The phases of a plan. Whoever has a resource comes first, so that a newcomer
// never takes a value from them, and whoever waits for others comes last.
var (
	linked, unlinked = true, false
	phases           = []store.DirtyQuery{{Linked: &linked}, {Linked: &unlinked}, {State: store.DirtyLater}}
)

// plan decides about everything dirty and keeps what follows.
func (x *execution) plan(ctx context.Context) error {
	for _, phase := range phases {
		group, groupCtx := errgroup.WithContext(ctx)
		turns := &judging.Turns{}
		for range judging.Workers {
			group.Go(func() error {
				query := phase
				query.Only, query.Without, query.Limit = x.subject, x.Without, x.Batch
				for {
					looked, err := x.planBatch(groupCtx, &query, turns)
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
// entries it has looked at. Batches claim in their turn.
func (x *execution) planBatch(ctx context.Context, query *store.DirtyQuery, turns *judging.Turns) (int, error) {
	var p *planned
	var last entry.Ref
	var turn judging.Turn
	looked := 0
	work := func(tx *store.Store) error {
		if err := tx.ByIndex(ctx); err != nil {
			return err
		}
		var batch []decide.Case
		var err error
		turn, err = turns.Next(func() (err error) {
			batch, err = tx.Dirty.Next(ctx, *query)
			return err
		})
		if looked = len(batch); err != nil || looked == 0 {
			return err
		}
		last = batch[looked-1].Entry.Ref()
		refs := refsOf(batch)
		if err := tx.Changes.Unhold(ctx, refs); err != nil {
			return err
		}
		decider := x.Decider(judging.ClaimInTurn(tx.Facts, &turn))
		decider.Last = query.State == store.DirtyLater
		outcomes, err := decider.Decide(ctx, batch)
		if err != nil {
			return err
		}
		p = &planned{settings: x.Settings}
		for _, o := range outcomes {
			p.gather(o)
		}
		if x.within != nil {
			if err := tx.Changes.Supersede(ctx, x.within.run.ID, refs, x.run.ID); err != nil {
				return err
			}
		}
		if err := p.saveState(ctx, tx, x.run.ID); err != nil {
			return err
		}
		if err := tx.Changes.Add(ctx, x.run.ID, p.changes); err != nil {
			return err
		}
		if err := tx.Problems.Close(ctx, x.run.ID, p.well); err != nil {
			return err
		}
		return tx.Problems.Save(ctx, store.MetByPlan, x.run.ID, p.problems)
	}
	err := x.fenced(ctx, func(tx *store.Store) error {
		defer func() { turn.End() }()
		return work(tx)
	})
	if err != nil || looked == 0 {
		return 0, err
	}
	query.After = last
	return looked, x.count(ctx, func(c *progress.Counts) { p.count(c, looked) })
}

// planned gathers what follows from outcomes.
type planned struct {
	settings *decide.Settings
	tells    bool // also keeps outcomes by which nothing is sent

	changes  []store.NewChange
	problems []store.NewProblem
	well     []entry.Ref // planned without a problem
	blocked  []entry.Ref
	later    []entry.Ref
	links    []store.NewLink
	unlink   []entry.Ref
	left     []store.Leaving
	back     []entry.Ref
	waits    []entry.Ref // deleted, and made again: the new entry takes the link over
	kept     []entry.Ref // whose removal was discarded
	lapsed   map[entry.Ref][]decide.Kept
	unpinned map[entry.Ref][]decide.Pin
	from, to []entry.Ref // links that are handed over
	loose    []entry.Ref // linked, and named are those whom the entry does not name
	same     int
}

func refsOf(batch []decide.Case) []entry.Ref {
	refs := make([]entry.Ref, len(batch))
	for i, d := range batch {
		refs[i] = d.Entry.Ref()
	}
	return refs
}

// gather turns an outcome into what is kept of it.
func (p *planned) gather(o *decide.Outcome) {
	ref := o.Ref()
	if o.Waits {
		p.later = append(p.later, ref)
		return
	}
	base := store.NewChange{Ref: ref, Kind: o.Entry.Kind, DN: o.Entry.DN, ResourceID: o.ResourceID, Name: o.Name(), Rule: o.Rule()}
	switch {
	case o.Problem != nil:
		p.blocked = append(p.blocked, ref)
		p.problems = append(p.problems, store.ProblemOf(about.EntryOf(ref), o.Problem))
		change := base
		change.ResourceID, change.Code, change.Detail, change.Facts = o.LinkedID(), string(o.Problem.Code), o.Problem.Detail, &o.Problem.Facts
		p.changes = append(p.changes, change)
	case o.Code == plan.Returns:
		p.waits = append(p.waits, ref)
	case o.Again():
		p.later = append(p.later, ref)
	default:
		p.well = append(p.well, ref)
	}
	loose := p.settings.Of(o.Entry.Kind).Rules.Loose(o.Entry.Attributes, o.Linked())
	if loose {
		p.loose = append(p.loose, ref)
	}
	p.note(o, base, loose)
	if len(o.Lapsed) > 0 {
		if p.lapsed == nil {
			p.lapsed = map[entry.Ref][]decide.Kept{}
		}
		p.lapsed[ref] = o.Lapsed
	}
	if len(o.LapsedPins) > 0 {
		if p.unpinned == nil {
			p.unpinned = map[entry.Ref][]decide.Pin{}
		}
		p.unpinned[ref] = o.LapsedPins
	}
	if o.Operation != "" {
		change := base
		change.Operation, change.Diffs, change.Due = o.Operation, o.Diffs, o.Due
		change.Lookup = o.Operation == plan.Create && (o.Lookup || o.Case.Link != nil)
		if away, rest := plan.Withdraw(o.Diffs); o.Operation == plan.Update && len(away) > 0 && len(rest) > 0 {
			first := change
			first.Diffs = away
			p.changes = append(p.changes, first)
			change.Diffs, change.Later = rest, true
		}
		p.changes = append(p.changes, change)
	}
	switch former := o.Former(); {
	case former != nil:
		p.from, p.to = append(p.from, former.Entry.Ref()), append(p.to, ref)
		if o.Code == plan.Relinked {
			p.back = append(p.back, ref)
		}
	case o.Unmatched() && o.Match.Action == match.Relink:
		p.links = append(p.links, store.NewLink{Ref: ref, Kind: o.Entry.Kind, LinkKey: o.Match.Resource.ExternalID(), ResourceID: o.Match.Resource.ID(), How: string(match.Relink)})
	}
	switch {
	case o.Code == plan.Unlinked:
		p.unlink = append(p.unlink, ref)
	case o.Code == plan.Kept:
		p.kept = append(p.kept, ref)
	case o.Code == plan.Left:
		p.left = append(p.left, store.Leaving{Ref: ref, Due: o.Due})
	case o.Code == plan.InStep && o.Case.Link != nil && o.Case.Link.Left:
		p.back = append(p.back, ref)
	}
}

// note keeps in a rehearsal what a run would do to links alone, since what ties
// resources together follows from them.
func (p *planned) note(o *decide.Outcome, base store.NewChange, loose bool) {
	base.Noted = true
	switch {
	case o.Code == plan.Follows:
		p.same++
		base.Code, base.Detail = string(o.Code), fmt.Sprintf("one person with %s, by %s", o.Kin.Follows.LeadDN, o.Kin.Follows.Rule)
	case o.Code == plan.Relinked, o.Code == plan.Left && !o.Case.Link.Left:
		base.Code, base.Tie = string(o.Code), true
	case o.Code == plan.InStep && o.Case.Link != nil && o.Case.Link.Left:
		base.Code, base.ResourceID, base.Tie = string(plan.Relinked), o.LinkedID(), true
	case loose:
		base.Tie = true
	default:
		return
	}
	if p.tells {
		p.changes = append(p.changes, base)
	}
}

func (p *planned) saveState(ctx context.Context, tx *store.Store, run int64) error {
	steps := []func() error{
		func() error { return tx.Links.HandOver(ctx, p.from, p.to) },
		func() error { return tx.Links.Save(ctx, run, p.links) },
		func() error { return tx.Links.Drop(ctx, p.unlink) },
		func() error { return tx.Links.SetLeft(ctx, p.left) },
		func() error { return tx.Links.SetBack(ctx, p.back) },
		func() error { return tx.Kept.Mark(ctx, p.kept) },
		func() error { return tx.Kept.Drop(ctx, p.lapsed) },
		func() error { return tx.Pins.Drop(ctx, p.unpinned) },
		func() error { return tx.References.Mark(ctx, p.loose) },
		func() error { return tx.Dirty.Clear(ctx, p.well) },
		func() error { return tx.Dirty.Set(ctx, p.blocked, store.DirtyNext, false) },
		func() error { return tx.Dirty.Set(ctx, p.waits, store.DirtyNext, false) },
		func() error { return tx.Dirty.Set(ctx, p.later, store.DirtyLater, false) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (p *planned) count(c *progress.Counts, looked int) {
	c.Planned += looked - len(p.later)
	c.Problems += len(p.problems)
	c.SamePerson += p.same
	for _, change := range p.changes {
		if change.Operation != "" {
			tally(c, change.Operation, 1)
		}
	}
}

// tally adds changes of one operation to the counts.
func tally(c *progress.Counts, operation plan.Operation, n int) {
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
	case plan.Leave:
		c.Leave += n
	case plan.Delete:
		c.Delete += n
	case plan.Unlink:
		c.Unlink += n
	}
}
