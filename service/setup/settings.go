package setup

import (
	"context"
	"errors"
	"strconv"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

func badInput(err error) error { return problem.Wrap(problem.BadInput, err, "it cannot be used") }

func noDirectory(name string) error {
	return problem.New(problem.NotFound, "the settings name no directory %q.", name)
}

// Document returns the draft's document, or the active one where there is no
// draft or the draft is not wanted.
func (e *Setup) Document(ctx context.Context, draft bool) (settings.Document, error) {
	if draft {
		current, _, err := e.store.Settings.CurrentDraft(ctx)
		return current.Document, err
	}
	active, ok, err := e.store.Settings.Active(ctx)
	if err == nil && !ok {
		err = problem.New(problem.NoSettings, "")
	}
	return active.Document, err
}

// Draft shows the draft with its faults and what it changes.
func (e *Setup) Draft(ctx context.Context) (wire.Draft, error) {
	draft, active, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return wire.Draft{}, err
	}
	return e.draftView(ctx, draft, active)
}

func (e *Setup) draftView(ctx context.Context, draft store.Draft, active store.Revision) (wire.Draft, error) {
	text, err := draft.Document.YAML()
	if err != nil {
		return wire.Draft{}, err
	}
	warnings, err := e.warnings(ctx, draft.Document)
	if err != nil {
		return wire.Draft{}, err
	}
	view := wire.Draft{Warnings: warnings, Version: draft.Version, Base: draft.Base, Document: draft.Document, YAML: string(text), By: draft.By, Active: active.Revision,
		Faults: e.faults(ctx, draft.Document), Differences: settings.Diff(active.Document, draft.Document)}
	if draft.Version == 0 {
		return view, nil
	}
	view.Changed = &draft.Changed
	impact, ok, err := e.store.Runs.OfDraft(ctx, draft.Version)
	if ok {
		run := views.Run(impact)
		view.Impact = &run
	}
	return view, err
}

// EditDraft lets edit change the draft's document. version is the one that the
// editor has seen; when somebody else has saved another meanwhile, nothing is
// changed. A negative version edits whatever is there.
func (e *Setup) EditDraft(ctx context.Context, by string, version int, edit func(*settings.Document) error) (wire.Draft, error) {
	var draft store.Draft
	var active store.Revision
	err := e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Settings.Lock(ctx); err != nil {
			return err
		}
		var err error
		if draft, active, err = tx.Settings.CurrentDraft(ctx); err != nil {
			return err
		}
		if err := sameVersion(draft, version); err != nil {
			return err
		}
		if err := edit(&draft.Document); err != nil {
			return err
		}
		draft.By = by
		return tx.Settings.SaveDraft(ctx, &draft)
	})
	if err != nil {
		return wire.Draft{}, err
	}
	return e.draftView(ctx, draft, active)
}

func sameVersion(draft store.Draft, version int) error {
	switch {
	case version < 0 || draft.Version == version:
		return nil
	case draft.Version == 0:
		return problem.New(problem.DraftChanged, "version %d was activated or discarded; there is no draft now.", version)
	}
	return problem.New(problem.DraftChanged, "%s has saved version %d at %s; you have version %d.", draft.By, draft.Version, draft.Changed.Format(time.RFC3339), version)
}

// DiscardDraft drops the draft.
func (e *Setup) DiscardDraft(ctx context.Context, by string) error {
	return e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Settings.Lock(ctx); err != nil {
			return err
		}
		draft, _, err := tx.Settings.CurrentDraft(ctx)
		if err != nil {
			return err
		}
		found, err := tx.Settings.DropDraft(ctx)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no draft.")
		}
		if err == nil {
			err = tx.Acts.Record(ctx, act.Act{Kind: act.DiscardDraft, By: by, About: about.Thing{Type: about.Settings}, Before: draft.Document})
		}
		return err
	})
}

