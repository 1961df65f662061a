package setup_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatIsExpectedStandsBeforeAnActivation has somebody expect that a person takes part with her
// title and that a service's account stays out: drafts that would break it become active by no
// way but in so many words, and what is broken is told of each.
func TestWhatIsExpectedStandsBeforeAnActivation(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3))
	w.Activate(worldtest.Document())
	ada := w.Person("Ada Brekke", map[string]string{"title": "Mate"})
	w.InStep(4)
	revision := func() int {
		t.Helper()
		active, err := w.Client.Settings(t.Context())
		require.NoError(t, err)
		return active.Revision
	}

	// Nobody, a value that no rule sets, and somebody who is meant twice are refused.
	w.Refuses([]string{"expectation", "add", "nobody@brisling.example"}, "nobody, or more than one, is called so")
	w.Refuses([]string{"expectation", "add", "ada.brekke@brisling.example", "--value", "nickName"}, "no rule gives Ada Brekke a value of nickName")
	w.Refuses([]string{"expectation", "add", "crew"}, "nobody, or more than one")

	w.Says([]string{"expectation", "list"}, "Nothing is expected of anybody yet")
	w.Says([]string{"expectation", "add", "ada.brekke@brisling.example", "--value", "title", "--note", "the papers of the ship"}, "takes part, title = Mate")
	w.Says([]string{"expectation", "add", worldtest.Crew(1)})
	w.Says([]string{"settings", "activate", "--yes", "--without-impact"})
	before := revision()
	w.InStep(0) // nobody is decided about anew for it

	// A draft that leaves her out: the command tells before it rehearses, and each way is refused.
	w.Says([]string{"scope", "filter", "users", "(title=Master)"})
	out, _, status := w.Kambrel("expectation", "list")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "BROKEN  Ada Brekke: takes part, title = Mate")
	assert.Contains(t, out, "it must hold since: the papers of the ship")
	assert.Contains(t, out, "takes part: expected yes, got no")
	assert.NotContains(t, out, "title: expected", "it follows from that she is out")
	assert.Contains(t, out, "0 of 2 expectations held, 2 broken.")
	w.Says([]string{"expectation", "list", "--active"}, "2 of 2 expectations held, 0 broken.")
	w.Refuses([]string{"settings", "activate", "--yes"}, "What is expected does not hold", "--although")
	refused := func(err error) {
		t.Helper()
		var answer *client.Error
		require.ErrorAs(t, err, &answer)
		assert.Equal(t, problem.ExpectationsNotMet, answer.Code())
		assert.Equal(t, 422, answer.Status)
	}
	draft, err := w.Client.Draft(t.Context())
	require.NoError(t, err)
	_, err = w.Client.ActivateDraft(t.Context(), wire.ActivateDraft{Version: draft.Version})
	refused(err)
	assert.ErrorContains(t, err, "Ada Brekke: takes part: expected yes, got no")
	_, err = w.Client.Activate(t.Context(), wire.ActivateSettings{YAML: draft.YAML})
	refused(err)
	require.NoError(t, w.Client.DiscardDraft(t.Context()))
	assert.Equal(t, before, revision())

	// Her title is set otherwise, from what was never read: empty here, and said to be so.
	_, err = w.Client.EditDraft(t.Context(), func(d *settings.Document) error {
		for i, rule := range d.Users.Rules {
			if rule.Target == "title" {
				d.Users.Rules[i].From = "businessCategory"
			}
		}
		return nil
	})
	require.NoError(t, err)
	out, _, status = w.Kambrel("expectation", "list")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "title: expected Mate, got nothing")
	assert.Contains(t, out, "brisling: businessCategory was not read yet")

	// In the console: broken on the draft's bar, explained, and no button until it is said.
	do, shows := w.Console()
	do("what must hold", chromedp.Navigate(w.URL+"/settings?view=expectations"), shows(".draft [role=alert]", "1 expectation is broken"), shows("td", "expected Mate"), shows("td", "since: the papers of the ship"))
	var disabled bool
	do("not by a click", chromedp.WaitVisible(`//button[normalize-space()="Activate…"]`), chromedp.Evaluate(`[...document.querySelectorAll('button')].find((b) => b.textContent.trim() === 'Activate…').disabled`, &disabled))
	assert.True(t, disabled)
	do("unless somebody says so", chromedp.Click(`//*[contains(@class, 'n-checkbox')][contains(., 'all the same')]`), worldtest.Button("Activate…"), worldtest.Button("Confirm"), shows(".draft", "No draft"))
	assert.Equal(t, before+1, revision())
	acts, err := w.Client.Acts(t.Context(), url.Values{"kind": {"activate-settings"}, "limit": {"1"}})
	require.NoError(t, err)
	require.Len(t, acts.Items, 1)
	assert.Contains(t, string(acts.Items[0].After), "expected Mate", "the audit keeps what was passed over")

	// The way back is never refused; and on her page somebody takes it on once more.
	w.Says([]string{"settings", "return", "2"})
	w.Says([]string{"settings", "activate", "--yes", "--without-impact"})
	object, err := w.Client.Object(t.Context(), ada)
	require.NoError(t, err)
	do("her page", chromedp.Navigate(w.URL+"/objects/"+object.Entry.ID.String()), shows(".expected", "takes part, title = Mate"), shows(".expected", "holds"),
		worldtest.Button("Expect that it stays so…"), shows(".n-modal li", "userName"))
	do("also her login", chromedp.Evaluate(`document.querySelector(".n-modal .n-checkbox").click()`, nil))
	do("and why", chromedp.SendKeys(`[aria-label="Why it must hold"]`, "her login"))
	do("add it", worldtest.Button("Add to the draft"), shows(".expected", "userName = ada.brekke@brisling.example"))
	w.Says([]string{"expectation", "list"}, "3 of 3 expectations held")
	w.Says([]string{"expectation", "remove", "3"}, "expects of Ada Brekke no longer")

	// What changes in the directory is told too; who is gone is no reason to believe.
	w.Set(ada, "title", "Master")
	w.InStep(1)
	out, _, status = w.Kambrel("expectation", "list", "--active")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "title: expected Mate, got Master")
	assert.Contains(t, out, "from title")
	broken := func() (open []wire.Problem) {
		page, err := w.Client.Problems(t.Context(), url.Values{"code": {string(problem.ExpectationBroken)}})
		require.NoError(t, err)
		return page.Items
	}
	require.Eventually(t, func() bool { return len(broken()) == 1 }, 30*time.Second, 50*time.Millisecond, "nobody has to look by themselves")
	assert.Equal(t, "Ada Brekke: title: expected Mate, got Master (the papers of the ship)", broken()[0].Detail)
	out, _, status = w.Kambrel("health")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "What the settings expect does not hold")
	do("told on the overview", chromedp.Navigate(w.URL+"/"), shows("main", "What the settings expect does not hold"))
	w.Set(ada, "title", "Mate")
	w.InStep(1)
	require.Eventually(t, func() bool { return len(broken()) == 0 }, 30*time.Second, 50*time.Millisecond, "it ends by itself")
}
