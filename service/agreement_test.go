package service

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// worldsByDefault is how many worlds are made.
var worldsByDefault = 200

// TestEveryWayComesToTheSameDecision makes random directories, settings, clouds
// and histories, and asks of every entry what would become of it in every way that
// there is: why, a rehearsal, a forecast, a trial, a preview, and then a run. All
// of them must say the same. KAMBREL_WORLDS says how many; a world that fails is
// made again by KAMBREL_WORLD.
func TestEveryWayComesToTheSameDecision(t *testing.T) {
	t.Parallel()
	worlds := worldsByDefault
	if text := os.Getenv("KAMBREL_WORLDS"); text != "" {
		worlds, _ = strconv.Atoi(text)
	}
	seeds := make(chan uint64, worlds)
	for i := range worlds {
		seeds <- uint64(i + 1)
	}
	if text := os.Getenv("KAMBREL_WORLD"); text != "" {
		seed, err := strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
		seeds = make(chan uint64, 1)
		seeds <- seed
	}
	close(seeds)
	server, err := serverstest.New(t).StartPostgres(t.Context(), 0, true)
	require.NoError(t, err)
	compared, operations := 0, map[string]int{}
	var mu sync.Mutex // guards both
	t.Run("worlds", func(t *testing.T) {
		for worker := range 3 {
			t.Run(fmt.Sprint(worker), func(t *testing.T) {
				t.Parallel()
				dsn, err := server.Create(t.Context(), fmt.Sprintf("kambrel%d", worker))
				require.NoError(t, err)
				place := newPlace(t, dsn)
				for seed := range seeds {
					w := place.world(seed)
					w.live()
					mu.Lock()
					compared += w.compared
					for operation, n := range w.operations {
						operations[operation] += n
					}
					mu.Unlock()
				}
			})
		}
	})
	t.Logf("%d decisions compared: %v", compared, operations)
	for _, operation := range []string{"create", "adopt", "update", "suspend", "restore", "delete", "unlink", string(problem.DuplicateLogin), string(problem.NearMiss), string(problem.LoginSuffix)} {
		if worlds >= 200 && operations[operation] == 0 && os.Getenv("KAMBREL_WORLD") == "" {
			t.Errorf("no world came to %q, so nothing is known about it", operation)
		}
	}
}

// verdict is what one way says about an entry, in a form that can be compared.
type verdict struct{ Operation, Problem, Resource, Diffs string }

func diffsText(diffs []change.Diff) string {
	var texts []string
	for _, d := range diffs {
		texts = append(texts, fmt.Sprintf("%s: %v -> %v +%v -%v", d.Target, d.Before, d.After, d.Added, d.Removed))
	}
	slices.Sort(texts)
	return strings.Join(texts, "\n")
}

// verdicts reads from the changes of a run what was planned first for each entry.
func (w *world) verdicts(run int64) map[string]verdict {
	var all []store.Change
	for _, state := range []string{"", "superseded"} {
		changes, _, err := w.Store.Changes.List(w.t.Context(), store.ChangeQuery{Run: run, State: state, Limit: 1000})
		require.NoError(w.t, err)
		all = append(all, changes...)
	}
	slices.SortFunc(all, func(a, b store.Change) int { return int(a.ID - b.ID) })
	out, diffs := map[string]verdict{}, map[string][]change.Diff{}
	for _, c := range all {
		v := out[c.EntryID]
		switch {
		case c.State == "noted" || c.State == "tie", len(c.Diffs) > 0 && strings.HasPrefix(c.Diffs[0].Source, "reference "):
			continue
		case c.Operation == "none" && v.Problem == "" && v.Operation == "":
			v.Problem = c.Code
		case c.Operation != "none" && (v.Operation == "" || v.Operation == "update" && c.Operation == "update"):
			v.Operation, v.Resource = c.Operation, c.ResourceID
			diffs[c.EntryID] = append(diffs[c.EntryID], c.Diffs...)
		}
		if v.Operation == "create" {
			v.Resource = ""
		}
		v.Diffs = diffsText(diffs[c.EntryID])
		out[c.EntryID] = v
	}
	return out
}

