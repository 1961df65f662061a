package checkup

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/settings"
)

// TestTheFirstDayLeadsOn goes the way from nothing: each thing that is done shows the next,
// and what is undone later shows again.
func TestTheFirstDayLeadsOn(t *testing.T) {
	t.Parallel()
	f, b := Facts{}, Beginning{}
	next := func() string {
		step, _ := Next(FirstDay(f, b, now))
		if step.Key != "" {
			assert.NotEmpty(t, step.Do, "%s: what to do", step.Key)
		}
		return step.Key
	}
	halvard := settings.Directory{Name: "halvard"}
	for _, c := range []struct {
		now string
		do  func()
	}{
		{"cloud", func() { b.Cloud = "https://cloud.halvard.example" }},
		{"directory", func() {
			b.Directories = []Connected{{Name: "halvard"}}
			b.Draft = &settings.Document{Directories: []settings.Directory{halvard}}
		}},
		{"agent", func() { b.Directories[0].Agents = 1 }},
		{"probe", func() { b.Directories[0].Probe = "bad" }},
		{"probe", func() { b.Directories[0].Probe = "doubtful" }},
		{"read", func() { b.Directories[0].Read = true }},
		{"scope", func() {
			b.Draft.Directories[0].Containers.Include = []string{"ou=Fleet,dc=halvard,dc=example"}
		}},
		{"rehearsal", func() { b.Rehearsed = 2 }},
		{"activation", func() { f = well(); b.Directories[0].Active, f.LastRun = true, nil }},
		{"run", func() { f.LastRun = &Run{ID: 3, Failed: "The cloud cannot be reached"} }},
		{"run", func() { f.LastRun.Failed, b.Rehearsed = "", 0 }},
		{"expectations", func() { b.Draft.Expect = []settings.Expectation{{}} }},
		{"", func() { b.Refuses = "it does not answer" }},
		{"cloud", func() { b.Refuses, f.Backup = "", nil }},
		{"backup", func() {
			b.Directories = append(b.Directories, Connected{Name: "brisling"})
			b.Draft.Directories = append(b.Draft.Directories, settings.Directory{Name: "brisling"})
		}},
	} {
		assert.Equal(t, c.now, next())
		c.do()
	}
	step, _ := Next(FirstDay(f, b, now))
	assert.Equal(t, "brisling", step.Directory, "one directory more begins at its agent")
	assert.Equal(t, "agent", step.Key)
}
