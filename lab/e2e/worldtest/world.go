// Package worldtest makes whole installations for tests: the programs as built, on
// loopback, against a real directory, PostgreSQL and a stand-in for the cloud.
package worldtest

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/wire"
)

// What every world is made of.
const (
	Base     = "dc=brisling,dc=example"
	People   = "ou=People," + Base
	Leavers  = "ou=Leavers," + Base
	Password = "Ballast-Tank-55"
)

// World is a whole installation on OpenLDAP, small enough to be made for each
// test.
type World struct {
	T         *testing.T
	Lab       *servers.Lab
	Postgres  *servers.Postgres
	DSN       string
	Cloud     *servers.Cloud
	Directory *servers.LDAPServer
	LDAP      *ldap.Conn
	Port      int
	URL       string
	Service   *servers.Process
	Second    *servers.Process // what Standby has started
	Agent     *servers.Process
	Client    *client.Client
	AgentFile string
	SCIMURL   string // where the service finds the cloud
	TokenFile string // the service's own, with its token for the cloud
	serve     []string

	secondPort int      // of Standby
	noSync     bool     // the directory does not tell what changed
	Programs   Programs // of service, agent and stand-in
}

// Options are what a world can be other than most.
type Options struct {
	Cloud  []string // further arguments of the stand-in, or of the other cloud
	Other  bool     // the cloud is the second service, on a public library
	Serve  []string // further arguments of the service
	Raced  bool     // the programs are those with the race detector
	Access string   // access rules of the directory
	NoSync bool     // the directory does not tell what changed
	Policy string   // the password policy of the directory, by name
	// Instead starts another directory instead of OpenLDAP, with the same entries, in which
	// the agent's account has no right yet.
	Instead func(ctx context.Context, lab *servers.Lab, base, ldif string) (*servers.LDAPServer, error)
	// Database is for tests that stop PostgreSQL or read what it logs: it is this
	// world's own.
	Database bool
	// between stands between the service and the cloud.
	Between *Between
	Bare    bool // neither an agent nor settings, as a new user finds it
	// Clocks are how far those of openldap, postgresql and cloud are ahead.
	Clocks map[string]time.Duration
	// ShortLived lets the directory's certificate end in ten days.
	ShortLived bool
}

// New starts everything; the directory holds the people given by ldif.
func New(t *testing.T, ldif string) *World {
	t.Helper()
	return NewWith(t, ldif, Options{})
}

// NewRaced is a world of programs with the race detector, for what goes on side by
// side.
func NewRaced(t *testing.T, ldif string) *World {
	t.Helper()
	return NewWith(t, ldif, Options{Raced: true})
}

