package setup_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/go-ldap/ldap/v3"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// agentDirectory runs 'kambrel agent directory set' for the world's directory.
func agentDirectory(w *worldtest.World, t *testing.T) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(file, []byte(w.Directory.ReaderPassword+"\n"), 0o600))
	_, stderr, status := worldtest.Kambrel(t, "agent", "directory", "set", "brisling", "--url", w.Directory.URL, "--ca", w.Directory.CAFile, "--bind-dn", w.Directory.ReaderDN, "--password-file", file, "--config", w.AgentFile)
	require.Zero(t, status, stderr)
}

// TestFromAnEmptyServiceByTheCommandLineAlone follows docs/operators-guide.md.
func TestFromAnEmptyServiceByTheCommandLineAlone(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(8), worldtest.Options{Bare: true})
	do := func(want int, args ...string) string {
		t.Helper()
		stdout, stderr, status := w.Kambrel(args...)
		require.Equal(t, want, status, "%q: %s%s", args, stdout, stderr)
		return stdout + stderr
	}
	// next is what the list of the first day says to do, and that it is not all done.
	next := func(text string) {
		t.Helper()
		assert.Contains(t, do(2, "first-day"), "\nNext: "+text)
	}
	next("A directory is added")
	assert.Contains(t, do(0, "directory", "list"), "No directory yet")
	assert.Contains(t, do(1, "forecast"), "begin with a directory")
	assert.Contains(t, do(1, "impact"), "begin with a directory")
	assert.Contains(t, do(1, "directory", "add", "Brisling", "--dialect", "standard", "--base", "brisling"), "small letters")
	assert.Contains(t, do(0, "directory", "add", "brisling", "--dialect", "standard", "--base", worldtest.Base), "kambrel agent code")
	assert.Contains(t, do(1, "directory", "probe", "brisling"), "No agent serves the directory")
	assert.Contains(t, do(1, "forecast"), "kambrel forecast --draft")
	assert.Contains(t, do(0, "directory", "rights", "brisling"), "probe the directory first")

	next("An agent serves each directory.\n'kambrel agent code brisling'")
	code := regexp.MustCompile(`kambrel agent enrol .*`).FindString(do(0, "agent", "code", "brisling"))
	out, err := exec.Command("sh", "-c", strings.Replace(code, "kambrel", worldtest.Plainly.Kambrel, 1)+" --name brisling-1 --config "+w.AgentFile).CombinedOutput()
	require.NoError(t, err, string(out))
	w.StartAgent() // before it knows a directory: it takes it up while it runs
	agentDirectory(w, t)
	require.Eventually(t, func() bool {
		agents, err := w.Client.Agents(t.Context())
		return err == nil && len(agents) == 1 && len(agents[0].Directories) == 1
	}, 20*time.Second, 50*time.Millisecond)
	next("Each was probed, and nothing is wrong")
	probe := do(0, "directory", "probe", "brisling")
	next("Each was read")
	assert.Contains(t, probe, "signed in as "+w.Directory.ReaderDN)
	assert.Contains(t, do(0, "directory", "rights", "brisling"), "access to dn.subtree=", "in the language of the server that was found")
	assert.Contains(t, probe, "no group is to be seen", "what is doubtful is told with what to do")

	assert.Contains(t, do(0, "directory", "read"), "8 entries")
	next("It is chosen who takes part")
	tree := do(0, "scope", "tree", "brisling")
	assert.Regexp(t, `\[ \] People +8`, tree)
	assert.Contains(t, do(1, "scope", "include", "ou=Nowhere,dc=other,dc=example"), "base of no directory")
	assert.Contains(t, do(1, "scope", "exclude", "ou=Peopel,"+worldtest.Base), "brisling has no container ou=Peopel,"+worldtest.Base)
	do(0, "scope", "include", worldtest.People)
	assert.Contains(t, do(1, "scope", "filter", "users", "(&(objectClass=person)"), "^ character 23")
	do(0, "scope", "filter", "users", "(!(|(uid=crew00007)(roomNumber=1)))")
	assert.Contains(t, do(0, "scope", "count"), "NOT READ YET: brisling: roomNumber")
	do(0, "directory", "read")
	assert.Regexp(t, `take part +7`, do(0, "scope", "count"))
	next("A rehearsal has told what would become of everybody")
	impact := do(0, "impact")
	next("The settings are active")
	assert.Contains(t, impact, "would create 7")
	assert.Empty(t, worldtest.Users(t, w.Address(), ""), "nothing reaches the cloud before activation")
	assert.Contains(t, do(1, "settings", "activate"), "give --yes", "nothing is activated without a word where there is no terminal")
	assert.Contains(t, do(0, "settings", "activate", "--yes", "--note", "First day"), "Revision 1 is active")
	next("The first run has ended well")
	// Somebody watches the runs meanwhile, each time as a JSON document of its own.
	watcher := exec.Command(worldtest.Plainly.Kambrel, "runs", "list", "--watch", "-o", "json", "--service", w.URL, "--token", w.Client.Token())
	seen, err := watcher.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, watcher.Start())
	shown := json.NewDecoder(seen)
	var runs []wire.Run
	require.NoError(t, shown.Decode(&runs))
	do(0, "sync")
	for runs[0].Purpose != purpose.Sync || runs[0].State != progress.InStep {
		require.NoError(t, shown.Decode(&runs), "it is shown again by itself until the run is there, and has ended")
	}
	require.NoError(t, watcher.Process.Signal(os.Interrupt))
	assert.NoError(t, watcher.Wait(), "whoever ends it has seen what they wanted")
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 7)
	assert.Contains(t, do(0, "settings", "history"), "First day")
	day := do(0, "first-day")
	assert.Regexp(t, `to do +There is a backup`, day, "what can come later does not keep it from being done")
	assert.Contains(t, day, "'kambrel agent code brisling'", "a second agent is asked for, where it is missing")
}

