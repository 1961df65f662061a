package engine

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// Options are what a service can be told about how it works. The zero value of
// each means the default.
type Options struct {
	// AgentPatience is how long a run waits for an agent to take an order; 30 s.
	AgentPatience time.Duration
	// Lease is how long an order stays an agent's without a word; 30 s.
	Lease time.Duration
	// Workers is how many requests are with the cloud at once; 4.
	Workers int
	// CreationPatience is how long a creation that was not answered is looked for
	// before it is sent again, where the cloud would not refuse a second one; 2 min.
	CreationPatience time.Duration
	// GonePause is how long the cloud is given between two answers that it does not
	// have a resource; 2 s.
	GonePause time.Duration
}

func (o Options) withDefaults() Options {
	if o.AgentPatience == 0 {
		o.AgentPatience = 30 * time.Second
	}
	if o.Lease == 0 {
		o.Lease = 30 * time.Second
	}
	if o.Workers == 0 {
		o.Workers = 4
	}
	if o.CreationPatience == 0 {
		o.CreationPatience = 2 * time.Minute
	}
	if o.GonePause == 0 {
		o.GonePause = 2 * time.Second
	}
	return o
}

// Engine is the part of a service that works. Its methods may be called from
// many goroutines.
type Engine struct {
	store     *store.Store
	cloud     *cloud.Client
	options   Options
	hub       hub
	compile   compiler
	timer     *timer
	group     sync.WaitGroup
	context   context.Context // of all work in the background, until Stop
	stop      context.CancelFunc
	cloudAway atomic.Int64 // when it last did not answer a check of settings, Unix nanoseconds
}

// New makes an engine; Start sets it going.
func New(s *store.Store, c *cloud.Client, options Options) *Engine {
	return &Engine{store: s, cloud: c, options: options.withDefaults(), compile: compiler{store: s}}
}

// Start begins to execute runs and the schedule, until Stop.
func (e *Engine) Start(ctx context.Context, dsn string) error {
	ctx, e.stop = context.WithCancel(context.WithoutCancel(ctx))
	e.context = ctx
	var err error
	if e.timer, err = startTimer(ctx, e, dsn); err != nil {
		e.stop()
		return err
	}
	if err := e.resumeRepairs(ctx); err != nil {
		e.timer.stop()
		e.stop()
		return err
	}
	e.group.Add(2)
	go func() {
		defer e.group.Done()
		e.store.Listen(ctx, e.hub.broadcast)
	}()
	go func() {
		defer e.group.Done()
		e.loop(ctx)
	}()
	return nil
}

// Stop ends the work where it is; a run that goes on is taken up at the next
// start.
func (e *Engine) Stop() {
	if e.stop == nil {
		return
	}
	e.timer.stop()
	e.stop()
	e.group.Wait()
}

// Events returns a channel of what changes, until stop is called. An event may
// be left out for a slow receiver, but never the last one.
func (e *Engine) Events() (events <-chan wire.Event, stop func()) { return e.hub.subscribe() }

// loop executes runs as they come.
func (e *Engine) loop(ctx context.Context) {
	events, stop := e.hub.subscribe()
	defer stop()
	for ctx.Err() == nil {
		if err := e.executeOpen(ctx); err != nil && ctx.Err() == nil {
			slog.Error("the run stopped and will be taken up again", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
			continue
		}
		// The time-out takes over from a service that was killed.
		select {
		case <-ctx.Done():
		case <-events:
		case <-time.After(2 * time.Second):
		}
	}
}

func (e *Engine) executeOpen(ctx context.Context) error {
	_, open, err := e.store.OpenRun(ctx)
	if err != nil || !open {
		return err
	}
	_, err = e.store.WithRunLock(ctx, func(ctx context.Context) error {
		for {
			run, open, err := e.store.OpenRun(ctx)
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

// Request asks for a run and returns its number.
func (e *Engine) Request(ctx context.Context, run store.Run) (int64, error) {
	revision, ok, err := e.store.ActiveSettings(ctx)
	if err != nil {
		return 0, err
	}
	if !ok {
		return 0, problem.New(problem.NoSettings, "")
	}
	run.Revision = revision.Revision
	return e.store.NewRun(ctx, run, false)
}

// Release asks for a run that lets the held removals of a run through.
func (e *Engine) Release(ctx context.Context, id int64, by string) (int64, error) {
	run, err := e.store.Run(ctx, id)
	if store.NotFound(err) {
		return 0, problem.New(problem.NotFound, "there is no run %d", id)
	}
	if err != nil {
		return 0, err
	}
	if run.Counts.Held == 0 || run.Rehearsal {
		return 0, problem.New(problem.BadInput, "run %d holds no removals", id)
	}
	return e.Request(ctx, store.Run{Run: wire.Run{Kind: "delta", Releases: id, By: by}})
}

// fatal tells errors after which a run cannot go on but has ended properly:
// those with a code of the catalogue, other than a database away.
func fatal(err error) *problem.Error {
	var p *problem.Error
	if errors.As(err, &p) && p.Code != problem.DatabaseUnreachable {
		return p
	}
	return nil
}
