package health

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/problems"
	"kambrel.example/kambrel/service/store"
)

// Health tells how things stand. Its methods may be called from many goroutines.
type Health struct {
	store    *store.Store
	cloud    *cloud.Client
	jobs     *jobs.Jobs
	problems *problems.Problems
}

// New makes one.
func New(s *store.Store, c *cloud.Client, w *jobs.Jobs, p *problems.Problems) *Health {
	return &Health{store: s, cloud: c, jobs: w, problems: p}
}

// Now gathers the state of everything, and says what needs attention.
func (e *Health) Now(ctx context.Context) (wire.Health, error) {
	h, err := e.gather(ctx)
	if err != nil {
		return h, err
	}
	return h, e.judge(ctx, &h)
}

// Watch keeps how things stand as problems that open and close by themselves.
func (e *Health) Watch(ctx context.Context) error {
	h, err := e.gather(ctx)
	if err != nil {
		return err
	}
	return e.store.Problems.Watched(ctx, standing(h))
}

func (e *Health) gather(ctx context.Context) (wire.Health, error) {
	h := wire.Health{State: "well", Attention: []wire.Attention{}, Beside: []wire.Run{}, Agents: []wire.Agent{}, Directory: []wire.DirectoryState{}, Cloud: wire.CloudState{URL: e.cloud.URL()}}
	if err := e.healthRuns(ctx, &h); err != nil {
		return h, err
	}
	var err error
	if h.Objects, err = e.store.Search.Count(ctx); err != nil {
		return h, err
	}
	if h.ByProblem, err = e.problems.Counts(ctx); err != nil {
		return h, err
	}
	for _, c := range h.ByProblem {
		h.Problems += c.Count
	}
	state, err := e.store.Resources.State(ctx, entry.User)
	if err != nil {
		return h, err
	}
	if !state.Read.IsZero() {
		h.Cloud.LastRead = &state.Read
	}
	return h, e.healthDirectories(ctx, &h)
}

// mostBeside is how many runs are named that go on beside the one that writes.
const mostBeside = 10

func (e *Health) healthRuns(ctx context.Context, h *wire.Health) error {
	last, found, err := e.store.Runs.Last(ctx)
	if err != nil {
		return err
	}
	if found {
		view := last.View()
		h.LastRun = &view
	}
	current, found, err := e.store.Runs.Open(ctx)
	if err != nil {
		return err
	}
	if found {
		view := current.View()
		h.Current = &view
	}
	beside, err := e.store.Runs.OpenBeside(ctx, mostBeside)
	if err != nil {
		return err
	}
	for _, run := range beside {
		h.Beside = append(h.Beside, run.View())
	}
	h.NextRun, err = e.jobs.NextRun(ctx)
	return err
}

func (e *Health) healthDirectories(ctx context.Context, h *wire.Health) error {
	people, err := e.store.Entries.CountPeople(ctx)
	if err != nil {
		return err
	}
	for _, count := range people {
		h.Objects.Entries += count
	}
	agents, err := e.store.Agents.List(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, agent := range agents {
		h.Agents = append(h.Agents, agent.View(now))
	}
	revision, ok, err := e.store.Settings.Active(ctx)
	if err != nil || !ok {
		return err
	}
	h.Revision = revision.Revision
	for _, directory := range revision.Document.Directories {
		view := wire.DirectoryState{Name: directory.Name, Dialect: string(directory.Dialect), Base: directory.Base, Entries: people[directory.Name]}
		state, err := e.store.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return err
		}
		if !state.Read.IsZero() {
			view.LastRead = &state.Read
		}
		for _, agent := range h.Agents {
			if agent.State == "online" && slices.Contains(agent.Directories, directory.Name) {
				view.Agents++
			}
		}
		h.Directory = append(h.Directory, view)
	}
	return nil
}
