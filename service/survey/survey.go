// Package survey shows what surveys have found, and repairs it in the directories
// through their agents.
package survey

import (
	"context"
	"sync"

	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// Surveys shows findings and repairs them. Its methods may be called from many
// goroutines.
type Surveys struct {
	store   *store.Store
	orders  *orders.Orders
	setup   *setup.Setup
	judging *judging.Judging
	group   sync.WaitGroup
	context context.Context // of repairs, until Stop
	stop    context.CancelFunc
}

// New makes one; Start takes up what was left behind.
func New(s *store.Store, o *orders.Orders, p *setup.Setup, j *judging.Judging) *Surveys {
	return &Surveys{store: s, orders: o, setup: p, judging: j}
}

// Start takes up repairs that a service has left behind, now and whenever one is
// found.
func (e *Surveys) Start(ctx context.Context) {
	e.context, e.stop = context.WithCancel(context.WithoutCancel(ctx))
	e.group.Go(func() { e.resume(e.context) })
}

// Stop ends what goes on; agents carry out the orders that they have.
func (e *Surveys) Stop() {
	if e.stop != nil {
		e.stop()
		e.group.Wait()
	}
}
