package acts

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/undo"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

const (
	undoBatch      = 500
	mostUndoItems  = 500
	mostUndoReason = 20
)

// Undo tells what of a run can be put back, and with Do puts it back: what goes back is
// pinned, what was linked or untied is decided, and a run carries it out, all in one
// transaction. Nothing is written to the cloud from here.
func (e *Acts) Undo(ctx context.Context, by string, id int64, in wire.NewUndo) (wire.Undo, error) {
	u := &undoing{Acts: e, by: by, in: in, view: wire.Undo{RunID: id, Items: []wire.UndoItem{}, Reasons: []wire.UndoReason{}}, reasons: map[string]int{}}
	var err error
	if u.run, err = e.store.Runs.Get(ctx, id); store.NotFound(err) {
		return u.view, problem.New(problem.NotFound, "there is no run %d.", id)
	}
	switch {
	case err != nil:
		return u.view, err
	case !u.run.Purpose.Writes():
		return u.view, problem.New(problem.BadInput, "run %d is a %s and has written nothing.", id, u.run.Purpose)
	case !u.run.State.Ended():
		return u.view, problem.New(problem.BadInput, "run %d has not ended yet.", id)
	}
	if err := u.settings(ctx); err != nil {
		return u.view, err
	}
	if in.ReturnSettings && u.view.Settings == nil {
		return u.view, problem.New(problem.BadInput, "no run before %d worked by other settings than those that are active: there is nothing to return to.", id)
	}
	if in.Do {
		err = e.store.Tx(ctx, func(tx *store.Store) error { return u.do(ctx, tx) })
	} else {
		err = u.gather(ctx, e.store)
	}
	return u.view, err
}

// undoing is an undo on its way.
type undoing struct {
	*Acts
	by      string
	in      wire.NewUndo
	run     store.Run
	judge   *judging.Judge
	view    wire.Undo
	cannot  []wire.UndoItem
	reasons map[string]int
	last    int64 // of the changes looked at
}

// settings tells by what runs worked before. Of an undo it does not: what that has put back
// was not by settings.
func (u *undoing) settings(ctx context.Context) error {
	if u.run.Purpose == purpose.Undo {
		return nil
	}
	before, err := u.store.Runs.RevisionBefore(ctx, u.run)
	if err != nil || before == 0 {
		return err
	}
	active, ok, err := u.store.Settings.Active(ctx)
	if err != nil || !ok {
		return err
	}
	old, err := u.setup.Revision(ctx, before)
	if err != nil {
		return err
	}
	if differences := settings.Diff(old.Document, active.Document); len(differences) > 0 {
		u.view.Settings = &wire.UndoSettings{Before: before, Active: active.Revision, By: active.By, Note: active.Note, Differences: len(differences)}
	}
	return nil
}

// do puts back what can be.
func (u *undoing) do(ctx context.Context, tx *store.Store) error {
	if u.in.ReturnSettings {
		if _, err := u.setup.Return(ctx, tx, u.view.Settings.Before, u.by, fmt.Sprintf("return to revision %d, with the undo of run %d", u.view.Settings.Before, u.run.ID)); err != nil {
			return err
		}
	}
	if err := u.gather(ctx, tx); err != nil {
		return err
	}
	if u.view.Back == 0 && !u.in.ReturnSettings {
		return problem.New(problem.BadInput, "nothing of run %d can be put back: %d things are as they were already, %d cannot go back.", u.run.ID, u.view.Already, u.view.Cannot)
	}
	next, err := jobs.Request(ctx, tx, store.Run{Purpose: purpose.Undo, Undoes: u.run.ID, By: u.by})
	if err != nil {
		return err
	}
	u.view.NextRun, u.view.Done = next, true
	return tx.Acts.Record(ctx, act.Act{Kind: act.UndoRun, By: u.by, About: about.Thing{Type: about.Run, Key: strconv.FormatInt(u.run.ID, 10)},
		After: undone{RunID: next, Back: u.view.Back, Already: u.view.Already, Cannot: u.view.Cannot, Changes: u.in.Changes, ReturnedTo: u.returned()}})
}

func (u *undoing) returned() int {
	if !u.in.ReturnSettings {
		return 0
	}
	return u.view.Settings.Before
}

// undone is what an undo came to, as an act notes it.
type undone struct {
	RunID      int64   `json:"runId"`
	Back       int     `json:"back"`
	Already    int     `json:"already,omitempty"`
	Cannot     int     `json:"cannot,omitempty"`
	Changes    []int64 `json:"changes,omitempty"`
	ReturnedTo int     `json:"returnedTo,omitempty"`
}

