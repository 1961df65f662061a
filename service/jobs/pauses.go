package jobs

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/service/store"
)

// longestPause is for how long at most a pause can be set that ends by itself.
const longestPause = 366 * 24 * time.Hour

// Pause stops a part of the work, or all of it. A run that is under way ends where it is,
// as far as it concerns it.
func (e *Jobs) Pause(ctx context.Context, p pause.Pause) error {
	p.Reason = strings.TrimSpace(p.Reason)
	switch {
	case p.Reason == "":
		return problem.New(problem.BadInput, "say why, for those who find it paused.")
	case p.Until != nil && !p.Until.After(time.Now()):
		return problem.New(problem.BadInput, "until %s: that is over. Give a time to come, or none for a pause that somebody ends.", p.Until.UTC().Format(time.RFC3339))
	case p.Until != nil && time.Until(*p.Until) > longestPause:
		return problem.New(problem.BadInput, "until %s: a year at most. Give no time for a pause that somebody ends.", p.Until.UTC().Format(time.RFC3339))
	}
	if err := e.notShadow(p.Of); err != nil {
		return err
	}
	return e.look(ctx, e.store.Tx(ctx, func(tx *store.Store) error {
		if err := known(ctx, tx, p); err != nil {
			return err
		}
		before, err := tx.Pauses.Now(ctx)
		if err != nil {
			return err
		}
		if err := tx.Pauses.Set(ctx, p); err != nil {
			return fmt.Errorf("pause %s: %w", p.What(), err)
		}
		done := act.Act{Kind: act.Pause, By: p.By, About: p.About(), Note: p.Reason, After: paused{p.Of, p.Until}}
		for _, one := range before {
			if one.Of == p.Of && one.Directory == p.Directory {
				done.Before = paused{one.Of, one.Until}
			}
		}
		return tx.Acts.Record(ctx, done)
	}))
}

// look lets what is paused or goes on be a problem or none at once.
func (e *Jobs) look(ctx context.Context, err error) error {
	if err == nil && e.watch != nil {
		if err := e.watch(ctx); err != nil {
			slog.Warn("look how things stand", logkey.Error, err)
		}
	}
	return err
}

func known(ctx context.Context, tx *store.Store, p pause.Pause) error {
	if p.Of != pause.Directory {
		if p.Directory != "" {
			return problem.New(problem.BadInput, "directory %q: only a pause of one directory names it.", p.Directory)
		}
		return nil
	}
	active, _, err := tx.Settings.Active(ctx)
	if err != nil {
		return err
	}
	if _, is := active.Document.Directory(p.Directory); is {
		return nil
	}
	var names []string
	for _, d := range active.Document.Directories {
		names = append(names, d.Name)
	}
	return problem.New(problem.NotFound, "the active settings name no directory %q; they name: %s.", p.Directory, strings.Join(names, ", "))
}

// Resume ends a pause, and asks for a run that takes up what has changed meanwhile.
func (e *Jobs) Resume(ctx context.Context, of pause.Of, directory, by string) error {
	if err := e.notShadow(of); err != nil {
		return err
	}
	return e.look(ctx, e.store.Tx(ctx, func(tx *store.Store) error {
		if err := rehearsed(ctx, tx, of); err != nil {
			return err
		}
		ended, err := tx.Pauses.End(ctx, of, directory)
		if err == nil && len(ended) == 0 {
			err = problem.New(problem.NotFound, "that is not paused; 'kambrel pause list' tells what is.")
		}
		if err != nil {
			return err
		}
		return resumed(ctx, tx, ended, by, "")
	}))
}

// restored is the pause of records that were brought back from a backup, while it holds.
func restored(ctx context.Context, tx *store.Store) (pause.Pause, bool, error) {
	all, err := tx.Pauses.Now(ctx)
	at := slices.IndexFunc(all, func(p pause.Pause) bool { return p.Of == pause.Everything && p.By == store.ByRestore })
	if err != nil || at < 0 {
		return pause.Pause{}, false, err
	}
	return all[at], true, nil
}

