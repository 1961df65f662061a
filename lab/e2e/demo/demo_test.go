package demo_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/demo"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// running is the demo as a process, with what it wrote about itself.
type running struct {
	t         *testing.T
	dir, work string
	process   *exec.Cmd
	output    *bytes.Buffer
	open      int // problems of the scenario that nobody has solved yet
	endpoints demo.Endpoints
	client    *client.Client
	ldap      *ldap.Conn
}

func startDemo(t *testing.T) *running {
	t.Helper()
	work, err := os.MkdirTemp(worldtest.Checkout(), "demo-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(work, 0o755))
	d := &running{t: t, work: work, dir: filepath.Join(work, "state")}
	t.Cleanup(func() {
		d.stop()
		_ = servers.Remove(d.dir)
		_ = os.RemoveAll(work)
	})
	d.start()
	return d
}

func (d *running) start() {
	d.t.Helper()
	port, err := servers.FreePort(0)
	require.NoError(d.t, err)
	_ = os.Remove(filepath.Join(d.dir, "endpoints.json"))
	d.output = &bytes.Buffer{}
	d.process = exec.Command(worldtest.Plainly.Lab, "demo", "--dir", d.dir, "--ports-from", strconv.Itoa(min(port, 60000)), "--by-hand")
	d.process.Dir, d.process.Stdout, d.process.Stderr = d.work, d.output, d.output
	require.NoError(d.t, d.process.Start())
	deadline := time.Now().Add(5 * time.Minute)
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		text, err := os.ReadFile(filepath.Join(d.dir, "endpoints.json"))
		if err == nil && json.Unmarshal(text, &d.endpoints) == nil {
			break
		}
		require.True(d.t, time.Now().Before(deadline), "the demo does not get ready:\n%s", d.output)
		<-tick.C
	}
	d.client = client.New(strings.TrimSuffix(d.endpoints.Console, "/"), d.endpoints.Token)
	directory := d.endpoints.Directories[0]
	server := &servers.LDAPServer{URL: directory.URL, CAFile: directory.CA, AdminDN: directory.BindDN, AdminPassword: directory.Password}
	d.ldap, err = server.Dial()
	require.NoError(d.t, err)
}

// stop ends the demo as Ctrl-C does.
func (d *running) stop() {
	if d.process == nil {
		return
	}
	_ = d.ldap.Close()
	_ = d.process.Process.Signal(syscall.SIGINT)
	if err := d.process.Wait(); err != nil {
		d.t.Errorf("the demo ends with %v:\n%s", err, d.output)
	}
	d.process = nil
}

func (d *running) cloud() worldtest.CloudAddress {
	return worldtest.CloudAddress{URL: d.endpoints.Cloud.URL, Token: d.endpoints.Cloud.Token}
}

// sync runs 'kambrel sync' in the demo's checkout and asks for so many changes,
// and for no other problems than those that the scenario has still open.
func (d *running) sync(changes int) {
	d.t.Helper()
	command := exec.Command(worldtest.Plainly.Kambrel, "sync", "-o", "json")
	command.Dir = d.work
	out, err := command.Output()
	var ended *exec.ExitError
	if !errors.As(err, &ended) || d.open == 0 {
		require.NoError(d.t, err, string(out))
	}
	var run wire.Run
	require.NoError(d.t, json.Unmarshal(out, &run))
	require.Equal(d.t, changes, run.Counts.Changes, "%+v", run.Counts)
	require.Equal(d.t, changes, run.Counts.Done)
	require.Equal(d.t, d.open, run.Counts.Problems, "%+v", run)
}

func (d *running) base() string { return d.endpoints.Directories[0].BaseDN }

func (d *running) modify(dn string, values map[string]string) {
	d.t.Helper()
	request := ldap.NewModifyRequest(dn, nil)
	for attribute, value := range values {
		request.Replace(attribute, []string{value})
	}
	require.NoError(d.t, d.ldap.Modify(request))
}

