package runs

import (
	"context"
	"maps"
	"slices"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/store"
)

// guardBatch is how many changes are divided at once.
const guardBatch = 500

// guard holds what the run would take away when that is too much, with what went before:
// people first, then what they have.
func (x *execution) guard(ctx context.Context) error {
	removals, released, err := x.store.Changes.CountRemovals(ctx, x.run.ID)
	if err != nil {
		return err
	}
	tooMany, earlier, err := x.tooManyRemovals(ctx, change.Cloud, removals, released, x.store.Links.Count)
	if err == nil && tooMany {
		x.held(earlier, x.since.removals)
		err = x.store.Changes.HoldRemovals(ctx, x.run.ID, !x.run.Purpose.Rehearses())
	}
	if err != nil {
		return err
	}
	return x.guardLosses(ctx, 0, store.RankReferences-1)
}

// tooManyRemovals tells whether what is planned on one side and not released is too much,
// with what went before, of which it tells the number.
func (x *execution) tooManyRemovals(ctx context.Context, side change.Side, planned, released int, total func(context.Context) (int, error)) (tooMany bool, earlier int, err error) {
	if planned > 0 && !x.since.removals.IsZero() {
		if earlier, err = x.store.Changes.RemovedSince(ctx, x.run.ID, x.around(), side, x.since.removals); err != nil {
			return false, 0, err
		}
	}
	if x.releasesSome() {
		earlier += released
	}
	limit := settings.Limit{Number: x.Settings.Document.Guard.Removals, Share: x.Settings.Document.Guard.Share}
	tooMany, err = exceeds(limit, planned, earlier, func() (int, error) { return total(ctx) })
	return tooMany, earlier, err
}

