package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/go-ldap/ldap/v3"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// agentDirectory runs 'kambrel agent directory set' for the world's directory.
func (w *world) agentDirectory(t *testing.T) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(file, []byte(w.directory.ReaderPassword+"\n"), 0o600))
	_, stderr, status := kambrel(t, "agent", "directory", "set", "brisling", "--url", w.directory.URL, "--ca", w.directory.CAFile, "--bind-dn", w.directory.ReaderDN, "--password-file", file, "--config", w.agentFile)
	require.Zero(t, status, stderr)
}

// TestFromAnEmptyServiceByTheCommandLineAlone follows docs/operators-guide.md.
func TestFromAnEmptyServiceByTheCommandLineAlone(t *testing.T) {
	t.Parallel()
	w := newWorldWith(t, ldifPeople(8), options{bare: true})
	do := func(want int, args ...string) string {
		t.Helper()
		stdout, stderr, status := w.kambrel(args...)
		require.Equal(t, want, status, "%q: %s%s", args, stdout, stderr)
		return stdout + stderr
	}
	assert.Contains(t, do(0, "directory", "list"), "No directory yet")
	assert.Contains(t, do(1, "directory", "add", "Brisling", "--dialect", "standard", "--base", "brisling"), "small letters")
	assert.Contains(t, do(0, "directory", "add", "brisling", "--dialect", "standard", "--base", base), "kambrel agent code")
	assert.Contains(t, do(1, "directory", "probe", "brisling"), "No agent serves the directory")

	code := regexp.MustCompile(`kambrel agent enrol .*`).FindString(do(0, "agent", "code", "brisling"))
	out, err := exec.Command("sh", "-c", strings.Replace(code, "kambrel", plainly.kambrel, 1)+" --name brisling-1 --config "+w.agentFile).CombinedOutput()
	require.NoError(t, err, string(out))
	w.startAgent() // before it knows a directory: it takes it up while it runs
	w.agentDirectory(t)
	require.Eventually(t, func() bool {
		agents, err := w.client.Agents(t.Context())
		return err == nil && len(agents) == 1 && len(agents[0].Directories) == 1
	}, 20*time.Second, 50*time.Millisecond)
	probe := do(2, "directory", "probe", "brisling")
	assert.Contains(t, probe, "signed in as "+w.directory.ReaderDN)
	assert.Contains(t, probe, "no group is to be seen", "what is doubtful is told with what to do")

	assert.Contains(t, do(0, "directory", "read"), "8 entries")
	tree := do(0, "scope", "tree", "brisling")
	assert.Regexp(t, `\[ \] People +8`, tree)
	assert.Contains(t, do(1, "scope", "include", "ou=Nowhere,dc=other,dc=example"), "base of no directory")
	do(0, "scope", "include", people)
	assert.Contains(t, do(1, "scope", "filter", "users", "(&(objectClass=person)"), "^ character 23")
	do(0, "scope", "filter", "users", "(!(|(uid=crew00007)(roomNumber=1)))")
	assert.Contains(t, do(0, "scope", "count"), "NOT READ YET: brisling: roomNumber")
	do(0, "directory", "read")
	assert.Regexp(t, `take part +7`, do(0, "scope", "count"))
	impact := do(0, "impact")
	assert.Contains(t, impact, "would create 7")
	assert.Empty(t, users(t, w.address(), ""), "nothing reaches the cloud before activation")
	assert.Contains(t, do(1, "settings", "activate"), "give --yes", "nothing is activated without a word where there is no terminal")
	assert.Contains(t, do(0, "settings", "activate", "--yes", "--note", "First day"), "Revision 1 is active")
	do(0, "sync")
	assert.Len(t, users(t, w.address(), ""), 7)
	assert.Contains(t, do(0, "settings", "history"), "First day")
}

