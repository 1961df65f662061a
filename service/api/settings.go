package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// RevisionPath names a revision.
type RevisionPath struct {
	Revision int `path:"revision" minimum:"1"`
}

func (s *Server) settingsRoutes() {
	huma.Register(s.api, operation("GET", "/settings/defaults/{kind}", "default-rules", "The rules of a kind that suit the directories of the draft", wire.Viewer), func(ctx context.Context, in *struct {
		Kind string `path:"kind" enum:"user,group,contact"`
	}) (*body[[]settings.Rule], error) {
		document, err := s.service.Setup.Document(ctx, true)
		return answer(document.DefaultRules(entry.Kind(in.Kind)), err)
	})
	huma.Register(s.api, operation("GET", "/settings", "get-settings", "The active settings", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Settings], error) {
		revision, ok, err := s.store.Settings.Active(ctx)
		if err == nil && !ok {
			err = problem.New(problem.NoSettings, "")
		}
		if err != nil {
			return nil, fail(err)
		}
		return answer(settingsView(revision))
	})
	huma.Register(s.api, operation("POST", "/settings", "activate-settings", "Activate a settings file", wire.Administrator), func(ctx context.Context, in *body[wire.ActivateSettings]) (*body[wire.Settings], error) {
		document, err := s.parse(settings.Parse, in.Body.YAML)
		if err != nil {
			return nil, fail(err)
		}
		revision := store.Revision{Document: document, By: who(ctx).Name, Note: in.Body.Note}
		if err := s.service.Setup.Activate(ctx, &revision, in.Body.Base, in.Body.Although); err != nil {
			return nil, fail(err)
		}
		return answer(settingsView(revision))
	})
	huma.Register(s.api, operation("POST", "/settings/check", "check-settings", "List the faults of a settings file, without keeping it", wire.Viewer), func(ctx context.Context, in *struct {
		Body struct {
			YAML string `json:"yaml" maxLength:"1000000"`
		}
	}) (*body[wire.Checked], error) {
		return answer(s.service.Setup.Check(ctx, in.Body.YAML, func(text string) (settings.Document, error) { return s.parse(settings.Parse, text) }))
	})
	s.revisionRoutes()
	s.draftRoutes()
}

// parse reads settings files one at a time, since each may take a lot of memory.
func (s *Server) parse(read func([]byte) (settings.Document, error), text string) (settings.Document, error) {
	s.parsing.Lock()
	defer s.parsing.Unlock()
	return read([]byte(text))
}

func (s *Server) revisionRoutes() {
	huma.Register(s.api, operation("GET", "/settings/revisions", "list-revisions", "Revisions, the newest first", wire.Viewer), func(ctx context.Context, in *struct {
		Cursor string `query:"cursor"`
		Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}) (*body[wire.Page[wire.RevisionLine]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		revisions, total, err := s.store.Settings.Revisions(ctx, int(offset), in.Limit)
		lines := make([]wire.RevisionLine, len(revisions))
		for i, r := range revisions {
			lines[i] = wire.RevisionLine{Revision: r.Revision, By: r.By, Activated: r.Activated, Note: r.Note}
		}
		return answer(pageAt(lines, total, int(offset)), err)
	})
	huma.Register(s.api, operation("GET", "/settings/revisions/{revision}", "get-revision", "One revision", wire.Viewer), func(ctx context.Context, in *RevisionPath) (*body[wire.Settings], error) {
		r, err := s.service.Setup.Revision(ctx, in.Revision)
		if err != nil {
			return nil, fail(err)
		}
		return answer(settingsView(r))
	})
	huma.Register(s.api, operation("POST", "/settings/revisions/{revision}/draft", "return-to-revision", "Make the draft what a revision was", wire.Administrator), func(ctx context.Context, in *struct {
		RevisionPath
		Body struct {
			Version int `json:"version" minimum:"0" doc:"The version of the draft that this replaces; 0 for none"`
		}
	}) (*body[wire.Draft], error) {
		r, err := s.service.Setup.Revision(ctx, in.Revision)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.service.Setup.EditDraft(ctx, who(ctx).Name, in.Body.Version, func(document *settings.Document) error {
			*document = r.Document
			return nil
		}))
	})
	huma.Register(s.api, operation("GET", "/settings/diff", "compare-settings", "In what two documents differ", wire.Viewer), func(ctx context.Context, in *struct {
		From string `query:"from" required:"true" doc:"A revision, or draft"`
		To   string `query:"to" required:"true" doc:"A revision, or draft"`
	}) (*body[wire.Comparison], error) {
		return answer(s.service.Setup.Compare(ctx, in.From, in.To))
	})
}

