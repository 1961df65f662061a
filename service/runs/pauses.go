package runs

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
)

// heedPauses begins a run by what operators have stopped: none that writes while
// everything is, and without the directories that are paused.
func (x *execution) heedPauses(ctx context.Context) error {
	var err error
	if x.pauses, err = x.store.Pauses.Now(ctx); err != nil {
		return err
	}
	if p, stopped := x.pauses.Runs(); stopped && x.run.Purpose.Writes() {
		return p.Problem()
	}
	for _, directory := range x.Settings.Document.Directories {
		p, stopped := x.pauses.OfDirectory(directory.Name)
		if !stopped {
			continue
		}
		failure := problem.Concerning(p.About(), p.Problem())
		if x.run.Purpose.OfOne() {
			subject, err := subjectOf(x.run.Subject)
			if err == nil && subject != nil && subject.Directory == directory.Name && x.run.Purpose.Writes() {
				return failure
			}
			continue
		}
		if err := x.leaveOut(directory.Name, failure); err != nil {
			return err
		}
	}
	return x.somebodyLeft()
}

// skips tells whether the run goes on without writing to a side, and notes it.
func (x *execution) skips(side func(pause.All) (pause.Pause, bool)) bool {
	p, stopped := side(x.pauses)
	if !stopped {
		return false
	}
	failure := p.Problem()
	x.mu.Lock()
	defer x.mu.Unlock()
	if !slices.ContainsFunc(x.run.LeftOut, func(l progress.LeftOut) bool { return l.Directory == "" && l.Detail == failure.Detail }) {
		x.run.LeftOut = append(x.run.LeftOut, progress.LeftOut{Code: failure.Code, Title: problem.Describe(failure.Code).Title, Detail: failure.Detail})
	}
	return true
}