// TestFromAnEmptyServiceByKeysInTheConsole does the same with the pages, and without a mouse;
// only what runs on the agent's host is a command.
func TestFromAnEmptyServiceByKeysInTheConsole(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(8), worldtest.Options{Bare: true})
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	do, shows := worldtest.Actor(t, page)
	do("sign in", chromedp.Navigate(w.URL+"/"), worldtest.Write("Name", "administrator"), worldtest.Write("Password", worldtest.Password), chromedp.KeyEvent(kb.Enter), shows("h1", "Overview"))
	do("be led", shows("[aria-label='First day']", "1 of 9 steps to the first run are done. Next: A directory is added"), worldtest.Press("Go on"), shows("h1", "First day"), shows("[aria-current=step]", "A directory is added"))
	do("be told where to begin", worldtest.Page("Scope"), shows("section", "No directory is connected yet"), worldtest.Press("Connect"), shows("h1", "Directories"))
	do("add a directory", worldtest.Press("Add directory"), worldtest.Turn("dialect", 1), worldtest.Write("Name", "brisling"), worldtest.Write("Base", worldtest.Base),
		worldtest.Press("Add to the draft"), shows("h1", "brisling"), shows(".page-head", "Standard LDAP"), shows("[data-next=true]", "An agent serves it"))
	var commands string
	do("get a code", worldtest.Press("Enrol an agent"), shows("pre", "kambrel agent enrol"), chromedp.Text("pre.commands", &commands, chromedp.ByQuery))
	enrol, _, _ := strings.Cut(commands, "\n")
	out, err := exec.Command("sh", "-c", strings.Replace(enrol, "kambrel", worldtest.Plainly.Kambrel, 1)+" --name brisling-1 --config "+w.AgentFile).CombinedOutput()
	require.NoError(t, err, string(out))
	agentDirectory(w, t)
	w.StartAgent()
	do("see the agent come, without a reload", shows(".agent", "brisling-1"), shows("[data-next=true]", "The probe finds nothing wrong"))
	do("probe", worldtest.Press("Probe now"), shows(".verdicts", "signed in as"), shows("[data-next=true]", "It was read"))
	do("read it", worldtest.Press("Read now"), shows("h1", "Run 1"), shows(".tag", "Read"))
	do("choose", worldtest.Page("Scope"), shows("[role=treeitem]", "People"), worldtest.Tick("People"), shows(".kind", "8of 8 users"), shows(".draft", "Not saved"))
	do("mistype a filter and be told where", worldtest.Write("Filter for users", "("), shows(".fault", "character"))
	do("undo", worldtest.Press("Undo edits"), shows(".draft", "differences"))
	do("choose again and save", worldtest.Tick("People"), worldtest.Press("Save draft"), shows(".draft", "Draft version 2"))
	do("see the impact", worldtest.Press("Show impact"), shows(".impact", "8 would be created"))
	assert.Empty(t, worldtest.Users(t, w.Address(), ""))
	do("activate", worldtest.Press("Activate…"), worldtest.Press("Confirm"), shows(".draft", "these are the active settings, revision 1"))
	do("sync", worldtest.Press("Sync now"), shows("h1", "Run"), shows(".tag", "In step"))
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 8)
	do("look what is left of the day", worldtest.Page("First day"), shows("[aria-label='To the first run']", "9 of 9 done"), shows("[aria-label='To sleep well']", "There is a backup"))
	do("see the history", worldtest.Page("History of the settings"), shows("td", "1, active"))
	do("survey", worldtest.Page("Survey"), worldtest.Press("Survey now"), shows(".kinds", "No display name"), shows("td", "brisling.example"))
	do("look at the cloud", worldtest.Page("Cloud"), shows("td", "only what changes is sent"))
}

