// Package acts is what operators do that changes something: previewed by the outcome
// that a run would have, kept and audited in one transaction, and carried out by a
// run. Nothing here writes to the cloud or to a directory.
package acts

import (
	"kambrel.example/kambrel/service/explain"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// Acts does what operators decide, and lists what was done. Its methods may be called from many goroutines.
type Acts struct {
	store   *store.Store
	judging *judging.Judging
	explain *explain.Explain
	setup   *setup.Setup
}

// New makes one.
func New(s *store.Store, j *judging.Judging, x *explain.Explain, p *setup.Setup) *Acts {
	return &Acts{store: s, judging: j, explain: x, setup: p}
}
