package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestTheConsoleOnTheSecondDay decides about a near miss in the forecast, edits a
// rule with the formula editor, and tries one entry.
func TestTheConsoleOnTheSecondDay(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	known := w.InCloud("mira.tangen", map[string]any{"displayName": "Mira Tangen"})
	mira := w.Person("Mira Tangen", map[string]string{"mail": "mt@brisling.example", "displayName": "Mira Tangen"})
	ada := w.Person("Ada Brekke", map[string]string{"title": "mate"})
	w.Group("Deck", ada, mira)
	w.Activate(worldtest.WithGroups())
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	defer stop()
	do, shows := worldtest.Actor(t, page)
	do("sign in", browser.SignIn(w.URL, "administrator", worldtest.Password))

	do("find the forecast empty, and make one", chromedp.Navigate(w.URL+"/forecast"), shows("section.empty", "Nothing was forecast yet"), worldtest.Button("Forecast now"), shows(".tile", "Somebody looks like the same person"))
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 1, "a forecast writes nothing")
	do("choose who waits for a decision", chromedp.Evaluate(`[...document.querySelectorAll(".tile")].find(e => e.textContent.includes("looks like")).click()`, nil), shows("td", "mt@brisling.example"), shows(".means", "A second account is expensive to undo"))
	do("see both sides", chromedp.Click(".n-data-table-expand-trigger", chromedp.ByQuery), shows(".decide", "mira.tangen@brisling.example"), worldtest.Button("Same person: link…"), shows(".n-modal", "takes the entry's values"), shows(".n-modal", "mt@brisling.example"))
	do("link, and see the run to its end", worldtest.Button("Link"), shows("h1", "Run"), shows(".tag", "In step"), shows("td", "adopt"))
	assert.Equal(t, known, w.User("mt@brisling.example")["id"])
	assert.Equal(t, []string{"ada.brekke", "mt"}, worldtest.Members(t, w.Address(), "Deck"))

	editor := `.rule .cm-content`
	do("make the title by a formula", chromedp.Navigate(w.URL+"/rules?target=title"), shows(".rule h2", "title"), worldtest.Choose(".rule", "By a formula"),
		chromedp.WaitVisible(editor, chromedp.ByQuery))
	do("mistype it, and be told where", chromedp.Focus(editor, chromedp.ByQuery), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(kb.Backspace), chromedp.KeyEvent("capitalised(entry.title)"), shows(".rule [role=alert]", "Line 1, character 12: undeclared reference to 'capitalised'"))
	do("correct it, and try it", chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(kb.Backspace), chromedp.KeyEvent("capitalized(entry.title)"), chromedp.KeyEvent(kb.Escape),
		chromedp.SendKeys(`[aria-label="Entry to try the formula on"]`, "ada.brekke@brisling.example", chromedp.ByQuery), shows(".gives", `Gives "Mate"`), shows(".gives .line", `entry.title`))
	do("save, see the impact, activate", worldtest.Button("Save draft"), shows(".draft", "Draft version 1"), worldtest.Button("Show impact"), shows("section", "would"))
	draft, err := w.Client.Draft(t.Context())
	require.NoError(t, err)
	_, err = w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: draft.Version})
	require.NoError(t, err)

	do("try one entry", chromedp.Navigate(w.URL+"/objects/ada.brekke@brisling.example"), worldtest.Button("Try without writing"), shows("section", "was asked just now"), shows("section", `Mate`))
	assert.Equal(t, "mate", w.User("ada.brekke@brisling.example")["title"], "nothing was written")
	w.InStep(1)
	assert.Equal(t, "Mate", w.User("ada.brekke@brisling.example")["title"])
	do("see a group with its members", chromedp.Navigate(w.URL+"/objects/Deck"), shows("section", "2 in the directory, 2 in the cloud"), shows(".members td", "Mira Tangen"))
	do("search by a filter", chromedp.Navigate(w.URL+"/objects?text=(title=mate)"), shows("[role=status]", "1 object"), shows("td", "Ada Brekke"))
}
