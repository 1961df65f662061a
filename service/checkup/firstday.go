package checkup

import (
	"context"
	"errors"
	"time"

	"kambrel.example/kambrel/core/checkup"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// answersWithin is how long the cloud is waited for: the list must come while it is away.
const answersWithin = 5 * time.Second

// FirstDay tells how far the installation is.
func (c *Checkup) FirstDay(ctx context.Context) (wire.FirstDay, error) {
	facts, err := c.facts(ctx)
	if err != nil {
		return wire.FirstDay{}, err
	}
	beginning, err := c.beginning(ctx)
	if err != nil {
		return wire.FirstDay{}, err
	}
	steps := checkup.FirstDay(facts, beginning, time.Now())
	out := wire.FirstDay{Steps: make([]wire.FirstDayStep, len(steps)), Begun: true}
	for i, step := range steps {
		if step.Done {
			step.Do = ""
		}
		out.Steps[i] = wire.FirstDayStep(step)
		out.Begun = out.Begun && (step.Done || step.Later)
	}
	if next, ok := checkup.Next(steps); ok {
		out.Next = next.Key
	}
	return out, nil
}

func (c *Checkup) beginning(ctx context.Context) (checkup.Beginning, error) {
	b := checkup.Beginning{Cloud: c.cloud.URL()}
	if b.Cloud != "" {
		asked, cancel := context.WithTimeout(ctx, answersWithin)
		defer cancel()
		if _, err := c.cloud.Discover(asked); err != nil && ctx.Err() == nil {
			b.Refuses = "it does not answer"
			if code := problem.CodeOf(err); code != "" && !errors.Is(err, context.DeadlineExceeded) {
				b.Refuses = err.Error()
			}
		}
	}
	directories, err := c.setup.Directories(ctx)
	if err != nil {
		return b, err
	}
	for _, d := range directories {
		one := checkup.Connected{Name: d.Name, Read: d.LastRead != nil, Active: d.Active}
		for _, agent := range d.Agents {
			if agent.State == "online" {
				one.Agents++
			}
		}
		if d.Probe != nil {
			one.Probe = d.Probe.Outcome
		}
		b.Directories = append(b.Directories, one)
	}
	draft, err := c.setup.Document(ctx, true)
	if err != nil {
		return b, err
	}
	b.Draft = &draft
	rehearsed, _, err := c.store.Runs.LastForecast(ctx)
	if err != nil {
		return b, err
	}
	plain, _, err := c.store.Runs.LastOf(ctx, purpose.Rehearsal)
	b.Rehearsed = max(rehearsed.ID, plain.ID)
	return b, err
}
