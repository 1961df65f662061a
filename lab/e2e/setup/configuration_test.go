package setup_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestTheServiceIsCheckedBeforeItStarts has a file say all that the service needs, first
// wrongly.
func TestTheServiceIsCheckedBeforeItStarts(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(2), worldtest.Options{Bare: true})
	file := filepath.Join(t.TempDir(), "service.yaml")
	check := func(text string) (string, int) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		out, stderr, status := worldtest.Kambrel(t, "serve", "--check", "--config", file)
		return out + stderr, status
	}
	said, status := check("listen: 127.0.0.1:0\ndatabase:\n  connection: postgres://127.0.0.1:1/none\ncloud:\n  url: http://127.0.0.1:1/scim\n  tokenFile: /nowhere\n  tokn: x\ntls:\n  certificate: /nowhere.pem\n  key: /nowhere.key\n")
	assert.Equal(t, 1, status, said)
	for _, want := range []string{"line 7: cloud.tokn", "BAD   certificate", "/nowhere.pem", "BAD   database", "BAD   cloud"} {
		assert.Contains(t, said, want)
	}
	said, status = check(fmt.Sprintf("listen: 127.0.0.1:0\ndatabase:\n  connection: %s\ncloud:\n  url: %s\n  tokenFile: %s\ntls:\n  plain: true\n", w.DSN, w.SCIMURL, w.TokenFile))
	assert.Zero(t, status, said)
	assert.NotContains(t, said, "BAD")
	assert.Contains(t, said, "tables of version")
}

// TestADirectorysPasswordStaysInAFileOfItsOwn keeps it out of the agent's configuration.
func TestADirectorysPasswordStaysInAFileOfItsOwn(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(2))
	file := filepath.Join(t.TempDir(), "brisling")
	require.NoError(t, os.WriteFile(file, []byte(w.Directory.ReaderPassword+"\n"), 0o644))
	_, stderr, status := worldtest.Kambrel(t, "agent", "directory", "set", "brisling", "--config", w.AgentFile, "--url", w.Directory.URL, "--ca", w.Directory.CAFile, "--bind-dn", w.Directory.ReaderDN, "--password-in", file)
	require.Zero(t, status, stderr)
	_, stderr, status = worldtest.Kambrel(t, "agent", "directory", "set", "brisling", "--config", w.AgentFile, "--url", w.Directory.URL, "--bind-dn", w.Directory.ReaderDN, "--password-in", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "chmod 600")
	require.NoError(t, os.Chmod(file, 0o600))
	text, err := os.ReadFile(w.AgentFile)
	require.NoError(t, err)
	assert.NotContains(t, string(text), w.Directory.ReaderPassword)
	assert.Regexp(t, regexp.MustCompile(`passwordFile: .*brisling`), string(text))
	w.Activate(worldtest.Document())
	require.NoError(t, w.Agent.Stop())
	w.StartAgent()
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Equal(t, 2, run.Counts.Done)
}
