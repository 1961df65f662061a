package setup_test

import (
	"net/http"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestAShadowPlansWhatItWouldDoAndWritesNothing runs a shadow on a copy of the records: by
// the same settings both would do the same, by others the comparison names for whom they
// would not; and whatever is asked of the shadow, the cloud hears nothing of it.
func TestAShadowPlansWhatItWouldDoAndWritesNothing(t *testing.T) {
	t.Parallel()
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(20), worldtest.Options{Between: between})
	d := worldtest.Document()
	w.Activate(d)
	w.InStep(20)
	w.Set(worldtest.Crew(3), "title", "Mate")
	w.Person("Ada Brekke", map[string]string{"title": "Pilot"})

	at := w.Shadow()
	w.AgentKnows(w.URL, at)
	shadow := client.New(at, w.Client.Token())
	var writes atomic.Int64
	between.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodGet {
			writes.Add(1)
		}
		return false
	})
	on := func(arguments ...string) (string, string, int) {
		return worldtest.Kambrel(t, append(arguments, "--service", at, "--token", w.Client.Token())...)
	}
	w.Says([]string{"compare", "--with", at}, "Both would do the same: 21 objects looked at here, 21 there; 2 objects to do.")

	// The settings to come are tried on the shadow.
	for i := range d.Users.Rules {
		if d.Users.Rules[i].Target == "title" {
			d.Users.Rules[i].From, d.Users.Rules[i].Formula = "", `entry.title.upperAscii()`
		}
	}
	text, err := d.YAML()
	require.NoError(t, err)
	_, err = shadow.Activate(t.Context(), wire.ActivateSettings{YAML: string(text)})
	require.NoError(t, err)
	out, stderr, status := w.Kambrel("compare", "--with", at)
	assert.Equal(t, 2, status, stderr)
	assert.Contains(t, out, "21 objects would be done otherwise; for 0 both would do the same.")
	assert.Contains(t, out, "  here: update\n    title: \"Hand\" -> \"Mate\"")
	assert.Contains(t, out, "  there: update\n    title: \"Hand\" -> \"MATE\"")
	assert.Contains(t, out, "  here: nothing\n  there: update\n    title: \"Hand\" -> \"HAND\"")

	// Nothing that writes begins on it, and nobody ends that as long as it is a shadow.
	for _, arguments := range [][]string{{"sync"}, {"resume", "--everything"}, {"pause", "--everything", "--reason", "a while", "--for", "1m"}, {"trial", "cn=Ada Brekke," + worldtest.People, "--write"}} {
		out, stderr, status := on(arguments...)
		assert.Equal(t, 1, status, "%v: %s", arguments, out)
		assert.Contains(t, stderr, "shadow", "%v", arguments)
	}
	out, _, _ = on("health")
	assert.Contains(t, out, "started as a shadow")
	assert.Zero(t, writes.Load(), "what the cloud was asked to change")

	run := w.Run(wire.NewRun{Purpose: purpose.Sync})
	assert.Equal(t, progress.InStep, run.State)
	assert.Equal(t, "Mate", w.User("crew00003@brisling.example")["title"], "the service in earnest goes on")
}
