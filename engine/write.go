package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

const (
	writeChunk    = 200
	groupChunk    = 20 // of what the cloud might make twice, few are in doubt after a kill
	writeAttempts = 8
)

// write carries the planned changes of some ranks out: first those that may free
// a login, then creations, then groups, and what ties resources together last.
// Every change is durable before it is sent and after it is
// answered.
func (x *execution) write(ctx context.Context, from, to int, last bool) error {
	if _, err := x.cloud.Discover(ctx); err != nil {
		return err
	}
	if err := x.prepareCreations(ctx); err != nil {
		return err
	}
	if lock := store.LockOf(ctx); lock != nil {
		ctx = cloud.WithPermit(ctx, lock.Check)
	}
	for rank := from; rank <= to; rank++ {
		group, groupCtx := errgroup.WithContext(ctx)
		group.SetLimit(x.options.Workers)
		after := int64(0)
		for groupCtx.Err() == nil {
			limit := writeChunk
			if rank == store.RankReferences-1 {
				limit = groupChunk
			}
			changes, err := x.store.NextChanges(groupCtx, x.run.ID, rank, after, limit)
			if err != nil {
				return errors.Join(err, group.Wait())
			}
			if len(changes) == 0 {
				break
			}
			after = changes[len(changes)-1].ID
			group.Go(func() error { return x.writeChunk(groupCtx, changes, last) })
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// pending is one change on its way to the cloud.
type pending struct {
	store.Change
	resource entry.Resource // as the cloud has it, nil for a creation
	look     bool           // ask the cloud before sending
	sent     time.Time      // when a creation was first sent that was not answered
	made     bool           // the cloud said that it was made
}

func (p pending) creates() bool { return p.Operation == string(plan.Create) }

// results gathers what a chunk came to.
type results struct {
	outcomes  []store.Outcome
	resources map[entry.Kind][]entry.Resource
	links     []store.NewLink
	settled   []store.NewLink // those that were in doubt
	vanished  map[entry.Kind][]string
	stale     []pending // changed in the cloud since they were read
	taken     []pending // refused since somebody there has one of the values
	left      []store.Ref
	back      []store.Ref
	problems  []store.NewProblem
	again     []store.Ref     // to be planned anew in this run
	lookup    []store.Ref     // the same, and to be looked up before a creation
	refer     []store.Ref     // whose references are to be compared anew
	members   []store.Outcome // done changes of members
	deleted   []string
	next      []store.Ref // to be planned anew in the next run
	doubtful  []store.Ref // the same, and to be looked up

	membersNow []membersNow
}

func (x *execution) writeChunk(ctx context.Context, changes []store.Change, last bool) error {
	if err := x.store.Fenced(ctx, func(tx *store.Store) error { return tx.MarkSent(ctx, changes) }); err != nil {
		return err
	}
	open := make([]pending, 0, len(changes))
	r := results{resources: map[entry.Kind][]entry.Resource{}, vanished: map[entry.Kind][]string{}}
	for _, c := range changes {
		p := pending{Change: c}
		p.look = c.Lookup || p.looksFirst()
		if len(c.Resource) > 0 {
			if err := json.Unmarshal(c.Resource, &p.resource); err != nil {
				return fmt.Errorf("change %d: %w", c.ID, err)
			}
		} else if c.ResourceID != "" {
			p.look = true
		}
		open = append(open, p)
	}
	if err := x.doubts(ctx, open); err != nil {
		return err
	}
	failure := x.attempts(ctx, open, &r, last)
	if failure == nil {
		failure = x.refresh(ctx, &r)
	}
	if errors.Is(context.Cause(ctx), store.ErrLockLost) {
		return store.ErrLockLost
	}
	if err := x.keep(ctx, &r); err != nil {
		return err
	}
	return failure
}

// attempts sends what is open until all of it is answered. An attempt that got
// nowhere is repeated after a pause that grows.
func (x *execution) attempts(ctx context.Context, open []pending, r *results, last bool) error {
	if len(open) > 1 && slices.ContainsFunc(open, pending.ofMembers) {
		watched, err := x.watchesMembers(ctx)
		if err != nil {
			return err
		}
		var rest []pending
		for _, p := range open {
			if !watched || !p.ofMembers() {
				rest = append(rest, p)
			} else if err := x.attempts(ctx, []pending{p}, r, last); err != nil {
				return err
			}
		}
		open = rest
	}
	for fruitless := 0; len(open) > 0; {
		if fruitless == writeAttempts {
			if open = x.unconfirmed(open, r); len(open) == 0 {
				return nil
			}
			return problem.New(problem.CloudUnreachable, "%d changes were not answered after %d attempts", len(open), fruitless)
		}
		if fruitless > 1 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(min(100*time.Millisecond<<fruitless, 5*time.Second)):
			}
		}
		var still []pending
		var err error
		if len(open) == 1 && open[0].ofMembers() {
			still, err = x.writeWatched(ctx, open[0], r, last)
		} else {
			still, err = x.attempt(ctx, open, r, last)
		}
		if err != nil {
			return err
		}
		fruitless++
		if len(still) < len(open) {
			fruitless = 1
		}
		open = still
	}
	return nil
}

// refresh reads again what somebody else changed, for the next pass.
func (x *execution) refresh(ctx context.Context, r *results) error {
	for _, p := range r.stale {
		resource, err := x.cloud.Get(ctx, p.Kind, p.ResourceID)
		if err != nil {
			return wholeCloud(err)
		}
		if resource == nil {
			r.vanished[p.Kind] = append(r.vanished[p.Kind], p.ResourceID)
			continue
		}
		r.resources[p.Kind] = append(r.resources[p.Kind], resource)
		if err := x.vanishedMembers(ctx, p, r); err != nil {
			return err
		}
	}
	for _, p := range r.taken {
		if err := x.readHolders(ctx, p, r); err != nil {
			return err
		}
	}
	for kind, ids := range r.vanished {
		gone, there, err := x.goneOf(ctx, kind, ids)
		if err != nil {
			return err
		}
		r.vanished[kind] = gone
		r.resources[kind] = append(r.resources[kind], there...)
	}
	return nil
}

// readHolders reads who has the unique values that a change was refused for.
func (x *execution) readHolders(ctx context.Context, p pending, r *results) error {
	for _, diff := range p.Diffs {
		path, err := entry.ParsePath(diff.Target)
		value, _ := diff.After.(string)
		if err != nil || value == "" || !plan.Unique(path.Key(), x.offer.unique[p.Kind]) {
			continue
		}
		holders, err := x.cloud.Finder(p.Kind).Having(ctx, path.Key(), value)
		if err != nil {
			return wholeCloud(err)
		}
		r.resources[p.Kind] = append(r.resources[p.Kind], holders...)
	}
	return nil
}

// attempt looks up what must be looked up, sends the rest, and returns what is
// still open. A failure concerns the cloud as a whole.
func (x *execution) attempt(ctx context.Context, open []pending, r *results, last bool) ([]pending, error) {
	var send, still []pending
	var writes []cloud.Write
	finders := map[entry.Kind]*cloud.Finder{}
	for i := range open {
		p := open[i]
		if p.creates() && !p.look && x.creations.isStopped(p.Kind) {
			r.planNext(p, "the cloud has made another "+string(p.Kind)+" that cannot be found")
			continue
		}
		if p.look {
			if finders[p.Kind] == nil {
				finders[p.Kind] = x.cloud.Finder(p.Kind)
			}
			looked, err := x.look(ctx, &p, finders[p.Kind], r)
			if err != nil {
				return nil, err
			}
			switch {
			case looked == lookedDone:
				continue
			case looked == lookedWait:
				still = append(still, p)
				continue
			case p.creates() && x.creations.isStopped(p.Kind):
				r.planNext(p, "the cloud has made another "+string(p.Kind)+" that cannot be found")
				continue
			}
		}
		write, err := writeOf(p)
		if err != nil {
			return nil, err
		}
		if p.creates() {
			if err := x.creations.begin(p); err != nil {
				return nil, err
			}
		}
		send, writes = append(send, p), append(writes, write)
	}
	var failure error
	for i, answer := range x.cloud.Write(ctx, writes) {
		p := send[i]
		switch {
		case answer.Err == nil:
			if p.creates() {
				x.creations.end(p)
			}
			r.done(p, answer.Resource)
			r.altered(p, answer.Resource)
		case errors.Is(answer.Err, cloud.ErrMadeUnnamed):
			x.creations.end(p)
			p.look, p.made, p.sent = true, true, x.now
			still = append(still, p)
		case errors.Is(answer.Err, cloud.ErrNotSent):
			still = append(still, p)
		case errors.Is(answer.Err, cloud.ErrUnknownOutcome):
			if p.look = true; p.sent.IsZero() {
				p.sent = time.Now()
			}
			still = append(still, p)
		default:
			if err := r.refused(p, answer.Err, last); err != nil {
				failure = err
			}
		}
	}
	return still, failure
}

func writeOf(p pending) (cloud.Write, error) {
	if p.Operation == string(plan.Create) {
		resource, err := plan.NewResource(p.Diffs)
		return cloud.Write{Kind: p.Kind, Resource: resource}, err
	}
	write := cloud.Write{Kind: p.Kind, Delete: p.Operation == string(plan.Delete), ID: p.ResourceID, Version: p.resource.Version(), Resource: p.resource, Diffs: p.Diffs}
	if p.ofMembers() {
		write.Version = "" // each member is added or removed by itself, whatever else is done to the group
	}
	return write, nil
}

// vanishedMembers finds out whether a change of members was refused because one
// of them is gone from the cloud: it is made again, and the group compared anew.
func (x *execution) vanishedMembers(ctx context.Context, p pending, r *results) error {
	if !p.ofMembers() {
		return nil
	}
	for _, m := range p.Diffs[0].Added {
		resource, err := x.cloud.Get(ctx, entry.Kind(strings.ToLower(m.Type)), m.Value)
		if err != nil {
			return wholeCloud(err)
		}
		if resource == nil {
			kind := entry.Kind(strings.ToLower(m.Type))
			r.vanished[kind] = append(r.vanished[kind], m.Value)
		}
	}
	return nil
}

// look asks the cloud whether a change was done already, or has become needless.
func (x *execution) look(ctx context.Context, p *pending, finder *cloud.Finder, r *results) (looked, error) {
	if p.creates() {
		return x.lookForCreation(ctx, p, finder, r)
	}
	found, err := x.cloud.Get(ctx, p.Kind, p.ResourceID)
	if err != nil {
		return 0, wholeCloud(err)
	}
	if found == nil && p.Operation == string(plan.Delete) {
		r.done(*p, nil)
		return lookedDone, nil
	}
	if found == nil {
		r.vanish(*p)
		return lookedDone, nil
	}
	p.resource = found
	if arrived(found, p.Diffs) {
		r.done(*p, found)
		return lookedDone, nil
	}
	return lookedSend, nil
}

// wholeCloud makes a failed look-up end the run: going on without knowing could
// make a second account.
func wholeCloud(err error) error {
	if err != nil && problem.CodeOf(err) == "" && !errors.Is(err, context.Canceled) {
		return problem.Wrap(problem.CloudRefused, err, "look a resource up")
	}
	return err
}

// linkKey is what a creation or an adoption gives the resource.
func (p pending) linkKey() string {
	for _, diff := range p.Diffs {
		if key, ok := diff.After.(string); ok && diff.Target == "externalId" {
			return key
		}
	}
	return p.Ref().ID.String()
}

// arrived tells whether a resource is as the diffs would make it.
func arrived(resource entry.Resource, diffs []plan.Diff) bool {
	return !slices.ContainsFunc(diffs, func(d plan.Diff) bool { return !d.Done(resource) })
}

func (r *results) done(p pending, resource entry.Resource) {
	id := p.ResourceID
	if resource != nil {
		id = resource.ID()
		r.resources[p.Kind] = append(r.resources[p.Kind], resource)
	}
	outcome := store.Outcome{Change: p.Change, State: "done", ResourceID: id}
	r.outcomes = append(r.outcomes, outcome)
	switch plan.Operation(p.Operation) {
	case plan.Create, plan.Adopt:
		link := store.NewLink{Ref: p.Ref(), Kind: p.Kind, LinkKey: p.linkKey(), ResourceID: id, How: p.Operation}
		r.links = append(r.links, link)
		if p.look {
			r.settled = append(r.settled, link)
		}
	case plan.Suspend:
		r.left = append(r.left, p.Ref())
	case plan.Delete:
		r.deleted = append(r.deleted, id)
	case plan.Restore, plan.Update:
		r.back = append(r.back, p.Ref())
	}
	if p.ofMembers() {
		r.members = append(r.members, outcome)
	}
}

// altered notices that the cloud keeps something else than it was sent.
func (r *results) altered(p pending, resource entry.Resource) {
	if resource == nil {
		return
	}
	if texts := plan.Altered(resource, p.Diffs); len(texts) > 0 {
		outcome := &r.outcomes[len(r.outcomes)-1]
		outcome.Code, outcome.Answer = string(problem.ValueAltered), strings.Join(texts, "; ")
		r.problems = append(r.problems, store.NewProblem{Ref: p.Ref(), Code: outcome.Code, Detail: outcome.Answer})
	}
}

// planAgain lets the next pass of this run decide anew.
func (r *results) planAgain(p pending, answer string) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "superseded", ResourceID: p.ResourceID, Answer: answer})
	r.again = append(r.again, p.Ref())
	if p.Rank == store.RankReferences {
		r.refer = append(r.refer, p.Ref())
	}
}

