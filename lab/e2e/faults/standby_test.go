package faults_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestTheScheduleGoesOnWhenAServiceIsKilled lets two services work on one
// database: one executes, the other takes over.
func TestTheScheduleGoesOnWhenAServiceIsKilled(t *testing.T) {
	t.Parallel()
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(5))
	d := worldtest.Document()
	d.Schedule.Every, d.Schedule.Live = "10s", "off"
	w.Activate(d)
	first := worldtest.AwaitRun(t, w.Client, func(r wire.Run) bool { return r.By == "schedule" })
	assert.Equal(t, progress.InStep, first.State)
	assert.Equal(t, 5, first.Counts.Create, "the schedule needs nobody to start it")

	address := w.Standby()
	standby := client.New(address, w.Client.Token())
	health, err := standby.Health(t.Context())
	require.NoError(t, err)
	require.NotNil(t, health.NextRun, "both know when the next run is")

	w.AgentKnows(w.URL, address)
	w.Service.Kill()
	w.Set(worldtest.Crew(1), "title", "Mate")
	next := worldtest.AwaitRun(t, standby, func(r wire.Run) bool { return r.ID > first.ID && r.By == "schedule" && r.Counts.Update == 1 })
	assert.Equal(t, progress.InStep, next.State)
	assert.Equal(t, "Mate", w.User("crew00001@brisling.example")["title"])
}

// TestAnotherAgentTakesOver kills the agent that holds an order: the second one
// finishes it, within the lease, with no entry lost.
func TestAnotherAgentTakesOver(t *testing.T) {
	t.Parallel()
	const crew = 3000
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(crew))
	w.Activate(worldtest.Document())
	second := w.SecondAgent()
	run, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	w.AwaitMoment(run.ID, func(r wire.Run) bool { return r.Counts.EntriesRead > 0 })
	w.Agent.Kill()
	second.Start()
	ended := w.Wait(run.ID)
	require.Equal(t, progress.InStep, ended.State, "%+v", ended.Failure)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), crew)
	agents, err := w.Client.Agents(t.Context())
	require.NoError(t, err)
	require.Len(t, agents, 2)
	assert.Equal(t, "online", agents[1].State)
	assert.Equal(t, []string{"brisling"}, agents[1].Directories)
}
