// Package judging asks core/decide about what the mirrors hold, for whoever needs a
// decision: a Judge decides by one revision of the settings, and an Imagined keeps
// in memory what a plan would change, so that a rehearsal, a trial, a preview or a
// why comes to what a run would, and touches nothing.
package judging

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/service/store"
)

// Judge decides by one revision of the settings, or by a draft, about what the
// mirrors hold. Runs, rehearsals, trials, previews and explanations have one each.
type Judge struct {
	DB       *store.Store
	Settings *decide.Settings
	Offer    decide.Cloud
	Now      time.Time
	Batch    int // how many entries are decided about at a time
	// Without are directories that nothing is decided about, since it is not known how
	// they are.
	Without []string
}

// Blank is a judge of now, who is still to be given settings and the cloud.
func (k *Judging) Blank() Judge { return Judge{DB: k.store, Now: time.Now(), Batch: k.batch} }

// Decider decides by facts.
func (j *Judge) Decider(facts decide.Facts) *decide.Decider {
	return &decide.Decider{Settings: j.Settings, Cloud: j.Offer, Facts: facts, Now: j.Now}
}

// Judge is the one by the active settings, or by the draft before the first
// activation. It needs no cloud: what that has is judged by the mirror.
func (k *Judging) Judge(ctx context.Context) (*Judge, error) {
	settings, err := k.Settings(ctx)
	if err != nil {
		return nil, err
	}
	offer, err := k.Offered(ctx, settings.Document)
	if err != nil {
		offer = decide.AnyCloud()
	}
	judge := k.Blank()
	judge.Settings, judge.Offer = settings, offer
	return &judge, nil
}
