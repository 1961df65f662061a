package security_test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestMembersOfAGroupSignInByTheirDirectory lets a directory vouch for operators: by command
// line and console, until they have left the group or their account is disabled; nothing keeps
// their password.
func TestMembersOfAGroupSignInByTheirDirectory(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Policy: "cn=passwords," + worldtest.Base, Database: true})
	const secret, wrong = "Fog-Signal-1918", "Fog-Signal-1919"
	ada := w.Person("Ada Lind", map[string]string{"uid": "ada.lind", "userPassword": secret})
	bo := w.Person("Bo Falk", map[string]string{"uid": "bo.falk", "userPassword": secret})
	night := w.Group("Night", ada)
	w.Group("Everybody who looks after it", night)
	w.Activate(worldtest.WithGroups())
	w.Run(wire.NewRun{})
	signIn := func(name, password string) (*client.Client, wire.Session, error) {
		return client.Login(t.Context(), w.URL, wire.Credentials{Name: name, Password: password, Directory: "brisling"})
	}
	_, _, err := signIn("ada.lind", secret)
	require.ErrorContains(t, err, "Sign-in refused", "no group lets anybody in")

	w.Refuses([]string{"operator", "group", "add", "Ada Lind"}, "is no group")
	w.Says([]string{"operator", "group", "add", "Everybody who looks after it", "--role", "operator"}, "sign in as operator", "--directory brisling")
	w.Says([]string{"operator", "group", "list"}, "brisling", "cn=Everybody who looks after it", "operator")
	ways, err := client.New(w.URL, "").SignInWays(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"brisling"}, ways.Directories)

	_, _, err = signIn("bo.falk", secret)
	require.ErrorContains(t, err, "Sign-in refused")
	_, _, err = signIn("ada.lind", wrong)
	require.ErrorContains(t, err, "Sign-in refused")
	_, _, err = client.Login(t.Context(), w.URL, wire.Credentials{Name: "ada.lind", Password: secret})
	require.ErrorContains(t, err, "Sign-in refused", "she is no operator of Kambrel's own")
	_, _, err = client.Login(t.Context(), w.URL, wire.Credentials{Name: "ada.lind", Password: secret, Directory: "elsewhere"})
	require.ErrorContains(t, err, "Sign-in refused")
	home := t.TempDir()
	out, stderr, status := worldtest.KambrelIn(t, home, secret, "login", w.URL, "--directory", "brisling", "--name", "ada.lind", "--password-file", "-")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "Signed in as ada.lind@brisling (operator)")
	_, stderr, status = worldtest.KambrelIn(t, home, secret, "operator", "list")
	assert.NotZero(t, status)
	assert.Contains(t, stderr, "this needs the role administrator; ada.lind@brisling is operator")
	w.Says([]string{"session", "list"}, "ada.lind@brisling", "operator")
	w.Says([]string{"acts", "--kind", "sign-in", "--result", "refused"}, "bo.falk@brisling", "is in no group that lets its members sign in", "ada.lind@brisling")

	// In the console, where the way is chosen.
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	do, shows := worldtest.Actor(t, page)
	do("sign in by the directory", chromedp.Navigate(w.URL), shows(".card", "Sign in by"), worldtest.Choose(".card", "the directory brisling"),
		chromedp.SendKeys("#name", "ada.lind"), chromedp.SendKeys("#password", secret+"\n"), shows("h1", "Overview"), shows("nav", "ada.lind@brisling"))

	// She leaves the group: whatever she has open is refused, without anything asked for there.
	w.Member(night, true, bo)
	w.Member(night, false, ada)
	left := time.Now()
	do("be signed out", browser.Until(`document.querySelector(".card")?.textContent.includes("Sign in by")`, time.Minute))
	require.Eventually(t, func() bool {
		_, stderr, status = worldtest.KambrelIn(t, home, "", "health")
		return status != 0
	}, time.Minute, 500*time.Millisecond)
	assert.Contains(t, stderr, "this needs a session or a token")
	assert.Less(t, time.Since(left), time.Minute)
	w.Says([]string{"acts", "--kind", "end-session"}, "ada.lind@brisling", "is in no group any more that lets its members sign in")

	// While no agent answers, whoever is in goes on for a while, and nobody comes in.
	his, session, err := signIn("BO.FALK", secret)
	require.NoError(t, err)
	assert.Equal(t, "bo.falk@brisling", session.Name)
	require.ErrorContains(t, his.ChangePassword(t.Context(), wire.OwnPassword{Current: secret, Password: wrong}), "you have signed in by the directory brisling")
	require.NoError(t, w.Agent.Stop())
	require.Eventually(t, func() bool {
		_, err := his.Session(t.Context())
		require.NoError(t, err)
		return strings.Contains(w.LogOf("service"), "could not be confirmed, and goes on for now")
	}, time.Minute, 500*time.Millisecond)
	_, _, err = signIn("bo.falk", secret)
	require.ErrorContains(t, err, "Nobody can say who signs in")
	w.StartAgent()

	// His account is locked for good.
	w.Set(bo, "pwdAccountLockedTime", "000001010000Z")
	require.Eventually(t, func() bool {
		_, err = his.Session(t.Context())
		return err != nil
	}, time.Minute, 500*time.Millisecond)
	assert.ErrorContains(t, err, "session or a token")
	_, _, err = signIn("bo.falk", secret)
	require.ErrorContains(t, err, "Sign-in refused")

	// A group that is taken away lets nobody in.
	w.Says([]string{"operator", "group", "remove", "cn=Everybody who looks after it," + worldtest.Teams}, "sign in no more")
	w.Says([]string{"acts"}, "add-operator-group", "remove-operator-group")
	assert.NotContains(t, w.Dump(), `"standing"`, "what agents were asked is not kept")
	everything := w.Dump() + w.Logs()
	for _, text := range []string{secret, wrong} {
		assert.NotContains(t, everything, text)
	}
}

