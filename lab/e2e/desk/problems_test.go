package desk_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// mayRepair lets the agent's account write addresses and names in the people's container.
const mayRepair = `access to dn.subtree="ou=People,dc=brisling,dc=example" attrs=mail,displayName by dn.exact="uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example" write by * break`

// TestTheDeskIsCleared solves problems where they are seen: by commands first, then in the
// console alone, from the overview to an empty page.
func TestTheDeskIsCleared(t *testing.T) {
	t.Parallel()
	passed := filepath.Join(t.TempDir(), "acts.jsonl")
	collector, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer collector.Close()
	w := worldtest.NewWith(t, "", worldtest.Options{Access: mayRepair, Serve: []string{"--audit-file", passed, "--audit-syslog", "udp://" + collector.LocalAddr().String()}})
	known := w.InCloud("mira.tangen", map[string]any{"displayName": "Mira Tangen"})
	person := func(name, mail string) string {
		return w.Person(name, map[string]string{"mail": mail, "displayName": name})
	}
	person("Mira Tangen", "mt@brisling.example")
	for i := range 5 {
		person(fmt.Sprintf("Late %d", i), fmt.Sprintf("late%d@corp.brisling.example", i))
	}
	twin := person("Twin B", "twin@brisling.example")
	person("Ada Lind", "ada@brisling.example")
	d := worldtest.Document()
	d.Directories[0].Features = []entry.Feature{entry.FeatureRepair}
	w.Activate(d)
	run := w.Run(wire.NewRun{})
	assert.Equal(t, []int{6, 0, 0}, []int{run.Counts.ProblemsNew, run.Counts.ProblemsGone, run.Counts.ProblemsStanding}, "%+v", run.Counts)

	// A second run says nothing of what stands but how many, and what is new.
	person("Twin A", "TWIN@brisling.example")
	out, _, status := w.Kambrel("sync")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "problems  1 new, 0 gone, 6 standing")
	assert.Contains(t, out, "New problems\nThe resource is linked to another entry")
	assert.NotContains(t, out, "corp.brisling.example")
	w.Says([]string{"problems"}, "7 open problems", "login-suffix-not-verified")
	w.Says([]string{"problems", "list", "--run", strconv.FormatInt(run.ID, 10)}, "Somebody looks like the same person", "Login suffix is not verified")

	// Who looks after it, until when it sleeps; then it asks for nothing, and is there still.
	taken := one(w, problem.LinkConflict)
	number := strconv.FormatInt(taken.ID, 10)
	w.Says([]string{"problems", "show", number}, "THIS ONE", "THE OTHER", "Why:", "kambrel problems repair")
	w.Says([]string{"problems", "assign", number, "--to", "ingrid"}, "Kept of 1 problem")
	w.Says([]string{"problems", "note", number, "--text", "asked the twins"})
	w.Refuses([]string{"problems", "sleep", number, "--until", "2020-01-01"}, "has passed")
	w.Refuses([]string{"problems", "sleep", number, "--until", "2199-01-01"}, "a year at most")
	w.Says([]string{"problems", "sleep", number, "--until", time.Now().AddDate(0, 1, 0).Format(time.DateOnly)}, "Kept of 1 problem")
	w.Says([]string{"problems", "list", "--code", "link-conflict"}, "ingrid looks after it", "note of administrator: asked the twins")
	w.Says([]string{"problems", "list", "--assigned", "ingrid"}, "Twin A")
	out, _, _ = w.Kambrel("health")
	assert.Contains(t, out, "Login suffix is not verified")
	assert.NotContains(t, out, "linked to another entry")
	w.Says([]string{"problems"}, "7 open problems, 1 asleep")
	w.Refuses([]string{"problems", "assign", "4711", "--to", "x"}, "none of these problems is open")

	// Its value is corrected by the command, and the problem closes.
	w.Says([]string{"problems", "repair", number}, `mail: "TWIN@brisling.example"`, "Nothing was written")
	w.Refuses([]string{"problems", "repair", number, "--value", "no address", "--yes"}, "no address")
	w.Says([]string{"problems", "repair", number, "--value", "twin.a@brisling.example"}, "Nothing was written yet")
	out, _, _ = w.Kambrel("problems", "repair", number, "--value", "twin.a@brisling.example", "--yes")
	assert.Contains(t, out, "0 new, 1 gone, 6 standing")
	assert.Contains(t, out, "Gone\n  cn=Twin A")
	assert.NotNil(t, w.User("twin.a@brisling.example"))
	closed := w.Says([]string{"problems", "show", number}, "the cause is gone, as run", "What was done:", "repair-value", "mark-problem")
	assert.Contains(t, closed, "twin.a@brisling.example")
	assert.Equal(t, "twin@brisling.example", w.Value(twin, "mail"), "the other was not touched")

	// The rest in the console, without a mouse.
	do, shows := w.Console()
	do("see what needs attention, and go there", shows(".attention", "Login suffix is not verified"), worldtest.Press("Problems"), shows(".group", "Somebody looks like the same person"))
	do("open one cause, and correct all of it", worldtest.Press("Login suffix is not verified"), shows(".note", "has not verified"), worldtest.Press("Correct the values of all…"),
		shows(".n-modal .mono", "late4@corp.brisling.example"))
	do("write what is proposed", worldtest.Press("Write 5 values"), shows("[role=status]", "1 open problem"))
	do("open the other one", worldtest.Press("All causes"), worldtest.Press("Somebody looks like"), worldtest.Press("Mira Tangen"), shows("h1", "Somebody looks like the same person"), shows("th", "The other: Mira Tangen"), shows("section", "the same name"))
	do("say who looks after it", worldtest.Press("I look after it"), shows(".note", "administrator looks after it"))
	do("link the two", worldtest.Press("Same person: link with mira.tangen@brisling.example…"), shows(".n-modal", "takes the entry's values"), worldtest.Press("Link"), shows(".tag", "Closed"), shows("section", "the cause is gone"))
	do("find the desk clear", worldtest.Press("All problems"), shows(".clear", "No open problems"), shows(".clear", "In the last 14 days these were solved"))
	w.InStep(0) // the problem is closed as soon as that is planned
	assert.Equal(t, known, w.User("mt@brisling.example")["id"])
	assert.NotNil(t, w.User("late4@brisling.example"))

	acts, err := w.Client.Acts(t.Context(), map[string][]string{"kind": {string(act.RepairValue)}})
	require.NoError(t, err)
	assert.Equal(t, 6, acts.Total, "each value is in the audit")

	// What is sent on.
	w.Says([]string{"report", "--days", "1"}, "Came (9)", "The resource is linked to another entry", "Wrote a value to a directory")
	w.Says([]string{"report", "--days", "1", "--csv"}, "came,", "twin.a@brisling.example")
	w.Refuses([]string{"report", "--from", "2020-01-01", "--to", "2026-01-01"}, "of a year at most")
	do("see the report", worldtest.Press("Audit"), worldtest.Press("Report"), shows("h2", "Came"), shows("td", "twin.a@brisling.example"))

	// The audit: found, taken along, and passed on, each act once.
	do("find an act", worldtest.Press("Audit"), shows("li", "administrator from 127.0.0.1, console linked an entry"), chromedp.Navigate(w.URL+"/audit?kind=mark-problem&text=twins"), shows("[role=status]", "2 acts"), shows(".acts", "from 127.0.0.1, command line"))
	w.Says([]string{"acts", "--kind", "mark-problem", "--since", "1h", "--text", "twins"}, "from 127.0.0.1, command line", "asked the twins")
	table, err := csv.NewReader(strings.NewReader(w.Says([]string{"acts", "--csv"}, "number,at,by,origin"))).ReadAll()
	require.NoError(t, err)
	all, err := w.Client.Acts(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, table, 1+all.Total)
	heard := map[string]bool{}
	buffer := make([]byte, 1<<16)
	for len(heard) < all.Total {
		require.NoError(t, collector.SetReadDeadline(time.Now().Add(20*time.Second)))
		n, _, err := collector.ReadFrom(buffer)
		require.NoError(t, err, "%d of %d acts were heard", len(heard), all.Total)
		message := string(buffer[:n])
		assert.Regexp(t, `^<10[89]>1 \d{4}-\d\d-\d\dT\S+Z \S+ kambrel \d+ [a-z-]+ \[act@32473 `, message)
		number := regexp.MustCompile(`number="(\d+)"`).FindStringSubmatch(message)
		require.NotNil(t, number, message)
		assert.False(t, heard[number[1]], "an act goes out once")
		heard[number[1]] = true
	}
	text, err := os.ReadFile(passed)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	assert.Len(t, lines, all.Total)
	var line wire.Act
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &line))
	assert.NotEmpty(t, line.Kind)
}

// one is the open problem of a code.
func one(w *worldtest.World, code problem.Code) wire.Problem {
	w.T.Helper()
	page, err := w.Client.Problems(w.T.Context(), map[string][]string{"code": {string(code)}})
	require.NoError(w.T, err)
	require.Len(w.T, page.Items, 1)
	return page.Items[0]
}
