package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/rights"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// Options say how the demo runs.
type Options struct {
	Dir       string // state
	Fresh     bool   // start over
	Once      bool   // end after the first run
	ByHand    bool   // nobody watches the directories
	PortsFrom int
	// Program is kambrel, Lab is kambrel-lab.
	Program, Lab string
	// Profile is where the command line's profile is written.
	Profile func(service, token string) error
	// Out receives the summary, Progress the steps.
	Out, Progress io.Writer
}

// Endpoints is what DIR/endpoints.json holds.
type Endpoints struct {
	Console  string        `json:"console"`
	API      string        `json:"api"`
	Token    string        `json:"token"`
	Operator Operator      `json:"operator"`
	Cloud    CloudEndpoint `json:"cloud"`
	Postgres string        `json:"postgres"`
	Mail     string        `json:"mail"` // where the mail that came is shown
	// Provider is where the metadata of Brisling's sign-in service is, Services where the cloud is
	// made known to it.
	Provider    string              `json:"provider"`
	Services    string              `json:"services"`
	Directories []DirectoryEndpoint `json:"directories"`
	// Kerberos is the file by which tickets of Halvard's people are got (KRB5_CONFIG), and SignInHost
	// the name of the host that takes them.
	Kerberos   string `json:"kerberos,omitempty"`
	SignInHost string `json:"signInHost,omitempty"`
}

// Operator can sign in.
type Operator struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// CloudEndpoint is the cloud stand-in.
type CloudEndpoint struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	// People is where people look after their passwords.
	People string `json:"people"`
}

// DirectoryEndpoint is a directory, with an account that may change it.
type DirectoryEndpoint struct {
	Name     string `json:"name"`
	Dialect  string `json:"dialect"`
	URL      string `json:"url"`
	CA       string `json:"ca"`
	BindDN   string `json:"bindDN"`
	Password string `json:"password"`
	BaseDN   string `json:"baseDN"`
}

// Summary is what --once prints.
type Summary struct {
	State     string   `json:"state"`
	Directory string   `json:"directory"`
	Dialect   string   `json:"dialect"`
	People    int      `json:"people"`
	Run       wire.Run `json:"run"`
}

// marker is a file by which --fresh knows a folder that the demo made.
const marker = ".kambrel-demo"

// The directories' names in settings and agents' configurations.
const (
	halvardName  = "halvard"
	brislingName = "brisling"
)

// SignInHost is the name by which browsers of Halvard's domain know the service.
const SignInHost = "sign-in.corp.halvard.example"

const brislingBase = "dc=brisling,dc=example"

// running is a demo on its way up.
type running struct {
	Options
	lab       *servers.Lab
	postgres  *servers.Postgres
	cloud     *servers.Cloud
	mail      *servers.Mail
	directory *servers.LDAPServer // Halvard's
	dialect   entry.Dialect
	kerberos  *servers.Kerberos // of Halvard's, nil without a domain controller
	brisling  *servers.LDAPServer
	provider  *servers.IdentityProvider // Brisling's
	service   string
	client    *client.Client
	endpoints Endpoints
	activated bool  // the settings, just now
	before    int64 // the last run before that
	run       wire.Run
}

// Run starts everything, does the first run, and stays until ctx ends.
func Run(ctx context.Context, options Options) (err error) {
	d := &running{Options: options}
	if err := d.prepareFolder(); err != nil {
		return err
	}
	if d.lab, err = servers.New(d.Dir); err != nil {
		return err
	}
	d.lab.Log = d.say
	defer func() {
		d.say("stopping")
		err = errors.Join(err, d.lab.Stop())
	}()
	for _, step := range []func(context.Context) error{d.startServers, d.load, d.startService, d.startAgents, d.activate, d.firstRun, d.makeCloudGroups, d.writeEndpoints} {
		if err := step(ctx); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
	}
	if d.Once {
		return d.summarize()
	}
	d.tell()
	select {
	case <-ctx.Done():
		return nil
	case <-d.postgres.Ended():
		return errors.New("PostgreSQL has ended")
	case <-d.directory.Ended():
		return errors.New("the directory of Halvard has ended")
	case <-d.brisling.Ended():
		return errors.New("the directory of Brisling has ended")
	}
}

