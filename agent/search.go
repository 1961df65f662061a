package agent

import (
	"context"

	"kambrel.example/kambrel/protocol/orders"
)

// search asks the directory which entries fit a filter.
func search(ctx context.Context, w work) (orders.Done, error) {
	session, err := w.open(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	return orders.Done{}, session.Search(ctx, w.order.Dialect, w.order.Base, w.order.Search.Filter, w.order.Search.Most, w.item)
}
