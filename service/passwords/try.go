package passwords

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// trialWithin is how long a trial waits for each side.
const trialWithin = 5 * time.Second

// Try goes the whole way for one person without setting anything: the cloud sends an event
// that tries the stream, and an agent tries the account and the rights.
func (p *Passwords) Try(ctx context.Context, text string) (wire.PasswordTrial, error) {
	trial := wire.PasswordTrial{Steps: []wire.PasswordStep{}, Outcome: "good"}
	hit, err := p.explain.ResolveEntry(ctx, text)
	if err != nil {
		return trial, err
	}
	trial.Directory = hit.Directory
	id, err := entry.NewID(hit.EntryID)
	if err != nil {
		return trial, problem.New(problem.NotFound, "%s has no entry in a directory.", text)
	}
	if trial.Person, err = p.store.Passwords.NameOf(ctx, entry.Ref{Directory: hit.Directory, ID: id}); err != nil {
		return trial, err
	}
	document, ok := p.settings(ctx)
	if !ok {
		return trial, problem.New(problem.NoSettings, "")
	}
	directory, known := document.Directory(hit.Directory)
	if !known || !directory.TakesPasswords() {
		return trial, problem.New(problem.BadInput, "%s is in the directory %s, which takes no passwords from the cloud: switch reset-passwords, change-passwords or unlock on for it.", trial.Person, hit.Directory)
	}
	tell := func(step wire.PasswordStep) {
		trial.Steps = append(trial.Steps, step)
		if step.Outcome == "bad" || step.Outcome == "doubtful" && trial.Outcome == "good" {
			trial.Outcome = step.Outcome
		}
	}
	tell(p.tryStream(ctx, document))
	step, err := p.tryLink(ctx, entry.Ref{Directory: directory.Name, ID: id})
	if err != nil {
		return trial, err
	}
	tell(step)
	steps, err := p.tryAgent(ctx, directory, document, id)
	if err != nil {
		return trial, err
	}
	for _, step := range steps {
		tell(step)
	}
	return trial, nil
}

// tryStream asks the cloud for an event and waits until it comes.
func (p *Passwords) tryStream(ctx context.Context, document settings.Document) wire.PasswordStep {
	ctx, cancel := context.WithTimeout(ctx, trialWithin)
	defer cancel()
	told, stop := p.hub.Subscribe()
	defer stop()
	began, state := time.Now(), rand.Text()
	stream, err := p.cloud.FindEvents(ctx, document.Passwords.Events)
	if err == nil {
		err = stream.Verify(ctx, state)
	}
	if err != nil {
		return wire.PasswordStep{Name: "stream", Outcome: "bad", Detail: err.Error(), Advice: "Look at the state with 'kambrel passwords state'."}
	}
	for {
		now, err := p.store.Passwords.Stream(ctx)
		if err == nil && now.Verified == state {
			return wire.PasswordStep{Name: "stream", Outcome: "good", Detail: "an event that the cloud was asked for came back, signed, in " + time.Since(began).Round(time.Millisecond).String()}
		}
		await(ctx, told, 200*time.Millisecond, "password")
		if ctx.Err() != nil {
			return wire.PasswordStep{Name: "stream", Outcome: "bad", Detail: "an event that the cloud was asked for did not come within " + trialWithin.String(), Advice: "Look at the state with 'kambrel passwords state'."}
		}
	}
}

func (p *Passwords) tryLink(ctx context.Context, ref entry.Ref) (wire.PasswordStep, error) {
	link, err := p.store.Links.Of(ctx, ref)
	switch {
	case store.NotFound(err):
		return wire.PasswordStep{Name: "link", Outcome: "bad", Detail: "the entry is linked to nobody in the cloud", Advice: "See why with 'kambrel why " + ref.ID.String() + "'."}, nil
	case err != nil:
		return wire.PasswordStep{}, err
	case link.LeftAt != nil:
		return wire.PasswordStep{Name: "link", Outcome: "bad", Detail: "the entry left on " + link.LeftAt.Format(time.DateOnly), Advice: "See why with 'kambrel why " + ref.ID.String() + "'."}, nil
	}
	return wire.PasswordStep{Name: "link", Outcome: "good", Detail: "linked to the resource " + link.ResourceID}, nil
}

// tryAgent lets an agent try the account and the rights.
func (p *Passwords) tryAgent(ctx context.Context, directory settings.Directory, document settings.Document, id entry.ID) ([]wire.PasswordStep, error) {
	agents, err := p.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	stream, err := p.store.Passwords.Stream(ctx)
	if err != nil {
		return nil, err
	}
	order := store.Order{Directory: directory.Name, Request: protocol.Order{Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base,
		Password: &protocol.Password{Try: &id, Protected: document.Passwords.Protected}}}
	for _, feature := range entry.PasswordFeatures {
		if slices.Contains(directory.Features, feature) {
			order.Request.Password.Features = append(order.Request.Password.Features, feature)
		}
	}
	var why *wire.PasswordStep
	for _, agent := range agents {
		if !slices.Contains(agent.Serves(), directory.Name) {
			continue
		}
		step := agentStep(agent, directory.Name, stream)
		if step.Outcome == "good" {
			order.Among = append(order.Among, agent.ID)
		} else if why == nil {
			why = &step
		}
	}
	if len(order.Among) == 0 {
		if why == nil {
			why = &wire.PasswordStep{Name: "agent", Outcome: "bad", Detail: "no agent serves " + directory.Name}
		}
		return []wire.PasswordStep{*why}, nil
	}
	if err := p.store.Orders.Add(ctx, &order); err != nil {
		return nil, err
	}
	ended, err := p.orders.Await(ctx, order, trialWithin, func(store.Order) error { return nil })
	var failure *problem.Error
	if errors.As(err, &failure) {
		return []wire.PasswordStep{{Name: "agent", Outcome: "bad", Detail: failure.Detail, Advice: problem.Describe(failure.Code).Remedy}}, nil
	}
	if err != nil {
		return nil, err
	}
	var steps []wire.PasswordStep
	for _, v := range ended.Result {
		name := v.Step
		if v.Subject != "" {
			name += " " + v.Subject
		}
		steps = append(steps, wire.PasswordStep{Name: name, Outcome: v.Outcome, Detail: v.Detail, Advice: v.Advice})
	}
	return steps, nil
}
