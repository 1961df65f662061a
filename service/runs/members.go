package runs

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/service/store"
)

const (
	// trustAfter is how many changes of members are read back before a cloud is
	// trusted to keep the others; each run reads one back all the same.
	trustAfter = 3
	// mostReadBack is up to how many members a trusted cloud is asked again.
	mostReadBack = 1000
)

// memberChecks is how a run watches over what becomes of members.
type memberChecks struct {
	mu     sync.Mutex // held while a change is watched, so that one at a time can go wrong
	loaded bool
	kept   int  // changes that were found kept, in all runs
	once   bool // one was in this run
	fresh  int  // groups without members that were watched in this run: they have nobody to lose
}

// load reads how far the cloud is trusted; c.mu is held.
func (c *memberChecks) load(ctx context.Context, x *execution) error {
	if c.loaded {
		return nil
	}
	var err error
	if c.kept, err = x.store.Resources.MembersTrust(ctx, x.cloud.URL()); err != nil {
		return fmt.Errorf("read how far the cloud is trusted with members: %w", err)
	}
	c.loaded = true
	return nil
}

// watchesMembers tells whether a change of members is to be read back.
func (x *execution) watchesMembers(ctx context.Context) (bool, error) {
	c := &x.memberChecks
	c.mu.Lock()
	defer c.mu.Unlock()
	err := c.load(ctx, x)
	return c.kept < trustAfter || !c.once, err
}

// writeWatched sends one change of members and reads them back: a cloud that
// loses the others on the way must not be given a second group.
func (x *execution) writeWatched(ctx context.Context, p pending, r *results, last bool) ([]pending, error) {
	n, err := x.store.Resources.CountMembers(ctx, p.ResourceID)
	if err != nil {
		return nil, err
	}
	c := &x.memberChecks
	c.mu.Lock()
	if err := c.load(ctx, x); err != nil {
		c.mu.Unlock()
		return nil, err
	}
	switch {
	case c.kept >= trustAfter && (c.once || n > mostReadBack), n == 0 && c.fresh >= trustAfter:
		c.mu.Unlock()
		return x.attempt(ctx, []pending{p}, r, last)
	case n == 0:
		c.fresh++
	}
	defer c.mu.Unlock()
	before, _, err := x.cloud.Members(ctx, p.ResourceID)
	if err != nil {
		return nil, wholeCloud(err)
	}
	done := len(r.members)
	still, err := x.attempt(ctx, []pending{p}, r, last)
	if err != nil || len(still) > 0 || len(r.members) == done {
		return still, err
	}
	wanted := memberSet(before)
	for _, m := range p.Diffs[0].Added {
		wanted[m.Value] = true
	}
	for _, m := range p.Diffs[0].Removed {
		delete(wanted, m.Value)
	}
	var lost []string
	var after []string
	for try := range 3 { // what was written a moment ago may show late
		if try > 0 {
			if err := rest.For(ctx, x.options.GonePause/2); err != nil {
				return nil, err
			}
		}
		var found bool
		if after, found, err = x.cloud.Members(ctx, p.ResourceID); err != nil {
			return nil, wholeCloud(err)
		}
		have := memberSet(after)
		lost = lost[:0]
		for id := range wanted {
			if !have[id] {
				lost = append(lost, id)
			}
		}
		if !found {
			return nil, nil // deleted meanwhile, which the next read tells
		}
		if len(lost) == 0 {
			break
		}
	}
	if len(lost) > 0 {
		slices.Sort(lost)
		cut, err := x.listIsCut(ctx, p.ResourceID, lost)
		if err != nil {
			return nil, err
		}
		if cut {
			x.cloud.ListsAtMost(len(after))
			return nil, x.store.Resources.NoteMembersShown(ctx, x.cloud.URL(), len(after))
		}
		r.membersNow = append(r.membersNow, membersNow{p.ResourceID, after, true})
		return nil, problem.New(problem.MembersLost, "group %s (%s): %d members were to be added and %d removed, and of the %d that it should have then, %d are missing, among them %s",
			p.Name, p.ResourceID, len(p.Diffs[0].Added), len(p.Diffs[0].Removed), len(wanted), len(lost), lost[0])
	}
	// That a group which had none keeps those that it was given proves little.
	if len(before) > len(p.Diffs[0].Removed) {
		c.kept++
		c.once = true
		if err := x.store.Resources.TrustMembers(ctx, x.cloud.URL()); err != nil {
			return nil, fmt.Errorf("note that the cloud keeps members: %w", err)
		}
	} else if c.kept >= trustAfter {
		c.once = true
	}
	return nil, nil
}

// mostAsked is of how many members that a list lacks the cloud is asked one by one.
const mostAsked = 5

// listIsCut tells whether the cloud says of members, each by itself, that they are there
// although the group's list does not have them.
func (x *execution) listIsCut(ctx context.Context, group string, lacking []string) (bool, error) {
	for i := range min(mostAsked, len(lacking)) {
		has, known, err := x.cloud.HasMember(ctx, group, lacking[i*len(lacking)/min(mostAsked, len(lacking))])
		if err != nil {
			return false, wholeCloud(err)
		}
		if !known || !has {
			return false, nil
		}
	}
	return true, nil
}

func memberSet(ids []string) map[string]bool {
	set := make(map[string]bool, len(ids))
	for _, id := range ids {
		set[id] = true
	}
	return set
}

// membersNow are the members that a group was found to have.
type membersNow struct {
	group   string
	members []string
	whole   bool // nobody else is in it
}

// ofMembers tells a change of a group's members.
func (p pending) ofMembers() bool { return len(p.Diffs) == 1 && p.Diffs[0].Target == rules.Members }

// keepMembers brings the mirror to what was found and done.
func (r *results) keepMembers(ctx context.Context, tx *store.Store) error {
	for _, o := range r.members {
		if err := tx.Resources.ChangeMembers(ctx, o.ResourceID, o.Change.Diffs); err != nil {
			return err
		}
	}
	for _, now := range r.membersNow {
		if err := tx.Resources.SetMembers(ctx, now.group, now.members, now.whole); err != nil {
			return err
		}
	}
	return nil
}
