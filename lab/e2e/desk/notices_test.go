package desk_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/mailsink"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/notices"
)

// mails is what came to the sink, of subjects that begin in a way.
func mails(t *testing.T, sink *servers.Mail, subject string) (found []mailsink.Message) {
	t.Helper()
	response, err := http.Get(sink.Messages) //nolint:noctx // a test
	require.NoError(t, err)
	defer response.Body.Close()
	var all []mailsink.Message
	require.NoError(t, json.NewDecoder(response.Body).Decode(&all))
	for _, m := range all {
		if strings.HasPrefix(m.Subject, subject) {
			found = append(found, m)
		}
	}
	return found
}

// TestPeopleAreToldOnce takes the token away and gives it back, with two services on the database:
// one mail when it breaks, one when it is well again, one digest, none twice; and the same to
// a webhook, signed.
func TestPeopleAreToldOnce(t *testing.T) {
	t.Parallel()
	key := filepath.Join(t.TempDir(), "webhook.key")
	require.NoError(t, os.WriteFile(key, []byte("a-long-key\n"), 0o600))
	hooked := make(chan *http.Request, 50)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		r.Header.Set("X-Body", string(text))
		hooked <- r
	}))
	defer hook.Close()
	w := worldtest.NewWith(t, "", worldtest.Options{})
	sink, err := w.Lab.StartMail(t.Context(), w.Programs.Lab, 0)
	require.NoError(t, err)
	w.Person("Ada Lind", nil)
	w.Person("No Mail", map[string]string{"mail": "bad@corp.example"}) // a problem for the digest
	d := worldtest.Document()
	d.Notices = settings.Notices{Digest: "00:00", Webhook: hook.URL, Recipients: []settings.Recipient{
		{To: "ops@brisling.example", Of: []settings.NoticeKind{settings.NoticeFailures}}, {To: "boss@brisling.example", Of: []settings.NoticeKind{settings.NoticeDigest}}}}
	if time.Now().Hour() >= 12 { // a digest that is long due is not sent any more
		d.Notices.Digest = time.Now().Add(-time.Minute).Format("15:04")
	}
	w.Activate(d)
	w.Run(wire.NewRun{})
	out, _, status := w.Kambrel("notices", "test")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "waits for a service that was started with --mail-server")
	sending := []string{"--mail-server", sink.URL, "--mail-ca", sink.CAFile, "--mail-from", "Kambrel <kambrel@brisling.example>", "--webhook-key-file", key}
	w.Serve(sending...)
	w.Standby(append(sending, "--cloud-token-file", w.TokenFile)...) // either of them may have the next run
	until := func(what string, holds func() bool) {
		t.Helper()
		require.Eventually(t, holds, 60*time.Second, 100*time.Millisecond, what)
	}
	until("the digest", func() bool { return len(mails(t, sink, "Kambrel: 1 open problem")) == 1 })
	digest := mails(t, sink, "Kambrel: 1 open problem")[0]
	assert.Equal(t, []string{"boss@brisling.example"}, digest.To)
	assert.True(t, digest.TLS)
	assert.Contains(t, digest.Text, "text/html")
	assert.Contains(t, digest.Plain, w.URL+"/problems?code=login-suffix-not-verified")

	token, err := os.ReadFile(w.TokenFile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.TokenFile, []byte("another-token\n"), 0o600))
	for range 2 { // the second run meets it again
		require.Equal(t, progress.Failed, w.Run(wire.NewRun{}).State)
	}
	until("that it broke", func() bool { return len(mails(t, sink, "Kambrel: The cloud does not accept the token")) == 1 })
	require.NoError(t, os.WriteFile(w.TokenFile, token, 0o600))
	require.Equal(t, progress.Problems, w.Run(wire.NewRun{}).State)
	until("that it is well again", func() bool {
		return len(mails(t, sink, "Kambrel: well again: The cloud does not accept the token")) == 1
	})
	broke := mails(t, sink, "Kambrel: The cloud does not accept the token")
	require.Len(t, broke, 1, "none twice")
	assert.Equal(t, []string{"ops@brisling.example"}, broke[0].To)
	assert.Contains(t, broke[0].Plain, w.URL+"/problems/")
	w.Says([]string{"notices", "test"}, "mail to ops@brisling.example, boss@brisling.example: taken", "webhook: taken")
	w.Says([]string{"notices", "list"}, "boss@brisling.example, of digest", hook.URL+", signed", "Kambrel: well again: The cloud does not accept the token")
	assert.Len(t, mails(t, sink, "Kambrel: a trial"), 2, "the one that waited, and the one of now")
	assert.Len(t, mails(t, sink, "Kambrel: 1 open problem"), 1)

	kinds := map[string]int{}
	for len(hooked) > 0 {
		r := <-hooked
		body := r.Header.Get("X-Body")
		var of struct{ Kind string }
		require.NoError(t, json.Unmarshal([]byte(body), &of))
		if kinds[of.Kind]++; r.Header.Get("Kambrel-Signature") != "" {
			assert.Equal(t, notices.Sign(secret.Text("a-long-key"), r.Header.Get("Kambrel-Time"), body), r.Header.Get("Kambrel-Signature"))
		} else {
			assert.Contains(t, []string{"test", "digest"}, of.Kind, "what went out before there was a key")
		}
	}
	assert.Equal(t, map[string]int{"digest": 1, "broke": 1, "well": 1, "test": 2}, kinds)

	// Somebody is added in the console, who gets reports; one is mailed at once.
	w.Refuses([]string{"report", "--mail"}, "weekly-report or monthly-report")
	do, shows := w.Console()
	choose := func(n int) chromedp.Action {
		return chromedp.Evaluate(fmt.Sprintf(`[...document.querySelectorAll(".told tr")].at(-1).querySelectorAll("[role=checkbox]")[%d].click()`, n), nil)
	}
	do("add somebody", chromedp.Navigate(w.URL+"/notices"), shows("dt", "ops@brisling.example"), worldtest.Button("Change…"), worldtest.Button("Add somebody"),
		chromedp.SendKeys(`input[aria-label="Address 3"]`, "chief@brisling.example", chromedp.ByQuery),
		choose(0), choose(2), choose(3),
		worldtest.Button("Save draft"), shows(".draft", "Draft version 1"))
	w.Says([]string{"settings", "activate", "--yes"})
	w.Says([]string{"notices", "list"}, "chief@brisling.example, of digest and weekly-report and monthly-report")
	w.Says([]string{"report", "--mail"}, "Mailed to chief@brisling.example")
	// On a Monday or the first of a month there is the one of the time before besides.
	ofNow := func() []mailsink.Message {
		return slices.DeleteFunc(mails(t, sink, "Kambrel: report from"), func(m mailsink.Message) bool { return !strings.Contains(m.Plain, "ada.lind@brisling.example") })
	}
	until("the report", func() bool { return len(ofNow()) == 1 })
	report := ofNow()[0]
	assert.Equal(t, []string{"chief@brisling.example"}, report.To)
	assert.Contains(t, report.Plain, "- create: ada.lind@brisling.example (user), run 1")
	assert.Contains(t, report.Plain, w.URL+"/report?from=")
}
