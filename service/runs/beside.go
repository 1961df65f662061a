package runs

import (
	"context"
	"errors"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/service/judging"
)

// besideTick is after how long a run that waits for another looks again without an
// event.
const besideTick = 2 * time.Second

// errGivesWay says that a reading was given up, since a run that writes has come.
var errGivesWay = errors.New("a run that writes comes first")

// readBeside brings the mirrors up to date for a run that writes nothing. When
// one that writes is under way, that has read them already, or does so just now.
func (x *execution) readBeside(ctx context.Context) error {
	events, stop := x.hub.Subscribe()
	defer stop()
	for {
		stage, err := x.store.Runs.Stage(ctx)
		if err != nil {
			return err
		}
		if stage != "" && stage != "waiting" && stage != "read" {
			if known, err := x.mirrored(ctx); err != nil || known {
				return err
			}
		}
		if stage == "" {
			read, err := x.store.WithRunLock(ctx, x.readGivingWay)
			if read && !errors.Is(err, errGivesWay) || err != nil && !errors.Is(err, errGivesWay) {
				return err
			}
		}
		switch cancelled, _, err := x.store.Runs.Asked(ctx, x.run.ID); {
		case err != nil:
			return err
		case cancelled:
			return problem.New(problem.Cancelled, "")
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-events:
		case <-time.After(besideTick):
		}
	}
}

func (x *execution) readGivingWay(ctx context.Context) error {
	give := func(reading bool) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.reading = reading
	}
	give(true)
	err := x.read(ctx)
	give(false)
	if err != nil {
		err = errors.Join(err, x.store.Orders.Withdraw(context.WithoutCancel(ctx), x.run.ID))
	}
	return err
}

// mirrored tells whether the mirrors hold all that the run needs, and asks what
// the cloud takes.
func (x *execution) mirrored(ctx context.Context) (bool, error) {
	for _, directory := range x.Settings.Document.Directories {
		state, err := x.store.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return false, err
		}
		if state.Base != directory.Base || !judging.Covers(state.Attributes, x.Settings.Attributes) || !judging.Covers(state.Pointers, x.Settings.Pointers) {
			return false, nil
		}
	}
	state, err := x.store.Resources.State(ctx, entry.User)
	if err != nil || state.Read.IsZero() {
		return false, err
	}
	x.Offer, err = x.judging.Offered(ctx, x.Settings.Document)
	return err == nil, err
}
