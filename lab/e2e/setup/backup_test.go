package setup_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestABackupIsBroughtBackWithoutHarm backs up, lets directory and cloud go on, and brings the
// backup back into an empty database: it is rehearsed first, nobody is made a second time, and
// nobody is taken away by what the records remember.
func TestABackupIsBroughtBackWithoutHarm(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(8)+worldtest.TeamsLDIF, worldtest.Options{Database: true})
	w.Activate(worldtest.WithGroups())
	w.Group("Watch", worldtest.Crew(0), worldtest.Crew(1))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	folder := t.TempDir()
	plain, sealed := filepath.Join(folder, "monday.backup"), filepath.Join(folder, "monday.age")
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	key := filepath.Join(folder, "key")
	require.NoError(t, os.WriteFile(key, []byte("# of the safe\n"+identity.String()+"\n"), 0o600))
	kambrel := func(args ...string) (string, int) {
		out, stderr, status := worldtest.Kambrel(t, args...)
		return out + stderr, status
	}
	said, status := kambrel("backup", plain, "--database", w.DSN)
	require.Zero(t, status, said)
	assert.Contains(t, said, "9 links")
	said, status = kambrel("backup", plain, "--database", w.DSN)
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "is there already")
	said, status = kambrel("backup", sealed, "--database", w.DSN, "--encrypt-to", identity.Recipient().String())
	require.Zero(t, status, said)
	info, err := os.Stat(plain)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	// What happens after it.
	w.Person("Newcomer One", nil)
	w.Set(worldtest.Crew(3), "title", "Mate")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(worldtest.Crew(7), nil)))
	w.Member("cn=Watch,"+worldtest.Teams, true, worldtest.Crew(2))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	w.ByHand("crew00004@brisling.example", "title", "Stowaway")
	require.NoError(t, w.Service.Stop())
	w.Person("Newcomer Two", nil)
	before := worldtest.Users(t, w.Address(), "")
	require.Len(t, before, 9)

	// What is refused.
	fresh := func(name string) string {
		dsn, err := w.Postgres.Create(t.Context(), name)
		require.NoError(t, err)
		return dsn
	}
	target := fresh("brought_back")
	whole, err := os.ReadFile(plain)
	require.NoError(t, err)
	damaged := bytes.Clone(whole)
	damaged[len(damaged)/2] ^= 0xff
	for name, one := range map[string]struct {
		file []byte
		args []string
		want string
	}{
		"into records that are there": {whole, []string{"--database", w.DSN}, "into an empty one only"},
		"cut short":                   {whole[:len(whole)/2], []string{"--database", target}, "cut short"},
		"damaged":                     {damaged, []string{"--database", target}, "damaged"},
		"no backup":                   {[]byte("entries,links\n"), []string{"--database", target}, "no backup of Kambrel"},
	} {
		file := filepath.Join(t.TempDir(), "file")
		require.NoError(t, os.WriteFile(file, one.file, 0o600))
		said, status := kambrel(append([]string{"restore", file}, one.args...)...)
		assert.Equal(t, 1, status, name)
		assert.Contains(t, said, one.want, name)
	}
	said, status = kambrel("restore", sealed, "--database", target)
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "--identity")

	said, status = kambrel("restore", sealed, "--database", target, "--identity", key)
	require.Zero(t, status, said)
	assert.Contains(t, said, "kambrel resume")
	w.DSN = target
	_, err = w.Client.Session(t.Context())
	require.Error(t, err)
	w.StartService()
	w.SignIn() // sessions are not brought back

	rehearsal := worldtest.AwaitRun(t, w.Client, func(r wire.Run) bool { return r.Purpose == purpose.Rehearsal && r.State.Ended() })
	require.Equal(t, progress.InStep, rehearsal.State, "%+v", rehearsal.Failure)
	assert.Equal(t, "restore", rehearsal.By)
	assert.Equal(t, []int{1, 1, 2}, []int{rehearsal.Counts.Create, rehearsal.Counts.Update, rehearsal.Counts.Changes}, "who was made since is found by the link key: %+v", rehearsal.Counts)
	assert.GreaterOrEqual(t, rehearsal.Counts.ResourcesChanged, 4, "what has happened in the cloud since")
	assert.Equal(t, before, worldtest.Users(t, w.Address(), ""), "and nothing was written")
	_, err = w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	assert.ErrorContains(t, err, "backup of "+time.Now().UTC().Format("2006-01-02"))

	w.Says([]string{"resume"}, "It goes on.")
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	after := worldtest.Users(t, w.Address(), "")
	assert.Len(t, after, 10, "nobody is made twice, nobody is deleted")
	ids := map[any]bool{}
	for _, one := range after {
		ids[one["id"]] = true
	}
	for _, one := range before {
		assert.True(t, ids[one["id"]], "%v is who they were", one["userName"])
	}
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 9)
	assert.Equal(t, "Hand", w.User("crew00004@brisling.example")["title"])
	assert.Equal(t, []string{"crew00000", "crew00001", "crew00002"}, worldtest.Members(t, w.Address(), "Watch"))
	w.InStep(0)
}

