package runs

import (
	"errors"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/pacing"
	"kambrel.example/kambrel/service/store"
)

// Options are what a service can be told about how it works. The zero value of
// each means the default.
type Options struct {
	// Workers is how many requests are with the cloud at once; 4.
	Workers int
	// CreationPatience is how long a creation that was not answered is looked for
	// before it is sent again, where the cloud would not refuse a second one; 2 min.
	CreationPatience time.Duration
	// GonePause is how long the cloud is given between two answers that it does not
	// have a resource; 2 s.
	GonePause time.Duration
	// CheckEvery is how often it is compared whether a directory tells all its changes.
	CheckEvery time.Duration
}

func (o Options) withDefaults() Options {
	if o.Workers == 0 {
		o.Workers = 4
	}
	if o.CreationPatience == 0 {
		o.CreationPatience = 2 * time.Minute
	}
	if o.CheckEvery == 0 {
		o.CheckEvery = time.Hour
	}
	if o.GonePause == 0 {
		o.GonePause = 2 * time.Second
	}
	return o
}

// Runs executes runs. Its methods may be called from many goroutines.
type Runs struct {
	store   *store.Store
	cloud   *cloud.Client
	hub     *events.Hub
	orders  *orders.Orders
	judging *judging.Judging
	pacing  *pacing.Pacing
	options Options
}

// New makes one.
func New(s *store.Store, c *cloud.Client, hub *events.Hub, o *orders.Orders, j *judging.Judging, p *pacing.Pacing, options Options) *Runs {
	return &Runs{store: s, cloud: c, hub: hub, orders: o, judging: j, pacing: p, options: options.withDefaults()}
}

// fatal tells errors after which a run cannot go on but has ended properly:
// those with a code of the catalogue, other than a database away.
func fatal(err error) *problem.Error {
	var p *problem.Error
	if errors.As(err, &p) && p.Code != problem.DatabaseUnreachable {
		return p
	}
	return nil
}
