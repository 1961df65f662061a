package orders

import (
	"context"

	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// fetchTaker keeps the entries of a name. Who else is there, or gone, a fetch cannot
// know.
type fetchTaker struct{ entriesTaker }

func newFetchTaker(i *ingestion) taker {
	return &fetchTaker{entriesTaker{ingestion: i, source: sourceOf(i.order, i.order.Request.Fetch.Pointers)}}
}

func (f *fetchTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if line.Entry == nil {
		return false, false, nil
	}
	return f.entriesTaker.line(line)
}

// keep keeps what cannot be seen of the entries as it was.
func (f *fetchTaker) keep(ctx context.Context, s *store.Store) error {
	state, err := s.Entries.StateOf(ctx, f.order.Directory)
	if err != nil {
		return err
	}
	if err := f.fill(ctx, s, state.Hidden); err != nil {
		return err
	}
	return f.entriesTaker.keep(ctx, s)
}

func (f *fetchTaker) done(ctx context.Context, tx *store.Store, _ protocol.Done) error {
	return tx.Entries.ResolveMembers(ctx, f.order.Directory)
}
