package runs

import (
	"context"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/core/textkey"
	"kambrel.example/kambrel/service/store"
)

// creations is what a run knows of what it makes, so that nothing is made twice.
type creations struct {
	mu sync.Mutex
	// made are the link keys for which the cloud has said that it made something.
	made textkey.Set
	// stopped are the kinds of which something was made that cannot be found.
	stopped map[entry.Kind]bool
}

// begin is called before a creation is sent. A second one for a link key is a
// fault that must not be carried out, whoever has made it.
func (c *creations) begin(p pending) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if key := p.linkKey(); c.made.Has(key) {
		return problem.New(problem.SecondResource, "for %s, whose link key is %s", p.DN, key)
	}
	return nil
}

func (c *creations) end(p pending) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.made == nil {
		c.made = textkey.Set{}
	}
	c.made.Add(p.linkKey())
}

func (c *creations) stop(kind entry.Kind) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.stopped == nil {
		c.stopped = map[entry.Kind]bool{}
	}
	c.stopped[kind] = true
}

func (c *creations) isStopped(kind entry.Kind) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.stopped[kind]
}

// prepareCreations finds out what earlier runs have left in doubt.
func (x *execution) prepareCreations(ctx context.Context) error {
	kinds, err := x.store.Changes.UnconfirmedKinds(ctx)
	x.creations.mu.Lock()
	x.creations.stopped = nil
	x.creations.mu.Unlock()
	for _, kind := range kinds {
		x.creations.stop(kind)
	}
	return err
}

// doubts completes creations with what is known of earlier attempts at them.
func (x *execution) doubts(ctx context.Context, open []pending) error {
	var refs []entry.Ref
	for _, p := range open {
		if p.creates() && p.look {
			refs = append(refs, p.Ref())
		}
	}
	if len(refs) == 0 {
		return nil
	}
	mine := make([]store.Change, len(open))
	for i, p := range open {
		mine[i] = p.Change
	}
	doubts, err := x.store.Changes.Doubts(ctx, refs, mine)
	if err != nil {
		return err
	}
	for i := range open {
		if doubt, found := doubts[open[i].Ref()]; found && open[i].creates() {
			open[i].sent, open[i].made = doubt.Sent, doubt.Made
		}
	}
	return nil
}

// The ends of a look.
type looked int

const (
	lookedSend looked = iota // it is still to be sent
	lookedDone               // nothing is to be sent
	lookedWait               // nobody can say yet: look again
)

// lookForCreation asks the cloud whether a creation was done already. Lists may
// lag behind, so that one that has nothing proves nothing: what was linked is
// asked for by its id, and a creation that was sent is sent again only where the
// cloud itself would refuse a second one, or long after.
func (x *execution) lookForCreation(ctx context.Context, p *pending, finder *cloud.Finder, r *results) (looked, error) {
	link, err := x.store.Links.Of(ctx, p.Ref())
	if err != nil && !store.NotFound(err) {
		return 0, err
	}
	if err == nil {
		there, err := x.cloud.Get(ctx, p.Kind, link.ResourceID)
		if err != nil {
			return 0, wholeCloud(err)
		}
		if there != nil {
			x.foundMade(p, there, r)
			return lookedDone, nil
		}
	}
	found, err := finder.ByLinkKey(ctx, p.linkKey())
	if err != nil {
		return 0, wholeCloud(err)
	}
	if found != nil {
		x.foundMade(p, found, r)
		return lookedDone, nil
	}
	if free, err := x.freeTwin(ctx, p, finder); err != nil || free != nil {
		if err != nil {
			return 0, wholeCloud(err)
		}
		// Somebody has made it meanwhile: the next pass adopts it.
		r.resources[p.Kind] = append(r.resources[p.Kind], free)
		r.planAgain(*p, "the cloud has such a resource by now, which no entry owns")
		return lookedDone, nil
	}
	switch {
	case p.made:
		return lookedWait, nil
	case p.sent.IsZero(), x.refusesSecond(*p), x.store.Since(p.sent) > x.options.CreationPatience:
		return lookedSend, nil
	}
	return lookedWait, nil
}

