package passwords

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

const (
	// silentFor is after how long without a poll nobody holds the stream: one is open for
	// half a minute.
	silentFor = 70 * time.Second
	// unheardFor is after how long an agent is taken for away that has not asked for passwords:
	// it is noted every five seconds that it does.
	unheardFor = 15 * time.Second
	// clocksApart is from when on it is told that clocks differ.
	clocksApart = 20 * time.Second
)

// State tells how the way stands, step by step.
func (p *Passwords) State(ctx context.Context) (wire.PasswordsState, error) {
	state := wire.PasswordsState{State: "off", Directories: []wire.PasswordsDirectory{}, Digests: []wire.DigestState{}}
	stream, err := p.store.Passwords.Stream(ctx)
	if err != nil {
		return state, err
	}
	state.Refused, state.RefusedAt, state.RefusedFor = stream.Refused, stream.RefusedAt, stream.RefusedFor
	counts, err := p.store.Passwords.Count(ctx, time.Now().Add(-24*time.Hour), policyReasons())
	if err != nil {
		return state, err
	}
	state.Today = wire.PasswordCounts(counts)
	revision, ok, err := p.store.Settings.Active(ctx)
	if err != nil {
		return state, err
	}
	if ok {
		if state.Digests, err = p.digestStates(ctx, revision.Document); err != nil {
			return state, err
		}
	}
	if !ok || !revision.Document.TakesPasswords() {
		state.Summary = "No directory takes passwords from the cloud"
		off := wire.PasswordStep{Outcome: "skipped", Detail: "not needed: switch reset-passwords, change-passwords or unlock on for a directory"}
		state.Stream, state.Service = named(off, "stream"), named(off, "service")
		return state, nil
	}
	state.Stream, state.Service = streamStep(stream), serviceStep(stream)
	agents, err := p.store.Agents.List(ctx)
	if err != nil {
		return state, err
	}
	for _, directory := range revision.Document.Directories {
		if directory.TakesPasswords() {
			one, err := p.directoryState(ctx, directory, agents, stream)
			if err != nil {
				return state, err
			}
			state.Directories = append(state.Directories, one)
		}
	}
	judge(&state)
	return state, nil
}

func policyReasons() []string {
	var out []string
	for _, reason := range password.Reasons() {
		if reason.OfPolicy() {
			out = append(out, string(reason))
		}
	}
	return out
}

func named(step wire.PasswordStep, name string) wire.PasswordStep {
	step.Name = name
	return step
}

// judge says what follows from the steps.
func judge(s *wire.PasswordsState) {
	bad, doubtful := 0, 0
	var first string
	note := func(where string, step wire.PasswordStep) {
		if first == "" && (step.Outcome == "bad" || step.Outcome == "doubtful") {
			first = where + ": " + step.Detail
		}
	}
	note("stream", s.Stream)
	for _, d := range s.Directories {
		switch d.Outcome {
		case "bad":
			bad++
		case "doubtful":
			doubtful++
		}
		for _, step := range d.Steps {
			note(d.Name+", "+step.Name, step)
		}
	}
	switch {
	case s.Stream.Outcome == "bad" || bad == len(s.Directories):
		s.State, s.Summary = "closed", "Nobody's password reaches a directory: "+first
	case bad+doubtful > 0 || s.Stream.Outcome == "doubtful":
		s.State, s.Summary = "partly", first
	default:
		s.State, s.Summary = "open", "Passwords reach "+names(s.Directories)+" at once"
	}
}

func names(directories []wire.PasswordsDirectory) string {
	list := make([]string, len(directories))
	for i, d := range directories {
		list[i] = d.Name
	}
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	return strings.Join(list, "")
}

func streamStep(s store.EventStream) wire.PasswordStep {
	step := wire.PasswordStep{Name: "stream", Outcome: "good", Since: s.Opened, Detail: "open at " + s.Endpoint}
	ahead := time.Duration(s.ClockMs) * time.Millisecond
	switch {
	case s.Failing != nil:
		step.Outcome, step.Since, step.Detail = "bad", s.Failing, "not open: "+s.Failure
		step.Advice = "Look whether the cloud offers events (" + "/.well-known/ssf-configuration" + "), or name the place in the settings (passwords.events). It is tried again every few seconds."
	case s.Polled == nil || time.Since(*s.Polled) > silentFor:
		step.Outcome, step.Detail = "bad", "nobody listens to it"
		step.Advice = "Look whether a service runs on this database, and at its log."
	case ahead.Abs() > clocksApart:
		step.Outcome, step.Detail = "doubtful", fmt.Sprintf("open at %s, but the cloud's clock is %s %s", s.Endpoint, ahead.Abs().Round(time.Second), map[bool]string{true: "ahead", false: "behind"}[ahead > 0])
		step.Advice = "Set the clocks of the cloud, Kambrel and the agents by the same source: events that are too old or not yet made are not taken."
	}
	return step
}

