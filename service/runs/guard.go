package runs

import (
	"context"
	"maps"
	"slices"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/store"
)

// guardBatch is how many changes are divided at once.
const guardBatch = 500

// guard holds what the run would take away when that is too much: people first, then
// what they have.
func (x *execution) guard(ctx context.Context) error {
	removals, err := x.store.Changes.CountRemovals(ctx, x.run.ID)
	if err != nil {
		return err
	}
	if removals > 0 {
		linked, err := x.store.Links.Count(ctx)
		if err != nil {
			return err
		}
		limit := settings.Limit{Number: x.Settings.Document.Guard.Removals, Share: x.Settings.Document.Guard.Share}
		if plan.Exceeds(limit, removals, linked) {
			if err := x.store.Changes.HoldRemovals(ctx, x.run.ID, !x.run.Purpose.Rehearses()); err != nil {
				return err
			}
		}
	}
	return x.guardLosses(ctx, 0, store.RankReferences-1)
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
	limits := x.Settings.Document.Guard.Whole()
	tooMany := tooMany{released: released, losses: map[lossOfKind]bool{}, groups: map[string]bool{}, x: x}
	for _, loss := range losses {
		is := lossOfKind{entry.Kind(loss.Kind), plan.Loss{Of: plan.LossOf(loss.Of), Target: loss.Target}}
		if is.Of == plan.LosesMembers {
			sizes, all, err := x.store.Changes.MemberCounts(ctx, slices.Collect(maps.Keys(groups)))
			if err != nil {
				return err
			}
			tooMany.losses[is] = plan.Exceeds(*limits.Members, loss.Count-let[is], all)
			for group, lost := range groups {
				tooMany.groups[group] = plan.Exceeds(*limits.Group, lost-letOf[group], sizes[group])
			}
			continue
		}
		limit := map[plan.LossOf]*settings.Limit{plan.LosesValue: limits.Values, plan.LosesAccess: limits.Access, plan.LosesLogin: limits.Logins}[is.Of]
		linked, err := x.store.Links.CountOf(ctx, is.kind)
		if err != nil {
			return err
		}
		tooMany.losses[is] = plan.Exceeds(*limit, loss.Count-let[is], linked)
	}
	if !tooMany.any() {
		return nil
	}
	for after := int64(0); ; {
		changes, err := x.store.Changes.Losing(ctx, x.run.ID, "planned", from, to, after, guardBatch)
		if err != nil || len(changes) == 0 {
			return err
		}
		after = changes[len(changes)-1].ID
		divided, err := tooMany.divide(ctx, changes)
		if err != nil {
			return err
		}
		if err := x.store.Fenced(ctx, func(tx *store.Store) error { return tx.Changes.Hold(ctx, divided, !x.run.Purpose.Rehearses()) }); err != nil {
			return err
		}
	}
}

// lossOfKind is a loss of people, of groups or of contacts.
type lossOfKind struct {
	kind entry.Kind
	plan.Loss
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
		for _, diff := range c.Diffs {
			for _, m := range diff.Removed {
				ids = append(ids, m.Value)
			}
		}
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
	for after := int64(0); len(released) > 0; {
		changes, err := x.store.Changes.Losing(ctx, x.run.ID, "planned", from, to, after, guardBatch)
		if err != nil || len(changes) == 0 {
			return losses, groups, err
		}
		after = changes[len(changes)-1].ID
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
	}
	return losses, groups, nil
}

func (x *execution) released(ctx context.Context, from, to int) (releasedLosses, error) {
	released := releasedLosses{}
	for after := int64(0); x.run.Releases != 0; {
		changes, err := x.store.Changes.Losing(ctx, x.run.Releases, "held", from, to, after, guardBatch)
		if err != nil || len(changes) == 0 {
			return released, err
		}
		after = changes[len(changes)-1].ID
		for _, c := range changes {
			if len(x.run.Only) > 0 && !slices.Contains(x.run.Only, c.ID) {
				continue
			}
			plan.Wait(c.Diffs, func(loss plan.Loss, m change.Member) bool {
				released[releasedLoss{c.Ref(), loss, m.Value}] = true
				return false
			})
		}
	}
	return released, nil
}
