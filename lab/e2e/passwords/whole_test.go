package passwords_test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestAPersonIsToldWhatTheDirectorySays goes the whole way from the cloud's page, where
// somebody sets a password that is too short and then a good one.
func TestAPersonIsToldWhatTheDirectorySays(t *testing.T) {
	t.Parallel()
	w := worldtest.WithPasswords(t, worldtest.Options{Database: true})
	w.PasswordsOpen("open")
	w.Ask(worldtest.Asked{Login: "anna@brisling.example", New: "Cloud-Only-1", Own: true})
	require.Eventually(t, func() bool { return w.SignsIn("anna", "Cloud-Only-1") == http.StatusNoContent }, time.Minute, 100*time.Millisecond, "her digest has come")
	page, stop, err := browser.New(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	do, shows := worldtest.Actor(t, page)
	fill := func(selector, text string) chromedp.Action {
		return chromedp.Tasks{chromedp.Evaluate(fmt.Sprintf("document.querySelector(%q).value = ''", selector), nil), chromedp.SendKeys(selector, text, chromedp.ByQuery)}
	}
	do("sign in", chromedp.Navigate(w.Cloud.Base+"/me"), fill(`[name="login"]`, "anna@brisling.example"), fill(`#sign-in [name="password"]`, "Cloud-Only-1"), worldtest.Button("Sign in"), shows("#login", "anna@brisling.example"))
	began := time.Now()
	do("set a short one", fill(`[data-act="reset"] [name="new"]`, "Ab-1"), worldtest.Button("Set it"), shows(`[role="status"]`, "too short"))
	assert.Less(t, time.Since(began), 3*time.Second)
	assert.True(t, w.Binds("Anna", worldtest.OldPassword))
	do("set a good one", fill(`[data-act="reset"] [name="new"]`, "Gannet-Rock-66"), worldtest.Button("Set it"), shows(`[role="status"]`, "Your new password is set."))
	assert.True(t, w.Binds("Anna", "Gannet-Rock-66"))
	assert.False(t, w.Binds("Anna", worldtest.OldPassword))
	events := worldtest.Reads[[]wire.PasswordEvent](w, "passwords", "events")
	require.Len(t, events, 2)
	assert.True(t, events[0].Done)
	assert.Equal(t, "too-short", string(events[1].Reason))
	for _, e := range events {
		assert.Equal(t, "Anna", e.Person)
		assert.Equal(t, "brisling-1", e.Agent)
		assert.Less(t, e.Millis, int64(1000), "told within a second")
	}
	w.Says([]string{"passwords", "events", "--failed"}, "Anna", "too-short: the directory's policy asks for a longer password")

	// The session ends with the account, as soon as a run has suspended it.
	w.Set("cn=Anna,"+worldtest.People, "pwdAccountLockedTime", "000001010000Z")
	w.InStep(1)
	do("look again", shows(`[role="status"]`, "Your session has ended"))
}

// TestAPasswordIsNowhereButInTheDirectory sends one with a mark through reset and change, and
// looks for the mark wherever something is kept; in the service's memory while the event
// waits for its agent.
func TestAPasswordIsNowhereButInTheDirectory(t *testing.T) {
	t.Parallel()
	w := worldtest.WithPasswords(t, worldtest.Options{Database: true})
	w.PasswordsOpen("open")
	const mark, other = "Mark-7f3a9c51-Aa", "Mark-7f3a9c51-Bb"
	require.NoError(t, syscall.Kill(w.Agent.PID(), syscall.SIGSTOP))
	answered := make(chan worldtest.Answered, 1)
	go func() { answered <- w.Ask(worldtest.Asked{Login: "bo@brisling.example", New: mark}) }()
	var waiting []wire.PasswordEvent
	require.Eventually(t, func() bool {
		waiting = worldtest.Reads[[]wire.PasswordEvent](w, "passwords", "events")
		return len(waiting) == 1
	}, 5*time.Second, 10*time.Millisecond)
	held := worldtest.MemoryHolds(t, w.Service, mark, waiting[0].JTI)
	assert.False(t, held[mark], "the service has the password")
	assert.True(t, held[waiting[0].JTI], "it has the event, so that the place was looked at where a password would be")
	require.NoError(t, syscall.Kill(w.Agent.PID(), syscall.SIGCONT))
	got := <-answered
	require.True(t, got.Done, "%+v", got)
	require.True(t, w.Binds("Bo", mark))
	got = w.Ask(worldtest.Asked{Login: "bo@brisling.example", Act: "change", Old: mark, New: other})
	require.True(t, got.Done, "%+v", got)
	require.True(t, w.Binds("Bo", other))

	require.Eventually(t, func() bool { return w.SignsIn("bo", other) == 204 }, 20*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool { // by the digest of the directory's password
		state, err := w.Client.PasswordsState(t.Context())
		return err == nil && state.Digests[0].Have == 3 && state.Digests[0].Due == 0
	}, 20*time.Second, 100*time.Millisecond)
	require.Equal(t, 204, w.SignsIn("bo", other))

	texts := map[string]string{"the database": w.Dump(), "the logs": w.Logs()}
	require.NoError(t, filepath.Walk(w.Lab.Dir, func(file string, info os.FileInfo, err error) error {
		name, _ := filepath.Rel(w.Lab.Dir, file)
		if err != nil || info.IsDir() || !strings.HasPrefix(name, "agent") && !strings.HasPrefix(name, "cloud") {
			return nil
		}
		text, err := os.ReadFile(file)
		texts[name] = string(text)
		return err
	}))
	require.Contains(t, texts, "agent.state/events.ndjson")
	for _, path := range []string{"/passwords", "/passwords/events", "/health", "/acts", "/problems"} {
		request, err := http.NewRequest("GET", w.URL+"/api/v1"+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+w.Client.Token())
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		require.Equal(t, 200, response.StatusCode, path)
		texts[path] = string(text)
	}
	for where, text := range texts {
		assert.NotContains(t, text, "7f3a9c51", where)
	}
	assert.NotContains(t, texts["the database"], "ciphertext", "the order forgets the envelope once it has ended")
	assert.Empty(t, worldtest.MemoryHolds(t, w.Service, "7f3a9c51"))

	// A flood ends at the limit for each person, and says so.
	d := worldtest.PasswordDocument()
	d.Passwords.PerPerson = &settings.Rate{Number: 3, Within: "10m"}
	w.Activate(d)
	var codes []string
	for range 4 {
		codes = append(codes, w.Ask(worldtest.Asked{Login: "cato@brisling.example", New: "short"}).Code)
	}
	assert.Equal(t, []string{"too-short", "too-short", "too-short", "too-many"}, codes)
}
