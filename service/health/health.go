package health

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/certificates"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/pacing"
	"kambrel.example/kambrel/service/passwords"
	"kambrel.example/kambrel/service/problems"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/signin"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// Health tells how things stand. Its methods may be called from many goroutines.
type Health struct {
	store    *store.Store
	cloud    *cloud.Client
	jobs     *jobs.Jobs
	problems *problems.Problems

	passwords *passwords.Passwords
	signOn    *signin.SignIn
	setup     *setup.Setup
	pacing    *pacing.Pacing
	own       Own
}

// Own is where this service is reached, and by which certificate it is known there, nil for
// none.
type Own struct {
	URL         string
	Certificate *certificates.Source
}

// New makes one.
func New(s *store.Store, c *cloud.Client, w *jobs.Jobs, p *problems.Problems, way *passwords.Passwords, on *signin.SignIn, settings *setup.Setup, pace *pacing.Pacing, own Own) *Health {
	return &Health{store: s, cloud: c, jobs: w, problems: p, passwords: way, signOn: on, setup: settings, pacing: pace, own: own}
}

// Now gathers the state of everything, and says what needs attention.
func (e *Health) Now(ctx context.Context) (wire.Health, error) {
	h := wire.Health{State: "well", Attention: []wire.Attention{}, Beside: []wire.Run{}, Going: []progress.Going{}, Agents: []wire.Agent{}, Directory: []wire.DirectoryState{}, Cloud: wire.CloudState{URL: e.cloud.URL()}}
	for _, part := range []func(context.Context, *wire.Health) error{e.lastRun, e.connections, e.way, e.signOns, e.notices, e.certificates, e.signIns, e.pauses, e.expectations, e.otherRuns, e.counts, e.leavers, e.readings, e.judge} {
		if err := part(ctx, &h); err != nil {
			return h, err
		}
	}
	return h, nil
}

// Watch keeps how things stand as problems that open and close by themselves. It is
// called all the time, so it looks at nothing that grows with the directories.
func (e *Health) Watch(ctx context.Context) error {
	var h wire.Health
	for _, part := range []func(context.Context, *wire.Health) error{e.lastRun, e.connections, e.way, e.signOns, e.pauses, e.notices, e.certificates, e.signIns, e.expectations} {
		if err := part(ctx, &h); err != nil {
			return err
		}
	}
	if err := e.store.Problems.Watched(ctx, standing(h)); err != nil {
		return err
	}
	return e.lookAtExpectations(ctx, h) // last, so that nothing else waits for it; it is told the next time
}

// way tells how the way stands by which passwords come.
func (e *Health) way(ctx context.Context, h *wire.Health) error {
	state, err := e.passwords.State(ctx)
	h.Passwords = state
	return err
}

// signOns tells what is wrong with how people sign in to the cloud.
func (e *Health) signOns(ctx context.Context, h *wire.Health) error {
	var err error
	h.SignOn, err = e.signOn.Troubles(ctx)
	return err
}

// pauses are what operators have stopped.
func (e *Health) pauses(ctx context.Context, h *wire.Health) error {
	all, err := e.store.Pauses.Now(ctx)
	h.Pauses = views.List(all, views.Pause)
	return err
}

// notices tells why people cannot be told, "" when they can.
func (e *Health) notices(ctx context.Context, h *wire.Health) error {
	var err error
	h.NoticesStuck, err = e.store.Notices.Stuck(ctx)
	return err
}

// endsSoon is how long before its end a certificate is told of.
const endsSoon = 30 * 24 * time.Hour

// certificates are those that end soon.
func (e *Health) certificates(ctx context.Context, h *wire.Health) error {
	ending, err := e.store.Certificates.Expiring(ctx, time.Now().Add(endsSoon))
	h.Certificates = views.List(ending, func(c store.Certificate) wire.Certificate {
		return wire.Certificate{About: about.Thing{Type: c.Type, Key: c.Key}, Expires: c.Expires}
	})
	return err
}

const (
	// guessedWithin is how long attempts to sign in are told of, and manyRefused how many are
	// more than people mistype.
	guessedWithin = time.Hour
	manyRefused   = 10
	// emergencyTold is how long it is told that an account for emergencies was used.
	emergencyTold = 24 * time.Hour
)

// signIns is what is to be told of who signed in or tried to.
func (e *Health) signIns(ctx context.Context, h *wire.Health) error {
	var err error
	if h.SignIns.Refused, h.SignIns.Names, h.SignIns.Addresses, err = e.store.Acts.RefusedSignIns(ctx, time.Now().Add(-guessedWithin)); err != nil {
		return err
	}
	uses, err := e.store.Acts.EmergencySignIns(ctx, time.Now().Add(-emergencyTold))
	for _, use := range uses {
		h.SignIns.Emergency = append(h.SignIns.Emergency, fmt.Sprintf("%s from %s at %s", use.By, use.Origin, use.At.UTC().Format("2006-01-02 15:04 UTC")))
	}
	return err
}

// certificatesEvery is how often it is kept until when certificates are valid.
const certificatesEvery = 3 * time.Second

