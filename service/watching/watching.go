// Package watching asks the cloud what has changed there, so that what somebody does by
// hand, an account that another makes, or a group that is kept in a directory, is met
// within seconds and not with the next run of the schedule. It asks for ids and versions
// alone; the run that follows reads.
package watching

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/store"
)

const (
	// every is how often the cloud is asked.
	every = 10 * time.Second
	// longest is how long that is left where what changes there leads to nothing, as where
	// each sign-in counts as a change.
	longest = 5 * time.Minute
)

// Watching asks for one database. Only one service does.
type Watching struct {
	store *store.Store
	cloud *cloud.Client
	jobs  *jobs.Jobs

	stop  context.CancelFunc
	group sync.WaitGroup

	from  map[entry.Kind]string // the newest change that was seen and is known
	pause time.Duration
	asked int64 // the last run that was asked for
	told  bool  // that the cloud does not say what it takes
}

// New makes one; Start sets it going.
func New(s *store.Store, c *cloud.Client, j *jobs.Jobs) *Watching {
	return &Watching{store: s, cloud: c, jobs: j, from: map[entry.Kind]string{}, pause: every}
}

// Start begins to ask, until Stop.
func (w *Watching) Start(ctx context.Context) {
	ctx, w.stop = context.WithCancel(context.WithoutCancel(ctx))
	w.group.Go(func() {
		for ctx.Err() == nil {
			if _, err := w.store.Own(ctx, store.Watching, 1, w.watch); err != nil && ctx.Err() == nil {
				slog.Warn("watch the cloud", logkey.Error, err)
			}
			_ = rest.For(ctx, every) // another does, or it is begun anew
		}
	})
}

// Stop ends it.
func (w *Watching) Stop() {
	if w.stop != nil {
		w.stop()
		w.group.Wait()
	}
}

func (w *Watching) watch(ctx context.Context) error {
	for ctx.Err() == nil {
		if err := w.once(ctx); err != nil && ctx.Err() == nil && problem.CodeOf(err) == "" {
			return err // what has a code is told by runs, which meet the same
		}
		_ = rest.For(ctx, w.pause)
	}
	return nil
}

// once asks for every kind, unless a run is under way or nothing starts one.
func (w *Watching) once(ctx context.Context) error {
	active, live, err := w.jobs.Live(ctx, pause.All.ToCloud)
	if err != nil || !live {
		return err
	}
	if _, open, err := w.store.Runs.Open(ctx); err != nil || open {
		return err
	}
	if err := w.lookBack(ctx); err != nil {
		return err
	}
	for _, kind := range entry.Kinds {
		_, offered, err := w.cloud.Type(ctx, kind)
		if err != nil {
			return err
		}
		if !offered {
			continue
		}
		changed, err := w.changed(ctx, kind)
		if err != nil {
			return err
		}
		if changed {
			w.asked, err = w.store.Runs.AskLive(ctx, active.Revision)
			return err
		}
	}
	return nil
}

// lookBack asks the less often the more runs have found nothing to do.
func (w *Watching) lookBack(ctx context.Context) error {
	if w.asked == 0 {
		return nil
	}
	run, err := w.store.Runs.Get(ctx, w.asked)
	if w.asked = 0; store.NotFound(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if w.pause = min(2*w.pause, longest); run.Counts.Changes > 0 || run.Counts.Held > 0 || run.Counts.ProblemsNew > 0 {
		w.pause = every
	}
	return nil
}

func (w *Watching) changed(ctx context.Context, kind entry.Kind) (bool, error) {
	state, err := w.store.Resources.State(ctx, kind)
	if err != nil || state.Watermark == "" {
		return false, err // a run reads it first
	}
	since := max(state.Watermark, w.from[kind])
	changed, newest, err := w.cloud.Changed(ctx, kind, since, w.store.Resources.Differing)
	if errors.Is(err, cloud.ErrNotTold) {
		w.pause = longest // it will hardly learn it soon
		if !w.told {
			slog.Info("the cloud does not tell what has changed: the schedule finds it", logkey.Kind, string(kind))
		}
		w.told = true
		return false, nil
	}
	if err == nil && !changed {
		w.from[kind] = newest
	}
	return changed, err
}
