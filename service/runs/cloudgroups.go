package runs

import (
	"context"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/store"
)

// groupBatch is how many groups are decided about at a time.
const groupBatch = 200

// keeping is what a run does about the groups of the cloud in one directory.
type keeping struct {
	*execution
	*cloudgroups.Keeping
	state     *store.Store // what is decided by; of a rehearsal with its changes
	rehearsed int64        // the number of a rehearsal, 0 of a run that writes
	only      string       // one group alone
	most      int          // how many members a trial writes, 0 for all
	released  map[string]bool

	planned  []store.PlannedGroup // what a rehearsal makes, or calls another name
	kept     map[string]bool      // groups that were looked at, and whether their members are kept
	names    map[string]string    // what groups are called
	refs     map[string]entry.Ref
	dns      map[string]string
	problems []store.NewProblem
	again    []string // to be looked at in the next run too
	claimed  map[string]string
	written  map[string]bool // groups that this run has written
}

// cloudGroups brings the groups of the cloud that are kept in directories to what they
// shall be: after the cloud, since their members are those who are linked by then.
func (x *execution) cloudGroups(ctx context.Context) error {
	names := x.groupDirectories()
	if err := x.store.Fenced(ctx, func(tx *store.Store) error {
		if err := tx.CloudGroups.Serve(ctx, names); err != nil {
			return err
		}
		return tx.CloudGroups.MarkDue(ctx)
	}); err != nil || len(names) == 0 {
		return err
	}
	if x.run.Purpose == purpose.Full {
		if err := x.store.CloudGroups.MarkAll(ctx); err != nil {
			return err
		}
	}
	keepings := x.keepings(x.store, 0)
	if err := x.stage(ctx, "plan", func(ctx context.Context) error {
		return each(keepings, func(k *keeping) error { return k.planGroups(ctx) })
	}); err != nil {
		return err
	}
	if err := x.guardGroups(ctx, true); err != nil {
		return err
	}
	write := func(rank int) error {
		return x.stage(ctx, "write", func(ctx context.Context) error {
			return each(keepings, func(k *keeping) error { return k.writeGroups(ctx, rank) })
		})
	}
	if err := write(store.RankGroups); err != nil {
		return err
	}
	if err := x.stage(ctx, "plan", func(ctx context.Context) error {
		return each(keepings, func(k *keeping) error {
			// What was written concerns others: those who hold a group by its old name.
			if err := k.planGroups(ctx); err != nil {
				return err
			}
			return k.planMembers(ctx)
		})
	}); err != nil {
		return err
	}
	if err := x.guardLosses(ctx, store.RankGroupMembers, store.RankGroupMembers); err != nil {
		return err
	}
	for _, rank := range []int{store.RankGroupMembers, store.RankGroupsGo} {
		if err := write(rank); err != nil {
			return err
		}
	}
	if err := each(keepings, func(k *keeping) error { return k.settle(ctx) }); err != nil {
		return err
	}
	return x.store.Learn(ctx)
}

// groupDirectories names the directories in which groups are kept.
func (x *execution) groupDirectories() []string {
	var names []string
	for _, k := range x.Settings.CloudGroups {
		names = append(names, k.Directory)
	}
	return names
}

// keepings are the directories in which groups are kept, but for those that are left out.
func (x *execution) keepings(state *store.Store, rehearsed int64) []*keeping {
	var out []*keeping
	for _, k := range x.Settings.CloudGroups {
		if x.Offer.Kinds[entry.Group] && !slices.Contains(x.Without, k.Directory) {
			out = append(out, x.keepingOf(k, state, rehearsed))
		}
	}
	return out
}

func (x *execution) keepingOf(k *cloudgroups.Keeping, state *store.Store, rehearsed int64) *keeping {
	return &keeping{execution: x, Keeping: k, state: state, rehearsed: rehearsed, kept: map[string]bool{}, names: map[string]string{}, refs: map[string]entry.Ref{}, dns: map[string]string{}, claimed: map[string]string{}, written: map[string]bool{}}
}