// TestARehearsalComesBeforeWhatWasBroughtBack lets what was brought back go on only once a
// rehearsal has been seen.
func TestARehearsalComesBeforeWhatWasBroughtBack(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{Database: true})
	w.Activate(worldtest.Document())
	w.InStep(3)
	w.Says([]string{"pause", "--everything", "--reason", "the move to the new hall"})
	file := filepath.Join(t.TempDir(), "backup")
	said, stderr, status := worldtest.Kambrel(t, "backup", file, "--database", w.DSN)
	require.Zero(t, status, said+stderr)
	require.NoError(t, w.Service.Stop())
	require.NoError(t, w.Agent.Stop()) // so that nothing can be rehearsed
	target, err := w.Postgres.Create(t.Context(), "again")
	require.NoError(t, err)
	_, stderr, status = worldtest.Kambrel(t, "restore", file, "--database", target)
	require.Zero(t, status, stderr)
	w.DSN = target
	w.StartService()
	w.SignIn()
	w.Says([]string{"pause", "list"}, "a backup of", "it was paused then too, by administrator: the move to the new hall")
	_, err = w.Client.Resume(t.Context(), "everything", "")
	assert.ErrorContains(t, err, "rehears")
	failed := worldtest.AwaitRun(t, w.Client, func(r wire.Run) bool { return r.Purpose == purpose.Rehearsal && r.State.Ended() })
	assert.Equal(t, progress.Failed, failed.State)
	_, err = w.Client.Resume(t.Context(), "everything", "")
	assert.ErrorContains(t, err, "kambrel rehearse", fmt.Sprint(failed.ID))
	w.StartAgent()
	second := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	require.Equal(t, progress.InStep, second.State, "%+v", second.Failure)
	assert.Zero(t, second.Counts.Changes)
	_, err = w.Client.Resume(t.Context(), "everything", "")
	require.NoError(t, err)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	w.InStep(0)
}

// TestEverythingIsFoundAgainFromNothing has neither records nor a backup: by the link keys that
// the cloud keeps everybody is linked again, and nobody is made a second time.
func TestEverythingIsFoundAgainFromNothing(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(6)+worldtest.TeamsLDIF, worldtest.Options{Database: true})
	w.Activate(worldtest.WithGroups())
	w.Group("Watch", worldtest.Crew(0), worldtest.Crew(1))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	before := worldtest.Users(t, w.Address(), "")
	require.NoError(t, w.Service.Stop())
	var err error
	w.DSN, err = w.Postgres.Create(t.Context(), "nothing")
	require.NoError(t, err)
	w.StartService()
	w.SignIn()
	w.EnrolAnew()
	w.Activate(worldtest.WithGroups())
	w.InStep(0)
	assert.Equal(t, before, worldtest.Users(t, w.Address(), ""))
	w.Says([]string{"show", worldtest.Crew(2)}, "crew00002@brisling.example")
}