// gather looks at all changes of the run, and where it is to be done keeps what goes back.
func (u *undoing) gather(ctx context.Context, tx *store.Store) error {
	var err error
	if u.judge, err = u.judging.Judge(ctx); err != nil {
		return err
	}
	for {
		changes, err := tx.Changes.Done(ctx, u.run.ID, u.last, undoBatch)
		if err != nil {
			return err
		}
		if len(changes) == 0 {
			break
		}
		u.last = changes[len(changes)-1].ID
		if len(u.in.Changes) > 0 {
			changes = slices.DeleteFunc(changes, func(c store.Change) bool { return !slices.Contains(u.in.Changes, c.ID) })
		}
		if err := u.batch(ctx, tx, changes); err != nil {
			return err
		}
	}
	u.view.Items = append(u.view.Items, u.cannot[:min(len(u.cannot), mostUndoItems-len(u.view.Items))]...)
	for _, why := range slices.SortedFunc(maps.Keys(u.reasons), func(a, b string) int { return cmp.Or(u.reasons[b]-u.reasons[a], strings.Compare(a, b)) }) {
		if len(u.view.Reasons) < mostUndoReason {
			u.view.Reasons = append(u.view.Reasons, wire.UndoReason{Why: why, Count: u.reasons[why]})
		}
	}
	return nil
}

// batch looks at some changes of the run.
func (u *undoing) batch(ctx context.Context, tx *store.Store, changes []store.Change) error {
	states, err := u.states(ctx, tx, changes)
	if err != nil {
		return err
	}
	var pins []store.NewPin
	for i, c := range changes {
		items := []undo.Item{{Target: undo.Presence, Outcome: undo.Cannot, Why: "it was written to a directory, which follows the cloud: undo it there"}}
		if c.Side == change.Cloud {
			items = undo.Of(plan.Operation(c.Operation), c.Diffs, states[i])
		}
		for _, item := range items {
			u.note(c, item)
			if item.Outcome != undo.Back || !u.in.Do {
				continue
			}
			if item.Pin != nil {
				pin := *item.Pin
				pin.Run, pin.By = u.run.ID, u.by
				pins = append(pins, store.NewPin{Ref: c.Ref(), Pin: pin, Name: item.Member.Name})
			}
			if item.Choice != nil {
				choice := *item.Choice
				choice.By = u.by
				if err := tx.Choices.Keep(ctx, c.Ref(), choice); err != nil {
					return err
				}
			}
		}
	}
	return tx.Pins.Add(ctx, pins)
}

// note counts an item and shows it.
func (u *undoing) note(c store.Change, item undo.Item) {
	view := wire.UndoItem{
		ChangeID: c.ID, Operation: c.Operation, Kind: string(c.Kind), Directory: c.Directory, EntryID: c.EntryID, DN: c.DN, Name: c.Name,
		Target: item.Target, Now: item.Now, Was: item.Was, Outcome: string(item.Outcome), Why: item.Why,
	}
	if item.Member.Value != "" {
		view.Member = &item.Member
	}
	switch item.Outcome {
	case undo.Back:
		u.view.Back++
		if len(u.view.Items) < mostUndoItems {
			u.view.Items = append(u.view.Items, view)
		}
	case undo.Already:
		u.view.Already++
	default:
		u.view.Cannot++
		u.reasons[item.Why]++
		if len(u.cannot) < mostUndoItems {
			u.cannot = append(u.cannot, view)
		}
	}
}

// states tells how things stand around changes.
func (u *undoing) states(ctx context.Context, tx *store.Store, changes []store.Change) ([]undo.State, error) {
	refs := make([]entry.Ref, len(changes))
	for i, c := range changes {
		refs[i] = c.Ref()
	}
	cases, err := tx.Cases.Of(ctx, refs)
	if err != nil {
		return nil, err
	}
	of := map[entry.Ref]decide.Case{}
	for _, one := range cases {
		of[one.Entry.Ref()] = one
	}
	since, err := tx.Changes.Since(ctx, u.run.ID, refs)
	if err != nil {
		return nil, err
	}
	later := map[entry.Ref]map[string]int64{}
	for _, c := range since {
		if later[c.Ref()] == nil {
			later[c.Ref()] = map[string]int64{}
		}
		for _, diff := range c.Diffs {
			later[c.Ref()][undo.Key(diff.Target, "")] = c.RunID
		}
	}
	states := make([]undo.State, len(changes))
	for i, c := range changes {
		if states[i], err = u.state(ctx, tx, c, of, later[c.Ref()]); err != nil {
			return nil, fmt.Errorf("look how %s stands: %w", c.DN, err)
		}
	}
	return states, nil
}

