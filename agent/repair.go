package agent

import (
	"context"
	"errors"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// repair writes one value after the other; what the directory refuses is told and
// the rest goes on, but for a directory that is away.
func repair(ctx context.Context, w work) (orders.Done, error) {
	session, err := w.open(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	for _, v := range w.order.Repair.Values {
		err := session.Apply(ctx, w.order.Dialect, w.order.Base, directory.Repair{ID: v.EntryID, DN: v.DN, Attribute: v.Attribute, Before: v.Before, After: v.After})
		result := orders.Repaired{Number: v.Number}
		var p *problem.Error
		switch {
		case errors.As(err, &p) && p.Code != problem.DirectoryUnreachable:
			result.Code, result.Detail = string(p.Code), p.Detail
		case err != nil:
			return orders.Done{}, err
		}
		if err := w.lines.write(orders.Line{Repaired: &result}); err != nil {
			return orders.Done{}, err
		}
	}
	return orders.Done{}, nil
}
