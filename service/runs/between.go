package runs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/service/store"
)

// A run that writes much gives way, between two chunks, to what is asked for meanwhile: a
// change that arrived live must not wait until a first run of everybody has ended. What
// comes in between is a run of its own, of what has changed alone. It decides about
// resources only, not about what ties them together, since the long run has that still
// before it; and what the long run had planned for the same entries is planned anew by it.

// longRun is how long a run goes on before it gives way: what is over soon is not waited
// for long.
const longRun = 2 * time.Second

// gaveWay is when a run last gave way, and for how long.
type gaveWay struct {
	at   time.Time
	long time.Duration
}

// due says whether the run may give way again: at most half of the time.
func (g gaveWay) due(now time.Time) bool { return now.Sub(g.at) >= g.long }

// givesWay tells whether the run may give way while it writes changes of a rank.
func (x *execution) givesWay(rank int) bool {
	return rank < store.RankReferences && x.within == nil && (x.run.Purpose == purpose.Sync || x.run.Purpose == purpose.Full)
}

// waiting finds a run that may come in between, nil for none. Where other settings were
// activated meanwhile, none may: it would look at everybody.
func (x *execution) waiting(ctx context.Context) (*store.Run, error) {
	now := time.Now()
	if now.Sub(*x.run.Started) < longRun || !x.gaveWay.due(now) {
		return nil, nil
	}
	run, found, err := x.store.Runs.MayComeBetween(ctx, x.run.ID)
	if err != nil || !found {
		return nil, err
	}
	active, _, err := x.store.Settings.Active(ctx)
	if err != nil || active.Revision != x.run.Revision {
		return nil, err
	}
	return &run, nil
}

// around is the run that this one comes in between of, 0 for none.
func (x *execution) around() int64 {
	if x.within == nil {
		return 0
	}
	return x.within.run.ID
}

// between executes a run within this one.
func (x *execution) between(ctx context.Context, run *store.Run) error {
	slog.Info("a run comes in between", logkey.Run, run.ID, logkey.Within, x.run.ID)
	began := time.Now()
	err := x.begin(ctx, run, x)
	x.gaveWay = gaveWay{time.Now(), time.Since(began)}
	if err != nil {
		return fmt.Errorf("run %d in between: %w", run.ID, err)
	}
	return nil
}

// followed has a run follow one that gave way: what came in between has left to it what
// is not of resources, and what waits for a next run. One that failed is tried again in
// its time.
func (x *execution) followed(ctx context.Context) error {
	if x.gaveWay.at.IsZero() || x.run.State == progress.Failed {
		return nil
	}
	_, err := x.store.Runs.AskLive(ctx, x.run.Revision)
	return err
}

// writeRank carries the planned changes of one rank out, and gives way meanwhile.
func (x *execution) writeRank(ctx context.Context, rank int, last bool) error {
	for after := int64(0); ; {
		comes, err := x.writeUntil(ctx, rank, &after, last)
		if err != nil || comes == nil {
			return err
		}
		if err := x.between(ctx, comes); err != nil {
			return err
		}
	}
}

// writeUntil carries out what is planned of a rank after a change, until a run comes in
// between, which it returns, or nothing is left.
func (x *execution) writeUntil(ctx context.Context, rank int, after *int64, last bool) (comes *store.Run, err error) {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(x.options.Workers)
	for ctx.Err() == nil {
		// An operator may have stopped it meanwhile; then the run ends here.
		if err = x.store.Pauses.Allow(ctx, pause.All.ToCloud); err != nil {
			break
		}
		if x.givesWay(rank) {
			if comes, err = x.waiting(ctx); err != nil || comes != nil {
				break
			}
		}
		var changes []store.Change
		if changes, err = x.store.Changes.Next(ctx, x.run.ID, rank, *after, chunkOf(rank)); err != nil || len(changes) == 0 {
			break
		}
		*after = changes[len(changes)-1].ID
		group.Go(func() error { return x.writeChunk(ctx, changes, last) })
	}
	return comes, errors.Join(err, group.Wait())
}
