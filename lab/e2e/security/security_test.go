package security_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

// TestAnAgentSpeaksForItsDirectoriesOnly lets an agent say that it serves another
// directory, send what lies outside of its own, and send less than it should.
func TestAnAgentSpeaksForItsDirectoriesOnly(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(2))
	w.Activate(worldtest.Document())
	w.InStep(2)
	require.NoError(t, w.Agent.Stop())
	f := w.Forger()
	hello := func(body string) (int, string) { return f.Does("PUT", "/api/v1/agent/hello", body) }

	status, answer := hello(`{"version":"0","host":"h","directories":["brisling","halvard"],"plain":["brisling"]}`)
	require.Equal(t, 204, status, answer)
	agents, err := w.Client.Agents(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"brisling"}, agents[0].Directories)
	assert.Equal(t, []string{"halvard"}, agents[0].Asks)
	assert.Equal(t, []string{"brisling"}, agents[0].Plain, "plain LDAP is flagged")
	out, _, _ := w.Kambrel("health")
	assert.Contains(t, out, "asks for halvard")
	assert.Contains(t, out, "without protection")

	// It gets no order for the other directory.
	d := worldtest.Document()
	d.Directories = append(d.Directories, settings.Directory{Name: "halvard", Dialect: entry.Standard, Base: "dc=halvard,dc=example", Containers: settings.Containers{Include: []string{"dc=halvard,dc=example"}}})
	w.Activate(d)
	run, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	status, answer = f.Does("GET", "/api/v1/agent/order", "")
	require.Equal(t, 200, status, answer)
	var order orders.Order
	require.NoError(t, json.Unmarshal([]byte(answer), &order))
	assert.Equal(t, "brisling", order.Directory)
	// A forged entry of another tree is refused, and the run says so.
	path := fmt.Sprintf("/api/v1/agent/orders/%d/answer", order.ID)
	forged := `{"entry":{"id":"00000000-0000-4000-8000-000000000001","kind":"user","dn":"cn=Boss,ou=People,dc=halvard,dc=example","attributes":{"mail":["boss@brisling.example"],"objectClass":["inetOrgPerson"]}}}` + "\n"
	status, answer = f.Does("POST", path, forged)
	assert.NotEqual(t, 204, status)
	assert.Contains(t, answer, string(problem.EntryOutsideBase))
	ended := w.Wait(run.ID)
	require.Equal(t, progress.Failed, ended.State)
	assert.Contains(t, []string{string(problem.EntryOutsideBase), string(problem.DirectoryNotServed)}, ended.Failure.Code)
	found, err := w.Client.Find(t.Context(), map[string][]string{"text": {"Boss"}})
	require.NoError(t, err)
	assert.Empty(t, found.Items)

	// More is granted by an administrator, and taken again.
	out, stderr, code := w.Kambrel("agent", "grant", agents[0].Name, "halvard")
	require.Zero(t, code, stderr)
	assert.Contains(t, out, "brisling, halvard, skerry")
	_, _, code = w.Kambrel("agent", "withdraw", agents[0].Name, "halvard", "brisling")
	require.Zero(t, code)
	agents, err = w.Client.Agents(t.Context())
	require.NoError(t, err)
	assert.Empty(t, agents[0].Directories)
	_, _, code = w.Kambrel("agent", "grant", agents[0].Name, "brisling")
	require.Zero(t, code)

	// A line that says that it failed is never a success, without a code either.
	w.Activate(worldtest.Document())
	run, err = w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Full})
	require.NoError(t, err)
	status, answer = f.Does("GET", "/api/v1/agent/order", "")
	require.Equal(t, 200, status, answer)
	require.NoError(t, json.Unmarshal([]byte(answer), &order))
	status, _ = f.Does("POST", fmt.Sprintf("/api/v1/agent/orders/%d/answer", order.ID), `{"failed":{"detail":"x"}}`+"\n")
	assert.Equal(t, 204, status)
	ended = w.Wait(run.ID)
	assert.Equal(t, progress.Failed, ended.State, "%+v", ended)
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 2)

	// A hello has a limit, and so has each of its parts.
	status, answer = hello(`{"version":"` + strings.Repeat("x", 200<<10) + `"}`)
	assert.Equal(t, 413, status, answer)
	status, _ = hello(`{"version":"` + strings.Repeat("x", 1000) + `","directories":["brisling"]}`)
	assert.Equal(t, 422, status)
	// A signature counts once, for its request, and not for long.
	token := f.Signature("PUT", "/api/v1/agent/hello", 30*time.Second)
	status, _ = f.Send("PUT", "/api/v1/agent/hello", token, `{"directories":["brisling"]}`)
	assert.Equal(t, 204, status)
	status, answer = f.Send("PUT", "/api/v1/agent/hello", token, `{"directories":["brisling"]}`)
	assert.Equal(t, 401, status)
	assert.Contains(t, answer, "used before")
	status, answer = f.Send("PUT", "/api/v1/agent/hello", f.Signature("PUT", "/api/v1/agent/hello", 5*time.Minute), `{}`)
	assert.Equal(t, 401, status)
	assert.Contains(t, answer, "too long")

	// One that is retired while its hello is on its way stays so.
	reader, writer := io.Pipe()
	request, err := http.NewRequest("PUT", w.URL+"/api/v1/agent/hello", reader)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+f.Signature("PUT", "/api/v1/agent/hello", 30*time.Second))
	late := make(chan int, 1)
	known := signatures(w)
	go func() {
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			late <- 0
			return
		}
		_ = response.Body.Close()
		late <- response.StatusCode
	}()
	_, err = writer.Write([]byte(`{"directories":["bris`))
	require.NoError(t, err)
	awaitSignature(w, known)
	require.NoError(t, w.Client.RetireAgent(t.Context(), agents[0].ID))
	_, err = writer.Write([]byte(`ling"]}`))
	require.NoError(t, err)
	require.NoError(t, writer.Close())
	assert.Equal(t, 401, <-late)
	agents, err = w.Client.Agents(t.Context())
	require.NoError(t, err)
	assert.Empty(t, agents)
}

