// Package e2e tests Kambrel through its real interfaces: the programs as built,
// on loopback, against real directories, PostgreSQL and the cloud stand-in.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/wire"
)

// programs are kambrel and kambrel-lab as built for all tests.
type programs struct{ kambrel, lab string }

// raced are those with the race detector, for worlds in which much goes on side by
// side; plainly are those for all others.
var raced, plainly programs

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "kambrel-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	// As in a checkout, whose programs lie in bin; readable for PostgreSQL, since
	// demos run beneath it.
	_ = os.Chmod(dir, 0o755)
	in := func(folder string) programs {
		return programs{filepath.Join(folder, "bin", "kambrel"), filepath.Join(folder, "bin", "kambrel-lab")}
	}
	plainly, raced = in(dir), in(filepath.Join(dir, "race"))
	// The race detector lets each program wait a second at its end, in which
	// nothing is found that the logs do not have.
	_ = os.Setenv("GORACE", "atexit_sleep_ms=0")
	status := 1
	out, err := exec.Command("go", "build", "-race", "-o", filepath.Dir(raced.kambrel)+"/", "../../cmd/...").CombinedOutput()
	if err == nil {
		out, err = exec.Command("go", "build", "-trimpath", "-o", filepath.Dir(plainly.kambrel)+"/", "../../cmd/...").CombinedOutput()
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
	} else {
		status = m.Run()
	}
	_ = servers.RemovePattern()
	_ = os.RemoveAll(dir)
	os.Exit(status)
}

// checkout is a folder that lies in those that stand for the ones in which the
// programs were built.
func checkout() string { return filepath.Dir(filepath.Dir(raced.kambrel)) }

const (
	base     = "dc=brisling,dc=example"
	people   = "ou=People," + base
	leavers  = "ou=Leavers," + base
	password = "Ballast-Tank-55"
)

// world is a whole installation on OpenLDAP, small enough to be made for each
// test.
type world struct {
	t         *testing.T
	lab       *servers.Lab
	postgres  *servers.Postgres
	dsn       string
	cloud     *servers.Cloud
	directory *servers.LDAPServer
	ldap      *ldap.Conn
	port      int
	url       string
	service   *servers.Process
	agent     *servers.Process
	client    *client.Client
	agentFile string
	scimURL   string // where the service finds the cloud
	tokenFile string // the service's own, with its token for the cloud
	serve     []string
	programs  programs // of service, agent and stand-in
}

// options are what a world can be other than most.
type options struct {
	cloud  []string // further arguments of the stand-in, or of the other cloud
	other  bool     // the cloud is the second service, on a public library
	serve  []string // further arguments of the service
	raced  bool     // the programs are those with the race detector
	access string   // access rules of the directory
	// between stands between the service and the cloud.
	between *between
	bare    bool // neither an agent nor settings, as a new user finds it
}

// newWorld starts everything; the directory holds the people given by ldif.
func newWorld(t *testing.T, ldif string) *world {
	t.Helper()
	return newWorldWith(t, ldif, options{})
}

// newRaced is a world of programs with the race detector, for what goes on side by
// side.
func newRaced(t *testing.T, ldif string) *world {
	t.Helper()
	return newWorldWith(t, ldif, options{raced: true})
}

