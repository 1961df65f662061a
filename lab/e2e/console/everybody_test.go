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
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// everyPage are the pages of the console, as a day may show them, and the page for the browser of
// people who sign in at Kambrel.
var everyPage = []string{"/", "/runs", "/runs/1", "/problems", "/notices", "/report", "/operators", "/domains", "/domains/brisling.example", "/installation", "/audit", "/kept", "/leavers", "/objects",
	"/objects/crew00003@brisling.example", "/directories", "/directories/brisling", "/scope", "/rules", "/rules?kind=users&target=displayName", "/forecast", "/survey", "/settings", "/cloud-groups", "/passwords", "/cloud", "/nowhere", "/people/check"}

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
	do("sign in", browser.SignIn(w.URL+"/", "administrator", worldtest.Password), shows("h1", "Overview"))
	violations := func(what string, actions ...chromedp.Action) {
		t.Helper()
		var text string
		ctx, cancel := context.WithTimeout(page, 40*time.Second)
		defer cancel()
		err := chromedp.Run(ctx, append(actions,
			// Until nothing has changed for a moment.
			chromedp.Evaluate(`new Promise(done => { let timer; const rest = () => { clearTimeout(timer); timer = setTimeout(() => { seen.disconnect(); done(true) }, 150) }; const seen = new MutationObserver(rest); seen.observe(document, {childList: true, subtree: true}); setTimeout(done, 5000, true); rest() })`, nil, awaits),
			chromedp.Evaluate(string(axe)+";0", nil),
			chromedp.Evaluate(`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]}).then(r => JSON.stringify(r.violations.map(v => v.id + ": " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(" AND "))))`, &text, awaits))...)
		require.NoError(t, err, what)
		var found []string
		require.NoError(t, json.Unmarshal([]byte(text), &found))
		assert.Empty(t, found, "%s:\n%s", what, strings.Join(found, "\n"))
	}
	// What opens over a page.
	for _, over := range []struct{ path, button, text string }{{"/", "Pause…", "No run begins"}, {"/", "Your account", "password"}, {"/objects/crew00003@brisling.example", "Expect that it stays so…", "Add to the draft"}} {
		violations(over.button, chromedp.Navigate(w.URL+over.path), chromedp.WaitVisible("main h1"), worldtest.Button(over.button), shows(".n-modal", over.text))
	}
	violations("what finds anything", chromedp.Navigate(w.URL+"/"), chromedp.WaitVisible("main h1"), chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)), shows("#finds li", "Login domains"))
	violations("the keys", chromedp.Navigate(w.URL+"/"), chromedp.WaitVisible("main h1"), chromedp.KeyEvent("?"), shows(".n-modal kbd", "Ctrl K"))
	for _, view := range []struct {
		look  string
		width int64
	}{{"light", 1280}, {"dark", 768}, {"light", 420}} {
		do("turn to the look", chromedp.Navigate(w.URL+"/"), chromedp.WaitVisible("#main h1"), emulation.SetDeviceMetricsOverride(1280, 800, 1, false),
			emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: view.look}}), chromedp.Evaluate(fmt.Sprintf(`document.documentElement.dataset.look !== %q && document.querySelector(".foot .plain").click()`, view.look), nil),
			chromedp.Poll(fmt.Sprintf(`document.documentElement.dataset.look === %q`, view.look), nil), emulation.SetDeviceMetricsOverride(view.width, 800, 1, false))
		for _, path := range everyPage {
			violations(fmt.Sprintf("%s, %s, %d wide", path, view.look, view.width), chromedp.Navigate(w.URL+path), chromedp.WaitVisible("main h1"))
		}
	}
}

func awaits(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
