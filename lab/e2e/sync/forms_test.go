package sync_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatTheCloudWritesItsOwnWayIsFoundOnce lets the cloud keep logins in small letters,
// shorten titles, and drop the type of phone numbers: each is known after it was sent once,
// shown, and not sent again; a new value replaces the one before.
func TestWhatTheCloudWritesItsOwnWayIsFoundOnce(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Cloud: []string{"--habits", "small-logins,no-types"}})
	titles := func(length int) { w.CloudFaults(map[string]any{"titleLength": length}) }
	titles(6)
	ada := w.Person("Ada", map[string]string{"mail": "Ada.Brekke@Brisling.example", "title": "Chief Officer", "telephoneNumber": "+47 1"})
	w.Person("Jon", map[string]string{"mail": "JON@brisling.example", "title": "Mate", "telephoneNumber": "+47 2"})
	w.Activate(worldtest.Document())
	run := w.Run(wire.NewRun{})
	assert.Equal(t, []int{2, 2, 1}, []int{run.Counts.Create, run.Counts.Done, run.Counts.Problems}, "only the title is another: %+v", run.Counts)
	assert.Equal(t, map[string]string{ada: string(problem.ValueAltered)}, w.Problems())
	for _, why := range []purpose.Purpose{purpose.Full, purpose.Rehearsal, purpose.Sync} {
		run = w.Run(wire.NewRun{Purpose: why})
		assert.Equal(t, progress.InStep, run.State, "%s: %+v", why, run)
		assert.Zero(t, run.Counts.Changes, "%s: %+v", why, run.Counts)
	}
	w.Says([]string{"cloud", "show"}, "writes these values its own way", "userName", "Ada.Brekke@Brisling.example", "ada.brekke@brisling.example", "title")
	w.Says([]string{"why", "ada.brekke@brisling.example"}, "in step")

	// Another number takes the place of the one before, also without its type.
	w.Set(ada, "telephoneNumber", "+47 3")
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Equal(t, "[map[value:+47 3]]", fmt.Sprint(w.User("ada.brekke@brisling.example")["phoneNumbers"]))
	w.InStep(0)

	// Once the cloud takes titles whole, they can be sent again.
	titles(0)
	w.Refuses([]string{"cloud", "forget", "nickName"}, "not known to write nickName")
	w.Says([]string{"cloud", "forget", "title"}, "sends the values of 1 resource again")
	w.InStep(1)
	assert.Equal(t, "Chief Officer", w.User("ada.brekke@brisling.example")["title"])
	run = w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, run.Counts.Changes, "%+v", run.Counts)
}

// TestACloudThatAsksToWaitIsWaitedFor lets the cloud serve nobody for seconds, again and
// again: the run tells until when it waits and what is left, and comes to its end.
func TestACloudThatAsksToWaitIsWaitedFor(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(45), worldtest.Options{Cloud: []string{"--without", "bulk", "--habits", "throttled"}})
	w.Activate(worldtest.Document())
	started, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	told := ""
	w.AwaitMoment(started.ID, func(run wire.Run) bool {
		for _, stage := range run.Stages {
			if stage.PausedUntil != nil && run.Stage == "write" {
				told, _, _ = w.Kambrel("runs", "list", "--all")
				return true
			}
		}
		return false
	})
	assert.Contains(t, told, "the cloud asks to wait until")
	assert.Contains(t, told, "changes left")
	run := w.Wait(started.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Equal(t, 45, run.Counts.Done)
	assert.Greater(t, run.Ended.Sub(*run.Started), 7*time.Second, "it was asked to wait twice at least")
	for _, stage := range run.Stages {
		assert.Nil(t, stage.PausedUntil)
	}
}
