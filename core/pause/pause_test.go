package pause

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatIsStopped(t *testing.T) {
	t.Parallel()
	for of, want := range map[Of]string{ // what a pause stops: runs, the cloud, all directories, hq, its reading, and lab
		Everything: "rcDwW", Cloud: "c", Directories: "DwW", Directory: "wR",
	} {
		all := All{{Of: of, Directory: map[bool]string{true: "hq"}[of == Directory]}}
		stopped := ""
		note := func(letter string, _ Pause, is bool) {
			if is {
				stopped += letter
			}
		}
		one := func(letter string) func(Pause, bool) { return func(p Pause, is bool) { note(letter, p, is) } }
		one("r")(all.Runs())
		one("c")(all.ToCloud())
		one("D")(all.ToDirectories())
		one("w")(all.ToDirectory("hq"))
		one("W")(all.ToDirectory("lab"))
		one("R")(all.OfDirectory("hq"))
		one("?")(all.OfDirectory("lab"))
		assert.Equal(t, want, stopped, "%s", of)
	}
	_, is := All{}.ToCloud()
	assert.False(t, is)
}

func TestPauseInWords(t *testing.T) {
	t.Parallel()
	since := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	until := since.Add(2 * time.Hour)
	p := Pause{Of: Directory, Directory: "hq", By: "ingrid", Reason: "the forest is upgraded", Since: since, Until: &until}
	assert.Equal(t, "directory hq is paused, by ingrid since 2026-11-30 08:00 UTC, until 2026-11-30 10:00 UTC: the forest is upgraded", p.Text())
	assert.Equal(t, "nothing is written to the cloud, by ingrid since 2026-11-30 08:00 UTC: x", Pause{Of: Cloud, By: "ingrid", Reason: "x", Since: since}.Text())
	assert.Equal(t, "everything is paused, by ingrid since 2026-11-30 08:00 UTC: x", Pause{Of: Everything, By: "ingrid", Reason: "x", Since: since}.Problem().Detail)
	assert.Equal(t, []string{"hq"}, p.Problem().Facts.Names)
}
