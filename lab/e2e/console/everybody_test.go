package console_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// everyPage are the pages of the console, as a day may show them, and the page for the browser of
// people who sign in at Kambrel.
var everyPage = []string{"/", "/runs", "/runs/1", "/problems", "/notices", "/report", "/operators", "/domains", "/domains/brisling.example", "/installation", "/first-day", "/audit", "/kept", "/leavers", "/objects",
	"/objects/crew00003@brisling.example", "/directories", "/directories/brisling", "/scope", "/rules", "/rules?kind=users&target=displayName", "/forecast", "/survey", "/settings", "/settings?view=limits", "/settings?view=schedule", "/settings?view=cloud", "/settings?view=expectations", "/cloud-groups", "/passwords", "/cloud", "/nowhere", "/people/check"}

// TestEverybodyCanUseEveryPage holds each page to the rules of WCAG 2.1 AA that axe-core knows, in
// both looks, wide and narrow.
func TestEverybodyCanUseEveryPage(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(30))
	w.Activate(worldtest.Document())
	w.Person("Nils Uten", map[string]string{"mail": "nils@elsewhere.example"}) // a problem
	run := w.Run(wire.NewRun{})
	require.Nil(t, run.Failure)
	w.Says([]string{"domain", "provider", "own", "brisling.example"})
	w.Kambrel("survey", "run")
	w.Kambrel("forecast")
	axe, err := os.ReadFile(filepath.Join("..", "..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	defer stop()
	do, shows := worldtest.Actor(t, page)
	found := func(what string, actions ...chromedp.Action) {
		t.Helper()
		var text string
		ctx, cancel := context.WithTimeout(page, 40*time.Second)
		defer cancel()
		err := chromedp.Run(ctx, append(actions,
			// Until nothing has changed for a moment, and colours are what they will be.
			chromedp.Evaluate(`new Promise(done => { let timer; const rest = () => { clearTimeout(timer); timer = setTimeout(() => { seen.disconnect(); done(true) }, 150) }; const seen = new MutationObserver(rest); seen.observe(document, {childList: true, subtree: true, attributes: true}); setTimeout(done, 5000, true); rest() }).then(() => Promise.allSettled(document.getAnimations().filter(a => a instanceof CSSTransition).map(a => a.finished))).then(() => true)`, nil, browser.Awaits),
			chromedp.Evaluate(`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]}).then(r => JSON.stringify(r.violations.map(v => v.id + ": " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(" AND "))))`, &text, browser.Awaits))...)
		require.NoError(t, err, what)
		var violations []string
		require.NoError(t, json.Unmarshal([]byte(text), &violations))
		assert.Empty(t, violations, "%s:\n%s", what, strings.Join(violations, "\n"))
	}
	open := func(path string) chromedp.Action {
		return chromedp.Tasks{chromedp.Navigate(w.URL + path), chromedp.WaitVisible("main h1"), chromedp.Evaluate(string(axe)+";0", nil)}
	}
	turn := func(look string, width int64) chromedp.Action {
		return chromedp.Tasks{emulation.SetDeviceMetricsOverride(width, 800, 1, false),
			emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: look}}),
			// The page for people's browsers has no look of its own.
			browser.Until(fmt.Sprintf(`[undefined, %q].includes(document.documentElement.dataset.look)`, look), 20*time.Second)}
	}
	// Each page is loaded once, and turned in the hand: what it shows is the same.
	everywhere := func(path string) {
		do("open "+path, turn("light", 1280), open(path))
		for _, view := range []struct {
			look  string
			width int64
		}{{"light", 1280}, {"dark", 768}, {"light", 420}} {
			found(fmt.Sprintf("%s, %s, %d wide", path, view.look, view.width), turn(view.look, view.width))
		}
	}
	do("be asked to sign in", chromedp.Navigate(w.URL+"/"), chromedp.WaitVisible("#name"))
	everywhere("/")
	do("sign in", turn("light", 1280), browser.SignIn(w.URL+"/", "administrator", worldtest.Password), shows("h1", "Overview"))
	// What opens over a page.
	for _, over := range []struct{ path, button, text string }{{"/", "Pause…", "No run begins"}, {"/", "Your account", "password"}, {"/objects/crew00003@brisling.example", "Expect that it stays so…", "Add to the draft"}} {
		found(over.button, open(over.path), worldtest.Button(over.button), shows(".n-modal", over.text))
	}
	found("what finds anything", open("/"), chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)), shows("#finds li", "Login domains"))
	found("the keys", open("/"), chromedp.KeyEvent("?"), shows(".n-modal kbd", "Ctrl K"))
	for _, path := range everyPage {
		everywhere(path)
	}
}
