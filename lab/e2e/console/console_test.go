package console_test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
)

// TestTheConsole uses the served page as an operator does.
func TestTheConsole(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(120))
	w.Activate(worldtest.Document())
	w.InStep(120)
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	defer stop()
	do, shows := worldtest.Actor(t, page)
	where := func() string {
		var address string
		do("read the address", chromedp.Location(&address))
		return address
	}

	do("be asked to sign in, and be sent on afterwards", chromedp.Navigate(w.URL+"/runs?all=yes"), chromedp.WaitVisible("#name"))
	do("be refused", chromedp.SendKeys("#name", "administrator", chromedp.ByQuery), chromedp.SendKeys("#password", "wrong", chromedp.ByQuery), chromedp.Click("button[type=submit]", chromedp.ByQuery), shows("[role=alert]", "wrong"))
	do("sign in", chromedp.SendKeys("#password", worldtest.Password, chromedp.ByQuery), chromedp.Click("button[type=submit]", chromedp.ByQuery), shows("h1", "Runs"), shows("td", "120 created"))
	assert.Equal(t, w.URL+"/runs?all=yes", where())

	do("see the overview", chromedp.Click(`a[href="/"].place`, chromedp.ByQuery), shows("h1", "Overview"), shows(".number", "120"), shows(".state", "Everything is in step"), shows("td", "brisling-1"))

	w.Set(worldtest.Crew(7), "title", "Bosun")
	do("sync and see the run live to its end", worldtest.Button("Sync now"), shows("h1", "Run 2"), shows(".tag", "In step"), shows("td", "crew00007@brisling.example"))
	do("see before and after", chromedp.Click(".n-data-table-expand-trigger", chromedp.ByQuery), shows(".taken", "Hand"), shows(".added", "Bosun"))
	do("filter changes, with the place in the address", chromedp.SendKeys(`input[aria-label="Login or name contains"]`, "nobody", chromedp.ByQuery), shows(".n-data-table", "No change fits"))
	require.Eventually(t, func() bool { return strings.Contains(where(), "text=nobody") }, 10*time.Second, 20*time.Millisecond)

	// Whoever goes on in the middle of typing gets there.
	do("search", chromedp.SendKeys(`input[aria-label="Login or name contains"]`, "x", chromedp.ByQuery), chromedp.Click(`a[href="/objects"].place`, chromedp.ByQuery), shows("h1", "Objects"), shows("[role=status]", "120 objects"))
	do("find one", chromedp.SendKeys(`input[aria-label="Search objects"]`, "crew00042", chromedp.ByQuery), shows("[role=status]", "1 object"), shows("td", "cn=Crew 00042"))
	assert.Contains(t, where(), "text=crew00042")
	do("reload in the same place", chromedp.Reload(), shows("[role=status]", "1 object"))
	do("open it", chromedp.Click("td a", chromedp.ByQuery), shows("h1", "crew00042@brisling.example"), shows("section", "nearest marked container"), shows(".mark", "decides"), shows(".side td", "crew00042@brisling.example"), shows(".now", "The cloud has just this"))
	do("go back", chromedp.NavigateBack(), shows("h1", "Objects"), shows("[role=status]", "1 object"))
	do("sort, page", chromedp.Navigate(w.URL+"/objects?sort=-name&page=2"), shows(".n-pagination-item--active", "2"), shows("td", "Crew 000"))
	do("be told that an object is unknown", chromedp.Navigate(w.URL+"/objects/nobody-at-all"), shows("[role=alert]", "nothing in the mirrors fits"))

	// In another language.
	for language, words := range map[string][]string{"de": {"Probleme", "Überblick", "Keine offenen Probleme."}, "nb": {"Problemer", "Oversikt", "Ingen åpne problemer."}} {
		do("read in "+language, chromedp.Evaluate(`localStorage.setItem("kambrel-language", "`+language+`")`, nil), chromedp.Navigate(w.URL+"/problems"),
			shows("html[lang="+language+"] h1", words[0]), shows(".rail", words[1]), shows("main", words[2]))
	}
	do("read in English again", chromedp.Evaluate(`localStorage.removeItem("kambrel-language")`, nil))

	// All of it by keys alone: a page within another, an object by its name, what can be done.
	do("find a page", chromedp.Navigate(w.URL+"/"), shows("h1", "Overview"), chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)), shows("#finds li", "Login domains"), chromedp.KeyEvent("expec"), shows("#finds li:first-child", "Expectations"), chromedp.KeyEvent(kb.Enter),
		shows("p", "Nothing is expected of anybody yet"))
	assert.Contains(t, where(), "/settings?view=expectations")
	do("find somebody", chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)), chromedp.KeyEvent("crew00043"), shows("#finds li", "crew00043@brisling.example"), chromedp.KeyEvent(kb.Enter), shows("h1", "crew00043"))
	do("be told the keys", chromedp.KeyEvent("?"), shows(".n-modal kbd", "Ctrl K"), chromedp.KeyEvent(kb.Escape), chromedp.WaitNotPresent(".n-modal kbd"))
	do("sync", chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)), chromedp.KeyEvent("sync"), shows("#finds li", "do it"), chromedp.KeyEvent(kb.Enter), shows("h1", "Run 3"), shows(".tag", "In step"))

	do("see it in the dark", chromedp.Navigate(w.URL+"/"), shows("button", "Dark look"), chromedp.Click(".foot .plain", chromedp.ByQuery), chromedp.WaitReady(`html[data-look="dark"]`))

	status, answer := w.Forger().Does("PUT", "/api/v1/agent/hello", `{"directories":["brisling","halvard"]}`)
	require.Equal(t, 204, status, answer)
	do("grant an agent the directory that it asks for", chromedp.Click(`a[href="/directories"].place`, chromedp.ByQuery), shows(".tag", "Asks for halvard"), chromedp.Click("button.beside", chromedp.ByQuery),
		shows(".n-popconfirm__panel", "All that it says"), worldtest.Button("Confirm"), shows(".n-message", "may speak for halvard"))
	agents, err := w.Client.Agents(t.Context())
	require.NoError(t, err)
	assert.Contains(t, agents[0].Granted, "halvard")

	const next = "Spring-Tide-Ten"
	do("be told what is wrong with a new password", chromedp.Click(`//button[contains(., "Your account")]`), chromedp.SendKeys("#password-current", "wrong", chromedp.ByQuery),
		chromedp.SendKeys("#password-next", next, chromedp.ByQuery), chromedp.SendKeys("#password-again", next, chromedp.ByQuery), chromedp.Click(".n-modal button[type=submit]", chromedp.ByQuery), shows(".n-modal [role=alert]", "current password is wrong"))
	do("change it", chromedp.SendKeys("#password-current", strings.Repeat(kb.Backspace, len("wrong"))+worldtest.Password, chromedp.ByQuery), chromedp.Click(".n-modal button[type=submit]", chromedp.ByQuery), shows(".n-message", "Your password is changed"))
	_, err = w.Client.Session(t.Context())
	assert.ErrorContains(t, err, "Sign-in refused", "other sessions have ended")

	require.NoError(t, w.Service.Stop())
	do("be told that the service is away", shows(".state", "cannot be reached"))
	w.StartService()
	do("see that it is back, without a reload", shows(".state", "Everything is in step"))
	do("sign out", chromedp.Click(".foot .plain:last-child", chromedp.ByQuery), chromedp.WaitVisible("#name"))
}
