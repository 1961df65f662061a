package live_test

import (
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestAStoppedServiceLosesItsRun stops a service in the middle of a run, transactions and
// all: another begins the run again within seconds, and what was stopped writes nothing
// any more once it goes on.
func TestAStoppedServiceLosesItsRun(t *testing.T) {
	t.Parallel()
	const people = 3000
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(people))
	w.Activate(worldtest.Document())
	started, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	require.True(t, w.AwaitMoment(started.ID, func(r wire.Run) bool { return r.Stage == "read" }), "the first has taken the run")
	address := w.Standby()
	w.AgentKnows(w.URL, address)
	standby := client.New(address, w.Client.Token())
	require.True(t, w.AwaitMoment(started.ID, func(r wire.Run) bool { return r.Counts.Done > 0 }))
	before, err := w.Client.Run(t.Context(), started.ID)
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(w.Service.PID(), syscall.SIGSTOP))
	stopped := time.Now()
	require.Eventually(t, func() bool {
		run, err := standby.Run(t.Context(), started.ID)
		return err == nil && run.Started != nil && run.Started.After(*before.Started)
	}, 30*time.Second, 10*time.Millisecond, "another takes the run")
	t.Logf("taken over after %s", time.Since(stopped))
	assert.Less(t, time.Since(stopped), 10*time.Second, "5 s where the machine is not busy with other tests")
	run, err := standby.Wait(t.Context(), started.ID, nil)
	require.NoError(t, err)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	require.NoError(t, syscall.Kill(w.Service.PID(), syscall.SIGCONT))
	assert.Len(t, worldtest.Users(t, w.Address(), ""), people, "nobody is lost, and nobody is there twice")
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}
