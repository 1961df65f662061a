package setup

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/expect"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// Expectations holds what a document expects of entries against what it would do to them as they
// are in the mirrors.
func (e *Setup) Expectations(ctx context.Context, document settings.Document) (wire.Expectations, error) {
	out := wire.Expectations{Items: make([]wire.Expected, len(document.Expect)), NotRead: []string{}}
	if len(document.Expect) == 0 {
		return out, nil
	}
	if err := e.valid(ctx, document); err != nil {
		return out, err
	}
	results, notRead, err := e.hold(ctx, document)
	if err != nil {
		return out, err
	}
	out.NotRead = append(out.NotRead, notRead...)
	for i, r := range results {
		item := wire.Expected{Expectation: r.Expectation, Said: r.Expectation.Said(), Holds: r.Holds, DN: r.Entry, Why: r.Why}
		for _, unmet := range r.Unmet {
			item.Unmet = append(item.Unmet, wire.Unmet(unmet))
		}
		if r.Holds {
			out.Holding++
		} else {
			out.Failing++
		}
		if r.ref != nil {
			item.EntryID, item.Directory = r.ref.ID.String(), r.ref.Directory
		}
		out.Items[i] = item
	}
	return out, nil
}

// held is what came of an expectation, and whom it is about.
type held struct {
	expect.Result
	ref *entry.Ref
}

// hold decides about all who are expected anything of, among those who wait for the next run. It
// also tells which attributes the document needs that were not read yet.
func (e *Setup) hold(ctx context.Context, document settings.Document) (results []held, notRead []string, err error) {
	ready, err := e.judging.Ready(ctx, document)
	if err != nil {
		return nil, nil, badInput(err)
	}
	judge := e.judging.Blank()
	judge.Settings = ready
	if judge.Offer, err = e.judging.Offered(ctx, document); err != nil {
		judge.Offer = decide.AnyCloud()
	}
	for _, directory := range document.Directories {
		state, err := e.store.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return nil, nil, err
		}
		for _, name := range ready.Attributes {
			if !judging.Covers(state.Attributes, []string{name}) {
				notRead = append(notRead, directory.Name+": "+name)
			}
		}
	}
	results = make([]held, len(document.Expect))
	about := map[entry.Ref][]int{}
	for i, one := range document.Expect {
		ref, why, err := e.expected(ctx, one.Entry)
		if err != nil {
			return nil, nil, err
		}
		if ref == nil {
			results[i].Result = expect.Nobody(one, why)
			continue
		}
		results[i].ref = ref
		about[*ref] = append(about[*ref], i)
	}
	outcomes, err := judge.OutcomesOf(ctx, slices.Collect(maps.Keys(about)))
	if err != nil {
		return nil, nil, fmt.Errorf("hold expectations against what the settings do: %w", err)
	}
	for ref, which := range about {
		for _, i := range which {
			if o := outcomes[ref]; o != nil {
				results[i].Result = expect.Of(document.Expect[i], o)
			} else {
				results[i].Result = expect.Nobody(document.Expect[i], "its directory is none of these settings")
			}
		}
	}
	return results, notRead, nil
}

// expected finds whom an expectation is about; why tells what stands in the way.
func (e *Setup) expected(ctx context.Context, text string) (ref *entry.Ref, why string, err error) {
	text = strings.TrimSpace(text)
	ids, _ := entry.ParseIDs(text) // text that is no id has none
	hit, _, found, err := e.store.Search.Exact(ctx, text, ids, store.AnEntry)
	switch {
	case err != nil:
		return nil, "", err
	case !found: // by a name, where nobody else has it
		hits, total, err := e.store.Search.Find(ctx, store.FindQuery{Text: text, Limit: 2})
		if err != nil {
			return nil, "", err
		}
		if found = len(hits) == 1 && total.N == 1; found {
			hit = hits[0]
		}
	}
	switch {
	case !found || hit.EntryID == "":
		return nil, "nobody, or more than one, is called so in what was read of the directories", nil
	case hit.Gone:
		return nil, "it was deleted in directory " + hit.Directory, nil
	}
	id, err := entry.NewID(hit.EntryID)
	return &entry.Ref{Directory: hit.Directory, ID: id}, "", err
}

// met refuses a document of which an expectation is not met.
func (e *Setup) met(ctx context.Context, document settings.Document) error {
	results, notRead, err := e.hold(ctx, document)
	if err != nil {
		return err
	}
	failure := problem.New(problem.ExpectationsNotMet, "")
	for i, r := range results {
		for _, message := range r.Broken() {
			failure.Faults = append(failure.Faults, problem.Fault{Path: "expect[" + strconv.Itoa(i) + "]", Message: message})
		}
	}
	if len(failure.Faults) == 0 {
		return nil
	}
	for _, name := range notRead {
		failure.Faults = append(failure.Faults, problem.Fault{Path: "directories", Message: name + " was not read yet, so that what hangs on it is empty here; a rehearsal of the draft reads it"})
	}
	return failure
}

// Broken tells of a document what it expects and does not hold, each expectation once.
func (e *Setup) Broken(ctx context.Context, document settings.Document) (told []string, err error) {
	results, _, err := e.hold(ctx, document)
	for _, r := range results {
		if broken := r.Broken(); len(broken) > 0 {
			told = append(told, broken[0])
		}
	}
	return told, err
}

// Expect adds to the draft that an entry stays as the active settings have it: whether it takes
// part, and the values of some attributes.
func (e *Setup) Expect(ctx context.Context, by string, in wire.NewExpectation) (wire.Draft, error) {
	judge, err := e.judging.Judge(ctx)
	if err != nil {
		return wire.Draft{}, err
	}
	ref, why, err := e.expected(ctx, in.Entry)
	if err != nil {
		return wire.Draft{}, err
	}
	if ref == nil {
		return wire.Draft{}, problem.New(problem.NotFound, "%q: %s.", in.Entry, why)
	}
	outcomes, err := judge.OutcomesOf(ctx, []entry.Ref{*ref})
	if err != nil {
		return wire.Draft{}, err
	}
	outcome := outcomes[*ref]
	if outcome == nil {
		return wire.Draft{}, problem.New(problem.NotFound, "%q: its directory is none of the settings.", in.Entry)
	}
	one := expect.Now(outcome, in.Values)
	one.Note = in.Note
	for _, target := range in.Values {
		if _, ruled := one.Values[target]; !ruled {
			return wire.Draft{}, problem.New(problem.BadInput, "no rule gives %s a value of %s.", one.Called(), target)
		}
	}
	return e.EditDraft(ctx, by, in.Version, func(document *settings.Document) error {
		document.Expect = append(document.Expect, one)
		for _, fault := range document.Validate() {
			if strings.HasPrefix(fault.Path, "expect") {
				return badInput(errors.New(fault.Path + ": " + fault.Message))
			}
		}
		return nil
	})
}