// signatures counts those that the service has taken.
func signatures(w *worldtest.World) string {
	w.T.Helper()
	out, err := exec.Command("psql", w.DSN, "-Atc", "SELECT count(*) FROM agent_signatures").Output()
	require.NoError(w.T, err)
	return string(out)
}

// awaitSignature waits until the service has taken one more than those known, so
// that a request is surely under way.
func awaitSignature(w *worldtest.World, known string) {
	w.T.Helper()
	require.Eventually(w.T, func() bool { return signatures(w) != known }, 10*time.Second, 20*time.Millisecond)
}

// TestAServiceThatWasStoppedWritesNothingMore stops the service that executes a
// run for longer than its lock lasts: another takes over, and the first, when it
// goes on, sends nothing and keeps nothing.
func TestAServiceThatWasStoppedWritesNothingMore(t *testing.T) {
	t.Parallel()
	const crew = 400
	b := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(crew), worldtest.Options{Between: b, Cloud: []string{"--without", "bulk"}})
	w.Activate(worldtest.Document())
	first, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	w.AwaitMoment(first.ID, func(r wire.Run) bool { return r.Stage == "write" })
	require.NoError(t, syscall.Kill(w.Service.PID(), syscall.SIGSTOP))
	port, err := servers.FreePort(0)
	require.NoError(t, err)
	address := fmt.Sprintf("127.0.0.1:%d", port)
	_, err = w.Lab.Start(context.Background(), servers.Command{
		Name: "standby", Path: w.Programs.Kambrel, Env: []string{"KAMBREL_DATABASE=" + w.DSN},
		Args:  []string{"serve", "--plain", "--listen", address, "--cloud-url", w.Cloud.URL, "--cloud-token-file", w.Cloud.TokenFile, "--agent-patience", "30s"},
		Ready: servers.Answers("http://" + address + "/healthz"),
	})
	require.NoError(t, err)
	standby := client.New("http://"+address, w.Client.Token())
	ended := worldtest.AwaitRun(t, standby, func(r wire.Run) bool { return r.ID == first.ID })
	require.Equal(t, progress.InStep, ended.State, "%+v", ended.Failure)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), crew)
	sent := make(chan string, 100)
	b.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodGet {
			sent <- r.Method + " " + r.URL.Path
		}
		return false
	})
	require.NoError(t, syscall.Kill(w.Service.PID(), syscall.SIGCONT))
	deadline := time.Now().Add(20 * time.Second)
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for !strings.Contains(w.LogOf("service"), "no longer holds the lock") && time.Now().Before(deadline) {
		<-tick.C
	}
	assert.Contains(t, w.LogOf("service"), "no longer holds the lock")
	select {
	case request := <-sent:
		t.Errorf("the service that was stopped has sent %s", request)
	default:
	}
	assert.Len(t, worldtest.Users(t, w.Address(), ""), crew)
	run, err := standby.Run(t.Context(), first.ID)
	require.NoError(t, err)
	assert.Equal(t, ended.State, run.State)
	assert.Equal(t, ended.Counts, run.Counts, "what the other has kept stays")
	full, err := standby.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Full})
	require.NoError(t, err)
	ended = w.Wait(full.ID)
	assert.Zero(t, ended.Counts.Changes, "%+v", ended)
}