func (s *Server) draftRoutes() {
	huma.Register(s.api, operation("GET", "/settings/draft", "get-draft", "The draft, with its faults and what it changes", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Draft], error) {
		return answer(s.service.Setup.Draft(ctx))
	})
	huma.Register(s.api, operation("PUT", "/settings/draft", "save-draft", "Save the draft", wire.Administrator), func(ctx context.Context, in *body[wire.SaveDraft]) (*body[wire.Draft], error) {
		document := in.Body.Document
		switch {
		case document != nil && in.Body.YAML != "", document == nil && in.Body.YAML == "":
			return nil, fail(problem.New(problem.BadInput, "give either document or yaml."))
		case document == nil:
			read, err := s.parse(settings.Read, in.Body.YAML)
			if err != nil {
				return nil, fail(err)
			}
			document = &read
		}
		draft, err := s.service.Setup.EditDraft(ctx, who(ctx).Name, in.Body.Version, func(d *settings.Document) error {
			*d = *document
			return nil
		})
		_, draft.Notes = settings.Modern([]byte(in.Body.YAML))
		return answer(draft, err)
	})
	huma.Register(s.api, operation("DELETE", "/settings/draft", "discard-draft", "Discard the draft", wire.Administrator), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		return nil, orNil(s.service.Setup.DiscardDraft(ctx, who(ctx).Name))
	})
	huma.Register(s.api, operation("POST", "/settings/draft/activate", "activate-draft", "Make the draft the active settings", wire.Administrator), func(ctx context.Context, in *body[wire.ActivateDraft]) (*body[wire.Settings], error) {
		revision, err := s.service.Setup.ActivateDraft(ctx, who(ctx).Name, in.Body.Version, in.Body.Note, in.Body.Although)
		if err != nil {
			return nil, fail(err)
		}
		return answer(settingsView(revision))
	})
	huma.Register(s.api, operation("GET", "/settings/expectations", "list-expectations", "What settings expect of entries, and whether it holds", wire.Viewer), func(ctx context.Context, in *struct {
		Draft bool `query:"draft" doc:"Those of the draft, by the draft; where there is none, the active ones"`
	}) (*body[wire.Expectations], error) {
		document, err := s.service.Setup.Document(ctx, in.Draft)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.service.Setup.Expectations(ctx, document))
	})
	huma.Register(s.api, operation("POST", "/settings/draft/expectations", "expect", "Expect in the draft that an entry stays as it is", wire.Administrator), func(ctx context.Context, in *body[wire.NewExpectation]) (*body[wire.Draft], error) {
		return answer(s.service.Setup.Expect(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("POST", "/settings/draft/impact", "rehearse-draft", "Rehearse the draft: what would change if it were activated", wire.OperatorRole), func(ctx context.Context, _ *struct{}) (*body[wire.Run], error) {
		id, err := s.service.Setup.Impact(ctx, who(ctx).Name)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("POST", "/settings/draft/read", "read-directories", "Read the directories of the draft, without planning or writing", wire.OperatorRole), func(ctx context.Context, _ *struct{}) (*body[wire.Run], error) {
		id, err := s.service.Setup.Look(ctx, who(ctx).Name)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("POST", "/runs/{id}/cancel", "cancel-run", "End a rehearsal, a survey or a reading", wire.OperatorRole), func(ctx context.Context, in *RunPath) (*struct{}, error) {
		return nil, orNil(s.service.Jobs.Cancel(ctx, in.ID, who(ctx).Name))
	})
}

func settingsView(r store.Revision) (wire.Settings, error) {
	text, err := r.Document.YAML()
	return wire.Settings{Revision: r.Revision, Document: r.Document, YAML: string(text), By: r.By, Activated: r.Activated, Note: r.Note}, err
}
