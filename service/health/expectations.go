package health

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// lookAtExpectations holds what the active settings expect against what is so, once after each
// run and each activation: a change in a directory may have made it untrue.
func (e *Health) lookAtExpectations(ctx context.Context, h wire.Health) error {
	now := store.Held{Revision: h.Revision, Looked: time.Now()}
	if h.LastRun != nil {
		now.RunID = h.LastRun.ID
	}
	before, err := e.store.Expectations.Last(ctx)
	if err != nil || before.Revision == now.Revision && before.RunID == now.RunID {
		return err
	}
	active, _, err := e.store.Settings.Active(ctx)
	if err != nil || active.Revision != now.Revision || len(active.Document.Expect) == 0 {
		return err
	}
	told, err := e.setup.Broken(ctx, active.Document)
	if err != nil {
		return fmt.Errorf("hold what the settings expect against what is so: %w", err)
	}
	if now.Failing = len(told); now.Failing > 0 {
		now.Told = told[0]
	}
	return e.store.Expectations.Keep(ctx, now)
}

// expectations are how they stood then; nothing is kept of settings that expect nothing.
func (e *Health) expectations(ctx context.Context, h *wire.Health) error {
	last, err := e.store.Expectations.Last(ctx)
	if err == nil && h.Revision != 0 && last.Revision == h.Revision {
		h.Expectations = &wire.ExpectationsHeld{Failing: last.Failing, Told: last.Told, Looked: last.Looked}
	}
	return err
}
