// Package orders is where agents get their work and bring their answers: an order
// waits, is leased, and ends done or failed. What an agent reads streams into the
// source mirror as it comes; nothing that it sends is believed beyond the directory
// that it was granted.
package orders

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/store"
)

// Orders is the desk between the service and its agents. Its methods may be called
// from many goroutines.
type Orders struct {
	store    *store.Store
	hub      *events.Hub
	patience time.Duration // how long an agent is waited for
	lease    time.Duration // how long an order stays an agent's without a word
	passOn   PassOn        // where digests go
}

// New makes a desk.
func New(s *store.Store, hub *events.Hub, patience, lease time.Duration) *Orders {
	return &Orders{store: s, hub: hub, patience: patience, lease: lease}
}

// Ask gives an order that belongs to no run and waits for its end.
func (o *Orders) Ask(ctx context.Context, request protocol.Order) (store.Order, error) {
	return o.AskOf(ctx, nil, request)
}

// AskOf is like Ask, of one agent alone unless it is nil.
func (o *Orders) AskOf(ctx context.Context, agent *string, request protocol.Order) (store.Order, error) {
	order := store.Order{Directory: request.Directory, Request: request, OnlyAgent: agent}
	if err := o.store.Orders.Add(ctx, &order); err != nil {
		return order, err
	}
	return o.Await(ctx, order, o.patience, func(store.Order) error { return nil })
}

// Patience is how long an agent is waited for.
func (o *Orders) Patience() time.Duration { return o.patience }

// Await waits until an agent has carried an order out, and shows its progress. An
// order that nobody works at for as long as patience ends.
func (o *Orders) Await(ctx context.Context, order store.Order, patience time.Duration, progress func(store.Order) error) (store.Order, error) {
	events, stop := o.hub.Subscribe()
	defer stop()
	alone := time.Now() // since when no agent works at it
	for {
		order, err := o.store.Orders.Get(ctx, order.ID)
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
		case order.State == "leased" && order.LeaseUntil != nil && o.store.Now().Before(*order.LeaseUntil):
			alone = time.Now()
		case order.Taken >= store.MostTaken:
			return order, o.giveUp(ctx, order)
		case time.Since(alone) > patience:
			return order, o.noAgent(ctx, order)
		}
		select {
		case <-ctx.Done():
			return order, ctx.Err()
		case <-events:
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// giveUp ends an order whose answer never comes to its end.
func (o *Orders) giveUp(ctx context.Context, order store.Order) error {
	failure := problem.New(problem.AgentMessageMalformed, "directory %s: the order was taken %d times, and each time the answer broke off", order.Directory, order.Taken)
	if err := o.store.Orders.End(ctx, order.ID, string(failure.Code), failure.Detail, order.Counts); err != nil {
		return err
	}
	return failure
}

// noAgent ends an order that nobody takes.
func (o *Orders) noAgent(ctx context.Context, order store.Order) error {
	failure, err := o.whyNobody(ctx, order)
	if err != nil {
		return err
	}
	if err := o.store.Orders.End(ctx, order.ID, string(failure.Code), failure.Detail, order.Counts); err != nil {
		return err
	}
	// What those have said who have tried stands before it.
	failure.Detail = "directory " + order.Directory + ": " + order.FailureDetail + failure.Detail
	return failure
}

// whyNobody says who could have taken an order, or why those do not who are there.
func (o *Orders) whyNobody(ctx context.Context, order store.Order) (*problem.Error, error) {
	if order.FailureDetail != "" {
		return problem.New(problem.Code(order.FailureCode), "no other agent took the order"), nil
	}
	agents, err := o.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	failure := problem.New(problem.DirectoryNotServed, "no agent has it in its configuration")
	for _, agent := range agents {
		if !slices.Contains(agent.Serves(), order.Directory) {
			continue
		}
		last := "never"
		if agent.LastContact != nil {
			last = agent.LastContact.Format(time.RFC3339)
		}
		failure = problem.New(problem.AgentOffline, "agent %s was last heard of %s", agent.Name, last)
		if at := slices.IndexFunc(agent.Faults, func(f store.AgentFault) bool { return f.Directory == order.Directory }); at >= 0 {
			failure = problem.New(agent.Faults[at].Code, "agent %s: %s", agent.Name, agent.Faults[at].Detail)
		}
	}
	return failure, nil
}

// Begin notes that an agent begins an order for a password now. The error order-lost says
// that it must not.
func (o *Orders) Begin(ctx context.Context, id int64, agent store.Agent) error {
	mine, err := o.store.Orders.Begin(ctx, id, agent.ID, o.lease)
	if err == nil && !mine {
		err = problem.New(problem.OrderLost, "order %d", id)
	}
	return err
}

// A lease may have lapsed, of which no event tells: how often it is looked for.
const (
	lapsedEvery = 2 * time.Second
	lapsedSoon  = 500 * time.Millisecond // somebody waits before the screen
)

// Take gives an agent the next order that it can serve, waiting for one
// until ctx ends; false says that there was none. Each lane is for other orders, so that
// two long readings never make a probe wait, and nothing a password.
func (o *Orders) Take(ctx context.Context, agent store.Agent, lane protocol.Lane) (protocol.Order, bool, error) {
	events, stop := o.hub.Subscribe()
	defer stop()
	every := lapsedEvery
	if lane == protocol.LanePasswords {
		every = lapsedSoon
	}
	// Once, and not while it waits: a connection that is gone looks like one that waits.
	if err := o.store.Agents.Touch(context.WithoutCancel(ctx), agent.ID); err != nil {
		return protocol.Order{}, false, err
	}
	for {
		// Read anew, since what it serves may change while it waits.
		agent, err := o.store.Agents.Get(context.WithoutCancel(ctx), agent.ID)
		if store.NotFound(err) {
			return protocol.Order{}, false, problem.New(problem.AgentRetired, "")
		}
		if err != nil {
			return protocol.Order{}, false, err
		}
		order, ok, err := o.store.Orders.Take(context.WithoutCancel(ctx), agent.ID, agent.Serves(), lane, o.lease)
		if err != nil {
			return protocol.Order{}, false, err
		}
		if ok {
			request := order.Request
			if request.Password != nil {
				request.Password.Again = order.Begun > 0
			}
			request.ID, request.LeaseSeconds = order.ID, int(order.Kind.Lease(o.lease)/time.Second)
			return request, true, nil
		}
		if !o.awaitOrder(ctx, events, every) {
			return protocol.Order{}, false, nil
		}
	}
}

// awaitOrder waits for a sign that there may be an order, or as long as every; false when ctx
// has ended. Of other events there are many while a run goes on, and agents that wait.
func (o *Orders) awaitOrder(ctx context.Context, events <-chan store.Event, every time.Duration) bool {
	due := time.After(every)
	for {
		select {
		case <-ctx.Done():
			return false
		case event := <-events:
			if slices.Contains([]string{"order", "agent", ""}, event.Kind) {
				return true
			}
		case <-due:
			return true
		}
	}
}