func newWorldWith(t *testing.T, ldif string, o options) *world {
	t.Helper()
	w := &world{t: t, lab: serverstest.New(t), programs: plainly}
	if o.raced {
		w.programs = raced
	}
	w.lab.Many = true
	ctx := t.Context()
	var err error
	w.postgres, err = w.lab.StartPostgres(ctx, 0, true)
	require.NoError(t, err)
	w.dsn, err = w.postgres.Create(ctx, "kambrel")
	require.NoError(t, err)
	if o.other {
		w.cloud, err = w.lab.StartOtherCloud(ctx, "../othercloud", o.cloud...)
	} else {
		w.cloud, err = w.lab.StartCloud(ctx, w.programs.lab, 0, []string{"brisling.example"}, o.cloud...)
	}
	require.NoError(t, err)
	w.serve = o.serve
	w.scimURL = w.cloud.URL
	if o.between != nil {
		w.scimURL = o.between.start(t, w.cloud.URL)
	}
	file := filepath.Join(w.lab.Dir, "base.ldif")
	require.NoError(t, os.WriteFile(file, []byte("dn: "+base+"\nobjectClass: organization\nobjectClass: dcObject\no: Brisling Cargo\ndc: brisling\n\n"+
		servers.ReaderLDIF(base)+"dn: "+people+"\nobjectClass: organizationalUnit\n\ndn: "+leavers+"\nobjectClass: organizationalUnit\n\n"+ldif), 0o600))
	w.directory, err = w.lab.StartOpenLDAP(ctx, "openldap", servers.OpenLDAPOptions{BaseDN: base, LDIF: file, Access: o.access})
	require.NoError(t, err)
	w.ldap, err = w.directory.Dial()
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.ldap.Close() })
	w.port, err = servers.FreePort(0)
	require.NoError(t, err)
	w.url = fmt.Sprintf("http://127.0.0.1:%d", w.port)
	w.startService()
	session, _, err := client.Login(ctx, w.url, wire.Credentials{Name: "administrator", Password: password})
	require.NoError(t, err)
	w.client = session
	w.agentFile = filepath.Join(w.lab.Dir, "agent.yaml")
	if !o.bare {
		w.enrol()
		w.startAgent()
	}
	t.Cleanup(func() {
		for _, name := range []string{"service", "agent"} {
			text, _ := os.ReadFile(filepath.Join(w.lab.Dir, name+".log"))
			if bytes.Contains(text, []byte("DATA RACE")) || bytes.Contains(text, []byte("panic:")) || t.Failed() {
				t.Logf("%s:\n%s", name, tail(text))
			}
			if bytes.Contains(text, []byte("DATA RACE")) || bytes.Contains(text, []byte("panic:")) {
				t.Errorf("the %s has a data race or panics", name)
			}
		}
	})
	return w
}

func tail(text []byte) []byte { return text[max(0, len(text)-6000):] }

func (w *world) startService() {
	w.t.Helper()
	file := filepath.Join(w.lab.Dir, "administrator.password")
	require.NoError(w.t, os.WriteFile(file, []byte(password), 0o600))
	if w.tokenFile == "" {
		w.tokenFile = filepath.Join(w.lab.Dir, "service.token")
		require.NoError(w.t, os.WriteFile(w.tokenFile, []byte(w.cloud.Token), 0o600))
	}
	var err error
	w.service, err = w.lab.Start(context.Background(), servers.Command{
		Name: "service", Path: w.programs.kambrel, Env: []string{"KAMBREL_DATABASE=" + w.dsn},
		Args: append([]string{"serve", "--listen", fmt.Sprintf("127.0.0.1:%d", w.port), "--cloud-url", w.scimURL, "--cloud-token-file", w.tokenFile,
			"--administrator-password-file", file, "--agent-patience", "4s", "--order-lease", "3s"}, w.serve...),
		Ready: servers.Answers(w.url + "/healthz"),
	})
	require.NoError(w.t, err)
}

func (w *world) enrol() {
	w.t.Helper()
	code, err := w.client.IssueCode(w.t.Context(), "brisling", "skerry")
	require.NoError(w.t, err)
	out, err := exec.Command(plainly.kambrel, "agent", "enrol", "--service", w.url, "--code", code.Code, "--name", "brisling-1", "--config", w.agentFile).CombinedOutput()
	require.NoError(w.t, err, string(out))
	text, err := os.ReadFile(w.agentFile)
	require.NoError(w.t, err)
	text = append(bytes.ReplaceAll(text, []byte("directories: []\n"), nil), fmt.Appendf(nil, "directories:\n  - name: brisling\n    url: %s\n    ca: %s\n    bindDN: %s\n    password: %s\n",
		w.directory.URL, w.directory.CAFile, w.directory.ReaderDN, w.directory.ReaderPassword)...)
	require.NoError(w.t, os.WriteFile(w.agentFile, text, 0o600))
}

