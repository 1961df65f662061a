package jobs

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/service/store"
)

// Changed asks for a run, since an agent has heard that its directory has changed. Words that
// come while a run waits are that run's; while one is under way, the next one follows it.
func (e *Jobs) Changed(ctx context.Context, directory string) error {
	revision, ok, err := e.store.Settings.Active(ctx)
	if err != nil || !ok || !revision.Document.Schedule.IsLive() || !revision.Document.Schedule.Within(time.Now()) {
		return err // out of hours it is read when they begin
	}
	if _, is := revision.Document.Directory(directory); !is {
		return nil
	}
	pauses, err := e.store.Pauses.Now(ctx)
	if err != nil {
		return err
	}
	if _, stopped := pauses.OfDirectory(directory); stopped {
		return nil
	}
	_, err = e.store.Runs.AskOnce(ctx, store.Run{Purpose: purpose.Sync, By: store.ByLive, Revision: revision.Revision})
	return err
}