// each does work for one directory after the other; what concerns one directory alone
// leaves its groups out of the run.
func each(keepings []*keeping, work func(*keeping) error) error {
	for _, k := range keepings {
		if k.leftOut() {
			continue
		}
		err := work(k)
		p := fatal(err)
		if p == nil || !ofDirectory(p) {
			if err != nil {
				return err
			}
			continue
		}
		k.mu.Lock()
		k.run.LeftOut = append(k.run.LeftOut, progress.LeftOut{Directory: k.Directory, Code: p.Code, Title: problem.Describe(p.Code).Title, Detail: p.Detail, CloudGroups: true})
		if p.Code != problem.Paused {
			k.left = append(k.left, store.ProblemOf(about.Thing{Type: about.Directory, Key: k.Directory}, p))
		}
		k.mu.Unlock()
	}
	return nil
}

func (k *keeping) leftOut() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.ContainsFunc(k.run.LeftOut, func(l progress.LeftOut) bool { return l.Directory == k.Directory && l.CloudGroups })
}

// rehearseGroups plans as a run would, and keeps the changes alone.
func (x *execution) rehearseGroups(ctx context.Context, state *store.Store) error {
	return each(x.keepings(state, x.run.ID), func(k *keeping) error {
		if err := k.planGroups(ctx); err != nil {
			return err
		}
		return k.planMembers(ctx)
	})
}

// tryGroup is the run of one group, chosen or not, with a few of its members.
func (x *execution) tryGroup(ctx context.Context, directory, group string) error {
	of := x.Settings.KeepingOf(directory)
	if of == nil {
		return problem.New(problem.BadInput, "the settings keep no groups of the cloud in %q", directory)
	}
	var err error
	if x.Offer, err = x.judging.Offered(ctx, x.Settings.Document); err != nil {
		return err
	}
	rehearsed := int64(0)
	if x.run.Purpose.Rehearses() {
		rehearsed = x.run.ID
	} else if err := x.store.Fenced(ctx, func(tx *store.Store) error {
		return tx.CloudGroups.Serve(ctx, x.groupDirectories())
	}); err != nil {
		return err
	}
	k := x.keepingOf(of, x.store, rehearsed)
	k.only, k.most = group, x.run.Members
	if k.most == 0 {
		k.most = of.TrialMembers
	}
	steps := []struct {
		name string
		work func(context.Context) error
	}{
		{"plan", k.planGroups},
		{"write", func(ctx context.Context) error { return k.writeGroups(ctx, store.RankGroups) }},
		{"plan", k.planMembers},
		{"write", func(ctx context.Context) error { return k.writeGroups(ctx, store.RankGroupMembers) }},
	}
	for _, step := range steps {
		if rehearsed != 0 && step.name == "write" {
			continue
		}
		if err := x.stage(ctx, step.name, step.work); err != nil {
			return err
		}
		if err := x.guardGroups(ctx, rehearsed == 0); err != nil {
			return err
		}
	}
	if rehearsed != 0 {
		return nil
	}
	k.again = append(k.again, group) // the rest of it is the next run's
	return k.settle(ctx)
}

// eachMarked goes through the groups that are to be looked at.
func (k *keeping) eachMarked(ctx context.Context, work func([]store.MarkedGroup) error) error {
	query := store.MarkedQuery{Directory: k.Directory, Run: k.rehearsed, Everybody: k.rehearsed != 0 && k.execution.run.Purpose.Everybody(), Only: k.only, Limit: groupBatch}
	for {
		marked, err := k.state.CloudGroups.Marked(ctx, query)
		if err != nil || len(marked) == 0 {
			return err
		}
		query.After = marked[len(marked)-1].ResourceID
		if err := work(marked); err != nil {
			return err
		}
		if len(marked) < query.Limit {
			return nil
		}
	}
}

