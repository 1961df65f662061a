package passwords

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/settings"
)

// publishEvery is how often the cloud's keys are compared where no event tells of a change.
const publishEvery = time.Minute

// acceptedEvery is how often it is looked whether the cloud seals for a key by now that
// nobody there had let in.
const acceptedEvery = 3 * time.Second

// publish keeps the cloud told for which keys it may seal: those of agents that serve a
// directory that takes passwords. The key of an agent that is retired goes at once.
func (l *listener) publish(ctx context.Context, stop context.CancelCauseFunc) {
	told, unsubscribe := l.hub.Subscribe()
	defer unsubscribe()
	due := time.Now()
	for {
		document, ok := l.settings(ctx)
		if ok && !document.TakesPasswords() {
			if err := l.bring(ctx, map[string][]cloud.Stated{}); err != nil && ctx.Err() == nil {
				slog.Warn("take the keys of agents away from the cloud", logkey.Error, err)
			}
			stop(errSwitchedOff)
			return
		}
		if ok && !time.Now().Before(due) {
			wanted, err := l.wanted(ctx, document)
			if err == nil {
				err = l.bring(ctx, wanted)
			}
			due = time.Now().Add(publishEvery)
			if l.unaccepted {
				due = time.Now().Add(acceptedEvery)
			}
			if err != nil && ctx.Err() == nil {
				slog.Warn("tell the cloud the keys of agents", logkey.Error, err)
				due = time.Now().Add(5 * time.Second)
			}
		}
		if await(ctx, told, time.Until(due), "agent", "settings") {
			due = time.Now()
		}
		if ctx.Err() != nil {
			return
		}
	}
}

// wanted are the statements that the cloud should have, by directory.
func (l *listener) wanted(ctx context.Context, document settings.Document) (map[string][]cloud.Stated, error) {
	agents, err := l.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	wanted := map[string][]cloud.Stated{}
	for _, directory := range document.Directories {
		if !directory.TakesPasswords() {
			continue
		}
		for _, agent := range agents {
			if statement := agent.Keys[directory.Name]; statement != "" && agent.Trusts == l.stream.Transmitter.Issuer && slices.Contains(agent.Serves(), directory.Name) {
				wanted[directory.Name] = append(wanted[directory.Name], cloud.Stated{Statement: statement, Agent: agent.Name})
			}
		}
	}
	return wanted, nil
}

// bring makes the cloud's key sets those.
func (l *listener) bring(ctx context.Context, wanted map[string][]cloud.Stated) error {
	have, err := l.cloud.KeySets(ctx)
	if err != nil {
		return err
	}
	missing := maps.Clone(wanted)
	for _, set := range have {
		keys, keep := wanted[set.Directory]
		delete(missing, set.Directory)
		switch {
		case !keep:
			err = l.cloud.DropKeySet(ctx, set.ID)
		case !slices.Equal(keys, set.Keys):
			set.Keys = keys
			err = l.cloud.PutKeySet(ctx, set)
		}
		if err != nil {
			return err
		}
	}
	for directory, keys := range missing {
		if err := l.cloud.PutKeySet(ctx, cloud.KeySet{Directory: directory, Keys: keys}); err != nil {
			return err
		}
	}
	if have, err = l.cloud.KeySets(ctx); err != nil {
		return err
	}
	published := map[string]map[string]bool{}
	l.unaccepted = false
	for _, set := range have {
		published[set.Directory] = map[string]bool{}
		for _, key := range set.Keys {
			accepted := set.Accepted == nil || slices.Contains(set.Accepted, keyOf(key.Statement))
			published[set.Directory][key.Agent] = accepted
			l.unaccepted = l.unaccepted || !accepted
		}
	}
	before, err := l.store.Passwords.Stream(ctx)
	if err != nil || maps.EqualFunc(before.Published, published, maps.Equal[map[string]bool, map[string]bool]) {
		return err
	}
	return l.store.Passwords.Published(ctx, published)
}
