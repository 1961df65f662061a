package engine

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

const (
	tickEvery  = 5 * time.Second
	pruneEvery = time.Hour
	// Runs that changed nothing are kept for a day, others for 90.
	keepQuiet = 24 * time.Hour
	keepRuns  = 90 * 24 * time.Hour
)

// timer is the schedule: River's leader among all services on the database
// inserts a tick now and then, and whoever works it asks for a run when one is
// due. What is due follows from the settings and the last run alone, so that a
// changed schedule takes effect at the next tick.
type timer struct {
	pool   *pgxpool.Pool
	client *river.Client[pgx.Tx]
}

// scheduledBy is who asks for the runs of the schedule.
const scheduledBy = "schedule"

type tickArgs struct{}

func (tickArgs) Kind() string { return "tick" }

type tickWorker struct {
	river.WorkerDefaults[tickArgs]
	engine *Engine
}

// Work asks for a run when one is due.
func (w *tickWorker) Work(ctx context.Context, _ *river.Job[tickArgs]) error {
	next, err := w.engine.NextRun(ctx)
	if err != nil || next == nil || time.Now().Before(*next) {
		return err
	}
	revision, ok, err := w.engine.store.ActiveSettings(ctx)
	if err != nil || !ok {
		return err
	}
	_, err = w.engine.store.NewRun(ctx, store.Run{Run: wire.Run{Kind: "delta", By: scheduledBy, Revision: revision.Revision}}, true)
	return err
}

type pruneArgs struct{}

func (pruneArgs) Kind() string { return "prune" }

type pruneWorker struct {
	river.WorkerDefaults[pruneArgs]
	engine *Engine
}

// Work deletes what is too old to be asked for.
func (w *pruneWorker) Work(ctx context.Context, _ *river.Job[pruneArgs]) error {
	now := time.Now()
	if _, err := w.engine.store.PruneRuns(ctx, now.Add(-keepQuiet), now.Add(-keepRuns)); err != nil {
		return err
	}
	if err := w.engine.store.PruneOrders(ctx, now.Add(-keepQuiet)); err != nil {
		return err
	}
	if err := w.engine.store.DropRemovals(ctx); err != nil {
		return err
	}
	return w.engine.store.DropExpired(ctx)
}

// NextRun tells when the schedule starts the next run; nil when it is off or
// there are no settings.
func (e *Engine) NextRun(ctx context.Context) (*time.Time, error) {
	revision, ok, err := e.store.ActiveSettings(ctx)
	if err != nil || !ok {
		return nil, err
	}
	interval := revision.Document.Schedule.Interval()
	if interval == 0 {
		return nil, nil
	}
	next := time.Now()
	last, ok, err := e.store.LastRun(ctx)
	if err != nil {
		return nil, err
	}
	if ok {
		next = last.Created.Add(interval)
	}
	return &next, nil
}

func startTimer(ctx context.Context, e *Engine, dsn string) (*timer, error) {
	config, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, problem.New(problem.BadInput, "the database connection cannot be read")
	}
	config.MaxConns = 4
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, problem.Wrap(problem.DatabaseUnreachable, err, "connect for scheduled work")
	}
	t := &timer{pool: pool}
	driver := riverpgxv5.New(pool)
	migrator, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err == nil {
		_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	}
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("prepare the database for scheduled work: %w", err)
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &tickWorker{engine: e})
	river.AddWorker(workers, &pruneWorker{engine: e})
	periodic := func(every time.Duration, args river.JobArgs) *river.PeriodicJob {
		return river.NewPeriodicJob(river.PeriodicInterval(every), func() (river.JobArgs, *river.InsertOpts) {
			return args, &river.InsertOpts{MaxAttempts: 1}
		}, &river.PeriodicJobOpts{RunOnStart: true})
	}
	t.client, err = river.NewClient(driver, &river.Config{
		Logger:       slog.New(slog.DiscardHandler),
		Queues:       map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}},
		Workers:      workers,
		PeriodicJobs: []*river.PeriodicJob{periodic(tickEvery, tickArgs{}), periodic(pruneEvery, pruneArgs{})},
		// Ticks are many and worth nothing once worked.
		CompletedJobRetentionPeriod: time.Minute, DiscardedJobRetentionPeriod: time.Hour,
	})
	if err == nil {
		err = t.client.Start(ctx)
	}
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("start scheduled work: %w", err)
	}
	return t, nil
}

func (t *timer) stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = t.client.StopAndCancel(ctx)
	t.pool.Close()
}
