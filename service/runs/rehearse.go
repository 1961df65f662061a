package runs

import (
	"context"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// rehearse plans as a run would and keeps the outcomes alone: of everybody, of
// who is dirty, or of one entry among those.
func (x *execution) rehearse(ctx context.Context) error {
	var m *judging.Imagined
	var err error
	if x.subject != nil {
		var o *decide.Outcome
		if o, m, err = x.ImagineOne(ctx, *x.subject, judging.WhatIf{}); err == nil {
			err = x.keepRehearsed(ctx, []*decide.Outcome{o})
		}
	} else {
		var pages judging.Pages
		if m, pages, err = x.Imagination(ctx, x.run.Purpose.Everybody()); err == nil {
			err = x.PlanImagined(ctx, m, pages, x.keepRehearsed)
		}
	}
	if err != nil {
		return err
	}
	// Whoever is held keeps what refers to them.
	if err := x.guard(ctx); err != nil {
		return err
	}
	hanging := func(s *store.Store) error {
		if err := x.planReferences(ctx, s); err != nil || x.subject != nil {
			return err
		}
		return x.rehearseGroups(ctx, s)
	}
	if m.Persons == nil {
		err = hanging(x.store)
	} else {
		err = x.store.Rehearsed(ctx, m.Persons.Following, m.Persons.Moves, hanging)
	}
	if err != nil {
		return err
	}
	if err := x.guardLosses(ctx, store.RankReferences, store.RankReferences); err != nil {
		return err
	}
	return x.guardGroups(ctx, false)
}

// keepRehearsed keeps what a rehearsal has decided.
func (x *execution) keepRehearsed(ctx context.Context, outcomes []*decide.Outcome) error {
	p := &planned{settings: x.Settings, tells: true}
	for _, o := range outcomes {
		p.gather(o)
	}
	if err := x.store.Changes.Add(ctx, x.run.ID, p.changes); err != nil {
		return err
	}
	return x.count(ctx, func(c *progress.Counts) { p.count(c, len(outcomes)) })
}
