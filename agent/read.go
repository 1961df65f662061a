package agent

import (
	"context"

	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// read streams all entries, or what changed since the cookie.
func read(ctx context.Context, w work) (orders.Done, error) {
	session, err := directory.Open(ctx, w.connection)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	asked := w.order.Read
	result, err := session.Read(ctx, directory.Request{Dialect: w.order.Dialect, Base: w.order.Base, Attributes: asked.Attributes, Cookie: asked.Cookie, Expected: asked.Expected, Hidden: asked.Hidden}, w.item)
	return orders.Done{Cookie: result.Cookie, Complete: result.Complete}, err
}
