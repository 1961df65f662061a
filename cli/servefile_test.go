package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheServicesFileIsDocumentedWhole holds the documented file against what is read.
func TestTheServicesFileIsDocumentedWhole(t *testing.T) {
	text, err := os.ReadFile("../docs/service.yaml")
	require.NoError(t, err)
	var lines []string
	for line := range strings.Lines(string(text)) { // what is commented out is a key all the same
		if key, _, is := strings.Cut(strings.TrimPrefix(strings.TrimLeft(line, " "), "# "), ":"); is && !strings.Contains(key, " ") {
			line = strings.Replace(line, "# ", "", 1)
		}
		lines = append(lines, line)
	}
	file := filepath.Join(t.TempDir(), "service.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(lines, "")), 0o600))
	command := newServeCommand()
	require.NoError(t, configure(command.Flags(), file))
	for key, name := range serviceKeys {
		flag := command.Flags().Lookup(name)
		require.NotNil(t, flag, key)
		assert.True(t, flag.Changed, "%s is not in docs/service.yaml", key)
	}
}

// TestFaultsOfTheServicesFileAreToldTogether reads a file with several.
func TestFaultsOfTheServicesFileAreToldTogether(t *testing.T) {
	file := filepath.Join(t.TempDir(), "service.yaml")
	require.NoError(t, os.WriteFile(file, []byte("listen: 127.0.0.1:0\ncloud:\n  url: https://cloud.halvard.example\n  token: x\nagents:\n  patience: soon\nmale:\n  server: y\ntrustedProxies: [192.0.2.1, 192.0.2.2]\n"), 0o600))
	t.Setenv("KAMBREL_LISTEN", "127.0.0.1:7611")
	t.Setenv("STATE_DIRECTORY", "/var/lib/kambrel")
	t.Setenv("KAMBREL_AUDIT_FILE", "$STATE_DIRECTORY/acts.jsonl")
	command := newServeCommand()
	require.NoError(t, command.Flags().Set("cloud-url", "https://flag.halvard.example"))
	err := configure(command.Flags(), file)
	require.Error(t, err)
	for _, want := range []string{"line 4: cloud.token is no key", "cloud.tokenFile", "line 6: agents.patience", "line 8: male.server is no key"} {
		assert.ErrorContains(t, err, want)
	}
	for name, want := range map[string]string{"listen": "127.0.0.1:7611", "cloud-url": "https://flag.halvard.example", "audit-file": "/var/lib/kambrel/acts.jsonl", "trusted-proxy": "[192.0.2.1,192.0.2.2]"} {
		assert.Equal(t, want, command.Flags().Lookup(name).Value.String(), name)
	}
	require.NoError(t, os.WriteFile(file, []byte("listen: [\n"), 0o600))
	assert.ErrorContains(t, configure(newServeCommand().Flags(), file), "cannot be read as YAML")
}
