package health

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// standing lists what is not as it should be now and is no entry's problem: how
// settings, directories, agents and the last run's removals stand.
func standing(h wire.Health) []store.NewProblem {
	list := []store.NewProblem{}
	met := func(thing about.Thing, code problem.Code, facts problem.Facts) {
		list = append(list, store.ProblemOf(thing, problem.Of(code, facts)))
	}
	if h.Revision == 0 {
		met(about.Thing{Type: about.Settings}, problem.NoSettings, problem.Facts{})
	}
	for _, p := range h.Pauses {
		if p.Of == string(pause.Directories) && slices.ContainsFunc(h.Pauses, func(other wire.Pause) bool { return other.Of == string(pause.Everything) }) {
			continue // that says it too
		}
		held := pause.Pause{Of: pause.Of(p.Of), Directory: p.Directory, By: p.By, Reason: p.Reason, Since: p.Since, Until: p.Until}
		list = append(list, store.ProblemOf(held.About(), held.Problem()))
	}
	for _, directory := range h.Directory {
		if directory.Agents == 0 {
			met(about.Thing{Type: about.Directory, Key: directory.Name}, problem.AgentOffline, problem.Facts{Names: []string{directory.Name}})
		}
	}
	for _, directory := range h.Directory {
		if directory.Missed > 0 {
			met(about.Thing{Type: about.Directory, Key: directory.Name}, problem.ChangesMissed, problem.Facts{Value: directory.Name, Count: directory.Missed})
		}
	}
	if h.SignIns.Refused >= manyRefused {
		met(about.Thing{Type: about.Service}, problem.SignInGuessed, problem.Facts{Answer: fmt.Sprintf("%d attempts were refused within an hour, of %s, from %s",
			h.SignIns.Refused, strings.Join(h.SignIns.Names, ", "), strings.Join(h.SignIns.Addresses, ", "))})
	}
	if len(h.SignIns.Emergency) > 0 {
		met(about.Thing{Type: about.Service}, problem.EmergencyUsed, problem.Facts{Answer: strings.Join(h.SignIns.Emergency, "; ")})
	}
	for thing, texts := range ending(h.Certificates) {
		met(thing, problem.CertificateEnds, problem.Facts{Answer: strings.Join(texts, "; ")})
	}
	for _, directory := range h.Passwords.Directories {
		if step, closed := closedAt(h.Passwords, directory); closed {
			met(about.Thing{Type: about.Directory, Key: directory.Name}, problem.PasswordsClosed, problem.Facts{Answer: fmt.Sprintf("%s: %s: %s", directory.Name, step.Name, step.Detail)})
		}
	}
	for _, d := range h.Passwords.Digests {
		if d.PausedBy == "" && len(h.Pauses) == 0 && d.Step.Outcome != "good" {
			met(about.Thing{Type: about.Directory, Key: d.Directory}, problem.DigestsLate, problem.Facts{Answer: d.Directory + ": " + d.Step.Detail})
		}
	}
	if at := h.Passwords.RefusedAt; at != nil && time.Since(*at) < refusedFor {
		met(about.Thing{Type: about.Cloud}, problem.EventRefused, problem.Facts{Answer: fmt.Sprintf("%s (%d so far)", h.Passwords.RefusedFor, h.Passwords.Refused)})
	}
	for _, agent := range h.Agents {
		thing := about.Thing{Type: about.Agent, Key: agent.ID}
		if len(agent.Asks) > 0 {
			met(thing, problem.DirectoryNotGranted, problem.Facts{Value: agent.Name, Names: agent.Asks, Granted: agent.Granted})
		}
		var fails []string
		for _, fault := range agent.Faults {
			// Where no other agent is well, the directory's own problem is told.
			if slices.ContainsFunc(h.Agents, func(other wire.Agent) bool { return other.State == "online" && other.WellFor(fault.Directory) }) {
				fails = append(fails, fmt.Sprintf("%s at %s: %s", agent.Name, fault.Directory, fault.Detail))
			}
		}
		if len(fails) > 0 {
			met(thing, problem.AgentAtFault, problem.Facts{Answer: strings.Join(fails, "; ")})
		}
		if u := agent.Update; u != nil && u.State == wire.UpdateFailed {
			met(thing, problem.AgentNotUpdated, problem.Facts{Answer: fmt.Sprintf("%s stays at %s and was to go on by %s: %s", agent.Name, agent.Version, u.To, u.Detail)})
		}
		if len(agent.Plain) > 0 {
			met(thing, problem.PlainLDAP, problem.Facts{Value: agent.Name, Names: agent.Plain})
		}
	}
	for _, trouble := range h.SignOn {
		met(about.Thing{Type: about.Domain, Key: trouble.Domain}, problem.Code(trouble.Code), problem.Facts{Answer: trouble.Domain + ": " + trouble.Detail})
	}
	if held := h.Expectations; held != nil && held.Failing > 0 {
		told := held.Told
		if held.Failing > 1 {
			told += fmt.Sprintf("; and %d more", held.Failing-1)
		}
		met(about.Thing{Type: about.Settings}, problem.ExpectationBroken, problem.Facts{Answer: told})
	}
	if h.NoticesStuck != "" {
		met(about.Thing{Type: about.Service}, problem.NoticesStuck, problem.Facts{Answer: h.NoticesStuck})
	}
	if h.LastRun != nil && h.LastRun.Counts.Held > 0 {
		number := strconv.FormatInt(h.LastRun.ID, 10)
		met(about.Thing{Type: about.Run, Key: number}, problem.RemovalsHeld, problem.Facts{Value: number, Count: h.LastRun.Counts.Held, Losses: h.LastRun.Counts.Losses, Hanging: h.LastRun.Counts.Hanging,
			Earlier: h.LastRun.Counts.Earlier, Since: h.LastRun.Counts.EarlierSince})
	}
	return list
}