// ActivateDraft makes the draft the active settings. although says: also where an expectation of
// them does not hold.
func (e *Setup) ActivateDraft(ctx context.Context, by string, version int, note string, although bool) (store.Revision, error) {
	var revision store.Revision
	held, _, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return revision, err
	}
	if err := sameVersion(held, version); err != nil {
		return revision, err
	}
	unmet, err := e.expecting(ctx, held.Document, although)
	if err != nil {
		return revision, err
	}
	err = e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Settings.Lock(ctx); err != nil {
			return err
		}
		draft, active, err := tx.Settings.CurrentDraft(ctx)
		if err != nil {
			return err
		}
		if err := sameVersion(draft, held.Version); err != nil { // what was held against its expectations
			return err
		}
		if draft.Base != active.Revision {
			return problem.New(problem.DraftChanged, "the draft was made from revision %d, but %s has activated revision %d meanwhile. Compare them, bring both together and save the draft again.", draft.Base, active.By, active.Revision)
		}
		revision = store.Revision{Document: draft.Document, By: by, Note: note}
		if err := e.activate(ctx, tx, &revision, active, unmet); err != nil {
			return err
		}
		_, err = tx.Settings.DropDraft(ctx)
		return err
	})
	return revision, err
}

// Activate makes a document the active settings. base is the revision that it
// was made from, 0 when that is not known; although says: also where an expectation of it does
// not hold.
func (e *Setup) Activate(ctx context.Context, revision *store.Revision, base int, although bool) error {
	unmet, err := e.expecting(ctx, revision.Document, although)
	if err != nil {
		return err
	}
	return e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Settings.Lock(ctx); err != nil {
			return err
		}
		active, ok, err := tx.Settings.Active(ctx)
		if err != nil {
			return err
		}
		if base != 0 && ok && active.Revision != base {
			return problem.New(problem.BadInput, "the file was made from revision %d, but %s has activated revision %d meanwhile. Export it and bring both together.", base, active.By, active.Revision)
		}
		return e.activate(ctx, tx, revision, active, unmet)
	})
}

// Return makes an older revision the active settings again, in the caller's transaction.
func (e *Setup) Return(ctx context.Context, tx *store.Store, number int, by, note string) (store.Revision, error) {
	old, err := e.Revision(ctx, number)
	if err != nil {
		return old, err
	}
	if err := tx.Settings.Lock(ctx); err != nil {
		return old, err
	}
	active, _, err := tx.Settings.Active(ctx)
	if err != nil {
		return old, err
	}
	revision := store.Revision{Document: old.Document, By: by, Note: note}
	return revision, e.activate(ctx, tx, &revision, active, nil)
}

// valid refuses a document that has faults, with all of them.
func (e *Setup) valid(ctx context.Context, document settings.Document) error {
	faults := e.faults(ctx, document)
	if len(faults) == 0 {
		return nil
	}
	failure := problem.New(problem.SettingsInvalid, "")
	failure.Faults = faults
	return failure
}

// activation is which settings were active, as an act notes it.
type activation struct {
	Revision    int                   `json:"revision"`
	Differences []settings.Difference `json:"differences,omitempty"`
	// Unmet are expectations that did not hold, and that somebody has passed over.
	Unmet []problem.Fault `json:"unmet,omitempty"`
}

// expecting refuses a document of which an expectation does not hold; with although it returns
// what does not.
func (e *Setup) expecting(ctx context.Context, document settings.Document, although bool) ([]problem.Fault, error) {
	if len(document.Expect) == 0 {
		return nil, nil
	}
	if err := e.valid(ctx, document); err != nil {
		return nil, err
	}
	err := e.met(ctx, document)
	if although && problem.CodeOf(err) == problem.ExpectationsNotMet {
		return problem.FaultsOf(err), nil
	}
	return nil, err
}