// TestSignInWithstandsGuessing guesses, from here and as if from elsewhere, and
// ends sessions in each way that there is.
func TestSignInWithstandsGuessing(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Bare: true, Serve: []string{"--trusted-proxy", "127.0.0.1"}})
	signIn := func(name, secret, from string) int {
		text, err := json.Marshal(wire.Credentials{Name: name, Password: secret})
		require.NoError(t, err)
		request, err := http.NewRequest("POST", w.URL+"/api/v1/session", bytes.NewReader(text))
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("X-Forwarded-For", "10.9.9.9, "+from) // what a client says itself comes first
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		if response.StatusCode == 429 {
			assert.NotEmpty(t, response.Header.Get("Retry-After"))
		}
		return response.StatusCode
	}
	require.Equal(t, 200, signIn("administrator", worldtest.Password, "192.0.2.1"))
	refused := 0
	for range 12 {
		if signIn("administrator", "guess", "192.0.2.66") == 429 {
			refused++
		}
	}
	assert.GreaterOrEqual(t, refused, 6, "one address is slowed down")
	for i := range 15 {
		signIn("administrator", "guess", fmt.Sprintf("198.51.100.%d", i))
	}
	assert.Equal(t, 429, signIn("administrator", worldtest.Password, "203.0.113.7"), "many addresses, one name")
	assert.Equal(t, 200, signIn("administrator", worldtest.Password, "192.0.2.1"), "but not where the name has signed in")
	log := w.LogOf("service")
	assert.Contains(t, log, "sign-in refused")
	assert.Contains(t, log, "192.0.2.66")
	assert.NotContains(t, log, "10.9.9.9")
	acts, err := w.Client.Acts(t.Context(), url.Values{"kind": {string(act.SignIn)}})
	require.NoError(t, err)
	from := map[string]act.Result{}
	for _, a := range acts.Items {
		from[string(a.After)] = a.Result
	}
	assert.Equal(t, act.Refused, from[`{"address":"192.0.2.66"}`], from)
	assert.Equal(t, act.Done, from[`{"address":"192.0.2.1"}`], from)

	// Passwords are checked whoever sets them, and never echoed.
	for _, weak := range []string{"short", "aaaaaaaaaaaa", "my-ingrid-password"} {
		err := w.Client.AddOperator(t.Context(), wire.NewOperator{Name: "ingrid", Password: weak, Role: wire.Viewer})
		require.Error(t, err, weak)
		assert.NotContains(t, err.Error(), weak)
	}
	const secret, next = "Slack-Tide-Nine", "Spring-Tide-Ten"
	require.NoError(t, w.Client.AddOperator(t.Context(), wire.NewOperator{Name: "ingrid", Password: secret, Role: wire.Viewer}))
	request, err := http.NewRequest("POST", w.URL+"/api/v1/operators", strings.NewReader(`{"name":"NOT A NAME","password":"Marked-Secret-77","role":"emperor","more":"Marked-Secret-77"}`))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+w.Client.Token())
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	require.NoError(t, response.Body.Close())
	assert.Equal(t, 422, response.StatusCode)
	assert.NotContains(t, string(text), "Marked-Secret-77")

	// Streams of events are limited, and end with the session.
	ingrid, _, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "ingrid", Password: secret})
	require.NoError(t, err)
	stream := func() (*http.Response, int) {
		request, err := http.NewRequest("GET", w.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+ingrid.Token())
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		t.Cleanup(func() { _ = response.Body.Close() })
		return response, response.StatusCode
	}
	var streams []*http.Response
	for range 20 {
		response, status := stream()
		require.Equal(t, 200, status)
		streams = append(streams, response)
	}
	_, status := stream()
	assert.Equal(t, 429, status)
	require.NoError(t, ingrid.ChangePassword(t.Context(), wire.OwnPassword{Current: secret, Password: next}))
	other, _, err := client.Login(t.Context(), w.URL, wire.Credentials{Name: "ingrid", Password: next})
	require.NoError(t, err)
	require.NoError(t, w.Client.RemoveOperator(t.Context(), "ingrid"))
	for _, response := range streams {
		_, err := io.Copy(io.Discard, response.Body) // ends, or the test does not
		require.NoError(t, err)
	}
	for _, c := range []*client.Client{ingrid, other} {
		_, err = c.Session(t.Context())
		assert.ErrorContains(t, err, "Sign-in refused")
	}
	assert.ErrorContains(t, w.Client.RemoveOperator(t.Context(), "administrator"), "last administrator")
	require.NoError(t, w.Client.SignOut(t.Context(), true))
	_, err = w.Client.Session(t.Context())
	require.Error(t, err)

	// A password that is lost is set anew on the host.
	out, stderr, code := worldtest.KambrelWith(t, t.TempDir(), t.TempDir(), next, nil, "operator", "reset", "administrator", "--database", w.DSN, "--password-file", "-")
	require.Zero(t, code, out+stderr)
	assert.Equal(t, 200, signIn("administrator", next, "192.0.2.1"))
	assert.NotContains(t, w.LogOf("service"), next)
	assert.NotContains(t, w.Dump(), next)

	// A first password is checked like any other.
	file := filepath.Join(t.TempDir(), "weak")
	require.NoError(t, os.WriteFile(file, []byte("weak"), 0o600))
	dsn, err := w.Postgres.Create(t.Context(), "another")
	require.NoError(t, err)
	_, stderr, code = worldtest.KambrelWith(t, t.TempDir(), t.TempDir(), "", []string{"KAMBREL_DATABASE=" + dsn}, "serve", "--plain", "--listen", "127.0.0.1:0", "--cloud-url", w.SCIMURL, "--cloud-token-file", w.TokenFile, "--administrator-password-file", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, "too short")
}

