package runs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"strconv"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// execution is one run on its way through the stages.
type execution struct {
	*Runs
	judging.Judge
	subject *entry.Ref // of a trial, nil for everybody

	creations    creations
	memberChecks memberChecks
	circles      circles

	mu      sync.Mutex // guards what follows
	run     *store.Run
	saved   time.Time
	reading bool               // beside the runs that write, which come first
	left    []store.NewProblem // of the directories that are left out
	pauses  pause.All          // that held when it began
	first   error              // what the first of them was left out for

	since counting // what went before, of what the guard counts

	within  *execution // the run that it comes in between of, nil for most
	gaveWay gaveWay
	asked   map[string]int64 // by group, the change of members that asks for its version
}

// mostPasses is how often a run plans again what the cloud refused for a reason
// that may be over: a version that was old, a login that was still taken.
const mostPasses = 3

// Execute brings a run to its end. An error means that it did not get there and
// is to be begun again.
func (e *Runs) Execute(ctx context.Context, run *store.Run) error { return e.begin(ctx, run, nil) }

// begin is Execute, of a run that may come in between of another.
func (e *Runs) begin(ctx context.Context, run *store.Run, within *execution) error {
	x := &execution{Runs: e, run: run, Judge: e.judging.Blank(), within: within}
	if run.State == progress.Running {
		slog.Info("taking up an interrupted run", logkey.Run, run.ID)
		if err := x.store.Orders.WithdrawGroups(ctx, run.ID); err != nil {
			return err
		}
		if err := x.dropAll(ctx); err != nil {
			return err
		}
	}
	if within != nil {
		run.Revision = within.run.Revision
	} else if err := x.settle(ctx); err != nil {
		return err
	}
	now := time.Now()
	run.State, run.Started, run.Stages, run.Counts, run.LeftOut = progress.Running, &now, []progress.Stage{}, progress.Counts{}, nil
	if err := e.store.Runs.Save(ctx, run); err != nil {
		return err
	}
	err := x.stages(cloud.WithPaused(ctx, func(until time.Time) { x.paused(ctx, until) }))
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, store.ErrLockLost) {
		return err
	}
	if err := x.end(ctx, err); err != nil {
		return err
	}
	return x.followed(ctx)
}

// dropAll is dropPlanned, of the run that came in between too when both were interrupted:
// what that has sent is looked up before this one sends the same.
func (x *execution) dropAll(ctx context.Context) error {
	if x.run.Purpose.Writes() {
		others, err := x.store.Runs.UnderWay(ctx, x.run.ID)
		if err != nil {
			return err
		}
		for _, id := range others {
			if err := x.store.Changes.SupersedeOpen(ctx, id); err != nil {
				return err
			}
		}
	}
	return x.dropPlanned(ctx)
}

// dropPlanned ends what the run has planned and not carried out: it is planned
// anew, or, of a run that writes nothing, forgotten.
func (x *execution) dropPlanned(ctx context.Context) error {
	if x.run.Purpose.Writes() {
		return x.store.Changes.SupersedeOpen(ctx, x.run.ID)
	}
	return x.store.Changes.Forget(ctx, x.run.ID)
}

// settle lets the run work by the settings that are active now. Where the run
// before worked by others, it looks at everybody: an activation may have come
// while that run was planning.
func (x *execution) settle(ctx context.Context) error {
	if x.run.Draft > 0 {
		return nil
	}
	active, ok, err := x.store.Settings.Active(ctx)
	if err != nil {
		return err
	}
	if ok {
		x.run.Revision = active.Revision
	}
	last, ok, err := x.store.Runs.Last(ctx)
	if err != nil || ok && last.Revision == x.run.Revision || !x.run.Purpose.Writes() {
		return err
	}
	if before, err := x.store.Settings.Revision(ctx, last.Revision); err == nil && settings.DecideAlike(before.Document, active.Document) {
		return nil
	} else if err != nil && !store.NotFound(err) {
		return err
	}
	return x.store.Dirty.MarkAll(ctx)
}

