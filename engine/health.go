package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// onlineWithin is how long an agent counts as online after it was heard of: it
// asks for orders at least twice as often.
const onlineWithin = 60 * time.Second

// AgentView is an agent as the interface shows it.
func AgentView(a store.Agent, now time.Time) wire.Agent {
	view := wire.Agent{ID: a.ID, Name: a.Name, Host: a.Host, Version: a.Version, Directories: a.Serves(), Asks: a.Asks(), Granted: a.Granted, Plain: a.Plain, Enrolled: a.Enrolled, LastContact: a.LastContact, State: "never-seen"}
	if view.Granted == nil {
		view.Granted = []string{}
	}
	if view.Plain == nil {
		view.Plain = []string{}
	}
	if a.LastContact != nil {
		view.State = "offline"
		if now.Sub(*a.LastContact) < onlineWithin {
			view.State = "online"
		}
	}
	return view
}

// RunView is a run as the interface shows it.
func RunView(r store.Run) wire.Run {
	view := r.Run
	if view.Stages == nil {
		view.Stages = []wire.Stage{}
	}
	if r.FailureCode != "" {
		detail := wire.DetailOf(problem.Code(r.FailureCode), r.FailureDetail)
		view.Failure = &detail
	}
	return view
}

// Health gathers the state of everything.
func (e *Engine) Health(ctx context.Context) (wire.Health, error) {
	h := wire.Health{State: "well", Findings: []wire.ProblemDetail{}, Agents: []wire.Agent{}, Directory: []wire.DirectoryState{}, Cloud: wire.CloudState{URL: e.cloud.URL()}}
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

func (e *Engine) healthRuns(ctx context.Context, h *wire.Health) error {
	last, found, err := e.store.LastRun(ctx)
	if err != nil {
		return err
	}
	if found {
		view := RunView(last)
		h.LastRun = &view
	}
	current, found, err := e.store.OpenRun(ctx)
	if err != nil {
		return err
	}
	if found {
		view := RunView(current)
		h.Current = &view
	}
	h.NextRun, err = e.NextRun(ctx)
	return err
}

func (e *Engine) healthDirectories(ctx context.Context, h *wire.Health) error {
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
		h.Agents = append(h.Agents, AgentView(agent, now))
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
func (e *Engine) judgeHealth(h *wire.Health) {
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