// findersFor look up what of each kind must be looked up: creations that the cloud would refuse
// to do again many at once, as there are when a run is taken up.
func (x *execution) findersFor(ctx context.Context, open []pending) (map[entry.Kind]*cloud.Finder, error) {
	finders, keys := map[entry.Kind]*cloud.Finder{}, map[entry.Kind][]string{}
	for _, p := range open {
		if !p.look {
			continue
		}
		if finders[p.Kind] == nil {
			finders[p.Kind] = x.cloud.Finder(p.Kind)
		}
		if p.creates() && x.refusesSecond(p) {
			keys[p.Kind] = append(keys[p.Kind], p.linkKey())
		}
	}
	for kind, some := range keys {
		if err := finders[kind].LookAhead(ctx, some); err != nil {
			return nil, wholeCloud(err)
		}
	}
	return finders, nil
}

// foundMade takes a resource for what the creation has made.
func (x *execution) foundMade(p *pending, found entry.Resource, r *results) {
	x.creations.end(*p)
	r.done(*p, found)
	if !arrived(found, p.Diffs) {
		r.again = append(r.again, p.Ref())
	}
}

// freeTwin finds a resource that a match rule would find for what is to be made,
// and that nobody owns. People are told apart by their login, which the cloud
// refuses to give twice.
func (x *execution) freeTwin(ctx context.Context, p *pending, finder *cloud.Finder) (entry.Resource, error) {
	if p.Kind == entry.User {
		return nil, nil
	}
	resource, err := change.NewResource(p.Diffs)
	if err != nil {
		return nil, err
	}
	for _, path := range x.Settings.Of(p.Kind).Indexed {
		for _, value := range path.Texts(resource) {
			found, err := finder.Having(ctx, path.Key(), value)
			if err != nil {
				return nil, err
			}
			if len(found) == 0 {
				continue
			}
			key := match.KeyText(p.Kind, path.Key(), value)
			mirrored, err := x.store.Facts.Holders(ctx, []string{key})
			if err != nil {
				return nil, err
			}
			for _, twin := range found {
				known := slices.ContainsFunc(mirrored[key], func(h decide.Holder) bool { return h.Resource.ID() == twin.ID() })
				if twin.ExternalID() == "" && !known {
					return twin, nil
				}
			}
		}
	}
	return nil, nil
}

// refusesSecond tells whether the cloud itself would refuse to make the resource
// a second time, since one of its values can be had once only: the login of
// people (RFC 7643 section 4.1.1), and what its schemas say.
func (x *execution) refusesSecond(p pending) bool {
	return slices.ContainsFunc(p.Diffs, func(d change.Diff) bool {
		path, err := entry.ParsePath(d.Target)
		if err != nil || d.After == nil {
			return false
		}
		return p.Kind == entry.User && path.Key() == "userName" || slices.Contains(x.Offer.Unique[p.Kind], path.Key())
	})
}

// looksFirst tells kinds without a value that the cloud gives once only: they are
// looked for before each creation.
func (p pending) looksFirst() bool { return p.creates() && p.Kind != entry.User }

// unconfirmed ends creations of which nobody can say what came of them.
func (x *execution) unconfirmed(open []pending, r *results) []pending {
	return slices.DeleteFunc(open, func(p pending) bool {
		if !p.creates() || !p.made && (p.sent.IsZero() || x.refusesSecond(p)) {
			return false
		}
		state, facts := "unanswered", problem.Facts{}
		if p.made {
			state, facts.Made = "unconfirmed", string(p.Kind)
			x.creations.stop(p.Kind)
		}
		met := r.met(p, problem.CreationUnconfirmed, facts)
		r.outcomes = append(r.outcomes, store.Outcome{Change: p.Change, State: state, Code: string(met.Code), Answer: met.Detail})
		r.doubtful = append(r.doubtful, p.Ref())
		return true
	})
}

// goneOf asks for resources by their ids and returns those that the cloud does
// not have, twice with a pause between, with the others as they are.
func (x *execution) goneOf(ctx context.Context, kind entry.Kind, ids []string) (gone []string, there []entry.Resource, err error) {
	var mu sync.Mutex
	ask := func(ids []string) (missing []string, err error) {
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(x.options.Workers)
		for _, id := range ids {
			group.Go(func() error {
				resource, err := x.cloud.Get(ctx, kind, id)
				if err != nil {
					return wholeCloud(err)
				}
				mu.Lock()
				defer mu.Unlock()
				if resource == nil {
					missing = append(missing, id)
				} else {
					there = append(there, resource)
				}
				return nil
			})
		}
		return missing, group.Wait()
	}
	if gone, err = ask(ids); err != nil || len(gone) == 0 {
		return gone, there, err
	}
	if err := rest.For(ctx, x.options.GonePause); err != nil {
		return nil, nil, err
	}
	gone, err = ask(gone)
	return gone, there, err
}