// count counts the enabled people below the included containers, as ldapsearch
// does.
func (d *running) count() int {
	d.t.Helper()
	n := 0
	for _, container := range []string{"Fleet", "Terminals", "Shore Office"} {
		result, err := d.ldap.Search(&ldap.SearchRequest{BaseDN: "OU=" + container + "," + d.base(), Scope: ldap.ScopeWholeSubtree,
			Filter: "(&(objectClass=user)(!(userAccountControl:1.2.840.113556.1.4.803:=2)))", Attributes: []string{"cn"}})
		require.NoError(d.t, err)
		n += len(result.Entries)
	}
	return n
}

// TestTheDemoTellsTheStory drives the demo from outside, with LDAP and SCIM
// alone, through everything that can happen to a person.
func TestTheDemoTellsTheStory(t *testing.T) {
	t.Parallel()
	d := startDemo(t)
	if d.endpoints.Directories[0].Dialect != string(entry.AD) {
		t.Skip("no domain controller can be started here")
	}
	deck := "OU=Deck,OU=Fleet," + d.base()
	inStep := func() {
		t.Helper()
		assert.Len(t, worldtest.Users(t, d.cloud(), "active eq true and externalId pr"), d.count()+len(demo.Brisling())-1, "Otto Reksten has an entry in both")
	}
	assert.Len(t, worldtest.Users(t, d.cloud(), "active eq true and externalId pr"), d.count()+len(demo.Brisling())-15, "twelve have logins that the cloud would refuse, two wait for a decision, and Otto Reksten has an entry in both")
	d.open = 15
	d.firstDay()
	d.secondDay()
	inStep()
	jon := worldtest.User(t, d.cloud(), "jon.sletta@halvard.example")
	assert.Equal(t, "Jonny", jon["nickName"], "made in the cloud a year ago, adopted")
	assert.Equal(t, "Jon Sletta", jon["displayName"])
	d.sync(0)
	d.sameFilters()

	ada := worldtest.User(t, d.cloud(), "ada.brekke@halvard.example")["id"]
	d.modify("CN=Ada Brekke,"+deck, map[string]string{"title": "Master Mariner"})
	d.sync(1)
	assert.Equal(t, "Master Mariner", worldtest.User(t, d.cloud(), "ada.brekke@halvard.example")["title"])

	d.passwords()
	d.cloudGroups()
	d.tickets()

	require.NoError(t, d.ldap.ModifyDN(ldap.NewModifyDNRequest("CN=Ada Brekke,"+deck, "CN=Ada Lind", true, "")))
	d.modify("CN=Ada Lind,"+deck, map[string]string{"sn": "Lind", "displayName": "Ada Lind", "mail": "ada.lind@halvard.example", "userPrincipalName": "ada.lind@halvard.example"})
	d.sync(1)
	assert.Equal(t, ada, worldtest.User(t, d.cloud(), "ada.lind@halvard.example")["id"], "she keeps her resource")
	assert.Nil(t, worldtest.User(t, d.cloud(), "ada.brekke@halvard.example"))

	nils := "CN=Nils Fjord," + deck
	add := ldap.NewAddRequest(nils, nil)
	for name, value := range map[string]string{"objectClass": "user", "sAMAccountName": "nils.fjord", "userPrincipalName": "nils.fjord@halvard.example", "mail": "nils.fjord@halvard.example", "userAccountControl": "544"} {
		add.Attribute(name, []string{value})
	}
	require.NoError(t, d.ldap.Add(add))
	d.sync(1)
	assert.Equal(t, "Nils Fjord", worldtest.User(t, d.cloud(), "nils.fjord@halvard.example")["displayName"])
	inStep()

	move := func(name, from, to string) {
		t.Helper()
		require.NoError(t, d.ldap.ModifyDN(ldap.NewModifyDNRequest("CN="+name+","+from+d.base(), "CN="+name, true, to+d.base())))
	}
	move("Runar Askeland", "OU=Deck,OU=Fleet,", "OU=Leavers,")
	d.sync(3) // he, and two groups that held him
	assert.Equal(t, false, worldtest.User(t, d.cloud(), "runar.askeland@halvard.example")["active"])
	move("Runar Askeland", "OU=Leavers,", "OU=Deck,OU=Fleet,")
	d.sync(3)
	assert.Equal(t, true, worldtest.User(t, d.cloud(), "runar.askeland@halvard.example")["active"])

	// Otto Reksten has an entry in both directories and one account; when one
	// entry leaves, the other carries it on.
	otto := worldtest.User(t, d.cloud(), "otto.reksten@halvard.example")
	assert.Nil(t, worldtest.User(t, d.cloud(), "otto.reksten@brisling.example"))
	move("Otto Reksten", "OU=Northquay,OU=Terminals,", "OU=Leavers,")
	d.sync(5) // he leaves the committee that the cloud owns too
	carried := worldtest.User(t, d.cloud(), "otto.reksten@brisling.example")
	assert.Equal(t, otto["id"], carried["id"])
	assert.Equal(t, true, carried["active"])
	move("Otto Reksten", "OU=Leavers,", "OU=Northquay,OU=Terminals,")
	d.sync(5) // he leaves the committee that the cloud owns too
	assert.Equal(t, otto["id"], worldtest.User(t, d.cloud(), "otto.reksten@halvard.example")["id"])

	require.NoError(t, d.ldap.Del(ldap.NewDelRequest(nils, nil)))
	d.sync(1)
	assert.Equal(t, false, worldtest.User(t, d.cloud(), "nils.fjord@halvard.example")["active"], "suspended, not deleted")

	d.modify("CN=Pia Holmen,OU=Finance,OU=Shore Office,"+d.base(), map[string]string{"userAccountControl": "514"})
	d.sync(1)
	assert.Equal(t, false, worldtest.User(t, d.cloud(), "pia.holmen@halvard.example")["active"])

	require.NoError(t, d.ldap.ModifyDN(ldap.NewModifyDNRequest("OU=Galley,OU=Fleet,"+d.base(), "OU=Pantry", true, "")))
	d.sync(0)
	found, err := d.client.Find(t.Context(), map[string][]string{"text": {"OU=Pantry,OU=Fleet"}, "limit": {"500"}})
	require.NoError(t, err)
	assert.Equal(t, 25, found.Total, "names below a renamed container stay true")
	inStep()

	why, err := d.client.Why(t.Context(), "svc-backup")
	require.NoError(t, err)
	assert.False(t, why.In)
	assert.Equal(t, "out: the container OU=Service Accounts,"+d.base()+" is excluded", why.Summary)

	// The doctor has everything tried, with the rights as they were handed to the owners.
	command := exec.Command(worldtest.Plainly.Kambrel, "doctor")
	command.Dir = d.work
	out, err := command.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Regexp(t, `ok +directory \(halvard\)`, string(out))

	// Everything survives a restart, and a crash of the demo itself.
	d.stop()
	d.start()
	d.sync(0)
	inStep()
	require.NoError(t, d.process.Process.Kill())
	_ = d.process.Wait()
	d.start()
	d.sync(0)
	assert.Equal(t, ada, worldtest.User(t, d.cloud(), "ada.lind@halvard.example")["id"])
}

