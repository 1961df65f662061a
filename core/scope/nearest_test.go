package scope

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

const base = "DC=halvard,DC=example"

// TestTheNearestMarkDecides compares random trees of marks with what a person
// would do by hand: go up from the entry, and obey the first mark that is met.
func TestTheNearestMarkDecides(t *testing.T) {
	t.Parallel()
	// Names that begin alike, hold commas, and differ in case only.
	names := []string{"Fleet", "Fleetwood", `Deck\, Engine`, "Galley", "galley 2"}
	for seed := range uint64(400) {
		random := rand.New(rand.NewPCG(seed, 3))
		// A container is the list of its names, from the root down.
		var containers [][]string
		container := func(deepest int) []string {
			path := []string{}
			for range 1 + random.IntN(deepest) {
				path = append(path, names[random.IntN(len(names))])
			}
			return path
		}
		dn := func(path []string) string {
			parts := []string{base}
			for _, name := range path {
				parts = append(parts, "OU="+name)
			}
			slices.Reverse(parts)
			return strings.Join(parts, ",")
		}
		directory := settings.Directory{Name: "halvard", Base: base}
		marks := map[string]bool{}
		for range 1 + random.IntN(6) {
			path := container(3)
			if _, twice := marks[dn(path)]; twice {
				continue
			}
			in := random.IntN(2) == 0
			marks[dn(path)] = in
			containers = append(containers, path)
			if in {
				directory.Containers.Include = append(directory.Containers.Include, strings.ToUpper(dn(path)))
			} else {
				directory.Containers.Exclude = append(directory.Containers.Exclude, dn(path))
			}
		}
		byHand := func(path []string) Code {
			for up := len(path); up > 0; up-- {
				if in, marked := marks[dn(path[:up])]; marked {
					return map[bool]Code{true: Included, false: Excluded}[in]
				}
			}
			return NoMark
		}
		s, err := Compile(settings.Document{Directories: []settings.Directory{directory}})
		require.NoError(t, err)
		for range 30 {
			path := container(4)
			if random.IntN(2) == 0 { // below a mark
				path = append(slices.Clone(containers[random.IntN(len(containers))]), path...)
			}
			e := entry.Entry{Directory: "halvard", Kind: entry.User, DN: "CN=Ada," + dn(path), Attributes: entry.Attributes{"cn": {"Ada"}}}
			verdict := s.Decide(e)
			require.Equal(t, byHand(path), verdict.Code, "seed %d: %s with include %q and exclude %q", seed, e.DN, directory.Containers.Include, directory.Containers.Exclude)
			explained := s.Explain(e)
			assert.Equal(t, verdict.Code, explained.Code, "why says what the run does")
			assert.Equal(t, verdict.Summary, explained.Summary)
		}
	}
}