// ending says until when certificates are valid; those of all services are one thing.
func ending(certificates []wire.Certificate) map[about.Thing][]string {
	texts := map[about.Thing][]string{}
	for _, c := range certificates {
		whose, thing := "the cloud", c.About
		switch thing.Type {
		case about.Directory:
			whose = "the server of " + thing.Key
		case about.Service:
			whose, thing.Key = "the service at "+thing.Key, ""
		}
		texts[thing] = append(texts[thing], fmt.Sprintf("that of %s is valid until %s", whose, c.Expires.UTC().Format("2006-01-02 15:04 MST")))
	}
	return texts
}

// refusedFor is how long it is told that an event was not taken.
const refusedFor = time.Hour

// closedAt is the step by which passwords reach a directory no further.
func closedAt(state wire.PasswordsState, d wire.PasswordsDirectory) (wire.PasswordStep, bool) {
	for _, step := range []wire.PasswordStep{state.Stream, state.Service} {
		if step.Outcome == "bad" {
			return step, true
		}
	}
	at := slices.IndexFunc(d.Steps, func(s wire.PasswordStep) bool { return s.Outcome == "bad" })
	if d.Outcome != "bad" || at < 0 {
		return wire.PasswordStep{}, false
	}
	return d.Steps[at], true
}

// judge says what needs attention: first what keeps anything from being synced, that
// is an agent that is away and what ended the last run, then how things stand, then
// the problems of entries by code.
func (e *Health) judge(ctx context.Context, h *wire.Health) error {
	kept, err := e.store.Problems.Standing(ctx)
	if err != nil {
		return err
	}
	var breaking, others []wire.Attention
	now := standing(*h)
	for _, one := range now {
		view := attention(one)
		asleep := false
		if at := slices.IndexFunc(kept, func(p store.Problem) bool { return p.About == one.About && p.Code == one.Code }); at >= 0 {
			view.Since, asleep = &kept[at].Since, kept[at].Asleep()
		}
		switch {
		case one.Code != problem.AgentOffline && asleep:
			continue
		case one.Code == problem.AgentOffline:
			breaking = append(breaking, view)
		default:
			others = append(others, view)
		}
	}
	ended := false
	for _, p := range kept {
		if p.MetBy != store.MetByRun || slices.ContainsFunc(now, func(one store.NewProblem) bool { return p.About == one.About && p.Code == one.Code }) {
			continue
		}
		p.Detail = fmt.Sprintf("run %d: %s", p.LastRun, p.Detail)
		view := attention(p.NewProblem)
		view.Since, ended = &p.Since, true
		if p.Code == problem.AttributeHidden { // all else goes on
			others = append(others, view)
			continue
		}
		breaking = append(breaking, view)
	}
	if failure := failureOf(h.LastRun); failure != nil && !ended && len(breaking) == 0 { // of the version before
		failure.Detail = fmt.Sprintf("run %d: %s", h.LastRun.ID, failure.Detail)
		breaking = append(breaking, wire.Attention{ProblemDetail: *failure, About: about.Thing{Type: about.Run, Key: strconv.FormatInt(h.LastRun.ID, 10)}, Count: 1, Remedies: []remedy.Remedy{}})
	}
	for _, c := range h.ByProblem {
		open := fmt.Sprintf("%d open", c.Count)
		switch {
		case c.Asleep == c.Count: // somebody has said when to look again
			continue
		case c.Asleep > 0:
			open += fmt.Sprintf(", %d asleep", c.Asleep)
		}
		others = append(others, wire.Attention{ProblemDetail: wire.DetailOf(problem.Code(c.Code), open), About: about.Thing{Type: about.Entry}, Count: c.Count, Remedies: []remedy.Remedy{}})
	}
	h.Attention = append(append(h.Attention, breaking...), others...)
	switch {
	case len(breaking) > 0:
		h.State = "broken"
	case len(others) > 0:
		h.State = "attention"
	}
	switch {
	case len(h.Attention) > 0:
		h.Summary = h.Attention[0].Title
		if h.Attention[0].Code == string(problem.Paused) && len(h.Pauses) > 0 {
			h.Summary = strings.ToUpper(h.Pauses[0].What[:1]) + h.Pauses[0].What[1:]
		}
		if more := len(h.Attention) - 1; more > 0 {
			h.Summary += fmt.Sprintf(", and %d more", more)
		}
	case h.LastRun == nil:
		h.Summary = "Ready for the first run"
	default:
		h.Summary = "Everything is in step"
	}
	return nil
}

func failureOf(run *wire.Run) *wire.ProblemDetail {
	if run == nil || run.Failure == nil || run.Failure.Code == string(problem.Cancelled) || run.Failure.Code == string(problem.Paused) {
		return nil
	}
	failure := *run.Failure
	return &failure
}

func attention(p store.NewProblem) wire.Attention {
	return wire.Attention{
		ProblemDetail: wire.DetailOf(p.Code, p.Detail), About: p.About, Count: 1,
		Remedies: append([]remedy.Remedy{}, remedy.Of(p.About, p.Code, p.Facts, remedy.Situation{})...),
	}
}
