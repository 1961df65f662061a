package desk_test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestEverythingIsFound looks for all sorts of things by name and number, by the command line
// and from any page of the console.
func TestEverythingIsFound(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "dn: ou=Mia Port,"+worldtest.People+"\nobjectClass: organizationalUnit\n\ndn: ou=Mia Bay,"+worldtest.People+"\nobjectClass: organizationalUnit\n\n")
	for _, name := range []string{"Aamia Holm", "Mia Sand", "Mia"} {
		w.Person(name, nil)
	}
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(w.Person("Zoe Lunde", nil), "cn=Zoe Lunde", true, "ou=Mia Port,"+worldtest.People)))
	w.Person("Zoe Twin", map[string]string{"mail": "zoe.lunde@brisling.example"})
	w.Activate(worldtest.Document())
	run := w.Run(wire.NewRun{})
	require.Equal(t, 1, run.Counts.ProblemsNew, "%+v", run.Counts)

	names := func(text string) (objects []string, others map[string]string) {
		found := worldtest.Reads[wire.Everything](w, "find", text)
		others = map[string]string{}
		for _, hit := range found.Objects {
			objects = append(objects, hit.Name)
		}
		for _, other := range found.Others {
			others[other.Sort] += other.Name + ";"
		}
		return objects, others
	}
	objects, others := names("mia")
	assert.Equal(t, []string{"Mia", "Mia Sand"}, objects[:2], "the exact name first, then names that begin so")
	assert.Equal(t, map[string]string{"container": "Mia Port;"}, others, "a container in which nobody is helps nobody")
	_, others = names("1")
	assert.Contains(t, others["run"], "Run 1: sync by administrator")
	assert.Contains(t, others["problem"], "Problem 1: ")
	assert.Contains(t, others["revision"], "Revision 1: ")
	_, others = names("run 1")
	assert.Len(t, others, 1, "a number of one sort only")
	_, others = names("login is")
	assert.Equal(t, map[string]string{"cause": problem.Describe(problem.DuplicateLogin).Title + ";"}, others)
	_, others = names("brisling-1")
	assert.Equal(t, map[string]string{"agent": "brisling-1;"}, others)
	w.Says([]string{"find", "run 1"}, "kambrel runs show 1")

	do, shows := w.Console()
	// Not by KeyEvent, which types the character although the page has taken the key.
	slash := chromedp.Evaluate(`document.body.dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true}))`, nil)
	do("the slash leads to the field", slash, browser.Until(`document.activeElement.matches("[role=combobox]")`, 20*time.Second), chromedp.KeyEvent("mia"), shows(`[role=option][aria-selected=true]`, "Mia"), shows("[role=option]", "Mia Port"))
	do("with the keys to the second", chromedp.KeyEvent(kb.ArrowDown), shows(`[role=option][aria-selected=true]`, "Mia Sand"), chromedp.KeyEvent(kb.Enter), shows("h1", "mia.sand@brisling.example"))
	do("a run by its number", slash, chromedp.KeyEvent("run 1"), shows(`[role=option]`, "Run 1"), chromedp.KeyEvent(kb.Enter), shows("h1", "Run 1"))
	do("nothing is said in words", slash, chromedp.KeyEvent("no such thing"), shows(`[role=search] p`, "Nothing is called so"))
}