// TestAnAgentThatDiesIsTakenOver kills the agent that holds a read order in the
// middle of its answer: another finishes it, within the lease.
func TestAnAgentThatDiesIsTakenOver(t *testing.T) {
	t.Parallel()
	const n = 30000
	w := worldtest.New(t, worldtest.LDIFPeople(n))
	w.Activate(worldtest.Document())
	first, firstFile := w.Agent, w.AgentFile
	w.AgentFile = filepath.Join(w.Lab.Dir, "agent2.yaml")
	code, err := w.Client.IssueCode(t.Context(), "brisling")
	require.NoError(t, err)
	out, err := exec.Command(worldtest.Plainly.Kambrel, "agent", "enrol", "--service", w.URL, "--code", code.Code, "--name", "brisling-2", "--config", w.AgentFile).CombinedOutput()
	require.NoError(t, err, string(out))
	agentDirectory(w, t)
	second, err := w.Lab.Start(context.Background(), servers.Command{Name: "agent2", Path: w.Programs.Kambrel, Args: []string{"agent", "run", "--config", w.AgentFile}})
	require.NoError(t, err)
	w.Agent, w.AgentFile = first, firstFile
	require.Eventually(t, func() bool {
		agents, err := w.Client.Agents(t.Context())
		return err == nil && len(agents) == 2 && len(agents[0].Directories) == 1 && len(agents[1].Directories) == 1
	}, 20*time.Second, 20*time.Millisecond)

	db, err := pgx.Connect(t.Context(), w.DSN)
	require.NoError(t, err)
	defer db.Close(context.Background())
	run, err := w.Client.ReadDirectories(t.Context())
	require.NoError(t, err)
	var holder string
	var read int
	require.Eventually(t, func() bool {
		err := db.QueryRow(t.Context(), `SELECT a.name, (o.counts->>'read')::int FROM orders o JOIN agents a ON a.id = o.agent_id WHERE o.state = 'leased'`).Scan(&holder, &read)
		return err == nil && read > 1000
	}, 60*time.Second, 5*time.Millisecond)
	require.Less(t, read, n, "it is killed in the middle")
	victim := map[string]*servers.Process{"brisling-1": first, "brisling-2": second}[holder]
	victim.Kill()
	killed := time.Now()
	ended := w.Wait(run.ID)
	assert.Equal(t, progress.InStep, ended.State, "%+v", ended.Failure)
	var by string
	var state string
	require.NoError(t, db.QueryRow(t.Context(), `SELECT a.name, o.state FROM orders o JOIN agents a ON a.id = o.agent_id ORDER BY o.id DESC LIMIT 1`).Scan(&by, &state))
	assert.Equal(t, "done", state)
	assert.NotEqual(t, holder, by, "another agent has finished the order")
	t.Logf("killed after %d entries, done %s later", read, time.Since(killed).Round(time.Millisecond))
	var entries int
	require.NoError(t, db.QueryRow(t.Context(), `SELECT count(*) FROM entries WHERE kind = 'user' AND gone IS NULL`).Scan(&entries))
	assert.Equal(t, n, entries, "no entry is lost")
}

