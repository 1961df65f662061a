package passwords_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// reach makes an agent's configuration reach the directory elsewhere.
func reach(t *testing.T, file, before, after string) {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), before)
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(text), before, after)), 0o600))
}

// TestWhoeverDiesThePersonGetsOneTrueAnswer kills the agent that has just taken an order, the
// service with the event in hand, and lets nobody be there at all.
func TestWhoeverDiesThePersonGetsOneTrueAnswer(t *testing.T) {
	t.Parallel()
	w := worldtest.WithPasswords(t, worldtest.Options{Raced: true})
	second := w.SecondAgent()
	w.Trust(second.File)
	require.NoError(t, w.Agent.Stop())
	gate, other := w.NewGate(), w.NewGate()
	reach(t, w.AgentFile, w.Directory.URL, gate.URL)
	reach(t, second.File, w.Directory.URL, other.URL)
	w.StartAgent()
	second.Start()
	require.Eventually(t, func() bool { // passwords are sealed for both
		state, err := w.Client.PasswordsState(t.Context())
		return err == nil && state.State == "open" && strings.HasPrefix(state.Directories[0].Steps[1].Name, "agent")
	}, 20*time.Second, 20*time.Millisecond)
	ask := func(asked worldtest.Asked) <-chan worldtest.Answered {
		out := make(chan worldtest.Answered, 1)
		go func() { out <- w.Ask(asked) }()
		return out
	}

	// The agent that has taken it is killed before it has set anything; the other does it.
	answer := ask(worldtest.Asked{Login: "anna@brisling.example", New: "Gannet-Rock-66"})
	survivor := ""
	select {
	case <-gate.Came:
		w.Agent.Kill()
		survivor = "brisling-2"
	case <-other.Came:
		second.Kill()
		survivor = "brisling-1"
	case <-time.After(10 * time.Second):
		t.Fatal("no agent took the order")
	}
	gate.Open()
	other.Open()
	got := <-answer
	require.True(t, got.Done, "%+v", got)
	assert.True(t, w.Binds("Anna", "Gannet-Rock-66"))
	events := worldtest.Reads[[]wire.PasswordEvent](w, "passwords", "events")
	require.Len(t, events, 1)
	assert.Equal(t, survivor, events[0].Agent)

	// The service is killed with the event in hand; what the agent has done is told by another,
	// which takes the stream over, and not done again.
	standby := w.Standby()
	_ = w.Agent.Stop() // it may be the one that was killed
	reach(t, w.AgentFile, w.URL, standby)
	w.StartAgent()
	slow := w.NewGate()
	reach(t, w.AgentFile, gate.URL, slow.URL)
	if survivor == "brisling-2" {
		require.NoError(t, second.Stop())
	}
	answer = ask(worldtest.Asked{Login: "bo@brisling.example", New: "Gannet-Rock-66"})
	select {
	case <-slow.Came:
	case <-time.After(10 * time.Second):
		t.Fatal("the agent did not take the order")
	}
	w.Service.Kill()
	slow.Open()
	got = <-answer
	require.True(t, got.Done, "%+v", got)
	assert.True(t, w.Binds("Bo", "Gannet-Rock-66"))
	w.StartService()
	require.Len(t, worldtest.Reads[[]wire.PasswordEvent](w, "passwords", "events"), 2)

	// Nobody is there: the person is told so within ten seconds, and nothing happens later.
	require.NoError(t, w.Agent.Stop())
	got = <-ask(worldtest.Asked{Login: "cato@brisling.example", New: "Gannet-Rock-66"})
	assert.Equal(t, "nobody-answers", got.Code, "%+v", got)
	assert.Less(t, got.Took, 10*time.Second)
	w.PasswordsOpen("closed")
	w.StartAgent()
	require.True(t, (<-ask(worldtest.Asked{Login: "anna@brisling.example", Act: "unlock"})).Done)
	assert.True(t, w.Binds("Cato", worldtest.OldPassword))

	// A directory that is away is told at once, and nothing was set.
	require.NoError(t, w.Directory.Process.Stop())
	got = <-ask(worldtest.Asked{Login: "cato@brisling.example", New: "Gannet-Rock-66"})
	assert.Equal(t, "directory-unreachable", got.Code, "%+v", got)
	assert.Contains(t, got.Sentence, "was not changed")
	w.RestartDirectory()
	assert.True(t, w.Binds("Cato", worldtest.OldPassword))

	// The key of an agent that is retired goes at once.
	keys := func() int {
		_, list := worldtest.SCIM(t, w.Address(), "GET", w.Cloud.URL+"/KeySets", nil)
		resources, _ := list["Resources"].([]any)
		require.Len(t, resources, 1)
		found, _ := resources[0].(map[string]any)["keys"].([]any)
		return len(found)
	}
	require.Equal(t, 2, keys())
	w.Says([]string{"agent", "retire", "brisling-2"})
	require.Eventually(t, func() bool { return keys() == 1 }, 5*time.Second, 20*time.Millisecond)
}