// compare asks every way about every entry.
func (w *world) compare() {
	ctx := w.t.Context()
	// The forecast reads everything, and so does the run at the end: in between, all
	// know the same.
	told := w.run(store.Run{Purpose: purpose.Forecast, By: "test"})
	forecast := w.verdicts(told.ID)
	rehearsal := w.verdicts(w.run(store.Run{Purpose: purpose.Rehearsal, By: "test"}).ID)
	dirty, _, err := w.Store.Dirty.Refs(ctx, nil, 1000)
	require.NoError(w.t, err)
	why, whole := map[string]verdict{}, map[string]wire.Object{}
	var names []string
	require.NoError(w.t, w.Store.Entries.Each(ctx, []string{"halvard", "brisling"}, entry.Kinds, 1000, func(batch []*entry.Entry) error {
		for _, e := range batch {
			object, err := w.Explain.ObjectOf(ctx, store.Hit{Type: "entry", Directory: e.Directory, EntryID: e.ID.String()})
			require.NoError(w.t, err)
			v := verdict{Operation: object.Why.Operation, Resource: object.Why.ResourceID, Diffs: diffsText(object.Why.Diffs)}
			if problem.Known(problem.Code(object.Why.Code)) {
				v.Problem = object.Why.Code
			}
			if v.Operation == "" || v.Operation == "create" {
				v.Resource = ""
			}
			why[e.ID.String()], whole[e.ID.String()] = v, object
			names = append(names, e.ID.String())
		}
		return nil
	}))
	slices.Sort(names)
	for _, name := range names {
		w.compared++
		w.operations[why[name].Operation]++
		w.operations[why[name].Problem]++
		w.equal("forecast", name, forecast[name], why[name], whole)
		if slices.ContainsFunc(dirty, func(r entry.Ref) bool { return r.ID.String() == name }) {
			w.equal("rehearsal", name, rehearsal[name], why[name], whole)
		}
	}
	if len(names) > 0 {
		name := names[w.random.IntN(len(names))]
		trial, err := w.Explain.Trial(ctx, "test", wire.NewTrial{Text: name})
		require.NoError(w.t, err)
		w.equal("trial", name, w.verdicts(w.wait(trial.RunID).ID)[name], why[name], whole)
		if w.may(50) && w.preview(names[w.random.IntN(len(names))], whole) {
			return // a decision changes what the others come to
		}
	}
	expected := w.members(told.ID)
	ran := w.run(store.Run{Purpose: purpose.Full, By: "test"})
	run := w.verdicts(ran.ID)
	for _, name := range names {
		w.equal("run", name, run[name], why[name], whole)
	}
	if members := w.members(ran.ID); !maps.Equal(members, expected) {
		w.t.Errorf("world %d, members: the run came to %v, the forecast to %v", w.seed, members, expected)
	}
}

// members counts by group how many a run adds and removes.
func (w *world) members(run int64) map[string]int {
	changes, _, err := w.Store.Changes.List(w.t.Context(), store.ChangeQuery{Run: run, Limit: 1000})
	require.NoError(w.t, err)
	out := map[string]int{}
	for _, c := range changes {
		for _, d := range c.Diffs {
			if d.Target == rules.Members {
				out[c.EntryID+" +"] += len(d.Added)
				out[c.EntryID+" -"] += len(d.Removed)
			}
		}
	}
	return out
}

// preview previews a decision, takes it, and compares with what the run does.
func (w *world) preview(name string, whole map[string]wire.Object) bool {
	ctx, object := w.t.Context(), whole[name]
	in := wire.NewDecision{Entry: name, Action: "forget"}
	free := w.free()
	switch {
	case object.Link != nil && len(free) > 0 && w.may(50):
		in.Action, in.Resource = "merge", free[0]
	case object.Link != nil:
		in.Action = "hold"
	case len(free) > 0 && w.may(50):
		in.Action, in.Resource = "link", free[0]
	case w.may(50):
		in.Action = "create"
	}
	told, err := w.Acts.Decide(ctx, "test", in)
	if err != nil { // refused, as of whoever follows another entry
		require.NotEmpty(w.t, problem.CodeOf(err), "world %d: %v", w.seed, err)
		return false
	}
	in.Do = true
	taken, err := w.Acts.Decide(ctx, "test", in)
	require.NoError(w.t, err)
	run := w.wait(taken.RunID)
	changes, _, err := w.Store.Changes.List(ctx, store.ChangeQuery{Run: run.ID, Limit: 1000})
	require.NoError(w.t, err)
	operation, code := "", ""
	for _, c := range changes {
		tie := len(c.Diffs) > 0 && strings.HasPrefix(c.Diffs[0].Source, "reference ")
		if c.EntryID != name || tie || c.Operation == "none" && operation != "" {
			continue
		}
		switch {
		case c.Operation == "none":
			code = c.Code
		case operation == "" || in.Action == "merge" && operation == "delete":
			operation = c.Operation
		}
	}
	w.operations[operation]++
	if operation == "delete" && run.Counts.Held > 0 { // the guard lets nobody be merged for now
		return true
	}
	w.equal("preview of "+in.Action, name, verdict{Operation: operation, Problem: code}, verdict{Operation: told.Operation, Problem: told.Code}, whole)
	return true
}

// free are resources of people that nobody owns.
func (w *world) free() []string {
	list, _, err := w.Store.Search.Find(w.t.Context(), store.FindQuery{State: "cloud-only", Kind: "user", Limit: 10})
	require.NoError(w.t, err)
	var ids []string
	for _, hit := range list {
		ids = append(ids, hit.ResourceID)
	}
	slices.Sort(ids)
	return ids
}

func (w *world) equal(way, name string, got, want verdict, whole map[string]wire.Object) {
	if got == want {
		return
	}
	if os.Getenv("KAMBREL_WORLD") != "" {
		rows, _ := w.database.Query(w.t.Context(), `SELECT concat_ws(' ', id, run_id, state, rank, operation, code, dn, resource_id, name, diffs, answer) FROM changes WHERE run_id >= (SELECT max(run_id) - 5 FROM changes) ORDER BY id`)
		for rows.Next() {
			var line string
			_ = rows.Scan(&line)
			w.t.Log(line)
		}
	}
	text, _ := json.MarshalIndent(whole[name].Why.Steps, "", " ")
	w.t.Errorf("world %d, %s of %s (%s):\n got %+v\nwant %+v\n%s", w.seed, way, name, whole[name].Entry.DN, got, want, text[:min(len(text), 300)])
}