// TestTwoOperatorsWhoEditAtOnceAreTold: the second save would undo the first.
func TestTwoOperatorsWhoEditAtOnceAreTold(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3))
	w.Activate(worldtest.Document())
	w.InStep(3)
	ingrid, err := w.Client.Draft(t.Context())
	require.NoError(t, err)
	odd, err := w.Client.Draft(t.Context())
	require.NoError(t, err)
	require.Zero(t, ingrid.Version)
	ingrid.Document.Guard.Share = 7
	saved, err := w.Client.SaveDraft(t.Context(), wire.SaveDraft{Version: ingrid.Version, Document: &ingrid.Document})
	require.NoError(t, err)
	require.Len(t, saved.Differences, 1)
	assert.Equal(t, "guard.share", saved.Differences[0].Path)
	odd.Document.Guard.Share = 9
	_, err = w.Client.SaveDraft(t.Context(), wire.SaveDraft{Version: odd.Version, Document: &odd.Document})
	require.ErrorContains(t, err, "The draft was changed meanwhile")
	require.ErrorContains(t, err, "administrator")

	// A rehearsal of a draft that changes ends by itself, and an old version is
	// never activated.
	impact, err := w.Client.Impact(t.Context())
	require.NoError(t, err)
	saved.Document.Guard.Share = 8
	newer, err := w.Client.SaveDraft(t.Context(), wire.SaveDraft{Version: saved.Version, Document: &saved.Document})
	require.NoError(t, err)
	assert.True(t, w.Wait(impact.ID).State.Ended())
	_, err = w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: saved.Version})
	require.ErrorContains(t, err, "version")
	active, err := w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: newer.Version, Note: "a wider guard"})
	require.NoError(t, err)
	assert.Equal(t, 2, active.Revision)

	// Somebody activates a file while a draft is made from the revision before.
	draft, err := w.Client.EditDraft(t.Context(), func(d *settings.Document) error { d.Guard.Share = 11; return nil })
	require.NoError(t, err)
	other := active.Document
	other.Guard.Removals = 33
	w.Activate(other)
	_, err = w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: draft.Version})
	require.ErrorContains(t, err, "revision 3 meanwhile")

	// Back to the first revision, as a new one.
	back, err := w.Client.ReturnTo(t.Context(), 1, draft.Version)
	require.NoError(t, err)
	require.NoError(t, w.Client.DiscardDraft(t.Context()))
	back, err = w.Client.ReturnTo(t.Context(), 1, 0)
	require.NoError(t, err)
	assert.Len(t, back.Differences, 2)
	_, err = w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: back.Version})
	require.NoError(t, err)
	same, err := w.Client.Compare(t.Context(), "1", "4")
	require.NoError(t, err)
	assert.Empty(t, same.Differences)
	differs, err := w.Client.Compare(t.Context(), "3", "4")
	require.NoError(t, err)
	assert.Len(t, differs.Differences, 2)
	_, err = w.Client.Compare(t.Context(), "3", "draaft")
	assert.ErrorContains(t, err, "neither")
	_, err = w.Client.Revision(t.Context(), 99)
	assert.ErrorContains(t, err, "there is no revision 99")

	// A draft may have faults, but then it goes no further.
	broken, err := w.Client.EditDraft(t.Context(), func(d *settings.Document) error { d.Users.Filter = "(cn="; return nil })
	require.NoError(t, err)
	require.Len(t, broken.Faults, 1)
	_, err = w.Client.Impact(t.Context())
	require.ErrorContains(t, err, "users.filter")
	_, err = w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: broken.Version})
	require.ErrorContains(t, err, "users.filter")
	_, err = w.Client.SaveDraft(t.Context(), wire.SaveDraft{Version: broken.Version, YAML: "users: [\n"})
	require.ErrorContains(t, err, "line")
	now, err := w.Client.Draft(t.Context())
	require.NoError(t, err)
	assert.Equal(t, broken.Version, now.Version, "what was refused has changed nothing")

	file := filepath.Join(t.TempDir(), "settings.yaml")
	require.NoError(t, os.WriteFile(file, []byte(now.YAML), 0o600))
	out, stderr, status := worldtest.Kambrel(t, "settings", "check", file)
	assert.Equal(t, 1, status, stderr)
	assert.Contains(t, out, "users.filter")
}

// TestAVanishedContainerStopsRunsAndIsShown: a scope whose containers are gone
// must never read as nobody being in scope.
func TestAVanishedContainerStopsRunsAndIsShown(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(5))
	w.Activate(worldtest.Document())
	w.InStep(5)
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(worldtest.People, "ou=Folk", true, "")))
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.Failed, run.State)
	assert.Equal(t, string(problem.ContainerMissing), run.Failure.Code)
	assert.Contains(t, run.Failure.Detail, "is called ou=Folk,"+worldtest.Base+" now")
	tree, err := w.Client.Containers(t.Context(), "brisling")
	require.NoError(t, err)
	require.Len(t, tree.Vanished, 1)
	assert.Equal(t, "ou=Folk,"+worldtest.Base, tree.Vanished[0].Now)
	counts, err := w.Client.PreviewScope(t.Context(), wire.ScopePreview{})
	require.NoError(t, err)
	require.Len(t, counts.Vanished, 1, "the counts are never shown as if all were well")
	out, _, _ := w.Kambrel("scope", "count")
	assert.Contains(t, out, "VANISHED")
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 5, "nobody is suspended")

	_, err = w.Client.EditDraft(t.Context(), func(d *settings.Document) error {
		d.Directories[0].Containers.Include = []string{"ou=Folk," + worldtest.Base}
		return nil
	})
	require.NoError(t, err)
	impact, err := w.Client.Impact(t.Context())
	require.NoError(t, err)
	done := w.Wait(impact.ID)
	assert.Equal(t, progress.InStep, done.State, "%+v", done.Failure)
	assert.Zero(t, done.Counts.Changes+done.Counts.Held)
	_, _, status := w.Kambrel("settings", "activate", "--yes")
	require.Zero(t, status)
	w.InStep(0)
}

