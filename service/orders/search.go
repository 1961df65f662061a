package orders

import (
	"context"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// searchTaker keeps the ids of what was found once the search has ended.
type searchTaker struct {
	*ingestion
	found []entry.ID
}

func newSearchTaker(i *ingestion) taker { return &searchTaker{ingestion: i} }

func (s *searchTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if len(line.Present) == 0 {
		return false, false, nil
	}
	if s.found = append(s.found, line.Present...); len(s.found) > s.order.Request.Search.Most {
		return true, false, problem.New(problem.AgentMessageMalformed, "order %d: more was sent than was asked for", s.order.ID)
	}
	return true, false, nil
}

func (s *searchTaker) keep(context.Context, *store.Store) error { return nil }

func (s *searchTaker) done(ctx context.Context, tx *store.Store, _ protocol.Done) error {
	return tx.Orders.SaveFound(ctx, s.order.ID, s.found)
}
