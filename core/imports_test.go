package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const module = "kambrel.example/kambrel/"

// policy says which rooms a room may not know; "" is every room of the project
// outside core.
var policy = map[string][]string{
	"core":      {"", "os", "net", "net/http", "database/sql", "log/slog", "math/rand", "math/rand/v2"},
	"scim":      {""},
	"directory": {"store", "engine", "api", "cloud", "wire", "agent", "cli", "client"},
	"cloud":     {"store", "engine", "api", "directory", "wire", "agent", "cli", "client"},
	"store":     {"engine", "api", "directory", "cloud", "agent", "cli", "client", "scim", "net/http"},
	"engine":    {"api", "agent", "cli", "client", "directory"},
	"agent":     {"store", "engine", "api", "core/scope", "core/match", "core/rules", "core/plan"},
	"api":       {"directory", "cloud", "agent", "cli", "client", "database/sql"},
	"client":    {"store", "engine", "api", "directory", "cloud", "agent", "cli"},
	"standin":   {"core", "directory", "cloud", "store", "engine", "agent", "api", "client", "cli", "wire"},
	"lab":       {"core", "directory", "cloud", "store", "engine", "agent", "api", "client", "cli", "wire", "standin"},
}

// TestRoomsKnowOnlyWhatTheyMay reads the imports of every file that is no test.
// Do not loosen the policy to make it pass: move the code.
func TestRoomsKnowOnlyWhatTheyMay(t *testing.T) {
	t.Parallel()
	files := 0
	for room, forbidden := range policy {
		err := filepath.WalkDir(filepath.Join("..", room), func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files++
			parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, imported := range parsed.Imports {
				name, err := strconv.Unquote(imported.Path.Value)
				require.NoError(t, err)
				ours, isOurs := strings.CutPrefix(name, module)
				for _, no := range forbidden {
					outside := no == "" && isOurs && !strings.HasPrefix(ours, "core/") && ours != room
					if outside || no != "" && (name == no || isOurs && (ours == no || strings.HasPrefix(ours, no+"/"))) {
						t.Errorf("%s imports %s, which %s must not know", path, name, room)
					}
				}
			}
			return nil
		})
		require.NoError(t, err)
	}
	require.Greater(t, files, 60)
}