func (u *undoing) state(ctx context.Context, tx *store.Store, c store.Change, of map[entry.Ref]decide.Case, later map[string]int64) (undo.State, error) {
	one, known := of[c.Ref()]
	s := undo.State{Known: known, Gone: one.Entry.Gone, Link: one.Link, Resource: one.Resource, Leavers: u.judge.Settings.Of(c.Kind).Leavers, Later: later}
	if c.Side != change.Cloud || !known || c.ResourceID == "" {
		return s, nil
	}
	if one.Link == nil || one.Link.ResourceID != c.ResourceID {
		resource, err := tx.Resources.Get(ctx, c.ResourceID)
		if err != nil && !store.NotFound(err) {
			return s, err
		}
		s.Resource = resource
		owner, err := tx.Links.EntryOf(ctx, c.ResourceID)
		if err == nil && owner != c.Ref() {
			other, err := tx.Entries.Get(ctx, owner.Directory, owner.ID)
			if err != nil && !store.NotFound(err) {
				return s, err
			}
			s.Owner = cmp.Or(other.DN, owner.String())
		} else if err != nil && !store.NotFound(err) {
			return s, err
		}
	}
	var members []string
	for _, diff := range c.Diffs {
		if strings.EqualFold(diff.Target, rules.Members) {
			for _, m := range slices.Concat(diff.Added, diff.Removed) {
				members = append(members, m.Value)
			}
		}
	}
	if len(members) > 0 {
		var err error
		if s.Members, err = tx.Resources.MembersAmong(ctx, c.ResourceID, members); err != nil {
			return s, err
		}
		if s.Exists, err = tx.Resources.There(ctx, members); err != nil {
			return s, err
		}
	}
	taken, err := u.taken(ctx, tx, c)
	s.Taken = func(target string, value any) string { return taken[undo.Key(target, fmt.Sprint(value))] }
	return s, err
}

// taken tells who has what a change has taken away and only one may have.
func (u *undoing) taken(ctx context.Context, tx *store.Store, c store.Change) (map[string]string, error) {
	taken := map[string]string{}
	for _, diff := range c.Diffs {
		path, err := entry.ParsePath(diff.Target)
		value, text := diff.Before.(string)
		if err != nil || !text || value == "" || !slices.Contains(u.judge.Offer.Unique[c.Kind], path.Key()) {
			continue
		}
		holders, err := tx.Facts.Holders(ctx, []string{match.KeyText(c.Kind, path.Key(), value)})
		if err != nil {
			return nil, err
		}
		for _, list := range holders {
			for _, holder := range list {
				if holder.Resource.ID() != c.ResourceID {
					taken[undo.Key(diff.Target, value)] = holder.Resource.Name()
				}
			}
		}
	}
	return taken, nil
}

// LiftPins lets what was put back be decided again, and asks for a run that does.
func (e *Acts) LiftPins(ctx context.Context, by string, in wire.LiftPins) (int64, error) {
	var ref *entry.Ref
	if in.EntryID != "" {
		parsed, err := entry.ParseRef(in.Directory + "/" + in.EntryID)
		if err != nil {
			return 0, problem.Wrap(problem.BadInput, err, "read the entry's id")
		}
		ref = &parsed
	}
	if ref == nil && in.RunID == 0 {
		return 0, problem.New(problem.BadInput, "say which pins: those of an entry, or of a run that was undone.")
	}
	var next int64
	return next, e.store.Tx(ctx, func(tx *store.Store) error {
		lifted, err := tx.Pins.Lift(ctx, ref, in.RunID, in.Target)
		if err == nil && len(lifted) == 0 {
			err = problem.New(problem.NotFound, "nothing like that is held any more.")
		}
		if err != nil {
			return err
		}
		if next, err = jobs.Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by}); err != nil {
			return err
		}
		thing := about.Thing{Type: about.Run, Key: strconv.FormatInt(lifted[0].RunID, 10)}
		if ref != nil {
			thing = about.EntryOf(*ref)
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.LiftPins, By: by, About: thing, Before: pinsOf(lifted), After: lift{next, len(lifted)}})
	})
}

type lift struct {
	RunID  int64 `json:"runId"`
	Lifted int   `json:"lifted"`
}

// mostPinsNoted is how many pins an act names.
const mostPinsNoted = 100

// pinned is what an act notes of a pin.
type pinned struct {
	Entry   string `json:"entry"`
	Target  string `json:"target"`
	Element string `json:"element,omitempty"`
}

func pinsOf(rows []store.PinRow) []pinned {
	out := []pinned{}
	for _, row := range rows[:min(len(rows), mostPinsNoted)] {
		out = append(out, pinned{row.Directory + "/" + row.EntryID, row.Target, row.Element})
	}
	return out
}