// TestASecondFactorIsAskedFor sets an authenticator up, signs in with its codes, each of which
// serves once, and loses it.
func TestASecondFactorIsAskedFor(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Bare: true})
	const password, next = "Bilge-Pump-4711", "Bilge-Pump-4712"
	require.NoError(t, w.Client.AddOperator(t.Context(), wire.NewOperator{Name: "ingrid", Password: password, Role: wire.Administrator}))
	signIn := func(password, code string) (*client.Client, error) {
		c, _, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "ingrid", Password: password, Code: code})
		return c, err
	}
	// Codes are of steps of 30 s: the one before, this one and the next are taken.
	codeOf := func(secret string, aside time.Duration) string {
		code, err := totp.GenerateCode(secret, time.Now().Add(aside))
		require.NoError(t, err)
		return code
	}
	ingrid, err := signIn(password, "")
	require.NoError(t, err)
	other, err := signIn(password, "")
	require.NoError(t, err)
	made, err := ingrid.NewFactor(t.Context())
	require.NoError(t, err)
	assert.Contains(t, made.URI, "otpauth://totp/")
	assert.Contains(t, made.Image, "data:image/png;base64,")
	require.ErrorContains(t, ingrid.SetFactor(t.Context(), wire.OwnFactor{Current: next, Secret: made.Secret, Code: codeOf(made.Secret, 0)}), "current password is wrong")
	require.ErrorContains(t, ingrid.SetFactor(t.Context(), wire.OwnFactor{Current: password, Secret: made.Secret, Code: codeOf(made.Secret, time.Hour)}), "not the one of now")
	require.NoError(t, ingrid.SetFactor(t.Context(), wire.OwnFactor{Current: password, Secret: made.Secret, Code: codeOf(made.Secret, -30*time.Second)}))
	_, err = other.Session(t.Context())
	require.Error(t, err, "the other sessions have ended")
	w.Says([]string{"operator", "list"}, "SECOND FACTOR", "yes")

	_, err = signIn(password, "")
	require.ErrorContains(t, err, "A code is needed")
	_, err = signIn(next, codeOf(made.Secret, 30*time.Second))
	require.ErrorContains(t, err, "Sign-in refused")
	used := codeOf(made.Secret, 30*time.Second)
	_, stderr, status := worldtest.KambrelIn(t, t.TempDir(), password, "login", w.URL, "--name", "ingrid", "--password-file", "-", "--code", used)
	require.Zero(t, status, stderr)
	_, err = signIn(password, used)
	require.ErrorContains(t, err, "each serves once")

	// It goes on with a password of her own choice, and is gone with one that she is given.
	require.NoError(t, ingrid.ChangePassword(t.Context(), wire.OwnPassword{Current: password, Password: next}))
	_, err = signIn(next, "")
	require.ErrorContains(t, err, "A code is needed")
	assert.NotContains(t, w.Dump(), made.Secret)
	w.Says([]string{"operator", "factor", "remove", "ingrid"}, "by the password alone")
	w.Refuses([]string{"operator", "factor", "remove", "ingrid"}, "has no second factor")
	_, err = signIn(next, "")
	require.NoError(t, err)

	// In the console.
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	do, shows := worldtest.Actor(t, page)
	var secret string
	do("set it up", browser.SignIn(w.URL+"/", "ingrid", next), worldtest.Button("Your account"), worldtest.Button("Set up an authenticator…"), shows(".scan", "Scan this"),
		chromedp.Text(".scan code", &secret))
	secret = strings.ReplaceAll(secret, " ", "")
	do("prove it", chromedp.SendKeys("#factor-current", next), chromedp.SendKeys("#factor-code", codeOf(secret, 0)), worldtest.Button("Ask for codes from now on"), shows(".n-message", "A code is asked for"))
	do("be asked for it", worldtest.Button("Sign out"), chromedp.WaitVisible("#name"), chromedp.SendKeys("#name", "ingrid"), chromedp.SendKeys("#password", next+"\n"), chromedp.WaitVisible("#code"))
	do("give it", chromedp.SendKeys("#code", codeOf(secret, 30*time.Second)+"\n"), shows("h1", "Overview"))
}
