package jobs

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/service/store"
)

// There are two lanes. In the one that writes, to the cloud and to the mirrors, is
// one run at a time on a database; it is fenced, see store.Lock. Beside it are runs
// that write nothing: rehearsals, forecasts, impacts, trials, surveys. They plan
// by what the mirrors hold and never make a run wait. Reading changes the mirrors,
// so it is done in the lane that writes also for them, and given up when a run
// comes that writes.

// mostBeside is how many runs a service executes at once that write nothing.
const mostBeside = 2

// laneTick is after how long a lane looks for work of which no event told, as of that
// which a service has left that was killed or stopped.
const laneTick = 500 * time.Millisecond

// lane executes the runs that write as they come.
func (e *Jobs) lane(ctx context.Context) {
	events, stop := e.hub.Subscribe()
	defer stop()
	for ctx.Err() == nil {
		if err := e.executeOpen(ctx); err != nil && ctx.Err() == nil {
			slog.Error("the run stopped and will be taken up again", logkey.Error, err)
			_ = rest.For(ctx, time.Second)
			continue
		}
		// The time-out takes over from a service that was killed.
		select {
		case <-ctx.Done():
		case <-events:
		case <-time.After(laneTick):
		}
	}
}

func (e *Jobs) executeOpen(ctx context.Context) error {
	_, open, err := e.store.Runs.Next(ctx)
	if err != nil || !open {
		return err
	}
	_, err = e.store.WithRunLock(ctx, func(ctx context.Context) error {
		for {
			run, open, err := e.store.Runs.Next(ctx)
			if err != nil || !open {
				return err
			}
			if err := e.execute(ctx, &run); err != nil {
				return err
			}
		}
	})
	return err
}

// beside executes the runs that write nothing, some at a time.
func (e *Jobs) beside(ctx context.Context) {
	events, stop := e.hub.Subscribe()
	defer stop()
	var group sync.WaitGroup
	defer group.Wait()
	var mu sync.Mutex // guards at
	var at []int64
	ended := make(chan struct{}, 1) // one has room again
	for ctx.Err() == nil {
		open, err := e.store.Runs.OpenBesideIDs(ctx, 4*mostBeside)
		if err != nil && ctx.Err() == nil {
			slog.Error("look for rehearsals", logkey.Error, err)
		}
		for _, id := range open {
			mu.Lock()
			free := len(at) < mostBeside && !slices.Contains(at, id)
			if free {
				at = append(at, id)
			}
			mu.Unlock()
			if !free {
				continue
			}
			group.Go(func() {
				if err := e.executeBeside(ctx, id); err != nil && ctx.Err() == nil {
					slog.Error("the run stopped and will be taken up again", logkey.Run, id, logkey.Error, err)
					_ = rest.For(ctx, time.Second)
				}
				mu.Lock()
				at = slices.DeleteFunc(at, func(one int64) bool { return one == id })
				mu.Unlock()
				select {
				case ended <- struct{}{}:
				default:
				}
			})
		}
		select {
		case <-ctx.Done():
		case <-ended:
		case <-events:
		case <-time.After(laneTick):
		}
	}
}

func (e *Jobs) executeBeside(ctx context.Context, id int64) error {
	_, err := e.store.Own(ctx, store.RunBeside, id, func(ctx context.Context) error {
		run, err := e.store.Runs.Get(ctx, id)
		if err != nil || run.State.Ended() {
			return err
		}
		return e.execute(ctx, &run)
	})
	return err
}
