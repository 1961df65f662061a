package passwords

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/core/settings"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

const (
	// digestsAtOnce is how many digests one order asks for: an agent is busy with them for
	// some seconds, and a pause takes effect between two orders.
	digestsAtOnce = 50
	// withdrawnAtOnce is how many are withdrawn before others are made.
	withdrawnAtOnce = 200
	// apart is how far rounds are apart that begin by a sign of a change: while a run goes on
	// there are many of them.
	apart = 5 * time.Second
)

// rounds makes the rounds of digests, by one service on the database: every two minutes or
// less, and at once after a run or when a password was set from the cloud.
func (p *Passwords) rounds(ctx context.Context) {
	told, stop := p.hub.Subscribe()
	defer stop()
	for ctx.Err() == nil {
		every, began := takeOverEvery, time.Now()
		if document, ok := p.settings(ctx); ok {
			every, _ = document.Passwords.HowDigests()
			if idle, err := p.idle(ctx, document); err == nil && idle {
				await(ctx, told, every, "settings")
				continue
			}
			if stopped, err := p.stopped(ctx, ""); err == nil && stopped {
				await(ctx, told, every, "pause")
				continue
			}
			if _, err := p.store.Own(ctx, store.Digesting, 1, func(ctx context.Context) error { return p.round(ctx, document) }); err != nil && ctx.Err() == nil {
				slog.Error("make the digests", logkey.Error, err)
			}
		}
		if await(ctx, told, every, "run", "settings", "password", "agent", "resumed") {
			_ = rest.For(ctx, apart-time.Since(began))
		}
	}
}

// stopped tells whether an operator has paused the writing of digests, or the reading of
// the directory.
func (p *Passwords) stopped(ctx context.Context, directory string) (bool, error) {
	pauses, err := p.store.Pauses.Now(ctx)
	_, cloud := pauses.ToCloud()
	_, one := pauses.OfDirectory(directory)
	return cloud || one, err
}

// idle tells whether there is nothing to do for digests, as where no directory gives them.
func (p *Passwords) idle(ctx context.Context, document settings.Document) (bool, error) {
	if slices.ContainsFunc(document.Directories, settings.Directory.GivesDigests) {
		return false, nil
	}
	left, err := p.store.Digests.Withdrawable(ctx, nil, 1)
	return len(left) == 0, err
}

