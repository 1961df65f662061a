package packages_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// host is this machine with nothing of Kambrel installed, over which packages are installed: an
// overlay that is thrown away.
type host struct {
	t    *testing.T
	root string
}

func newHost(t *testing.T) host {
	t.Helper()
	require.Zero(t, os.Geteuid(), "packages are installed by root")
	folder := t.TempDir()
	var at [3]string
	for i, name := range []string{"upper", "work", "root"} {
		at[i] = filepath.Join(folder, name)
		require.NoError(t, os.Mkdir(at[i], 0o755))
	}
	out, err := exec.Command("mount", "-t", "overlay", "overlay", "-o", "lowerdir=/,upperdir="+at[0]+",workdir="+at[1], at[2]).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() { assert.NoError(t, exec.Command("umount", "--lazy", at[2]).Run()) })
	return host{t, at[2]}
}

// run runs a command there, which must end well.
func (h host) run(command string, args ...string) string {
	h.t.Helper()
	out, err := exec.Command("chroot", append([]string{h.root, command}, args...)...).CombinedOutput()
	require.NoError(h.t, err, "%s %q: %s", command, args, out)
	return string(out)
}

func (h host) write(file, text string, mode os.FileMode) {
	h.t.Helper()
	require.NoError(h.t, os.WriteFile(filepath.Join(h.root, file), []byte(text), mode))
	require.NoError(h.t, os.Chmod(filepath.Join(h.root, file), mode))
}

// nextVersion is that of the packages to which the others are upgraded.
const nextVersion = "0.9.9"

// build makes the packages, and those of the next version.
func build(t *testing.T) (now, next [2]string) {
	t.Helper()
	for version, packages := range map[string]*[2]string{"": &now, nextVersion: &next} {
		folder := t.TempDir()
		command := exec.Command("../../../packaging/build.sh", folder)
		command.Env = append(os.Environ(), "COMPRESS=none", "ONLY_DEBIAN=1", "VERSION="+version)
		out, err := command.CombinedOutput()
		require.NoError(t, err, string(out))
		for i, name := range []string{"kambrel", "kambrel-agent"} {
			found, err := filepath.Glob(filepath.Join(folder, name+"_*.deb"))
			require.NoError(t, err)
			require.Len(t, found, 1, string(out))
			packages[i] = found[0]
		}
	}
	return now, next
}

