// Package problems shows what keeps things from being in step: what a problem is
// about, its facts, since when and how often, and its remedies as acts with their
// parameters filled in; and keeps what people say of it. It opens and closes none:
// whoever meets a problem does, a plan, a run's end, or the watch over how things stand
// (service/health).
package problems

import (
	"context"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// Problems shows problems. Its methods may be called from many goroutines.
type Problems struct {
	store   *store.Store
	judging *judging.Judging
}

// New makes one.
func New(s *store.Store, j *judging.Judging) *Problems { return &Problems{store: s, judging: j} }

// List lists problems, and how many there are.
func (p *Problems) List(ctx context.Context, q store.ProblemQuery) ([]wire.Problem, int, error) {
	list, total, err := p.store.Problems.List(ctx, q)
	if err != nil {
		return nil, 0, err
	}
	views, err := p.Views(ctx, list...)
	return views, total, err
}

// OfEntry is the open problem of an entry, nil when it has none.
func (p *Problems) OfEntry(ctx context.Context, ref entry.Ref) (*wire.Problem, error) {
	one, found, err := p.store.Problems.OfEntry(ctx, ref)
	if err != nil || !found {
		return nil, err
	}
	views, err := p.Views(ctx, one)
	if err != nil {
		return nil, err
	}
	return &views[0], nil
}

// Counts counts the open problems of entries by code, the most frequent first.
func (p *Problems) Counts(ctx context.Context) ([]wire.CodeCount, error) {
	counts, err := p.store.Problems.CountByCode(ctx)
	views := make([]wire.CodeCount, len(counts))
	for i, c := range counts {
		views[i] = wire.CodeCount{Code: string(c.Code), Title: problem.Describe(c.Code).Title, Count: c.Count, Asleep: c.Asleep}
	}
	return views, err
}

// Views are problems as the interface shows them.
func (p *Problems) Views(ctx context.Context, list ...store.Problem) ([]wire.Problem, error) {
	views := make([]wire.Problem, len(list))
	active, err := p.judging.Active(ctx)
	if err != nil && problem.CodeOf(err) != problem.NoSettings {
		return nil, err
	}
	for i, one := range list {
		views[i] = view(one, active)
	}
	return views, nil
}

// correctable tells whether a repair may write what the active rules read for the value
// that a problem is about.
func correctable(p store.Problem, active *decide.Settings) bool {
	if active == nil || p.Kind == "" {
		return false
	}
	directory, found := active.Document.Directory(p.Ref.Directory)
	return found && len(survey.Correctable(active.Of(p.Kind).Rules, directory.Dialect, p.Kind, p.Facts.Targets(p.Code))) > 0
}

// view is a problem as the interface shows it; what is closed needs no remedy.
func view(p store.Problem, active *decide.Settings) wire.Problem {
	view := wire.Problem{
		ProblemDetail: wire.DetailOf(p.Code, p.Detail), ID: p.ID, About: p.About, Name: p.Name, Facts: p.Facts, ResourceID: p.ResourceID, Remedies: []remedy.Remedy{},
		Since: p.Since, Met: p.Met, FirstRun: p.FirstRun, LastRun: p.LastRun, Times: p.Times, Closed: p.Closed, Closing: p.Closing, ClosedRun: p.ClosedRun,
		Assigned: p.Marks.Assigned, Note: p.Marks.Note, Asleep: p.Marks.Asleep, MarkedBy: p.Marks.By, Marked: p.Marks.At,
	}
	if p.Ref != (entry.Ref{}) {
		view.Directory, view.EntryID, view.DN = p.Ref.Directory, p.Ref.ID.String(), p.Name
	}
	if p.Closed == nil {
		view.Remedies = append(view.Remedies, remedy.Of(p.About, p.Code, p.Facts, remedy.Situation{Kind: p.Kind, Linked: p.ResourceID != "", Correctable: correctable(p, active)})...)
	}
	return view
}
