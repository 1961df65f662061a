package judging

import (
	"context"
	"iter"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/service/store"
)

// Workers is how many batches are decided about at once.
const Workers = 3

// mostAround is with how many others that wait for the next run one object is
// looked at, since they may want the same values. Where more wait, as before the
// first run, it is judged by what is there already.
const mostAround = 1000

// Imagination is what a rehearsal starts from, and the cases that it decides about.
func (j *Judge) Imagination(ctx context.Context, all bool) (*Imagined, Pages, error) {
	if all {
		m := imagine(j.DB, func(entry.Ref) bool { return true })
		if j.Settings.HasPersons() {
			var err error
			if m.Persons, err = j.imaginePersons(ctx, everyCase(ctx, j.DB, j.Batch), true); err != nil {
				return nil, nil, err
			}
		}
		return m, &everybody{store: j.DB, persons: m.Persons, size: j.Batch, without: j.Without}, nil
	}
	refs, _, err := j.DB.Dirty.Refs(ctx, j.Grace(), 1<<30)
	if err != nil {
		return nil, nil, err
	}
	return j.ImagineAmong(ctx, j.known(refs))
}

// known leaves out the entries of directories of which it is not known how they are.
func (j *Judge) known(refs []entry.Ref) []entry.Ref {
	return slices.DeleteFunc(refs, func(ref entry.Ref) bool { return slices.Contains(j.Without, ref.Directory) })
}

// ImagineAmong starts from the entries that are looked at.
func (j *Judge) ImagineAmong(ctx context.Context, refs []entry.Ref) (*Imagined, Pages, error) {
	var found *Persons
	if j.Settings.HasPersons() {
		var err error
		if found, err = j.imaginePersons(ctx, eachCase(ctx, j.DB, refs, j.Batch), false); err != nil {
			return nil, nil, err
		}
		refs = append(slices.Clone(refs), found.concerned...)
		slices.SortFunc(refs, entry.Ref.Compare)
		refs = j.known(slices.Compact(refs))
	}
	listed := make(map[entry.Ref]bool, len(refs))
	for _, ref := range refs {
		listed[ref] = true
	}
	m := imagine(j.DB, func(ref entry.Ref) bool { return listed[ref] })
	m.Persons = found
	have, err := j.DB.Links.Have(ctx, refs)
	if err != nil {
		return nil, nil, err
	}
	pages := &among{store: j.DB, persons: found, size: j.Batch}
	for _, ref := range refs {
		if found.hasLink(ref, have[ref]) {
			pages.linked = append(pages.linked, ref)
		} else {
			pages.without = append(pages.without, ref)
		}
	}
	return m, pages, nil
}

// WhatIf is what one entry is looked at with instead of what is so.
type WhatIf struct {
	Chosen   *decide.Chosen // decided by hand; the zero value for nothing
	Unlinked bool           // it has no link
	Linked   entry.Resource // it is linked to this one
	Pins     []decide.Pin   // held as well
	// Other is linked to OtherLinked meanwhile.
	Other       *entry.Ref
	OtherLinked entry.Resource
}

// ImagineOne decides about one entry as the next run would, among the others that
// wait for it. An entry that is not there is an error that store.NotFound knows.
func (j *Judge) ImagineOne(ctx context.Context, ref entry.Ref, what WhatIf) (*decide.Outcome, *Imagined, error) {
	look := []entry.Ref{ref}
	if what.Other != nil {
		look = append(look, *what.Other)
	}
	m, pages, err := j.imagineWith(ctx, look)
	if err != nil {
		return nil, nil, err
	}
	m.ref, m.what = ref, what
	var one *decide.Outcome
	err = j.PlanImagined(ctx, m, pages, func(_ context.Context, outcomes []*decide.Outcome) error {
		for _, o := range outcomes {
			if o.Ref() == ref {
				one = o
			}
			if what.Other != nil && o.Ref() == *what.Other {
				m.Other = o
			}
		}
		return nil
	})
	if err == nil && one == nil {
		err = store.ErrNotFound
	}
	return one, m, err
}

// imagineWith starts from some entries and the others that wait for the next run.
func (j *Judge) imagineWith(ctx context.Context, look []entry.Ref) (*Imagined, Pages, error) {
	refs, total, err := j.DB.Dirty.Refs(ctx, j.Grace(), mostAround)
	if err != nil {
		return nil, nil, err
	}
	if total > len(refs) {
		refs = nil
	}
	for _, one := range look {
		if at, found := slices.BinarySearchFunc(refs, one, entry.Ref.Compare); !found {
			refs = slices.Insert(refs, at, one)
		}
	}
	return j.ImagineAmong(ctx, refs)
}

