package live_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestEverythingIsPaused stops a first run in the middle: it ends where it is, nothing is
// written and no run begins until somebody resumes, and then all is made, nobody twice.
func TestEverythingIsPaused(t *testing.T) {
	t.Parallel()
	const people = 1500
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(people))
	w.Activate(liveDocument())
	run, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	if err != nil { // the change of the settings has asked for one already
		require.ErrorContains(t, err, "open")
	}
	page, err := w.Client.Runs(t.Context(), nil)
	require.NoError(t, err)
	first := page.Items[len(page.Items)-1]
	require.True(t, w.AwaitMoment(first.ID, func(r wire.Run) bool { return r.Counts.Done > 0 }), "it is written")
	w.Says([]string{"pause", "--everything", "--reason", "something looks wrong"}, "everything is paused", "something looks wrong", "somebody resumes it")

	ended := w.Wait(first.ID)
	assert.Equal(t, progress.Cancelled, ended.State)
	assert.Equal(t, string(problem.Paused), ended.Failure.Code)
	made := len(worldtest.Users(t, w.Address(), ""))
	assert.Greater(t, made, 0)
	require.Less(t, made, people, "it ended where it was")
	assert.Equal(t, ended.Counts.Done, made, "what it did is told")
	if run.ID > 0 && run.ID != first.ID {
		waiting, err := w.Client.Run(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Equal(t, progress.Waiting, waiting.State)
	}

	w.Refuses([]string{"pause", "--reason", "x"}, "--everything, --cloud, --directories or --directory NAME")
	w.Refuses([]string{"pause", "--everything"}, "say why")
	w.Refuses([]string{"pause", "--directory", "skerry", "--reason", "x"}, "name no directory", "brisling")
	w.Refuses([]string{"pause", "--cloud", "--until", "2020-01-01", "--reason", "x"}, "that is over")

	// It is told everywhere, and nothing begins.
	w.Refuses([]string{"sync"}, "everything is paused", "something looks wrong", "kambrel resume")
	out, _, _ := w.Kambrel("health")
	assert.Contains(t, out, "! Paused by an operator: everything is paused, by administrator since")
	assert.Contains(t, out, "Next run   none: everything is paused")
	assert.Contains(t, out, "kambrel resume --everything")
	w.Says([]string{"problems"}, "Paused by an operator")
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, people-made, rehearsed.Counts.Create, "what would be done can still be asked")
	ada := w.Person("Ada Lind", map[string]string{"title": "Mate"})
	require.Eventually(t, func() bool { // the change is heard, and its run waits
		health, err := w.Client.Health(t.Context())
		return err == nil && health.Current != nil && health.Current.State == progress.Waiting
	}, 20*time.Second, 50*time.Millisecond)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), made)

	// A second service takes over nothing that is paused; resumed, all of it is made.
	w.StartService()
	assert.Len(t, worldtest.Users(t, w.Address(), ""), made)
	w.Says([]string{"resume"}, "It goes on.")
	require.Eventually(t, func() bool { return len(worldtest.Users(t, w.Address(), "")) == people+1 }, 60*time.Second, 50*time.Millisecond)
	w.Refuses([]string{"resume"}, "Nothing is paused.")
	acts, _, _ := w.Kambrel("acts", "-o", "json")
	assert.Contains(t, acts, `"pause"`)
	assert.Contains(t, acts, `"resume"`)
	require.Eventually(t, func() bool {
		page, err := w.Client.Problems(t.Context(), map[string][]string{"code": {string(problem.Paused)}})
		return err == nil && page.Total == 0
	}, 30*time.Second, 50*time.Millisecond, "the problem closes by itself")

	// One with a time ends by itself.
	w.Says([]string{"pause", "--everything", "--for", "2s", "--reason", "a moment"}, "a moment")
	w.Set(ada, "title", "Master")
	w.Arrives(login, "Master")
	w.Says([]string{"pause", "list"}, "Nothing is paused.")
}

// TestASideIsPaused stops what is written to the cloud, what is written to directories, and
// one directory; the rest goes on, and nothing that was left is lost.
func TestASideIsPaused(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	anna := "cn=Anna," + worldtest.People
	d := worldtest.GroupDocument(nil)
	d.Directories[0].Features = append(d.Directories[0].Features, entry.FeatureRepair)
	w.Activate(d)
	w.CloudGroup("Deck", "anna")

	w.Says([]string{"pause", "--cloud", "--reason", "the cloud is looked after"}, "nothing is written to the cloud")
	w.Set(anna, "title", "Mate")
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	require.Len(t, run.LeftOut, 1)
	assert.Contains(t, run.LeftOut[0].Detail, "the cloud is looked after")
	assert.Nil(t, w.User("anna@brisling.example")["title"])
	assert.Contains(t, w.KeptGroups(worldtest.CloudGroups), "Deck", "groups are written back as before")
	w.Refuses([]string{"trial", anna, "--write"}, "nothing is written to the cloud")
	w.Says([]string{"runs", "show", fmt.Sprint(run.ID)}, "nothing is written to the cloud")
	w.Says([]string{"resume"}, "It goes on.")
	w.InStep(1)
	assert.Equal(t, "Mate", w.User("anna@brisling.example")["title"])

	do, shows := w.Console()
	do("pause in the console", chromedp.Navigate(w.URL+"/runs"), shows("h1", "Runs"), worldtest.Button("Pause…"),
		shows(".n-radio", "Nothing is written to them"), chromedp.Evaluate(`[...document.querySelectorAll(".n-radio")].find(r => r.textContent.includes("Nothing is written to them")).click()`, nil),
		shows(".n-radio--checked", "Directories"), chromedp.SendKeys(`input[aria-label="Why"]`, "no writes tonight", chromedp.ByQuery),
		worldtest.Button("Pause it"), shows(".paused", "Nothing is written to directories"), shows(".paused", "no writes tonight"))
	w.CloudMember(w.ID("Deck"), true, "bo")
	w.Set(anna, "title", "Master")
	run = w.Run(wire.NewRun{})
	assert.Equal(t, "Master", w.User("anna@brisling.example")["title"], "the cloud is brought in step")
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups)["Deck"].Members, 1, "and nothing is written to the directory")
	require.Len(t, run.LeftOut, 1)
	_, err := w.Client.Repair(t.Context(), wire.NewRepair{Items: []wire.RepairItem{{Directory: "brisling", EntryID: w.Why(anna).Entry.ID.String(), Attribute: "mail", Before: "anna@brisling.example", After: "anna@halvard.example"}}})
	assert.ErrorContains(t, err, "no writes tonight")
	do("resume in the console", worldtest.Button("Resume"), chromedp.WaitNotPresent(".paused", chromedp.ByQuery))
	w.Run(wire.NewRun{})
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups)["Deck"].Members, 2)

	w.Says([]string{"pause", "--directory", "brisling", "--reason", "its controllers are upgraded"}, "directory brisling is paused")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(anna, nil)))
	run = w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Equal(t, progress.Cancelled, run.State, "no directory is left")
	assert.Equal(t, true, w.User("anna@brisling.example")["active"])
	w.Says([]string{"problems", "list"}, "its controllers are upgraded")
	w.Says([]string{"resume"}, "It goes on.")
	w.Run(wire.NewRun{})
	assert.Equal(t, false, w.User("anna@brisling.example")["active"])
}
