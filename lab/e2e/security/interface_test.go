package security_test

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestEveryRouteAsksForARole tries every route of the OpenAPI document as
// nobody and with each role: what is not allowed is refused.
func TestEveryRouteAsksForARole(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	tokens := map[wire.Role]string{"": ""}
	for _, role := range []wire.Role{wire.Viewer, wire.OperatorRole, wire.Administrator} {
		token, err := w.Client.NewToken(t.Context(), wire.NewToken{Name: "test " + string(role), Role: role})
		require.NoError(t, err)
		tokens[role] = token.Secret
	}
	request, err := http.NewRequest(http.MethodGet, w.URL+"/api/openapi.json", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+tokens[wire.Viewer])
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	var document struct {
		Paths map[string]map[string]struct {
			OperationID string
			Description string
		}
	}
	require.NoError(t, json.NewDecoder(response.Body).Decode(&document))
	open := map[string]bool{"sign-in": true, "get-sign-in-ways": true, "enrol": true}
	tried := 0
	for path, operations := range document.Paths {
		for method, operation := range operations {
			least := wire.Role(strings.TrimSuffix(strings.TrimPrefix(operation.Description, "Needs the role "), "."))
			assert.Equal(t, open[operation.OperationID], operation.Description == "", "%s: only sign-in, its ways and enrolment are open", operation.OperationID)
			if open[operation.OperationID] {
				continue
			}
			for role, token := range tokens {
				if operation.OperationID == "sign-out" && role != "" {
					continue // it would end the token that the others need
				}
				status := status(w, t, strings.ToUpper(method), path, token)
				tried++
				switch {
				case role == "":
					assert.Equal(t, 401, status, "%s as nobody", operation.OperationID)
				case !role.Allows(least):
					assert.Equal(t, 403, status, "%s as %s", operation.OperationID, role)
				default:
					assert.NotContains(t, []int{401, 403}, status, "%s as %s", operation.OperationID, role)
				}
			}
		}
	}
	assert.Greater(t, tried, 70)
	for path, want := range map[string]int{
		"/api/v1/agent/order": 401, "/api/v1/agent/hello": 401, "/api/v1/agent/orders/1/answer": 401, "/api/v1/agent/program": 401, "/api/v1/agent/programs/0.2.0/linux-amd64": 401, "/api/v1/events": 401, "/metrics": 401, "/healthz": 200, "/api/openapi.json": 401, "/api/openapi.yaml": 401,
	} {
		method := map[string]string{"/api/v1/agent/hello": "PUT", "/api/v1/agent/orders/1/answer": "POST", "/api/v1/agent/program": "POST"}[path]
		assert.Equal(t, want, status(w, t, method, path, ""), path)
		if want == 401 && strings.Contains(path, "agent") {
			assert.Equal(t, 401, status(w, t, method, path, tokens[wire.Administrator]), "%s is for agents only", path)
		}
	}
	assert.Equal(t, 200, status(w, t, "GET", "/metrics", tokens[wire.Viewer]))
}

func status(w *worldtest.World, t *testing.T, method, path, token string) int {
	t.Helper()
	number := !strings.Contains(path, "/agents/") && !strings.Contains(path, "/tokens/")
	path = strings.ReplaceAll(path, "{id}", map[bool]string{true: "1", false: "00000000-0000-4000-8000-000000000000"}[number])
	path = strings.NewReplacer("{name}", "nowhere", "{revision}", "1").Replace(path)
	request, err := http.NewRequest(method, w.URL+path, strings.NewReader("{}"))
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/json")
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	if response.StatusCode >= 400 {
		assert.Contains(t, response.Header.Get("Content-Type"), "problem+json", "%s %s: %s", method, path, text)
	}
	return response.StatusCode
}

func TestSignInAndEnrolmentRefuseWhatIsWrong(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	for _, credentials := range []wire.Credentials{{Name: "administrator", Password: "wrong"}, {Name: "nobody", Password: worldtest.Password}} {
		_, _, err := client.Login(t.Context(), w.URL, credentials)
		require.ErrorContains(t, err, "Sign-in refused")
	}
	code, err := w.Client.IssueCode(t.Context(), "brisling")
	require.NoError(t, err)
	enrol := func(name string) (string, int) {
		_, stderr, status := worldtest.Kambrel(t, "agent", "enrol", "--service", w.URL, "--code", code.Code, "--name", name, "--config", filepath.Join(t.TempDir(), "agent.yaml"))
		return stderr, status
	}
	stderr, status := enrol("brisling-1")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "already", "the name is taken, and the code is not used up")
	_, status = enrol("brisling-2")
	assert.Zero(t, status)
	stderr, status = enrol("brisling-3")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "used already", "a code is good for one agent")
	info, err := os.Stat(w.AgentFile)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.Chmod(w.AgentFile, 0o644))
	_, stderr, status = worldtest.Kambrel(t, "agent", "run", "--config", w.AgentFile)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "others can read it")

	// A retired agent ends by itself.
	agents, err := w.Client.Agents(t.Context())
	require.NoError(t, err)
	require.Equal(t, "brisling-1", agents[0].Name)
	require.NoError(t, w.Client.RetireAgent(t.Context(), agents[0].ID))
	<-w.Agent.Ended()
}