// TestPackagesFromInstallToPurge installs service and agent from their packages, has them keep
// people in step over HTTPS by an authority of the service's own, upgrades both in the middle of
// a run, which makes nobody twice and forgets nobody, and purges them.
func TestPackagesFromInstallToPurge(t *testing.T) {
	const people = 3000
	now, next := build(t)
	w := worldtest.NewWith(t, worldtest.LDIFPeople(people), worldtest.Options{Bare: true})
	require.NoError(t, w.Service.Stop()) // the package's takes its place, on the same database
	h := newHost(t)
	said := h.run("dpkg", "-i", now[0], now[1])
	assert.Contains(t, said, "/etc/kambrel/service.yaml")
	for _, unit := range []string{"kambrel", "kambrel-agent"} {
		assert.Empty(t, h.run("systemd-analyze", "verify", "/lib/systemd/system/"+unit+".service"))
		h.run("systemd-analyze", "security", "--offline=yes", "--threshold=20", "/lib/systemd/system/"+unit+".service")
	}
	assert.Contains(t, h.run("man", "-w", "kambrel-serve"), "kambrel-serve.1")
	assert.Contains(t, h.run("stat", "-c", "%a %U", "/var/lib/kambrel", "/var/lib/kambrel-agent"), "700 kambrel\n700 kambrel-agent\n")
	assert.Contains(t, h.run("stat", "-c", "%a %U %G", "/etc/kambrel/service.yaml"), "640 root kambrel")

	h.run("install", "-m", "0600", "-o", "kambrel", "/dev/null", "/etc/kambrel/cloud.token")
	h.write("/etc/kambrel/cloud.token", w.Cloud.Token, 0o600)
	address := fmt.Sprintf("127.0.0.1:%d", w.Port)
	text, err := os.ReadFile(filepath.Join(h.root, "/etc/kambrel/service.yaml"))
	require.NoError(t, err)
	for was, is := range map[string]string{"0.0.0.0:7600": address, "postgres:///kambrel?host=/run/postgresql": w.DSN, "https://cloud.halvard.example/scim/v2": w.SCIMURL} {
		require.Contains(t, string(text), was)
		text = []byte(strings.Replace(string(text), was, is, 1))
	}
	h.write("/etc/kambrel/service.yaml", string(text), 0o640)
	start := func(name string, ready bool) *servers.Process {
		unit, err := os.ReadFile(filepath.Join(h.root, "/lib/systemd/system/"+name+".service"))
		require.NoError(t, err)
		words := strings.Fields(regexp.MustCompile(`(?m)^ExecStart=(.*)$`).FindStringSubmatch(string(unit))[1])
		command := servers.Command{Name: name, Path: "chroot", Args: append([]string{h.root, "runuser", "-u", name, "--", "env", "STATE_DIRECTORY=/var/lib/" + name}, words...)}
		if ready {
			command.Ready = servers.AnswersByTLS(address)
		}
		process, err := w.Lab.Start(t.Context(), command)
		require.NoError(t, err)
		return process
	}
	assert.NotContains(t, h.run("runuser", "-u", "kambrel", "--", "kambrel", "serve", "--check", "--config", "/etc/kambrel/service.yaml"), "BAD")
	service := start("kambrel", true)
	print := regexp.MustCompile(`(?:[0-9A-F]{2}:){31}[0-9A-F]{2}`)
	fingerprint := print.FindString(w.LogOf("kambrel"))
	require.NotEmpty(t, fingerprint)

	// From here on by the commands that a person would type.
	w.URL = "https://" + address
	authority, err := os.ReadFile(filepath.Join(h.root, "/var/lib/kambrel/tls/ca.pem"))
	require.NoError(t, err)
	w.Client, err = client.New(w.URL, "").Trusting(string(authority))
	require.NoError(t, err)
	_, err = w.Client.SignIn(t.Context(), wire.Credentials{Name: "administrator", Password: worldtest.Password})
	require.NoError(t, err)
	code, err := w.Client.IssueCode(t.Context(), "brisling")
	require.NoError(t, err)
	assert.Contains(t, code.Command, fingerprint)
	asAgent := func(args ...string) {
		h.run("runuser", append([]string{"-u", "kambrel-agent", "--"}, args...)...)
	}
	const config = "/var/lib/kambrel-agent/agent.yaml"
	asAgent(append(strings.Fields(code.Command), "--config", config)...)
	h.write("/var/lib/kambrel-agent/ca.pem", readFile(t, w.Directory.CAFile), 0o644)
	h.write("/var/lib/kambrel-agent/password", w.Directory.ReaderPassword, 0o644)
	asAgent("kambrel", "agent", "directory", "set", "brisling", "--config", config, "--url", w.Directory.URL, "--ca", "/var/lib/kambrel-agent/ca.pem", "--bind-dn", w.Directory.ReaderDN, "--password-file", "/var/lib/kambrel-agent/password")
	agent := start("kambrel-agent", false)
	w.Activate(worldtest.Document())

	// The next version is installed while both run. A service manager starts them again, in the
	// middle of a run.
	h.run("dpkg", "-i", next[0], next[1])
	assert.Contains(t, readFile(t, filepath.Join(h.root, "/etc/kambrel/service.yaml")), address, "the file stays as it was edited")
	started, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	require.True(t, w.AwaitMoment(started.ID, func(run wire.Run) bool { return run.Counts.Done > 0 }))
	require.NoError(t, service.Stop())
	require.NoError(t, agent.Stop())
	service, agent = start("kambrel", true), start("kambrel-agent", false)
	run := w.Wait(started.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), people)
	assert.Contains(t, w.LogOf("kambrel"), "taking up an interrupted run")
	require.Eventually(t, func() bool {
		agents, err := w.Client.Agents(t.Context())
		require.NoError(t, err)
		return len(agents) == 1 && agents[0].Version == nextVersion
	}, 20*time.Second, 50*time.Millisecond)
	w.Person("Newcomer One", nil)
	run = w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "the authority, the identity and the records are as before: %+v", run.Failure)
	assert.Equal(t, 1, run.Counts.Changes)
	require.NoError(t, service.Stop())
	require.NoError(t, agent.Stop())

	h.run("dpkg", "-P", "kambrel-agent", "kambrel")
	for _, left := range []string{"/var/lib/kambrel", "/var/lib/kambrel-agent", "/var/log/kambrel", "/etc/kambrel/service.yaml", "/usr/bin/kambrel"} {
		assert.NoFileExists(t, filepath.Join(h.root, left))
		assert.NoDirExists(t, filepath.Join(h.root, left))
	}
	assert.NotContains(t, readFile(t, filepath.Join(h.root, "/etc/passwd")), "kambrel")
}

func readFile(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(text)
}