func (w *world) startAgent() {
	w.t.Helper()
	var err error
	w.agent, err = w.lab.Start(context.Background(), servers.Command{Name: "agent", Path: w.programs.kambrel, Args: []string{"agent", "run", "--config", w.agentFile}})
	require.NoError(w.t, err)
}

// document is settings that include the people and exclude the leavers.
func document() settings.Document {
	d := settings.Default(settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: base, Containers: settings.Containers{Include: []string{people}, Exclude: []string{leavers}}})
	d.Schedule.Every = "off"
	return d
}

func (w *world) activate(d settings.Document) {
	w.t.Helper()
	text, err := d.YAML()
	require.NoError(w.t, err)
	_, err = w.client.Activate(w.t.Context(), wire.ActivateSettings{YAML: string(text)})
	require.NoError(w.t, err)
}

// run starts a run and waits for its end.
func (w *world) run(request wire.NewRun) wire.Run {
	w.t.Helper()
	if request.Purpose == "" {
		request.Purpose = purpose.Sync
	}
	started, err := w.client.StartRun(w.t.Context(), request)
	require.NoError(w.t, err)
	return w.wait(started.ID)
}

func (w *world) wait(id int64) wire.Run {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), 2*time.Minute)
	defer cancel()
	run, err := w.client.Wait(ctx, id, nil)
	require.NoError(w.t, err)
	return run
}

// inStep runs and asks for exactly so many changes and no problem.
func (w *world) inStep(changes int) wire.Run {
	w.t.Helper()
	run := w.run(wire.NewRun{})
	require.Equal(w.t, progress.InStep, run.State, "%+v", run)
	require.Equal(w.t, changes, run.Counts.Changes, "%+v", run.Counts)
	require.Equal(w.t, changes, run.Counts.Done)
	return run
}

// ldifPeople is n people as LDIF.
func ldifPeople(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "dn: cn=Crew %05d,%s\nobjectClass: inetOrgPerson\nuid: crew%05d\nsn: Crew\ngivenName: N%05d\nmail: crew%05d@brisling.example\ntitle: Hand\n\n", i, people, i, i, i)
	}
	return b.String()
}

// person adds one person to the directory.
func (w *world) person(name string, more map[string]string) string {
	w.t.Helper()
	dn := "cn=" + name + "," + people
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{"inetOrgPerson"})
	request.Attribute("sn", []string{name})
	values := map[string]string{"mail": strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@brisling.example"}
	for attribute, value := range more {
		values[attribute] = value
	}
	for attribute, value := range values {
		request.Attribute(attribute, []string{value})
	}
	require.NoError(w.t, w.ldap.Add(request))
	return dn
}

func (w *world) set(dn, attribute, value string) {
	w.t.Helper()
	request := ldap.NewModifyRequest(dn, nil)
	request.Replace(attribute, []string{value})
	require.NoError(w.t, w.ldap.Modify(request))
}

// scim makes a request to the cloud as anybody with its token could.
func scim(t *testing.T, c cloudAddress, method, path string, body any) (int, map[string]any) {
	t.Helper()
	var reader io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		reader = bytes.NewReader(text)
	}
	request, err := http.NewRequest(method, path, reader)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+c.token)
	request.Header.Set("Content-Type", "application/scim+json")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	var out map[string]any
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	if len(text) > 0 {
		require.NoError(t, json.Unmarshal(text, &out), string(text))
	}
	return response.StatusCode, out
}

type cloudAddress struct{ url, control, token string }

func (w *world) address() cloudAddress {
	return cloudAddress{w.cloud.URL, w.cloud.Control, w.cloud.Token}
}

