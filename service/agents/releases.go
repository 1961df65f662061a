package agents

import (
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// Releases lists the versions of the agent that are passed on, the newest first.
func (a *Agents) Releases(ctx context.Context) ([]wire.Release, error) {
	releases, err := a.store.Releases.List(ctx)
	return views.List(releases, views.Release), err
}

// AddRelease adds a version by what was signed of it. Added once more, it is as it was, so that
// programs whose upload broke off can follow.
func (a *Agents) AddRelease(ctx context.Context, by, statement string) (wire.Release, error) {
	statement = strings.TrimSpace(statement)
	signed, key, err := release.Read(statement)
	if err != nil {
		return wire.Release{}, problem.New(problem.BadInput, "%s.", err)
	}
	fresh := store.Release{Version: signed.Version, Statement: statement, Key: key, Made: time.Unix(signed.Made, 0), Added: time.Now(), AddedBy: by}
	for _, file := range signed.Files {
		fresh.Files = append(fresh.Files, store.ReleaseFile{Version: signed.Version, Platform: file.Platform, Name: file.Name, Size: file.Size, SHA256: file.SHA256})
	}
	err = a.store.Tx(ctx, func(tx *store.Store) error {
		known, err := tx.Releases.Get(ctx, signed.Version)
		switch {
		case err == nil && known.Statement == statement:
			fresh = known
			return nil
		case err == nil:
			return problem.New(problem.BadInput, "there is another release %s already, added by %s at %s: a version is signed once. Remove that one first, or sign this as a newer version.", known.Version, known.AddedBy, known.Added.UTC().Format(time.RFC3339))
		case !store.NotFound(err):
			return err
		}
		if err := tx.Releases.Add(ctx, &fresh); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.AddRelease, By: by, About: about.Thing{Type: about.Service}, After: map[string]string{"version": signed.Version, "key": key}})
	})
	return views.Release(fresh), err
}

// AddProgram adds the program of a platform to a release; it must be the one that was signed.
func (a *Agents) AddProgram(ctx context.Context, version, platform string, program []byte) (wire.Release, error) {
	var after store.Release
	err := a.store.Tx(ctx, func(tx *store.Store) error {
		known, err := knownRelease(ctx, tx, version)
		if err != nil {
			return err
		}
		signed, _, err := release.Read(known.Statement)
		if err != nil {
			return err
		}
		file, found := signed.For(platform)
		if !found {
			return problem.New(problem.NotFound, "release %s has no program for %s.", version, platform)
		}
		if err := file.Matches(program); err != nil {
			return problem.New(problem.BadInput, "%s.", err)
		}
		if err := tx.Releases.PutFile(ctx, version, platform, program); err != nil {
			return err
		}
		after, err = tx.Releases.Get(ctx, version)
		return err
	})
	return views.Release(after), err
}

// RemoveRelease forgets a version that no agent is to go on by.
func (a *Agents) RemoveRelease(ctx context.Context, by, version string) error {
	return a.store.Tx(ctx, func(tx *store.Store) error {
		known, err := knownRelease(ctx, tx, version)
		if err != nil {
			return err
		}
		agents, err := tx.Agents.ForUpdate(ctx)
		if err != nil {
			return err
		}
		var waiting []string
		for _, agent := range agents {
			if agent.UpdateTo == version && agent.UpdateState != wire.UpdateFailed {
				waiting = append(waiting, agent.Name)
			}
		}
		if len(waiting) > 0 {
			return problem.New(problem.BadInput, "%s is to go on by it: 'kambrel agent update %s --cancel' first.", strings.Join(waiting, ", "), waiting[0])
		}
		if _, err := tx.Releases.Remove(ctx, version); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.RemoveRelease, By: by, About: about.Thing{Type: about.Service}, Before: map[string]string{"version": version, "key": known.Key}})
	})
}

// WriteProgram passes the program of a platform on.
func (a *Agents) WriteProgram(ctx context.Context, version, platform string, to io.Writer) error {
	return a.store.Releases.WriteFile(ctx, version, platform, to)
}

// HasProgram tells whether the program of a platform is here.
func (a *Agents) HasProgram(ctx context.Context, version, platform string) (bool, error) {
	known, err := a.store.Releases.Get(ctx, version)
	if store.NotFound(err) {
		return false, nil
	}
	return err == nil && here(known, platform), err
}

func here(r store.Release, platform string) bool {
	return slices.ContainsFunc(r.Files, func(f store.ReleaseFile) bool { return f.Platform == platform && f.Here })
}

func knownRelease(ctx context.Context, tx *store.Store, version string) (store.Release, error) {
	known, err := tx.Releases.Get(ctx, version)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no release %s of the agent.", version)
	}
	return known, err
}
