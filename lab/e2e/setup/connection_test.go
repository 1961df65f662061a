package setup_test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestRecordsAreOfOneCloud starts the service with the address of another cloud: nothing is
// read there and nobody made, until it reaches the cloud of the records again, be it elsewhere.
func TestRecordsAreOfOneCloud(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(20))
	w.Activate(worldtest.Document())
	w.InStep(20)
	other, err := serverstest.New(t).StartCloud(t.Context(), w.Programs.Lab, 0, []string{"brisling.example"})
	require.NoError(t, err)
	first, its := w.Cloud, w.SCIMURL
	w.Reaches(other.URL, other.TokenFile)
	w.Set(worldtest.Crew(3), "title", "Cook")
	for _, request := range []wire.NewRun{{}, {Purpose: purpose.Full}, {Purpose: purpose.Rehearsal}} {
		run := w.Run(request)
		require.NotNil(t, run.Failure)
		assert.Equal(t, string(problem.OtherCloud), run.Failure.Code)
		assert.Contains(t, run.Failure.Detail, "of 20 resources that entries are linked to, "+other.URL+" knows 0")
	}
	w.Cloud = other
	assert.Empty(t, worldtest.Users(t, w.Address(), ""))
	w.Cloud = first

	// The same cloud at another address is known by whom it knows.
	w.Reaches(strings.Replace(its, "127.0.0.1", "localhost", 1), first.TokenFile)
	w.InStep(1)
	assert.Equal(t, "Cook", w.User("crew00003@brisling.example")["title"])
}

