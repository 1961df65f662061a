package runs

import (
	"context"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

const (
	referenceBatch = 200
	// mostMembers is how many members one change adds or removes, so that it fits
	// a request.
	mostMembers = 5000
)

// planReferences decides about what ties resources together, which can be known
// only when all of them have been made: members of groups, and attributes that
// name others. A rehearsal takes its own changes for done.
func (x *execution) planReferences(ctx context.Context, state *store.Store) error {
	rehearsed := int64(0)
	if x.run.Purpose.Rehearses() {
		rehearsed = x.run.ID
	}
	if x.Settings.HasPersons() && rehearsed == 0 {
		if err := state.References.MarkLeads(ctx); err != nil {
			return err
		}
	}
	query := store.ReferringQuery{Run: rehearsed, Everybody: rehearsed != 0 && x.run.Purpose.Everybody(), Only: x.subject, Without: x.Without, Limit: referenceBatch}
	for {
		refs, err := state.References.Referring(ctx, query)
		if err != nil || len(refs) == 0 {
			return err
		}
		query.After = refs[len(refs)-1]
		changes, err := x.referenceChanges(ctx, state, rehearsed, refs)
		if err != nil {
			return err
		}
		keep := func(tx *store.Store) error {
			if err := tx.Changes.DropHeld(ctx, x.run.ID, refs); err != nil {
				return err
			}
			if err := tx.Changes.Add(ctx, x.run.ID, changes); err != nil {
				return err
			}
			if err := tx.References.Clear(ctx, refs); err != nil {
				return err
			}
			// What is held is compared again in each run until it is not.
			return tx.References.Mark(ctx, heldOf(changes))
		}
		if rehearsed != 0 {
			keep = func(*store.Store) error { return x.store.Changes.Add(ctx, x.run.ID, changes) }
		}
		if err := x.store.Fenced(ctx, keep); err != nil {
			return err
		}
		if err := x.count(ctx, func(c *progress.Counts) {
			for _, one := range changes {
				if !one.Held {
					tally(c, one.Operation, 1)
				}
			}
		}); err != nil {
			return err
		}
	}
}

func heldOf(changes []store.NewChange) []entry.Ref {
	var refs []entry.Ref
	for _, one := range changes {
		if one.Held && !slices.Contains(refs, one.Ref) {
			refs = append(refs, one.Ref)
		}
	}
	return refs
}

func (x *execution) referenceChanges(ctx context.Context, state *store.Store, rehearsed int64, refs []entry.Ref) ([]store.NewChange, error) {
	subjects, err := state.Cases.Of(ctx, refs)
	if err != nil {
		return nil, err
	}
	members := map[entry.Ref]*store.MemberDiff{}
	if x.Settings.Of(entry.Group).Rules.Members() && x.Offer.Kinds[entry.Group] {
		if members, err = state.References.MemberDiffs(ctx, rehearsed, refs, x.Offer.Members); err != nil {
			return nil, err
		}
	}
	pointed, err := judging.PointedBy(ctx, x.Settings, state, rehearsed, refs)
	if err != nil {
		return nil, err
	}
	pins, err := x.pinnedTies(ctx, state, refs, members)
	if err != nil {
		return nil, err
	}
	takes := map[entry.Ref]entry.Resource{}
	if rehearsed != 0 {
		if takes, err = state.References.Taken(ctx, rehearsed, refs); err != nil {
			return nil, err
		}
	}
	var changes []store.NewChange
	for _, subject := range subjects {
		ref := subject.Entry.Ref()
		base := store.NewChange{
			Ref: ref, Kind: subject.Entry.Kind, References: true, Operation: plan.Update, DN: subject.Entry.DN, Name: nameOfSubject(subject),
		}
		if diff := members[ref]; diff != nil {
			base.ResourceID = strings.TrimPrefix(diff.ResourceID, "new:"+ref.ID.String())
			changes = append(changes, memberChanges(base, diff)...)
		}
		resource := subject.Resource
		if taken := takes[ref]; taken != nil {
			resource = taken
		} else if subject.Link == nil || subject.Link.Left || resource == nil {
			// What a newcomer refers to is written in the pass after it was made; a
			// rehearsal shows it with the creation.
			continue
		}
		base.ResourceID = resource.ID()
		if base.Diffs = referenceDiffs(x.Settings.Of(subject.Entry.Kind).Rules, resource, pointed[ref], pins[ref]); len(base.Diffs) > 0 {
			changes = append(changes, base)
		}
	}
	if changes, err = x.keepTies(ctx, state, refs, changes); err != nil {
		return nil, err
	}
	if changes, err = x.holdHanging(ctx, state, rehearsed, changes); err != nil {
		return nil, err
	}
	return changes, x.countLeaving(ctx, changes)
}

// keepTies leaves out what operators have kept: members and references whose loss was
// discarded, and those that hang on a removal that was.
func (x *execution) keepTies(ctx context.Context, state *store.Store, refs []entry.Ref, changes []store.NewChange) ([]store.NewChange, error) {
	kept, err := state.Kept.OfTies(ctx, refs)
	if err != nil {
		return nil, err
	}
	resources, err := state.Kept.Resources(ctx, removedBy(changes))
	if err != nil || len(kept)+len(resources) == 0 {
		return changes, err
	}
	used := map[entry.Ref][]decide.Kept{}
	var out []store.NewChange
	for _, one := range changes {
		_, one.Diffs = plan.Wait(one.Diffs, func(loss plan.Loss, m change.Member) bool {
			at := decide.KeptTie(loss, m).Find(kept[one.Ref])
			if at >= 0 {
				used[one.Ref] = append(used[one.Ref], kept[one.Ref][at])
			}
			return at >= 0 || resources[m.Value]
		})
		one.Diffs = slices.DeleteFunc(one.Diffs, func(d change.Diff) bool {
			before, _ := d.Before.(string)
			return resources[before]
		})
		if len(one.Diffs) > 0 {
			out = append(out, one)
		}
	}
	if x.run.Purpose.Rehearses() {
		return out, nil
	}
	// A reference that would not be lost any more is asked about anew; members are
	// looked after where they are compared.
	lapsed := map[entry.Ref][]decide.Kept{}
	for ref, list := range kept {
		for _, k := range list {
			if k.Member == "" && !slices.Contains(used[ref], k) {
				lapsed[ref] = append(lapsed[ref], k)
			}
		}
	}
	return out, x.store.Kept.Drop(ctx, lapsed)
}

// removedBy are the resources that changes take out of others.
func removedBy(changes []store.NewChange) []string {
	var ids []string
	for _, one := range changes {
		ids = append(ids, change.Removed(one.Diffs)...)
		for _, diff := range one.Diffs {
			if id, ok := diff.Before.(string); ok {
				ids = append(ids, id)
			}
		}
	}
	return ids
}

// countLeaving tells of each change how many members go since they leave the cloud
// themselves, which takes nothing from them that was not decided.
func (x *execution) countLeaving(ctx context.Context, changes []store.NewChange) error {
	var ids []string
	for _, one := range changes {
		if !one.Held {
			ids = append(ids, change.Removed(one.Diffs)...)
		}
	}
	leaving, err := x.store.Changes.Leaving(ctx, x.run.ID, ids)
	for i, one := range changes {
		for _, id := range change.Removed(one.Diffs) {
			if !one.Held && leaving[id] {
				changes[i].Leaving++
			}
		}
	}
	return err
}

// holdHanging divides what hangs on a removal that is held from the rest: whoever
// may come back stays a member and a manager meanwhile.
func (x *execution) holdHanging(ctx context.Context, state *store.Store, rehearsed int64, changes []store.NewChange) ([]store.NewChange, error) {
	var except *entry.Ref // a trial decides anew about its own entry
	if rehearsed != 0 {
		except = x.subject
	}
	held, err := state.Changes.HeldResources(ctx, rehearsed, except, removedBy(changes))
	if err != nil || len(held) == 0 {
		return changes, err
	}
	var out []store.NewChange
	for _, one := range changes {
		var goes, waits []change.Diff
		for _, diff := range one.Diffs {
			before, _ := diff.Before.(string)
			now, later := diff, diff
			now.Removed, later.Removed, later.Added = nil, nil, nil
			for _, m := range diff.Removed {
				if held[m.Value] {
					later.Removed = append(later.Removed, m)
				} else {
					now.Removed = append(now.Removed, m)
				}
			}
			switch {
			case held[before], len(diff.Removed) > 0 && len(later.Removed) == len(diff.Removed) && len(diff.Added) == 0:
				waits = append(waits, diff)
			case len(later.Removed) > 0:
				goes, waits = append(goes, now), append(waits, later)
			default:
				goes = append(goes, diff)
			}
		}
		if len(goes) > 0 {
			now := one
			now.Diffs = goes
			out = append(out, now)
		}
		if len(waits) > 0 {
			later := one
			later.Diffs, later.Held = waits, true
			out = append(out, later)
		}
	}
	return out, nil
}

func nameOfSubject(d decide.Case) string {
	if d.Resource != nil {
		return d.Resource.Name()
	}
	return d.Entry.Name()
}

// memberChanges cuts the difference of a membership into changes.
func memberChanges(base store.NewChange, diff *store.MemberDiff) []store.NewChange {
	var changes []store.NewChange
	added, removed := diff.Added, diff.Removed
	for len(added)+len(removed) > 0 {
		goes := min(len(removed), mostMembers)
		comes := min(len(added), mostMembers-goes)
		one := base
		one.Diffs = []change.Diff{{Target: rules.Members, Added: added[:comes], Removed: removed[:goes], Source: "reference member"}}
		changes = append(changes, one)
		added, removed = added[comes:], removed[goes:]
	}
	return changes
}

// referenceDiffs compares whom a person's entries refer to with whom the
// resource does.
func referenceDiffs(set *rules.Set, resource entry.Resource, pointed []rules.Pointing, pins []decide.Pin) []change.Diff {
	var diffs []change.Diff
	for _, reference := range set.References() {
		after, source := reference.Value(pointed)
		if pin, pinned := decide.PinFor(pins, reference.Path.String(), ""); pinned && !change.Same(pin.Value, after) {
			after, source = pin.Value, pin.Source()
		}
		if before := reference.Path.Get(resource); !change.Same(before, after) {
			diffs = append(diffs, change.Diff{Target: reference.Path.String(), Before: before, After: after, Source: source})
		}
	}
	return diffs
}