func (x *execution) stages(ctx context.Context) error {
	if err := x.load(ctx); err != nil {
		return err
	}
	if err := x.heedPauses(ctx); err != nil {
		return err
	}
	if err := setup.SameCloud(ctx, x.store, x.cloud); err != nil {
		return wholeCloud(err)
	}
	if err := x.countSince(ctx); err != nil {
		return err
	}
	shown, err := x.store.Resources.MembersShown(ctx, x.cloud.URL())
	if err != nil {
		return err
	}
	x.cloud.ListsAtMost(shown)
	if x.run.Purpose.Writes() { // others may work by a draft
		x.cloud.Heed(x.Settings.Document.Cloud.Habits)
	}
	if x.run.Purpose.OfOne() {
		return x.trial(ctx)
	}
	read := x.read
	if !x.run.Purpose.Writes() {
		read = x.readBeside
	}
	if err := x.stage(ctx, "read", read); err != nil {
		return err
	}
	if err := x.store.Learn(ctx); err != nil {
		return err
	}
	if x.run.Purpose == purpose.Look {
		return nil
	}
	before := x.Settings.Schemas
	if err := x.load(ctx); err != nil { // it may be known only now how a directory compares values
		return err
	}
	if x.run.Purpose.Writes() && !maps.EqualFunc(before, x.Settings.Schemas, maps.Equal[entry.Schema, entry.Schema]) {
		if err := x.store.Dirty.MarkAll(ctx); err != nil {
			return err
		}
	}
	if err := x.checkContainers(ctx); err != nil {
		return err
	}
	if x.run.Purpose == purpose.Survey {
		return x.stage(ctx, "survey", x.survey)
	}
	if x.run.Purpose.Rehearses() {
		return x.stage(ctx, "plan", x.rehearse)
	}
	if x.within != nil {
		return x.passes(ctx)
	}
	if err := x.store.Dirty.Raise(ctx); err != nil {
		return err
	}
	if err := x.raiseLeavers(ctx); err != nil {
		return err
	}
	if x.run.Purpose == purpose.Full {
		if err := x.store.Dirty.MarkAll(ctx); err != nil {
			return err
		}
	}
	if err := x.store.Learn(ctx); err != nil {
		return err
	}
	if !x.skips(pause.All.ToCloud) {
		if err := x.passes(ctx); err != nil {
			return err
		}
		changed, err := x.lookBack(ctx)
		if err == nil && changed {
			err = x.passes(ctx)
		}
		if err != nil {
			return err
		}
	}
	if x.skips(pause.All.ToDirectories) {
		return nil
	}
	return x.cloudGroups(ctx)
}

// passes plans and writes until nothing is left that another pass may heal.
func (x *execution) passes(ctx context.Context) error {
	most := mostPasses
	for pass := 1; ; pass++ {
		if err := x.pass(ctx, pass == most); err != nil {
			return err
		}
		again, err := x.store.Dirty.Count(ctx, store.DirtyQuery{State: store.DirtyNow, Only: x.subject, Without: x.Without})
		if err != nil || again == 0 || pass == most {
			return err
		}
		longest, err := x.openCircles(ctx)
		if err != nil {
			return err
		}
		most = min(most+longest, mostPasses+2*mostInCircle) // one of a circle goes on in each
	}
}

// trial is the run of one entry, which was fetched just before.
func (x *execution) trial(ctx context.Context) error {
	if directory, group, tries := x.run.TriedGroup(); tries {
		return x.tryGroup(ctx, directory, group)
	}
	var err error
	if x.subject, err = subjectOf(x.run.Subject); err != nil {
		return err
	}
	if x.Offer, err = x.judging.Offered(ctx, x.Settings.Document); err != nil {
		return err
	}
	if err := x.checkContainers(ctx); err != nil {
		return err
	}
	if !x.run.Purpose.Rehearses() {
		if err := x.store.Dirty.Set(ctx, []entry.Ref{*x.subject}, store.DirtyNow, false); err != nil {
			return err
		}
		if err := x.store.References.Mark(ctx, []entry.Ref{*x.subject}); err != nil {
			return err
		}
		return x.passes(ctx)
	}
	return x.stage(ctx, "plan", x.rehearse)
}

