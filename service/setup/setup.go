// Package setup is what an administrator prepares: the settings with their draft,
// the directories, the tree of containers with what takes part, and the cloud as
// it describes itself. Nothing here reaches the cloud or a directory but questions.
package setup

import (
	"context"
	"sync"
	"sync/atomic"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/store"
)

// Setup prepares. Its methods may be called from many goroutines.
type Setup struct {
	store        *store.Store
	cloud        *cloud.Client
	orders       *orders.Orders
	judging      *judging.Judging
	offeredSaved atomic.Int64 // when what the cloud takes was kept last, Unix nanoseconds
	previews     previews
	start        Start
	reach        sync.Mutex   // guards reachedAs
	reachedAs    string       // as the records had it when the cloud was reached so
	cloudAway    atomic.Int64 // when it last did not answer a check of settings, Unix nanoseconds
}

// New makes one.
func New(s *store.Store, c *cloud.Client, start Start, o *orders.Orders, j *judging.Judging) *Setup {
	return &Setup{store: s, cloud: c, start: start, orders: o, judging: j}
}

// FillFor gives entries the groups that hold them and the members of groups,
// where what is decided by asks for them.
func FillFor(ctx context.Context, s *store.Store, decides interface {
	AsksForGroups() bool
	AsksForMembers() bool
}, batch []*entry.Entry) error {
	if decides.AsksForGroups() {
		if err := s.Facts.FillGroups(ctx, batch); err != nil {
			return err
		}
	}
	if decides.AsksForMembers() {
		return s.Entries.FillMembers(ctx, batch)
	}
	return nil
}
