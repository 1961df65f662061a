package cli

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/protocol/wire"
)

// TestEveryCommandHelps reads the whole command line: each command says what
// it does, shows an example, and refuses what it does not take.
func TestEveryCommandHelps(t *testing.T) {
	t.Parallel()
	commands := 0
	var visit func(*cobra.Command)
	visit = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			visit(sub)
		}
		if !c.Runnable() || c.Hidden || c.Name() == "help" || strings.HasPrefix(c.CommandPath(), "kambrel completion") {
			return
		}
		commands++
		assert.NotEmpty(t, c.Short, c.CommandPath())
		assert.Contains(t, c.Example, c.CommandPath(), c.CommandPath())
		if !strings.Contains(c.Use, "...") {
			assert.Error(t, c.Args(c, []string{"one", "two", "three"}), c.CommandPath())
		}
	}
	visit(NewRoot())
	assert.Greater(t, commands, 15)
}

func run(args ...string) (string, int) {
	root := NewRoot()
	var out bytes.Buffer
	root.SetOut(&out)
	root.SetErr(&out)
	root.SetArgs(args)
	code := terminal.ExitStatus(root.Execute(), &out)
	return out.String(), code
}

// answering is a service that answers one path with one body.
func answering(t *testing.T, answers map[string]any) string {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		body, ok := answers[strings.TrimPrefix(r.URL.Path, "/api/v1")]
		if !ok {
			w.WriteHeader(http.StatusNotFound)
			body = map[string]any{"type": "urn:kambrel:problem:not-found", "title": "Not found", "detail": "nothing there.", "errors": []map[string]string{{"location": "users.filter", "message": "odd"}}}
		}
		_ = json.NewEncoder(w).Encode(body)
	}))
	t.Cleanup(server.Close)
	return server.URL
}

func TestHealthIsPrintedAndIsTheExitStatus(t *testing.T) {
	t.Parallel()
	ended := time.Now()
	h := wire.Health{State: "attention", Summary: "Login is taken", Attention: []wire.Attention{{ProblemDetail: wire.DetailOf("duplicate-login", "1 open")}},
		LastRun: &wire.Run{ID: 7, Purpose: purpose.Sync, State: progress.Problems, Ended: &ended}, Directory: []wire.DirectoryState{{Name: "halvard", Base: "DC=example", Entries: 3, Agents: 1}}}
	url := answering(t, map[string]any{"/health": h})
	out, code := run("health", "--service", url, "--token", "secret")
	assert.Equal(t, 2, code)
	for _, part := range []string{"Login is taken", "1 open", "Last run   7, finished with problems", "the schedule is off", "halvard (DC=example), 3 users", "1 agent online"} {
		assert.Contains(t, out, part)
	}
	out, code = run("health", "--service", url, "--token", "secret", "-o", "json")
	assert.Equal(t, 2, code)
	var again wire.Health
	require.NoError(t, json.Unmarshal([]byte(out), &again), out)
	assert.Equal(t, h.Summary, again.Summary)
	out, code = run("why", "x", "--service", url, "--token", "secret")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "Not found: nothing there.\n  users.filter: odd")
}

func TestReasonsArePrintedAsATree(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	printReason(&out, reason.Node{Text: "Scope: does it take part?", Outcome: reason.No, Value: "out", Deciding: true, Children: []reason.Node{
		{Text: "title", Outcome: reason.Note, Value: "Mate", Source: "from title"}, {Text: "(cn=x)", Outcome: reason.No, Deciding: true},
	}}, 0)
	assert.Equal(t, "- Scope: does it take part? out\n    title: Mate   (from title)\n  - (cn=x)   <- decides\n", out.String())
}

func TestTablesLineUp(t *testing.T) {
	t.Parallel()
	table := newTable("NAME", "N")
	table.add("Åse\nLind", 1)
	table.add("日本", 22)
	var out bytes.Buffer
	require.NoError(t, table.print(&out))
	assert.Equal(t, "NAME      N\nÅse Lind  1\n日本      22\n", out.String())
}

