package signin_test

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestPeopleSignInAtKambrelItself has no other provider: people sign in with the password of their
// directory, once for all, until they sign out or are locked; keys change without a gap.
func TestPeopleSignInAtKambrelItself(t *testing.T) {
	t.Parallel()
	w := worldtest.WithPasswords(t, worldtest.Options{Database: true, Cloud: []string{"--domains", "halvard.example"}})
	captain(w)
	w.InStep(0)
	own := w.URL + "/people"
	gets := func(address string) (int, string) {
		t.Helper()
		answer, err := http.Get(address)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	for _, path := range []string{"/metadata", "/sign-in", "/check"} {
		status, _ := gets(own + path)
		assert.Equal(t, http.StatusNotFound, status, "off until somebody wants it: %s", path)
	}
	do, shows := w.Console()
	page := func(what string, more ...chromedp.Action) {
		t.Helper()
		do(what, append([]chromedp.Action{chromedp.Navigate(w.URL + "/domains/" + domain), shows("#switch-title", "Switch")}, more...)...)
	}
	button := worldtest.Button
	page("take Kambrel itself", chromedp.Evaluate(`[...document.querySelectorAll(".n-radio-button")].find(r => r.textContent.includes("Kambrel itself")).click()`, nil), button("Take Kambrel itself"),
		shows("dd", own+"/metadata"), shows("#desktops-title", "What desktops"))
	var address string
	page("begin a test", chromedp.SendKeys(`[aria-label="Person to test"]`, "anna@"+domain), button("Begin a test"), shows(`p[role=status]`, "Waiting for the person"), chromedp.AttributeValue(`a[target=_blank]`, "href", &address, nil))
	typed := func(name, password string) chromedp.Action {
		return chromedp.Tasks{chromedp.WaitVisible("#name"), chromedp.SetValue("#name", name), chromedp.SendKeys("#password", password), chromedp.Click("#sign-in")}
	}
	do("a wrong password", chromedp.Navigate(address), typed("anna@"+domain, "not-the-one"), chromedp.WaitVisible("#said"), shows("#said", "The login or the password is wrong"))
	do("nobody's login", typed("nobody@"+domain, worldtest.OldPassword), chromedp.WaitVisible("#said"), shows("#said", "The login or the password is wrong"))
	do("the right one", typed("anna@"+domain, worldtest.OldPassword), chromedp.WaitVisible(`a[href="/me"]`), shows("#said", "was accepted"))
	page("is shown", shows("p[role=status]", "Accepted"))
	w.Says([]string{"domain", "sign-in", domain, "--by", "provider", "--everybody", "--yes"}, "at the identity provider")

	// Once for all: there is a session from the test.
	inside := func(who string) chromedp.Action {
		return chromedp.Tasks{chromedp.WaitVisible("#login:not(:empty)"), shows("#login", who+"@"+domain)}
	}
	start := chromedp.Navigate(w.Cloud.Base + "/me/saml/start?login=anna@" + domain)
	do("no password is asked for", start, inside("anna"))
	do("who signs out of the cloud is signed out here", chromedp.Click("#leave"), chromedp.WaitVisible("#sign-in input"), start, chromedp.WaitVisible("#password"))
	do("and signs in again", typed("anna@"+domain, worldtest.OldPassword), inside("anna"))
	do("who signs out here is signed out of the cloud", chromedp.Navigate(own+"/sign-out"), chromedp.WaitVisible("#said"), shows("#said", "You are signed out."),
		chromedp.Navigate(w.Cloud.Base+"/me"), chromedp.WaitVisible("#sign-in input"), start, chromedp.WaitVisible("#password"))
	do("and signs in once more", typed("anna@"+domain, worldtest.OldPassword), inside("anna"))

	// Keys change: the cloud has the next certificate before anything is signed by it.
	before, err := w.Client.Federation(t.Context(), domain)
	require.NoError(t, err)
	w.Says([]string{"domain", "provider", "renew"}, "The next key is made")
	w.Refuses([]string{"domain", "provider", "set", domain, "--metadata", "/dev/null"}, "")
	require.Eventually(t, func() bool {
		now, err := w.Client.Federation(t.Context(), domain)
		require.NoError(t, err)
		return len(now.Provider.Certificates) == 2 && now.State == "in-step" && now.Provider.Compare != before.Provider.Compare
	}, 30*time.Second, 100*time.Millisecond)
	do("signed by the new one", start, inside("anna"))

	// Who is locked in the directory is nobody at once, whatever the cloud knows yet.
	w.Set("cn=Anna,"+worldtest.People, "pwdAccountLockedTime", "000001010000Z")
	do("anna is locked", start, typed("anna@"+domain, worldtest.OldPassword), chromedp.WaitVisible("#said"), shows("#said", "or this account may not sign in"))

	// What is no request of the cloud is answered with nothing.
	test, err := w.Client.TestSignIn(t.Context(), domain, wire.NewSignInTest{Person: "bo@" + domain})
	require.NoError(t, err)
	stay := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := stay.Get(test.URL)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	location, err := answer.Location()
	require.NoError(t, err)
	for name, change := range map[string]func(url.Values){
		"not signed": func(q url.Values) { q.Del("Signature"); q.Del("SigAlg") },
		"changed": func(q url.Values) {
			q.Set("SAMLRequest", repacked(t, q.Get("SAMLRequest"), "/me/saml/consumer", "/elsewhere"))
		},
		"of another": func(q url.Values) {
			q.Set("SAMLRequest", repacked(t, q.Get("SAMLRequest"), "/saml<", "/evil<"))
			q.Del("Signature")
			q.Del("SigAlg")
		},
		"relay changed": func(q url.Values) { q.Set("RelayState", "mine") },
		"with entities": func(q url.Values) {
			q.Set("SAMLRequest", repacked(t, q.Get("SAMLRequest"), "<samlp:AuthnRequest", `<!DOCTYPE a [<!ENTITY b "c">]><samlp:AuthnRequest`))
		},
		"no request":     func(q url.Values) { q.Set("SAMLRequest", "AAAA") },
		"nothing at all": func(q url.Values) { q.Del("SAMLRequest") },
	} {
		q := location.Query()
		change(q)
		changed := *location
		changed.RawQuery = q.Encode()
		status, text := gets(changed.String())
		assert.Equal(t, http.StatusForbidden, status, name)
		assert.Contains(t, text, "not one of the cloud", name)
	}
	status, text := gets(location.String())
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, text, "Password")
	// Guessing is slowed down.
	guessed := ""
	for tries := 0; tries < 12 && !strings.Contains(guessed, "too many attempts"); tries++ {
		answer, err := http.PostForm(own+"/sign-in", url.Values{"query": {location.RawQuery}, "login": {"cato@" + domain}, "password": {"guess"}})
		require.NoError(t, err)
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, errors.Join(err, answer.Body.Close()))
		assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
		guessed = string(body)
	}
	assert.Contains(t, guessed, "There were too many attempts")
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, own+"/sign-in", strings.NewReader(url.Values{"query": {location.RawQuery}, "login": {"bo@" + domain}, "password": {worldtest.OldPassword}}.Encode()))
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	request.Header.Set("Sec-Fetch-Site", "cross-site")
	crossed, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.NoError(t, crossed.Body.Close())
	assert.Equal(t, http.StatusForbidden, crossed.StatusCode, "from another page")
	status, _ = gets(own + "/ticket")
	assert.Equal(t, http.StatusUnauthorized, status, "no key table: no tickets")

	// Passwords are nowhere, nor the key.
	assert.NotContains(t, w.Dump(), worldtest.OldPassword)
	assert.NotContains(t, w.Logs(), worldtest.OldPassword)
	assert.NotContains(t, w.Dump(), "PRIVATE KEY")
	assert.Contains(t, w.LogOf("service"), "signed in to the cloud")
}

// repacked changes a request that was packed for an address.
func repacked(t *testing.T, packed, from, to string) string {
	t.Helper()
	raw, err := base64.StdEncoding.DecodeString(packed)
	require.NoError(t, err)
	text, err := io.ReadAll(flate.NewReader(bytes.NewReader(raw)))
	require.NoError(t, err)
	require.Contains(t, string(text), from)
	var out bytes.Buffer
	writer, err := flate.NewWriter(&out, 9)
	require.NoError(t, err)
	_, err = fmt.Fprint(writer, strings.Replace(string(text), from, to, 1))
	require.NoError(t, err)
	require.NoError(t, writer.Close())
	return base64.StdEncoding.EncodeToString(out.Bytes())
}