// PlanImagined decides about all cases in the phases of a run. keep is called by
// several goroutines, but not with those who still wait for others.
func (j *Judge) PlanImagined(ctx context.Context, m *Imagined, pages Pages, keep func(context.Context, []*decide.Outcome) error) error {
	var mu sync.Mutex // guards later
	var later []decide.Case
	for _, linked := range []bool{true, false} {
		group, groupCtx := errgroup.WithContext(ctx)
		turns := &Turns{}
		for range Workers {
			group.Go(func() error {
				for {
					var batch []decide.Case
					var more bool
					turn, err := turns.Next(func() (err error) {
						batch, more, err = pages.next(groupCtx, linked)
						return err
					})
					if err != nil || !more {
						turn.End()
						return err
					}
					outcomes, err := j.decideImagined(groupCtx, m, batch, &turn)
					if err != nil {
						return err
					}
					decided := slices.DeleteFunc(outcomes, func(o *decide.Outcome) bool {
						again := o.Waits || o.Again()
						if again {
							mu.Lock()
							defer mu.Unlock()
							later = append(later, withoutLink(o))
						}
						return again
					})
					if err := keep(groupCtx, decided); err != nil {
						return err
					}
				}
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	slices.SortFunc(later, func(a, b decide.Case) int { return a.Entry.Ref().Compare(b.Entry.Ref()) })
	for part := range slices.Chunk(later, j.Batch) {
		outcomes, err := j.decideImagined(ctx, m, part, nil)
		if err == nil {
			err = keep(ctx, outcomes)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// withoutLink is the case that is decided about again.
func withoutLink(o *decide.Outcome) decide.Case {
	c := o.Case
	if o.Again() {
		c.Link, c.LinkKey, c.LeftAt = nil, "", nil
	}
	return c
}

// decideImagined decides about a batch in its turn; who waited for others has none,
// and is decided about for the last time.
func (j *Judge) decideImagined(ctx context.Context, m *Imagined, batch []decide.Case, turn *Turn) ([]*decide.Outcome, error) {
	m.imagineCase(batch)
	decider := j.Decider(m)
	if decider.Last = turn == nil; !decider.Last {
		defer turn.End()
		decider.Facts = InTurn(m, turn)
	}
	outcomes, err := decider.Decide(ctx, batch)
	if err != nil {
		return nil, err
	}
	m.decided(outcomes)
	return outcomes, nil
}

// Grace is when what left is deleted, by kind.
func (j *Judge) Grace() []store.Grace { return store.GraceOf(j.Settings.Document) }

// Pages gives out the cases of a plan by the page, to one goroutine at a time.
type Pages interface {
	// next returns a page of those who have a link, or who have none; an empty page
	// is no end.
	next(ctx context.Context, linked bool) (page []decide.Case, more bool, err error)
}

// everybody reads the mirror page by page.
type everybody struct {
	store   *store.Store
	persons *Persons
	size    int
	without []string // directories that are left out

	linked bool
	begun  bool
	ended  bool
	after  entry.Ref
}

func (e *everybody) next(ctx context.Context, linked bool) ([]decide.Case, bool, error) {
	if !e.begun || e.linked != linked {
		e.begun, e.linked, e.ended, e.after = true, linked, false, entry.Ref{}
	}
	if e.ended {
		return nil, false, nil
	}
	page, after, err := e.store.Cases.Page(ctx, linked, e.after, e.size)
	if err != nil {
		return nil, false, err
	}
	e.after, e.ended = after, after == entry.Ref{}
	page = slices.DeleteFunc(page, func(c decide.Case) bool { return slices.Contains(e.without, c.Entry.Directory) })
	return page, true, e.persons.moveLinks(ctx, e.store, page)
}

// among reads the entries of a list.
type among struct {
	store   *store.Store
	persons *Persons
	size    int

	linked, without []entry.Ref
}

func (a *among) next(ctx context.Context, linked bool) ([]decide.Case, bool, error) {
	list := &a.linked
	if !linked {
		list = &a.without
	}
	if len(*list) == 0 {
		return nil, false, nil
	}
	part := (*list)[:min(len(*list), a.size)]
	*list = (*list)[len(part):]
	page, err := a.store.Cases.Of(ctx, part)
	if err != nil {
		return nil, false, err
	}
	if err := a.persons.moveLinks(ctx, a.store, page); err != nil {
		return nil, false, err
	}
	slices.SortFunc(page, func(a, b decide.Case) int { return a.Entry.Ref().Compare(b.Entry.Ref()) })
	return page, true, nil
}

// eachCase reads the entries of a list; everyCase those of the whole mirror.
func eachCase(ctx context.Context, s *store.Store, refs []entry.Ref, size int) iter.Seq2[[]decide.Case, error] {
	return func(yield func([]decide.Case, error) bool) {
		for part := range slices.Chunk(refs, size) {
			if !yield(s.Cases.Of(ctx, part)) {
				return
			}
		}
	}
}

func everyCase(ctx context.Context, s *store.Store, size int) iter.Seq2[[]decide.Case, error] {
	return func(yield func([]decide.Case, error) bool) {
		pages := &everybody{store: s, size: size}
		for _, linked := range []bool{true, false} {
			for {
				page, more, err := pages.next(ctx, linked)
				if err == nil && !more {
					break
				}
				if !yield(page, err) {
					return
				}
			}
		}
	}
}

// OutcomesOf decides about some entries as the next run would, among the others that wait for it.
// Those of directories that the settings do not name are not in the answer.
func (j *Judge) OutcomesOf(ctx context.Context, wanted []entry.Ref) (map[entry.Ref]*decide.Outcome, error) {
	outcomes := map[entry.Ref]*decide.Outcome{}
	for _, ref := range wanted {
		outcomes[ref] = nil
	}
	m, pages, err := j.imagineWith(ctx, wanted)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	err = j.PlanImagined(ctx, m, pages, func(_ context.Context, decided []*decide.Outcome) error {
		mu.Lock()
		defer mu.Unlock()
		for _, o := range decided {
			if _, asked := outcomes[o.Ref()]; asked {
				outcomes[o.Ref()] = o
			}
		}
		return nil
	})
	return outcomes, err
}