// TestBadInputIsRefusedAndNothingIsDone tries what people mistype.
func TestBadInputIsRefusedAndNothingIsDone(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	d := worldtest.Document()
	good, err := d.YAML()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "settings.yaml")
	activate := func(text string) (string, int) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, stderr, status := w.Kambrel("settings", "activate", file, "--yes", "--without-impact")
		return stderr, status
	}
	for name, c := range map[string]struct{ from, to, want string }{
		"a misspelt key":    {"dialect:", "dialekt:", "line 3 of the file"},
		"a malformed DN":    {worldtest.People, "People", "directories[0].containers.include[0]"},
		"a broken formula":  {"entry.displayName != ", "entry.displayName =! ", "; line 1, column "},
		"a broken filter":   {"(objectClass=inetOrgPerson)", "(objectClass=inetOrgPerson", "users.filter"},
		"a wrong interval":  {"every: \"off\"", "every: sometimes", "schedule.every"},
		"an unknown policy": {"leavers: suspend", "leavers: burn", "suspend, delete or keep"},
		"an unknown target": {"target: title", "target: titel", "the cloud's users have no titel; it has title"},
		"a wrong type":      {"from: title", "formula: size(entry.title)", "what it gives is a whole number, and title takes a text"},
	} {
		require.Contains(t, string(good), c.from, name)
		stderr, status := activate(strings.Replace(string(good), c.from, c.to, 1))
		assert.Equal(t, 1, status, name)
		assert.Contains(t, stderr, c.want, name)
		_, err := w.Client.Settings(t.Context())
		assert.Error(t, err, "%s: nothing is activated", name)
	}
	_, stderr, status := w.Kambrel("sync")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "No settings are active")
	_, status = activate(string(good))
	assert.Zero(t, status)
	exported, _, status := w.Kambrel("settings", "export")
	assert.Zero(t, status)
	assert.Equal(t, string(good), exported, "what is exported can be activated again")

	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"runs", "show", "seven"}, `"seven" is no run number`},
		{[]string{"runs", "show", "999"}, "there is no run 999"},
		{[]string{"runs", "show"}, "takes one argument"},
		{[]string{"sync", "now"}, "takes no arguments"},
		{[]string{"sync", "--ful"}, "unknown flag: --ful"},
		{[]string{"health", "-o", "xml"}, "use table, json or yaml"},
		{[]string{"why", "nobody at all"}, "nothing in the mirrors fits"},
		{[]string{"runs", "list", "--limit", "0"}, "from 1 to 500"},
		{[]string{"synk"}, "unknown command"},
	} {
		_, stderr, status := w.Kambrel(c.args...)
		assert.Equal(t, 1, status, c.args)
		assert.Contains(t, stderr, c.want, c.args)
	}
	_, stderr, status = worldtest.Kambrel(t, "health", "--service", "http://127.0.0.1:1", "--token", "x")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "cannot be reached")
	_, stderr, status = worldtest.Kambrel(t, "serve", "--plain", "--database", "postgres://127.0.0.1:1/none", "--cloud-url", w.Cloud.URL, "--cloud-token-file", w.Cloud.TokenFile)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "The database cannot be reached")
	_, stderr, status = worldtest.Kambrel(t, "serve", "--plain", "--database", w.DSN, "--listen", "0.0.0.0:0", "--cloud-url", w.Cloud.URL, "--cloud-token-file", w.Cloud.TokenFile)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "no loopback address")
}

// TestTheCommandLineSpeaksToPeopleAndPrograms reads what commands print.
func TestTheCommandLineSpeaksToPeopleAndPrograms(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Activate(worldtest.Document())
	dn := w.Person("Ada Brekke", map[string]string{"title": "Mate"})
	out, _, status := w.Kambrel("sync")
	assert.Zero(t, status)
	assert.Contains(t, out, "create 1")
	assert.Contains(t, out, "7 attributes", "no wall of values")
	w.Says([]string{"runs", "show", "1", "--values"}, `title: (nothing) -> "Mate"   (from title)`)
	out, _, status = w.Kambrel("find", "brekke", "-o", "json")
	assert.Zero(t, status)
	var found wire.Everything
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	hits := found.Objects
	require.Len(t, hits, 1)
	for _, text := range []string{hits[0].EntryID, hits[0].ResourceID, dn, strings.ToUpper(dn), "ada.brekke@brisling.example", strings.ReplaceAll(hits[0].EntryID, "-", "")} {
		why, _, status := w.Kambrel("why", text)
		assert.Zero(t, status, text)
		assert.Contains(t, why, "its resource is in step", text)
	}
	out, _, status = w.Kambrel("health")
	assert.Zero(t, status)
	assert.Contains(t, out, "Everything is in step")
	out, _, _ = w.Kambrel("runs", "list", "--all", "-o", "yaml")
	assert.Contains(t, out, "state: in-step")
	w.Person("Ada Twin", map[string]string{"mail": "ada.brekke@brisling.example"})
	_, _, status = w.Kambrel("sync")
	assert.Equal(t, 2, status, "finished with problems")
	out, _, status = w.Kambrel("health")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "resource is linked to another entry")
	out, _, _ = w.Kambrel("problems", "list")
	assert.Contains(t, out, "Ada Twin")
	out, _, status = w.Kambrel("problems", "kinds")
	assert.Zero(t, status)
	assert.Contains(t, out, "Login is taken  [duplicate-login]")
	_, _, status = w.Kambrel("find", "nobody at all")
	assert.Equal(t, 1, status)
}
