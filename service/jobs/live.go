package jobs

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/service/store"
)

// Changed asks for a run, since an agent has heard that its directory has changed. Words that
// come while a run waits are that run's; while one is under way, the next one follows it.
func (e *Jobs) Changed(ctx context.Context, directory string) error {
	active, live, err := e.Live(ctx, func(all pause.All) (pause.Pause, bool) { return all.OfDirectory(directory) })
	if err != nil || !live {
		return err
	}
	if _, is := active.Document.Directory(directory); !is {
		return nil
	}
	_, err = e.store.Runs.AskLive(ctx, active.Revision)
	return err
}

// Live tells whether changes start runs just now, by the settings that are active, and
// where no pause stops it. Out of hours what has changed is read when they begin.
func (e *Jobs) Live(ctx context.Context, stops func(pause.All) (pause.Pause, bool)) (active store.Revision, live bool, err error) {
	active, ok, err := e.store.Settings.Active(ctx)
	if err != nil || !ok || !active.Document.Schedule.IsLive() || !active.Document.Schedule.Within(time.Now()) {
		return active, false, err
	}
	pauses, err := e.store.Pauses.Now(ctx)
	_, stopped := stops(pauses)
	return active, err == nil && !stopped, err
}
