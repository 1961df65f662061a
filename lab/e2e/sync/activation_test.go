package sync_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestOnlyWhatDecidesIsDecidedAnew activates settings that come to the same about everybody,
// which looks at nobody, and then others.
func TestOnlyWhatDecidesIsDecidedAnew(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(5))
	document := worldtest.Document()
	w.Activate(document)
	w.InStep(5)
	planned := func(change func(*settings.Document)) int {
		change(&document)
		w.Activate(document)
		run := w.Run(wire.NewRun{})
		require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
		assert.Zero(t, run.Counts.Changes)
		return run.Counts.Planned
	}
	assert.Zero(t, planned(func(d *settings.Document) { d.Schedule.Every = "2h" }), "when runs begin")
	assert.Zero(t, planned(func(d *settings.Document) { d.History.Days = 30 }), "how long things are remembered")
	assert.Equal(t, 5, planned(func(d *settings.Document) { d.Users.Filter = "(title=*)" }), "who takes part")
	assert.Zero(t, planned(func(d *settings.Document) { d.History.Days = 40 }))
}
