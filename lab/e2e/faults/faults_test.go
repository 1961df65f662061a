package faults_test

import (
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestKilledAtAnyMoment kills service and agent in turn during a first run: the
// next start finishes it, with no resource twice and none lost.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	const crew = 2000
	groups := worldtest.TeamsLDIF
	for i := range 20 {
		groups += fmt.Sprintf("dn: cn=Team %02d,%s\nobjectClass: groupOfNames\n", i, worldtest.Teams)
		for j := i; j < crew; j += 20 {
			groups += fmt.Sprintf("member: cn=Crew %05d,%s\n", j, worldtest.People)
		}
		groups += fmt.Sprintf("member: cn=Team %02d,%s\n\n", (i+1)%20, worldtest.Teams)
	}
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(crew)+groups)
	w.Activate(worldtest.WithGroups())
	first, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	// Moments by what the run has done so far, so that every stage is hit.
	moments := []func(wire.Run) bool{
		func(r wire.Run) bool { return r.Stage == "read" },
		func(r wire.Run) bool { return r.Counts.EntriesRead > crew/2 || r.Stage == "plan" },
		func(r wire.Run) bool { return r.Stage == "plan" },
		func(r wire.Run) bool { return r.Counts.Planned > crew/2 },
		func(r wire.Run) bool { return r.Stage == "write" },
		func(r wire.Run) bool { return r.Counts.Done > crew/8 },
		func(r wire.Run) bool { return r.Stage == "write" && r.Counts.Done > crew/16 },
		func(r wire.Run) bool { return r.Counts.Done > crew+20 }, // among what ties them together
	}
	killed := 0
	for i, reached := range moments {
		if !w.AwaitMoment(first.ID, reached) {
			break // the run was faster
		}
		if i == 1 {
			w.Agent.Kill()
			w.StartAgent()
		} else {
			w.Service.Kill()
			w.StartService()
		}
		killed++
	}
	assert.GreaterOrEqual(t, killed, 5, "the run must be hit at several moments")
	run := w.Wait(first.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	made := worldtest.Users(t, w.Address(), "")
	assert.Len(t, made, crew, "none lost, none twice")
	keys := map[any]bool{}
	for _, u := range made {
		keys[u["externalId"]] = true
	}
	assert.Len(t, keys, crew)
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, crew, health.Objects.Linked)
	teams := worldtest.Resources(t, w.Address(), "Groups")
	assert.Len(t, teams, 20)
	for name, team := range teams {
		assert.Len(t, team["members"], crew/20+1, name)
	}
	// Of all that the run wrote nothing is read back but what somebody else has changed.
	w.ByHand("crew01234@brisling.example", "title", "Stowaway")
	drift := w.InStep(1)
	assert.Equal(t, "Hand", w.User("crew01234@brisling.example")["title"])
	assert.Less(t, drift.Counts.ResourcesRead, crew)
	w.InStep(0)
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}

// TestTheCloudFailsNowAndThen makes a tenth of all requests fail in one of four
// ways, answers lost after the work among them.
func TestTheCloudFailsNowAndThen(t *testing.T) {
	t.Parallel()
	const crew = 600
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(crew))
	w.Activate(worldtest.Document())
	w.CloudFaults(map[string]any{"rate": 0.3, "seed": 42})
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	for i := range 30 {
		w.Set(worldtest.Crew(i), "title", "Mate")
	}
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	w.CloudFaults(nil)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), crew)
	assert.Len(t, worldtest.Users(t, w.Address(), `title eq "Mate"`), 30)
	assert.Zero(t, w.Run(wire.NewRun{Purpose: purpose.Full}).Counts.Changes)
}

// TestAValueThatTheCloudAltersIsNoticed lets the cloud cut titles: the run says
// so, and the problem ends with the cause.
func TestAValueThatTheCloudAltersIsNoticed(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	titles := func(length int) { w.CloudFaults(map[string]any{"titleLength": length}) }
	titles(6)
	ada := w.Person("Ada Brekke", map[string]string{"title": "Chief Officer"})
	w.Person("Jon Sletta", map[string]string{"title": "Mate"})
	w.Activate(worldtest.Document())
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, []int{2, 2, 0, 1}, []int{run.Counts.Create, run.Counts.Done, run.Counts.Failed, run.Counts.Problems}, "done, but one of them not as it was sent")
	assert.Equal(t, map[string]string{ada: string(problem.ValueAltered)}, w.Problems())
	why := w.Why(ada)
	require.NotNil(t, why.Problem)
	assert.Equal(t, "title: Chief Officer was sent, Chief  is kept", why.Problem.Detail)
	w.InStep(0)
	titles(0)
	w.Says([]string{"cloud", "forget"}, "1 resource")
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{Purpose: purpose.Full}).State)
	assert.Empty(t, w.Problems())
	assert.Equal(t, "Chief Officer", w.User("ada.brekke@brisling.example")["title"])
}

