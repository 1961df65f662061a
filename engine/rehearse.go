package engine

import (
	"context"
	"errors"
	"sync"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// rehearse plans without keeping anything but the decisions. Who is dirty is
// planned in a transaction that is thrown away; where everybody is looked at,
// nothing of the state before counts, and it is planned from the mirrors alone,
// unless entries may be one with others, which is found step by step.
func (x *execution) rehearse(ctx context.Context) error {
	var err error
	everybody := x.run.Kind == "full" || x.run.Draft > 0
	if everybody && !x.settings.joins() {
		if err = x.rehearseAll(ctx); err != nil {
			return err
		}
		if err = x.guard(ctx); err == nil {
			err = x.planReferences(ctx, x.store, true)
		}
	} else {
		err = x.store.Discarded(ctx, func(tx *store.Store) error {
			if everybody {
				if err := errors.Join(tx.MarkAllDirty(ctx), tx.Learn(ctx)); err != nil {
					return err
				}
			}
			return x.planWithin(ctx, tx)
		})
	}
	return err
}

// planWithin plans in a transaction that is thrown away.
func (x *execution) planWithin(ctx context.Context, tx *store.Store) error {
	if err := x.join(ctx, tx); err != nil {
		return err
	}
	if err := x.plan(ctx, tx, x.store); err != nil {
		return err
	}
	// Whoever is held keeps what refers to them.
	if err := x.guard(ctx); err != nil {
		return err
	}
	return x.planReferences(ctx, tx, false)
}

// rehearseAll decides about everybody, those with a resource first, so that a
// newcomer never takes a login from the person who has it.
func (x *execution) rehearseAll(ctx context.Context) error {
	claims := &claimed{holders: map[string]store.Claimant{}}
	for _, linked := range []bool{true, false} {
		var mu sync.Mutex // guards after and ended
		var after store.Ref
		ended := false
		next := func(ctx context.Context) (batch []store.Dirty, more bool, err error) {
			mu.Lock()
			defer mu.Unlock()
			if ended {
				return nil, false, nil
			}
			batch, after, err = x.store.Subjects(ctx, linked, after, planBatch)
			ended = after == store.Ref{}
			return batch, !ended, err
		}
		group, groupCtx := errgroup.WithContext(ctx)
		for range planWorkers {
			group.Go(func() error {
				for {
					batch, more, err := next(groupCtx)
					if err != nil || !more {
						return err
					}
					if len(batch) == 0 {
						continue
					}
					p := &planner{settings: x.settings, cloud: x.offer, now: x.now, last: true, claims: claims.replace}
					if err := p.decide(groupCtx, x.store, batch); err != nil {
						return err
					}
					if err := x.store.AddChanges(groupCtx, x.run.ID, p.changes); err != nil {
						return err
					}
					if err := x.count(groupCtx, func(c *wire.Counts) { p.count(c, len(batch)) }); err != nil {
						return err
					}
				}
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// claimed holds the unique values that a rehearsal of everybody has given out.
type claimed struct {
	mu      sync.Mutex
	holders map[string]store.Claimant
}

// replace gives entries their values and returns who has those that were taken.
func (c *claimed) replace(_ context.Context, _ []store.Ref, claims []store.NewClaim) (map[string]store.Claimant, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	taken := map[string]store.Claimant{}
	for _, claim := range claims {
		holder, ok := c.holders[claim.Key]
		switch {
		case !ok:
			c.holders[claim.Key] = store.Claimant{Ref: claim.Ref, DN: claim.DN}
		case holder.Ref != claim.Ref:
			taken[claim.Key] = holder
		}
	}
	return taken, nil
}
