package runs

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/service/store"
)

// planMembers decides about the members of the groups that are kept.
func (k *keeping) planMembers(ctx context.Context) error {
	return k.eachMarked(ctx, func(marked []store.MarkedGroup) error {
		var ids []string
		for _, m := range marked {
			ids = append(ids, m.ResourceID)
		}
		// What was marked since the groups were looked at waits for the next run.
		seen := slices.DeleteFunc(slices.Clone(ids), func(id string) bool { _, looked := k.kept[id]; return !looked })
		marked = slices.DeleteFunc(marked, func(m store.MarkedGroup) bool { return !k.kept[m.ResourceID] })
		changes, err := k.memberChanges(ctx, marked)
		if err != nil {
			return err
		}
		if k.rehearsed != 0 {
			return k.changesIn(k.state).Add(ctx, k.execution.run.ID, changes)
		}
		if err := k.store.Fenced(ctx, func(tx *store.Store) error {
			if err := tx.Changes.Add(ctx, k.execution.run.ID, changes); err != nil {
				return err
			}
			return tx.CloudGroups.Clear(ctx, k.Directory, seen)
		}); err != nil {
			return err
		}
		return k.countChanges(ctx, changes)
	})
}

func (k *keeping) memberChanges(ctx context.Context, marked []store.MarkedGroup) ([]store.NewChange, error) {
	if len(marked) == 0 {
		return nil, nil
	}
	diffs, err := k.state.CloudGroups.MemberDiffs(ctx, store.MemberQuery{Keeping: k.Keeping, Groups: marked, Run: k.rehearsed, Planned: k.planned})
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(marked))
	for i, m := range marked {
		ids[i] = m.ResourceID
	}
	rows, err := k.state.CloudGroups.Of(ctx, k.Directory, ids)
	if err != nil {
		return nil, err
	}
	for id, row := range rows { // of those that were just made too
		if k.refs[id], err = row.Ref(); err != nil {
			return nil, err
		}
		k.dns[id] = row.DN
	}
	kept, err := k.state.CloudGroups.KeptMembers(ctx, k.Directory, ids)
	if err != nil {
		return nil, err
	}
	var changes []store.NewChange
	for _, m := range marked {
		diff := diffs[m.ResourceID]
		if diff == nil {
			diff = &store.GroupMembers{}
		}
		diff.Removed = slices.DeleteFunc(diff.Removed, func(g store.GroupMember) bool { return slices.Contains(kept[m.ResourceID], g.DN) })
		if err := k.leavePlaceholder(ctx, m.ResourceID, diff); err != nil {
			return nil, err
		}
		if k.most > 0 {
			diff.Added, diff.Removed = diff.Added[:min(len(diff.Added), k.most)], nil
		}
		changes = append(changes, k.cutMembers(m.ResourceID, *diff)...)
		more, err := k.skipped(ctx, m)
		if err != nil {
			return nil, err
		}
		changes = append(changes, more...)
	}
	return changes, nil
}

// leavePlaceholder leaves who is nobody in a group that has nobody else, and takes it out
// of one that has.
func (k *keeping) leavePlaceholder(ctx context.Context, group string, diff *store.GroupMembers) error {
	if !k.NeedsMember() {
		return nil
	}
	diff.Removed = slices.DeleteFunc(diff.Removed, func(m store.GroupMember) bool { return entry.SameDN(m.DN, k.Placeholder) })
	if len(diff.Added) > 0 {
		return nil // it goes with the first who comes
	}
	var going []string
	for _, m := range diff.Removed {
		going = append(going, m.DN)
	}
	holds, others, err := k.state.CloudGroups.Occupied(ctx, k.Directory, group, k.Placeholder, going)
	if err == nil && holds && others {
		diff.Removed = append(diff.Removed, store.GroupMember{DN: k.Placeholder, Name: k.Placeholder})
	}
	return err
}

