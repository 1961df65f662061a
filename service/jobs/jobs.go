// Package jobs says what runs when, and what beside what: requests for runs, the two
// lanes in which they are executed, and the work that comes by the clock.
//
// The clock is River's: its leader among all services on a database inserts a job
// now and then, and one of them works it. The lanes are not River's queues, since
// the run of a service that was killed must be taken over within seconds, and the
// locks that the lanes hold end with their connection; see store.Lock.
package jobs

import (
	"context"
	"sync"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/store"
)

// Execute brings a run to its end. An error means that it did not get there and
// is to be begun again.
type Execute func(ctx context.Context, run *store.Run) error

// Jobs is what is to be done. Its methods may be called from many goroutines.
type Jobs struct {
	store   *store.Store
	hub     *events.Hub
	execute Execute
	timer   *timer
	group   sync.WaitGroup
	stop    context.CancelFunc
}

// New makes one; Start sets it going.
func New(s *store.Store, hub *events.Hub) *Jobs { return &Jobs{store: s, hub: hub} }

// Start begins to execute runs and the schedule, until Stop.
func (e *Jobs) Start(ctx context.Context, execute Execute) error {
	ctx, e.stop = context.WithCancel(context.WithoutCancel(ctx))
	e.execute = execute
	var err error
	if e.timer, err = startTimer(ctx, e); err != nil {
		e.stop()
		return err
	}
	e.group.Go(func() { e.lane(ctx) })
	e.group.Go(func() { e.beside(ctx) })
	return nil
}

// Stop ends the work where it is; a run that goes on is taken up at the next
// start.
func (e *Jobs) Stop() {
	if e.stop == nil {
		return
	}
	e.timer.stop()
	e.stop()
	e.group.Wait()
}

// Request asks for a run by the active settings and returns its number.
func (e *Jobs) Request(ctx context.Context, run store.Run) (int64, error) {
	return Request(ctx, e.store, run)
}

// Request is the same in a transaction.
func Request(ctx context.Context, tx *store.Store, run store.Run) (int64, error) {
	revision, ok, err := tx.ActiveSettings(ctx)
	if err != nil {
		return 0, err
	}
	if !ok {
		return 0, problem.New(problem.NoSettings, "")
	}
	run.Revision = revision.Revision
	return tx.NewRun(ctx, run, false)
}

// Release asks for a run that lets the held removals of a run through.
func (e *Jobs) Release(ctx context.Context, id int64, by string) (int64, error) {
	run, err := e.store.Run(ctx, id)
	if store.NotFound(err) {
		return 0, problem.New(problem.NotFound, "there is no run %d", id)
	}
	if err != nil {
		return 0, err
	}
	if run.Counts.Held == 0 || run.Purpose.Rehearses() {
		return 0, problem.New(problem.BadInput, "run %d holds no removals", id)
	}
	return e.Request(ctx, store.Run{Run: wire.Run{Purpose: wire.PurposeRelease, Releases: id, By: by}})
}

// Cancel ends a rehearsal, a survey or a reading.
func (e *Jobs) Cancel(ctx context.Context, id int64) error {
	found, err := e.store.CancelRun(ctx, id)
	if err == nil && !found {
		err = problem.New(problem.BadInput, "run %d has ended, or it writes and is never cut short.", id)
	}
	return err
}