// planGroups decides about the groups themselves.
func (k *keeping) planGroups(ctx context.Context) error {
	var err error
	if k.released, err = k.store.CloudGroups.Released(ctx, k.execution.run.Releases, k.execution.run.Only); err != nil {
		return err
	}
	states, err := k.store.Entries.StateOf(ctx, k.Directory)
	if err != nil {
		return err
	}
	return k.eachMarked(ctx, func(marked []store.MarkedGroup) error {
		var ids []string
		for _, m := range marked {
			if _, looked := k.kept[m.ResourceID]; !looked {
				ids = append(ids, m.ResourceID)
			}
		}
		if len(ids) == 0 {
			return nil
		}
		cases, err := k.state.CloudGroups.Cases(ctx, k.Directory, ids)
		if err != nil {
			return err
		}
		keep := func(tx *store.Store) error {
			var changes []store.NewChange
			for _, c := range cases {
				c.Subject.Hidden, c.Subject.Now, c.Subject.Tried = states.Hidden, k.Now, k.only != ""
				more, err := k.planGroup(ctx, tx, c)
				if err != nil {
					return err
				}
				changes = append(changes, more...)
			}
			if err := k.changesIn(tx).Add(ctx, k.execution.run.ID, changes); err != nil {
				return err
			}
			return k.countChanges(ctx, changes)
		}
		if k.rehearsed != 0 {
			return keep(k.state)
		}
		return k.store.Fenced(ctx, keep)
	})
}

// changesIn is where changes are kept: those of a rehearsal beside what it imagines, which
// is not kept.
func (k *keeping) changesIn(tx *store.Store) store.Changes {
	if k.rehearsed != 0 {
		return k.store.Changes
	}
	return tx.Changes
}

// countChanges counts what a run would do: what is held, stands as a problem or is only
// told is none of it.
func (k *keeping) countChanges(ctx context.Context, changes []store.NewChange) error {
	return k.count(ctx, func(c *progress.Counts) {
		for _, one := range changes {
			if !one.Held && one.Code == "" && !one.Noted {
				tally(c, one.Operation, 1)
			}
		}
	})
}

// planGroup decides about one group, and claims its names.
func (k *keeping) planGroup(ctx context.Context, tx *store.Store, c store.GroupCase) ([]store.NewChange, error) {
	k.names[c.ResourceID] = c.Name
	base := store.NewChange{Side: change.Directory, Ref: entry.Ref{Directory: k.Directory}, Kind: entry.Group, Rank: store.RankGroups, ResourceID: c.ResourceID, Name: c.Name}
	if c.Subject.Link != nil {
		base.Ref.ID, base.DN = c.Subject.Link.EntryID, c.Row.DN
	}
	k.refs[c.ResourceID], k.dns[c.ResourceID] = base.Ref, base.DN
	decision := k.Decide(c.Subject)
	if decision.Verdict.In || c.Subject.Tried {
		var err error
		if c.Subject.Holder, err = k.holder(ctx, tx, c, decision.Wanted); err != nil {
			return nil, err
		}
		if c.Subject.Holder != nil {
			decision = k.Decide(c.Subject)
		}
	}
	waits, err := k.waitsForFirst(ctx, tx, c, decision)
	if err != nil || waits {
		k.kept[c.ResourceID] = false
		return nil, err
	}
	k.kept[c.ResourceID] = decision.Members
	if decision.Wanted.DN != "" {
		base.DN, k.dns[c.ResourceID] = decision.Wanted.DN, decision.Wanted.DN
	}
	return k.changesOf(ctx, tx, base, decision)
}

// waitsForFirst tells whether a group is not made since it has no member yet.
func (k *keeping) waitsForFirst(ctx context.Context, tx *store.Store, c store.GroupCase, d cloudgroups.Decision) (bool, error) {
	if !k.NeedsMember() || k.Empty != settings.WaitsForFirst || d.Operation != plan.Create || d.Again {
		return false, nil
	}
	diffs, err := tx.CloudGroups.MemberDiffs(ctx, store.MemberQuery{Keeping: k.Keeping, Groups: []store.MarkedGroup{{ResourceID: c.ResourceID, Members: true}}, Run: k.rehearsed, Planned: k.planned})
	if err != nil {
		return false, err
	}
	waits := diffs[c.ResourceID] == nil || len(diffs[c.ResourceID].Added) == 0
	if waits {
		k.again = append(k.again, c.ResourceID)
	}
	return waits, nil
}

