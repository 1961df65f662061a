// Package passwords is the way by which passwords come from the cloud into directories:
// the stream of events that one of the services on a database holds open, what is asked
// there, and the orders by which agents carry it out. What is asked travels sealed; nothing
// here can open it, and the agents believe the cloud's signature alone.
package passwords

import (
	"context"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/explain"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/store"
)

// Passwords listens to the cloud and tells how that stands. Its methods may be called from
// many goroutines.
type Passwords struct {
	store   *store.Store
	cloud   *cloud.Client
	hub     *events.Hub
	orders  *orders.Orders
	explain *explain.Explain
	name    string // of this service, as people know it

	group sync.WaitGroup
	stop  context.CancelFunc
}

// New makes one; Start sets it going.
func New(s *store.Store, c *cloud.Client, hub *events.Hub, o *orders.Orders, x *explain.Explain) *Passwords {
	host, _ := os.Hostname()
	return &Passwords{store: s, cloud: c, hub: hub, orders: o, explain: x, name: host + ", process " + strconv.Itoa(os.Getpid())}
}

// Start listens, until Stop, whenever no other service on the database does.
func (p *Passwords) Start(ctx context.Context) {
	ctx, p.stop = context.WithCancel(context.WithoutCancel(ctx))
	p.orders.PassDigestsTo(p.passOn)
	p.group.Go(func() { p.listen(ctx) })
	p.group.Go(func() { p.rounds(ctx) })
}

// Stop ends it; what is on its way is taken up by the next that listens.
func (p *Passwords) Stop() {
	if p.stop != nil {
		p.stop()
		p.group.Wait()
	}
}

// takeOverEvery is how often it is tried to take the stream over from another service.
const takeOverEvery = time.Second

// listen holds the stream while a directory takes passwords.
func (p *Passwords) listen(ctx context.Context) {
	told, stop := p.hub.Subscribe()
	defer stop()
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = 500*time.Millisecond, 5*time.Second
	for ctx.Err() == nil {
		pause := takeOverEvery
		if document, ok := p.settings(ctx); ok && document.TakesPasswords() {
			mine, err := p.store.Own(ctx, store.Listening, 1, func(ctx context.Context) error { return p.hold(ctx, pauses.Reset) })
			switch {
			case mine && err != nil && ctx.Err() == nil:
				p.broken(ctx, err)
				pause = pauses.NextBackOff()
			case mine:
				pauses.Reset()
			}
		} else if ok {
			p.close(ctx)
		}
		await(ctx, told, pause, "settings")
	}
}

// await waits for an event of one of the kinds, or as long as most; what may have been missed
// counts as one. Others, of which there are many while a run goes on, cost nothing.
func await(ctx context.Context, told <-chan store.Event, most time.Duration, kinds ...string) (came bool) {
	due := time.After(most)
	for {
		select {
		case <-ctx.Done():
			return false
		case <-due:
			return false
		case event := <-told:
			if event.Kind == "" || slices.Contains(kinds, event.Kind) {
				return true
			}
		}
	}
}

// settings are the active ones; false while there are none or they cannot be read.
func (p *Passwords) settings(ctx context.Context) (settings.Document, bool) {
	revision, ok, err := p.store.Settings.Active(ctx)
	return revision.Document, ok && err == nil
}
