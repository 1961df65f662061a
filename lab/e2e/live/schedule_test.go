package live_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestNothingBeginsOutOfHours changes a person while the hours are closed: the change is
// heard and waits, and is made up once they are open; and everything is compared at its time.
func TestNothingBeginsOutOfHours(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	ada := adaArrives(w)
	watched(w, wire.Watched)

	w.Refuses([]string{"schedule", "set", "--hours", "all day"}, "06:00-20:00")
	w.Refuses([]string{"schedule", "set", "--days", "mon"}, "--hours")
	w.Refuses([]string{"schedule", "set", "--hours", "06:00-20:00", "--days", "monday"}, "sun, mon, tue")
	now := time.Now().UTC()
	clock := func(ahead time.Duration) string { return now.Add(ahead).Format("15:04") }
	w.Says([]string{"schedule", "set", "--every", "10s", "--hours", clock(2*time.Hour) + "-" + clock(3*time.Hour), "--zone", "UTC"},
		"schedule.hours", clock(2*time.Hour)+" to "+clock(3*time.Hour)+", every day; closed now", "Next runs")
	w.Says([]string{"settings", "activate", "--yes"})
	before, err := w.Client.Runs(t.Context(), nil)
	require.NoError(t, err)
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	assert.False(t, health.Live)
	require.NotNil(t, health.NextRun, "the next run is told at once")
	assert.Equal(t, now.Add(2*time.Hour).Truncate(time.Minute), health.NextRun.UTC())
	w.Set(ada, "title", "Master")
	heard := watched(w, wire.Watched)
	assert.Equal(t, "brisling", heard.Directory)

	// Meanwhile anybody may run by hand; what the schedule would do, it does not.
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 1, rehearsed.Counts.Update)
	after, err := w.Client.Runs(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, before.Total+1, after.Total, "nothing began by itself")
	assert.Equal(t, "Mate", w.User(login)["title"])

	full := time.Now().UTC().Add(70 * time.Second).Format("15:04")
	w.Says([]string{"schedule", "set", "--hours", "all", "--full", full}, "in full each day at "+full)
	w.Says([]string{"settings", "activate", "--yes"})
	w.Arrives(login, "Master")
	w.Says([]string{"schedule"}, "a run every 10s; live: a change", "Next full", "Time zone  UTC")
	require.Eventually(t, func() bool {
		page, err := w.Client.Runs(t.Context(), nil)
		require.NoError(t, err)
		for _, run := range page.Items {
			if run.Purpose == purpose.Full && run.By == "schedule" && run.State.Ended() {
				return true
			}
		}
		return false
	}, 120*time.Second, 200*time.Millisecond, "everything is compared at its time")
}
