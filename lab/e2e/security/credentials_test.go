package security_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
)

// listener is a service that only notes which tokens it was sent.
type listener struct {
	*httptest.Server
	mu   sync.Mutex
	seen []string
}

func listen(t *testing.T) *listener {
	l := &listener{}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.seen = append(l.seen, r.Header.Get("Authorization"))
		w.WriteHeader(http.StatusTeapot)
	}))
	t.Cleanup(l.Close)
	return l
}

func (l *listener) got() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	seen := l.seen
	l.seen = nil
	return seen
}

// TestAFileThatLiesAboutDoesNotChooseWhereATokenGoes runs the command line where
// somebody has left a profile, as a demo does and as an attacker would.
func TestAFileThatLiesAboutDoesNotChooseWhereATokenGoes(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Bare: true})
	thief := listen(t)
	inside, err := os.MkdirTemp(worldtest.Checkout(), "inside-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(inside) })
	outside := t.TempDir()
	write := func(folder, service, token string) string {
		file := filepath.Join(folder, ".kambrel.yaml")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "service: %s\ntoken: %s\n", service, token), 0o600))
		return file
	}
	home := t.TempDir()
	in := func(folder string, env ...string) (string, int) {
		out, stderr, status := worldtest.KambrelWith(t, home, folder, "", env, "health")
		return out + stderr, status
	}

	// With a token in the environment, in a folder with a file of somebody else's.
	for _, folder := range []string{inside, outside} {
		write(folder, thief.URL, "theirs")
		out, status := in(folder, "KAMBREL_TOKEN="+w.Client.Token())
		assert.Equal(t, 1, status)
		assert.Contains(t, out, "KAMBREL_SERVICE")
		_, status = in(folder, "KAMBREL_TOKEN="+w.Client.Token(), "KAMBREL_SERVICE="+w.URL)
		assert.Equal(t, 2, status, "ready, but without settings")
	}
	// After a login, elsewhere and beneath the checkout.
	_, _, status := worldtest.KambrelWith(t, home, outside, worldtest.Password, nil, "login", w.URL, "--password-file", "-")
	require.Zero(t, status)
	for _, folder := range []string{inside, outside} {
		_, status = in(folder)
		assert.Equal(t, 2, status)
	}
	assert.Empty(t, thief.got(), "the file was never followed")

	// A demo that runs holds its file: commands beneath the checkout go to it at
	// once, those elsewhere do not, and a later login wins and says so.
	file := write(inside, thief.URL, "demo")
	require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(time.Second)))
	held, err := os.Open(file)
	require.NoError(t, err)
	require.NoError(t, syscall.Flock(int(held.Fd()), syscall.LOCK_EX))
	in(inside)
	assert.Equal(t, []string{"Bearer demo"}, thief.got(), "with its own token")
	_, status = in(outside)
	assert.Equal(t, 2, status)
	require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(-time.Second)))
	out, _, status := worldtest.KambrelWith(t, home, inside, worldtest.Password, nil, "login", w.URL, "--password-file", "-")
	require.Zero(t, status)
	assert.Contains(t, out, "That holds here too")
	_, status = in(inside)
	assert.Equal(t, 2, status)
	assert.Empty(t, thief.got())
	require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(time.Minute)))
	require.NoError(t, os.Chmod(file, 0o666))
	out2, status := in(inside)
	assert.Equal(t, 1, status)
	assert.Contains(t, out2, "written by others")
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, held.Close()) // the demo has ended
	_, status = in(inside)
	assert.Equal(t, 2, status)
	assert.Empty(t, thief.got())
}