func (d *running) say(format string, facts ...any) {
	fmt.Fprintf(d.Progress, "demo: "+format+"\n", facts...)
}

func (d *running) prepareFolder() error {
	var err error
	if d.Dir, err = filepath.Abs(d.Dir); err != nil {
		return err
	}
	entries, err := os.ReadDir(d.Dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	_, markErr := os.Stat(filepath.Join(d.Dir, marker))
	if len(entries) > 0 && markErr != nil {
		return fmt.Errorf("%s holds files that are not the demo's: give another --dir", d.Dir)
	}
	if d.Fresh && markErr == nil {
		d.say("starting over in %s", d.Dir)
		if err := servers.Remove(d.Dir); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(d.Dir, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(d.Dir, marker), []byte("This folder belongs to 'kambrel-lab demo'.\n"), 0o644)
}

func (d *running) startServers(ctx context.Context) error {
	var err error
	d.say("starting PostgreSQL")
	if d.postgres, err = d.lab.StartPostgres(ctx, d.PortsFrom+2, false); err != nil {
		return err
	}
	d.say("starting the cloud stand-in")
	if d.cloud, err = d.lab.StartCloud(ctx, d.Lab, d.PortsFrom+1, Domains, "--claimed-domains", Claimed); err != nil {
		return err
	}
	d.say("starting the domain controller")
	d.dialect = entry.AD
	d.directory, err = d.lab.StartDomainController(ctx)
	if errors.Is(err, servers.ErrNoDomainController) {
		d.say("%v; going on with OpenLDAP alone", err)
		d.dialect = entry.Standard
		d.directory, err = d.startOpenLDAP(ctx, "openldap", "dc=corp,dc=halvard,dc=example", "Halvard Ferries", 4)
	}
	if err != nil {
		return err
	}
	if d.dialect == entry.AD {
		if d.kerberos, err = d.lab.Kerberos(ctx, d.directory, SignInHost); err != nil {
			return err
		}
	}
	d.say("starting a mail server that keeps what it gets")
	if d.mail, err = d.lab.StartMail(ctx, d.Lab, d.PortsFrom+5); err != nil {
		return err
	}
	d.say("starting OpenLDAP for Brisling Cargo")
	if d.brisling, err = d.startOpenLDAP(ctx, "brisling", brislingBase, "Brisling Cargo", 3); err != nil {
		return err
	}
	d.say("starting Brisling Cargo's own sign-in service")
	d.provider, err = d.lab.StartIdentityProvider(ctx, "brisling-sign-in", d.PortsFrom+7, d.brisling)
	return err
}

// startOpenLDAP starts a directory with the rights that repairs need.
func (d *running) startOpenLDAP(ctx context.Context, name, base, organization string, port int) (*servers.LDAPServer, error) {
	ldif := filepath.Join(d.Dir, name+".ldif")
	_, rdn, _ := strings.Cut(base, "=")
	rdn, _, _ = strings.Cut(rdn, ",")
	text := "dn: " + base + "\nobjectClass: organization\nobjectClass: dcObject\no: " + organization + "\ndc: " + rdn + "\n\n" + servers.ReaderLDIF(base)
	if err := os.WriteFile(ldif, []byte(text), 0o600); err != nil {
		return nil, err
	}
	return d.lab.StartOpenLDAP(ctx, name, servers.OpenLDAPOptions{BaseDN: base, Port: d.PortsFrom + port, LDIF: ldif, Access: d.access(base)})
}

// access are the access rules that the settings' features need, as 'kambrel
// directory rights' prints them.
func (d *running) access(base string) string {
	directory := BrislingDirectory()
	if base != brislingBase {
		directory = HalvardDirectory(entry.Standard, base)
	}
	var lines []string
	for _, right := range rights.List(directory, "uid=svc-kambrel,ou=Service Accounts,"+base, rights.AccessLines) {
		if right.Feature != "reading" {
			lines = append(lines, right.Grant)
		}
	}
	return strings.Join(lines, "\n")
}

func (d *running) load(ctx context.Context) error {
	loaded := filepath.Join(d.Dir, "loaded")
	if _, err := os.Stat(loaded); err == nil {
		return nil
	}
	for _, one := range []struct {
		name    string
		server  *servers.LDAPServer
		dialect entry.Dialect
		content content
	}{
		{"Halvard", d.directory, d.dialect, content{Containers, Halvard(), HalvardGroups(), Contacts()}},
		{"Brisling", d.brisling, entry.Standard, content{BrislingContainers, Brisling(), BrislingGroups(), nil}},
	} {
		d.say("loading %d people and %d groups into the directory of %s", len(one.content.people), len(one.content.groups), one.name)
		said := time.Now()
		if err := loadDirectory(ctx, one.server, one.dialect, one.content, func(done int) {
			if time.Since(said) > 2*time.Second {
				said = time.Now()
				d.say("  %d", done)
			}
		}); err != nil {
			return err
		}
	}
	if d.dialect == entry.AD {
		d.say("granting the agent's account the rights that repairs and passwords need")
		grants := map[string][]string{}
		for _, right := range rights.List(HalvardDirectory(d.dialect, d.directory.BaseDN), "", rights.AccessLines) {
			if right.Feature != "reading" {
				grants[right.Container] = append(grants[right.Container], right.Grant)
			}
		}
		for container, entries := range grants {
			if err := d.directory.Grant(ctx, container, entries...); err != nil {
				return err
			}
		}
	}
	if d.dialect == entry.AD {
		// Else nobody could change a password on the day on which it was made.
		if err := letChangeAtOnce(d.directory); err != nil {
			return err
		}
	}
	if err := loadCloud(ctx, d.cloud); err != nil {
		return err
	}
	return os.WriteFile(loaded, nil, 0o644)
}

func (d *running) startService(ctx context.Context) error {
	d.say("starting the service")
	dsn, err := d.postgres.Create(ctx, "kambrel")
	if err != nil {
		return err
	}
	passwordFile := filepath.Join(d.Dir, "administrator.password")
	secret, err := servers.Secret(passwordFile)
	if err != nil {
		return err
	}
	port, err := servers.FreePort(d.PortsFrom)
	if err != nil {
		return err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	d.service = "http://" + address
	keytab := ""
	if d.kerberos != nil {
		keytab = d.kerberos.Keytab
	}
	if _, err := d.lab.Start(ctx, servers.Command{
		Name: "service", Path: d.Program, Env: []string{"KAMBREL_DATABASE=" + dsn},
		Args: []string{"serve", "--kerberos-keytab", keytab, "--plain", "--listen", address, "--cloud-url", d.cloud.URL, "--cloud-token-file", d.cloud.TokenFile, "--administrator-password-file", passwordFile,
			"--mail-server", d.mail.URL, "--mail-ca", d.mail.CAFile, "--mail-from", "Kambrel <kambrel@halvard.example>", "--audit-file", filepath.Join(d.Dir, "acts.jsonl")},
		Ready: servers.Answers(d.service + "/healthz"),
	}); err != nil {
		return err
	}
	d.endpoints = Endpoints{
		Console: d.service + "/", API: d.service + "/api/v1", Operator: Operator{"administrator", secret}, Postgres: dsn, Mail: d.mail.Page, Provider: d.provider.Metadata, Services: d.provider.Services, Cloud: CloudEndpoint{d.cloud.URL, d.cloud.Token, d.cloud.Base + "/me"},
		Directories: []DirectoryEndpoint{endpointOf(halvardName, d.dialect, d.directory), endpointOf(brislingName, entry.Standard, d.brisling)},
	}
	if d.kerberos != nil {
		d.endpoints.Kerberos, d.endpoints.SignInHost = d.kerberos.Config, SignInHost
	}
	return d.signIn(ctx, secret)
}

func endpointOf(name string, dialect entry.Dialect, s *servers.LDAPServer) DirectoryEndpoint {
	return DirectoryEndpoint{Name: name, Dialect: string(dialect), URL: s.URL, CA: s.CAFile, BindDN: s.AdminDN, Password: s.AdminPassword, BaseDN: s.BaseDN}
}

// signIn makes the demo's token at the first start, and uses it at later ones.
func (d *running) signIn(ctx context.Context, secret string) error {
	file := filepath.Join(d.Dir, "token")
	if text, err := os.ReadFile(file); err == nil {
		d.client = client.New(d.service, string(text))
		if _, err := d.client.Session(ctx); err == nil {
			d.endpoints.Token = string(text)
			return nil
		}
	}
	session, _, err := client.Login(ctx, d.service, wire.Credentials{Name: "administrator", Password: secret})
	if err != nil {
		return err
	}
	token, err := session.NewToken(ctx, wire.NewToken{Name: "demo", Role: wire.Administrator, Purpose: "commands beside the demo"})
	if err != nil {
		return err
	}
	d.client, d.endpoints.Token = client.New(d.service, token.Secret), token.Secret
	return os.WriteFile(file, []byte(token.Secret), 0o600)
}

// startAgents starts an agent for each directory, since there is no trust
// between them.
func (d *running) startAgents(ctx context.Context) error {
	for _, one := range []struct {
		name   string
		server *servers.LDAPServer
	}{{halvardName, d.directory}, {brislingName, d.brisling}} {
		if err := d.startAgent(ctx, one.name, one.server); err != nil {
			return err
		}
	}
	return nil
}

func (d *running) startAgent(ctx context.Context, directory string, server *servers.LDAPServer) error {
	d.say("starting the agent for %s", directory)
	file := filepath.Join(d.Dir, "agent-"+directory+".yaml")
	config, err := agent.Load(file)
	if err != nil {
		code, err := d.client.IssueCode(ctx, directory)
		if err != nil {
			return err
		}
		name := directory + "-1"
		agents, err := d.client.Agents(ctx)
		if err != nil {
			return err
		}
		for _, known := range agents {
			if known.Name == name {
				name = directory + "-" + rand.Text()[:4] // the earlier one's file was lost
			}
		}
		if config, err = agent.Enrol(ctx, agent.Config{Service: d.service, Name: name}, code.Code); err != nil {
			return err
		}
	}
	config.Service = d.service
	if err := d.trust(ctx, &config, file, directory); err != nil {
		return err
	}
	config.SetDirectory(agent.Directory{Name: directory, URL: server.URL, CA: server.CAFile, BindDN: server.ReaderDN, Password: secret.Text(server.ReaderPassword), LocalSocket: server.LocalSocket})
	if err := config.Save(file); err != nil {
		return err
	}
	_, err = d.lab.Start(ctx, servers.Command{Name: "agent-" + directory, Path: d.Program, Args: []string{"agent", "run", "--config", file}})
	return err
}

// trust lets cloud and agent know each other's keys, as two administrators would: neither
// takes them from the service.
func (d *running) trust(ctx context.Context, config *agent.Config, file, directory string) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, d.cloud.KeySet(), nil)
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return fmt.Errorf("read the cloud's keys: %w", err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		return err
	}
	trusted, _, err := agent.Trust(d.cloud.Base, cloudAudience, text)
	if err != nil {
		return err
	}
	config.Cloud = &trusted
	identity, _, _, err := agent.Keys(*config, file, false)
	if err != nil {
		return err
	}
	return d.cloud.LetIn(directory, identity)
}

// cloudAudience is for whom the stand-in's events are.
const cloudAudience = "urn:kambrel:service"

// SelfService is who looks after a password in the cloud; the story of a password that is
// too short at first.
const SelfService = "siv.tollaksen@" + Domain

// letSignIn gives that person a password in the cloud.
func (d *running) letSignIn(ctx context.Context) error {
	text, err := json.Marshal(map[string]any{"login": SelfService, "new": Password, "own": true})
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, d.cloud.Control+"/passwords", bytes.NewReader(text))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+d.cloud.Token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return fmt.Errorf("give %s a password in the cloud: %w", SelfService, err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusNoContent {
		return fmt.Errorf("give %s a password in the cloud: it answers %s", SelfService, response.Status)
	}
	return nil
}

// HalvardDirectory is Halvard's directory in the settings.
func HalvardDirectory(dialect entry.Dialect, base string) settings.Directory {
	include, exclude := []string{}, []string{}
	for _, path := range []string{"Fleet", "Terminals", "Shore Office", "Partners", "Teams"} {
		include = append(include, containerDN(path, base))
	}
	for _, path := range []string{"Service Accounts", "Leavers"} {
		exclude = append(exclude, containerDN(path, base))
	}
	return settings.Directory{Name: halvardName, Dialect: dialect, Base: base, Containers: settings.Containers{Include: include, Exclude: exclude}, Features: entry.Features,
		CloudGroups: &settings.CloudGroups{Container: containerDN(cloudGroups, base)}}
}

// cloudGroups is the container of the groups that the cloud owns.
const cloudGroups = "Cloud Groups"

// BrislingDirectory is Brisling's directory in the settings.
func BrislingDirectory() settings.Directory {
	include := []string{}
	for _, path := range BrislingContainers {
		if path == cloudGroups {
			continue
		}
		include = append(include, containerDN(path, brislingBase))
	}
	return settings.Directory{Name: brislingName, Dialect: entry.Standard, Base: brislingBase, Containers: settings.Containers{Include: include}, Features: entry.Features,
		CloudGroups: &settings.CloudGroups{Container: containerDN(cloudGroups, brislingBase)}}
}

// Settings are the demo's settings.
func Settings(dialect entry.Dialect, base string) settings.Document {
	document := settings.Default(HalvardDirectory(dialect, base), BrislingDirectory())
	document.Users.Person = []settings.PersonRule{{Name: "same employee number", Formula: "first([entry.employeeID, entry.employeeNumber])"}}
	// Contacts that are hidden or whose name begins with the reserved prefix stay out.
	if dialect == entry.AD {
		document.Contacts.Filter = "(&(objectClass=contact)(!(|(showInAdvancedViewOnly=TRUE)(displayName=zz *))))"
	}
	// As a net alone: what visitors edit arrives by itself.
	document.Schedule.Every = "1h"
	document.Notices = settings.Notices{Recipients: []settings.Recipient{{To: "operations@halvard.example"}, {To: "ingrid.moe@halvard.example", Of: []settings.NoticeKind{settings.NoticeDigest}}}}
	return document
}

func (d *running) activate(ctx context.Context) error {
	if _, err := d.client.Settings(ctx); err == nil {
		return nil
	}
	d.say("activating the settings")
	before, err := d.client.Runs(ctx, url.Values{"limit": {"1"}})
	if err != nil {
		return err
	}
	if len(before.Items) > 0 {
		d.before = before.Items[0].ID
	}
	d.activated = true
	document := Settings(d.dialect, d.directory.BaseDN)
	if d.ByHand || d.Once {
		document.Schedule.Live = "off"
	}
	text, err := document.YAML()
	if err != nil {
		return err
	}
	_, err = d.client.Activate(ctx, wire.ActivateSettings{YAML: string(text), Note: "The demo's settings"})
	return err
}

func (d *running) firstRun(ctx context.Context) error {
	d.say("syncing")
	run, err := d.client.StartRun(ctx, wire.NewRun{Purpose: purpose.Sync})
	if err != nil {
		return err
	}
	if d.run, err = d.client.Wait(ctx, run.ID, nil); err != nil {
		return err
	}
	if d.run.State == progress.Failed {
		return fmt.Errorf("the first run failed: %s: %s", d.run.Failure.Title, d.run.Failure.Detail)
	}
	if !d.activated {
		return nil
	}
	if err := d.letSignIn(ctx); err != nil {
		return err
	}
	for _, name := range []string{halvardName, brislingName} { // so that the rights are known
		if _, err := d.client.ProbeDirectory(ctx, name, "", nil); err != nil {
			return err
		}
	}
	since, err := d.client.Runs(ctx, url.Values{"limit": {"20"}})
	d.run = firstSince(since.Items, d.before, d.run)
	return err
}

// firstSince is the first run after another one that was to write: the schedule may
// have begun one between the activation and the demo's own, which found nothing
// left to do then.
func firstSince(newestFirst []wire.Run, after int64, own wire.Run) wire.Run {
	for _, run := range slices.Backward(newestFirst) {
		if run.ID > after && run.Purpose.Writes() && run.ID < own.ID {
			return run
		}
	}
	return own
}

func (d *running) writeEndpoints(context.Context) error {
	text, err := json.MarshalIndent(d.endpoints, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.Dir, "endpoints.json"), append(text, '\n'), 0o600); err != nil {
		return err
	}
	return d.Profile(d.service, d.endpoints.Token)
}

