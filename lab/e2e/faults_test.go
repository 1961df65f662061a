package e2e

import (
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// TestKilledAtAnyMoment kills service and agent in turn during a first run: the
// next start finishes it, with no resource twice and none lost.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	const crew = 2000
	groups := teamsLDIF
	for i := range 20 {
		groups += fmt.Sprintf("dn: cn=Team %02d,%s\nobjectClass: groupOfNames\n", i, teams)
		for j := i; j < crew; j += 20 {
			groups += fmt.Sprintf("member: cn=Crew %05d,%s\n", j, people)
		}
		groups += fmt.Sprintf("member: cn=Team %02d,%s\n\n", (i+1)%20, teams)
	}
	w := newRaced(t, ldifPeople(crew)+groups)
	w.activate(withGroups())
	first, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
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
		if !w.awaitMoment(first.ID, reached) {
			break // the run was faster
		}
		if i == 1 {
			w.agent.Kill()
			w.startAgent()
		} else {
			w.service.Kill()
			w.startService()
		}
		killed++
	}
	assert.GreaterOrEqual(t, killed, 5, "the run must be hit at several moments")
	run := w.wait(first.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	made := users(t, w.address(), "")
	assert.Len(t, made, crew, "none lost, none twice")
	keys := map[any]bool{}
	for _, u := range made {
		keys[u["externalId"]] = true
	}
	assert.Len(t, keys, crew)
	health, err := w.client.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, crew, health.Objects.Linked)
	teams := resources(t, w.address(), "Groups")
	assert.Len(t, teams, 20)
	for name, team := range teams {
		assert.Len(t, team["members"], crew/20+1, name)
	}
	w.inStep(0)
	full := w.run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}

// awaitMoment follows a run until it has got somewhere; false when it has ended.
func (w *world) awaitMoment(id int64, reached func(wire.Run) bool) bool {
	w.t.Helper()
	deadline := time.Now().Add(time.Minute)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for time.Now().Before(deadline) {
		run, err := w.client.Run(w.t.Context(), id)
		require.NoError(w.t, err)
		if run.State.Ended() {
			return false
		}
		if reached(run) {
			return true
		}
		<-tick.C
	}
	w.t.Fatal("the moment was not reached in a minute")
	return false
}

// TestTheCloudFailsNowAndThen makes a tenth of all requests fail in one of four
// ways, answers lost after the work among them.
func TestTheCloudFailsNowAndThen(t *testing.T) {
	t.Parallel()
	const crew = 600
	w := newRaced(t, ldifPeople(crew))
	w.activate(document())
	status, _ := scim(t, w.address(), "POST", w.cloud.Control+"/faults", map[string]any{"rate": 0.3, "seed": 42})
	require.Equal(t, 200, status)
	run := w.run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	for i := range 30 {
		w.set(fmt.Sprintf("cn=Crew %05d,%s", i, people), "title", "Mate")
	}
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	status, _ = scim(t, w.address(), "POST", w.cloud.Control+"/faults", map[string]any{})
	require.Equal(t, 200, status)
	assert.Len(t, users(t, w.address(), ""), crew)
	assert.Len(t, users(t, w.address(), `title eq "Mate"`), 30)
	assert.Zero(t, w.run(wire.NewRun{Purpose: purpose.Full}).Counts.Changes)
}

// TestAValueThatTheCloudAltersIsNoticed lets the cloud cut titles: the run says
// so, and the problem ends with the cause.
func TestAValueThatTheCloudAltersIsNoticed(t *testing.T) {
	t.Parallel()
	w := newRaced(t, "")
	titles := func(length int) {
		status, answer := scim(t, w.address(), "POST", w.cloud.Control+"/faults", map[string]any{"titleLength": length})
		require.Equal(t, 200, status, answer)
	}
	titles(6)
	ada := w.person("Ada Brekke", map[string]string{"title": "Chief Officer"})
	w.person("Jon Sletta", map[string]string{"title": "Mate"})
	w.activate(document())
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, []int{2, 2, 0, 1}, []int{run.Counts.Create, run.Counts.Done, run.Counts.Failed, run.Counts.Problems}, "done, but one of them not as it was sent")
	assert.Equal(t, map[string]string{ada: string(problem.ValueAltered)}, w.problems())
	why := w.why(ada)
	require.NotNil(t, why.Problem)
	assert.Equal(t, "title: Chief Officer was sent, Chief  is kept", why.Problem.Detail)
	w.inStep(0)
	titles(0)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{Purpose: purpose.Full}).State)
	assert.Empty(t, w.problems())
	assert.Equal(t, "Chief Officer", w.user("ada.brekke@brisling.example")["title"])
}

