package worldtest

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/servers"
)

// OldPassword is what people of WithPasswords have in the directory.
const OldPassword = "Otter-Bay-55"

const policy = "cn=passwords," + Base

// WithPasswords is a world that takes passwords from the cloud: Anna, Bo and Cato are in
// step, and their directory asks for eight characters.
func WithPasswords(t *testing.T, o Options) *World {
	t.Helper()
	ldif := "dn: " + policy + "\nobjectClass: organizationalRole\nobjectClass: pwdPolicy\npwdAttribute: userPassword\npwdMinLength: 8\npwdCheckQuality: 2\npwdInHistory: 2\npwdLockout: TRUE\npwdMaxFailure: 3\n\n"
	for _, name := range []string{"Anna", "Bo", "Cato"} {
		ldif += fmt.Sprintf("dn: cn=%s,%s\nobjectClass: inetOrgPerson\nuid: %s\nsn: %s\nmail: %s@brisling.example\nuserPassword: %s\n\n", name, People, strings.ToLower(name), name, strings.ToLower(name), OldPassword)
	}
	o.Bare, o.Policy = true, policy
	o.Access = fmt.Sprintf(`access to dn.subtree=%q attrs=userPassword,pwdReset,pwdAccountLockedTime by dn.exact="uid=svc-kambrel,ou=Service Accounts,%s" write by anonymous auth by * break`, People, Base)
	w := NewWith(t, ldif, o)
	w.enrol()
	w.Trust(w.AgentFile)
	w.StartAgent()
	w.Activate(PasswordDocument())
	w.InStep(3)
	return w
}

// PasswordDocument are settings by which passwords come from the cloud.
func PasswordDocument() settings.Document {
	d := Document()
	d.Directories[0].Features = append(slices.Clone(entry.PasswordFeatures), entry.FeatureDigests)
	d.AddOrigin()
	return d
}

var identity = regexp.MustCompile(`Identity +(\S+)`)

// Trust lets an agent and the cloud know each other's keys, as their administrators do.
func (w *World) Trust(file string) {
	w.T.Helper()
	out, errs, status := Kambrel(w.T, "agent", "trust", "--config", file, "--issuer", w.Cloud.Base, "--audience", "urn:kambrel:service", "--keys", w.Cloud.KeySet())
	require.Zero(w.T, status, out+errs)
	out, errs, status = Kambrel(w.T, "agent", "key", "--config", file)
	require.Zero(w.T, status, out+errs)
	require.NoError(w.T, w.Cloud.LetIn("brisling", identity.FindStringSubmatch(out)[1]))
}

// PasswordsOpen waits until the way is open, or as its state is otherwise.
func (w *World) PasswordsOpen(state string) {
	w.T.Helper()
	require.Eventually(w.T, func() bool {
		now, err := w.Client.PasswordsState(context.Background())
		return err == nil && now.State == state
	}, 20*time.Second, 20*time.Millisecond, "the way for passwords is not %s", state)
}

// Asked is what somebody asks the cloud about a password, as its administrator does.
type Asked struct {
	Login      string `json:"login"`
	Act        string `json:"act"`
	New        string `json:"new,omitempty"`
	Old        string `json:"old,omitempty"`
	MustChange bool   `json:"mustChange,omitempty"`
	Own        bool   `json:"own,omitempty"`
}

// Answered is what the cloud was told, and how long that took in milliseconds.
type Answered struct {
	Done     bool
	Code     string
	Sentence string
	Took     time.Duration
}

// Ask asks and waits for the answer.
func (w *World) Ask(asked Asked) Answered {
	w.T.Helper()
	if asked.Act == "" {
		asked.Act = "reset"
	}
	began := time.Now()
	status, out := SCIM(w.T, w.Address(), "POST", w.Cloud.Control+"/passwords", asked)
	if asked.Own {
		require.Equal(w.T, 204, status)
		return Answered{}
	}
	if status != 200 {
		return Answered{Code: fmt.Sprint(status), Sentence: fmt.Sprint(out["detail"]), Took: time.Since(began)}
	}
	answered := Answered{Done: out["done"] == true, Sentence: fmt.Sprint(out["sentence"]), Took: time.Since(began)}
	answered.Code, _ = out["code"].(string)
	return answered
}

// SignsIn is the status by which the cloud answers somebody who signs in there.
func (w *World) SignsIn(login, password string) int {
	w.T.Helper()
	status, _ := SCIM(w.T, w.Address(), "POST", w.Cloud.Base+"/me/session", map[string]string{"login": login + "@brisling.example", "password": password})
	return status
}

// Binds tells whether somebody signs in to the directory with a password.
func (w *World) Binds(name, password string) bool {
	w.T.Helper()
	text, err := os.ReadFile(w.Directory.CAFile)
	require.NoError(w.T, err)
	pool := x509.NewCertPool()
	require.True(w.T, pool.AppendCertsFromPEM(text))
	conn, err := ldap.DialURL(w.Directory.URL, ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}))
	require.NoError(w.T, err)
	defer conn.Close()
	return conn.Bind("cn="+name+","+People, password) == nil
}

// Gate stands between an agent and its directory, and can hold what goes through.
type Gate struct {
	URL  string
	hold chan struct{} // closed when nothing is held
	// Came is told of each connection that is held.
	Came chan struct{}
}

// NewGate stands before the world's directory; it holds everything until Open.
func (w *World) NewGate() *Gate {
	w.T.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(w.T, err)
	w.T.Cleanup(func() { _ = listener.Close() })
	g := &Gate{URL: "ldaps://" + listener.Addr().String(), hold: make(chan struct{}), Came: make(chan struct{}, 100)}
	target := strings.TrimPrefix(w.Directory.URL, "ldaps://")
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			go g.pass(near, target)
		}
	}()
	return g
}

func (g *Gate) pass(near net.Conn, target string) {
	defer near.Close()
	g.Came <- struct{}{}
	<-g.hold
	far, err := net.Dial("tcp", target)
	if err != nil {
		return
	}
	defer far.Close()
	go func() { _, _ = io.Copy(far, near); _ = far.Close() }()
	_, _ = io.Copy(near, far)
}

// Open lets everything through.
func (g *Gate) Open() { close(g.hold) }

// MemoryHolds tells which of texts are anywhere in the memory of a process, by one reading of
// it: with the race detector it is hundreds of megabytes, and an event waits for its agent
// for seconds only.
func MemoryHolds(t *testing.T, process *servers.Process, texts ...string) map[string]bool {
	t.Helper()
	maps, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", process.PID()))
	require.NoError(t, err)
	memory, err := os.Open(fmt.Sprintf("/proc/%d/mem", process.PID()))
	require.NoError(t, err)
	defer memory.Close()
	read, held := 0, map[string]bool{}
	for line := range strings.Lines(string(maps)) {
		var from, to uint64
		var rights string
		if _, err := fmt.Sscanf(line, "%x-%x %s", &from, &to, &rights); err != nil || !strings.HasPrefix(rights, "rw") || to-from > 1<<30 {
			continue
		}
		block := make([]byte, to-from)
		n, _ := memory.ReadAt(block, int64(from)) // what is not mapped reads as nothing
		read += n
		for _, text := range texts {
			if bytes.Contains(block[:n], []byte(text)) {
				held[text] = true
			}
		}
	}
	require.Greater(t, read, 1<<20, "the memory of the process could not be read")
	return held
}