// held notes what of the same went before.
func (x *execution) held(earlier int, since time.Time) {
	if earlier == 0 {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if c := &x.run.Counts; earlier > c.Earlier {
		c.Earlier, c.EarlierSince = earlier, &since
	}
}

// exceeds tells whether n, with those that went earlier, are more than a limit allows. How
// many there are in all, which takes the longer the more there are, is asked only when the
// number is passed.
func exceeds(limit settings.Limit, n, earlier int, total func() (int, error)) (bool, error) {
	if n <= 0 || n+earlier <= limit.Number {
		return false, nil
	}
	all, err := total()
	return err == nil && plan.Exceeds(limit, n+earlier, all+earlier), err
}

// guardLosses holds parts of the planned changes of some ranks: values that would be
// emptied, access and members that would go, logins that would change, each when there
// are too many alike.
func (x *execution) guardLosses(ctx context.Context, from, to int) error {
	losses, groups, err := x.store.Changes.Losses(ctx, x.run.ID, from, to)
	if err != nil || len(losses) == 0 {
		return err
	}
	released, err := x.released(ctx, from, to)
	if err != nil {
		return err
	}
	let, letOf, err := x.letThrough(ctx, released, from, to)
	if err != nil {
		return err
	}
	earlier, earlierOf, err := x.lostBefore(ctx, from, to)
	if err != nil {
		return err
	}
	if x.releasesSome() {
		for is, n := range let {
			earlier[is] += n
		}
		for group, n := range letOf {
			earlierOf[group] += n
		}
	}
	limits := x.Settings.Document.Guard.Whole()
	tooMany := tooMany{released: released, losses: map[lossOfKind]bool{}, groups: map[string]bool{}, x: x}
	for _, loss := range losses {
		is := lossOf(loss)
		limit := map[plan.LossOf]*settings.Limit{plan.LosesMembers: limits.Members, plan.LosesValue: limits.Values, plan.LosesAccess: limits.Access, plan.LosesLogin: limits.Logins}[is.Of]
		if tooMany.losses[is], err = exceeds(*limit, loss.Count-let[is], earlier[is], func() (int, error) {
			switch {
			case is.Of == plan.LosesMembers && from >= store.RankGroups:
				return x.store.CloudGroups.CountMemberships(ctx)
			case is.Of == plan.LosesMembers:
				return x.store.Resources.CountMemberships(ctx)
			case from >= store.RankGroups:
				return x.store.CloudGroups.Count(ctx)
			}
			return x.store.Links.CountOf(ctx, is.kind)
		}); err != nil {
			return err
		}
		if tooMany.losses[is] {
			x.held(earlier[is], x.since.losses)
		}
	}
	for group, lost := range groups {
		if tooMany.groups[group], err = exceeds(*limits.Group, lost-letOf[group], earlierOf[group], func() (int, error) {
			if from >= store.RankGroups {
				return x.store.CloudGroups.CountMembers(ctx, group)
			}
			return x.store.Resources.CountMembers(ctx, group)
		}); err != nil {
			return err
		}
		if tooMany.groups[group] {
			x.held(earlierOf[group], x.since.losses)
		}
	}
	if !tooMany.any() {
		return nil
	}
	return x.eachLosing(ctx, x.run.ID, "planned", from, to, func(changes []store.Change) error {
		divided, err := tooMany.divide(ctx, changes)
		if err != nil {
			return err
		}
		return x.store.Fenced(ctx, func(tx *store.Store) error { return tx.Changes.Hold(ctx, divided, !x.run.Purpose.Rehearses()) })
	})
}

// lostBefore is what runs before have taken away of what the guard counts: by loss, and
// members by group.
func (x *execution) lostBefore(ctx context.Context, from, to int) (map[lossOfKind]int, map[string]int, error) {
	losses, groups := map[lossOfKind]int{}, map[string]int{}
	if x.since.losses.IsZero() {
		return losses, groups, nil
	}
	before, of, err := x.store.Changes.LossesSince(ctx, x.around(), x.since.losses, from, to)
	for _, loss := range before {
		losses[lossOf(loss)] = loss.Count
	}
	maps.Copy(groups, of)
	return losses, groups, err
}

// eachLosing goes through the changes of some ranks of a run that take something away
// and are in a state.
func (x *execution) eachLosing(ctx context.Context, run int64, state string, from, to int, work func([]store.Change) error) error {
	for after := int64(0); ; {
		changes, err := x.store.Changes.Losing(ctx, run, state, from, to, after, guardBatch)
		if err != nil || len(changes) == 0 {
			return err
		}
		after = changes[len(changes)-1].ID
		if err := work(changes); err != nil {
			return err
		}
	}
}

// lossOfKind is a loss of people, of groups or of contacts.
type lossOfKind struct {
	kind entry.Kind
	plan.Loss
}

func lossOf(loss problem.Loss) lossOfKind {
	return lossOfKind{entry.Kind(loss.Kind), plan.Loss{Of: plan.LossOf(loss.Of), Target: loss.Target}}
}

// tooMany is what the guard holds.
type tooMany struct {
	x        *execution
	losses   map[lossOfKind]bool
	groups   map[string]bool // by resource: these lose too many members
	released releasedLosses
}

func (t *tooMany) any() bool {
	is := func(held bool) bool { return held }
	return slices.ContainsFunc(slices.Collect(maps.Values(t.losses)), is) || slices.ContainsFunc(slices.Collect(maps.Values(t.groups)), is)
}

// divide parts changes into what is held and what goes on; members that leave the
// cloud themselves go on.
func (t *tooMany) divide(ctx context.Context, changes []store.Change) ([]store.Divided, error) {
	var ids []string
	for _, c := range changes {
		ids = append(ids, change.Removed(c.Diffs)...)
	}
	leaving, err := t.x.store.Changes.Leaving(ctx, t.x.run.ID, ids)
	if err != nil {
		return nil, err
	}
	var divided []store.Divided
	for _, c := range changes {
		d := store.Divided{Change: c}
		d.Waits, d.Rest = plan.Wait(c.Diffs, func(loss plan.Loss, m change.Member) bool {
			if t.released[releasedLoss{c.Ref(), loss, m.Value}] {
				return false
			}
			if loss.Of == plan.LosesMembers {
				waits := !leaving[m.Value] && (t.losses[lossOfKind{c.Kind, loss}] || t.groups[c.ResourceID])
				if waits {
					d.Lost++
				}
				return waits
			}
			return t.losses[lossOfKind{c.Kind, loss}]
		})
		if len(d.Waits) > 0 {
			divided = append(divided, d)
		}
	}
	return divided, nil
}

// releasedLosses are what the run lets through that another has held.
type releasedLosses map[releasedLoss]bool

// releasedLoss is a loss of one entry; of members and the like, of each.
type releasedLoss struct {
	entry.Ref
	plan.Loss
	member string
}

// letThrough counts what of the planned changes another run has held, which this one
// lets through: by loss, and members by group.
func (x *execution) letThrough(ctx context.Context, released releasedLosses, from, to int) (map[lossOfKind]int, map[string]int, error) {
	losses, groups := map[lossOfKind]int{}, map[string]int{}
	if len(released) == 0 {
		return losses, groups, nil
	}
	err := x.eachLosing(ctx, x.run.ID, "planned", from, to, func(changes []store.Change) error {
		for _, c := range changes {
			counted := map[lossOfKind]bool{} // of a change, a loss of values counts once
			plan.Wait(c.Diffs, func(loss plan.Loss, m change.Member) bool {
				is := lossOfKind{c.Kind, loss}
				switch {
				case !released[releasedLoss{c.Ref(), loss, m.Value}]:
				case loss.Of == plan.LosesMembers:
					losses[is]++
					groups[c.ResourceID]++
				case !counted[is]:
					counted[is] = true
					losses[is]++
				}
				return false
			})
		}
		return nil
	})
	return losses, groups, err
}

func (x *execution) released(ctx context.Context, from, to int) (releasedLosses, error) {
	released := releasedLosses{}
	if x.run.Releases == 0 {
		return released, nil
	}
	return released, x.eachLosing(ctx, x.run.Releases, "held", from, to, func(changes []store.Change) error {
		for _, c := range changes {
			if len(x.run.Only) > 0 && !slices.Contains(x.run.Only, c.ID) {
				continue
			}
			plan.Wait(c.Diffs, func(loss plan.Loss, m change.Member) bool {
				released[releasedLoss{c.Ref(), loss, m.Value}] = true
				return false
			})
		}
		return nil
	})
}
