package agent

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
)

func TestTheConfigurationIsPrivateAndComplete(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "kambrel", "agent.yaml")
	c := Config{Service: "https://kambrel.example", Name: "one", AgentID: "id", Key: "{}", Directories: []Directory{
		{Name: "halvard", URL: "ldaps://dc1.corp.halvard.example", BindDN: "svc", Password: `p: "x" #1`},
	}}
	require.NoError(t, c.Save(file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	again, err := Load(file)
	require.NoError(t, err)
	assert.Equal(t, c, again)
	require.NoError(t, os.Chmod(file, 0o640))
	_, err = Load(file)
	assert.ErrorContains(t, err, "chmod 600")
	_, err = Load(filepath.Join(t.TempDir(), "none"))
	assert.ErrorContains(t, err, "kambrel agent enrol")
}

func TestAFaultyConfigurationIsToldWithoutItsPassword(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"an unknown key":   "service: https://x.example\ndirectories:\n  - name: halvard\n    pasword: Marked-Secret-1\n",
		"broken YAML":      "directories:\n  - password: \"Marked-Secret-1\n",
		"plain LDAP":       "directories:\n  - name: halvard\n    url: ldap://dc\n    password: Marked-Secret-1\n",
		"no LDAP address":  "directories:\n  - name: halvard\n    url: dc1\n    password: Marked-Secret-1\n",
		"not a list there": "directories: Marked-Secret-1\n",
	} {
		file := filepath.Join(t.TempDir(), "agent.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := Load(file)
		require.Error(t, err, name)
		assert.Equal(t, problem.BadInput, problem.CodeOf(err), name)
		assert.NotContains(t, err.Error(), "Marked-Secret-1", name)
		assert.Contains(t, err.Error(), file, name)
	}
}

func TestOnlyThePublicKeyCanLeave(t *testing.T) {
	t.Parallel()
	private, public, err := newKey()
	require.NoError(t, err)
	assert.Contains(t, private, `"d":`)
	assert.NotContains(t, public, `"d":`)
	s, err := signer(private)
	require.NoError(t, err)
	token, err := jwt.Signed(s).Claims(jwt.Claims{Subject: "one"}).Serialize()
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(token, "."))
	_, err = signer("not a key")
	assert.Equal(t, problem.BadInput, problem.CodeOf(err))
}

func TestTheServiceMustBeProtected(t *testing.T) {
	t.Parallel()
	for address, good := range map[string]bool{
		"https://kambrel.halvard.example": true, "http://127.0.0.1:7600": true, "http://localhost:7600": true,
		"http://kambrel.halvard.example": false, "kambrel": false, "ftp://127.0.0.1": false, "": false,
	} {
		assert.Equal(t, good, CheckService(address) == nil, address)
	}
	_, err := New(Config{Service: "https://x.example"}, "", "test")
	assert.ErrorContains(t, err, "not enrolled")
}
