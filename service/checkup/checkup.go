// Package checkup gathers what an installation is made of, has everything tried, and says how
// it stands.
package checkup

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/checkup"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/version"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/health"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// Checkup looks at an installation. Its methods may be called from many goroutines.
type Checkup struct {
	store     *store.Store
	health    *health.Health
	setup     *setup.Setup
	operators *operators.Operators
	cloud     *cloud.Client
	plain     bool
}

// New makes one. url is the one by which the service is known.
func New(s *store.Store, h *health.Health, e *setup.Setup, o *operators.Operators, c *cloud.Client, url string) *Checkup {
	return &Checkup{s, h, e, o, c, strings.HasPrefix(url, "http://")}
}

// Look gathers the facts, has agents and the cloud tried, and says how all stands.
func (c *Checkup) Look(ctx context.Context) (wire.Checkup, error) {
	facts, err := c.facts(ctx)
	if err != nil {
		return wire.Checkup{}, err
	}
	findings := checkup.Look(facts, time.Now())
	if facts.Settings != nil {
		findings = append(findings, c.tried(ctx, facts)...)
	}
	out := wire.Checkup{At: time.Now(), Version: version.Number, Outcome: string(checkup.Worst(findings)), Steps: make([]protocol.Verdict, len(findings))}
	for i, f := range findings {
		out.Steps[i] = protocol.Verdict{Step: f.Step, Subject: f.Subject, Outcome: string(f.Outcome), Detail: f.Detail, Advice: f.Advice}
	}
	return out, nil
}

// tried has the directories and the cloud tried side by side, and tells what was worst of each.
func (c *Checkup) tried(ctx context.Context, facts checkup.Facts) []checkup.Finding {
	names := make([]string, len(facts.Settings.Directories))
	for i, d := range facts.Settings.Directories {
		names[i] = d.Name
	}
	findings := make([]checkup.Finding, len(names)+1)
	var group sync.WaitGroup
	for i, name := range names {
		group.Go(func() {
			probe, err := c.setup.Probe(ctx, name, "", nil)
			findings[i] = found("directory", name, probe.Verdicts, err, "'kambrel directory probe "+name+"' tells each step.")
		})
	}
	group.Go(func() {
		findings[len(names)] = found("cloud", "", c.setup.ProbeCloud(ctx), nil, "'kambrel cloud probe' tells each step.")
	})
	group.Wait()
	return findings
}

// found is what a probe has found, in one line.
func found(step, subject string, verdicts []protocol.Verdict, err error, how string) checkup.Finding {
	f := checkup.Finding{Step: step, Subject: subject, Outcome: checkup.Good, Detail: "tried, and well"}
	if err != nil {
		f.Outcome, f.Detail, f.Advice = checkup.Bad, err.Error(), how
		var p *problem.Error
		if errors.As(err, &p) {
			f.Detail, f.Advice = p.Detail, problem.Describe(p.Code).Remedy
		}
		return f
	}
	var others []string
	for _, outcome := range []string{"bad", "doubtful"} {
		for _, v := range verdicts {
			if v.Outcome != outcome {
				continue
			}
			if f.Outcome == checkup.Good {
				f.Outcome, f.Detail, f.Advice = checkup.Outcome(outcome), v.Name()+": "+v.Detail, v.Advice
			} else {
				others = append(others, v.Step)
			}
		}
	}
	if len(others) > 0 {
		f.Advice = strings.TrimSpace(f.Advice + " Also " + strings.Join(slices.Compact(others), ", ") + ": " + how)
	}
	return f
}

func (c *Checkup) facts(ctx context.Context) (checkup.Facts, error) {
	f := checkup.Facts{Version: version.Number, Plain: c.plain}
	now, err := c.health.Now(ctx)
	if err != nil {
		return f, err
	}
	f.Live, f.NextRun, f.Stuck = now.Live, now.NextRun, now.NoticesStuck
	for _, one := range now.Certificates {
		f.Certificates = append(f.Certificates, checkup.Certificate{Of: string(one.About.Type) + " " + one.About.Key, Ends: one.Expires})
	}
	for _, one := range now.Pauses {
		f.Pauses = append(f.Pauses, one.Text)
	}
	for _, one := range now.Agents {
		a := checkup.Agent{Name: one.Name, Version: one.Version, Online: one.State == "online", Serves: one.Directories, Asks: one.Asks, Plain: one.Plain}
		for _, fault := range one.Faults {
			a.Faults = append(a.Faults, fault.Directory+": "+fault.Title+": "+fault.Detail)
		}
		f.Agents = append(f.Agents, a)
	}
	if run := now.LastRun; run != nil && run.Ended != nil {
		f.LastRun = &checkup.Run{ID: run.ID, Ended: *run.Ended}
		if run.State == progress.Failed && run.Failure != nil {
			f.LastRun.Failed = run.Failure.Title
		}
	}
	revision, active, err := c.store.Settings.Active(ctx)
	if err != nil {
		return f, err
	}
	if active {
		f.Settings = &revision.Document
	}
	if f.Linked, err = c.store.Links.Count(ctx); err != nil {
		return f, err
	}
	if f.Database, err = c.store.About(ctx); err != nil {
		return f, err
	}
	if f.Backup, err = c.store.Acts.LastBackup(ctx); err != nil {
		return f, err
	}
	return f, c.people(ctx, &f)
}

func (c *Checkup) people(ctx context.Context, f *checkup.Facts) error {
	people, err := c.operators.List(ctx)
	if err != nil {
		return err
	}
	for _, o := range people {
		f.Operators = append(f.Operators, checkup.Operator{Name: o.Name, Administrator: o.Role == wire.Administrator, Emergency: o.Emergency, SecondFactor: o.SecondFactor})
	}
	groups, err := c.operators.Groups(ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		f.Groups = append(f.Groups, checkup.Group{Name: g.DN, Gone: g.Gone})
	}
	tokens, err := c.operators.Tokens(ctx)
	for _, t := range tokens {
		f.Tokens = append(f.Tokens, checkup.Token{Name: t.Name, Expires: t.Expires, Made: t.Created, Used: t.Used})
	}
	return err
}
