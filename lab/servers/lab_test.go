package servers

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAFolderIsUsedByOneLabAtATime(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "lab")
	first, err := New(dir)
	require.NoError(t, err)
	_, err = New(dir)
	assert.ErrorContains(t, err, "in use")
	assert.ErrorContains(t, Remove(dir), "in use")
	require.NoError(t, first.Stop())
	second, err := New(dir)
	require.NoError(t, err)
	assert.Equal(t, first.certificate.Fingerprint(), second.certificate.Fingerprint(), "the authority is kept")
	require.NoError(t, second.Stop())
	require.NoError(t, Remove(dir))
	assert.NoDirExists(t, dir)
}

func TestAServerThatDoesNotGetReadyIsTold(t *testing.T) {
	t.Parallel()
	l, err := New(t.TempDir())
	require.NoError(t, err)
	defer l.Stop()
	never := func(context.Context) error { return errors.New("not yet") }
	_, err = l.Start(t.Context(), Command{Name: "short", Path: "/bin/sh", Args: []string{"-c", "echo went wrong; exit 3"}, Ready: never})
	assert.ErrorContains(t, err, "exit status 3")
	assert.ErrorContains(t, err, "went wrong", "the end of its log is shown")
	assert.NoFileExists(t, filepath.Join(l.Dir, "short.pid"))
	_, err = l.Start(t.Context(), Command{Name: "none", Path: "/no/such/program"})
	assert.ErrorContains(t, err, "start none")
}

func TestWhatACrashLeftRunningIsEnded(t *testing.T) {
	t.Parallel()
	l, err := New(t.TempDir())
	require.NoError(t, err)
	defer l.Stop()
	first, err := l.Start(t.Context(), Command{Name: "sleeper", Path: "/bin/sleep", Args: []string{"600"}})
	require.NoError(t, err)
	second, err := l.Start(t.Context(), Command{Name: "sleeper", Path: "/bin/sleep", Args: []string{"600"}})
	require.NoError(t, err)
	<-first.Ended()
	assert.NotEqual(t, first.PID(), second.PID())
	// A pid file whose process is another one by now ends nobody.
	stranger, err := l.Start(t.Context(), Command{Name: "stranger", Path: "/bin/sleep", Args: []string{"600"}})
	require.NoError(t, err)
	file := filepath.Join(l.Dir, "old.pid")
	require.NoError(t, os.WriteFile(file, []byte(strconv.Itoa(stranger.PID())+" 1"), 0o600))
	endLeftover(file)
	assert.NoError(t, syscall.Kill(stranger.PID(), 0))
}

func TestFreePortPrefersTheFirstThatIsFree(t *testing.T) {
	t.Parallel()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	port := taken.Addr().(*net.TCPAddr).Port
	if port > 65000 {
		t.Skip("no room above the port that the system gave")
	}
	got, err := FreePort(port)
	require.NoError(t, err)
	assert.Greater(t, got, port)
}
