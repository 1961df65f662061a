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
	"strconv"
	"sync"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
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
	watch   func(context.Context) error
	timer   *timer
	group   sync.WaitGroup
	stop    context.CancelFunc
}

// New makes one; Start sets it going.
func New(s *store.Store, hub *events.Hub) *Jobs { return &Jobs{store: s, hub: hub} }

// Start begins to execute runs and the schedule, until Stop. watch is called every
// few seconds, by one service of those on a database.
func (e *Jobs) Start(ctx context.Context, execute Execute, watch func(context.Context) error) error {
	ctx, e.stop = context.WithCancel(context.WithoutCancel(ctx))
	e.execute, e.watch = execute, watch
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
	revision, ok, err := tx.Settings.Active(ctx)
	if err != nil {
		return 0, err
	}
	if !ok {
		return 0, problem.New(problem.NoSettings, "")
	}
	run.Revision = revision.Revision
	return tx.Runs.New(ctx, run, false)
}

// started is what a run is for, as an act notes it.
type started struct {
	Purpose purpose.Purpose `json:"purpose"`
	Entry   string          `json:"entry,omitempty"`
	RunID   int64           `json:"runId,omitempty"`
	Held    int             `json:"held,omitempty"`
}

func ofRun(id int64) about.Thing {
	return about.Thing{Type: about.Run, Key: strconv.FormatInt(id, 10)}
}

// Begin asks for a run in an operator's name.
func (e *Jobs) Begin(ctx context.Context, run store.Run) (int64, error) {
	var id int64
	return id, e.store.Tx(ctx, func(tx *store.Store) error {
		var err error
		if id, err = Request(ctx, tx, run); err != nil || !run.Purpose.Writes() {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.StartRun, By: run.By, About: ofRun(id), After: started{Purpose: run.Purpose, Entry: run.Subject}})
	})
}

// Release asks for a run that lets the held removals of a run through.
func (e *Jobs) Release(ctx context.Context, id int64, by string) (int64, error) {
	var next int64
	return next, e.store.Tx(ctx, func(tx *store.Store) error {
		run, err := tx.Runs.Get(ctx, id)
		if store.NotFound(err) {
			return problem.New(problem.NotFound, "there is no run %d", id)
		}
		if err != nil {
			return err
		}
		if run.Counts.Held == 0 || run.Purpose.Rehearses() {
			return problem.New(problem.BadInput, "run %d holds no removals", id)
		}
		if next, err = Request(ctx, tx, store.Run{Purpose: purpose.Release, Releases: id, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.Release, By: by, About: ofRun(id), Before: started{Purpose: run.Purpose, Held: run.Counts.Held}, After: started{Purpose: purpose.Release, RunID: next}})
	})
}

// Cancel ends a rehearsal, a survey or a reading.
func (e *Jobs) Cancel(ctx context.Context, id int64, by string) error {
	return e.store.Tx(ctx, func(tx *store.Store) error {
		found, err := tx.Runs.Cancel(ctx, id)
		if err == nil && !found {
			err = problem.New(problem.BadInput, "run %d has ended, or it writes and is never cut short.", id)
		}
		if err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.CancelRun, By: by, About: ofRun(id)})
	})
}
