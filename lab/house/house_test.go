package house_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/house"
)

// TestRoomsKnowOnlyWhatTheyMay reads the real imports, also those through others.
func TestRoomsKnowOnlyWhatTheyMay(t *testing.T) {
	t.Parallel()
	found, err := house.Load("../..")
	require.NoError(t, err)
	require.Greater(t, found.Files, 150)
	for _, fault := range house.Check(found) {
		t.Error(fault)
	}
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	assert.True(t, strings.Contains(string(text), house.Draw(found)), "the picture of the rooms is old: run 'make picture'")
}

// TestTheWayOfAnEntryIsThere looks every function up that the table of hops names.
func TestTheWayOfAnEntryIsThere(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(text), "| hop | function |")
	require.True(t, found)
	table, _, _ = strings.Cut(table, "\n\n")
	hops := regexp.MustCompile("`([a-z/]+)\\.(\\w+)`").FindAllStringSubmatch(table, -1)
	require.Greater(t, len(hops), 20)
	for _, hop := range hops {
		files, err := filepath.Glob(filepath.Join("../..", hop[1], "*.go"))
		require.NoError(t, err)
		declared := regexp.MustCompile(`(?m)^func (\([^)]*\) )?` + hop[2] + `\(`)
		assert.True(t, slices.ContainsFunc(files, func(file string) bool {
			source, err := os.ReadFile(file)
			return err == nil && declared.Match(source)
		}), "%s has no %s any more", hop[1], hop[2])
	}
}

func TestKeysOfLogLinesHaveNames(t *testing.T) {
	t.Parallel()
	loose, err := house.LooseKeys("../..")
	require.NoError(t, err)
	assert.Empty(t, loose, "name these keys in core/logkey")
	odd := filepath.Join(t.TempDir(), "odd.go")
	require.NoError(t, os.WriteFile(odd, []byte("package odd\nfunc f() { slog.Info(\"m\", key, 1, \"literal\", 2) }\n"), 0o600))
	loose, err = house.LooseKeys(filepath.Dir(odd))
	require.NoError(t, err)
	assert.Equal(t, []string{odd + ":2:12"}, loose)
}

// TestForbiddenEdgesAreFound builds each kind of fault by hand.
func TestForbiddenEdgesAreFound(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		room, direct, through, want string
	}{
		"a room above":              {"core/plan", house.Module + "service/store", "", "core/plan imports service/store"},
		"a room beside":             {"service/acts", house.Module + "service/runs", "", "service/acts imports service/runs"},
		"a database under core":     {"core/entry", "", "database/sql", "core/entry has database/sql"},
		"the network in core":       {"core/match", "net", "", "core/match imports net"},
		"settings under directory":  {"directory", "", house.Module + "core/settings", "directory has " + house.Module + "core/settings"},
		"a demo within the product": {"cmd/kambrel", "", house.Module + "lab/demo", "cmd/kambrel has " + house.Module + "lab/demo"},
		"helpers of tests":          {"service/runs", house.Module + "service/orders/orderstest", "", "orderstest, which is for tests"},
		"a room of nobody":          {"", house.Module + "core/entry", "", "without a row"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			found := house.Imports{Direct: map[string][]string{c.room: {c.direct}}, All: map[string][]string{c.room: {c.through}}}
			assert.Contains(t, strings.Join(house.Check(found), "\n"), c.want)
		})
	}
}
