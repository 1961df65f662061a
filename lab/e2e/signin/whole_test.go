package signin_test

import (
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestPeopleSignInAtTheirOrganizationsProvider goes the whole way by the console alone: metadata is
// exchanged with a provider that shares nothing with the product, a wrong claim is found by a test
// before anybody depends on it, one person and then everybody signs in there, and one act brings
// all back to their passwords.
func TestPeopleSignInAtTheirOrganizationsProvider(t *testing.T) {
	t.Parallel()
	w := world(t)
	provider, err := w.Lab.StartIdentityProvider(t.Context(), "provider", 0, w.Directory)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return w.SignsIn("anna", worldtest.OldPassword) == http.StatusNoContent }, 20*time.Second, 50*time.Millisecond)
	do, shows := w.Console()
	page := func(what string, more ...chromedp.Action) {
		t.Helper()
		do(what, append([]chromedp.Action{chromedp.Navigate(w.URL + "/domains/" + domain), shows("#switch-title", "Switch")}, more...)...)
	}
	button := worldtest.Button

	var cloud string
	page("the cloud's metadata", chromedp.Evaluate(`document.querySelector("details").open = true`, nil), chromedp.TextContent(`pre[aria-label="Metadata of the cloud"]`, &cloud))
	do("is given to the provider", chromedp.Navigate(provider.Services), chromedp.SetValue("#metadata", cloud), chromedp.Click("#save"), chromedp.WaitVisible("#said:not(:empty)"), shows("#said", "The service is known"))
	page("and its own is taken", chromedp.SendKeys(`[aria-label="URL of the metadata"]`, provider.Metadata), button("Look at it"), shows(".compare", "Compare this"), shows("td", "nobody has vouched for"),
		chromedp.Click(".compare .n-checkbox"), shows("td", "signed by"), button("Take this provider"), shows("#provider-title ~ div button, button", "Fetch now"))

	test := func(name, password string) {
		t.Helper()
		var address string
		page("begin a test", chromedp.SendKeys(`[aria-label="Person to test"]`, "anna@"+domain), button("Begin a test"), shows(`p[role=status]`, "Waiting for the person"),
			chromedp.AttributeValue(`a[target=_blank]`, "href", &address, nil))
		do("sign in at the provider", chromedp.Navigate(address), chromedp.SendKeys("#name", name), chromedp.SendKeys("#password", password), chromedp.Click("#sign-in"), chromedp.WaitVisible("#said"))
	}
	require.NoError(t, provider.Fault(t.Context(), map[string]string{"login": "anna.vik@" + domain}))
	test("anna", worldtest.OldPassword)
	do("the cloud refuses", shows("#said", "was refused"))
	page("and the page says why", shows("p.bad", "nobody has the login anna.vik@"+domain), shows("th", "eduPersonPrincipalName"), shows(".reason.wrong", "The cloud has another value for this person"),
		shows("td", "no test of a sign-in was accepted yet"))
	everybody := chromedp.Evaluate(`[...document.querySelectorAll(".n-radio")].find(r => r.textContent.includes("Everybody")).click()`, nil)
	page("nobody is switched", everybody, button("See what it would do…"), shows(".n-modal td", "no test of a sign-in was accepted yet"),
		browser.Until(`[...document.querySelectorAll(".n-modal button")].find(b => b.textContent.trim() === "Switch").disabled`, 20*time.Second))

	require.NoError(t, provider.Fault(t.Context(), map[string]string{"login": ""}))
	test("anna", worldtest.OldPassword)
	do("the cloud accepts", shows("#said", "was accepted"))
	page("and so does the page", shows("p[role=status]", "Accepted"))

	// One person.
	page("switch one", chromedp.Click(".n-dynamic-tags .n-button"), chromedp.SendKeys(`[aria-label="A person"]`, "anna@"+domain+"\r"), button("See what it would do…"),
		shows(".n-modal p", "Everybody else of the domain signs in with a password."), button("Switch"), shows("strong", "Some sign in at the identity provider"), shows(".page-head", "In the cloud"))
	assert.Equal(t, http.StatusForbidden, w.SignsIn("anna", worldtest.OldPassword))
	assert.Equal(t, http.StatusNoContent, w.SignsIn("bo", worldtest.OldPassword))
	there := func(name, password string) {
		t.Helper()
		do("sign in to the cloud as "+name, chromedp.Navigate(w.Cloud.Base+"/me"), chromedp.WaitVisible("#sign-in input"), chromedp.SendKeys(`#sign-in [name=login]`, name+"@"+domain), chromedp.Click("#sign-in button"),
			chromedp.WaitVisible("#name"), chromedp.SendKeys("#name", name), chromedp.SendKeys("#password", password), chromedp.Click("#sign-in"))
	}
	there("anna", "a wrong one")
	do("not with a wrong password", chromedp.WaitVisible("[role=alert]:not(:empty)"), shows("[role=alert]", "The name or the password is wrong"))
	there("anna", worldtest.OldPassword)
	do("anna is in", chromedp.WaitVisible("#login:not(:empty)"), shows("#login", "anna@"+domain), chromedp.Click("#leave"), chromedp.WaitVisible("#sign-in"))

	// Everybody, also who was not tested.
	page("switch everybody", everybody, button("See what it would do…"), shows(".n-modal p", "All 3 active people"), shows(".n-modal td", "captain@halvard.example"), button("Switch"), shows("strong", "Everybody signs in at the identity provider"), shows(".page-head", "In the cloud"))
	there("bo", worldtest.OldPassword)
	do("bo is in", chromedp.WaitVisible("#login:not(:empty)"), shows("#login", "bo@"+domain))
	w.Says([]string{"domain", "list"}, "provider")

	// The provider is away: the way back is one act and needs nothing of it.
	require.NoError(t, provider.Stop())
	page("back", button("Back to passwords…"), shows(".n-modal p", "sign in with a password from then on: 3 with that of their directory"), button("Go back to passwords"), shows("strong", "Everybody signs in with a password"), shows(".page-head", "In the cloud"))
	for _, name := range []string{"anna", "bo", "cato"} {
		assert.Equal(t, http.StatusNoContent, w.SignsIn(name, worldtest.OldPassword), name)
	}
	w.Says([]string{"acts", "--kind", "switch-sign-in"}, `"signOn":"some"`, `"signOn":"provider"`, `"signOn":"password"`)
}

