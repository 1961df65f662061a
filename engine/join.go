package engine

import (
	"context"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/join"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/store"
)

// joins tells whether entries of several directories may be one person.
func (c *compiled) joins() bool { return !c.of(entry.User).join.Empty() }

// join finds out for everybody dirty who is one person with whom. It comes
// before the plan, which decides in parallel about entries that follow and lead.
func (x *execution) join(ctx context.Context, state *store.Store) error {
	if !x.settings.joins() {
		return state.DropJoins(ctx)
	}
	var after store.Ref
	for {
		var batch []store.Dirty
		work := func(tx *store.Store) error {
			var err error
			if batch, err = tx.NextDirty(ctx, store.DirtyNow, x.subject, after, planBatch); err != nil || len(batch) == 0 {
				return err
			}
			return x.joinBatch(ctx, tx, batch)
		}
		if err := state.Tx(ctx, work); err != nil || len(batch) == 0 {
			return err
		}
		after = refOf(batch[len(batch)-1])
	}
}

func (x *execution) joinBatch(ctx context.Context, tx *store.Store, batch []store.Dirty) error {
	if err := x.settings.fillGroups(ctx, tx, batch); err != nil {
		return err
	}
	keys := make([]store.JoinKeys, 0, len(batch))
	for _, d := range batch {
		if d.Entry.Kind != entry.User {
			continue
		}
		item := store.JoinKeys{Ref: refOf(d), Inside: x.settings.scope.Decide(d.Entry).In}
		// Who has left is still asked for the link.
		if item.Inside || d.Link != nil {
			item.Keys = x.settings.of(entry.User).join.Keys(d.Entry)
		}
		keys = append(keys, item)
	}
	touched, err := tx.ReplaceJoinKeys(ctx, keys)
	if err != nil {
		return err
	}
	members, err := tx.Mates(ctx, touched)
	if err != nil {
		return err
	}
	order := map[string]int{}
	for i, directory := range x.settings.document.Directories {
		order[directory.Name] = i
	}
	known := map[store.Ref]bool{}
	for i := range members {
		members[i].Order = order[members[i].Directory]
		known[store.Ref{Directory: members[i].Directory, ID: members[i].ID}] = true
	}
	outcomes := join.Decide(members)
	for _, item := range keys { // who has no key any more follows nobody
		if !known[item.Ref] && len(item.Keys) == 0 {
			outcomes = append(outcomes, join.Outcome{Member: join.Member{Directory: item.Ref.Directory, ID: item.Ref.ID}})
		}
	}
	return tx.SaveJoins(ctx, outcomes)
}

// person is what an entry is part of: whom it follows, or who follows it.
type person struct {
	joined    *store.Joined
	followers []store.Follower
}

// personsOf looks up what entries are part of.
func (c *compiled) personsOf(ctx context.Context, state *store.Store, batch []store.Dirty) (map[store.Ref]person, error) {
	if !c.joins() {
		return nil, nil
	}
	refs := make([]store.Ref, len(batch))
	for i, d := range batch {
		refs[i] = refOf(d)
	}
	joined, err := state.JoinedOf(ctx, refs)
	if err != nil {
		return nil, err
	}
	followers, err := state.FollowersOf(ctx, refs)
	if err != nil {
		return nil, err
	}
	out := map[store.Ref]person{}
	for ref, j := range joined {
		out[ref] = person{joined: &j}
	}
	var lent []*entry.Entry
	for ref, list := range followers {
		for i := range list {
			lent = append(lent, &list[i].Entry)
		}
		one := out[ref]
		one.followers = list
		out[ref] = one
	}
	if c.asksForGroups && len(lent) > 0 {
		err = state.FillGroups(ctx, lent)
	}
	return out, err
}

// entriesOf puts the entries of a person into the order of the settings.
func (c *compiled) entriesOf(lead entry.Entry, followers []store.Follower) rules.Person {
	out := rules.Person{lead}
	for _, f := range followers {
		out = append(out, f.Entry)
	}
	return rules.Preferred(out, c.directories, func(e entry.Entry) string { return e.Directory })
}

// follow is the decision about an entry that another one leads.
func follow(j store.Joined) plan.Decision {
	if j.Code != "" {
		return plan.Decision{Code: plan.Blocked, Problem: problem.New(problem.Code(j.Code), "%s", j.Detail)}
	}
	return plan.Decision{Code: plan.Follows}
}
