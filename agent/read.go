package agent

import (
	"context"
	"log/slog"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// read streams all entries, or what changed since the cookie.
func read(ctx context.Context, w work) (orders.Done, error) {
	session, err := w.open(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	asked := w.order.Read
	request := directory.Request{Dialect: w.order.Dialect, Base: w.order.Base, Attributes: asked.Attributes, Cookie: asked.Cookie, Expected: asked.Expected, Hidden: asked.Hidden}
	if asked.Schema {
		if schema := session.Schema(asked.Attributes); len(schema) > 0 {
			if err := w.lines.write(orders.Line{Schema: schema}); err != nil {
				return orders.Done{}, err
			}
		}
	}
	result, err := session.Read(ctx, request, w.item)
	if err == nil && asked.Check != nil && directory.Tracked(request.Dialect, result.Cookie) {
		result, err = crossCheck(ctx, w, session, request, result)
	}
	return orders.Done{Cookie: result.Cookie, Complete: result.Complete}, err
}

// crossCheck sends what the directory should have told by now. What changes meanwhile is
// read once more, so that nobody takes it for missed.
func crossCheck(ctx context.Context, w work, session *directory.Session, request directory.Request, before directory.Result) (directory.Result, error) {
	if err := w.lines.write(orders.Line{Check: orders.CheckBegins}); err != nil {
		return before, err
	}
	err := session.CrossCheck(ctx, request, *w.order.Read.Check, w.item)
	if problem.CodeOf(err) == problem.DirectoryRefused { // what was read is good without it
		slog.Warn("the directory refuses the comparison", logkey.Directory, w.order.Directory, logkey.Error, err)
		return before, nil
	}
	if err != nil {
		return before, err
	}
	if err := w.lines.write(orders.Line{Check: orders.CheckEnds}); err != nil {
		return before, err
	}
	request.Cookie, request.Hidden = before.Cookie, nil
	after, err := session.Read(ctx, request, w.item)
	after.Complete = after.Complete || before.Complete
	return after, err
}