// TestWhatIsAwayIsNamed takes each part away in turn: the run says which, and
// the next one goes on from where it was.
func TestWhatIsAwayIsNamed(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(20))
	w.Activate(worldtest.Document())
	w.InStep(20)
	failsWith := func(code problem.Code, part string) {
		t.Helper()
		run := w.Run(wire.NewRun{})
		require.Equal(t, progress.Failed, run.State)
		require.NotNil(t, run.Failure)
		assert.Equal(t, string(code), run.Failure.Code, run.Failure.Detail)
		assert.Contains(t, run.Failure.Detail, part)
		assert.NotEmpty(t, run.Failure.Remedy)
	}
	// open are the problems of one type of thing by its key, of those that are over the last.
	open := func(of about.Type, closed bool) map[string]string {
		t.Helper()
		page, err := w.Client.Problems(t.Context(), url.Values{"about": {string(of)}, "closed": {strconv.FormatBool(closed)}})
		require.NoError(t, err)
		found := map[string]string{}
		for _, p := range slices.Backward(page.Items) {
			found[p.About.Key] = p.Code
		}
		return found
	}

	w.Set(worldtest.Crew(1), "title", "Mate")
	require.NoError(t, w.Agent.Stop())
	failsWith(problem.AgentOffline, "brisling-1")
	out, _, status := w.Kambrel("sync")
	assert.Equal(t, 1, status, out)
	assert.Contains(t, out, "kambrel agent run")
	w.StartAgent()

	require.NoError(t, w.Directory.Stop())
	failsWith(problem.DirectoryUnreachable, "connection refused")
	away := map[string]string{"brisling": string(problem.DirectoryUnreachable)}
	assert.Equal(t, away, open(about.Directory, false), "a problem of the directory, and not of the run")
	out, _, status = w.Kambrel("trial", worldtest.Crew(3), "--write")
	assert.Zero(t, status, out)
	assert.Equal(t, away, open(about.Directory, false), "a run of one entry has not met the directory")
	w.RestartDirectory()
	w.InStep(1)
	assert.Empty(t, open(about.Directory, false))
	assert.Equal(t, away, open(about.Directory, true), "it closes by itself, and stays in the history")

	w.Set(worldtest.Crew(2), "title", "Mate")
	require.NoError(t, w.Cloud.Stop())
	failsWith(problem.CloudUnreachable, "connection refused")
	assert.Equal(t, map[string]string{"": string(problem.CloudUnreachable)}, open(about.Cloud, false))
	w.RestartCloud("")
	w.InStep(1)
	assert.Empty(t, open(about.Cloud, false))

	w.RestartCloud("another-token")
	failsWith(problem.CloudUnauthorized, "401")
	require.NoError(t, os.WriteFile(w.TokenFile, []byte("another-token\n"), 0o600))
	w.InStep(0) // the new token is taken up without a new start
}

// TestTheDatabaseRestartsInMidRun lets PostgreSQL end at once during a run.
func TestTheDatabaseRestartsInMidRun(t *testing.T) {
	t.Parallel()
	const crew = 1500
	w := worldtest.NewWith(t, worldtest.LDIFPeople(crew), worldtest.Options{Raced: true, Database: true})
	w.Activate(worldtest.Document())
	first, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	w.AwaitMoment(first.ID, func(r wire.Run) bool { return r.Stage == "write" })
	require.NoError(t, w.Postgres.Stop())
	w.StartDatabase()
	run := w.Wait(first.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), crew)
	assert.Zero(t, w.Run(wire.NewRun{Purpose: purpose.Full}).Counts.Changes)
	assert.NotContains(t, w.LogOf("service"), "@brisling.example", "statements that fail are logged without people's data")
}

// TestADirectoryThatForgotItsHistoryIsReadAnew restarts OpenLDAP, which forgets
// its session log: the next read names all that is present instead.
func TestADirectoryThatForgotItsHistoryIsReadAnew(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(30))
	w.Activate(worldtest.Document())
	w.InStep(30)
	w.Set(worldtest.Crew(1), "title", "Mate")
	require.NoError(t, w.Directory.Stop())
	w.RestartDirectory()
	w.InStep(1)
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 30)
}

// TestADirectoryThatWasKilledLosesNobody kills OpenLDAP, which then tells of itself as it was
// some time before: whoever it does not name, and still has, is not gone, and whoever it has
// taken in just before is not left out.
func TestADirectoryThatWasKilledLosesNobody(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(10))
	w.Activate(worldtest.Document())
	w.InStep(10)
	for n := range 5 {
		w.Set(worldtest.Crew(n), "title", "Mate")
		w.Person(fmt.Sprintf("Newcomer %d", n), nil)
	}
	w.InStep(10)
	for n, why := range []purpose.Purpose{purpose.Sync, purpose.Full} {
		w.Person(fmt.Sprintf("Latecomer %d", n), nil)
		w.Directory.Process.Kill()
		w.RestartDirectory()
		run := w.Run(wire.NewRun{Purpose: why})
		require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
		assert.Zero(t, run.Counts.EntriesGone, why)
		assert.Equal(t, 1, run.Counts.Changes, "%s: %+v", why, run.Counts)
		assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 16+n, why)
	}
}

func TestSecretsStayWhereTheyBelong(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{Database: true})
	w.Activate(worldtest.Document())
	w.InStep(3)
	logs := w.Logs()
	rows := w.Dump()
	for name, secret := range map[string]string{
		"the directory's password": w.Directory.ReaderPassword, "the cloud's token": w.Cloud.Token,
		"the administrator's password": worldtest.Password, "the session": w.Client.Token(),
	} {
		assert.False(t, strings.Contains(logs, secret), "%s is in a log", name)
		assert.False(t, strings.Contains(rows, secret), "%s is in the database", name)
	}
	assert.Contains(t, rows, "crew00001@brisling.example", "the dump holds what it should")
}