// TestFromAnEmptyServiceByTheConsoleAlone does the same with the pages; only
// what runs on the agent's host is a command.
func TestFromAnEmptyServiceByTheConsoleAlone(t *testing.T) {
	t.Parallel()
	w := newWorldWith(t, ldifPeople(8), options{bare: true})
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	defer stop()
	do, shows := actor(t, page)
	do("sign in", browser.SignIn(w.url+"/", "administrator", password))
	do("be told where to begin", chromedp.Navigate(w.url+"/scope"), shows("section", "No directory is connected yet"), chromedp.Click("section.empty a", chromedp.ByQuery), shows("h1", "Directories"))
	do("add a directory", button("Add directory"), chromedp.WaitVisible(`input[aria-label="Name"]`, chromedp.ByQuery), chromedp.Click(`input[value="standard"]`, chromedp.ByQuery),
		chromedp.SendKeys(`input[aria-label="Name"]`, "brisling", chromedp.ByQuery), chromedp.SendKeys(`input[aria-label="Base"]`, base, chromedp.ByQuery), button("Add to the draft"), shows("h1", "brisling"), shows("[data-next=true]", "An agent serves it"))
	var commands string
	do("get a code", button("Enrol an agent"), shows("pre", "kambrel agent enrol"), chromedp.Text("pre.commands", &commands, chromedp.ByQuery))
	enrol, _, _ := strings.Cut(commands, "\n")
	out, err := exec.Command("sh", "-c", strings.Replace(enrol, "kambrel", plainly.kambrel, 1)+" --name brisling-1 --config "+w.agentFile).CombinedOutput()
	require.NoError(t, err, string(out))
	w.agentDirectory(t)
	w.startAgent()
	do("see the agent come, without a reload", shows(".agent", "brisling-1"), shows("[data-next=true]", "The probe finds nothing wrong"))
	do("probe", button("Probe now"), shows(".verdicts", "signed in as"), shows("[data-next=true]", "It was read"))
	do("read it", button("Read now"), shows("h1", "Run 1"), shows(".tag", "Read"))
	do("choose", chromedp.Navigate(w.url+"/scope?directory=brisling"), shows("[role=treeitem]", "People"), chromedp.Evaluate(`[...document.querySelectorAll("[role=treeitem]")].find(e => e.textContent.includes("People")).querySelector(".box").click()`, nil),
		shows(".kind", "8of 8 users"), shows(".draft", "Not saved"))
	do("mistype a filter and be told where", chromedp.Focus(`textarea[aria-label^="Filter for users"]`, chromedp.ByQuery), chromedp.SendKeys(`textarea[aria-label^="Filter for users"]`, "(", chromedp.ByQuery), shows(".fault", "character"))
	do("undo", button("Undo edits"), shows(".draft", "differences"))
	do("choose again and save", chromedp.Evaluate(`[...document.querySelectorAll("[role=treeitem]")].find(e => e.textContent.includes("People")).querySelector(".box").click()`, nil), button("Save draft"), shows(".draft", "Draft version 2"))
	do("see the impact", button("Show impact"), shows(".impact", "8 would be created"))
	assert.Empty(t, users(t, w.address(), ""))
	do("activate", button("Activate…"), button("Confirm"), shows(".draft", "these are the active settings, revision 1"))
	do("sync", button("Sync now"), shows("h1", "Run"), shows(".tag", "In step"))
	assert.Len(t, users(t, w.address(), ""), 8)
	do("see the history", chromedp.Navigate(w.url+"/settings?view=history"), shows("td", "1, active"))
	do("survey", chromedp.Navigate(w.url+"/survey"), button("Survey now"), shows(".kinds", "No display name"), shows("td", "brisling.example"))
	do("look at the cloud", chromedp.Navigate(w.url+"/cloud"), shows("td", "only what changes is sent"))
}