func serviceStep(s store.EventStream) wire.PasswordStep {
	if s.Service == "" || s.Failing != nil || s.Polled == nil || time.Since(*s.Polled) > silentFor {
		return wire.PasswordStep{Name: "service", Outcome: "bad", Detail: "no service listens", Advice: "Another service on the database takes over within seconds; start one."}
	}
	return wire.PasswordStep{Name: "service", Outcome: "good", Since: s.Opened, Detail: s.Service + " listens to it"}
}

// directoryState is the part of the way behind the service.
func (p *Passwords) directoryState(ctx context.Context, d settings.Directory, agents []store.Agent, stream store.EventStream) (wire.PasswordsDirectory, error) {
	out := wire.PasswordsDirectory{Name: d.Name, Outcome: "good", Features: []entry.Feature{}, Steps: []wire.PasswordStep{}}
	for _, feature := range entry.PasswordFeatures {
		if slices.Contains(d.Features, feature) {
			out.Features = append(out.Features, feature)
		}
	}
	open, all := 0, 0
	for _, agent := range agents {
		if !slices.Contains(agent.Serves(), d.Name) {
			continue
		}
		all++
		step := agentStep(agent, d.Name, stream)
		if step.Outcome == "good" {
			open++
		}
		out.Steps = append(out.Steps, step)
	}
	if all == 0 {
		out.Steps = append(out.Steps, wire.PasswordStep{Name: "agent", Outcome: "bad", Detail: "no agent serves it", Advice: "Enrol one with 'kambrel agent code " + d.Name + "'."})
	}
	probe, found, err := p.store.Orders.LastProbe(ctx, d.Name)
	if err != nil {
		return out, err
	}
	if found {
		for _, feature := range out.Features {
			out.Steps = append(out.Steps, rightStep(probe, d.Name, feature))
		}
	} else {
		out.Steps = append(out.Steps, wire.PasswordStep{Name: "rights", Outcome: "skipped", Detail: "not tried yet", Advice: "Try them with 'kambrel directory probe " + d.Name + "'."})
	}
	switch {
	case open == 0:
		out.Outcome = "bad"
	case slices.ContainsFunc(out.Steps, func(s wire.PasswordStep) bool { return s.Outcome != "good" && s.Outcome != "skipped" }):
		out.Outcome = "doubtful"
	}
	return out, nil
}

func agentStep(agent store.Agent, directory string, stream store.EventStream) wire.PasswordStep {
	step := wire.PasswordStep{Name: "agent " + agent.Name, Outcome: "bad"}
	accepted, published := stream.Published[directory][agent.Name]
	state := views.Agent(agent)
	at := slices.IndexFunc(agent.Faults, func(f store.AgentFault) bool { return f.Directory == directory })
	switch {
	case state.State != "online":
		step.Detail, step.Since, step.Advice = "it is "+state.State, agent.LastContact, "Start it on its host with 'kambrel agent run'."
	case agent.LastContact == nil || time.Since(*agent.LastContact) > unheardFor:
		step.Detail, step.Since, step.Advice = "it has not been heard of", agent.LastContact, "Start it on its host with 'kambrel agent run', or look at its way to the service."
	case at >= 0:
		step.Detail, step.Since, step.Advice = "it fails at the directory: "+agent.Faults[at].Detail, &agent.Faults[at].Since, "Look with 'kambrel directory probe "+directory+" --agent "+agent.Name+"'."
	case agent.Trusts == "":
		step.Detail, step.Advice = "it trusts no cloud", "On its host, pin the cloud's keys: 'kambrel agent trust'."
	case agent.Trusts != stream.Issuer:
		step.Detail, step.Advice = "it trusts "+agent.Trusts+", and events come from "+cmp.Or(stream.Issuer, "nobody yet"), "On its host, pin the keys of the right cloud: 'kambrel agent trust'."
	case !published:
		step.Detail, step.Advice = "the cloud does not have its key yet", "It is told within a minute; look at the service's log when it stays so."
	case !accepted:
		step.Detail = "the cloud has its key and does not seal for it, since nobody there has let this agent in"
		step.Advice = "Give the cloud's administrator the thumbprint that 'kambrel agent key' prints on its host."
	default:
		step.Outcome, step.Detail = "good", "it trusts the cloud, and passwords are sealed for its key"
	}
	return step
}

// rightStep is what the last probe of a directory has found of a feature's right.
func rightStep(probe store.Order, directory string, feature entry.Feature) wire.PasswordStep {
	step := wire.PasswordStep{Name: "right " + string(feature), Outcome: "skipped", Detail: "not tried since it was switched on", Advice: "Try it with 'kambrel directory probe " + directory + "'."}
	for _, v := range probe.Result {
		if v.Step == "right" && strings.HasPrefix(v.Subject, string(feature)+",") {
			return wire.PasswordStep{Name: step.Name, Outcome: v.Outcome, Detail: v.Detail, Advice: v.Advice, Since: &probe.Created}
		}
	}
	return step
}

const (
	// lateRounds is how many rounds a changed password may wait before that is told.
	lateRounds = 3
	// mostFaults is how many causes are named.
	mostFaults = 5
	// perDigest is about how long one takes, before that was measured.
	perDigest = 60 * time.Millisecond
)

