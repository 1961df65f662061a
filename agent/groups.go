package agent

import (
	"context"

	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

func placeOf(order orders.Order, asked orders.Groups) directory.GroupPlace {
	return directory.GroupPlace{Dialect: order.Dialect, Base: order.Base, Container: asked.Container, Mark: asked.Mark, Class: asked.Class, Member: asked.Member, Attributes: asked.Attributes}
}

// groups writes one group after the other; what the directory refuses is told and the rest
// goes on, but for a directory that is away or has no such container.
func groups(ctx context.Context, w work) (orders.Done, error) {
	session, err := w.open(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	asked := w.order.Groups
	place := placeOf(w.order, *asked)
	if err := session.FindContainer(place); err != nil {
		return orders.Done{}, err
	}
	for _, c := range asked.Changes {
		result, err := session.WriteGroup(ctx, place, directory.GroupChange{Make: c.Operation == orders.GroupMake, Delete: c.Operation == orders.GroupDelete, Group: c.Group, ID: c.EntryID,
			DN: c.DN, Values: c.Values, Placeholder: c.Placeholder, Add: c.Add, Remove: c.Remove, Drift: c.Drift})
		if err != nil {
			return orders.Done{}, err
		}
		line := orders.GroupWritten{Number: c.Number, Entry: result.Entry, DN: result.DN, SID: result.SID, By: result.By, At: result.At}
		if p := result.Refusal; p != nil {
			line.Code, line.Detail = string(p.Code), p.Detail
		}
		for _, r := range result.Refused {
			line.Refused = append(line.Refused, orders.RefusedMember{DN: r.DN, Code: string(r.Refusal.Code), Detail: r.Refusal.Detail})
		}
		if err := w.lines.write(orders.Line{Group: &line}); err != nil {
			return orders.Done{}, err
		}
	}
	return orders.Done{}, nil
}