// actor returns how a test acts on a page, and how it waits for what it shows.
func actor(t *testing.T, page context.Context) (do func(string, ...chromedp.Action), shows func(selector, text string) chromedp.Action) {
	do = func(what string, actions ...chromedp.Action) {
		t.Helper()
		ctx, cancel := context.WithTimeout(page, 30*time.Second)
		defer cancel()
		if err := chromedp.Run(ctx, actions...); err != nil {
			var text string
			_ = chromedp.Run(page, chromedp.Text("body", &text))
			t.Fatalf("%s: %v; the page shows:\n%s", what, err, text)
		}
	}
	shows = func(selector, text string) chromedp.Action {
		return chromedp.Poll(fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))`, selector, text), nil, chromedp.WithPollingTimeout(20*time.Second))
	}
	return do, shows
}

// button clicks the button with a text once it can be clicked.
func button(text string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Poll(fmt.Sprintf(`[...document.querySelectorAll("button")].some(b => b.textContent.trim() === %q && !b.disabled)`, text), nil, chromedp.WithPollingTimeout(20*time.Second)),
		chromedp.Evaluate(fmt.Sprintf(`[...document.querySelectorAll("button")].find(b => b.textContent.trim() === %q && !b.disabled).click()`, text), nil),
	}
}

// TestAnAgentThatDiesIsTakenOver kills the agent that holds a read order in the
// middle of its answer: another finishes it, within the lease.
func TestAnAgentThatDiesIsTakenOver(t *testing.T) {
	t.Parallel()
	const n = 30000
	w := newWorld(t, ldifPeople(n))
	w.activate(document())
	first, firstFile := w.agent, w.agentFile
	w.agentFile = filepath.Join(w.lab.Dir, "agent2.yaml")
	code, err := w.client.IssueCode(t.Context(), "brisling")
	require.NoError(t, err)
	out, err := exec.Command(plainly.kambrel, "agent", "enrol", "--service", w.url, "--code", code.Code, "--name", "brisling-2", "--config", w.agentFile).CombinedOutput()
	require.NoError(t, err, string(out))
	w.agentDirectory(t)
	second, err := w.lab.Start(context.Background(), servers.Command{Name: "agent2", Path: w.programs.kambrel, Args: []string{"agent", "run", "--config", w.agentFile}})
	require.NoError(t, err)
	w.agent, w.agentFile = first, firstFile
	require.Eventually(t, func() bool {
		agents, err := w.client.Agents(t.Context())
		return err == nil && len(agents) == 2 && len(agents[0].Directories) == 1 && len(agents[1].Directories) == 1
	}, 20*time.Second, 20*time.Millisecond)

	db, err := pgx.Connect(t.Context(), w.dsn)
	require.NoError(t, err)
	defer db.Close(context.Background())
	run, err := w.client.ReadDirectories(t.Context())
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
	ended := w.wait(run.ID)
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
	w := newWorld(t, ldifPeople(3))
	w.activate(document())
	w.inStep(3)
	ingrid, err := w.client.Draft(t.Context())
	require.NoError(t, err)
	odd, err := w.client.Draft(t.Context())
	require.NoError(t, err)
	require.Zero(t, ingrid.Version)
	ingrid.Document.Guard.Share = 7
	saved, err := w.client.SaveDraft(t.Context(), wire.SaveDraft{Version: ingrid.Version, Document: &ingrid.Document})
	require.NoError(t, err)
	require.Len(t, saved.Differences, 1)
	assert.Equal(t, "guard.share", saved.Differences[0].Path)
	odd.Document.Guard.Share = 9
	_, err = w.client.SaveDraft(t.Context(), wire.SaveDraft{Version: odd.Version, Document: &odd.Document})
	require.ErrorContains(t, err, "The draft was changed meanwhile")
	require.ErrorContains(t, err, "administrator")

	// A rehearsal of a draft that changes ends by itself, and an old version is
	// never activated.
	impact, err := w.client.Impact(t.Context())
	require.NoError(t, err)
	saved.Document.Guard.Share = 8
	newer, err := w.client.SaveDraft(t.Context(), wire.SaveDraft{Version: saved.Version, Document: &saved.Document})
	require.NoError(t, err)
	assert.True(t, w.wait(impact.ID).State.Ended())
	_, err = w.client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: saved.Version})
	require.ErrorContains(t, err, "version")
	active, err := w.client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: newer.Version, Note: "a wider guard"})
	require.NoError(t, err)
	assert.Equal(t, 2, active.Revision)

	// Somebody activates a file while a draft is made from the revision before.
	draft, err := w.client.EditDraft(t.Context(), func(d *settings.Document) error { d.Guard.Share = 11; return nil })
	require.NoError(t, err)
	other := active.Document
	other.Guard.Removals = 33
	w.activate(other)
	_, err = w.client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: draft.Version})
	require.ErrorContains(t, err, "revision 3 meanwhile")

	// Back to the first revision, as a new one.
	back, err := w.client.ReturnTo(t.Context(), 1, draft.Version)
	require.NoError(t, err)
	require.NoError(t, w.client.DiscardDraft(t.Context()))
	back, err = w.client.ReturnTo(t.Context(), 1, 0)
	require.NoError(t, err)
	assert.Len(t, back.Differences, 2)
	_, err = w.client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: back.Version})
	require.NoError(t, err)
	same, err := w.client.Compare(t.Context(), "1", "4")
	require.NoError(t, err)
	assert.Empty(t, same.Differences)
	differs, err := w.client.Compare(t.Context(), "3", "4")
	require.NoError(t, err)
	assert.Len(t, differs.Differences, 2)
	_, err = w.client.Compare(t.Context(), "3", "draaft")
	assert.ErrorContains(t, err, "neither")
	_, err = w.client.Revision(t.Context(), 99)
	assert.ErrorContains(t, err, "there is no revision 99")

	// A draft may have faults, but then it goes no further.
	broken, err := w.client.EditDraft(t.Context(), func(d *settings.Document) error { d.Users.Filter = "(cn="; return nil })
	require.NoError(t, err)
	require.Len(t, broken.Faults, 1)
	_, err = w.client.Impact(t.Context())
	require.ErrorContains(t, err, "users.filter")
	_, err = w.client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: broken.Version})
	require.ErrorContains(t, err, "users.filter")
	_, err = w.client.SaveDraft(t.Context(), wire.SaveDraft{Version: broken.Version, YAML: "users: [\n"})
	require.ErrorContains(t, err, "line")
	now, err := w.client.Draft(t.Context())
	require.NoError(t, err)
	assert.Equal(t, broken.Version, now.Version, "what was refused has changed nothing")

	file := filepath.Join(t.TempDir(), "settings.yaml")
	require.NoError(t, os.WriteFile(file, []byte(now.YAML), 0o600))
	out, stderr, status := kambrel(t, "settings", "check", file)
	assert.Equal(t, 1, status, stderr)
	assert.Contains(t, out, "users.filter")
}

// TestAVanishedContainerStopsRunsAndIsShown: a scope whose containers are gone
// must never read as nobody being in scope.
func TestAVanishedContainerStopsRunsAndIsShown(t *testing.T) {
	t.Parallel()
	w := newWorld(t, ldifPeople(5))
	w.activate(document())
	w.inStep(5)
	require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest(people, "ou=Folk", true, "")))
	run := w.run(wire.NewRun{})
	require.Equal(t, progress.Failed, run.State)
	assert.Equal(t, string(problem.ContainerMissing), run.Failure.Code)
	assert.Contains(t, run.Failure.Detail, "is called ou=Folk,"+base+" now")
	tree, err := w.client.Containers(t.Context(), "brisling")
	require.NoError(t, err)
	require.Len(t, tree.Vanished, 1)
	assert.Equal(t, "ou=Folk,"+base, tree.Vanished[0].Now)
	counts, err := w.client.PreviewScope(t.Context(), wire.ScopePreview{})
	require.NoError(t, err)
	require.Len(t, counts.Vanished, 1, "the counts are never shown as if all were well")
	out, _, _ := w.kambrel("scope", "count")
	assert.Contains(t, out, "VANISHED")
	assert.Len(t, users(t, w.address(), "active eq true"), 5, "nobody is suspended")

	_, err = w.client.EditDraft(t.Context(), func(d *settings.Document) error {
		d.Directories[0].Containers.Include = []string{"ou=Folk," + base}
		return nil
	})
	require.NoError(t, err)
	impact, err := w.client.Impact(t.Context())
	require.NoError(t, err)
	done := w.wait(impact.ID)
	assert.Equal(t, progress.InStep, done.State, "%+v", done.Failure)
	assert.Zero(t, done.Counts.Changes+done.Counts.Held)
	_, _, status := w.kambrel("settings", "activate", "--yes")
	require.Zero(t, status)
	w.inStep(0)
}

// TestAGroupLimitFollowsItsMembers: only members of a group take part, also
// through groups within it, and a change of membership is seen by a delta run.
func TestAGroupLimitFollowsItsMembers(t *testing.T) {
	t.Parallel()
	w := newWorld(t, ldifPeople(6))
	crew := func(i int) string { return fmt.Sprintf("cn=Crew %05d,%s", i, people) }
	group := func(name string, members ...string) string {
		dn := "cn=" + name + "," + base
		add := ldap.NewAddRequest(dn, nil)
		add.Attribute("objectClass", []string{"groupOfNames"})
		add.Attribute("member", members)
		require.NoError(t, w.ldap.Add(add))
		return dn
	}
	inner := group("Inner", crew(1), crew(2))
	pilot := group("Pilot", crew(0), inner)
	d := document()
	d.Guard = settings.Guard{Removals: 100, Share: 100}
	d.Users.MembersOf = settings.GroupLimit{Groups: []string{pilot}}
	w.activate(d)
	w.inStep(1)
	d.Users.MembersOf.Nested = true
	w.activate(d)
	w.inStep(2)
	change := ldap.NewModifyRequest(inner, nil)
	change.Add("member", []string{crew(3)})
	change.Delete("member", []string{crew(1)})
	require.NoError(t, w.ldap.Modify(change))
	run := w.inStep(2)
	assert.Equal(t, 1, run.Counts.Create)
	assert.Equal(t, 1, run.Counts.Suspend)
	assert.Equal(t, 3, run.Counts.Planned, "only the group and whom the change concerns is looked at")
	why, err := w.client.Why(t.Context(), crew(1))
	require.NoError(t, err)
	assert.False(t, why.In)
	assert.Contains(t, why.Summary, "no member of "+pilot)
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(pilot, nil)))
	failed := w.run(wire.NewRun{})
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
			w := newWorldWith(t, ldifPeople(30), options{cloud: arguments})
			cloud, err := w.client.ProbeCloud(t.Context())
			require.NoError(t, err)
			for _, v := range cloud {
				assert.NotEqual(t, "bad", v.Outcome, "%+v", v)
			}
			w.activate(document())
			w.inStep(30)
			w.inStep(0)
			status, adopted := scim(t, w.address(), "POST", w.cloud.URL+"/Users", map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": "ada.brekke@brisling.example", "nickName": "Ada"})
			require.Equal(t, 201, status)
			dn := w.person("Ada Brekke", map[string]string{"title": "Mate"})
			run := w.inStep(1)
			assert.Equal(t, 1, run.Counts.Adopt)
			w.set(dn, "title", "Bosun")
			w.inStep(1)
			_, now := scim(t, w.address(), "GET", w.cloud.URL+"/Users/"+adopted["id"].(string), nil)
			assert.Equal(t, "Bosun", now["title"])
			assert.Equal(t, "Ada", now["nickName"], "what no rule manages is kept")
			require.NoError(t, w.ldap.Del(ldap.NewDelRequest(dn, nil)))
			w.inStep(1)
			_, now = scim(t, w.address(), "GET", w.cloud.URL+"/Users/"+adopted["id"].(string), nil)
			assert.Equal(t, false, now["active"])
		})
	}
}
