package sync_test

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhoIsToBeDeletedIsToldAndAskedAboutBefore takes ten groups out of scope: impact,
// run and health say when they go, the guard asks then and not again when the grace time
// is over, and asks anew when that was made shorter.
func TestWhoIsToBeDeletedIsToldAndAskedAboutBefore(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3)+worldtest.TeamsLDIF)
	for i := range 10 {
		w.Group(fmt.Sprintf("Pool %02d", i), "cn=Crew 0,"+worldtest.People)
	}
	d := worldtest.WithGroups()
	d.Guard = settings.Guard{Removals: 3, Share: 10}
	w.Activate(d)
	w.Run(wire.NewRun{})
	groups := func() int { return len(worldtest.Resources(t, w.Address(), "Groups")) }
	require.Equal(t, 10, groups())
	without := d
	without.Groups.Filter = "(!(cn=Pool*))"
	_, err := w.Client.EditDraft(t.Context(), func(draft *settings.Document) error {
		*draft = without
		return nil
	})
	require.NoError(t, err)
	out, _, _ := w.Kambrel("impact")
	assert.Contains(t, out, "delete 10 groups when their grace time is over")
	one := d
	one.Groups.Filter = "(!(cn=Pool 00))"
	_, err = w.Client.EditDraft(t.Context(), func(draft *settings.Document) error {
		*draft = one
		return nil
	})
	require.NoError(t, err)
	out, _, _ = w.Kambrel("impact")
	assert.Contains(t, out, "1 group will be deleted, from ")

	w.Activate(without)
	on := time.Now().Add(30 * 24 * time.Hour).UTC().Format(time.DateOnly)
	run := w.Run(wire.NewRun{})
	require.Equal(t, [2]int{0, 10}, [2]int{run.Counts.Changes, run.Counts.Held}, "%+v", run.Counts)
	number := strconv.FormatInt(run.ID, 10)
	w.Says([]string{"runs", "show", number, "--state", "held"}, "leave", "Pool 09")
	left, err := w.Client.Changes(t.Context(), run.ID, map[string][]string{"operation": {"leave"}})
	require.NoError(t, err)
	assert.Equal(t, 10, left.Total)
	w.Says([]string{"leavers", "list"}, "Nobody")
	out = w.Says([]string{"runs", "release", number, "--yes"})
	assert.Contains(t, out, "10 groups will be deleted, from "+on+" on", out)
	out = w.Says([]string{"leavers", "list"}, on, "out of scope", "Pool 09")
	assert.Equal(t, 10, strings.Count(out, on))
	w.Says([]string{"health"}, "10 groups will be deleted, from "+on+" on")
	assert.Equal(t, "leaving", worldtest.Reads[wire.Everything](w, "find", "Pool 04").Objects[0].State)
	w.Says([]string{"why", "Pool 04"}, "deleted on "+on)
	w.InStep(0)
	require.Equal(t, 10, groups())

	// A grace time that is made shorter is another decision, which the guard asks about.
	sooner := without
	sooner.Groups.Grace = "1ms"
	w.Activate(sooner)
	run = w.Run(wire.NewRun{Purpose: purpose.Full})
	require.Equal(t, [2]int{0, 10}, [2]int{run.Counts.Delete, run.Counts.Held}, "%+v", run.Counts)
	require.Equal(t, 10, groups())

	// Back in scope, nothing waits any more.
	w.Activate(d)
	w.InStep(0)
	w.Says([]string{"leavers", "list"}, "Nobody")

	// Let go by the shorter time, they are deleted when it is over, and nobody is asked again.
	sooner.Groups.Grace = "2s"
	w.Activate(sooner)
	run = w.Run(wire.NewRun{})
	require.Equal(t, 10, run.Counts.Held, "%+v", run.Counts)
	_, err = w.Client.Release(t.Context(), run.ID)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		run := w.Run(wire.NewRun{})
		require.Zero(t, run.Counts.Held, "%+v", run.Counts)
		return groups() == 0
	}, 30*time.Second, 100*time.Millisecond)
}
