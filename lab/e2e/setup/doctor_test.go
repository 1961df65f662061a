package setup_test

import (
	"archive/zip"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestTheDoctorSaysWhatIsNotWell looks at an installation before the first day and after it,
// without an agent, and at what is packed for support.
func TestTheDoctorSaysWhatIsNotWell(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3))
	out, _, status := w.Kambrel("doctor")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "BAD  settings")
	assert.Contains(t, out, "-> Connect a directory")

	w.Activate(worldtest.Document())
	w.Run(wire.NewRun{})
	pack := filepath.Join(t.TempDir(), "support.zip")
	out, _, status = w.Kambrel("doctor", "--pack", pack)
	assert.Equal(t, 2, status, "the database of tests forgets what was committed, and three people are too few for the guard")
	for _, text := range []string{"2 bad", "BAD  database", "the guard would let all go at once", "ok   cloud", "tried, and well", "administrator alone", "none was made by 'kambrel backup'", "one agent serves it", "nobody is told"} {
		assert.Contains(t, out, text)
	}
	w.Refuses([]string{"doctor", "--pack", pack}, "file exists")
	packed := read(t, pack)
	assert.Len(t, packed, 6)
	token, err := os.ReadFile(w.Cloud.TokenFile)
	require.NoError(t, err)
	for name, text := range packed {
		assert.NotEmpty(t, text, name)
		for what, secret := range map[string]string{"the session": w.Client.Token(), "the cloud's token": string(token), "a password": worldtest.Password, "somebody's name": "crew00001"} {
			assert.NotContains(t, text, secret, "%s in %s", what, name)
		}
	}

	do, shows := w.Console()
	do("look at it in the console", chromedp.Click(`//a[.="Look at the installation"]`, chromedp.BySearch), shows("p[role=status]", "2 wrong"), shows("tbody tr:first-child", "it forgets what was committed"), shows("td", "one agent serves it"))

	_, stderr, status := worldtest.Kambrel(t, "backup", filepath.Join(t.TempDir(), "monday.backup"), "--database", w.DSN)
	require.Zero(t, status, stderr)
	out, _, _ = w.Kambrel("doctor")
	assert.Contains(t, out, "ok   backup")
	w.Says([]string{"acts", "--kind", "make-backup"}, "monday.backup")

	w.Says([]string{"agent", "retire", "brisling-1"})
	out, _, status = w.Kambrel("doctor")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "no agent that is there serves it")
	assert.Contains(t, out, "BAD  directory (brisling)")
}

// read are the files of an archive.
func read(t *testing.T, file string) map[string]string {
	t.Helper()
	archive, err := zip.OpenReader(file)
	require.NoError(t, err)
	defer archive.Close()
	texts := map[string]string{}
	for _, f := range archive.File {
		from, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(from)
		require.NoError(t, err)
		texts[f.Name] = string(text)
	}
	return texts
}
