package orders

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// entriesAtOnce is how many entries are kept in one go.
const entriesAtOnce = 1000

// entriesTaker keeps entries in the source mirror as they come.
type entriesTaker struct {
	*ingestion
	source  store.Source
	entries []*entry.Entry
	gone    []entry.ID
}

func (i *entriesTaker) line(line protocol.Line) (belongs, full bool, err error) {
	switch {
	case line.Entry != nil:
		if err := i.admit(line.Entry); err != nil {
			return true, false, err
		}
		i.entries = append(i.entries, line.Entry)
		if line.Entry.Kind != entry.Container {
			i.counts.Read++
		}
	case line.Gone != nil:
		i.gone = append(i.gone, *line.Gone)
	default:
		return false, false, nil
	}
	return true, len(i.entries)+len(i.gone) >= entriesAtOnce, nil
}

// admit refuses what the agent was not asked about: only what lies beneath the
// directory's base may come from it.
func (i *entriesTaker) admit(e *entry.Entry) error {
	beneath, err := i.beneath(e.DN)
	if err != nil {
		return err
	}
	if !beneath {
		return problem.New(problem.EntryOutsideBase, "%s is not beneath %s", e.DN, i.order.Request.Base)
	}
	if e.Kind != entry.Container && !slices.Contains(entry.Kinds, e.Kind) {
		return problem.New(problem.AgentMessageMalformed, "order %d: %s is of the kind %q", i.order.ID, e.DN, e.Kind)
	}
	e.Directory, e.Gone, e.Fault = i.order.Directory, false, ""
	return nil
}

// storeEntries keeps a batch. When the database cannot take it, each entry is
// kept by itself, and those that it cannot take with a fault instead of values.
func (i *entriesTaker) storeEntries(ctx context.Context, s *store.Store) (store.Stored, error) {
	keep := func(entries []*entry.Entry) (stored store.Stored, err error) {
		err = s.Tx(ctx, func(tx *store.Store) error {
			stored, err = tx.Entries.Store(ctx, i.source, entries)
			return err
		})
		return stored, err
	}
	stored, err := keep(i.entries)
	if store.Refused(err) == "" {
		return stored, err
	}
	stored = store.Stored{}
	for _, e := range i.entries {
		one, err := keep([]*entry.Entry{e})
		if state := store.Refused(err); state != "" {
			empty := entry.Entry{Directory: e.Directory, ID: e.ID, Kind: e.Kind, DN: e.DN, Fault: "the database does not take a value of it (SQLSTATE " + state + ")"}
			one, err = keep([]*entry.Entry{&empty})
		}
		if err != nil {
			return stored, err
		}
		stored.Added, stored.Changed = stored.Added+one.Added, stored.Changed+one.Changed
	}
	return stored, nil
}

// fill gives the entries that have come what they had of attributes that cannot be seen.
func (i *entriesTaker) fill(ctx context.Context, s *store.Store, hidden []string) (err error) {
	if len(hidden) > 0 {
		i.entries, err = s.Entries.WithHidden(ctx, i.order.Directory, hidden, i.entries)
	}
	return err
}

func (i *entriesTaker) keep(ctx context.Context, s *store.Store) error {
	if len(i.entries) > 0 {
		stored, err := i.storeEntries(ctx, s)
		if err != nil {
			return err
		}
		i.counts.Changed += stored.Added + stored.Changed
		i.entries = i.entries[:0]
	}
	if len(i.gone) > 0 {
		n, err := s.Entries.MarkGone(ctx, i.order.Directory, i.gone)
		if err != nil {
			return err
		}
		i.counts.Gone += n
		i.gone = i.gone[:0]
	}
	return nil
}
