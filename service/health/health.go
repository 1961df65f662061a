package health

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/store"
)

// Health tells how things stand. Its methods may be called from many goroutines.
type Health struct {
	store *store.Store
	cloud *cloud.Client
	jobs  *jobs.Jobs
}

// New makes one.
func New(s *store.Store, c *cloud.Client, w *jobs.Jobs) *Health {
	return &Health{store: s, cloud: c, jobs: w}
}

// Now gathers the state of everything.
func (e *Health) Now(ctx context.Context) (wire.Health, error) {
	h := wire.Health{State: "well", Findings: []wire.ProblemDetail{}, Beside: []wire.Run{}, Agents: []wire.Agent{}, Directory: []wire.DirectoryState{}, Cloud: wire.CloudState{URL: e.cloud.URL()}}
	if err := e.healthRuns(ctx, &h); err != nil {
		return h, err
	}
	var err error
	if h.Objects, err = e.store.ObjectCounts(ctx); err != nil {
		return h, err
	}
	if h.ByProblem, err = e.store.ProblemCounts(ctx); err != nil {
		return h, err
	}
	for _, c := range h.ByProblem {
		h.Problems += c.Count
	}
	state, err := e.store.CloudState(ctx, entry.User)
	if err != nil {
		return h, err
	}
	if !state.Read.IsZero() {
		h.Cloud.LastRead = &state.Read
	}
	if err := e.healthDirectories(ctx, &h); err != nil {
		return h, err
	}
	e.judgeHealth(&h)
	return h, nil
}

// mostBeside is how many runs are named that go on beside the one that writes.
const mostBeside = 10

func (e *Health) healthRuns(ctx context.Context, h *wire.Health) error {
	last, found, err := e.store.LastRun(ctx)
	if err != nil {
		return err
	}
	if found {
		view := last.View()
		h.LastRun = &view
	}
	current, found, err := e.store.OpenRun(ctx)
	if err != nil {
		return err
	}
	if found {
		view := current.View()
		h.Current = &view
	}
	beside, err := e.store.OpenBeside(ctx, mostBeside)
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
	people, err := e.store.PeopleCounts(ctx)
	if err != nil {
		return err
	}
	for _, count := range people {
		h.Objects.Entries += count
	}
	agents, err := e.store.Agents(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, agent := range agents {
		h.Agents = append(h.Agents, agent.View(now))
	}
	revision, ok, err := e.store.ActiveSettings(ctx)
	if err != nil || !ok {
		return err
	}
	h.Revision = revision.Revision
	for _, directory := range revision.Document.Directories {
		view := wire.DirectoryState{Name: directory.Name, Dialect: string(directory.Dialect), Base: directory.Base, Entries: people[directory.Name]}
		state, err := e.store.DirectoryStateOf(ctx, directory.Name)
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

// judgeHealth names what needs attention, the worst first.
func (e *Health) judgeHealth(h *wire.Health) {
	broken := func(code problem.Code, detail string) {
		h.State = "broken"
		h.Findings = append(h.Findings, wire.DetailOf(code, detail))
	}
	attention := func(code problem.Code, detail string) {
		if h.State == "well" {
			h.State = "attention"
		}
		h.Findings = append(h.Findings, wire.DetailOf(code, detail))
	}
	if h.Revision == 0 {
		attention(problem.NoSettings, "nothing is synced yet")
	}
	for _, directory := range h.Directory {
		if directory.Agents == 0 {
			broken(problem.AgentOffline, "no agent online serves "+directory.Name)
		}
	}
	for _, agent := range h.Agents {
		if len(agent.Asks) > 0 {
			attention(problem.DirectoryNotGranted, fmt.Sprintf("agent %s asks for %s", agent.Name, strings.Join(agent.Asks, ", ")))
		}
		if len(agent.Plain) > 0 {
			attention(problem.PlainLDAP, fmt.Sprintf("agent %s reaches %s so", agent.Name, strings.Join(agent.Plain, ", ")))
		}
	}
	if h.LastRun != nil && h.LastRun.Failure != nil {
		broken(problem.Code(h.LastRun.Failure.Code), fmt.Sprintf("run %d: %s", h.LastRun.ID, h.LastRun.Failure.Detail))
	}
	if h.LastRun != nil && h.LastRun.Counts.Held > 0 {
		detail := fmt.Sprintf("run %d holds %d", h.LastRun.ID, h.LastRun.Counts.Held)
		if n := h.LastRun.Counts.Hanging; n > 0 {
			detail += fmt.Sprintf(", and with them %d memberships and references to them", n)
		}
		attention(problem.RemovalsHeld, detail)
	}
	for _, c := range h.ByProblem {
		attention(problem.Code(c.Code), fmt.Sprintf("%d open", c.Count))
	}
	switch {
	case len(h.Findings) > 0:
		h.Summary = h.Findings[0].Title
		if more := len(h.Findings) - 1; more > 0 {
			h.Summary += fmt.Sprintf(", and %d more", more)
		}
	case h.LastRun == nil:
		h.Summary = "Ready for the first run"
	default:
		h.Summary = "Everything is in step"
	}
}