func (d *running) summarize() error {
	state := "in step"
	if d.run.State != progress.InStep {
		state = "with problems"
	}
	text, err := json.MarshalIndent(Summary{State: state, Directory: halvardName, Dialect: string(d.dialect), People: d.run.Counts.EntriesRead, Run: d.run}, "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(d.Out, string(text))
	return err
}

func (d *running) tell() {
	c := d.run.Counts
	fmt.Fprintf(d.Out, `
Halvard Ferries and Brisling Cargo are synced: run %d looked at %d people, groups
and contacts and made %d changes (%d created, %d adopted, %d updated, %d suspended).
%d need a repair or a decision: see the problems, the survey and the forecast.

  Console    %s   name administrator, password %s
  Cloud      %s
  Its people %s/me   %s, password %s: set a short one first, then a good one
  Halvard    %s (%s)
  Brisling   %s (%s)
  Mail       %s
  Sign-in    %s, the metadata of Brisling's own sign-in service; it gets the cloud's at %s
  All        %s

Try:
  bin/kambrel health
  bin/kambrel runs show %d
  bin/kambrel problems
  bin/kambrel survey run
  bin/kambrel forecast
  bin/kambrel link mt@halvard.example mira.tangen@halvard.example
  bin/kambrel trial ada.brekke@halvard.example
  bin/kambrel scope tree halvard
  bin/kambrel why 'svc-backup'
  bin/kambrel find brekke
  bin/kambrel passwords state
  bin/kambrel passwords try %s
  bin/kambrel cloud-groups list
  bin/kambrel cloud-groups members 'Regatta Committee' --directory halvard --left-out
  bin/kambrel sync

Ctrl-C stops everything; the state stays in %s.
`, d.run.ID, c.Planned, c.Changes, c.Create, c.Adopt, c.Update, c.Suspend, c.Problems, d.endpoints.Console, d.endpoints.Operator.Password,
		d.cloud.URL, d.cloud.Base, SelfService, Password, d.directory.URL, d.directory.BaseDN, d.brisling.URL, d.brisling.BaseDN, d.mail.Page, d.provider.Metadata, d.provider.Services, filepath.Join(d.Dir, "endpoints.json"), d.run.ID, SelfService, d.Dir)
}
