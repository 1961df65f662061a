package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// execution is one run on its way through the stages.
type execution struct {
	*Engine
	settings *compiled
	offer    offer
	now      time.Time  // when it began
	subject  *store.Ref // of a trial, nil for everybody

	creations    creations
	memberChecks memberChecks

	mu    sync.Mutex // guards run and saved
	run   *store.Run
	saved time.Time
}

// mostPasses is how often a run plans again what the cloud refused for a reason
// that may be over: a version that was old, a login that was still taken.
const mostPasses = 3

// execute brings a run to its end. An error means that it did not get there and
// is to be begun again.
func (e *Engine) execute(ctx context.Context, run *store.Run) error {
	x := &execution{Engine: e, run: run, now: time.Now()}
	if run.State == wire.RunRunning {
		slog.Info("taking up an interrupted run", "run", run.ID)
		if err := e.store.SupersedeOpen(ctx, run.ID); err != nil {
			return err
		}
	}
	if err := x.settle(ctx); err != nil {
		return err
	}
	now := time.Now()
	run.State, run.Started, run.Stages, run.Counts = wire.RunRunning, &now, []wire.Stage{}, wire.Counts{}
	if err := e.store.SaveRun(ctx, run); err != nil {
		return err
	}
	err := x.stages(ctx)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, store.ErrLockLost) {
		return err
	}
	return x.end(ctx, err)
}

// settle lets the run work by the settings that are active now. Where the run
// before worked by others, it looks at everybody: an activation may have come
// while that run was planning.
func (x *execution) settle(ctx context.Context) error {
	if x.run.Draft > 0 {
		return nil
	}
	active, ok, err := x.store.ActiveSettings(ctx)
	if err != nil {
		return err
	}
	if ok {
		x.run.Revision = active.Revision
	}
	last, ok, err := x.store.LastRun(ctx)
	if err != nil || ok && last.Revision == x.run.Revision || !x.run.Writes() {
		return err
	}
	return x.store.MarkAllDirty(ctx)
}

func (x *execution) stages(ctx context.Context) error {
	if err := x.load(ctx); err != nil {
		return err
	}
	if x.run.Kind == kindTrial {
		return x.trial(ctx)
	}
	if err := x.stage(ctx, "read", x.read); err != nil {
		return err
	}
	if err := x.store.Learn(ctx); err != nil {
		return err
	}
	if x.run.Kind == kindLook {
		return nil
	}
	if err := x.checkContainers(ctx); err != nil {
		return err
	}
	if x.run.Kind == kindSurvey {
		return x.stage(ctx, "survey", x.survey)
	}
	if err := x.store.RaiseDirty(ctx); err != nil {
		return err
	}
	if err := x.raiseLeavers(ctx); err != nil {
		return err
	}
	if x.run.Rehearsal {
		return x.stage(ctx, "plan", x.rehearse)
	}
	if x.run.Kind == "full" {
		if err := x.store.MarkAllDirty(ctx); err != nil {
			return err
		}
	}
	if err := x.store.Learn(ctx); err != nil {
		return err
	}
	return x.passes(ctx)
}

// passes plans and writes until nothing is left that another pass may heal.
func (x *execution) passes(ctx context.Context) error {
	for pass := 1; ; pass++ {
		if err := x.pass(ctx, pass == mostPasses); err != nil {
			return err
		}
		again, err := x.store.CountDirty(ctx, store.DirtyNow, x.subject)
		if err != nil || again == 0 || pass == mostPasses {
			return err
		}
	}
}

// trial is the run of one entry, which was fetched just before.
func (x *execution) trial(ctx context.Context) error {
	var err error
	if x.subject, err = subjectOf(x.run.Subject); err != nil {
		return err
	}
	if x.offer, err = x.offered(ctx, x.settings.document); err != nil {
		return err
	}
	if err := x.checkContainers(ctx); err != nil {
		return err
	}
	mark := func(s *store.Store) error {
		if err := s.SetDirty(ctx, []store.Ref{*x.subject}, store.DirtyNow, false); err != nil {
			return err
		}
		return s.MarkReferences(ctx, []store.Ref{*x.subject})
	}
	if !x.run.Rehearsal {
		if err := mark(x.store); err != nil {
			return err
		}
		return x.passes(ctx)
	}
	return x.stage(ctx, "plan", func(ctx context.Context) error {
		return x.store.Discarded(ctx, func(tx *store.Store) error {
			if err := mark(tx); err != nil {
				return err
			}
			return x.planWithin(ctx, tx)
		})
	})
}

