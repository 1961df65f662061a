package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	named   = regexp.MustCompile(`'kambrel ([^'\n]+)'`)
	command = regexp.MustCompile(`^[a-z][a-z-]*$`)
	option  = regexp.MustCompile(`^--[a-z][a-z-]*`)
)

// TestEveryCommandThatTextsNameIsThere reads the commands out of what programs and pages say, and
// looks each up with its options.
func TestEveryCommandThatTextsNameIsThere(t *testing.T) {
	t.Parallel()
	root := NewRoot()
	seen := 0
	check := func(file, text string) {
		seen++
		fields := strings.Fields(text)
		at, rest := root, fields
		for len(rest) > 0 && command.MatchString(rest[0]) {
			next, _, err := at.Find(rest[:1])
			if err != nil || next == at {
				break
			}
			at, rest = next, rest[1:]
		}
		if strings.HasPrefix(text, "%s") {
			return // which command it is is put in
		}
		if !assert.False(t, at == root, "%s names 'kambrel %s', which is no command", file, text) {
			return
		}
		if len(rest) > 0 && command.MatchString(rest[0]) && at.HasSubCommands() && !at.Runnable() {
			t.Errorf("%s names 'kambrel %s': %q has no command %q", file, text, at.CommandPath(), rest[0])
		}
		for _, field := range rest {
			if name := option.FindString(field); name != "" && name != "--help" {
				name = name[2:]
				assert.True(t, at.Flags().Lookup(name) != nil || at.InheritedFlags().Lookup(name) != nil, "%s names 'kambrel %s': %q has no option --%s", file, text, at.CommandPath(), name)
			}
		}
	}
	for _, folder := range []string{"agent", "cli", "client", "cloud", "console/src", "core", "directory", "lab/demo", "protocol", "service"} {
		require.NoError(t, filepath.WalkDir(filepath.Join("..", folder), func(file string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, ".test.ts") {
				return err
			}
			if !strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, ".vue") && !strings.HasSuffix(file, ".ts") {
				return nil
			}
			text, err := os.ReadFile(file)
			for _, m := range named.FindAllStringSubmatch(string(text), -1) {
				check(file, m[1])
			}
			return err
		}))
	}
	assert.Greater(t, seen, 100)
}
