package live_test

import (
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// liveDocument lets changes start runs, and nothing else does.
func liveDocument() settings.Document {
	d := worldtest.Document()
	d.Schedule.Live = "on"
	return d
}

// watched waits until an agent says so of the directory.
func watched(w *worldtest.World, state string) wire.Watch {
	w.T.Helper()
	var found wire.Watch
	require.Eventually(w.T, func() bool {
		agents, err := w.Client.Agents(w.T.Context())
		if err != nil || len(agents) == 0 {
			return false
		}
		at := slices.IndexFunc(agents[0].Watches, func(one wire.Watch) bool { return one.Directory == "brisling" && one.State == state })
		if at >= 0 {
			found = agents[0].Watches[at]
		}
		return at >= 0
	}, 40*time.Second, 50*time.Millisecond, "the directory is %s", state)
	return found
}

// login is Ada's in the cloud.
const login = "ada.lind@brisling.example"

// adaArrives activates settings by which changes start runs, and lets Ada arrive.
func adaArrives(w *worldtest.World) (dn string) {
	w.T.Helper()
	w.Activate(liveDocument())
	dn = w.Person("Ada Lind", map[string]string{"title": "Mate"})
	w.Arrives(login, "Mate") // also the first run begins by itself
	return dn
}

// TestAChangeArrivesByItself changes people in a directory: each change is in the cloud at
// once, a burst with a few runs, what changed while nobody watched with the next beginning, and
// nothing moves by itself any more once it is switched off.
func TestAChangeArrivesByItself(t *testing.T) {
	t.Parallel()
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(60))
	ada := adaArrives(w)
	watched(w, wire.Watched)
	w.Says([]string{"agent", "list"}, "brisling watched")

	var took []time.Duration
	for i := range 10 {
		title := fmt.Sprintf("Mate %d", i)
		w.Set(ada, "title", title)
		took = append(took, w.Arrives(login, title))
	}
	slices.Sort(took)
	t.Logf("from directory to cloud: %s in the middle, %s at most", took[len(took)/2], took[len(took)-1])
	assert.Less(t, took[len(took)/2], 3*time.Second)

	// A person who comes and one who is deleted.
	bo := w.Person("Bo Vik", map[string]string{"title": "Cook"})
	w.Arrives("bo.vik@brisling.example", "Cook")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(bo, nil)))
	require.Eventually(t, func() bool { return w.User("bo.vik@brisling.example")["active"] == false }, 20*time.Second, 20*time.Millisecond)

	// A burst is gathered.
	runs := func() int {
		page, err := w.Client.Runs(t.Context(), nil)
		require.NoError(t, err)
		return page.Total
	}
	before := runs()
	for i := range 60 {
		w.Set(worldtest.Crew(i), "title", "Stoker")
	}
	require.Eventually(t, func() bool { return len(worldtest.Users(t, w.Address(), `title eq "Stoker"`)) == 60 }, 30*time.Second, 50*time.Millisecond)
	assert.Less(t, runs()-before, 30, "a few runs, not one for each")

	// What changes while the agent is away comes when it is back, and so it is with a
	// directory that was started again.
	require.NoError(t, w.Agent.Stop())
	w.Set(ada, "title", "Purser")
	w.StartAgent()
	w.Arrives(login, "Purser")
	require.NoError(t, w.Directory.Process.Stop())
	watched(w, wire.WatchBroken)
	w.RestartDirectory()
	w.Set(ada, "title", "Master")
	w.Arrives(login, "Master")
	watched(w, wire.Watched)

	// Switched off, nobody watches.
	w.Activate(worldtest.Document())
	require.Eventually(t, func() bool {
		agents, err := w.Client.Agents(t.Context())
		return err == nil && len(agents[0].Watches) == 0
	}, 20*time.Second, 50*time.Millisecond)
	before = runs()
	w.Set(ada, "title", "Bosun")
	w.Person("Cai Nes", nil)
	w.InStep(2)
	assert.Equal(t, before+1, runs(), "only the run that was asked for")
}

// TestWhatFailedIsTriedAgain changes somebody while the cloud refuses everything: the run
// fails, and the change arrives once the cloud is back, with no schedule and no other change.
func TestWhatFailedIsTriedAgain(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	ada := adaArrives(w)
	token, err := os.ReadFile(w.TokenFile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.TokenFile, []byte("another-token\n"), 0o600))
	w.Set(ada, "title", "Master")
	worldtest.AwaitRun(t, w.Client, func(r wire.Run) bool { return r.By == "live" && r.State == progress.Failed })
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	require.NotNil(t, health.NextRun, "it is told when it is tried again")
	require.NoError(t, os.WriteFile(w.TokenFile, token, 0o600))
	require.Eventually(t, func() bool { return w.User(login)["title"] == "Master" }, 3*time.Minute, 50*time.Millisecond, "after a minute, where two runs have failed")
}

// TestADirectoryThatTellsNothingIsAsked says so, and changes arrive without a schedule.
func TestADirectoryThatTellsNothingIsAsked(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{NoSync: true})
	w.Activate(liveDocument())
	watched(w, wire.WatchPolled)
	require.Eventually(t, func() bool { return w.User("crew00001@brisling.example") != nil }, 30*time.Second, 50*time.Millisecond, "all is read once")
	w.Set(worldtest.Crew(1), "title", "Mate")
	w.Arrives("crew00001@brisling.example", "Mate")
}

// TestWhatIsDoneInTheCloudIsMetLive edits people in the cloud: what the rules say comes
// back by itself, and an account that somebody makes there is known of within seconds.
// What Kambrel writes itself starts no run.
func TestWhatIsDoneInTheCloudIsMetLive(t *testing.T) {
	t.Parallel()
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(5))
	ada := adaArrives(w)
	watched(w, "watched")
	w.Set(ada, "title", "Pilot")
	w.Arrives(login, "Pilot")
	w.ByHand(login, "title", "Stowaway")
	t.Logf("put right after %s", w.Arrives(login, "Pilot"))
	w.InCloud("made.there", nil)
	require.Eventually(t, func() bool {
		health, err := w.Client.Health(t.Context())
		return err == nil && health.Objects.CloudOnly == 1
	}, 60*time.Second, 50*time.Millisecond)
	runs, err := w.Client.Runs(t.Context(), nil)
	require.NoError(t, err)
	assert.LessOrEqual(t, runs.Total, 5, "what it writes itself starts no run")
}
