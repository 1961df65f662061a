package setup_test

import (
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/version"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestAgentsGoOnByANewVersion passes a version on to two agents, one after the other, while
// people are kept in step; then one that is no good, from which the first goes back by itself
// and the second is kept; and one that is signed by somebody else.
func TestAgentsGoOnByANewVersion(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(5))
	w.Activate(worldtest.Document())
	folder := t.TempDir()
	key, half := filepath.Join(folder, "release.jwk"), filepath.Join(folder, "release.pub.jwk")
	out, stderr, status := worldtest.Kambrel(t, "agent", "release", "key", key)
	require.Zero(t, status, stderr)
	print := strings.TrimSpace(out[strings.LastIndex(strings.TrimSpace(out), "\n"):])
	info, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	second := w.SecondAgent()
	second.Start()
	platform := runtime.GOOS + "-" + runtime.GOARCH
	release := func(by, number, program string) string {
		statement := filepath.Join(folder, "kambrel-agent_"+number+".jws")
		_, stderr, status := worldtest.Kambrel(t, "agent", "release", "sign", "--key", by, "--version", number, "--out", statement, platform+"="+program)
		require.Zero(t, status, stderr)
		return statement
	}
	newer := filepath.Join(folder, "newer")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-X kambrel.example/kambrel/core/version.Number=0.2.0", "-o", newer, "kambrel.example/kambrel/cmd/kambrel-agent")
	text, err := build.CombinedOutput()
	require.NoError(t, err, string(text))
	w.Says([]string{"agent", "release", "add", release(key, "0.2.0", newer)}, "Version 0.2.0 is here for "+platform, print)
	w.Says([]string{"agent", "release", "list"}, "0.2.0", print)

	// Nothing is taken before each host has said so.
	w.Refuses([]string{"agent", "update", "--all", "--to", "0.2.0"}, "the host of brisling-1 takes no programs from the service")
	for _, file := range []string{w.AgentFile, second.File} {
		out, stderr, status := worldtest.Kambrel(t, "agent", "allow-updates", "--key", half, "--config", file)
		require.Zero(t, status, stderr)
		assert.Contains(t, out, print)
	}
	agents := func() map[string]wire.Agent {
		list, err := w.Client.Agents(t.Context())
		require.NoError(t, err)
		byName := map[string]wire.Agent{}
		for _, agent := range list {
			byName[agent.Name] = agent
		}
		return byName
	}
	eventually := func(what string, holds func(map[string]wire.Agent) bool) {
		t.Helper()
		require.Eventually(t, func() bool { return holds(agents()) }, 90*time.Second, 100*time.Millisecond, what)
	}
	eventually("both say by whose key they take programs", func(a map[string]wire.Agent) bool {
		return a["brisling-1"].Updates == print && a["brisling-2"].Updates == print
	})
	w.Refuses([]string{"agent", "update", "brisling-1", "--to", "0.3.0"}, "there is no release 0.3.0")
	w.Says([]string{"agent", "update", "--all", "--to", "0.2.0"}, "brisling-1 goes on by 0.2.0 when it has its turn", "brisling-2 goes on by 0.2.0")
	w.Refuses([]string{"agent", "release", "remove", "0.2.0"}, "is to go on by it")
	eventually("one at a time", func(a map[string]wire.Agent) bool {
		one, two := a["brisling-1"], a["brisling-2"]
		assert.False(t, one.Update != nil && two.Update != nil && one.Update.State == wire.UpdateOffered && two.Update.State == wire.UpdateOffered, "both at once")
		return (one.Version == "0.2.0") != (two.Version == "0.2.0")
	})
	w.Person("Eli Nes", nil)
	w.InStep(6)
	eventually("then the other", func(a map[string]wire.Agent) bool {
		return a["brisling-1"].Version == "0.2.0" && a["brisling-2"].Version == "0.2.0" && a["brisling-1"].Update == nil && a["brisling-2"].Update == nil
	})
	// Started anew, the program that was taken goes on, not the one that is installed.
	require.NoError(t, second.Process.Stop())
	second.Start()
	since := time.Now()
	eventually("the second is back", func(a map[string]wire.Agent) bool {
		return a["brisling-2"].LastContact != nil && a["brisling-2"].LastContact.After(since)
	})
	assert.Equal(t, "0.2.0", agents()["brisling-2"].Version)

	bad := filepath.Join(folder, "bad")
	require.NoError(t, os.WriteFile(bad, []byte("#!/bin/sh\necho 'out of order' >&2\nexit 7\n"), 0o755))
	w.Says([]string{"agent", "release", "add", release(key, "0.3.0", bad)})
	w.Says([]string{"agent", "update", "--all", "--to", "0.3.0"})
	failed := func(a map[string]wire.Agent) (failed, waits wire.Agent, ok bool) {
		for _, one := range a {
			if one.Update != nil && one.Update.State == wire.UpdateFailed {
				failed, ok = one, true
			} else {
				waits = one
			}
		}
		return failed, waits, ok
	}
	eventually("the first goes back", func(a map[string]wire.Agent) bool {
		_, _, ok := failed(a)
		return ok
	})
	one, other, _ := failed(agents())
	assert.Equal(t, "0.2.0", one.Version)
	assert.Contains(t, one.Update.Detail, "exit status 7")
	require.NotNil(t, other.Update)
	assert.Equal(t, wire.UpdateWaits, other.Update.State)
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	var told []string
	for _, attention := range health.Attention {
		told = append(told, attention.Code)
	}
	assert.Contains(t, told, string(problem.AgentNotUpdated))
	w.Person("Ada Vik", nil)
	w.InStep(1)
	w.Says([]string{"agent", "list"}, "0.2.0 (0.3.0: FAILED)", "0.2.0 (0.3.0: waits for its turn)", one.Name+" went back to 0.2.0")
	do, shows := w.Console()
	do("look at the agents", chromedp.Navigate(w.URL+"/directories"), shows("td", "exit status 7"), shows("td", "0.3.0: waits for its turn"), shows("td", "1 waits, 1 failed"),
		worldtest.Button("Try again"), shows(".n-message", "goes on by 0.3.0 when it has its turn"))
	eventually("whoever has the turn fails once more", func(a map[string]wire.Agent) bool {
		again, _, ok := failed(a)
		return ok && again.Update.Since.After(one.Update.Since)
	})
	w.Says([]string{"agent", "update", one.Name, other.Name, "--cancel"}, one.Name+" stays at 0.2.0", other.Name+" stays at 0.2.0")
	w.Says([]string{"agent", "release", "remove", "0.3.0"})

	// A key of somebody else, whom no host trusts.
	foreign := filepath.Join(folder, "foreign.jwk")
	_, stderr, status = worldtest.Kambrel(t, "agent", "release", "key", foreign)
	require.Zero(t, status, stderr)
	w.Says([]string{"agent", "release", "add", release(foreign, "0.4.0", bad)})
	w.Refuses([]string{"agent", "update", "brisling-1", "--to", "0.4.0"}, "brisling-1 takes what is signed by "+print)

	// An end of it: the next start is by what is installed.
	_, stderr, status = worldtest.Kambrel(t, "agent", "allow-updates", "--off", "--config", second.File)
	require.Zero(t, status, stderr)
	require.NoError(t, second.Process.Stop())
	second.Start()
	eventually("the second runs what is installed", func(a map[string]wire.Agent) bool {
		return a["brisling-2"].Version == version.Number && a["brisling-2"].Updates == ""
	})
	acts, err := w.Client.Acts(t.Context(), url.Values{"limit": {"200"}})
	require.NoError(t, err)
	kinds := map[string]int{}
	for _, a := range acts.Items {
		kinds[string(a.Kind)+" "+string(a.Result)]++
	}
	assert.Equal(t, 2, kinds["agent-updated done"])
	assert.Equal(t, 2, kinds["agent-updated failed"])
	assert.Equal(t, 3, kinds["add-agent-release done"])
	assert.Equal(t, 5, kinds["update-agent done"])
}
