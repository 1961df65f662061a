package seal_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/service/seal"
)

func TestOnlyTheKeyOpensWhatIsSealed(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "new", "seal.key")
	key := seal.KeyIn(file)
	sealed := make([][]byte, 8)
	var group errgroup.Group
	for i := range sealed { // several services on a host begin at once
		group.Go(func() (err error) {
			sealed[i], err = key.Seal("a token")
			return err
		})
	}
	require.NoError(t, group.Wait())
	for _, one := range sealed {
		assert.NotContains(t, string(one), "a token")
		text, err := key.Unseal(one)
		require.NoError(t, err)
		assert.Equal(t, secret.Text("a token"), text)
	}
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	other := seal.KeyIn(filepath.Join(t.TempDir(), "seal.key"))
	_, err = other.Unseal(sealed[0])
	assert.ErrorIs(t, err, os.ErrNotExist, "none is made to open with")
	_, err = other.Seal("x")
	require.NoError(t, err)
	_, err = other.Unseal(sealed[0])
	assert.ErrorContains(t, err, "sealed by another key")
	_, err = key.Unseal(sealed[0][:len(sealed[0])-1])
	assert.ErrorContains(t, err, "damaged")
	require.NoError(t, os.Chmod(file, 0o640))
	_, err = key.Unseal(sealed[0])
	assert.ErrorContains(t, err, "others can read it")
	_, err = seal.Key{}.Seal("x")
	assert.ErrorContains(t, err, "was given no file")
}
