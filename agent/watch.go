package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/wire"
)

const (
	watchesEvery = 3 * time.Second // how often it is asked what is to be watched
	// gather is how long after one word to the service the next one waits, so that a burst
	// is told a few times and not a thousand.
	gather       = 250 * time.Millisecond
	longestWatch = 10 * time.Second // between tries to watch again
	tryAgain     = 10 * time.Minute // where the directory has no way to tell
)

// watching is what the agent watches now.
type watching struct {
	mu     sync.Mutex
	states map[string]wire.Watch // by what is watched and how
	stops  map[string]func()     // by the same
}

// watch hears of changes in the directories for which the service wants it, and tells the
// service that there are some.
func (a *Agent) watch(ctx context.Context) error {
	w := &watching{states: map[string]wire.Watch{}, stops: map[string]func(){}}
	var group sync.WaitGroup
	defer group.Wait()
	ticker := time.NewTicker(watchesEvery)
	defer ticker.Stop()
	for ctx.Err() == nil {
		wanted, err := a.watches(ctx, wire.Watches{States: w.told(), Certificates: a.met.all()})
		switch {
		case errors.Is(err, errRetired):
			return err
		case err != nil: // what is watched goes on; it is told when the service is back
			if ctx.Err() == nil {
				slog.Debug("ask what is to be watched", logkey.Error, err)
			}
		default:
			a.follow(ctx, &group, w, wanted)
		}
		select {
		case <-ctx.Done():
		case <-ticker.C:
		}
	}
	return nil
}

// follow begins what is to be watched, and ends what is not any more, or otherwise.
func (a *Agent) follow(ctx context.Context, group *sync.WaitGroup, w *watching, wanted []wire.WatchWanted) {
	config, err := a.now()
	if err != nil {
		slog.Warn("read the configuration", logkey.Error, err)
		return
	}
	keep := map[string]bool{}
	for _, one := range wanted {
		for _, d := range config.Directories {
			if d.Name != one.Directory {
				continue
			}
			key := fmt.Sprintf("%+v %s", one, d.print())
			keep[key] = true
			if _, runs := w.stops[key]; runs {
				continue
			}
			watched, stop := context.WithCancel(ctx)
			w.stops[key] = stop
			group.Go(func() { a.watchOne(watched, w, key, d, one) })
		}
	}
	for key, stop := range w.stops {
		if !keep[key] {
			stop()
			delete(w.stops, key)
		}
	}
}

// watchOne watches one directory until ctx ends. After each beginning the service is told to
// read once, since nobody knows what has changed before.
func (a *Agent) watchOne(ctx context.Context, w *watching, key string, d Directory, wanted wire.WatchWanted) {
	defer w.forget(key)
	changed := make(chan struct{}, 1)
	hear := func() {
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	var teller sync.WaitGroup
	defer teller.Wait()
	teller.Go(func() { a.tellChanges(ctx, d.Name, changed) })
	pauses := pausesUpTo(longestWatch)
	for ctx.Err() == nil {
		began := time.Now()
		opened := func(state, detail string) func() {
			return func() {
				w.tell(key, wire.Watch{Directory: d.Name, State: state, Detail: detail})
				hear()
			}
		}
		err := a.onSession(ctx, d, func(s *directory.Session) error {
			return s.Watch(ctx, wanted.Dialect, wanted.Base, opened(wire.Watched, ""), hear)
		})
		if errors.Is(err, directory.ErrNotWatched) {
			why := err.Error()
			err = a.onSession(ctx, d, func(s *directory.Session) error {
				return s.Poll(ctx, wanted.Dialect, wanted.Base, pollEvery, opened(wire.WatchPolled, why), hear)
			})
		}
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > longestWatch {
			pauses.Reset()
		}
		state, pause := wire.WatchBroken, pauses.NextBackOff()
		if errors.Is(err, directory.ErrNotWatched) {
			state, pause = wire.NotWatched, tryAgain
		}
		w.tell(key, wire.Watch{Directory: d.Name, State: state, Detail: err.Error()})
		_ = rest.For(ctx, pause)
	}
}

// pollEvery is how often a directory is asked that does not tell what changes.
const pollEvery = 10 * time.Second

// onSession works on a connection of its own, which is closed when ctx ends.
func (a *Agent) onSession(ctx context.Context, d Directory, work func(*directory.Session) error) error {
	session, err := directory.Open(ctx, d.connection())
	if err != nil {
		return err
	}
	defer session.Close()
	a.met.see(d.Name, session)
	stop := context.AfterFunc(ctx, session.Close)
	defer stop()
	return work(session)
}

// tellChanges tells the service that a directory has changed: the first time at once, and
// what comes within a moment after that together.
func (a *Agent) tellChanges(ctx context.Context, name string, changed <-chan struct{}) {
	body, _ := json.Marshal(wire.Changed{Directory: name})
	for {
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
		for ctx.Err() == nil {
			response, err := a.do(ctx, http.MethodPost, "/api/v1/agent/changed", body)
			if err == nil {
				_ = response.Body.Close()
				break
			}
			if ctx.Err() == nil {
				slog.Warn("tell the service of a change", logkey.Directory, name, logkey.Error, err)
			}
			_ = rest.For(ctx, time.Second)
		}
		_ = rest.For(ctx, gather)
	}
}

// watches says how watching goes, and asks what is to be watched.
func (a *Agent) watches(ctx context.Context, said wire.Watches) ([]wire.WatchWanted, error) {
	body, err := json.Marshal(said)
	if err != nil {
		return nil, err
	}
	response, err := a.do(ctx, http.MethodPost, "/api/v1/agent/watches", body)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	var wanted []wire.WatchWanted
	return wanted, json.NewDecoder(response.Body).Decode(&wanted)
}

func (w *watching) tell(key string, state wire.Watch) {
	w.mu.Lock()
	defer w.mu.Unlock()
	before := w.states[key]
	if state.Since = before.Since; before.State != state.State {
		state.Since = time.Now()
		slog.Info("watching", logkey.Directory, state.Directory, logkey.State, state.State, logkey.Detail, state.Detail)
	}
	w.states[key] = state
}

func (w *watching) forget(key string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.states, key)
}

// told is how watching goes, always in the same order, so that the service keeps it only when
// it is otherwise.
func (w *watching) told() []wire.Watch {
	w.mu.Lock()
	defer w.mu.Unlock()
	states := slices.AppendSeq(make([]wire.Watch, 0, len(w.states)), maps.Values(w.states))
	slices.SortFunc(states, func(a, b wire.Watch) int {
		return cmp.Or(strings.Compare(a.Directory, b.Directory), a.Since.Compare(b.Since))
	})
	return states
}