// TestTheServiceRefusesWhatDoesHarm sends what an outsider or a viewer may send.
func TestTheServiceRefusesWhatDoesHarm(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(1))
	w.Person("Evil \x1b[31mName", map[string]string{"mail": "evil@brisling.example", "title": "=cmd()"})
	d := worldtest.Document()
	d.Cloud.Domains = nil
	w.Activate(d)
	w.InStep(2)
	viewer, err := w.Client.NewToken(t.Context(), wire.NewToken{Name: "viewer", Role: wire.Viewer})
	require.NoError(t, err)
	ask := func(method, path, body string) (int, string, http.Header) {
		request, err := http.NewRequest(method, w.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+viewer.Secret)
		request.Header.Set("Content-Type", "application/json")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text), response.Header
	}
	for _, c := range []struct{ method, path, body string }{
		{"GET", "/api/v1/objects?text=a%00b", ""},
		{"GET", "/api/v1/object?text=a%00b", ""},
		{"GET", "/api/v1/problems?code=a%00b", ""},
		{"GET", "/api/v1/runs?cursor=99999999999999999999999", ""},
		{"GET", "/api/v1/settings/revisions?cursor=9223372036854775807", ""},
		{"GET", "/api/v1/problems?cursor=9223372036854775807", ""},
		{"POST", "/api/v1/filters/check", `{"filter":"(cn=\u0000` + strings.Repeat("(!", 200) + `"}`},
		{"POST", "/api/v1/session", `{"name":"a\u0000b","password":"x"}`},
	} {
		status, text, _ := ask(c.method, c.path, c.body)
		assert.NotEqual(t, 500, status, "%s %s: %s", c.method, c.path, text)
	}
	started := time.Now()
	yaml, err := json.Marshal(map[string]string{"yaml": strings.Repeat("[", 100_000)})
	require.NoError(t, err)
	status, text, _ := ask("POST", "/api/v1/settings/check", string(yaml))
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "nested deeper")
	assert.Less(t, time.Since(started), 5*time.Second)

	_, _, headers := ask("GET", "/", "")
	for _, directive := range []string{"base-uri 'none'", "form-action 'self'", "frame-ancestors 'none'"} {
		assert.Contains(t, headers.Get("Content-Security-Policy"), directive)
	}
	out, _, code := w.Kambrel("find", "evil")
	assert.Zero(t, code)
	assert.NotContains(t, out, "\x1b")
	assert.Contains(t, out, "Name")

	// One address has a limited number of connections; others are served.
	var connections []net.Conn
	for range 300 {
		connection, err := net.Dial("tcp", strings.TrimPrefix(w.URL, "http://"))
		require.NoError(t, err)
		defer connection.Close()
		connections = append(connections, connection)
	}
	closed := 0
	for _, connection := range connections[200:] {
		require.NoError(t, connection.SetReadDeadline(time.Now().Add(300*time.Millisecond)))
		if _, err := bufio.NewReader(connection).ReadByte(); err == io.EOF {
			closed++
		}
	}
	assert.GreaterOrEqual(t, closed, 30)
	for _, connection := range connections {
		_ = connection.Close()
	}

	// Where the database takes no writes, the service says that it is not ready.
	health := func() int {
		response, err := http.Get(w.URL + "/healthz")
		require.NoError(t, err)
		_ = response.Body.Close()
		return response.StatusCode
	}
	require.Eventually(t, func() bool { return health() == 200 }, 10*time.Second, 50*time.Millisecond)
	w.ReadOnly(true)
	require.Eventually(t, func() bool { return health() == 503 }, 10*time.Second, 50*time.Millisecond)
	w.ReadOnly(false)
	require.Eventually(t, func() bool { return health() == 200 }, 10*time.Second, 50*time.Millisecond)

	// What failed meanwhile is in the log without people's data.
	assert.NotContains(t, w.LogOf("service"), "evil@brisling.example")

	// A program does not touch tables of a newer one.
	require.NoError(t, w.Service.Stop())
	require.NoError(t, w.Execute("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)"))
	_, stderr, code := worldtest.KambrelWith(t, t.TempDir(), t.TempDir(), "", []string{"KAMBREL_DATABASE=" + w.DSN}, "serve", "--plain", "--listen", "127.0.0.1:0", "--cloud-url", w.SCIMURL, "--cloud-token-file", w.TokenFile)
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, problem.Describe(problem.SchemaNewer).Title)
}
