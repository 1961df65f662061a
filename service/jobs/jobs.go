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
	"slices"
	"strconv"
	"strings"
	"sync"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
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
	err := e.rehearseRestored(ctx)
	if err != nil {
		e.stop()
		return err
	}
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
	if err := mayDo(ctx, tx, run.Purpose); err != nil {
		return 0, err
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
	Only    []int64         `json:"only,omitempty"`
}

func ofRun(id int64) about.Thing {
	return about.Thing{Type: about.Run, Key: strconv.FormatInt(id, 10)}
}

// Begin asks for a run in an operator's name.
func (e *Jobs) Begin(ctx context.Context, run store.Run) (int64, error) {
	var id int64
	return id, e.store.Tx(ctx, func(tx *store.Store) error {
		var err error
		if err = mayBegin(ctx, tx, run.Purpose); err != nil {
			return err
		}
		if id, err = Request(ctx, tx, run); err != nil || !run.Purpose.Writes() {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.StartRun, By: run.By, About: ofRun(id), After: started{Purpose: run.Purpose, Entry: run.Subject}})
	})
}

// Release asks for a run that lets through what a run holds: the changes given, or all.
func (e *Jobs) Release(ctx context.Context, id int64, only []int64, by string) (int64, error) {
	var next int64
	return next, e.store.Tx(ctx, func(tx *store.Store) error {
		run, _, err := held(ctx, tx, id, only)
		if err != nil {
			return err
		}
		if next, err = Request(ctx, tx, store.Run{Purpose: purpose.Release, Releases: id, Only: only, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.Release, By: by, About: ofRun(id), Before: started{Purpose: run.Purpose, Held: run.Counts.Held}, After: started{Purpose: purpose.Release, RunID: next, Only: only}})
	})
}

// Discard keeps what a run holds, the changes given or all, until its cause changes, and
// asks for a run that goes on with the rest.
func (e *Jobs) Discard(ctx context.Context, id int64, only []int64, by, reason string) (int64, error) {
	var next int64
	return next, e.store.Tx(ctx, func(tx *store.Store) error {
		run, changes, err := held(ctx, tx, id, only)
		if err != nil {
			return err
		}
		for _, c := range changes {
			if c.Side == change.Directory {
				if err := tx.CloudGroups.Discard(ctx, c, by, reason); err != nil {
					return err
				}
				continue
			}
			kept := decide.KeptOf(plan.Operation(c.Operation), c.Diffs, c.Rank == store.RankReferences)
			if err := tx.Kept.Add(ctx, c.Ref(), id, by, reason, kept); err != nil {
				return err
			}
		}
		if err := tx.Changes.Discard(ctx, changes, by+": "+reason); err != nil {
			return err
		}
		if next, err = Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.Discard, By: by, About: ofRun(id), Note: reason, Before: started{Purpose: run.Purpose, Held: run.Counts.Held}, After: started{RunID: next, Only: only, Held: run.Counts.Held - len(changes)}})
	})
}

// held returns a run with the changes that it holds and that are given, or all that it
// holds.
func held(ctx context.Context, tx *store.Store, id int64, only []int64) (store.Run, []store.Change, error) {
	run, err := tx.Runs.Get(ctx, id)
	if store.NotFound(err) {
		return run, nil, problem.New(problem.NotFound, "there is no run %d", id)
	}
	if err != nil {
		return run, nil, err
	}
	if run.Counts.Held == 0 || run.Purpose.Rehearses() {
		return run, nil, problem.New(problem.BadInput, "run %d holds nothing", id)
	}
	changes, err := tx.Changes.Held(ctx, id, only)
	if err != nil {
		return run, nil, err
	}
	for _, one := range only {
		if !slices.ContainsFunc(changes, func(c store.Change) bool { return c.ID == one }) {
			return run, nil, problem.New(problem.BadInput, "run %d holds no change %d: 'kambrel runs show %d --state held' lists what it holds", id, one, id)
		}
	}
	if len(changes) == 0 {
		return run, nil, problem.New(problem.BadInput, "run %d holds nothing any more", id)
	}
	return run, changes, nil
}

// AcceptAbsence notes that an attribute which could not be seen was taken from everybody,
// and asks for a run, whose guard asks as for anything else.
func (e *Jobs) AcceptAbsence(ctx context.Context, directory, attribute, by string) (int64, error) {
	var next int64
	return next, e.store.Tx(ctx, func(tx *store.Store) error {
		state, err := tx.Entries.StateOf(ctx, directory)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(state.Hidden, func(name string) bool { return strings.EqualFold(name, attribute) })
		if at < 0 {
			return problem.New(problem.BadInput, "nothing hides %s of directory %s: what entries have of it is read as it is.", attribute, directory)
		}
		if err := tx.Entries.AcceptAbsence(ctx, directory, state.Hidden[at]); err != nil {
			return err
		}
		if next, err = Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.AcceptAbsence, By: by, About: about.Thing{Type: about.Directory, Key: directory}, After: absence{state.Hidden[at]}})
	})
}

// absence is an attribute that is gone, as an act notes it.
type absence struct {
	Attribute string `json:"attribute"`
}

// EndKept ends what is kept of an entry, and asks for a run that decides about it again.
func (e *Jobs) EndKept(ctx context.Context, ref entry.Ref, by string) (int64, error) {
	var next int64
	return next, e.store.Tx(ctx, func(tx *store.Store) error {
		ended, err := tx.Kept.End(ctx, ref)
		if err == nil && len(ended) == 0 {
			err = problem.New(problem.NotFound, "nothing is kept of %s", ref)
		}
		if err != nil {
			return err
		}
		if next, err = Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.EndKept, By: by, About: about.EntryOf(ref), Before: keptOf(ended)})
	})
}

// kept is what an act notes of something that was kept.
type kept struct {
	Loss   string `json:"loss"`
	Member string `json:"member,omitempty"`
	By     string `json:"by"`
	Reason string `json:"reason"`
}

func keptOf(rows []store.KeptRow) []kept {
	out := make([]kept, len(rows))
	for i, row := range rows {
		out[i] = kept{row.Loss, row.Member, row.By, row.Reason}
	}
	return out
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