// pass plans and writes once: resources first, and when all of them are there,
// what ties them together.
func (x *execution) pass(ctx context.Context, last bool) error {
	if err := x.stage(ctx, "plan", func(ctx context.Context) error {
		if err := x.join(ctx, x.store); err != nil {
			return err
		}
		return x.plan(ctx, x.store, x.store)
	}); err != nil {
		return err
	}
	if err := x.guard(ctx); err != nil {
		return err
	}
	if err := x.stage(ctx, "write", func(ctx context.Context) error { return x.write(ctx, 0, store.RankReferences-1, last) }); err != nil {
		return err
	}
	if err := x.store.Learn(ctx); err != nil {
		return err
	}
	if err := x.stage(ctx, "plan", func(ctx context.Context) error { return x.planReferences(ctx, x.store, false) }); err != nil {
		return err
	}
	if err := x.stage(ctx, "write", func(ctx context.Context) error { return x.write(ctx, store.RankReferences, store.RankReferences, last) }); err != nil {
		return err
	}
	return x.store.Learn(ctx)
}

// raiseLeavers brings those into the run whose grace time is over.
func (x *execution) raiseLeavers(ctx context.Context) error {
	for _, kind := range entry.Kinds {
		of := x.settings.of(kind)
		if of.leavers != settings.Delete {
			continue
		}
		if err := x.store.MarkGraceOver(ctx, kind, of.grace.Seconds()); err != nil {
			return err
		}
	}
	return nil
}

// The kinds of runs that plan nothing.
const (
	kindLook   = "look"
	kindSurvey = "survey"
)

// load makes the settings ready that the run works by.
func (x *execution) load(ctx context.Context) error {
	var err error
	if x.run.Document != nil {
		x.settings, err = compileDocument(0, *x.run.Document)
	} else {
		x.settings, err = x.compile.revision(ctx, x.run.Revision)
	}
	if err != nil {
		return problem.Wrap(problem.SettingsInvalid, err, "prepare the settings")
	}
	return nil
}

// stage notes when a stage began and ended; one that comes again goes on.
func (x *execution) stage(ctx context.Context, name string, work func(context.Context) error) error {
	x.mu.Lock()
	now := time.Now()
	x.run.Stage = name
	at := -1
	for i := range x.run.Stages {
		if x.run.Stages[i].Name == name {
			at = i
		}
	}
	if at < 0 {
		x.run.Stages = append(x.run.Stages, wire.Stage{Name: name, Started: &now})
		at = len(x.run.Stages) - 1
	}
	x.mu.Unlock()
	if err := x.save(ctx, true); err != nil {
		return err
	}
	if err := work(ctx); err != nil {
		return err
	}
	x.mu.Lock()
	ended := time.Now()
	x.run.Stages[at].Ended = &ended
	x.mu.Unlock()
	return nil
}

// count changes the run's counts and shows them now and then.
func (x *execution) count(ctx context.Context, change func(*wire.Counts)) error {
	x.mu.Lock()
	change(&x.run.Counts)
	x.mu.Unlock()
	return x.save(ctx, false)
}

const saveEvery = 250 * time.Millisecond

func (x *execution) save(ctx context.Context, now bool) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !now && time.Since(x.saved) < saveEvery {
		return nil
	}
	x.saved = time.Now()
	if !x.run.Writes() {
		cancelled, err := x.store.RunCancelled(ctx, x.run.ID)
		if err != nil {
			return err
		}
		if cancelled && !x.run.State.Ended() {
			return problem.New(problem.Cancelled, "")
		}
	}
	return x.store.SaveRun(ctx, x.run)
}

