package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestOperatorsByTheConsole adds somebody, ends their session and makes a token, by the page.
func TestOperatorsByTheConsole(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Bare: true})
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	defer stop()
	do, shows := worldtest.Actor(t, page)
	const password = "Bilge-Pump-4711"
	do("sign in", browser.SignIn(w.URL, "administrator", worldtest.Password))
	do("add an operator", chromedp.Navigate(w.URL+"/operators"), shows("h1", "Operators"), worldtest.Button("Add operator…"),
		chromedp.WaitVisible("#operator-name", chromedp.ByQuery), chromedp.SendKeys("#operator-name", "ingrid", chromedp.ByQuery), chromedp.SendKeys("#operator-password", password, chromedp.ByQuery),
		worldtest.Button("Add"), shows("td", "ingrid"))
	ingrid, session, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "ingrid", Password: password})
	require.NoError(t, err)
	assert.Equal(t, wire.Viewer, session.Role)
	do("end their session", chromedp.Navigate(w.URL+"/operators"), shows("td", "(this one)"), worldtest.Button("End"), shows(".n-popover", "signed out there at once"), worldtest.Button("Confirm"), shows(".n-message", "The session has ended"))
	_, err = ingrid.Session(t.Context())
	assert.ErrorContains(t, err, "session or a token")
	do("make a token", worldtest.Button("Make token…"), chromedp.WaitVisible("#token-name", chromedp.ByQuery), chromedp.SendKeys("#token-name", "prometheus", chromedp.ByQuery),
		chromedp.SendKeys("#token-purpose", "metrics", chromedp.ByQuery), worldtest.Button("Make"), shows(".n-alert", "shown this once"), shows("td", "metrics"))
	var secret string
	do("read it", chromedp.Text("code.secret", &secret, chromedp.ByQuery))
	_, err = client.New(w.URL, secret).Runs(t.Context(), nil)
	require.NoError(t, err)
}