// TestHowPeopleSignInStaysAsItWasSaid follows a provider and a cloud over time: new certificates,
// metadata that cannot be believed, a cloud that is away or was changed by somebody else.
func TestHowPeopleSignInStaysAsItWasSaid(t *testing.T) {
	t.Parallel()
	w := world(t)
	provider, err := w.Lab.StartIdentityProvider(t.Context(), "provider", 0, w.Directory)
	require.NoError(t, err)
	tried, err := w.Client.TryProvider(t.Context(), domain, wire.ProviderMetadata{URL: provider.Metadata})
	require.NoError(t, err)
	_, stderr, status := w.Kambrel("domain", "provider", "try", domain, "--url", provider.Metadata)
	assert.Equal(t, 2, status, stderr)
	w.Says([]string{"domain", "provider", "set", domain, "--url", provider.Metadata, "--fingerprint", tried.Compare}, "signs in  with a password", "no test of a sign-in was accepted yet", "captain@halvard.example")
	form := map[string][]string{"metadata": {cloudMetadata(t, w)}}
	answer, err := http.PostForm(provider.Services, form)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	refresh := func() wire.Federation {
		t.Helper()
		federation, err := w.Client.RefreshProvider(t.Context(), domain)
		require.NoError(t, err)
		return federation
	}
	fault := func(faults map[string]string) {
		t.Helper()
		require.NoError(t, provider.Fault(t.Context(), faults))
	}
	problem := func(code string, there bool) {
		t.Helper()
		require.Eventually(t, func() bool {
			page, err := w.Client.Problems(t.Context(), url.Values{"code": {code}})
			return err == nil && (len(page.Items) == 1) == there
		}, 30*time.Second, 200*time.Millisecond, "%s is there: %t", code, there)
	}

	// A new certificate beside the one of before comes by itself, since the metadata is signed by
	// the key that was compared; and then alone.
	first := refresh().Provider.Certificates[0].Fingerprint
	fault(map[string]string{"signing": "next", "also": "signing"})
	federation := refresh()
	require.Len(t, federation.Provider.Certificates, 2)
	assert.Empty(t, federation.Provider.FetchFailure)
	fault(map[string]string{"signing": "next", "also": ""})
	federation = refresh()
	require.Len(t, federation.Provider.Certificates, 1)
	assert.NotEqual(t, first, federation.Provider.Certificates[0].Fingerprint)
	w.Says([]string{"acts", "--kind", "set-identity-provider"}, "the service")

	// Metadata by another key, or by none, is shown and not taken.
	fault(map[string]string{"metadata key": "intruder"})
	federation = refresh()
	assert.Contains(t, federation.Provider.FetchFailure, "and trusted is "+tried.Compare)
	require.NotNil(t, federation.Offer)
	assert.NotEqual(t, tried.Compare, federation.Offer.Compare)
	problem("identity-provider-not-read", true)
	fault(map[string]string{"metadata key": "metadata", "unsigned": "yes"})
	assert.Contains(t, refresh().Provider.FetchFailure, "it is not signed")
	fault(map[string]string{"unsigned": ""})
	assert.Empty(t, refresh().Provider.FetchFailure)
	problem("identity-provider-not-read", false)

	// The switch needs a test of the provider as it is now, and somebody who could get in without it.
	w.Refuses([]string{"domain", "sign-in", domain, "--by", "provider", "--everybody", "--yes"}, "no test of a sign-in was accepted yet")
	w.Refuses([]string{"domain", "sign-in", domain, "--by", "provider", "--person", "captain@halvard.example", "--yes"}, "is not of "+domain)
	w.Refuses([]string{"domain", "sign-in", domain, "--by", "provider"}, "--everybody")
	signsIn(t, w, provider.Base)
	w.Says([]string{"domain", "sign-in", domain, "--by", "provider", "--everybody"}, "All 3 active people", "Nothing was done yet: add --yes")
	assert.Equal(t, http.StatusNoContent, w.SignsIn("anna", worldtest.OldPassword), "a preview switches nobody")
	w.Says([]string{"domain", "sign-in", domain, "--by", "provider", "--everybody", "--yes"}, "at the identity provider")
	assert.Equal(t, http.StatusForbidden, w.SignsIn("anna", worldtest.OldPassword))
	w.Refuses([]string{"domain", "provider", "remove", domain}, "--by password")

	// What ends soon, and who is left, is told.
	fault(map[string]string{"signing": "short", "days": "10"})
	assert.Empty(t, refresh().Provider.FetchFailure)
	problem("identity-provider-ends", true)
	w.ByHand("captain@halvard.example", "active", false)
	w.InStep(0)
	problem("no-way-back", true)

	// Somebody changes it in the cloud: told, and not put back.
	address := w.Cloud.URL + "/Domains/" + domain
	const urn = "urn:kambrel.example:params:scim:schemas:extension:federation:1.0:Domain"
	_, there := worldtest.SCIM(t, w.Address(), "GET", address, nil)
	extension := there[urn].(map[string]any)
	extension["signOn"] = "password"
	status, _ = worldtest.SCIM(t, w.Address(), "PUT", address, map[string]any{urn: extension})
	require.Equal(t, http.StatusOK, status)
	refresh() // the look that follows sees it
	problem("sign-on-changed-in-cloud", true)
	w.Says([]string{"domain", "show", domain}, "CHANGED IN THE CLOUD: the cloud has people sign in with a password")
	assert.Equal(t, http.StatusNoContent, w.SignsIn("anna", worldtest.OldPassword))

	// The cloud is away when somebody goes back: it is kept, and told as soon as it answers.
	w.Says([]string{"domain", "sign-in", domain, "--by", "password", "--yes"}, "with a password")
	problem("sign-on-changed-in-cloud", false)
	signsIn(t, w, provider.Base)
	w.Says([]string{"domain", "sign-in", domain, "--by", "provider", "--person", "anna@" + domain, "--yes"}, "some at the identity provider", "anna@"+domain)
	w.CloudFaults(map[string]any{"rate": 1, "kinds": []string{"error"}})
	out := w.Says([]string{"domain", "sign-in", domain, "--by", "password", "--yes"})
	assert.Contains(t, out, "with a password")
	problem("sign-on-not-in-cloud", true)
	w.CloudFaults(map[string]any{})
	require.Eventually(t, func() bool { return w.SignsIn("anna", worldtest.OldPassword) == http.StatusNoContent }, 40*time.Second, 200*time.Millisecond)
	problem("sign-on-not-in-cloud", false)
}