func NewWith(t *testing.T, ldif string, o Options) *World {
	t.Helper()
	w := &World{T: t, Programs: Plainly, noSync: o.NoSync}
	if !o.Database {
		w.Postgres, w.DSN = sharedDatabase(t)
	}
	w.Lab = serverstest.New(t)
	if o.Raced {
		w.Programs = Raced
	}
	w.Lab.Many, w.Lab.Clocks = true, o.Clocks
	if ahead := o.Clocks["cloud"]; ahead != 0 {
		o.Cloud = append(o.Cloud, "--clock", ahead.String())
	}
	ctx := t.Context()
	var err error
	if o.Database {
		w.Postgres, err = w.Lab.StartPostgres(ctx, 0, true)
		require.NoError(t, err)
		w.DSN, err = w.Postgres.Create(ctx, "kambrel")
		require.NoError(t, err)
	}
	if o.Other {
		w.Cloud, err = w.Lab.StartOtherCloud(ctx, root+"/lab/othercloud", o.Cloud...)
	} else {
		w.Cloud, err = w.Lab.StartCloud(ctx, w.Programs.Lab, 0, []string{"brisling.example"}, o.Cloud...)
	}
	require.NoError(t, err)
	w.serve = o.Serve
	w.SCIMURL = w.Cloud.URL
	if o.Between != nil {
		w.SCIMURL = o.Between.start(t, w.Cloud.URL)
	}
	file := filepath.Join(w.Lab.Dir, "base.ldif")
	require.NoError(t, os.WriteFile(file, []byte("dn: "+Base+"\nobjectClass: organization\nobjectClass: dcObject\no: Brisling Cargo\ndc: brisling\n\n"+
		servers.ReaderLDIF(Base)+"dn: "+People+"\nobjectClass: organizationalUnit\n\ndn: "+Leavers+"\nobjectClass: organizationalUnit\n\n"+ldif), 0o600))
	options := servers.OpenLDAPOptions{BaseDN: Base, LDIF: file, Access: o.Access, NoSync: o.NoSync, Policy: o.Policy}
	if o.ShortLived {
		options.Certificate = servers.ExpiringCertificate
	}
	if o.Instead != nil {
		w.Directory, err = o.Instead(ctx, w.Lab, Base, file)
	} else {
		w.Directory, err = w.Lab.StartOpenLDAP(ctx, "openldap", options)
	}
	require.NoError(t, err)
	w.LDAP, err = w.Directory.Dial()
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.LDAP.Close() })
	w.Port, err = servers.FreePort(0)
	require.NoError(t, err)
	w.URL = fmt.Sprintf("http://127.0.0.1:%d", w.Port)
	w.StartService()
	w.SignIn()
	w.AgentFile = filepath.Join(w.Lab.Dir, "agent.yaml")
	if !o.Bare {
		w.enrol()
		w.StartAgent()
	}
	t.Cleanup(func() {
		for _, name := range []string{"service", "standby", "agent"} {
			text, _ := os.ReadFile(filepath.Join(w.Lab.Dir, name+".log"))
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

func (w *World) StartService() {
	w.T.Helper()
	file := filepath.Join(w.Lab.Dir, "administrator.password")
	require.NoError(w.T, os.WriteFile(file, []byte(Password), 0o600))
	if w.TokenFile == "" {
		w.TokenFile = filepath.Join(w.Lab.Dir, "service.token")
		require.NoError(w.T, os.WriteFile(w.TokenFile, []byte(w.Cloud.Token), 0o600))
	}
	w.Service = w.another("service", w.Port, w.DSN, append([]string{"--administrator-password-file", file, "--agent-patience", "4s", "--order-lease", "3s"}, w.serve...)...)
}

// SignIn signs the administrator in.
func (w *World) SignIn() {
	w.T.Helper()
	session, _, err := client.Login(w.T.Context(), w.URL, wire.Credentials{Name: "administrator", Password: Password})
	require.NoError(w.T, err)
	w.Client = session
}

// Serve starts the service again with these further arguments.
func (w *World) Serve(arguments ...string) {
	w.T.Helper()
	w.serve = arguments
	w.StartService()
}

// Standby starts another service on the same database, at the same address each time, and
// returns its URL.
func (w *World) Standby(arguments ...string) string {
	w.T.Helper()
	var err error
	if w.secondPort == 0 {
		w.secondPort, err = servers.FreePort(0)
		require.NoError(w.T, err)
	}
	w.Second = w.another("standby", w.secondPort, w.DSN, arguments...)
	return w.SecondURL()
}

func (w *World) another(name string, port int, dsn string, arguments ...string) *servers.Process {
	w.T.Helper()
	address := fmt.Sprintf("127.0.0.1:%d", port)
	ready := servers.Answers("http://" + address + "/healthz")
	if slices.ContainsFunc(arguments, func(one string) bool { return strings.HasPrefix(one, "--tls-") }) {
		ready = servers.AnswersByTLS(address)
	} else {
		arguments = append(arguments, "--plain")
	}
	started, err := w.Lab.Start(context.Background(), servers.Command{
		Name: name, Path: w.Programs.Kambrel, Env: []string{"KAMBREL_DATABASE=" + dsn},
		Args:  append([]string{"serve", "--listen", address, "--cloud-url", w.SCIMURL, "--cloud-token-file", w.TokenFile}, arguments...),
		Ready: ready,
	})
	require.NoError(w.T, err)
	return started
}

// Reaches starts the service again with the URL of a cloud and the file of a token.
func (w *World) Reaches(url, tokenFile string) {
	w.T.Helper()
	require.NoError(w.T, w.Service.Stop())
	w.SCIMURL, w.TokenFile = url, tokenFile
	w.StartService()
}

// Secured starts another service that is reached by TLS, at the same address each time, and
// returns its URL.
func (w *World) Secured(arguments ...string) string {
	w.T.Helper()
	return strings.Replace(w.Standby(arguments...), "http:", "https:", 1)
}

// Shadow starts a shadow of the service on a copy of its records, and returns its URL.
func (w *World) Shadow() string {
	w.T.Helper()
	dsn, err := w.Postgres.Create(w.T.Context(), fmt.Sprintf("shadow_%d", w.Port))
	require.NoError(w.T, err)
	command := exec.Command("psql", "-q", "-v", "ON_ERROR_STOP=1", dsn)
	command.Stdin = strings.NewReader(w.Dump())
	out, err := command.CombinedOutput()
	require.NoError(w.T, err, string(out))
	port, err := servers.FreePort(0)
	require.NoError(w.T, err)
	w.another("shadow", port, dsn, "--shadow")
	return fmt.Sprintf("http://127.0.0.1:%d", port)
}

// SecondURL is where the service is that Standby has started.
func (w *World) SecondURL() string { return fmt.Sprintf("http://127.0.0.1:%d", w.secondPort) }

func (w *World) enrol() {
	w.T.Helper()
	w.enrolAs("brisling-1", w.AgentFile, "brisling", "skerry")
}

// EnrolAnew gives the agent another identity, as a service asks for that knows of none.
func (w *World) EnrolAnew() {
	w.T.Helper()
	require.NoError(w.T, w.Agent.Stop())
	require.NoError(w.T, os.Remove(w.AgentFile))
	w.enrol()
	w.StartAgent()
}

// enrolAs enrols an agent that reaches the directory as brisling.
func (w *World) enrolAs(name, file string, directories ...string) {
	w.T.Helper()
	code, err := w.Client.IssueCode(w.T.Context(), directories...)
	require.NoError(w.T, err)
	out, err := exec.Command(Plainly.Kambrel, "agent", "enrol", "--service", w.URL, "--code", code.Code, "--name", name, "--config", file).CombinedOutput()
	require.NoError(w.T, err, string(out))
	text, err := os.ReadFile(file)
	require.NoError(w.T, err)
	text = append(bytes.ReplaceAll(text, []byte("directories: []\n"), nil), fmt.Appendf(nil, "directories:\n  - name: brisling\n    url: %s\n    ca: %s\n    bindDN: %s\n    password: %s\n",
		w.Directory.URL, w.Directory.CAFile, w.Directory.ReaderDN, w.Directory.ReaderPassword)...)
	require.NoError(w.T, os.WriteFile(file, text, 0o600))
}

// AgentKnows starts the agent again with the addresses of several services.
func (w *World) AgentKnows(services ...string) {
	w.T.Helper()
	require.NoError(w.T, w.Agent.Stop())
	text, err := os.ReadFile(w.AgentFile)
	require.NoError(w.T, err)
	text = regexp.MustCompile(`(?m)^service: .*$`).ReplaceAll(text, []byte("service: "+strings.Join(services, ",")))
	require.NoError(w.T, os.WriteFile(w.AgentFile, text, 0o600))
	w.StartAgent()
}

func (w *World) StartAgent() {
	w.T.Helper()
	w.Agent = w.RunAgent("agent", w.AgentFile)
}

// RunAgent starts an agent that is enrolled.
func (w *World) RunAgent(name, file string) *servers.Process {
	w.T.Helper()
	started, err := w.Lab.Start(context.Background(), servers.Command{Name: name, Path: w.Programs.Kambrel, Args: []string{"agent", "run", "--config", file}})
	require.NoError(w.T, err)
	return started
}

// SecondAgent is brisling-2, which serves the same directory.
type SecondAgent struct {
	*servers.Process
	File string
	w    *World
}

// SecondAgent enrols another agent; it is not started yet.
func (w *World) SecondAgent() *SecondAgent {
	w.T.Helper()
	second := &SecondAgent{File: filepath.Join(w.Lab.Dir, "second.yaml"), w: w}
	w.enrolAs("brisling-2", second.File, "brisling")
	return second
}

// Start starts it.
func (a *SecondAgent) Start() { a.Process = a.w.RunAgent("agent-2", a.File) }

// Configure changes its configuration.
func (a *SecondAgent) Configure(before, after string) {
	a.w.T.Helper()
	text, err := os.ReadFile(a.File)
	require.NoError(a.w.T, err)
	require.Contains(a.w.T, string(text), before)
	require.NoError(a.w.T, os.WriteFile(a.File, []byte(strings.ReplaceAll(string(text), before, after)), 0o600))
}

// Document is settings that include the people and exclude the leavers.
func Document() settings.Document {
	d := settings.Default(settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: Base, Containers: settings.Containers{Include: []string{People}, Exclude: []string{Leavers}}})
	d.Schedule.Every = "off"
	return d
}

func (w *World) Activate(d settings.Document) {
	w.T.Helper()
	text, err := d.YAML()
	require.NoError(w.T, err)
	_, err = w.Client.Activate(w.T.Context(), wire.ActivateSettings{YAML: string(text)})
	require.NoError(w.T, err)
}

// RestartDirectory starts OpenLDAP again on its port.
func (w *World) RestartDirectory() {
	w.T.Helper()
	w.restartDirectory("")
}

// Hide takes the right to read attributes from the agent's account, and gives it those
// back that are not named any more.
func (w *World) Hide(attributes ...string) {
	w.T.Helper()
	require.NoError(w.T, w.Directory.Process.Stop())
	access := ""
	if len(attributes) > 0 {
		access = fmt.Sprintf(`access to attrs=%s by dn.exact="%s" none by * read`, strings.Join(attributes, ","), w.Directory.ReaderDN)
	}
	w.restartDirectory(access)
}

// HideEntries hides entries whose first name fits a regular expression.
func (w *World) HideEntries(pattern string) {
	w.T.Helper()
	require.NoError(w.T, w.Directory.Process.Stop())
	w.restartDirectory(fmt.Sprintf(`access to dn.regex="^%s,.*$" by dn.exact="%s" none by * read`, pattern, w.Directory.ReaderDN))
}

// SlipIn adds an entry past everything that tracks changes, as of some minutes ago.
func (w *World) SlipIn(ldif string, at time.Time) {
	w.T.Helper()
	require.NoError(w.T, w.Directory.Process.Stop())
	stamp := at.UTC().Format("20060102150405")
	file := filepath.Join(w.T.TempDir(), "slipped.ldif")
	require.NoError(w.T, os.WriteFile(file, fmt.Appendf(nil, "%s\nentryCSN: 20200101000000.000000Z#000000#000#000000\nmodifyTimestamp: %sZ\n\n", strings.TrimSpace(ldif), stamp), 0o600))
	out, err := exec.Command("/usr/sbin/slapadd", "-f", filepath.Join(w.Lab.Dir, "openldap", "slapd.conf"), "-l", file).CombinedOutput()
	require.NoError(w.T, err, string(out))
	w.RestartDirectory()
}

func (w *World) restartDirectory(access string) {
	w.T.Helper()
	_ = w.LDAP.Close()
	address, err := url.Parse(w.Directory.URL)
	require.NoError(w.T, err)
	var port int
	_, err = fmt.Sscan(address.Port(), &port)
	require.NoError(w.T, err)
	again, err := w.Lab.StartOpenLDAP(w.T.Context(), "openldap", servers.OpenLDAPOptions{BaseDN: Base, Port: port, Access: access, NoSync: w.noSync})
	require.NoError(w.T, err)
	require.Equal(w.T, w.Directory.URL, again.URL)
	w.Directory = again
	w.LDAP, err = again.Dial()
	require.NoError(w.T, err)
}

// RestartCloud starts the cloud again on its port; with another token it does
// not know the service any more.
func (w *World) RestartCloud(token string) {
	w.T.Helper()
	if token != "" {
		require.NoError(w.T, w.Cloud.Stop())
		require.NoError(w.T, os.WriteFile(w.Cloud.TokenFile, []byte(token), 0o600))
	}
	address, err := url.Parse(w.Cloud.URL)
	require.NoError(w.T, err)
	var port int
	_, err = fmt.Sscan(address.Port(), &port)
	require.NoError(w.T, err)
	again, err := w.Lab.StartCloud(w.T.Context(), w.Programs.Lab, port, []string{"brisling.example"})
	require.NoError(w.T, err)
	require.Equal(w.T, w.Cloud.URL, again.URL)
	w.Cloud = again
}