// planNext lets the next run decide anew.
func (r *results) planNext(p pending, answer string) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "superseded", ResourceID: p.ResourceID, Answer: answer})
	r.next = append(r.next, p.Ref())
}

func (r *results) vanish(p pending) {
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "superseded", ResourceID: p.ResourceID, Answer: "the resource is gone from the cloud"})
	r.vanished[p.Kind], r.lookup = append(r.vanished[p.Kind], p.ResourceID), append(r.lookup, p.Ref())
	r.refer = append(r.refer, p.Ref())
}

// refused sorts a refusal: what the next pass may heal, what a person must, and
// what ends the run.
func (r *results) refused(p pending, err error, last bool) error {
	var refusal *cloud.Refusal
	if problem.CodeOf(err) != "" || !errors.As(err, &refusal) {
		return err
	}
	again := func(answer string) { r.planAgain(p, answer) }
	switch {
	case refusal.Status == http.StatusNotFound && p.Operation == string(plan.Delete):
		r.done(p, nil)
		return nil
	case refusal.Status == http.StatusNotFound && p.Operation != string(plan.Create):
		r.vanish(p)
		return nil
	case p.ofMembers() && !last:
		again(refusal.Error())
		r.stale = append(r.stale, p)
		return nil
	case refusal.Status == http.StatusPreconditionFailed && !last:
		again("the resource was changed in the cloud meanwhile")
		r.stale = append(r.stale, p)
		return nil
	case refusal.ScimType == "uniqueness" && !last:
		// Another change of this run may free the value, or somebody was made in
		// the cloud meanwhile whom the next pass adopts.
		again(refusal.Error())
		r.taken = append(r.taken, p)
		return nil
	}
	code := codeOf(refusal)
	r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: "failed", ResourceID: p.ResourceID, Code: string(code), Answer: refusal.Error()})
	r.problems = append(r.problems, store.NewProblem{Ref: p.Ref(), Code: string(code), Detail: refusal.Error()})
	r.next = append(r.next, p.Ref())
	if p.Rank == store.RankReferences {
		r.refer = append(r.refer, p.Ref())
	}
	return nil
}