// MeetCertificates keeps until when certificates are valid, until ctx ends. Each service does
// it for its own, whichever of them watches how things stand.
func (e *Health) MeetCertificates(ctx context.Context) {
	ticker := time.NewTicker(certificatesEvery)
	defer ticker.Stop()
	for ctx.Err() == nil {
		if err := e.meetCertificates(ctx); err != nil && ctx.Err() == nil { // as while the database is away
			slog.Debug("keep until when certificates are valid", logkey.Error, err)
		}
		select {
		case <-ctx.Done():
		case <-ticker.C:
		}
	}
}

// meetCertificates keeps until when this service's own is valid, and that of the cloud; those
// of directories are met by agents.
func (e *Health) meetCertificates(ctx context.Context) error {
	if e.own.Certificate != nil {
		if err := e.store.Certificates.Keep(ctx, store.Certificate{Type: about.Service, Key: e.own.URL, SeenBy: e.own.URL, Expires: e.own.Certificate.Expires()}); err != nil {
			return err
		}
	}
	expires, met := e.cloud.CertificateExpires()
	if !met {
		return nil
	}
	return e.store.Certificates.Keep(ctx, store.Certificate{Type: about.Cloud, SeenBy: e.own.URL, Expires: expires})
}

// counts counts objects and the problems of entries.
func (e *Health) counts(ctx context.Context, h *wire.Health) error {
	var err error
	counted, err := e.store.Search.Count(ctx)
	h.Objects = wire.ObjectCounts(counted)
	if err != nil {
		return err
	}
	people, err := e.store.Entries.CountPeople(ctx)
	if err != nil {
		return err
	}
	for _, count := range people {
		h.Objects.Entries += count
	}
	for i := range h.Directory {
		h.Directory[i].Entries = people[h.Directory[i].Name]
	}
	if h.Pins, err = e.store.Pins.Count(ctx); err != nil {
		return err
	}
	h.ByProblem, err = e.problems.Counts(ctx)
	for _, c := range h.ByProblem {
		h.Problems += c.Count
	}
	return err
}

// readings tells when the cloud was read last, and how much it takes.
func (e *Health) readings(ctx context.Context, h *wire.Health) error {
	cloud, err := e.store.Resources.State(ctx, entry.User)
	if err != nil {
		return err
	}
	if !cloud.Read.IsZero() {
		h.Cloud.LastRead = &cloud.Read
	}
	perMinute, err := e.pacing.PerMinute(ctx)
	h.Cloud.RequestsPerMinute = int(perMinute)
	return err
}

// leavers tells what is deleted when its grace time is over.
func (e *Health) leavers(ctx context.Context, h *wire.Health) error {
	active, _, err := e.store.Settings.Active(ctx)
	if err == nil {
		h.Going, err = e.store.Links.Going(ctx, store.GraceOf(active.Document))
	}
	return err
}

// mostBeside is how many runs are named that go on beside the one that writes.
const mostBeside = 10

// lastRun is the last run that was to write.
func (e *Health) lastRun(ctx context.Context, h *wire.Health) error {
	last, found, err := e.store.Runs.Last(ctx)
	if found {
		view := views.Run(last)
		h.LastRun = &view
	}
	return err
}

// otherRuns are those that go on, wait, or are to come.
func (e *Health) otherRuns(ctx context.Context, h *wire.Health) error {
	current, found, err := e.store.Runs.Open(ctx)
	if err != nil {
		return err
	}
	if found {
		view := views.Run(current)
		h.Current = &view
	}
	beside, err := e.store.Runs.OpenBeside(ctx, mostBeside)
	if err != nil {
		return err
	}
	for _, run := range beside {
		h.Beside = append(h.Beside, views.Run(run))
	}
	next, err := e.jobs.Next(ctx)
	h.NextRun, h.NextFull = next.Run, next.Full
	return err
}

// missedFor is how long it is told that a directory did not tell all its changes.
const missedFor = 7 * 24 * time.Hour

// connections are the agents, and the directories of the active settings with how
// many agents serve each.
func (e *Health) connections(ctx context.Context, h *wire.Health) error {
	agents, err := e.store.Agents.List(ctx)
	if err != nil {
		return err
	}
	h.Agents = views.List(agents, views.Agent)
	revision, ok, err := e.store.Settings.Active(ctx)
	if err != nil || !ok {
		return err
	}
	schedule := revision.Document.Schedule
	h.Revision, h.Live = revision.Revision, schedule.IsLive() && schedule.Within(time.Now())
	for _, directory := range revision.Document.Directories {
		view := wire.DirectoryState{Name: directory.Name, Dialect: string(directory.Dialect), Base: directory.Base}
		for _, agent := range h.Agents {
			if agent.State == "online" && slices.Contains(agent.Directories, directory.Name) {
				view.Agents++
			}
		}
		state, err := e.store.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return err
		}
		if !state.Read.IsZero() {
			view.LastRead = &state.Read
		}
		if state.MissedAt != nil && time.Since(*state.MissedAt) < missedFor {
			view.Missed = state.Missed
		}
		h.Directory = append(h.Directory, view)
	}
	return nil
}