func TestTheTokenGoesToItsOwnServiceOnly(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	t.Setenv("KAMBREL_SERVICE", "")
	t.Setenv("KAMBREL_TOKEN", "")
	t.Chdir(dir)
	find := func(service, token string) []string {
		p, err := findProfile(service, token)
		require.NoError(t, err)
		return []string{p.Service, p.Token}
	}
	_, err := findProfile("", "")
	assert.ErrorContains(t, err, "kambrel login")
	require.NoError(t, Profile{Service: "http://127.0.0.1:1", Token: "kept"}.Save(userProfile()))
	assert.Equal(t, []string{"http://127.0.0.1:1", "kept"}, find("", ""))
	assert.Equal(t, []string{"http://127.0.0.1:1/", "kept"}, find("http://127.0.0.1:1/", ""), "the token that was kept for this service")
	assert.Equal(t, []string{"http://127.0.0.1:2", ""}, find("http://127.0.0.1:2", ""), "and for no other")

	require.NoError(t, os.WriteFile(DemoProfile, []byte("service: https://elsewhere.example\ntoken: x\n"), 0o600))
	assert.Equal(t, "http://127.0.0.1:1", find("", "")[0], "a file that lies about chooses nothing")
	t.Setenv("KAMBREL_TOKEN", "environment")
	_, err = findProfile("", "")
	assert.ErrorContains(t, err, "KAMBREL_SERVICE", "a token without its service goes nowhere")
	t.Setenv("KAMBREL_SERVICE", "http://127.0.0.1:3")
	assert.Equal(t, []string{"http://127.0.0.1:3", "environment"}, find("", ""))
	assert.Equal(t, []string{"http://127.0.0.1:3", "flag"}, find("", "flag"))
	assert.Equal(t, []string{"http://127.0.0.1:2", ""}, find("http://127.0.0.1:2", ""), "the environment's token is for the environment's service")
	assert.Equal(t, []string{"http://127.0.0.1:1", "kept"}, find("http://127.0.0.1:1", ""))

	t.Setenv("KAMBREL_SERVICE", "")
	t.Setenv("KAMBREL_TOKEN", "")
	for _, service := range []string{"http://kambrel.example", "http://127.evil.example", "http://127.0.0.1.evil.example", "ftp://127.0.0.1"} {
		_, err = findProfile(service, "flag")
		assert.ErrorContains(t, err, "https", service)
	}
	require.NoError(t, os.Chmod(userProfile(), 0o666))
	_, err = findProfile("", "")
	assert.ErrorContains(t, err, "written by others")
	require.NoError(t, Profile{Service: "http://127.0.0.1:1", Token: "new"}.Save(userProfile()))
	info, err := os.Stat(userProfile())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.Remove(userProfile()))
	require.NoError(t, os.Symlink(DemoProfile, userProfile()))
	_, err = findProfile("", "")
	assert.ErrorContains(t, err, "no plain file")
	if os.Geteuid() == 0 {
		require.NoError(t, Profile{Service: "http://127.0.0.1:1", Token: "new"}.Save(userProfile()))
		require.NoError(t, os.Chown(userProfile(), 65534, 65534))
		_, err = findProfile("", "")
		assert.ErrorContains(t, err, "belongs to somebody else")
	}
}

func TestEveryCodeIsExplained(t *testing.T) {
	for _, kind := range problem.Catalogue() {
		out, status := run("explain", string(kind.Code))
		assert.Zero(t, status, kind.Code)
		assert.Contains(t, out, kind.Title)
		assert.Contains(t, out, kind.Remedy)
	}
	out, status := run("explain", "expect")
	assert.Zero(t, status)
	assert.Contains(t, out, "expectations-not-met")
	out, status = run("explain", "no-such-code")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "'kambrel explain' lists all")
}
