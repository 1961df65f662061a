package runs

import (
	"context"
	"fmt"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/rules"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// groupsAtOnce is how many changes of groups one order holds.
const groupsAtOnce = 50

// guardGroups holds groups that would leave when they are too many, and what groups would
// lose. With again, the next run plans it again.
func (x *execution) guardGroups(ctx context.Context, again bool) error {
	released, err := x.store.CloudGroups.Released(ctx, x.run.Releases, x.run.Only)
	if err != nil {
		return err
	}
	leaving, err := x.store.CloudGroups.CountLeaving(ctx, x.run.ID, released)
	if err != nil {
		return err
	}
	tooMany, earlier, err := x.tooManyRemovals(ctx, change.Directory, leaving, len(released), x.store.CloudGroups.Count)
	if err == nil && tooMany {
		x.held(earlier, x.since.removals)
		err = x.store.CloudGroups.HoldLeaving(ctx, x.run.ID, released, again)
	}
	if err != nil {
		return err
	}
	return x.guardLosses(ctx, store.RankGroups, store.RankGroupMembers)
}

// writeGroups has an agent write the planned changes of one rank. Each is durable before it
// is asked for; what becomes of it is kept as the agent's answer comes in.
func (k *keeping) writeGroups(ctx context.Context, rank int) error {
	after := int64(0)
	for {
		if err := k.store.Pauses.Allow(ctx, pause.ToDirectory(k.Directory)); err != nil {
			return err
		}
		changes, err := k.store.Changes.NextOf(ctx, k.execution.run.ID, k.Directory, rank, after, groupsAtOnce)
		if err != nil || len(changes) == 0 {
			return err
		}
		changes = k.fitting(changes)
		after = changes[len(changes)-1].ID
		if err := k.writeChunk(ctx, changes); err != nil {
			return err
		}
	}
}

// fitting are as many of the changes as have no more members than one order takes.
func (k *keeping) fitting(changes []store.Change) []store.Change {
	members := 0
	for i, c := range changes {
		for _, d := range c.Diffs {
			members += len(d.Added) + len(d.Removed)
		}
		if members > mostMembers && i > 0 {
			return changes[:i]
		}
	}
	return changes
}

func (k *keeping) writeChunk(ctx context.Context, changes []store.Change) error {
	if err := k.store.Fenced(ctx, func(tx *store.Store) error { return tx.Changes.MarkSent(ctx, changes) }); err != nil {
		return err
	}
	request := protocol.Groups{Container: k.Container, Mark: k.Mark, Class: k.ObjectClass(), Member: k.MemberAttribute(), Attributes: k.Settings.Attributes}
	for _, c := range changes {
		one, sends := k.groupChange(c)
		if sends {
			k.written[c.ResourceID] = true // from now on the last who has changed it is Kambrel
			request.Changes = append(request.Changes, one)
		}
	}
	if err := k.keepUnsent(ctx, changes); err != nil {
		return err
	}
	var failure error
	if len(request.Changes) > 0 {
		order := store.Order{RunID: &k.execution.run.ID, Directory: k.Directory, Request: protocol.Order{Directory: k.Directory, Dialect: k.Dialect, Base: k.Base, Groups: &request}}
		if failure = k.store.Orders.Add(ctx, &order); failure == nil {
			_, failure = k.orders.Await(ctx, order, k.orders.Patience(), func(store.Order) error { return nil })
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := k.keepAnswers(ctx, changes, failure); err != nil {
		return err
	}
	return failure
}

// groupChange is what an agent is asked to do; false when there is nothing to be done in
// the directory.
func (k *keeping) groupChange(c store.Change) (protocol.GroupChange, bool) {
	out := protocol.GroupChange{Number: c.ID, Operation: protocol.GroupUpdate, Group: c.ResourceID, EntryID: c.Ref().ID, Values: entry.Attributes{}, Drift: c.Drift && !k.written[c.ResourceID]}
	switch plan.Operation(c.Operation) {
	case plan.Leave:
		return out, false
	case plan.Delete:
		out.Operation = protocol.GroupDelete
		return out, true
	case plan.Create:
		out.Operation = protocol.GroupMake
	}
	if k.NeedsMember() {
		out.Placeholder = k.Placeholder
	}
	for _, d := range c.Diffs {
		switch {
		case d.Target == cloudgroups.DN:
			out.DN = fmt.Sprint(d.After)
		case d.Target == rules.Members:
			for _, m := range d.Added {
				out.Add = append(out.Add, m.Value)
			}
			for _, m := range d.Removed {
				out.Remove = append(out.Remove, m.Value)
			}
		default:
			out.Values[d.Target] = change.Texts(d.After)
		}
	}
	return out, len(c.Diffs) > 0
}

// keepUnsent carries out what concerns no entry: a group that leaves is noted, and one that
// is kept again too.
func (k *keeping) keepUnsent(ctx context.Context, changes []store.Change) error {
	return k.store.Fenced(ctx, func(tx *store.Store) error {
		var outcomes []store.Outcome
		for _, c := range changes {
			switch plan.Operation(c.Operation) {
			case plan.Leave:
				if err := tx.CloudGroups.SetLeft(ctx, k.Directory, []string{c.ResourceID}, c.Due); err != nil {
					return err
				}
				outcomes = append(outcomes, store.Outcome{Change: c, State: "done", ResourceID: c.ResourceID})
			case plan.Restore:
				if err := tx.CloudGroups.SetBack(ctx, k.Directory, []string{c.ResourceID}); err != nil {
					return err
				}
				if len(c.Diffs) == 0 {
					outcomes = append(outcomes, store.Outcome{Change: c, State: "done", ResourceID: c.ResourceID})
				}
			}
		}
		return tx.Changes.SaveOutcomes(ctx, nil, outcomes)
	})
}

// keepAnswers counts what was done, and makes problems of what was not. What has no answer
// is planned anew by the next run.
func (k *keeping) keepAnswers(ctx context.Context, changes []store.Change, failure error) error {
	now, err := k.store.Changes.Again(ctx, changes)
	if err != nil {
		return err
	}
	done, failed := 0, 0
	var open []store.Outcome
	for _, c := range now {
		switch c.State {
		case "done":
			done++
		case "failed":
			failed++
		case "sent":
			answer := "the agent has not said what became of it"
			if failure != nil {
				answer = "not asked of the directory: " + failure.Error()
			}
			open = append(open, store.Outcome{Change: c, State: "superseded", ResourceID: c.ResourceID, Answer: answer})
			k.again = append(k.again, c.ResourceID)
		}
		switch {
		case c.Code == string(problem.CloudMembersRefused): // those alone are tried again
			k.problems = append(k.problems, store.ProblemOf(about.CloudGroupOf(k.Directory, c.ResourceID), problem.New(problem.CloudMembersRefused, "%s", c.Answer)))
		case c.Code != "":
			k.met(c.ResourceID, problem.New(problem.Code(c.Code), "%s", c.Answer))
		}
		if c.State == "failed" && c.Rank == store.RankGroups {
			k.kept[c.ResourceID] = k.kept[c.ResourceID] && c.Operation != string(plan.Create)
		}
	}
	if err := k.store.Fenced(ctx, func(tx *store.Store) error {
		if err := tx.Changes.SaveOutcomes(ctx, nil, open); err != nil {
			return err
		}
		return tx.CloudGroups.Mark(ctx, k.Directory, k.again, true)
	}); err != nil {
		return err
	}
	return k.count(ctx, func(c *progress.Counts) { c.Done += done; c.Failed += failed })
}
