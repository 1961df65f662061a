package orders

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// readTaker keeps what a read brings: entries, and of a whole read who is there.
type readTaker struct {
	entriesTaker
	asked *protocol.Read
	seen  map[entry.ID]struct{}
	whole bool           // everything is read, not only what changed
	have  map[string]int // of a whole read: how many entries have each attribute
	// hidden are attributes that entries keep as they were, since they cannot be seen.
	hidden []string
	// Of a cross-check: whether it goes on, who is there, and how many changes were not
	// told before.
	checking, checked bool
	there             map[entry.ID]struct{}
	missed            int
	schema            entry.Schema // how the directory compares values, where it told
}

func newReadTaker(i *ingestion) taker {
	asked := i.order.Request.Read
	return &readTaker{
		entriesTaker: entriesTaker{ingestion: i, source: sourceOf(i.order, asked.Pointers)},
		asked:        asked, seen: map[entry.ID]struct{}{}, whole: len(asked.Cookie) == 0, have: map[string]int{},
	}
}

// sourceOf says where entries come from. Only outside of the dialect ad do members
// stay the names that the group has.
func sourceOf(order store.Order, pointers []string) store.Source {
	return store.Source{Directory: order.Directory, Pointers: pointers, ByName: order.Request.Dialect != entry.AD}
}

func (r *readTaker) line(line protocol.Line) (belongs, full bool, err error) {
	switch {
	case line.Schema != nil && r.asked.Schema:
		r.schema = line.Schema
		return true, false, nil
	case line.Schema != nil:
		return false, false, nil
	case line.Check == protocol.CheckBegins && r.asked.Check != nil && r.there == nil:
		r.there = map[entry.ID]struct{}{} // what came before is kept by itself
		return true, true, nil
	case line.Check == protocol.CheckEnds && r.there != nil:
		r.checked = true
		return true, true, nil
	case line.Check != "":
		return false, false, nil
	case len(line.Present) > 0 && r.checking:
		for _, id := range line.Present {
			r.there[id] = struct{}{}
		}
		return true, false, nil
	case line.Restart:
		clear(r.seen)
		clear(r.have)
		r.whole = true
		return true, false, nil
	case line.Hidden != "":
		if !slices.Contains(r.asked.Expected, line.Hidden) && !slices.Contains(r.asked.Hidden, line.Hidden) {
			return true, false, problem.New(problem.AgentMessageMalformed, "order %d: nobody has asked for %q", r.order.ID, line.Hidden)
		}
		if !slices.Contains(r.hidden, line.Hidden) {
			r.hidden = append(r.hidden, line.Hidden)
		}
		return true, false, nil
	case len(line.Present) > 0:
		for _, id := range line.Present {
			r.seen[id] = struct{}{}
		}
		return true, false, nil
	case line.Gone != nil:
		delete(r.seen, *line.Gone)
	case line.Entry != nil:
		r.seen[line.Entry.ID] = struct{}{}
	}
	return r.entriesTaker.line(line)
}

// keep counts who has what, once it is known what cannot be seen.
func (r *readTaker) keep(ctx context.Context, s *store.Store) error {
	if err := r.fill(ctx, s, r.hidden); err != nil {
		return err
	}
	for _, e := range r.entries {
		if !r.whole || e.Kind == entry.Container {
			continue
		}
		for name := range e.Attributes {
			r.have[name]++
		}
		if len(e.Members) > 0 {
			r.have[entry.MemberAttribute]++
		}
	}
	changed := r.counts.Changed
	if err := r.entriesTaker.keep(ctx, s); err != nil {
		return err
	}
	if r.checking {
		r.missed += r.counts.Changed - changed
	}
	r.checking = r.there != nil && !r.checked
	return nil
}

// unknownAgain is after how long everything is read again for entries that are there and not
// known.
const unknownAgain = 10 * time.Minute

// settle is the state of a directory after the read, as far as its changes are told: what
// was missed makes the next read one of everything. Of unknown entries the directory says
// that they are still there, and the mirror does not have them.
func (r *readTaker) settle(ctx context.Context, tx *store.Store, before store.DirectoryState, cookie []byte, unknown int) (store.DirectoryState, error) {
	now := time.Now()
	state := store.DirectoryState{Cookie: cookie, Checked: before.Checked, Missed: before.Missed, MissedAt: before.MissedAt, Schema: before.Schema}
	if r.schema != nil {
		state.Schema = r.schema
	}
	if r.whole || r.there != nil { // also one that the directory has refused is tried again later
		state.Checked = &now
	}
	missed := 0
	// They were out of sight for a while, of which no change will tell. What is never known, as
	// of another kind, must not have everything read each time.
	if !r.whole && (before.MissedAt == nil || now.Sub(*before.MissedAt) > unknownAgain) {
		missed = unknown
	}
	if r.checked {
		lost, err := tx.Entries.CountUnseen(ctx, r.order.Directory, r.there)
		if err != nil {
			return state, err
		}
		missed += r.missed + lost
	}
	if missed > 0 {
		state.Cookie, state.Missed, state.MissedAt = nil, missed, &now
	}
	return state, nil
}

// done keeps the cookie together with what it covers.
func (r *readTaker) done(ctx context.Context, tx *store.Store, done protocol.Done) error {
	directory := r.order.Directory
	if err := tx.Entries.ResolveMembers(ctx, directory); err != nil {
		return err
	}
	before, err := tx.Entries.StateOf(ctx, directory)
	if err != nil {
		return err
	}
	unknown := 0
	if done.Complete {
		var n int
		n, unknown, err = tx.Entries.MarkGoneExcept(ctx, directory, r.seen, before.Base != r.order.Request.Base)
		if err != nil {
			return err
		}
		r.counts.Gone += n
	}
	expected, absent := []string(before.Expected), []string(before.Absent)
	if r.whole {
		expected = nil
		for name, n := range r.have {
			if n >= store.Fewest {
				expected = append(expected, name)
			}
		}
		slices.Sort(expected)
		absent = slices.DeleteFunc(slices.Clone(absent), func(name string) bool { return slices.Contains(expected, name) })
	}
	slices.Sort(r.hidden)
	for _, name := range r.hidden { // of a group that was not sent, say
		if !slices.Contains(expected, name) {
			expected = append(expected, name)
		}
	}
	state, err := r.settle(ctx, tx, before, done.Cookie, unknown)
	if err != nil {
		return err
	}
	state.Expected, state.Hidden, state.Absent = expected, r.hidden, absent
	state.Directory, state.Base, state.Attributes, state.Pointers, state.Read = directory, r.order.Request.Base, r.asked.Attributes, r.asked.Pointers, time.Now()
	return tx.Entries.SaveState(ctx, state)
}