// TestAGroupLimitFollowsItsMembers: only members of a group take part, also
// through groups within it, and a change of membership is seen by a delta run.
func TestAGroupLimitFollowsItsMembers(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(6))
	crew := worldtest.Crew
	group := func(name string, members ...string) string {
		dn := "cn=" + name + "," + worldtest.Base
		add := ldap.NewAddRequest(dn, nil)
		add.Attribute("objectClass", []string{"groupOfNames"})
		add.Attribute("member", members)
		require.NoError(t, w.LDAP.Add(add))
		return dn
	}
	inner := group("Inner", crew(1), crew(2))
	pilot := group("Pilot", crew(0), inner)
	d := worldtest.Document()
	d.Guard = settings.Guard{Removals: 100, Share: 100}
	d.Users.MembersOf = settings.GroupLimit{Groups: []string{pilot}}
	w.Activate(d)
	w.InStep(1)
	d.Users.MembersOf.Nested = true
	w.Activate(d)
	w.InStep(2)
	change := ldap.NewModifyRequest(inner, nil)
	change.Add("member", []string{crew(3)})
	change.Delete("member", []string{crew(1)})
	require.NoError(t, w.LDAP.Modify(change))
	run := w.InStep(2)
	assert.Equal(t, 1, run.Counts.Create)
	assert.Equal(t, 1, run.Counts.Suspend)
	assert.Equal(t, 3, run.Counts.Planned, "only the group and whom the change concerns is looked at")
	why, err := w.Client.Why(t.Context(), crew(1))
	require.NoError(t, err)
	assert.False(t, why.In)
	assert.Contains(t, why.Summary, "no member of "+pilot)
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(pilot, nil)))
	failed := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Failed, failed.State, "a limit whose group is gone is no empty limit")
	assert.Contains(t, failed.Failure.Detail, "was deleted")
}

// TestSyncWithEveryKindOfCloud runs the everyday changes against services that
// lack something.
func TestSyncWithEveryKindOfCloud(t *testing.T) {
	t.Parallel()
	for name, arguments := range map[string][]string{
		"PUT only, no etag":   {"--without", "patch,etag"},
		"no bulk, no domains": {"--without", "bulk,domains", "--page-size", "7"},
		"no filter, no sort":  {"--without", "filter,sort"},
		"cursors only":        {"--paging", "cursor", "--page-size", "5"},
	} {
		t.Run(name, func(t *testing.T) {
			w := worldtest.NewWith(t, worldtest.LDIFPeople(30), worldtest.Options{Cloud: arguments})
			cloud, err := w.Client.ProbeCloud(t.Context())
			require.NoError(t, err)
			for _, v := range cloud {
				assert.NotEqual(t, "bad", v.Outcome, "%+v", v)
			}
			w.Activate(worldtest.Document())
			w.InStep(30)
			w.InStep(0)
			status, adopted := worldtest.SCIM(t, w.Address(), "POST", w.Cloud.URL+"/Users", map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": "ada.brekke@brisling.example", "nickName": "Ada"})
			require.Equal(t, 201, status)
			dn := w.Person("Ada Brekke", map[string]string{"title": "Mate"})
			run := w.InStep(1)
			assert.Equal(t, 1, run.Counts.Adopt)
			w.Set(dn, "title", "Bosun")
			w.InStep(1)
			_, now := worldtest.SCIM(t, w.Address(), "GET", w.Cloud.URL+"/Users/"+adopted["id"].(string), nil)
			assert.Equal(t, "Bosun", now["title"])
			assert.Equal(t, "Ada", now["nickName"], "what no rule manages is kept")
			require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(dn, nil)))
			w.InStep(1)
			_, now = worldtest.SCIM(t, w.Address(), "GET", w.Cloud.URL+"/Users/"+adopted["id"].(string), nil)
			assert.Equal(t, false, now["active"])
		})
	}
}
