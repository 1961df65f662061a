package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const examples = "../docs/examples/"

// changed writes a copy of an example with parts of it replaced, beside the others.
func changed(t *testing.T, folder, name string, pairs ...string) string {
	t.Helper()
	text, err := os.ReadFile(examples + name)
	require.NoError(t, err)
	for i := 0; i < len(pairs); i += 2 {
		require.Contains(t, string(text), pairs[i])
	}
	file := filepath.Join(folder, name)
	require.NoError(t, os.WriteFile(file, []byte(strings.NewReplacer(pairs...).Replace(string(text))), 0o600))
	return file
}

// TestSettingsAreTestedWithoutAService holds the documentation's example, of twenty expectations, and
// then with two of them wrong.
func TestSettingsAreTestedWithoutAService(t *testing.T) {
	t.Parallel()
	out, status := run("settings", "test", examples+"settings.yaml", examples+"tests.yaml")
	assert.Zero(t, status, out)
	assert.Contains(t, out, "20 expectations: 20 hold, 0 do not.")

	folder := t.TempDir()
	changed(t, folder, "halvard.ldif")
	wrong := changed(t, folder, "tests.yaml", "title: Mate", "title: Master", "{entry: svc-backup, in: false", "{entry: svc-backup, in: true")
	out, status = run("settings", "test", examples+"settings.yaml", wrong)
	assert.Equal(t, 2, status, out)
	for _, text := range []string{"WRONG  ada.brekke (expectation 2)", "title: expected Master, got Mate", "from title", "WRONG  svc-backup (expectation 15)", "it must hold since: accounts of programs stay here", "out: no container above it is included", "18 hold, 2 do not"} {
		assert.Contains(t, out, text)
	}
	out, status = run("settings", "test", examples+"settings.yaml", wrong, "-o", "json")
	assert.Equal(t, 2, status)
	var read tested
	require.NoError(t, json.Unmarshal([]byte(out), &read))
	assert.Equal(t, 18, read.Holding)
	assert.Less(t, read.Micros, int64(1_000_000), "it is quick")

	for _, bad := range []struct{ from, to, says string }{
		{"file: halvard.ldif", "file: nowhere.ldif", "nowhere.ldif"},
		{"directory: halvard,", "directory: skerry,", `the settings name no directory "skerry"; there are [halvard brisling]`},
		{"becomes: adopt", "turns: adopt", "turns"},
	} {
		out, status = run("settings", "test", examples+"settings.yaml", changed(t, folder, "tests.yaml", bad.from, bad.to))
		assert.Equal(t, 1, status, out)
		assert.Contains(t, out, bad.says)
	}
	unsaid := changed(t, folder, "tests.yaml", "{entry: Aksel Tangvald, in: false}", "{entry: Nobody At All}", "{entry: Guest Pass, becomes: out-of-scope}", "{entry: ada.brekke}")
	out, _ = run("settings", "test", examples+"settings.yaml", unsaid)
	assert.Contains(t, out, "none of the entries is called so")
	assert.Contains(t, out, "expected something of in, because, becomes, resource, problem and values, got nothing")
}

func TestSettingsAreComparedWithoutAService(t *testing.T) {
	t.Parallel()
	after := changed(t, t.TempDir(), "settings.yaml", "title, from: title", "title, from: employeeID", `, "OU=Terminals,DC=corp,DC=halvard,DC=example"]`, "]")
	out, status := run("settings", "compare", examples+"settings.yaml", after, "--entries", "halvard="+examples+"halvard.ldif")
	assert.Equal(t, 2, status, out)
	for _, text := range []string{"title: Mate -> H1001", "CN=Mira Tangen", "after   out: no container above it is included", "Of 9 entries looked at something changes for 5."} {
		assert.Contains(t, out, text)
	}
	assert.NotContains(t, out, "CN=Pia Holmen")
	out, status = run("settings", "compare", examples+"settings.yaml", examples+"settings.yaml", "--entries", "halvard="+examples+"halvard.ldif")
	assert.Zero(t, status, out)
	out, status = run("settings", "compare", examples+"settings.yaml", after, "--entries", examples+"halvard.ldif")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "say of which directory")
}
