package house_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
)

// unprovoked are codes that no test makes happen through the real interfaces, with why not.
var unprovoked = map[problem.Code]string{
	problem.DatabaseRefused:     "what PostgreSQL cannot take is taken out of an answer before (value-unusable); this is the net below",
	problem.CloudFailing:        "a service that fails is asked again for half a minute; cloud/answers_test.go has it by the client",
	problem.DigestsLate:         "digests are late after an hour; service/passwords tells it from the times alone",
	problem.NotAllowed:          "every route is asked by every role in lab/e2e/security, which looks at the status",
	problem.CreationUnconfirmed: "a creation that is lost for good: the clouds of lab/e2e/sync find each again, and service/runs/creations_test.go has the doubt",
	problem.CloudGroupName:      "core/cloudgroups tells which names a directory takes",
	problem.CloudGroupClass:     "core/cloudgroups decides it from the settings and the entry alone",
	problem.CloudGroupRefused:   "the directory's answer, in words, in lab/e2e/cloudgroups",
	problem.RightMissing:        "the survey's test meets it as the directory's answer, in words",
}

// TestEveryProblemIsMadeToHappen finds for each code of the catalogue a test that meets it, by
// its name, its code or its title.
func TestEveryProblemIsMadeToHappen(t *testing.T) {
	t.Parallel()
	const root = "../.."
	text, err := os.ReadFile(root + "/core/problem/catalogue.go")
	require.NoError(t, err)
	names := map[string]string{}
	for _, found := range regexp.MustCompile(`(?m)^\s+(\w+)\s+Code = "([a-z-]+)"$`).FindAllStringSubmatch(string(text), -1) {
		names[found[2]] = found[1]
	}
	var tests strings.Builder
	for _, room := range []string{"lab/e2e", "service", "cloud", "agent", "directory"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, room), func(path string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			tests.Write(text)
			return err
		}))
	}
	all := tests.String()
	for _, kind := range problem.Catalogue() {
		require.NotEmpty(t, names[string(kind.Code)], kind.Code)
		met := regexp.MustCompile(`problem\.`+names[string(kind.Code)]+`\b`).MatchString(all) || strings.Contains(all, string(kind.Code)) || strings.Contains(all, kind.Title)
		_, known := unprovoked[kind.Code]
		assert.NotEqual(t, known, met, "%s: no test makes it happen, or it stands among those that none does", kind.Code)
	}
}
