package faults_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestADirectoryThatIsAwayStopsOnlyItself lets the agent reach one directory and not
// the other, while both change: what is seen arrives, and nothing that the other gave
// is taken from anybody.
func TestADirectoryThatIsAwayStopsOnlyItself(t *testing.T) {
	t.Parallel()
	w, d := worldtest.TwoDirectories(t)
	w.Person("Bo", nil)
	otto := w.Person("Otto Reksten", map[string]string{"employeeNumber": "7", "title": "Hand"})
	w.InSkerry("O Reksten", map[string]string{"employeeNumber": "7", "title": "Crane Operator", "mail": "or@brisling.example"})
	anna := w.InSkerry("Anna Away", map[string]string{"mail": "anna@brisling.example"})
	w.Activate(d)
	w.InStep(3)
	title := func() any { return w.User("otto.reksten@brisling.example")["title"] }
	require.Equal(t, "Crane Operator", title(), "skerry is the preferred one")

	// The agent knows an address at which nobody answers.
	require.NoError(t, w.Agent.Stop())
	whole, err := os.ReadFile(w.AgentFile)
	require.NoError(t, err)
	before, skerry, found := bytes.Cut(whole, []byte("  - name: skerry\n"))
	require.True(t, found)
	broken := bytes.Replace(skerry, []byte(w.Directory.URL), []byte("ldaps://localhost:9"), 1)
	require.NoError(t, os.WriteFile(w.AgentFile, bytes.Join([][]byte{before, broken}, []byte("  - name: skerry\n")), 0o600))
	w.StartAgent()
	w.Person("Cai", nil)
	w.Set(otto, "telephoneNumber", "+47 7")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(anna, nil)))

	for _, why := range []purpose.Purpose{purpose.Rehearsal, purpose.Forecast} {
		rehearsed := w.Run(wire.NewRun{Purpose: why})
		require.Len(t, rehearsed.LeftOut, 1, "%s: %+v", why, rehearsed.Failure)
		assert.Equal(t, 2, rehearsed.Counts.Changes, "%s: %+v", why, rehearsed.Counts)
	}
	out, _, status := w.Kambrel("sync")
	assert.Equal(t, 2, status, out)
	assert.Contains(t, out, "left out skerry: The directory cannot be reached")
	run := lastRun(t, w)
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, []progress.LeftOut{{Directory: "skerry", Code: problem.DirectoryUnreachable, Title: run.LeftOut[0].Title, Detail: run.LeftOut[0].Detail}}, run.LeftOut)
	assert.Equal(t, [2]int{2, 2}, [2]int{run.Counts.Changes, run.Counts.Done})
	assert.NotNil(t, w.User("cai@brisling.example"))
	assert.Equal(t, "Crane Operator", title(), "what the missing one gave stays")
	health, _, status := w.Kambrel("health")
	assert.NotZero(t, status)
	assert.Contains(t, health, "skerry")

	// Of a person whose other entry goes, the missing directory still has one.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(otto, nil)))
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Suspend, "%+v", full.Counts)
	assert.Equal(t, true, w.User("otto.reksten@brisling.example")["active"])
	assert.Equal(t, true, w.User("anna@brisling.example")["active"], "nobody has seen that she is gone")

	// Once it is back, all that happened meanwhile is seen.
	require.NoError(t, w.Agent.Stop())
	require.NoError(t, os.WriteFile(w.AgentFile, whole, 0o600))
	w.StartAgent()
	run = w.Run(wire.NewRun{})
	assert.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Equal(t, 1, run.Counts.Suspend, "Anna")
	assert.Equal(t, false, w.User("anna@brisling.example")["active"])
	assert.Equal(t, true, w.User("or@brisling.example")["active"], "Otto goes on as the one that skerry has")
	problems, err := w.Client.Problems(t.Context(), nil)
	require.NoError(t, err)
	for _, p := range problems.Items {
		assert.NotEqual(t, about.Directory, p.About.Type, "%+v", p)
	}
}

// TestAScopeThatVanishedStopsItsDirectoryOnly takes the container away that the scope
// of one of two directories names.
func TestAScopeThatVanishedStopsItsDirectoryOnly(t *testing.T) {
	t.Parallel()
	w, d := worldtest.TwoDirectories(t)
	require.NoError(t, w.LDAP.Add(&ldap.AddRequest{DN: "ou=Crew," + worldtest.Skerry, Attributes: []ldap.Attribute{{Type: "objectClass", Vals: []string{"organizationalUnit"}}}}))
	d.Directories[1].Containers.Include = []string{"ou=Crew," + worldtest.Skerry}
	away := w.InSkerry("Anna Away", map[string]string{"mail": "anna@brisling.example"})
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(away, "cn=Anna Away", true, "ou=Crew,"+worldtest.Skerry)))
	w.Activate(d)
	w.InStep(1)
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("ou=Crew,"+worldtest.Skerry, "ou=Hands", true, "")))
	w.Person("Cai", nil)
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Full} {
		run := w.Run(wire.NewRun{Purpose: why})
		require.Len(t, run.LeftOut, 1, "%+v", run)
		assert.Equal(t, problem.ContainerMissing, run.LeftOut[0].Code)
		assert.Zero(t, run.Counts.Suspend)
	}
	assert.NotNil(t, w.User("cai@brisling.example"))
	assert.Equal(t, true, w.User("anna@brisling.example")["active"])
	trial, err := w.Client.Try(t.Context(), wire.NewTrial{Text: "anna@brisling.example", Write: true})
	require.NoError(t, err)
	assert.Equal(t, progress.Failed, w.Wait(trial.RunID).State, "nor does a sync of one of its entries")
	d.Directories[1].Containers.Include = []string{"ou=Hands," + worldtest.Skerry}
	w.Activate(d)
	w.InStep(0)
}

func lastRun(t *testing.T, w *worldtest.World) wire.Run {
	t.Helper()
	runs, err := w.Client.Runs(t.Context(), nil)
	require.NoError(t, err)
	require.NotEmpty(t, runs.Items)
	return runs.Items[0]
}
