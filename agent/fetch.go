package agent

import (
	"context"

	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// fetch looks for the entries of a name.
func fetch(ctx context.Context, w work) (orders.Done, error) {
	session, err := w.open(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	asked := w.order.Fetch
	return orders.Done{}, session.Fetch(ctx, directory.Request{Dialect: w.order.Dialect, Base: w.order.Base, Attributes: asked.Attributes}, asked.Find, w.item)
}
