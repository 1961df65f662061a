package jobs

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/rivermigrate"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/store"
)

const (
	tickEvery  = 5 * time.Second
	pruneEvery = time.Hour
	indexEvery = 20 * time.Second
	// Runs that changed nothing are kept for a day, others and closed problems for 90.
	keepQuiet = 24 * time.Hour
)

// timer is the schedule: River's leader among all services on the database
// inserts a tick now and then, and whoever works it asks for a run when one is
// due. What is due follows from the settings and the last run alone, so that a
// changed schedule takes effect at the next tick.
type timer struct {
	client *river.Client[*sql.Tx]
}

// scheduledBy is who asks for the runs of the schedule.
const scheduledBy = "schedule"

type tickArgs struct{}

func (tickArgs) Kind() string { return "tick" }

type tickWorker struct {
	river.WorkerDefaults[tickArgs]
	jobs *Jobs
}

// Work looks how things stand, and asks for a run when one is due.
func (w *tickWorker) Work(ctx context.Context, _ *river.Job[tickArgs]) error {
	if err := w.jobs.watch(ctx); err != nil && ctx.Err() == nil {
		slog.Error("look how things stand", logkey.Error, err)
	}
	if err := w.jobs.endPauses(ctx); err != nil {
		return fmt.Errorf("end the pauses whose time has come: %w", err)
	}
	next, err := w.jobs.Next(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	due := func(at *time.Time) bool { return at != nil && !now.Before(*at) }
	why := purpose.Sync
	switch {
	case due(next.Full):
		why = purpose.Full
	case !due(next.Run):
		return nil
	}
	_, err = w.jobs.store.Runs.New(ctx, store.Run{Purpose: why, By: scheduledBy, Revision: next.revision}, true)
	return err
}

type indexArgs struct{}

func (indexArgs) Kind() string { return "index" }

type indexWorker struct {
	river.WorkerDefaults[indexArgs]
	jobs   *Jobs
	failed atomic.Bool
}

// Timeout is none: an index of a large directory takes minutes.
func (w *indexWorker) Timeout(*river.Job[indexArgs]) time.Duration { return -1 }

// Work makes the indexes that are missing, while no run writes. Without them everything
// works, but slower, so that a failure is said once.
func (w *indexWorker) Work(ctx context.Context, _ *river.Job[indexArgs]) error {
	if _, open, err := w.jobs.store.Runs.Open(ctx); err != nil || open {
		return err
	}
	err := w.jobs.store.Search.IndexParts(ctx)
	if err != nil && ctx.Err() == nil && !w.failed.Swap(true) {
		slog.Warn("searches stay slow in a large directory", logkey.Error, err)
	}
	return nil
}

type pruneArgs struct{}

func (pruneArgs) Kind() string { return "prune" }

type pruneWorker struct {
	river.WorkerDefaults[pruneArgs]
	jobs *Jobs
}

// Work deletes what is too old to be asked for, and looks after what is kept counted.
func (w *pruneWorker) Work(ctx context.Context, _ *river.Job[pruneArgs]) error {
	now := time.Now()
	active, _, err := w.jobs.store.Settings.Active(ctx)
	if err != nil {
		return err
	}
	remembered := now.Add(-active.Document.History.Keep())
	if _, err := w.jobs.store.Runs.Prune(ctx, now.Add(-keepQuiet), remembered); err != nil {
		return err
	}
	if err := w.jobs.store.History.Prune(ctx, remembered); err != nil {
		return err
	}
	if err := w.jobs.store.Notices.Prune(ctx, remembered); err != nil {
		return err
	}
	if err := w.jobs.store.Orders.Prune(ctx, now.Add(-keepQuiet)); err != nil {
		return err
	}
	if err := w.jobs.store.Resources.FindLoose(ctx); err != nil {
		return err
	}
	if err := w.jobs.store.Removed.Drop(ctx); err != nil {
		return err
	}
	if err := w.jobs.store.Problems.Prune(ctx, remembered); err != nil {
		return err
	}
	if err := w.jobs.store.Passwords.Prune(ctx, remembered); err != nil {
		return err
	}
	return w.jobs.store.Operators.DropExpired(ctx)
}

// Times are when a schedule would start the next few runs, and the next one that compares
// everything.
func (e *Jobs) Times(ctx context.Context, schedule settings.Schedule, many int) ([]time.Time, *time.Time, error) {
	last, _, err := e.store.Runs.Last(ctx)
	if err != nil {
		return nil, nil, err
	}
	now := time.Now()
	var full *time.Time
	if at, is := schedule.NextFull(now); is {
		full = &at
	}
	return schedule.Times(last.Created, now, many), full, nil
}

// Next is when the schedule starts the next run, and the next one that compares everything;
// nil when it starts none, everything is paused, or there are no settings.
type Next struct {
	Run, Full *time.Time
	revision  int // of the settings that say so
}

// Next tells when the next runs are.
func (e *Jobs) Next(ctx context.Context) (Next, error) {
	revision, ok, err := e.store.Settings.Active(ctx)
	if err != nil || !ok {
		return Next{}, err
	}
	pauses, err := e.store.Pauses.Now(ctx)
	if err != nil {
		return Next{}, err
	}
	if _, stopped := pauses.Runs(); stopped {
		return Next{}, nil
	}
	schedule, next := revision.Document.Schedule, Next{revision: revision.Revision}
	last, _, err := e.store.Runs.Last(ctx)
	if err != nil {
		return next, err
	}
	failed, ended, err := e.store.Runs.Failing(ctx)
	if err != nil {
		return next, err
	}
	if at, is := schedule.Next(last.Created, time.Now()); is {
		next.Run = &at
	}
	if again, tries := schedule.Retry(failed, ended); tries && (next.Run == nil || again.Before(*next.Run)) {
		next.Run = &again
	}
	if schedule.Full == "" {
		return next, nil
	}
	since, err := e.store.Runs.LastAsked(ctx, purpose.Full)
	if since.Before(revision.Activated) { // what was set today is not made up for yesterday
		since = revision.Activated
	}
	if at, is := schedule.NextFull(since); is {
		next.Full = &at
	}
	return next, err
}

func startTimer(ctx context.Context, e *Jobs) (*timer, error) {
	driver := riverdatabasesql.New(e.store.Pool())
	migrator, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err == nil {
		_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	}
	if err != nil {
		return nil, fmt.Errorf("prepare the database for scheduled work: %w", err)
	}
	t := &timer{}
	workers := river.NewWorkers()
	river.AddWorker(workers, &tickWorker{jobs: e})
	river.AddWorker(workers, &pruneWorker{jobs: e})
	river.AddWorker(workers, &indexWorker{jobs: e})
	periodic := func(every time.Duration, args river.JobArgs) *river.PeriodicJob {
		return river.NewPeriodicJob(river.PeriodicInterval(every), func() (river.JobArgs, *river.InsertOpts) {
			return args, &river.InsertOpts{MaxAttempts: 1}
		}, &river.PeriodicJobOpts{RunOnStart: true})
	}
	t.client, err = river.NewClient(driver, &river.Config{
		Logger:       slog.New(slog.DiscardHandler),
		Queues:       map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 3}},
		Workers:      workers,
		PeriodicJobs: []*river.PeriodicJob{periodic(tickEvery, tickArgs{}), periodic(pruneEvery, pruneArgs{}), periodic(indexEvery, indexArgs{})},
		// Ticks are many and worth nothing once worked.
		CompletedJobRetentionPeriod: time.Minute, DiscardedJobRetentionPeriod: time.Hour,
	})
	if err == nil {
		err = t.client.Start(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("start scheduled work: %w", err)
	}
	return t, nil
}

func (t *timer) stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = t.client.StopAndCancel(ctx)
}