// TestTheCloudIsConnectedByAnAct begins without a cloud, tries several, and connects one by a
// command; then a token changes, a wrong one and another cloud are refused, the services on the
// records follow, and the token is nowhere to be read.
func TestTheCloudIsConnectedByAnAct(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(8), worldtest.Options{Database: true})
	other, err := serverstest.New(t).StartCloud(t.Context(), w.Programs.Lab, 0, []string{"brisling.example"})
	require.NoError(t, err)
	folder := t.TempDir()
	sealed := filepath.Join(folder, "seal.key")
	begin := func(name string, port int, key string) *servers.Process {
		address := fmt.Sprintf("127.0.0.1:%d", port)
		started, err := w.Lab.Start(context.Background(), servers.Command{
			Name: name, Path: w.Programs.Kambrel, Env: []string{"KAMBREL_DATABASE=" + w.DSN},
			Args:  []string{"serve", "--plain", "--listen", address, "--cloud-seal-key-file", key},
			Ready: servers.Answers("http://" + address + "/healthz"),
		})
		require.NoError(t, err)
		return started
	}
	require.NoError(t, w.Service.Stop())
	w.Service = begin("service", w.Port, sealed)
	w.Activate(worldtest.Document())
	run := w.Run(wire.NewRun{})
	require.NotNil(t, run.Failure)
	assert.Contains(t, run.Failure.Detail, "no cloud is connected yet")
	w.Refuses([]string{"cloud", "disconnect"}, "the service was started without a cloud")

	write := func(name, text string) string {
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, []byte(text+"\n"), 0o600))
		return file
	}
	its, others, wrong := write("its", w.Cloud.Token), write("others", other.Token), write("wrong", "Not-The-Token")
	for _, one := range []struct {
		url, token string
		status     int
		says       string
	}{
		{other.URL, others, 0, "nothing is linked yet, so that any cloud may be chosen"},
		{w.SCIMURL, wrong, 2, "BAD"},
		{w.SCIMURL, its, 0, "nothing is linked yet"},
	} {
		out, stderr, status := w.Kambrel("cloud", "try", "--url", one.url, "--token-file", one.token)
		assert.Equal(t, one.status, status, out+stderr)
		assert.Contains(t, out, one.says)
	}
	w.Refuses([]string{"cloud", "connect", "--url", "http://cloud.halvard.example/scim/v2", "--token-file", its}, "it must be https")
	w.Says([]string{"cloud", "connect", "--url", w.SCIMURL, "--token-file", its}, "The cloud is reached so from now on.")
	w.InStep(8)
	w.Says([]string{"cloud", "show"}, w.SCIMURL, "has said so at")

	// From now on only the cloud of those who are linked.
	out, _, status := w.Kambrel("cloud", "try", "--url", other.URL, "--token-file", others)
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "NOT THE CLOUD OF THE RECORDS: of 8 linked resources "+other.URL+" knows 0")
	w.Refuses([]string{"cloud", "connect", "--url", other.URL, "--token-file", others}, "of 8 resources that entries are linked to, "+other.URL+" knows 0")
	w.Refuses([]string{"cloud", "connect", "--url", w.SCIMURL, "--token-file", wrong}, "Nothing was changed")

	// The same on the page.
	do, shows := w.Console()
	fill := func(label, value string) chromedp.Action {
		field := fmt.Sprintf(`input[aria-label="%s"]`, label)
		return chromedp.Tasks{
			chromedp.WaitVisible(field, chromedp.ByQuery),
			chromedp.Evaluate(fmt.Sprintf(`(() => { const field = document.querySelector(%q); field.focus(); field.select() })()`, field), nil),
			chromedp.KeyEvent(value),
		}
	}
	do("try another cloud", chromedp.Navigate(w.URL+"/cloud"), fill("Base URL of the SCIM service", other.URL), fill("Token", other.Token), worldtest.Button("Try"),
		shows("p[role=status]", "Of 8 resources that entries are linked to it knows 0"))
	var closed bool
	do("it cannot be chosen", chromedp.Evaluate(`[...document.querySelectorAll("button")].find(b => b.textContent.trim() === "Connect").disabled`, &closed))
	assert.True(t, closed)
	do("choose its own", fill("Base URL of the SCIM service", w.SCIMURL), fill("Token", w.Cloud.Token), worldtest.Button("Try"),
		shows("p[role=status]", "Of 8 linked resources it knows 8"), worldtest.Button("Connect"), shows(".n-message", "is reached at "+w.SCIMURL))

	// Another service on the records, with the same key, reaches it too; and both follow.
	port, err := servers.FreePort(0)
	require.NoError(t, err)
	w.Second = begin("standby", port, sealed)
	second := client.New(fmt.Sprintf("http://127.0.0.1:%d", port), w.Client.Token())
	moved := strings.Replace(w.SCIMURL, "127.0.0.1", "localhost", 1)
	w.Says([]string{"cloud", "connect", "--url", moved, "--token-file", its})
	require.Eventually(t, func() bool {
		cloud, err := second.Cloud(t.Context())
		require.NoError(t, err)
		return cloud.URL == moved
	}, 5*time.Second, 20*time.Millisecond)
	w.Person("Eli Nes", nil)
	w.InStep(1)

	// A start with another key cannot open the token: it says so, and reaches nothing else.
	require.NoError(t, w.Second.Stop())
	require.NoError(t, w.Service.Stop())
	w.Service = begin("service", w.Port, filepath.Join(folder, "lost.key"))
	run = w.Run(wire.NewRun{})
	require.NotNil(t, run.Failure)
	assert.Contains(t, w.LogOf("service"), "the cloud cannot be reached as an operator has said")
	w.Says([]string{"cloud", "connect", "--url", w.SCIMURL, "--token-file", its})
	w.InStep(0)

	assert.NotContains(t, w.Dump(), w.Cloud.Token)
	assert.NotContains(t, w.Logs(), w.Cloud.Token)
	acts, err := w.Client.Acts(t.Context(), url.Values{"limit": {"200"}})
	require.NoError(t, err)
	connected := 0
	for _, a := range acts.Items {
		if a.Kind == "connect-cloud" {
			connected++
			assert.NotContains(t, fmt.Sprintf("%+v", a), w.Cloud.Token)
		}
	}
	assert.Equal(t, 4, connected)
}