func TestTheDemoOnceEndsWithASummary(t *testing.T) {
	t.Parallel()
	work, err := os.MkdirTemp(worldtest.Checkout(), "demo-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(work, 0o755))
	dir := filepath.Join(work, "state")
	t.Cleanup(func() { _ = servers.Remove(dir); _ = os.RemoveAll(work) })
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	command := exec.CommandContext(ctx, worldtest.Plainly.Lab, "demo", "--dir", dir, "--once", "--ports-from", "17600")
	command.Dir = work
	out, err := command.Output()
	require.NoError(t, err, string(out))
	var summary demo.Summary
	require.NoError(t, json.Unmarshal(out, &summary), string(out))
	assert.Equal(t, "with problems", summary.State)
	assert.Equal(t, 15, summary.Run.Counts.Problems, "twelve late logins, a near miss, a protected login, a contact without an address")
	assert.Equal(t, 1, summary.Run.Counts.Adopt)
	assert.Greater(t, summary.Run.Counts.Create, 200)

	// A folder of somebody else is not touched.
	foreign := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(foreign, "thesis.txt"), []byte("x"), 0o600))
	refused, err := exec.CommandContext(ctx, worldtest.Plainly.Lab, "demo", "--dir", foreign, "--fresh").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(refused), "not the demo's")
	assert.FileExists(t, filepath.Join(foreign, "thesis.txt"))
}
