package faults_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

// faultOf waits until an agent fails for the directory, or does not.
func faultOf(t *testing.T, w *worldtest.World, name string, fails bool) wire.Agent {
	t.Helper()
	var found wire.Agent
	require.Eventually(t, func() bool {
		agents, err := w.Client.Agents(t.Context())
		require.NoError(t, err)
		for _, agent := range agents {
			if agent.Name == name {
				found = agent
			}
		}
		return fails == (len(found.Faults) == 1)
	}, 30*time.Second, 50*time.Millisecond, "%s", name)
	return found
}

// serves waits until an agent has said what it serves, which a poll for orders may come
// before, and was heard of since: one that was stopped a moment ago counts as online still.
func serves(t *testing.T, w *worldtest.World, name string, since time.Time) {
	t.Helper()
	require.Eventually(t, func() bool {
		agent := faultOf(t, w, name, false)
		return agent.State == "online" && slices.Contains(agent.Directories, "brisling") && agent.LastContact.After(since)
	}, 20*time.Second, 20*time.Millisecond, "%s", name)
}

// TestOneBadAgentPoisonsNothing gives one of two agents of a directory a wrong password:
// what it fails the other does, it gets no more, and it is told; set right, it is found
// well by itself, and does all of the work when the other is gone.
func TestOneBadAgentPoisonsNothing(t *testing.T) {
	t.Parallel()
	w := worldtest.NewRaced(t, "")
	w.Activate(worldtest.Document())
	w.Person("Anna", nil)
	second := w.SecondAgent()
	second.Configure(w.Directory.ReaderPassword, "Not-The-Password-1")
	require.NoError(t, w.Agent.Stop())
	second.Start()

	// Alone it fails, and every run asks it again.
	serves(t, w, "brisling-2", time.Time{})
	for range 2 {
		run := w.Run(wire.NewRun{Purpose: purpose.Sync})
		require.NotNil(t, run.Failure)
		assert.Equal(t, string(problem.DirectoryUnreachable), run.Failure.Code)
		assert.Contains(t, run.Failure.Detail, "agent brisling-2: ")
		assert.Contains(t, run.Failure.Detail, "bind")
	}
	faultOf(t, w, "brisling-2", true)

	// Beside another that is well it gets nothing more.
	since := time.Now()
	w.StartAgent()
	serves(t, w, "brisling-1", since)
	w.InStep(1)
	for range 3 {
		w.InStep(0)
	}
	bad := faultOf(t, w, "brisling-2", true)
	assert.Equal(t, "brisling", bad.Faults[0].Directory)
	w.Says([]string{"agent", "list"}, "online, FAILS at brisling", "brisling-2 fails at brisling since", "Invalid Credentials")
	out, _, status := w.Kambrel("health")
	assert.NotZero(t, status)
	assert.Contains(t, out, "An agent fails where another does not")
	assert.NotContains(t, out, "cannot be reached")

	// By name it is probed whether it is well or not; any probe is done by one that is.
	out, _, status = w.Kambrel("directory", "probe", "brisling", "--agent", "brisling-2")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "Probed by agent brisling-2.")
	assert.Contains(t, out, "BAD")
	w.Says([]string{"directory", "probe", "brisling"}, "Probed by agent brisling-1.")
	w.Refuses([]string{"directory", "probe", "brisling", "--agent", "brisling-7"}, "there is no agent \"brisling-7\"")

	// A new password is noticed without a new start.
	second.Configure("Not-The-Password-1", w.Directory.ReaderPassword)
	faultOf(t, w, "brisling-2", false)
	w.Says([]string{"health"}, "in step")
	require.NoError(t, w.Agent.Stop())
	w.Person("Bo", nil)
	w.InStep(1)
}

// TestAnAgentWhoseAnswersCannotBeRead answers a read with something else than an
// answer: another agent does it, and the order ends where there is none.
func TestAnAgentWhoseAnswersCannotBeRead(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Activate(worldtest.Document())
	w.Person("Anna", nil)
	serves(t, w, "brisling-1", time.Time{})
	require.NoError(t, w.Agent.Stop())
	forger := w.Forger()
	begin := func() (run, order int64) {
		started, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
		require.NoError(t, err)
		status, text := forger.Does("GET", "/api/v1/agent/order", "")
		require.Equal(t, 200, status, text)
		var asked protocol.Order
		require.NoError(t, json.Unmarshal([]byte(text), &asked))
		return started.ID, asked.ID
	}
	babble := func(order int64) {
		status, text := forger.Does("POST", fmt.Sprintf("/api/v1/agent/orders/%d/answer", order), "\"what\"\n")
		assert.Equal(t, 422, status, text)
	}
	id, order := begin()
	babble(order)
	run := w.Wait(id)
	require.NotNil(t, run.Failure)
	assert.Equal(t, string(problem.AgentMessageMalformed), run.Failure.Code, "%+v", run.Failure)

	id, order = begin() // there is no other, so it is asked again
	w.SecondAgent().Start()
	serves(t, w, "brisling-2", time.Time{})
	babble(order)
	run = w.Wait(id)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Equal(t, 1, run.Counts.Done)
	assert.Len(t, faultOf(t, w, "brisling-1", true).Faults, 1)
}
