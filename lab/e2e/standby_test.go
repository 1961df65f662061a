package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// awaitRun waits until a run that keep chooses has ended.
func awaitRun(t *testing.T, c *client.Client, keep func(wire.Run) bool) wire.Run {
	t.Helper()
	deadline := time.Now().Add(time.Minute)
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for time.Now().Before(deadline) {
		page, err := c.Runs(t.Context(), nil)
		require.NoError(t, err)
		for _, run := range page.Items {
			if run.State.Ended() && keep(run) {
				return run
			}
		}
		<-tick.C
	}
	t.Fatal("no such run within a minute")
	return wire.Run{}
}

// TestTheScheduleGoesOnWhenAServiceIsKilled lets two services work on one
// database: one executes, the other takes over.
func TestTheScheduleGoesOnWhenAServiceIsKilled(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(5))
	d := document()
	d.Schedule.Every = "10s"
	w.activate(d)
	first := awaitRun(t, w.client, func(r wire.Run) bool { return r.By == "schedule" })
	assert.Equal(t, progress.InStep, first.State)
	assert.Equal(t, 5, first.Counts.Create, "the schedule needs nobody to start it")

	port, err := servers.FreePort(0)
	require.NoError(t, err)
	address := fmt.Sprintf("127.0.0.1:%d", port)
	_, err = w.lab.Start(context.Background(), servers.Command{
		Name: "standby", Path: w.programs.kambrel, Env: []string{"KAMBREL_DATABASE=" + w.dsn},
		Args:  []string{"serve", "--listen", address, "--cloud-url", w.cloud.URL, "--cloud-token-file", w.cloud.TokenFile},
		Ready: servers.Answers("http://" + address + "/healthz"),
	})
	require.NoError(t, err)
	standby := client.New("http://"+address, w.client.Token())
	health, err := standby.Health(t.Context())
	require.NoError(t, err)
	require.NotNil(t, health.NextRun, "both know when the next run is")

	w.service.Kill()
	w.set("cn=Crew 00001,"+people, "title", "Mate")
	// The agent finds the other service under the address it knows, as behind a
	// load balancer: here its configuration is led there.
	require.NoError(t, w.agent.Stop())
	text, err := os.ReadFile(w.agentFile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.agentFile, []byte(strings.ReplaceAll(string(text), w.url, "http://"+address)), 0o600))
	w.startAgent()
	next := awaitRun(t, standby, func(r wire.Run) bool { return r.ID > first.ID && r.By == "schedule" && r.Counts.Update == 1 })
	assert.Equal(t, progress.InStep, next.State)
	assert.Equal(t, "Mate", w.user("crew00001@brisling.example")["title"])
}

// TestAnotherAgentTakesOver kills the agent that holds an order: the second one
// finishes it, within the lease, with no entry lost.
func TestAnotherAgentTakesOver(t *testing.T) {
	t.Parallel()
	const crew = 3000
	w := newRaced(t, ldifPeople(crew))
	w.activate(document())
	code, err := w.client.IssueCode(t.Context(), "brisling")
	require.NoError(t, err)
	second := filepath.Join(w.lab.Dir, "second.yaml")
	out, err := exec.Command(plainly.kambrel, "agent", "enrol", "--service", w.url, "--code", code.Code, "--name", "brisling-2", "--config", second).CombinedOutput()
	require.NoError(t, err, string(out))
	text, err := os.ReadFile(second)
	require.NoError(t, err)
	first, err := os.ReadFile(w.agentFile)
	require.NoError(t, err)
	directories := string(first)[strings.Index(string(first), "directories:\n"):]
	require.NoError(t, os.WriteFile(second, []byte(strings.Replace(string(text), "directories: []\n", "", 1)+directories), 0o600))

	run, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	w.awaitMoment(run.ID, func(r wire.Run) bool { return r.Counts.EntriesRead > 0 })
	w.agent.Kill()
	_, err = w.lab.Start(context.Background(), servers.Command{Name: "agent-2", Path: w.programs.kambrel, Args: []string{"agent", "run", "--config", second}})
	require.NoError(t, err)
	ended := w.wait(run.ID)
	require.Equal(t, progress.InStep, ended.State, "%+v", ended.Failure)
	assert.Len(t, users(t, w.address(), ""), crew)
	agents, err := w.client.Agents(t.Context())
	require.NoError(t, err)
	require.Len(t, agents, 2)
	assert.Equal(t, "online", agents[1].State)
	assert.Equal(t, []string{"brisling"}, agents[1].Directories)
}