// cutMembers makes changes of what a membership lacks and has too much: what was changed
// in the directory, and who goes since they leave, stand by themselves.
func (k *keeping) cutMembers(group string, diff store.GroupMembers) []store.NewChange {
	base := store.NewChange{Side: change.Directory, Rank: store.RankGroupMembers, Ref: k.refs[group], DN: k.dns[group], Kind: entry.Group, Operation: plan.Update, ResourceID: group, Name: k.names[group]}
	of := func(members []store.GroupMember, drift, leaving bool) []change.Member {
		var out []change.Member
		for _, m := range members {
			if m.Drift == drift && (m.Leaving && !m.Drift) == leaving {
				out = append(out, change.Member{Value: m.DN, Name: m.Name, Type: entry.Kind(m.Kind).ResourceType()})
			}
		}
		return out
	}
	var changes []store.NewChange
	for _, part := range []struct {
		added, removed []change.Member
		drift, leaving bool
		source         string
	}{
		{of(diff.Added, false, false), of(diff.Removed, false, false), false, false, "members of the group in the cloud"},
		{nil, of(diff.Removed, false, true), false, true, "they leave"},
		{of(diff.Added, true, false), of(diff.Removed, true, false), true, false, "changed in the directory, and put back"},
	} {
		for len(part.added)+len(part.removed) > 0 {
			goes := min(len(part.removed), mostMembers)
			comes := min(len(part.added), mostMembers-goes)
			one := base
			one.Drift = part.drift
			one.Diffs = []change.Diff{{Target: rules.Members, Added: part.added[:comes], Removed: part.removed[:goes], Source: part.source}}
			if part.leaving {
				one.Leaving = goes
			}
			changes = append(changes, one)
			part.added, part.removed = part.added[comes:], part.removed[goes:]
		}
	}
	return changes
}

// mostSkipped is how many members that are left out a run names of a group.
const mostSkipped = 50

// skipped tells of members that are none in the directory, and makes a problem of those
// whose scope is refused.
func (k *keeping) skipped(ctx context.Context, m store.MarkedGroup) ([]store.NewChange, error) {
	list, total, err := k.state.CloudGroups.Skipped(ctx, k.Keeping, store.SkipQuery{Resource: m.ResourceID, Marked: !m.Members, Limit: mostSkipped})
	if err != nil || total == 0 {
		return nil, err
	}
	base := store.NewChange{Side: change.Directory, Rank: store.RankGroupMembers, Ref: k.refs[m.ResourceID], DN: k.dns[m.ResourceID], Kind: entry.Group, ResourceID: m.ResourceID, Name: k.names[m.ResourceID]}
	var changes []store.NewChange
	var refused []problem.Entry
	var why string
	for _, s := range list {
		if s.Reason == cloudgroups.SkipScope {
			refused = append(refused, problem.Entry{Directory: k.Directory, ID: s.EntryID, Name: s.DN})
			why = k.Refuses(s.GroupType)
		}
		at := slices.IndexFunc(changes, func(c store.NewChange) bool { return c.Diffs[0].Source == string(s.Reason) })
		if at < 0 {
			one := base
			one.Noted, one.Operation, one.Detail = true, "none", k.SkipText(s.Reason, s.Detail)
			one.Diffs = []change.Diff{{Target: "left out", Source: string(s.Reason)}}
			changes, at = append(changes, one), len(changes)
		}
		changes[at].Diffs[0].Added = append(changes[at].Diffs[0].Added, change.Member{Value: s.ResourceID, Name: s.Name})
	}
	if err := k.count(ctx, func(c *progress.Counts) { c.MembersLeftOut += total }); err != nil {
		return nil, err
	}
	if len(refused) > 0 {
		p := problem.Of(problem.GroupScopeRefuses, problem.Facts{Answer: why, Entries: refused})
		blocked := base
		blocked.Code, blocked.Detail, blocked.Facts = string(p.Code), p.Detail, &p.Facts
		k.met(m.ResourceID, p)
		changes = append(changes, blocked)
	}
	return changes, nil
}
