package engine

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// ask gives an order that belongs to no run and waits for its end.
func (e *Engine) ask(ctx context.Context, request wire.Order) (store.Order, error) {
	order := store.Order{Directory: request.Directory, Request: request}
	if err := e.store.AddOrder(ctx, &order); err != nil {
		return order, err
	}
	return e.await(ctx, order, func(store.Order) error { return nil })
}

// await waits until an agent has carried an order out, and shows its progress.
func (e *Engine) await(ctx context.Context, order store.Order, progress func(store.Order) error) (store.Order, error) {
	events, stop := e.hub.subscribe()
	defer stop()
	alone := time.Now() // since when no agent works at it
	for {
		order, err := e.store.Order(ctx, order.ID)
		if err != nil {
			return order, err
		}
		if err := progress(order); err != nil {
			return order, err
		}
		switch {
		case order.State == "done":
			return order, nil
		case order.State == "failed":
			return order, problem.New(problem.Code(order.FailureCode), "directory %s: %s", order.Directory, order.FailureDetail)
		case order.State == "leased" && order.LeaseUntil != nil && time.Now().Before(*order.LeaseUntil):
			alone = time.Now()
		case time.Since(alone) > e.options.AgentPatience:
			return order, e.noAgent(ctx, order)
		}
		select {
		case <-ctx.Done():
			return order, ctx.Err()
		case <-events:
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// noAgent ends an order that nobody takes, and says who could have.
func (e *Engine) noAgent(ctx context.Context, order store.Order) error {
	agents, err := e.store.Agents(ctx)
	if err != nil {
		return err
	}
	failure := problem.New(problem.DirectoryNotServed, "directory %s", order.Directory)
	for _, agent := range agents {
		if slices.Contains(agent.Serves(), order.Directory) {
			last := "never"
			if agent.LastContact != nil {
				last = agent.LastContact.Format(time.RFC3339)
			}
			failure = problem.New(problem.AgentOffline, "directory %s: agent %s was last heard of %s", order.Directory, agent.Name, last)
		}
	}
	if err := e.store.EndOrder(ctx, order.ID, string(failure.Code), failure.Detail, order.Counts); err != nil {
		return err
	}
	return failure
}
