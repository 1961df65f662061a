package agent

import (
	"context"
	"time"

	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// probe tries the connection step by step.
func probe(ctx context.Context, w work) (orders.Done, error) {
	asked := w.order.Probe
	request := directory.ProbeRequest{Dialect: w.order.Dialect, Base: w.order.Base, Features: asked.Features, Containers: asked.Containers, Needs: asked.Needs, Expected: asked.Expected, Attributes: asked.Repairable}
	if asked.Groups != nil {
		place := placeOf(w.order, *asked.Groups)
		request.Groups = &place
	}
	for _, v := range directory.Probe(ctx, w.connection, request, time.Now) {
		verdict := orders.Verdict{Step: string(v.Step), Subject: v.Subject, Outcome: string(v.Outcome), Detail: v.Detail, Advice: v.Advice}
		if err := w.lines.write(orders.Line{Verdict: &verdict}); err != nil {
			return orders.Done{}, err
		}
	}
	return orders.Done{}, nil
}