// checkContainers refuses to go on when a container or group of the scope is not
// there: it was renamed or deleted, and going on would read as nobody being in
// scope.
func (x *execution) checkContainers(ctx context.Context) error {
	vanished, err := x.vanished(ctx, x.settings)
	if err != nil || len(vanished) == 0 {
		return err
	}
	texts := make([]string, len(vanished))
	for i, v := range vanished {
		texts[i] = v.Text
	}
	return problem.New(problem.ContainerMissing, "%s", strings.Join(texts, "; "))
}

// guard holds the removals of the run when there are too many of them.
func (x *execution) guard(ctx context.Context) error {
	removals, err := x.store.CountRemovals(ctx, x.run.ID, x.run.Releases)
	if err != nil || removals == 0 {
		return err
	}
	linked, err := x.store.CountLinks(ctx)
	if err != nil || !plan.Held(x.settings.document.Guard, removals, linked) {
		return err
	}
	return x.store.HoldRemovals(ctx, x.run.ID, x.run.Releases, !x.run.Rehearsal)
}

// end closes the run with its final counts.
func (x *execution) end(ctx context.Context, failure error) error {
	p := fatal(failure)
	if failure != nil && p == nil {
		if p = x.unforeseen(ctx, failure); p == nil {
			return fmt.Errorf("run %d: %w", x.run.ID, failure)
		}
	}
	if p != nil && p.Code != problem.Cancelled {
		slog.Error("run failed", "run", x.run.ID, "code", p.Code, "detail", p.Detail)
	}
	if p != nil {
		if err := x.store.SupersedeOpen(ctx, x.run.ID); err != nil {
			return err
		}
	}
	if err := x.finalCounts(ctx); err != nil {
		return err
	}
	x.mu.Lock()
	now := time.Now()
	x.run.Ended, x.run.Stage = &now, ""
	switch c := x.run.Counts; {
	case p != nil && p.Code == problem.Cancelled:
		x.run.State, x.run.FailureCode = wire.RunCancelled, string(p.Code)
	case p != nil:
		x.run.State, x.run.FailureCode, x.run.FailureDetail = wire.RunFailed, string(p.Code), p.Detail
	case c.Problems > 0 || c.Held > 0 || c.Failed > 0 || c.Findings > 0:
		x.run.State = wire.RunProblems
	default:
		x.run.State = wire.RunInStep
	}
	x.mu.Unlock()
	return x.save(ctx, true)
}

// mostFailures is how often a run is begun again after an error that nobody has
// foreseen.
const mostFailures = 3

// unforeseen counts errors outside the catalogue; once the run has had enough of
// them, it is the problem by which it ends. A database that is away is waited
// for, and costs no attempt.
func (x *execution) unforeseen(ctx context.Context, failure error) *problem.Error {
	if problem.CodeOf(failure) == problem.DatabaseUnreachable || x.store.Ping(ctx) != nil {
		return nil
	}
	x.mu.Lock()
	x.run.Failures++
	failures := x.run.Failures
	x.mu.Unlock()
	if failures >= mostFailures {
		return problem.Wrap(problem.Unforeseen, failure, "after %d attempts", failures)
	}
	if err := x.save(ctx, true); err != nil {
		slog.Warn("note that the run failed", "run", x.run.ID, "error", err)
	}
	return nil
}

// finalCounts counts the run's changes from what is kept, so that they are true
// whatever happened on the way.
func (x *execution) finalCounts(ctx context.Context) error {
	counted, err := x.store.CountChanges(ctx, x.run.ID)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	c := &x.run.Counts
	c.Create, c.Adopt, c.Update, c.Restore, c.Suspend, c.Delete, c.Changes, c.Held, c.Hanging, c.Done, c.Failed, c.Problems = 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0
	for key, n := range counted {
		switch key[1] {
		case "superseded", "noted":
			continue
		case "blocked":
			c.Problems += n
			continue
		case "held":
			c.Held += n
			continue
		case "hanging":
			c.Hanging += n
			continue
		case "unconfirmed", "unanswered":
			c.Failed += n
			c.Problems += n
		case "done":
			c.Done += n
		case "altered":
			c.Done += n
			c.Problems += n
		case "failed":
			c.Failed += n
			c.Problems += n
		}
		tally(c, plan.Operation(key[0]), n)
	}
	return nil
}
