// Package serverstest gives tests a lab of their own.
package serverstest

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/servers"
)

// New returns a lab in a temporary folder that ends with the test. The folder
// can be entered by everybody, since PostgreSQL runs as a user of its own.
func New(t testing.TB) *servers.Lab {
	t.Helper()
	dir, err := os.MkdirTemp("", "kambrel-lab-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	l, err := servers.New(dir)
	require.NoError(t, err)
	l.Log = t.Logf
	t.Cleanup(func() {
		if err := l.Stop(); err != nil {
			t.Errorf("stop the lab: %v", err)
		}
		_ = servers.Remove(dir)
	})
	return l
}
