// Package problems shows what keeps things from being in step: what a problem is
// about, its facts, since when and how often, and its remedies as acts with their
// parameters filled in; and keeps what people say of it. It opens and closes none:
// whoever meets a problem does, a plan, a run's end, or the watch over how things stand
// (service/health).
package problems

import (
	"context"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// Problems shows problems. Its methods may be called from many goroutines.
type Problems struct{ store *store.Store }

// New makes one.
func New(s *store.Store) *Problems { return &Problems{store: s} }

// List lists problems, and how many there are.
func (p *Problems) List(ctx context.Context, q store.ProblemQuery) ([]wire.Problem, int, error) {
	list, total, err := p.store.Problems.List(ctx, q)
	return views(list), total, err
}

// OfEntry is the open problem of an entry, nil when it has none.
func (p *Problems) OfEntry(ctx context.Context, ref entry.Ref) (*wire.Problem, error) {
	one, found, err := p.store.Problems.OfEntry(ctx, ref)
	if err != nil || !found {
		return nil, err
	}
	view := View(one)
	return &view, nil
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

func views(list []store.Problem) []wire.Problem {
	views := make([]wire.Problem, len(list))
	for i, one := range list {
		views[i] = View(one)
	}
	return views
}

// View is a problem as the interface shows it; what is closed needs no remedy.
func View(p store.Problem) wire.Problem {
	view := wire.Problem{
		ProblemDetail: wire.DetailOf(p.Code, p.Detail), ID: p.ID, About: p.About, Name: p.Name, Facts: p.Facts, ResourceID: p.ResourceID, Remedies: []remedy.Remedy{},
		Since: p.Since, Met: p.Met, FirstRun: p.FirstRun, LastRun: p.LastRun, Times: p.Times, Closed: p.Closed, Closing: p.Closing, ClosedRun: p.ClosedRun,
		Assigned: p.Marks.Assigned, Note: p.Marks.Note, Asleep: p.Marks.Asleep, MarkedBy: p.Marks.By, Marked: p.Marks.At,
	}
	if p.Ref != (entry.Ref{}) {
		view.Directory, view.EntryID, view.DN = p.Ref.Directory, p.Ref.ID.String(), p.Name
	}
	if p.Closed == nil {
		view.Remedies = append(view.Remedies, remedy.Of(p.About, p.Code, p.Facts, p.ResourceID != "")...)
	}
	return view
}
