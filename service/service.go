// Package service is what runs in a service: a room for each concept, put together
// here. The HTTP interface in service/api is above it and knows it whole.
package service

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/service/acts"
	"kambrel.example/kambrel/service/agents"
	"kambrel.example/kambrel/service/audit"
	"kambrel.example/kambrel/service/certificates"
	"kambrel.example/kambrel/service/checkup"
	"kambrel.example/kambrel/service/cloudgroups"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/explain"
	"kambrel.example/kambrel/service/health"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/notices"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/pacing"
	"kambrel.example/kambrel/service/passwords"
	"kambrel.example/kambrel/service/problems"
	"kambrel.example/kambrel/service/provider"
	"kambrel.example/kambrel/service/runs"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/signin"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/survey"
	"kambrel.example/kambrel/service/watching"
)

// Options are what a service can be told about how it works. The zero value of
// each means the default.
type Options struct {
	// AgentPatience is how long a run waits for an agent to take an order; 30 s.
	AgentPatience time.Duration
	// Lease is how long an order stays an agent's without a word; 30 s.
	Lease time.Duration
	// Batch is how many entries are decided about at a time; 500.
	Batch int
	Runs  runs.Options
	// Streams are where acts are passed on to.
	Streams []audit.Stream
	// Sender is how notices leave, and URL where people find the console.
	Sender notices.Sender
	URL    string
	// Certificate is what the service shows itself by, nil for none.
	Certificate *certificates.Source
	// Cloud is how the cloud is reached while no operator has said otherwise.
	Cloud setup.Start
	// Keytab is a file with the key by which tickets (Kerberos) of people who sign in are read.
	Keytab string
	// Shadow reads and plans, and writes nothing anywhere.
	Shadow bool
}

// Service is all rooms.
type Service struct {
	Store   *store.Store
	Events  *events.Hub
	Orders  *orders.Orders
	Jobs    *jobs.Jobs
	Setup   *setup.Setup
	Explain *explain.Explain
	Acts    *acts.Acts
	Surveys *survey.Surveys
	Health  *health.Health
	// Problems are what keeps things from being in step.
	Problems *problems.Problems
	Agents   *agents.Agents
	// Passwords come from the cloud into directories.
	Passwords *passwords.Passwords
	// SignIn is how the people of login domains sign in to the cloud.
	SignIn *signin.SignIn
	// Provider is Kambrel's own identity provider.
	Provider *provider.Provider
	// Groups are those of the cloud that are kept in directories.
	Groups *cloudgroups.Groups
	// Checkup looks at the installation.
	Checkup *checkup.Checkup
	// Operators are who may use the interface.
	Operators *operators.Operators
	audit     *audit.Audit
	// Notices tell people.
	Notices *notices.Notices

	watching *watching.Watching

	cloud  *cloud.Client
	pacing *pacing.Pacing
	runs   *runs.Runs
	shadow bool
	listen sync.WaitGroup
	stop   context.CancelFunc
}

// New puts a service together; Start sets it going.
func New(s *store.Store, c *cloud.Client, options Options) *Service {
	if options.AgentPatience == 0 {
		options.AgentPatience = 30 * time.Second
	}
	if options.Lease == 0 {
		options.Lease = 30 * time.Second
	}
	if options.Batch == 0 {
		options.Batch = 500
	}
	one := &Service{Store: s, Events: &events.Hub{}, cloud: c, pacing: pacing.New(s), shadow: options.Shadow}
	judges := judging.New(s, c, options.Batch)
	one.Orders = orders.New(s, one.Events, options.AgentPatience, options.Lease)
	one.Jobs = jobs.New(s, one.Events)
	one.Setup = setup.New(s, c, options.Cloud, one.Orders, judges)
	one.Agents = agents.New(s)
	one.Problems = problems.New(s, judges)
	one.Explain = explain.New(s, c, one.Orders, judges, one.Setup, one.Jobs, one.Problems)
	one.Acts = acts.New(s, judges, one.Explain, one.Setup)
	one.Surveys = survey.New(s, one.Orders, one.Setup, judges)
	one.Passwords = passwords.New(s, c, one.Events, one.Orders, one.Explain)
	one.Operators = operators.New(s, one.Orders)
	one.Provider = provider.New(s, one.Operators, provider.Options{URL: options.URL, Seal: options.Cloud.Seal, Keytab: options.Keytab})
	one.SignIn = signin.New(s, c, one.Events, one.Explain, one.Provider)
	one.Health = health.New(s, c, one.Jobs, one.Problems, one.Passwords, one.SignIn, one.Setup, one.pacing, health.Own{URL: options.URL, Certificate: options.Certificate})
	one.Groups = cloudgroups.New(s, judges, one.Problems)
	one.Checkup = checkup.New(s, one.Health, one.Setup, one.Operators, c, options.URL)
	one.watching = watching.New(s, c, one.Jobs)
	one.audit = audit.New(s, options.Streams)
	one.Notices = notices.New(s, options.Sender, options.URL, one.Health.Report)
	one.runs = runs.New(s, c, one.Events, one.Orders, judges, one.pacing, options.Runs)
	return one
}

// Start begins to execute runs, the schedule and repairs, until Stop.
func (s *Service) Start(ctx context.Context) error {
	listening, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	s.cloud.Paced(s.pacing)
	if s.shadow {
		s.cloud.ReadOnly()
		if err := s.Store.BeShadow(ctx); err != nil {
			stop()
			return err
		}
	}
	if err := s.Setup.Reach(ctx); err != nil {
		// An operator gives the token anew; until then the configuration tells, and another
		// cloud than that of the records is refused.
		slog.Error("the cloud cannot be reached as an operator has said", logkey.Error, err)
	}
	told, ended := s.Events.Subscribe()
	s.listen.Go(func() {
		defer ended()
		s.Setup.Follow(listening, told)
	})
	s.listen.Go(func() { s.Store.Listen(listening, s.Events.Broadcast) })
	s.listen.Go(func() { s.Store.KeepTime(listening) })
	s.listen.Go(func() { s.Health.MeetCertificates(listening) })
	s.Surveys.Start(ctx)
	// A shadow takes no events off the cloud, and tells nobody what the other has told.
	if !s.shadow {
		s.Passwords.Start(ctx)
		s.SignIn.Start(ctx)
		s.audit.Start(ctx)
		s.Notices.Start(ctx)
		s.watching.Start(ctx)
	}
	if err := s.Jobs.Start(ctx, s.runs.Execute, s.Health.Watch); err != nil {
		s.Stop()
		return err
	}
	return nil
}

// Stop ends the work where it is; what goes on is taken up at the next start.
func (s *Service) Stop() {
	if s.stop == nil {
		return
	}
	s.Jobs.Stop()
	s.Surveys.Stop()
	s.Passwords.Stop()
	s.SignIn.Stop()
	s.audit.Stop()
	s.Notices.Stop()
	s.watching.Stop()
	s.stop()
	s.listen.Wait()
}