// round brings the digests of all directories up to date.
func (p *Passwords) round(ctx context.Context, document settings.Document) error {
	// Another cloud would say of each digest that is to be taken away that it has none.
	if err := setup.SameCloud(ctx, p.store, p.cloud); err != nil {
		return err
	}
	var giving []string
	for _, d := range document.Directories {
		if d.GivesDigests() {
			giving = append(giving, d.Name)
		}
	}
	if err := p.withdraw(ctx, giving); err != nil {
		return err
	}
	for _, d := range document.Directories {
		if stopped, err := p.stopped(ctx, d.Name); err != nil || stopped || !d.GivesDigests() {
			continue
		}
		if err := p.roundOf(ctx, d, document); err != nil && ctx.Err() == nil {
			if err := p.failedRound(ctx, d.Name, err); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// withdraw takes digests away from the cloud that it should not have any more.
func (p *Passwords) withdraw(ctx context.Context, giving []string) error {
	for ctx.Err() == nil {
		list, err := p.store.Digests.Withdrawable(ctx, giving, withdrawnAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, one := range list {
			if !one.Replaced {
				if err := p.cloud.SetDigest(ctx, one.ResourceID, nil); err != nil {
					return fmt.Errorf("withdraw the digest of the resource %s: %w", one.ResourceID, err)
				}
			}
			if err := p.store.Digests.Forget(ctx, one.Directory, one.EntryID); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// roundOf asks whose password was set, and for the digests of those.
func (p *Passwords) roundOf(ctx context.Context, d settings.Directory, document settings.Document) error {
	round, err := p.store.Digests.Round(ctx, d.Name)
	if err != nil || round.PausedBy != "" {
		return err
	}
	among, err := p.digesters(ctx, d)
	if err != nil {
		return err
	}
	if len(among) == 0 {
		what := "pin the cloud's keys in its configuration ('kambrel agent trust')"
		if d.Dialect == entry.AD {
			what = "run one on a domain controller's host, with localSocket in its configuration and the cloud's keys pinned ('kambrel agent trust')"
		}
		return problem.New(problem.AgentOffline, "no agent can read its stored passwords: %s", what)
	}
	if err := p.digest(ctx, d, among, protocol.Digest{Since: round.Since}); err != nil {
		return err
	}
	_, work := document.Passwords.HowDigests()
	began, made := time.Now(), 0
	asked := map[entry.ID]bool{} // each once in a round, whatever comes of it
	for ctx.Err() == nil {
		if round, err = p.store.Digests.Round(ctx, d.Name); err != nil || round.PausedBy != "" {
			return err
		}
		if stopped, err := p.stopped(ctx, d.Name); err != nil || stopped {
			return err
		}
		due, err := p.store.Digests.Due(ctx, d.Name, digestsAtOnce)
		if err != nil {
			return err
		}
		due = slices.DeleteFunc(due, func(id entry.ID) bool { return asked[id] })
		if len(due) == 0 {
			break
		}
		for _, id := range due {
			asked[id] = true
		}
		when := time.Now()
		if err := p.digest(ctx, d, among, protocol.Digest{IDs: due, Work: work}); err != nil {
			return err
		}
		// What was asked for and not answered is gone from the directory, or it would be
		// asked for without end.
		if err := p.store.Digests.Unanswered(ctx, d.Name, due, when); err != nil {
			return err
		}
		made += len(due)
		round.Rate = float64(made) / time.Since(began).Seconds()
		round.Failing, round.Failure = nil, ""
		if err := p.store.Digests.SaveRound(ctx, round); err != nil {
			return err
		}
	}
	now := time.Now()
	round.Ended, round.Failing, round.Failure = &now, nil, ""
	return p.store.Digests.SaveRound(ctx, round)
}

// failedRound notes why a round came to nothing; the next one begins where it stopped.
func (p *Passwords) failedRound(ctx context.Context, directory string, cause error) error {
	slog.Warn("the digests of a directory are not up to date", logkey.Directory, directory, logkey.Error, cause)
	round, err := p.store.Digests.Round(ctx, directory)
	if err != nil {
		return err
	}
	if round.Failing == nil {
		now := time.Now()
		round.Failing = &now
	}
	round.Failure = cause.Error()
	var known *problem.Error
	if errors.As(cause, &known) && known.Detail != "" {
		round.Failure = known.Detail
	}
	return p.store.Digests.SaveRound(ctx, round)
}

// digesters are the agents that can read stored passwords of a directory.
func (p *Passwords) digesters(ctx context.Context, d settings.Directory) ([]string, error) {
	agents, err := p.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	var able []string
	for _, agent := range agents {
		if slices.Contains(agent.Serves(), d.Name) && slices.Contains(agent.Digests, d.Name) && (d.Dialect != entry.AD || slices.Contains(agent.Local, d.Name)) {
			able = append(able, agent.ID)
		}
	}
	return able, nil
}

func (p *Passwords) digest(ctx context.Context, d settings.Directory, among []string, asked protocol.Digest) error {
	order := store.Order{Directory: d.Name, Among: among, Request: protocol.Order{Directory: d.Name, Dialect: d.Dialect, Base: d.Base, Digest: &asked}}
	if err := p.store.Orders.Add(ctx, &order); err != nil {
		return err
	}
	_, err := p.orders.Await(ctx, order, p.orders.Patience(), func(store.Order) error { return nil })
	return err
}

// passOn brings one digest to the cloud, if its person is linked and in scope still. It is
// called while an agent's answer comes in, and keeps nothing but when.
func (p *Passwords) passOn(ctx context.Context, directory string, digested protocol.Digested) error {
	ref := entry.Ref{Directory: directory, ID: digested.ID}
	resource, err := p.store.Digests.LinkOf(ctx, ref)
	if err != nil || resource == "" {
		return err
	}
	// Where none can be made, the one before goes: it is of a password that is no more.
	sealed := digested.Sealed
	if digested.Fault != "" {
		sealed = nil
	}
	err = p.cloud.SetDigest(ctx, resource, sealed)
	var refusal *cloud.Refusal
	switch {
	case errors.As(err, &refusal):
		return p.store.Digests.Refused(ctx, ref, refusal.Error())
	case err != nil:
		return err
	}
	return p.store.Digests.Sent(ctx, ref, digested.Mark, resource, digested.Fault)
}
