package sync_test

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestARunThatWroteMuchLooksBack has somebody edit in the cloud what a long run has written
// a moment ago: the same run puts it right, and the next need not list what was written.
func TestARunThatWroteMuchLooksBack(t *testing.T) {
	t.Parallel()
	const crew = 700
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(crew), worldtest.Options{Between: between, Cloud: []string{"--page-size", "50"}})
	w.Activate(worldtest.Document())
	var mu sync.Mutex
	wrote, edited, lists := false, false, 0
	between.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		mu.Lock()
		defer mu.Unlock()
		wrote = wrote || r.Method != http.MethodGet
		if r.Method != http.MethodGet || !strings.HasSuffix(r.URL.Path, "/Users") || !strings.Contains(r.URL.Query().Get("filter"), "meta.lastModified") {
			return false
		}
		lists++
		if wrote && !edited {
			edited = true
			w.ByHand("crew00123@brisling.example", "title", "Stowaway")
		}
		return false
	})
	listed := func() int {
		mu.Lock()
		defer mu.Unlock()
		n := lists
		lists = 0
		return n
	}
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.True(t, edited)
	assert.Equal(t, []int{crew, 1, crew + 1}, []int{run.Counts.Create, run.Counts.Update, run.Counts.Done})
	assert.Equal(t, "Hand", w.User("crew00123@brisling.example")["title"])
	assert.Greater(t, listed(), crew/50, "all that was written")
	w.InStep(0)
	assert.Equal(t, 1, listed())
}

// TestMembersThatSomebodyElseChangesAreSeen adds somebody to a group by hand in the moment in
// which a run writes to it, and while its members cannot be read: both are put right.
func TestMembersThatSomebodyElseChangesAreSeen(t *testing.T) {
	t.Parallel()
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Between: between})
	w.Activate(worldtest.WithGroups())
	ada, bo := w.Person("Ada Brekke", nil), w.Person("Bo Ravn", nil)
	w.Person("Cai Dahl", nil)
	watch := w.Group("Watch", ada)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	team := worldtest.Resources(t, w.Address(), "Groups")["Watch"]["id"]
	stowaway := func() {
		worldtest.Patch(t, w.Address(), fmt.Sprint("Groups/", team), worldtest.Operation("add", "members", []any{map[string]any{"value": w.User("cai.dahl@brisling.example")["id"]}}))
	}

	w.Member(watch, true, bo)
	between.Happens(stowaway)
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, worldtest.Members(t, w.Address(), "Watch"), "whom nobody in the directory has added is out again")
	w.InStep(0)

	stowaway()
	between.Takes(func(answer http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && strings.Contains(r.URL.Path, "/Groups/") {
			answer.WriteHeader(http.StatusForbidden)
			return true
		}
		return false
	})
	run = w.Run(wire.NewRun{})
	require.Equal(t, progress.Failed, run.State, "the members cannot be read")
	between.Takes(nil)
	w.InStep(1)
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, worldtest.Members(t, w.Address(), "Watch"))
	w.InStep(0)
}

// TestALargeGroupIsWrittenOnce has a group of more members than one change takes: the changes
// after the first are no less welcome to the cloud, and its members are read once.
func TestALargeGroupIsWrittenOnce(t *testing.T) {
	t.Parallel()
	const crew = 5001
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(crew)+worldtest.TeamsLDIF, worldtest.Options{Between: between})
	w.Activate(worldtest.WithGroups())
	members := make([]string, crew)
	for i := range members {
		members[i] = worldtest.Crew(i)
	}
	w.Group("Everybody", members...)
	var reads atomic.Int32
	between.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/Groups/") && r.Method == http.MethodGet {
			reads.Add(1)
		}
		return false
	})
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	superseded, err := w.Client.Changes(t.Context(), run.ID, url.Values{"state": {"superseded"}})
	require.NoError(t, err)
	assert.Zero(t, superseded.Total, "each change is made at once")
	assert.Len(t, worldtest.Members(t, w.Address(), "Everybody"), crew)
	first := reads.Load()
	w.InStep(0)
	w.InStep(0)
	assert.LessOrEqual(t, reads.Load()-first, int32(2), "and its members are read once, since nobody asked for the version")
}