// digestStates tell how the digests of each directory stand.
func (p *Passwords) digestStates(ctx context.Context, document settings.Document) ([]wire.DigestState, error) {
	out := []wire.DigestState{}
	every, _ := document.Passwords.HowDigests()
	for _, d := range document.Directories {
		if !d.GivesDigests() {
			continue
		}
		round, err := p.store.Digests.Round(ctx, d.Name)
		if err != nil {
			return nil, err
		}
		counts, err := p.store.Digests.Counts(ctx, d.Name)
		if err != nil {
			return nil, err
		}
		one := wire.DigestState{Directory: d.Name, Have: counts.Have, Due: counts.Due, Faulty: counts.Faulty, Oldest: counts.Oldest, LastRound: round.Ended, PausedBy: round.PausedBy}
		faults, err := p.store.Digests.Faults(ctx, d.Name, mostFaults)
		if err != nil {
			return nil, err
		}
		one.Faults = views.List(faults, func(f store.DigestFault) wire.CodeCount { return wire.CodeCount{Title: f.Fault, Count: f.Count} })
		left := time.Duration(counts.Due) * perDigest
		if round.Rate > 0 {
			left = time.Duration(float64(counts.Due) / round.Rate * float64(time.Second))
		}
		one.Seconds = int(left.Seconds())
		// The first round may take its time; after it a change is late when rounds pass it by.
		one.Late = counts.Oldest != nil && p.store.Since(*counts.Oldest) > max(lateRounds*every, 2*left)
		one.Step = digestStep(one, round)
		out = append(out, one)
	}
	return out, nil
}

func digestStep(d wire.DigestState, round store.DigestRound) wire.PasswordStep {
	step := wire.PasswordStep{Name: "digests", Outcome: "good", Since: round.Ended, Detail: fmt.Sprintf("%d people sign in to the cloud with the directory's password", d.Have)}
	if d.Faulty > 0 && len(d.Faults) > 0 {
		step.Detail += fmt.Sprintf(", of %d there is none (%s)", d.Faulty, d.Faults[0].Title)
	}
	if d.Due > 0 {
		step.Detail += fmt.Sprintf(", %d are to come, in about %s", d.Due, (time.Duration(d.Seconds) * time.Second).String())
	}
	switch {
	case d.PausedBy != "":
		step.Outcome, step.Detail, step.Advice = "doubtful", step.Detail+"; paused by "+d.PausedBy, "Go on with 'kambrel passwords digests resume "+d.Directory+"'."
	case round.Failing != nil:
		step.Outcome, step.Since, step.Detail, step.Advice = "bad", round.Failing, step.Detail+"; the last round failed: "+round.Failure, "The next round begins where this one stopped."
	case d.Late:
		step.Outcome, step.Detail, step.Advice = "doubtful", step.Detail+"; the oldest change waits since "+d.Oldest.Format(time.RFC3339), "Look at the service's log, and whether the work factor in the settings (passwords.digests) is too high for the agent's host."
	}
	return step
}

// PauseDigests lets no more digests of a directory be made, or again.
func (p *Passwords) PauseDigests(ctx context.Context, by, directory string, pause bool) (wire.PasswordsState, error) {
	document, _ := p.settings(ctx)
	d, known := document.Directory(directory)
	if !known || !d.GivesDigests() {
		return wire.PasswordsState{}, problem.New(problem.BadInput, "password-digests is not switched on for a directory %s.", directory)
	}
	kind, paused := act.PauseDigests, by
	if !pause {
		kind, paused = act.ResumeDigests, ""
	}
	if err := p.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Digests.Pause(ctx, directory, paused); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: kind, By: by, About: about.Thing{Type: about.Directory, Key: directory}})
	}); err != nil {
		return wire.PasswordsState{}, err
	}
	return p.State(ctx)
}

// Events lists what was asked, the newest first, and how many there are.
func (p *Passwords) Events(ctx context.Context, q store.PasswordQuery) ([]wire.PasswordEvent, int, error) {
	events, total, err := p.store.Passwords.List(ctx, q)
	return views.List(events, eventView), total, err
}

func eventView(e store.PasswordEvent) wire.PasswordEvent {
	view := wire.PasswordEvent{ID: e.ID, JTI: e.JTI, Act: e.Act, By: e.AskedBy, Directory: e.Directory, EntryID: e.EntryID, ResourceID: e.ResourceID, Person: e.Person,
		Received: e.Received, Ended: e.Ended, Detail: e.Detail, Agent: e.Agent, InDirectory: e.Micros / 1000}
	if e.Ended == nil {
		view.Text = "on its way"
		return view
	}
	view.Done, view.Reason, view.Millis = e.Reason == password.Done, e.Reason, e.Ended.Sub(e.Received).Milliseconds()
	view.Text = (&password.Refusal{Reason: e.Reason, Least: e.Least}).Error()
	view.Told = password.ForPerson(e.Reason, e.Least)
	return view
}