// holder finds who has a name that the group wants, another entry or another group.
func (k *keeping) holder(ctx context.Context, tx *store.Store, c store.GroupCase, w cloudgroups.Wanted) (*problem.Entry, error) {
	if w.DN == "" {
		return nil, nil
	}
	path, err := entry.PathOf(w.DN)
	if err != nil {
		return nil, problem.Wrap(problem.CloudGroupName, err, "%s", w.DN)
	}
	keys := store.NameKeys(path, strings.ToLower(w.Account))
	var group string
	if k.rehearsed != 0 {
		if group, err = tx.CloudGroups.NameHolder(ctx, k.Directory, c.ResourceID, keys); err == nil && group == "" {
			for _, key := range keys {
				if have := k.claimed[key]; have != "" && have != c.ResourceID {
					group = have
				}
			}
			for _, key := range keys {
				if group == "" {
					k.claimed[key] = c.ResourceID
				}
			}
		}
	} else {
		group, err = tx.CloudGroups.Claim(ctx, k.Directory, c.ResourceID, keys)
	}
	if err != nil {
		return nil, err
	}
	if group != "" {
		return tx.CloudGroups.GroupNamed(ctx, k.Directory, group)
	}
	var self *entry.ID
	if c.Subject.Link != nil {
		self = &c.Subject.Link.EntryID
	}
	return tx.CloudGroups.Holder(ctx, k.Directory, path, w.Account, self)
}

// changesOf are the changes that a decision asks for.
func (k *keeping) changesOf(ctx context.Context, tx *store.Store, base store.NewChange, d cloudgroups.Decision) ([]store.NewChange, error) {
	var changes []store.NewChange
	if d.Problem != nil {
		blocked := base
		facts := d.Problem.Facts
		blocked.Code, blocked.Detail, blocked.Facts = string(d.Problem.Code), d.Problem.Detail, &facts
		changes = append(changes, blocked)
		k.met(base.ResourceID, d.Problem)
	}
	base.Operation, base.Diffs, base.Due = d.Operation, d.Diffs, d.Due
	switch {
	case d.Code == plan.Unlinked:
		if k.rehearsed == 0 {
			return changes, tx.CloudGroups.Drop(ctx, k.Directory, []string{base.ResourceID})
		}
	case d.Code == plan.Left && k.rehearsed == 0:
		return changes, tx.CloudGroups.SetLeft(ctx, k.Directory, []string{base.ResourceID}, nil)
	case d.Again:
		base.Held = !k.released[base.ResourceID]
		if base.Held {
			k.met(base.ResourceID, problem.Of(problem.CloudGroupLost, problem.Facts{Value: base.DN, Run: k.run.ID}))
			k.kept[base.ResourceID] = false
		}
		changes = append(changes, base)
	case d.Operation == plan.Delete:
		base.Rank = store.RankGroupsGo
		changes = append(changes, base)
	case d.Operation == plan.Update && len(d.Drift) > 0:
		rest := base
		rest.Diffs = slices.DeleteFunc(slices.Clone(d.Diffs), func(diff change.Diff) bool {
			return slices.ContainsFunc(d.Drift, func(other change.Diff) bool { return other.Target == diff.Target })
		})
		base.Diffs, base.Drift = d.Drift, true
		changes = append(changes, base)
		if len(rest.Diffs) > 0 {
			changes = append(changes, rest)
		}
	case d.Operation != "":
		changes = append(changes, base)
	}
	if k.kept[base.ResourceID] && (d.Operation == plan.Create || d.Operation == plan.Restore) {
		if k.rehearsed != 0 {
			k.planned = append(k.planned, store.PlannedGroup{ResourceID: base.ResourceID, DN: base.DN})
		} else if err := tx.CloudGroups.Mark(ctx, k.Directory, []string{base.ResourceID}, true); err != nil {
			return nil, err
		}
	}
	return changes, nil
}

// met notes a problem of a group, which is looked at again until it is gone.
func (k *keeping) met(group string, p *problem.Error) {
	k.problems = append(k.problems, store.ProblemOf(about.CloudGroupOf(k.Directory, group), p))
	k.again = append(k.again, group)
}

// settle keeps the problems of the groups that were looked at, and has those looked at
// again that have any.
func (k *keeping) settle(ctx context.Context) error {
	groups := make([]string, 0, len(k.kept))
	for id := range k.kept {
		groups = append(groups, id)
	}
	slices.Sort(groups)
	return k.store.Fenced(ctx, func(tx *store.Store) error {
		if err := tx.CloudGroups.SaveProblems(ctx, k.execution.run.ID, k.Directory, groups, k.problems); err != nil {
			return err
		}
		return tx.CloudGroups.Mark(ctx, k.Directory, k.again, true)
	})
}
