// Package explain answers questions about single objects: what there is, how it
// stands, why, and what a run would do. It changes nothing.
package explain

import (
	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/problems"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// Explain answers. Its methods may be called from many goroutines.
type Explain struct {
	store    *store.Store
	cloud    *cloud.Client
	orders   *orders.Orders
	judging  *judging.Judging
	setup    *setup.Setup
	jobs     *jobs.Jobs
	problems *problems.Problems
}

// New makes one.
func New(s *store.Store, c *cloud.Client, o *orders.Orders, j *judging.Judging, p *setup.Setup, w *jobs.Jobs, pr *problems.Problems) *Explain {
	return &Explain{store: s, cloud: c, orders: o, judging: j, setup: p, jobs: w, problems: pr}
}