// rehearsed refuses to let go on what was brought back from a backup before a rehearsal has
// shown what that would do.
func rehearsed(ctx context.Context, tx *store.Store, of pause.Of) error {
	p, is, err := restored(ctx, tx)
	if err != nil || !is || of != pause.Everything {
		return err
	}
	if _, ok, err := tx.Settings.Active(ctx); err != nil || !ok { // there is nothing to rehearse
		return err
	}
	id, state, err := tx.Runs.Rehearsal(ctx, p.Since)
	switch {
	case err != nil:
		return err
	case id == 0:
		return problem.New(problem.BadInput, "the records are those of a backup, and nobody knows yet what they would do now: 'kambrel rehearse' first, and look at it.")
	case !state.Ended():
		return problem.New(problem.BadInput, "the records are those of a backup, and rehearsal %d, which shows what they would do now, is under way: 'kambrel runs show %d', then resume.", id, id)
	}
	return nil
}

// rehearseRestored asks for the rehearsal of records that were brought back.
func (e *Jobs) rehearseRestored(ctx context.Context) error {
	return e.store.Tx(ctx, func(tx *store.Store) error {
		p, is, err := restored(ctx, tx)
		if err != nil || !is {
			return err
		}
		if id, _, err := tx.Runs.Rehearsal(ctx, p.Since); err != nil || id != 0 {
			return err
		}
		_, err = Request(ctx, tx, store.Run{Purpose: purpose.Rehearsal, By: store.ByRestore})
		if problem.CodeOf(err) == problem.NoSettings {
			return nil
		}
		return err
	})
}

// notShadow refuses to change the pause of everything by which a shadow writes nothing.
func (e *Jobs) notShadow(of pause.Of) error {
	if of == pause.Everything && e.store.IsShadow() {
		return problem.New(problem.BadInput, "this service is a shadow, which writes nothing: start it without --shadow first, when no other writes for the same people any more.")
	}
	return nil
}

// endPauses ends the pauses whose time has come.
func (e *Jobs) endPauses(ctx context.Context) error {
	return e.store.Tx(ctx, func(tx *store.Store) error {
		ended, err := tx.Pauses.End(ctx, "", "")
		if err != nil || len(ended) == 0 {
			return err
		}
		return resumed(ctx, tx, ended, scheduledBy, "its time had come")
	})
}

func resumed(ctx context.Context, tx *store.Store, ended pause.All, by, note string) error {
	for _, p := range ended {
		if err := tx.Acts.Record(ctx, act.Act{Kind: act.Resume, By: by, About: p.About(), Note: note, Before: paused{p.Of, p.Until}}); err != nil {
			return err
		}
	}
	// Where runs are started by hand only, they still are.
	revision, ok, err := tx.Settings.Active(ctx)
	if err != nil || !ok {
		return err
	}
	if schedule := revision.Document.Schedule; !schedule.IsLive() && schedule.Interval() == 0 || !schedule.Within(time.Now()) {
		return nil
	}
	_, err = tx.Runs.AskOnce(ctx, store.Run{Purpose: purpose.Sync, By: by, Revision: revision.Revision})
	return err
}

// paused is a pause, as an act notes it.
type paused struct {
	Of    pause.Of   `json:"of"`
	Until *time.Time `json:"until,omitempty"`
}

// mayBegin refuses a run that writes, and that somebody asks for, while everything is paused.
func mayBegin(ctx context.Context, tx *store.Store, why purpose.Purpose) error {
	if !why.Writes() {
		return nil
	}
	return tx.Pauses.Allow(ctx, pause.All.Runs)
}

// mayDo refuses what puts back, lets through or brings in step something certain, and would
// find nothing to do while the cloud is paused, and be over.
func mayDo(ctx context.Context, tx *store.Store, why purpose.Purpose) error {
	switch why {
	case purpose.Release, purpose.Undo, purpose.Single:
		return tx.Pauses.Allow(ctx, pause.All.ToCloud)
	}
	return nil
}