// pass plans and writes once: resources first, and when all of them are there,
// what ties them together.
func (x *execution) pass(ctx context.Context, last bool) error {
	if err := x.stage(ctx, "plan", func(ctx context.Context) error {
		if err := x.findPersons(ctx); err != nil {
			return err
		}
		return x.plan(ctx)
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
	if x.within != nil && x.subject == nil {
		return nil // what ties resources together is left to the run around it
	}
	if err := x.stage(ctx, "plan", func(ctx context.Context) error { return x.planReferences(ctx, x.store) }); err != nil {
		return err
	}
	if err := x.guardLosses(ctx, store.RankReferences, store.RankReferences); err != nil {
		return err
	}
	if err := x.stage(ctx, "write", func(ctx context.Context) error { return x.write(ctx, store.RankReferences, store.RankReferences, last) }); err != nil {
		return err
	}
	return x.store.Learn(ctx)
}

// raiseLeavers brings those into the run whose grace time is over.
func (x *execution) raiseLeavers(ctx context.Context) error {
	for _, grace := range x.Grace() {
		if err := x.store.Dirty.MarkGraceOver(ctx, grace); err != nil {
			return err
		}
	}
	return nil
}

// load makes the settings ready that the run works by.
func (x *execution) load(ctx context.Context) error {
	var err error
	if x.run.Document != nil {
		x.Settings, err = x.judging.Ready(ctx, *x.run.Document)
	} else {
		x.Settings, err = x.judging.Of(ctx, x.run.Revision)
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
		x.run.Stages = append(x.run.Stages, progress.Stage{Name: name, Started: &now})
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

// paused shows that the cloud is waited for, which is no failure.
func (x *execution) paused(ctx context.Context, until time.Time) {
	x.mu.Lock()
	for i := range x.run.Stages {
		stage := &x.run.Stages[i]
		if stage.PausedUntil = nil; stage.Name == x.run.Stage && !until.IsZero() {
			stage.PausedUntil = &until
		}
	}
	x.mu.Unlock()
	if err := x.save(ctx, true); err != nil {
		slog.Warn("show that the cloud is waited for", logkey.Run, x.run.ID, logkey.Error, err)
	}
}

// count changes the run's counts and shows them now and then.
func (x *execution) count(ctx context.Context, change func(*progress.Counts)) error {
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
	if !x.run.Purpose.Writes() {
		cancelled, wanted, err := x.store.Runs.Asked(ctx, x.run.ID)
		switch {
		case err != nil:
			return err
		case cancelled && !x.run.State.Ended():
			return problem.New(problem.Cancelled, "")
		case wanted && x.reading:
			return errGivesWay
		}
	}
	return x.store.Runs.Save(ctx, x.run)
}

// checkContainers leaves out a directory of which a container or group of the scope is
// not there: it was renamed or deleted, and going on would read as nobody being in
// scope.
func (x *execution) checkContainers(ctx context.Context) error {
	vanished, err := setup.Vanished(ctx, x.store, x.Settings)
	if err != nil || len(vanished) == 0 {
		return err
	}
	texts := map[string][]string{}
	for _, v := range vanished {
		texts[v.Directory] = append(texts[v.Directory], v.Text)
	}
	for directory, names := range texts {
		failure := problem.Concerning(about.Thing{Type: about.Directory, Key: directory}, problem.Of(problem.ContainerMissing, problem.Facts{Names: names}))
		if x.subject != nil { // others stand in nobody's way
			if x.subject.Directory == directory {
				return failure
			}
			continue
		}
		if err := x.leaveOut(directory, failure); err != nil {
			return err
		}
	}
	return x.somebodyLeft()
}

// end closes the run with its final counts.
func (x *execution) end(ctx context.Context, failure error) error {
	p := fatal(failure)
	if failure != nil && p == nil {
		if p = x.unforeseen(ctx, failure); p == nil {
			return fmt.Errorf("run %d: %w", x.run.ID, failure)
		}
	}
	if p != nil && p.Code != problem.Cancelled && p.Code != problem.Paused {
		slog.Error("run failed", logkey.Run, x.run.ID, logkey.Code, p.Code, logkey.Detail, p.Detail)
	}
	if p != nil {
		if err := x.dropPlanned(ctx); err != nil {
			return err
		}
	} else if x.run.Purpose.Writes() {
		if err := x.store.Changes.SettleInterrupted(ctx, x.run.ID); err != nil {
			return err
		}
	}
	if err := x.finalCounts(ctx); err != nil {
		return err
	}
	if p == nil && x.run.Purpose.Rehearses() {
		if err := x.needs(ctx); err != nil {
			slog.Warn("tell what the run would need", logkey.Run, x.run.ID, logkey.Error, err)
		}
	}
	x.mu.Lock()
	now := time.Now()
	x.run.Ended, x.run.Stage = &now, ""
	switch c := x.run.Counts; {
	case p != nil && (p.Code == problem.Cancelled || p.Code == problem.Paused):
		x.run.State, x.run.FailureCode, x.run.FailureDetail = progress.Cancelled, string(p.Code), p.Detail
	case p != nil:
		x.run.State, x.run.FailureCode, x.run.FailureDetail = progress.Failed, string(p.Code), p.Detail
	case c.Problems > 0 || c.Held > 0 || c.Failed > 0 || c.Findings > 0 || len(x.run.LeftOut) > 0:
		x.run.State = progress.Problems
	default:
		x.run.State = progress.InStep
	}
	x.mu.Unlock()
	if x.run.Purpose.Writes() {
		if err := x.store.Changes.Tally(ctx, x.run.ID); err != nil {
			return fmt.Errorf("count what run %d has done: %w", x.run.ID, err)
		}
	}
	if err := x.keepEnd(ctx, p); err != nil {
		return err
	}
	if err := x.countProblems(ctx); err != nil {
		return err
	}
	return x.save(ctx, true)
}

// countProblems counts what the run has opened and closed, and what stands.
func (x *execution) countProblems(ctx context.Context) error {
	if !x.run.Purpose.Writes() {
		return nil
	}
	counts, err := x.store.Problems.CountOf(ctx, x.run.ID)
	if err != nil {
		return fmt.Errorf("count the problems of run %d: %w", x.run.ID, err)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.run.Counts.ProblemsNew, x.run.Counts.ProblemsGone, x.run.Counts.ProblemsStanding = counts.New, counts.Gone, counts.Standing
	return nil
}

// keepEnd keeps what ended a run that was to write as a problem of what it is about,
// and what directories were left out for; one that came to its end closes the others
// of the runs before, but for one of a single entry, which has not met the rest.
func (x *execution) keepEnd(ctx context.Context, p *problem.Error) error {
	if !x.run.Purpose.Writes() || p == nil && x.run.Purpose.OfOne() || p != nil && p.Code == problem.Paused {
		return nil
	}
	return x.store.Fenced(ctx, func(tx *store.Store) error {
		if p == nil {
			if err := tx.Problems.CloseOfRuns(ctx, x.run.ID, append(directoriesOf(x.left), x.Without...)); err != nil {
				return err
			}
			return tx.Problems.Save(ctx, store.MetByRun, x.run.ID, x.left)
		}
		thing := p.About
		if thing == (about.Thing{}) {
			switch thing.Type = problem.Describe(p.Code).Touches; thing.Type {
			case about.Cloud, about.Service:
			default:
				thing = about.Thing{Type: about.Run, Key: strconv.FormatInt(x.run.ID, 10)}
			}
		}
		return tx.Problems.Save(ctx, store.MetByRun, x.run.ID, []store.NewProblem{store.ProblemOf(thing, p)})
	})
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
		slog.Warn("note that the run failed", logkey.Run, x.run.ID, logkey.Error, err)
	}
	return nil
}

// finalCounts counts the run's changes from what is kept, so that they are true
// whatever happened on the way.
func (x *execution) finalCounts(ctx context.Context) error {
	counted, err := x.store.Changes.Count(ctx, x.run.ID)
	if err != nil {
		return err
	}
	losses, err := x.store.Changes.HeldLosses(ctx, x.run.ID)
	if err != nil {
		return err
	}
	going, err := x.store.Changes.Going(ctx, x.run.ID)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	c := &x.run.Counts
	c.Losses, c.Going = losses, going
	c.Create, c.Adopt, c.Update, c.Restore, c.Suspend, c.Leave, c.Delete, c.Unlink, c.Changes, c.Held, c.Hanging, c.Done, c.Failed, c.Problems = 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0
	for key, n := range counted {
		switch key[1] {
		case "superseded", "noted", "tie", "discarded":
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

// subjectOf reads the one entry that a trial is for.
func subjectOf(text string) (*entry.Ref, error) {
	if text == "" {
		return nil, nil
	}
	ref, err := entry.ParseRef(text)
	return &ref, err
}
