package orders

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/entry"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// readTaker keeps what a read brings: entries, and of a whole read who is there.
type readTaker struct {
	entriesTaker
	asked *protocol.Read
	seen  map[entry.ID]struct{}
}

func newReadTaker(i *ingestion) taker {
	asked := i.order.Request.Read
	return &readTaker{
		entriesTaker: entriesTaker{ingestion: i, source: sourceOf(i.order, asked.Pointers)},
		asked:        asked, seen: map[entry.ID]struct{}{},
	}
}

// sourceOf says where entries come from. Only in a standard directory do members
// stay the names that the group has.
func sourceOf(order store.Order, pointers []string) store.Source {
	return store.Source{Directory: order.Directory, Pointers: pointers, ByName: order.Request.Dialect == entry.Standard}
}

func (r *readTaker) line(line protocol.Line) (belongs, full bool, err error) {
	switch {
	case line.Restart:
		clear(r.seen)
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

// done keeps the cookie together with what it covers.
func (r *readTaker) done(ctx context.Context, tx *store.Store, done protocol.Done) error {
	directory := r.order.Directory
	if err := tx.Entries.ResolveMembers(ctx, directory); err != nil {
		return err
	}
	if done.Complete {
		n, err := tx.Entries.MarkGoneExcept(ctx, directory, r.seen)
		if err != nil {
			return err
		}
		r.counts.Gone += n
	}
	return tx.Entries.SaveState(ctx, store.DirectoryState{
		Directory: directory, Cookie: done.Cookie, Base: r.order.Request.Base, Attributes: r.asked.Attributes, Pointers: r.asked.Pointers, Read: time.Now(),
	})
}
