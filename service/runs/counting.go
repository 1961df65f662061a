package runs

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/purpose"
)

// counting is since when what went before counts with what the run would take away: the
// zero time for nothing. As long as something is held it does not move on, so that nothing
// slips through since some time has gone by.
type counting struct{ removals, losses time.Time }

// countSince finds out since when. Where an operator has let all through that was held, or
// has undone a run, that was decided about, and a new count begins.
func (x *execution) countSince(ctx context.Context) error {
	window := x.Settings.Document.Guard.Window()
	if window == 0 || x.run.Purpose == purpose.Release && !x.releasesSome() || x.run.Purpose == purpose.Undo {
		x.since = counting{}
		return nil
	}
	since := x.store.Now().Add(-window)
	x.since = counting{since, since}
	counted, err := x.store.Runs.Counted(ctx)
	if err != nil {
		return err
	}
	if counted.Since != nil && counted.Since.Before(since) {
		if counted.Removals {
			x.since.removals = *counted.Since
		}
		if counted.Losses {
			x.since.losses = *counted.Since
		}
	}
	for _, one := range []*time.Time{&x.since.removals, &x.since.losses} {
		if one.Before(counted.Decided) {
			*one = counted.Decided
		}
	}
	earliest := slices.MinFunc([]time.Time{x.since.removals, x.since.losses}, time.Time.Compare)
	x.mu.Lock()
	defer x.mu.Unlock()
	x.run.GuardSince = &earliest
	return nil
}

// releasesSome tells whether the run lets some through of what is held, and the rest waits
// on.
func (x *execution) releasesSome() bool { return len(x.run.Only) > 0 }
