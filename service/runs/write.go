package runs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	jsonv2 "github.com/go-json-experiment/json"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/service/store"
)

const (
	writeChunk    = 200
	groupChunk    = 20 // of what the cloud might make twice, few are in doubt after a kill
	writeAttempts = 8
	firstPause    = 400 * time.Millisecond
	longestPause  = 5 * time.Second
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
	x.mu.Lock()
	x.asked = map[string]int64{} // what another pass planned, it planned by what was read since
	if x.run.Counts.Changes > muchPlanned {
		ctx = cloud.WithMuch(ctx)
	}
	x.mu.Unlock()
	if lock := store.LockOf(ctx); lock != nil {
		ctx = cloud.WithPermit(ctx, lock.Check)
	}
	for rank := from; rank <= to; rank++ {
		if err := x.writeRank(ctx, rank, last); err != nil {
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
	why      error          // why it is not known whether it was done
	least    bool           // a creation without what the cloud may refuse
	older    bool           // it was made for a version that is no longer the cloud's
	anyway   bool           // a change of members that was made whatever the group's version
}

func (p pending) creates() bool { return p.Operation == string(plan.Create) }

func (x *execution) writeChunk(ctx context.Context, changes []store.Change, last bool) error {
	var sending store.Sending
	if err := x.store.Fenced(ctx, func(tx *store.Store) (err error) {
		sending, err = tx.Changes.BeginSending(ctx, x.run.ID, changes)
		return err
	}); err != nil {
		return err
	}
	open := make([]pending, 0, len(changes))
	r := results{settings: x.Settings, sending: sending, sent: len(changes), resources: map[entry.Kind][]entry.Resource{}, vanished: map[entry.Kind][]string{}, own: map[string]bool{}}
	for _, c := range changes {
		p := pending{Change: c}
		if p.Operation == string(plan.Leave) { // nothing is sent
			r.done(p, nil)
			continue
		}
		p.look = c.Lookup || p.looksFirst()
		if len(c.Resource) > 0 {
			if err := jsonv2.Unmarshal(c.Resource, &p.resource); err != nil {
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
		failure = x.writeParts(ctx, &r, last)
	}
	if failure == nil {
		failure = x.refresh(ctx, &r)
	}
	if err := x.settleClashes(ctx, &r); failure == nil {
		failure = err
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
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval, pauses.Multiplier = firstPause, longestPause, 2
	for fruitless := 0; len(open) > 0; {
		if fruitless == writeAttempts {
			if open = x.unconfirmed(open, r); len(open) == 0 {
				return nil
			}
			return notAnswered(open, fruitless)
		}
		if fruitless > 1 {
			if err := rest.For(ctx, pauses.NextBackOff()); err != nil {
				return err
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
			pauses.Reset()
		}
		open = still
	}
	return nil
}

// notAnswered is why a run ends that got no answer to changes.
func notAnswered(open []pending, attempts int) error {
	for _, p := range open {
		var refusal *cloud.Refusal
		if errors.As(p.why, &refusal) {
			return problem.Wrap(problem.CloudFailing, refusal, "%d changes were not done after %d attempts", len(open), attempts)
		}
	}
	return problem.New(problem.CloudUnreachable, "%d changes were not answered after %d attempts", len(open), attempts)
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
		if err := x.readChanged(ctx, p, r); err != nil {
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
	for _, u := range x.uniqueValues(p) {
		holders, err := x.cloud.Finder(p.Kind).Having(ctx, u.key, u.value)
		if err != nil {
			return wholeCloud(err)
		}
		r.resources[p.Kind] = append(r.resources[p.Kind], holders...)
		for _, holder := range holders {
			if p.Operation == string(plan.Update) && holder.ID() != p.ResourceID {
				x.circles.note(waiting{p.Kind, p.ResourceID, u.key}, blocked{p.Change, u.diff, holder.ID()})
			}
		}
	}
	return nil
}

// uniqueValue is a value that only one resource may have, at the key of its path.
type uniqueValue struct {
	key, value string
	diff       change.Diff
}

// uniqueValues are those that a change gives its resource.
func (x *execution) uniqueValues(p pending) []uniqueValue {
	var unique []uniqueValue
	for _, diff := range p.Diffs {
		path, err := entry.ParsePath(diff.Target)
		value, _ := diff.After.(string)
		if err == nil && value != "" && plan.Unique(path.Key(), x.Offer.Unique[p.Kind]) {
			unique = append(unique, uniqueValue{path.Key(), value, diff})
		}
	}
	return unique
}

// attempt looks up what must be looked up, sends the rest, and returns what is
// still open. A failure concerns the cloud as a whole.
func (x *execution) attempt(ctx context.Context, open []pending, r *results, last bool) ([]pending, error) {
	var send, still []pending
	var writes []cloud.Write
	finders, err := x.findersFor(ctx, open)
	if err != nil {
		return nil, err
	}
	for i := range open {
		p := open[i]
		if p.look {
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
			}
		}
		if p.creates() && x.creations.isStopped(p.Kind) {
			r.planNext(p, "the cloud has made another "+string(p.Kind)+" that cannot be found")
			continue
		}
		p.anyway = p.ofMembers() && (last || !x.asks(p))
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
			r.written(p, answer.Resource)
		case errors.Is(answer.Err, cloud.ErrMadeUnnamed):
			x.creations.end(p)
			p.look, p.made, p.sent = true, true, x.Now
			still = append(still, p)
		case errors.Is(answer.Err, cloud.ErrNotSent):
			still = append(still, p)
		case errors.Is(answer.Err, cloud.ErrUnknownOutcome):
			if p.look, p.why = true, answer.Err; p.sent.IsZero() {
				p.sent = x.store.Now()
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

// asks tells whether a change of members asks for the group's version. The first of a group
// does: whom somebody else has added since would never be seen, as the version after the
// change is known. Those after it cannot, since the first has changed the version.
func (x *execution) asks(p pending) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if _, known := x.asked[p.ResourceID]; !known {
		x.asked[p.ResourceID] = p.ID
	}
	return x.asked[p.ResourceID] == p.ID
}

func writeOf(p pending) (cloud.Write, error) {
	if p.Operation == string(plan.Create) {
		resource, err := change.NewResource(p.Diffs)
		return cloud.Write{Kind: p.Kind, Resource: resource}, err
	}
	write := cloud.Write{Kind: p.Kind, Delete: p.Operation == string(plan.Delete), ID: p.ResourceID, Version: p.resource.Version(), Resource: p.resource, Diffs: p.Diffs}
	if p.anyway { // each member is added or removed by itself, whatever else is done to the group
		write.Version = ""
	}
	return write, nil
}

// readChanged reads who is in a group of which a change of members was refused, since
// somebody else may have changed them, or one of them is gone from the cloud: that one is
// made again, and the group compared anew.
func (x *execution) readChanged(ctx context.Context, p pending, r *results) error {
	if !p.ofMembers() {
		return nil
	}
	read := slices.ContainsFunc(r.membersNow, func(now membersNow) bool { return now.group == p.ResourceID })
	if !read {
		members, found, err := x.cloud.Members(ctx, p.ResourceID)
		if err != nil {
			return wholeCloud(err)
		}
		if found {
			shown, err := x.store.Resources.MembersShown(ctx, x.cloud.URL())
			if err != nil {
				return err
			}
			r.membersNow = append(r.membersNow, membersNow{p.ResourceID, members, shown == 0 || len(members) < shown})
		}
	}
	if p.older { // that is why, and each of thousands of members would be asked for
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
func arrived(resource entry.Resource, diffs []change.Diff) bool {
	return !slices.ContainsFunc(diffs, func(d change.Diff) bool { return !d.Done(resource) })
}
