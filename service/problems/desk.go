package problems

import (
	"context"
	"strings"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// trendDays is of how many days it is told what came and went, today among them.
const trendDays = 14

// Groups gathers the open problems by what causes them, with what came and went of late.
func (p *Problems) Groups(ctx context.Context) ([]wire.ProblemGroup, error) {
	today := time.Now().UTC().Truncate(24 * time.Hour)
	first := today.AddDate(0, 0, 1-trendDays)
	groups, err := p.store.Problems.Groups(ctx, first)
	views := make([]wire.ProblemGroup, len(groups))
	for i, g := range groups {
		views[i] = wire.ProblemGroup{ProblemKind: kindOf(problem.Describe(g.Code)), Count: g.Count, Asleep: g.Asleep, Assigned: g.Assigned, Since: g.Since, Newest: g.Newest, Days: make([]wire.ProblemDay, trendDays)}
		for n := range views[i].Days {
			views[i].Days[n].Day = first.AddDate(0, 0, n).Format(time.DateOnly)
		}
		for _, day := range g.Days {
			if n := int(day.Day.Sub(first) / (24 * time.Hour)); n >= 0 && n < trendDays {
				views[i].Days[n].Opened, views[i].Days[n].Closed = day.Opened, day.Closed
			}
		}
	}
	return views, err
}

// Kinds is the catalogue.
func (p *Problems) Kinds() []wire.ProblemKind {
	kinds := []wire.ProblemKind{}
	for _, kind := range problem.Catalogue() {
		kinds = append(kinds, kindOf(kind))
	}
	return kinds
}

func kindOf(kind problem.Kind) wire.ProblemKind {
	return wire.ProblemKind{Code: string(kind.Code), Title: kind.Title, Cause: kind.Cause, Remedy: kind.Remedy, Touches: kind.Touches}
}

// Get is one problem, open or closed.
func (p *Problems) Get(ctx context.Context, id int64) (wire.Problem, error) {
	one, err := p.store.Problems.Get(ctx, id)
	if store.NotFound(err) {
		return wire.Problem{}, problem.New(problem.NotFound, "there is no problem %d; closed ones are forgotten in time (history.days in the settings).", id)
	}
	if err != nil {
		return wire.Problem{}, err
	}
	views, err := p.Views(ctx, one)
	if err != nil {
		return wire.Problem{}, err
	}
	return views[0], nil
}

// mostAsleep is how long a problem may sleep: nothing sleeps for good.
const mostAsleep = 366 * 24 * time.Hour

// marks is what is said of a problem, as an act notes it.
type marks struct {
	Code     string     `json:"code"`
	Assigned string     `json:"assigned,omitempty"`
	Note     string     `json:"note,omitempty"`
	Asleep   *time.Time `json:"asleep,omitempty"`
}

// Mark says who looks after problems, notes something, or lets them sleep.
func (p *Problems) Mark(ctx context.Context, by string, in wire.MarkProblems) (wire.MarkedProblems, error) {
	m := store.Mark{Assigned: in.Assigned, Note: in.Note, Asleep: in.Asleep}
	switch {
	case len(in.IDs) == 0 && in.Code == "":
		return wire.MarkedProblems{}, problem.New(problem.BadInput, "say which problems: their ids, or a code.")
	case m == (store.Mark{}):
		return wire.MarkedProblems{}, problem.New(problem.BadInput, "say what is to be kept of them: assigned, note or asleep.")
	case m.Asleep != nil && time.Until(*m.Asleep) > mostAsleep:
		return wire.MarkedProblems{}, problem.New(problem.BadInput, "asleep until %s: a problem sleeps for a year at most.", m.Asleep.Format(time.DateOnly))
	case m.Asleep != nil && !m.Asleep.After(time.Now()):
		m.Asleep = &time.Time{}
	}
	for _, text := range []**string{&m.Assigned, &m.Note} {
		if *text != nil {
			trimmed := strings.TrimSpace(**text)
			*text = &trimmed
		}
	}
	out := wire.MarkedProblems{}
	err := p.store.Tx(ctx, func(tx *store.Store) error {
		before, err := tx.Problems.Mark(ctx, by, in.IDs, in.Code, m)
		if err != nil {
			return err
		}
		if out.Marked = len(before); len(before) == 0 {
			return problem.New(problem.NotFound, "none of these problems is open.")
		}
		acts := make([]act.Act, len(before))
		for i, one := range before {
			was := marks{string(one.Code), one.Marks.Assigned, one.Marks.Note, one.Marks.Asleep}
			acts[i] = act.Act{Kind: act.MarkProblem, By: by, About: one.About, Before: was, After: was.with(m)}
		}
		return tx.Acts.Record(ctx, acts...)
	})
	return out, err
}

// with is how it is after a change.
func (k marks) with(m store.Mark) marks {
	if m.Assigned != nil {
		k.Assigned = *m.Assigned
	}
	if m.Note != nil {
		k.Note = *m.Note
	}
	if m.Asleep != nil {
		if k.Asleep = m.Asleep; m.Asleep.IsZero() {
			k.Asleep = nil
		}
	}
	return k
}
