package agents

import (
	"context"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// Watches keeps how an agent watches its directories and until when their certificates are
// valid, and says which it is to watch: those
// that it may speak for, while the settings want changes live.
func (a *Agents) Watches(ctx context.Context, agent store.Agent, said wire.Watches) ([]wire.WatchWanted, error) {
	wanted := []wire.WatchWanted{}
	kept := make([]store.Watch, len(said.States))
	for i, s := range said.States {
		kept[i] = store.Watch(s)
	}
	if err := a.store.Agents.KeepWatches(ctx, agent, kept); err != nil {
		return nil, err
	}
	for directory, expires := range said.Certificates {
		if !agent.May(directory) {
			continue
		}
		if err := a.store.Certificates.Keep(ctx, store.Certificate{Type: about.Directory, Key: directory, SeenBy: agent.ID, Expires: expires}); err != nil {
			return nil, err
		}
	}
	active, ok, err := a.store.Settings.Active(ctx)
	if err != nil || !ok || !active.Document.Schedule.IsLive() {
		return wanted, err
	}
	for _, d := range active.Document.Directories {
		if agent.May(d.Name) {
			wanted = append(wanted, wire.WatchWanted{Directory: d.Name, Dialect: d.Dialect, Base: d.Base})
		}
	}
	return wanted, nil
}