var hidden = regexp.MustCompile(`(?:name="(\w+)" value="([^"]*)"|value="([^"]*)" name="(\w+)"|action="([^"]*)")`)

// signsIn has anna do a test of the sign-in, as her browser does, which is accepted.
func signsIn(t *testing.T, w *worldtest.World, provider string) {
	t.Helper()
	test, err := w.Client.TestSignIn(t.Context(), domain, wire.NewSignInTest{Person: "anna@" + domain})
	require.NoError(t, err)
	read := func(answer *http.Response, err error) string {
		t.Helper()
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return string(text)
	}
	fields := func(page string) (url.Values, string) {
		form, action := url.Values{}, ""
		for _, m := range hidden.FindAllStringSubmatch(page, -1) {
			switch {
			case m[5] != "":
				action = html.UnescapeString(m[5])
			case m[1] != "":
				form.Set(m[1], html.UnescapeString(m[2]))
			default:
				form.Set(m[4], html.UnescapeString(m[3]))
			}
		}
		return form, action
	}
	form, _ := fields(read(http.Get(test.URL)))
	form.Set("name", "anna")
	form.Set("password", worldtest.OldPassword)
	form, action := fields(read(http.PostForm(provider+"/login", form)))
	require.NotEmpty(t, form.Get("SAMLResponse"))
	read(http.PostForm(action, form))
	test, err = w.Client.SignInTest(t.Context(), domain, test.ID)
	require.NoError(t, err)
	require.Equal(t, "accepted", test.State, "%+v", test)
}