// activate checks a document and activates it within the caller's transaction.
func (e *Setup) activate(ctx context.Context, tx *store.Store, revision *store.Revision, active store.Revision, unmet []problem.Fault) error {
	if err := e.valid(ctx, revision.Document); err != nil {
		return err
	}
	for _, directory := range active.Document.Directories {
		if _, kept := revision.Document.Directory(directory.Name); kept {
			continue
		}
		_, links, err := tx.Removed.CountsOf(ctx, directory.Name)
		if err != nil {
			return err
		}
		if links > 0 {
			return problem.New(problem.DirectoryInUse, "directory %s has %d links.", directory.Name, links)
		}
	}
	if err := tx.Settings.Activate(ctx, revision, active.Revision != 0 && settings.DecideAlike(active.Document, revision.Document)); err != nil {
		return err
	}
	return tx.Acts.Record(ctx, act.Act{Kind: act.Activate, By: revision.By, About: about.Thing{Type: about.Settings, Key: strconv.Itoa(revision.Revision)},
		Before: activation{Revision: active.Revision}, After: activation{revision.Revision, settings.Diff(active.Document, revision.Document), unmet}, Note: revision.Note})
}

// Compare tells in what two documents differ; each is the number of a revision
// or "draft".
func (e *Setup) Compare(ctx context.Context, from, to string) (wire.Comparison, error) {
	one := func(name string) (settings.Document, error) {
		if name == "draft" {
			return e.Document(ctx, true)
		}
		number, err := strconv.Atoi(name)
		if err != nil {
			return settings.Document{}, problem.New(problem.BadInput, "%q is neither the number of a revision nor draft.", name)
		}
		r, err := e.Revision(ctx, number)
		return r.Document, err
	}
	before, err := one(from)
	after, err2 := one(to)
	if err := errors.Join(err, err2); err != nil {
		return wire.Comparison{}, err
	}
	return wire.Comparison{From: from, To: to, Differences: settings.Diff(before, after)}, nil
}

// Revision returns one revision.
func (e *Setup) Revision(ctx context.Context, number int) (store.Revision, error) {
	r, err := e.store.Settings.Revision(ctx, number)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no revision %d.", number)
	}
	return r, err
}

// Impact asks for a rehearsal of the draft.
func (e *Setup) Impact(ctx context.Context, by string) (int64, error) {
	draft, _, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return 0, err
	}
	if draft.Version == 0 {
		if len(draft.Document.Directories) == 0 {
			return 0, problem.New(problem.NotFound, "there is no draft yet: begin with a directory, 'kambrel directory add NAME --dialect ad --base DC=...'.")
		}
		return 0, problem.New(problem.NotFound, "there is no draft: there is nothing to activate. 'kambrel forecast' shows what the active settings would do.")
	}
	if err := e.valid(ctx, draft.Document); err != nil {
		return 0, err
	}
	return e.store.Runs.New(ctx, store.Run{Purpose: purpose.Impact, Draft: draft.Version, By: by, Document: &draft.Document}, false)
}

// Look asks for a reading of the directories of the draft, or of the active
// settings where there is no draft, with all that surveys and filters need.
func (e *Setup) Look(ctx context.Context, by string) (int64, error) {
	draft, _, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return 0, err
	}
	if len(draft.Document.Directories) == 0 {
		return 0, problem.New(problem.NoSettings, "there is no directory to read.")
	}
	return e.store.Runs.New(ctx, store.Run{Purpose: purpose.Look, Draft: draft.Version, Revision: draft.Base, By: by, Document: &draft.Document}, false)
}

// Survey asks for a survey by the active settings or by the draft.
func (e *Setup) Survey(ctx context.Context, by string, draft bool) (int64, error) {
	run := store.Run{Purpose: purpose.Survey, By: by}
	document, err := e.Document(ctx, draft)
	if err != nil {
		return 0, err
	}
	if err := e.valid(ctx, document); err != nil {
		return 0, err
	}
	current, active, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return 0, err
	}
	run.Revision, run.Document = active.Revision, &document
	if draft {
		run.Draft = current.Version
	}
	return e.store.Runs.New(ctx, run, false)
}
