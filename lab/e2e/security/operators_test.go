package security_test

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestRolesSessionsAndTokensAreEndedAtOnce changes what somebody may do while they are signed
// in, ends their session, and looks at what a token is used for.
func TestRolesSessionsAndTokensAreEndedAtOnce(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Bare: true})
	const password = "Bilge-Pump-4711"
	require.NoError(t, w.Client.AddOperator(t.Context(), wire.NewOperator{Name: "ingrid", Password: password, Role: wire.Viewer}))
	ingrid, session, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "ingrid", Password: password})
	require.NoError(t, err)
	assert.Equal(t, wire.Viewer, session.Role)
	_, err = ingrid.Tokens(t.Context())
	assert.ErrorContains(t, err, "needs the role administrator")

	w.Says([]string{"operator", "role", "ingrid", "administrator"}, "ingrid is administrator from now on")
	_, err = ingrid.Tokens(t.Context())
	require.NoError(t, err, "the session that goes on has the new role")
	require.NoError(t, ingrid.SetRole(t.Context(), "administrator", wire.Viewer))
	w.Refuses([]string{"operator", "role", "ingrid", "viewer"}, "needs the role administrator")
	assert.ErrorContains(t, ingrid.SetRole(t.Context(), "ingrid", wire.Viewer), "last administrator")
	assert.ErrorContains(t, ingrid.SetRole(t.Context(), "nobody", wire.Viewer), "no operator nobody")
	require.NoError(t, ingrid.SetRole(t.Context(), "administrator", wire.Administrator))

	out := w.Says([]string{"session", "list"}, "ingrid", "administrator (this one)", "127.0.0.1")
	var id string
	for line := range strings.Lines(out) {
		if words := strings.Fields(line); len(words) > 0 && words[0] == "ingrid" {
			id = words[len(words)-1]
		}
	}
	require.NotEmpty(t, id, out)
	w.Says([]string{"session", "end", id[:8]}, "The session of ingrid has ended.")
	_, err = ingrid.Session(t.Context())
	assert.ErrorContains(t, err, "session or a token")
	w.Refuses([]string{"session", "end", id}, "there is no session")
	w.Says([]string{"operator", "list"}, "ingrid", "LAST USED")

	w.Refuses([]string{"token", "make", "prometheus"}, "--for")
	secret, _, _ := strings.Cut(w.Says([]string{"token", "make", "prometheus", "--for", "metrics of the monitoring host"}, "shown this once"), "\n")
	w.Says([]string{"token", "list"}, "prometheus", "metrics of the monitoring host", "never")
	program := client.New(w.URL, secret)
	_, err = program.Runs(t.Context(), nil)
	require.NoError(t, err)
	tokens, err := w.Client.Tokens(t.Context())
	require.NoError(t, err)
	require.Len(t, tokens, 1)
	require.NotNil(t, tokens[0].Used)
	assert.Equal(t, "127.0.0.1", tokens[0].From)
	w.Says([]string{"token", "end", tokens[0].ID[:8]}, "The token prometheus has ended.")
	_, err = program.Runs(t.Context(), nil)
	assert.ErrorContains(t, err, "session or a token")
	w.Says([]string{"acts"}, "set-role", "end-session", "make-token", "end-token")

	_, stderr, status := worldtest.KambrelWith(t, t.TempDir(), t.TempDir(), "Anchor-Chain-99\n", []string{"KAMBREL_SERVICE=" + w.URL, "KAMBREL_TOKEN=" + w.Client.Token()}, "operator", "password", "ingrid", "--password-file", "-")
	require.Zero(t, status, stderr)
	_, _, err = client.Login(t.Context(), w.URL, wire.Credentials{Name: "ingrid", Password: "Anchor-Chain-99"})
	require.NoError(t, err)
}

// TestGuessingAndEmergenciesAreTold tries many passwords, and signs in by the account from the
// safe: both are problems of which people are told.
func TestGuessingAndEmergenciesAreTold(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Bare: true})
	told := func() map[string]string {
		health, err := w.Client.Health(t.Context())
		require.NoError(t, err)
		codes := map[string]string{}
		for _, one := range health.Attention {
			codes[one.Code] = one.Detail
		}
		return codes
	}
	const password = "From-The-Safe-88"
	_, stderr, status := worldtest.KambrelWith(t, t.TempDir(), t.TempDir(), password, []string{"KAMBREL_SERVICE=" + w.URL, "KAMBREL_TOKEN=" + w.Client.Token()}, "operator", "add", "glass-case", "--role", "administrator", "--emergency", "--password-file", "-")
	require.Zero(t, status, stderr)
	w.Says([]string{"operator", "list"}, "glass-case (emergency)")
	for range 3 {
		_, _, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "administrator", Password: "mistyped once"})
		require.Error(t, err)
	}
	assert.NotContains(t, told(), string(problem.SignInGuessed), "people mistype")
	refused, slowed := 3, 0
	for i := range 100 {
		_, _, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: []string{"administrator", "ingrid", "glass-case"}[i%3], Password: "Guess-Number-" + strings.Repeat("x", i%9)})
		require.Error(t, err)
		if strings.Contains(err.Error(), "too many attempts") {
			slowed++
		} else {
			refused++
		}
	}
	assert.Greater(t, slowed, 80)
	assert.GreaterOrEqual(t, refused, 10)
	assert.Contains(t, told()[string(problem.SignInGuessed)], "from 127.0.0.1")
	assert.Contains(t, told()[string(problem.SignInGuessed)], "glass-case")
	assert.NotContains(t, told(), string(problem.EmergencyUsed))
	require.Eventually(t, func() bool { // it is slowed down like any other
		_, _, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "glass-case", Password: password})
		return err == nil
	}, time.Minute, 500*time.Millisecond)
	assert.Contains(t, told()[string(problem.EmergencyUsed)], "glass-case from 127.0.0.1")
	soon(t, func() bool {
		list, err := w.Client.Problems(t.Context(), url.Values{"code": {string(problem.EmergencyUsed)}})
		require.NoError(t, err)
		return list.Total == 1
	}, "it is kept as a problem, so that people are mailed")
}
