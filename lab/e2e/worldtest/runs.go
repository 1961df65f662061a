package worldtest

import (
	"context"
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// Run starts a run and waits for its end.
func (w *World) Run(request wire.NewRun) wire.Run {
	w.T.Helper()
	if request.Purpose == "" {
		request.Purpose = purpose.Sync
	}
	started, err := w.Client.StartRun(w.T.Context(), request)
	require.NoError(w.T, err)
	return w.Wait(started.ID)
}

func (w *World) Wait(id int64) wire.Run {
	w.T.Helper()
	ctx, cancel := context.WithTimeout(w.T.Context(), 2*time.Minute)
	defer cancel()
	run, err := w.Client.Wait(ctx, id, nil)
	require.NoError(w.T, err)
	return run
}

// InStep runs and asks for exactly so many changes and no problem.
func (w *World) InStep(changes int) wire.Run {
	w.T.Helper()
	run := w.Run(wire.NewRun{})
	require.Equal(w.T, progress.InStep, run.State, "%+v", run)
	require.Equal(w.T, changes, run.Counts.Changes, "%+v", run.Counts)
	require.Equal(w.T, changes, run.Counts.Done)
	return run
}

// Logs is all that service and agent have written.
func (w *World) Logs() string {
	w.T.Helper()
	var all strings.Builder
	for _, name := range []string{"service", "agent", "postgresql"} {
		text, err := os.ReadFile(filepath.Join(w.Lab.Dir, name+".log"))
		require.NoError(w.T, err)
		all.Write(text)
	}
	return all.String()
}

// Dump is the whole database as text.
func (w *World) Dump() string {
	w.T.Helper()
	out, err := exec.Command("pg_dump", "--inserts", w.DSN).Output()
	require.NoError(w.T, err)
	return string(out)
}

// AwaitRun waits until a run that keep chooses has ended.
func AwaitRun(t *testing.T, c *client.Client, keep func(wire.Run) bool) wire.Run {
	t.Helper()
	deadline := time.Now().Add(time.Minute)
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for time.Now().Before(deadline) {
		page, err := c.Runs(t.Context(), nil)
		require.NoError(t, err)
		for _, run := range page.Items {
			if run.State.Ended() && keep(run) {
				return run
			}
		}
		<-tick.C
	}
	t.Fatal("no such run within a minute")
	return wire.Run{}
}

// AwaitMoment follows a run until it has got somewhere; false when it has ended.
func (w *World) AwaitMoment(id int64, reached func(wire.Run) bool) bool {
	w.T.Helper()
	deadline := time.Now().Add(time.Minute)
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for time.Now().Before(deadline) {
		run, err := w.Client.Run(w.T.Context(), id)
		require.NoError(w.T, err)
		if run.State.Ended() {
			return false
		}
		if reached(run) {
			return true
		}
		<-tick.C
	}
	w.T.Fatal("the moment was not reached in a minute")
	return false
}

func (w *World) Problems() map[string]string {
	w.T.Helper()
	page, err := w.Client.Problems(w.T.Context(), url.Values{"about": {"entry"}})
	require.NoError(w.T, err)
	out := map[string]string{}
	for _, p := range page.Items {
		out[p.DN] = p.Code
	}
	return out
}

func (w *World) Outcomes() map[string]int {
	w.T.Helper()
	out, stderr, status := w.Kambrel("forecast", "-o", "json")
	require.Contains(w.T, []int{0, 2}, status, stderr)
	var forecast wire.Forecast
	require.NoError(w.T, json.Unmarshal([]byte(out), &forecast), out)
	counts := map[string]int{}
	for _, o := range forecast.Outcomes {
		if o.Kind == "user" {
			counts[o.Outcome] += o.Count
		}
	}
	return counts
}

func (w *World) Why(text string) wire.Object {
	w.T.Helper()
	object, err := w.Client.Object(w.T.Context(), text)
	require.NoError(w.T, err)
	return object
}

func FindingsByCode(s wire.Survey) map[string]int {
	out := map[string]int{}
	for _, g := range s.Groups {
		out[g.Code] = g.Count
	}
	return out
}

func (w *World) LogOf(name string) string {
	text, err := os.ReadFile(filepath.Join(w.Lab.Dir, name+".log"))
	require.NoError(w.T, err)
	return string(text)
}