// users lists users of the cloud that a filter keeps.
func users(t *testing.T, c cloudAddress, filter string) []map[string]any {
	t.Helper()
	var out []map[string]any
	for start := 1; ; {
		query := url.Values{"startIndex": {fmt.Sprint(start)}}
		if filter != "" {
			query.Set("filter", filter)
		}
		status, page := scim(t, c, "GET", c.url+"/Users?"+query.Encode(), nil)
		require.Equal(t, 200, status, page)
		list, _ := page["Resources"].([]any)
		for _, item := range list {
			out = append(out, item.(map[string]any))
		}
		start += len(list)
		if len(list) == 0 || start > int(page["totalResults"].(float64)) {
			return out
		}
	}
}

func user(t *testing.T, c cloudAddress, login string) map[string]any {
	t.Helper()
	found := users(t, c, fmt.Sprintf("userName eq %q", login))
	if len(found) == 0 {
		return nil
	}
	return found[0]
}

func (w *world) user(login string) map[string]any {
	w.t.Helper()
	return user(w.t, w.address(), login)
}

// kambrel runs the command line and returns what it printed and its status.
func (w *world) kambrel(args ...string) (string, string, int) {
	w.t.Helper()
	return kambrel(w.t, append(args, "--service", w.url, "--token", w.client.Token())...)
}

func kambrel(t *testing.T, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	return kambrelIn(t, t.TempDir(), "", args...)
}

// kambrelIn runs the command line of somebody with a home and an input.
func kambrelIn(t *testing.T, home, input string, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	return kambrelWith(t, home, home, input, nil, args...)
}

// kambrelWith runs it in a folder with more in the environment.
func kambrelWith(t *testing.T, home, folder, input string, env []string, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	var out, errs bytes.Buffer
	command := exec.Command(plainly.kambrel, args...)
	command.Dir, command.Stdin = folder, strings.NewReader(input)
	command.Env = append(append(os.Environ(), "XDG_CONFIG_HOME="+home), env...)
	command.Stdout, command.Stderr = &out, &errs
	err := command.Run()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		t.Fatal(err)
	}
	return out.String(), errs.String(), command.ProcessState.ExitCode()
}

// restartDirectory starts OpenLDAP again on its port.
func (w *world) restartDirectory() {
	w.t.Helper()
	_ = w.ldap.Close()
	address, err := url.Parse(w.directory.URL)
	require.NoError(w.t, err)
	var port int
	_, err = fmt.Sscan(address.Port(), &port)
	require.NoError(w.t, err)
	again, err := w.lab.StartOpenLDAP(w.t.Context(), "openldap", servers.OpenLDAPOptions{BaseDN: base, Port: port})
	require.NoError(w.t, err)
	require.Equal(w.t, w.directory.URL, again.URL)
	w.directory = again
	w.ldap, err = again.Dial()
	require.NoError(w.t, err)
}

// restartCloud starts the cloud again on its port; with another token it does
// not know the service any more.
func (w *world) restartCloud(token string) {
	w.t.Helper()
	if token != "" {
		require.NoError(w.t, w.cloud.Stop())
		require.NoError(w.t, os.WriteFile(w.cloud.TokenFile, []byte(token), 0o600))
	}
	address, err := url.Parse(w.cloud.URL)
	require.NoError(w.t, err)
	var port int
	_, err = fmt.Sscan(address.Port(), &port)
	require.NoError(w.t, err)
	again, err := w.lab.StartCloud(w.t.Context(), w.programs.lab, port, []string{"brisling.example"})
	require.NoError(w.t, err)
	require.Equal(w.t, w.cloud.URL, again.URL)
	w.cloud = again
}

// logs is all that service and agent have written.
func (w *world) logs() string {
	w.t.Helper()
	var all strings.Builder
	for _, name := range []string{"service", "agent", "postgresql"} {
		text, err := os.ReadFile(filepath.Join(w.lab.Dir, name+".log"))
		require.NoError(w.t, err)
		all.Write(text)
	}
	return all.String()
}

// dump is the whole database as text.
func (w *world) dump() string {
	w.t.Helper()
	out, err := exec.Command("pg_dump", "--inserts", w.dsn).Output()
	require.NoError(w.t, err)
	return string(out)
}

// searchBase asks for attributes of one entry.
func searchBase(dn string, attributes ...string) *ldap.SearchRequest {
	return &ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: attributes}
}
