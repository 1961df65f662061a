package runs

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/service/store"
)

// awayPatience is how long the agent of a directory is waited for that was away
// before, so that the others are not late for it every time.
const awayPatience = 2 * time.Second

// patience is how long an agent of the directory is waited for.
func (x *execution) patience(ctx context.Context, directory string) (time.Duration, error) {
	if len(x.Settings.Document.Directories) == 1 {
		return x.orders.Patience(), nil
	}
	away, err := x.store.Problems.IsAway(ctx, directory)
	if err == nil && away {
		return min(awayPatience, x.orders.Patience()), nil
	}
	return x.orders.Patience(), err
}

// leaveOut goes on without a directory: nothing is decided about its entries, which
// stay as they were. It returns the failure where that is not the directory's alone.
func (x *execution) leaveOut(directory string, failure error) error {
	p := fatal(failure)
	if p == nil || !ofDirectory(p) {
		return failure
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if slices.Contains(x.Without, directory) {
		return nil
	}
	if x.first == nil {
		x.first = failure
	}
	x.Without = append(x.Without, directory)
	x.noteLeft(directory, p, nil)
	return nil
}

// noteLeft keeps what the run goes on without, and why; x.mu is held.
func (x *execution) noteLeft(directory string, p *problem.Error, attributes []string) {
	x.run.LeftOut = append(x.run.LeftOut, progress.LeftOut{Directory: directory, Code: p.Code, Title: problem.Describe(p.Code).Title, Detail: p.Detail, Attributes: attributes})
	if p.Code != problem.Paused { // which is told by whoever paused it
		x.left = append(x.left, store.ProblemOf(about.Thing{Type: about.Directory, Key: directory}, p))
	}
}

// hidden goes on with what entries had of attributes that cannot be seen any more.
func (x *execution) hidden(directory string, names []string) {
	p := problem.Of(problem.AttributeHidden, problem.Facts{Value: directory, Names: names})
	x.mu.Lock()
	defer x.mu.Unlock()
	x.noteLeft(directory, p, names)
}

// ofDirectory tells whether a problem is one of a directory or of who reads it, so
// that it says nothing about the others.
func ofDirectory(p *problem.Error) bool {
	switch problem.Describe(p.Code).Touches {
	case about.Directory, about.Agent:
		return true
	}
	return p.Code == problem.RightMissing || p.Code == problem.Paused && p.Facts.Value == string(pause.Directory)
}

// somebodyLeft returns why the first was left out when none is left to go on with.
func (x *execution) somebodyLeft() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.Without) < len(x.Settings.Document.Directories) {
		return nil
	}
	x.run.LeftOut = nil // the run fails, and says so by that
	return x.first
}

// directoriesOf are those that have problems.
func directoriesOf(problems []store.NewProblem) []string {
	var names []string
	for _, p := range problems {
		names = append(names, p.About.Key)
	}
	return names
}
