package sync_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestChangesThatADirectoryDoesNotTellAreFound loads somebody past the overlay that tracks
// changes: deltas tell nothing, the next comparison finds it, everything is read, and it
// is told. A directory that tells all its changes stays well under comparisons.
func TestChangesThatADirectoryDoesNotTellAreFound(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(6), worldtest.Options{Serve: []string{"--cross-check-every", "1h"}})
	w.Activate(worldtest.Document())
	w.InStep(6)
	slipped := "dn: cn=Slip," + worldtest.People + "\nobjectClass: inetOrgPerson\nsn: Slip\nmail: slip@brisling.example\n"
	w.SlipIn(slipped, time.Now().Add(-3*time.Minute))
	w.InStep(0) // it is not told
	assert.Nil(t, w.User("slip@brisling.example"))

	require.NoError(t, w.Service.Stop())
	w.Serve("--cross-check-every", "1ms")
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.NotNil(t, w.User("slip@brisling.example"))
	out, _, status := w.Kambrel("health")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "A directory did not tell all its changes: brisling had not told 1 changes")

	w.Person("Bo", nil)
	w.InStep(1)
	run = w.InStep(0)
	assert.Zero(t, run.Counts.EntriesChanged, "%+v", run.Counts)
}
