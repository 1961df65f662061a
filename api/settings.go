package api

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

func (s *Server) settingsRoutes() {
	huma.Register(s.api, operation("GET", "/settings", "get-settings", "The active settings", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Settings], error) {
		revision, ok, err := s.store.ActiveSettings(ctx)
		if err == nil && !ok {
			err = problem.New(problem.NoSettings, "")
		}
		if err != nil {
			return nil, fail(err)
		}
		return answer(settingsView(revision))
	})
	huma.Register(s.api, operation("POST", "/settings", "activate-settings", "Activate a settings file", wire.Administrator), func(ctx context.Context, in *body[wire.ActivateSettings]) (*body[wire.Settings], error) {
		document, err := settings.Parse([]byte(in.Body.YAML))
		if err != nil {
			return nil, fail(err)
		}
		revision := store.Revision{Document: document, By: who(ctx).Name, Note: in.Body.Note}
		err = s.store.Tx(ctx, func(tx *store.Store) error {
			if err := tx.LockSettings(ctx); err != nil {
				return err
			}
			active, ok, err := tx.ActiveSettings(ctx)
			if err != nil {
				return err
			}
			if in.Body.Base != 0 && ok && active.Revision != in.Body.Base {
				return problem.New(problem.BadInput, "the file was made from revision %d, but %s has activated revision %d meanwhile. Export it and bring both together.", in.Body.Base, active.By, active.Revision)
			}
			if err := tx.Activate(ctx, &revision); err != nil {
				return err
			}
			return tx.Audit(ctx, who(ctx).Name, "activate settings", fmt.Sprintf("revision %d", revision.Revision))
		})
		if err != nil {
			return nil, fail(err)
		}
		return answer(settingsView(revision))
	})
}

func settingsView(r store.Revision) (wire.Settings, error) {
	text, err := r.Document.YAML()
	return wire.Settings{Revision: r.Revision, Document: r.Document, YAML: string(text), By: r.By, Activated: r.Activated, Note: r.Note}, err
}
