package engine

import (
	"context"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
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
func (x *execution) planReferences(ctx context.Context, state *store.Store, everybody bool) error {
	rehearsed := int64(0)
	if x.run.Rehearsal {
		rehearsed = x.run.ID
	}
	if x.settings.joins() {
		if err := state.MarkLeads(ctx); err != nil {
			return err
		}
	}
	var after store.Ref
	for {
		refs, err := state.Referring(ctx, rehearsed, everybody, x.subject, after, referenceBatch)
		if err != nil || len(refs) == 0 {
			return err
		}
		after = refs[len(refs)-1]
		changes, err := x.referenceChanges(ctx, state, rehearsed, everybody, refs)
		if err != nil {
			return err
		}
		keep := func(tx *store.Store) error {
			if err := tx.DropHeld(ctx, x.run.ID, refs); err != nil {
				return err
			}
			if err := tx.AddChanges(ctx, x.run.ID, changes); err != nil {
				return err
			}
			if err := tx.ClearReferences(ctx, refs); err != nil {
				return err
			}
			// What is held is compared again in each run until it is not.
			return tx.MarkReferences(ctx, heldOf(changes))
		}
		if rehearsed != 0 {
			keep = func(*store.Store) error { return x.store.AddChanges(ctx, x.run.ID, changes) }
		}
		if err := x.store.Fenced(ctx, keep); err != nil {
			return err
		}
		if err := x.count(ctx, func(c *wire.Counts) {
			for _, change := range changes {
				if !change.Held {
					tally(c, change.Operation, 1)
				}
			}
		}); err != nil {
			return err
		}
	}
}

func heldOf(changes []store.NewChange) []store.Ref {
	var refs []store.Ref
	for _, change := range changes {
		if change.Held && !slices.Contains(refs, change.Ref) {
			refs = append(refs, change.Ref)
		}
	}
	return refs
}

func (x *execution) referenceChanges(ctx context.Context, state *store.Store, rehearsed int64, everybody bool, refs []store.Ref) ([]store.NewChange, error) {
	subjects, err := state.SubjectsOf(ctx, refs)
	if err != nil {
		return nil, err
	}
	members := map[store.Ref]*store.MemberDiff{}
	if x.settings.of(entry.Group).rules.Members() && x.offer.kinds[entry.Group] {
		if members, err = state.MemberDiffs(ctx, rehearsed, refs, x.offer.members); err != nil {
			return nil, err
		}
	}
	pointed, err := x.settings.pointed(ctx, state, rehearsed, refs)
	if err != nil {
		return nil, err
	}
	var changes []store.NewChange
	for _, subject := range subjects {
		ref := refOf(subject)
		base := store.NewChange{
			Ref: ref, Kind: subject.Entry.Kind, References: true, Operation: plan.Update, DN: subject.Entry.DN, Name: nameOfSubject(subject),
		}
		if diff := members[ref]; diff != nil {
			base.ResourceID = strings.TrimPrefix(diff.ResourceID, "new:"+ref.ID.String())
			changes = append(changes, memberChanges(base, diff)...)
		}
		// What a newcomer refers to is written in the pass after it was made; a
		// rehearsal shows it with the creation.
		if subject.Link == nil || subject.Link.Left || subject.Resource == nil {
			continue
		}
		base.ResourceID = subject.Link.ResourceID
		if base.Diffs = referenceDiffs(x.settings.of(subject.Entry.Kind).rules, subject.Resource, pointed[ref]); len(base.Diffs) > 0 {
			changes = append(changes, base)
		}
	}
	return x.holdHanging(ctx, state, rehearsed, everybody, changes)
}

// holdHanging divides what hangs on a removal that is held from the rest: whoever
// may come back stays a member and a manager meanwhile.
func (x *execution) holdHanging(ctx context.Context, state *store.Store, rehearsed int64, everybody bool, changes []store.NewChange) ([]store.NewChange, error) {
	var ids []string
	for _, change := range changes {
		for _, diff := range change.Diffs {
			for _, m := range diff.Removed {
				ids = append(ids, m.Value)
			}
			if id, ok := diff.Before.(string); ok {
				ids = append(ids, id)
			}
		}
	}
	// A rehearsal of everybody decides anew what is held.
	held, err := state.HeldResources(ctx, rehearsed, !everybody, ids)
	if err != nil || len(held) == 0 {
		return changes, err
	}
	var out []store.NewChange
	for _, change := range changes {
		var goes, waits []plan.Diff
		for _, diff := range change.Diffs {
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
			now := change
			now.Diffs = goes
			out = append(out, now)
		}
		if len(waits) > 0 {
			later := change
			later.Diffs, later.Held = waits, true
			out = append(out, later)
		}
	}
	return out, nil
}

// pointed tells whom entries refer to, and whom those do that follow them.
func (c *compiled) pointed(ctx context.Context, state *store.Store, rehearsed int64, refs []store.Ref) (map[store.Ref][]rules.Pointing, error) {
	persons := map[store.Ref][]store.Ref{}
	all := slices.Clone(refs)
	if c.joins() {
		followers, err := state.FollowersOf(ctx, refs)
		if err != nil {
			return nil, err
		}
		for lead, list := range followers {
			for _, f := range list {
				persons[lead] = append(persons[lead], store.Ref{Directory: f.Entry.Directory, ID: f.Entry.ID})
			}
			all = append(all, persons[lead]...)
		}
	}
	pointed, err := state.Pointed(ctx, rehearsed, all)
	if err != nil {
		return nil, err
	}
	out := map[store.Ref][]rules.Pointing{}
	for _, lead := range refs {
		for _, ref := range rules.Preferred(append([]store.Ref{lead}, persons[lead]...), c.directories, func(r store.Ref) string { return r.Directory }) {
			out[lead] = append(out[lead], rules.Pointing{Directory: ref.Directory, To: pointed[ref]})
		}
	}
	return out, nil
}

func nameOfSubject(d store.Dirty) string {
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
		change := base
		change.Diffs = []plan.Diff{{Target: rules.Members, Added: added[:comes], Removed: removed[:goes], Source: "reference member"}}
		changes = append(changes, change)
		added, removed = added[comes:], removed[goes:]
	}
	return changes
}

// referenceDiffs compares whom a person's entries refer to with whom the
// resource does.
func referenceDiffs(set *rules.Set, resource entry.Resource, pointed []rules.Pointing) []plan.Diff {
	var diffs []plan.Diff
	for _, reference := range set.References() {
		after, source := reference.Value(pointed)
		if before := reference.Path.Get(resource); !plan.Same(before, after) {
			diffs = append(diffs, plan.Diff{Target: reference.Path.String(), Before: before, After: after, Source: source})
		}
	}
	return diffs
}