func codeOf(refusal *cloud.Refusal) problem.Code {
	switch {
	case refusal.ScimType == "uniqueness" && strings.Contains(refusal.Detail, "emails"):
		return problem.DuplicateAddress
	case refusal.ScimType == "uniqueness":
		return problem.DuplicateLogin
	case refusal.ScimType == "invalidValue":
		return problem.ValueRefused
	}
	return problem.CloudRefused
}

// keep makes the results of a chunk durable in one transaction.
func (x *execution) keep(ctx context.Context, r *results) error {
	err := x.store.Fenced(ctx, func(tx *store.Store) error {
		steps := []func() error{
			func() error { return tx.SaveOutcomes(ctx, r.outcomes) },
			func() error {
				for kind, resources := range r.resources {
					if _, err := tx.StoreResources(ctx, kind, resources, x.settings.of(kind).indexed, false); err != nil {
						return err
					}
				}
				return nil
			},
			func() error { return r.keepMembers(ctx, tx) },
			func() error { return tx.SaveLinks(ctx, x.run.ID, r.links) },
			func() error { return tx.SettleDoubts(ctx, r.settled) },
			func() error { return tx.SetLeft(ctx, r.left, true) },
			func() error { return tx.SetLeft(ctx, r.back, false) },
			func() error { return tx.SaveProblems(ctx, x.run.ID, r.problems) },
			func() error { return tx.SetDirty(ctx, r.again, store.DirtyNow, false) },
			func() error { return tx.SetDirty(ctx, r.lookup, store.DirtyNow, true) },
			func() error { return tx.SetDirty(ctx, r.next, store.DirtyNext, false) },
			func() error { return tx.MarkReferences(ctx, r.refer) },
			func() error { return tx.SetDirty(ctx, r.doubtful, store.DirtyNext, true) },
			func() error {
				for _, ids := range r.vanished {
					if err := tx.DropResources(ctx, ids); err != nil {
						return err
					}
				}
				return nil
			},
			func() error { return tx.DeleteResources(ctx, r.deleted) },
			func() error { return tx.DropChosen(ctx, r.links) },
		}
		for _, step := range steps {
			if err := step(); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("keep what the cloud answered: %w", err)
	}
	done, failed := 0, 0
	for _, o := range r.outcomes {
		switch o.State {
		case "done":
			done++
		case "failed":
			failed++
		}
	}
	return x.count(ctx, func(c *wire.Counts) { c.Done += done; c.Failed += failed })
}