// TestWhatIsAwayIsNamed takes each part away in turn: the run says which, and
// the next one goes on from where it was.
func TestWhatIsAwayIsNamed(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(20))
	w.activate(document())
	w.inStep(20)
	failsWith := func(code problem.Code, part string) {
		t.Helper()
		run := w.run(wire.NewRun{})
		require.Equal(t, progress.Failed, run.State)
		require.NotNil(t, run.Failure)
		assert.Equal(t, string(code), run.Failure.Code, run.Failure.Detail)
		assert.Contains(t, run.Failure.Detail, part)
		assert.NotEmpty(t, run.Failure.Remedy)
	}
	// open are the problems of one type of thing by its key, of those that are over the last.
	open := func(of about.Type, closed bool) map[string]string {
		t.Helper()
		page, err := w.client.Problems(t.Context(), url.Values{"about": {string(of)}, "closed": {strconv.FormatBool(closed)}})
		require.NoError(t, err)
		found := map[string]string{}
		for _, p := range slices.Backward(page.Items) {
			found[p.About.Key] = p.Code
		}
		return found
	}

	w.set("cn=Crew 00001,"+people, "title", "Mate")
	require.NoError(t, w.agent.Stop())
	failsWith(problem.AgentOffline, "brisling-1")
	out, _, status := w.kambrel("sync")
	assert.Equal(t, 1, status, out)
	assert.Contains(t, out, "kambrel agent run")
	w.startAgent()

	require.NoError(t, w.directory.Stop())
	failsWith(problem.DirectoryUnreachable, "connection refused")
	away := map[string]string{"brisling": string(problem.DirectoryUnreachable)}
	assert.Equal(t, away, open(about.Directory, false), "a problem of the directory, and not of the run")
	out, _, status = w.kambrel("trial", "cn=Crew 00003,"+people, "--write")
	assert.Zero(t, status, out)
	assert.Equal(t, away, open(about.Directory, false), "a run of one entry has not met the directory")
	w.restartDirectory()
	w.inStep(1)
	assert.Empty(t, open(about.Directory, false))
	assert.Equal(t, away, open(about.Directory, true), "it closes by itself, and stays in the history")

	w.set("cn=Crew 00002,"+people, "title", "Mate")
	require.NoError(t, w.cloud.Stop())
	failsWith(problem.CloudUnreachable, "connection refused")
	assert.Equal(t, map[string]string{"": string(problem.CloudUnreachable)}, open(about.Cloud, false))
	w.restartCloud("")
	w.inStep(1)
	assert.Empty(t, open(about.Cloud, false))

	w.restartCloud("another-token")
	failsWith(problem.CloudUnauthorized, "401")
	require.NoError(t, os.WriteFile(w.tokenFile, []byte("another-token\n"), 0o600))
	w.inStep(0) // the new token is taken up without a new start
}

// TestTheDatabaseRestartsInMidRun lets PostgreSQL end at once during a run.
func TestTheDatabaseRestartsInMidRun(t *testing.T) {
	t.Parallel()
	const crew = 1500
	w := newRaced(t, ldifPeople(crew))
	w.activate(document())
	first, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	w.awaitMoment(first.ID, func(r wire.Run) bool { return r.Stage == "write" })
	require.NoError(t, w.postgres.Stop())
	again, err := w.lab.StartPostgres(t.Context(), w.postgres.Port, true)
	require.NoError(t, err)
	require.Equal(t, w.postgres.Port, again.Port)
	w.postgres = again
	run := w.wait(first.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Len(t, users(t, w.address(), ""), crew)
	assert.Zero(t, w.run(wire.NewRun{Purpose: purpose.Full}).Counts.Changes)
	assert.NotContains(t, w.logOf("service"), "@brisling.example", "statements that fail are logged without people's data")
}

// TestADirectoryThatForgotItsHistoryIsReadAnew restarts OpenLDAP, which forgets
// its session log: the next read names all that is present instead.
func TestADirectoryThatForgotItsHistoryIsReadAnew(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(30))
	w.activate(document())
	w.inStep(30)
	w.set("cn=Crew 00001,"+people, "title", "Mate")
	require.NoError(t, w.directory.Stop())
	w.restartDirectory()
	w.inStep(1)
	assert.Len(t, users(t, w.address(), "active eq true"), 30)
}

func TestSecretsStayWhereTheyBelong(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(3))
	w.activate(document())
	w.inStep(3)
	logs := w.logs()
	rows := w.dump()
	for name, secret := range map[string]string{
		"the directory's password": w.directory.ReaderPassword, "the cloud's token": w.cloud.Token,
		"the administrator's password": password, "the session": w.client.Token(),
	} {
		assert.False(t, strings.Contains(logs, secret), "%s is in a log", name)
		assert.False(t, strings.Contains(rows, secret), "%s is in the database", name)
	}
	assert.Contains(t, rows, "crew00001@brisling.example", "the dump holds what it should")
}
