package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

type pinsQuery struct {
	Directory string `query:"directory" maxLength:"63" doc:"Of this entry, with id"`
	ID        string `query:"id" format:"uuid"`
	Run       int64  `query:"run" minimum:"1" doc:"What undoing this run has put back"`
	Cursor    string `query:"cursor" doc:"next of the page before"`
	Limit     int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

func (s *Server) undoRoutes() {
	huma.Register(s.api, operation("POST", "/runs/{id}/undo", "undo-run", "Say what of a run can be put back, or put it back", wire.OperatorRole), func(ctx context.Context, in *struct {
		RunPath
		Body wire.NewUndo
	}) (*body[wire.Undo], error) {
		if in.Body.Do && in.Body.ReturnSettings && !who(ctx).Role.Allows(wire.Administrator) {
			return nil, fail(problem.New(problem.NotAllowed, "only an administrator returns to other settings."))
		}
		return answer(s.service.Acts.Undo(ctx, who(ctx).Name, in.ID, in.Body))
	})
	huma.Register(s.api, operation("GET", "/pins", "list-pins", "What was put back and stays so, the newest first", wire.Viewer), func(ctx context.Context, in *pinsQuery) (*body[wire.Page[wire.Pin]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		q := store.PinQuery{Run: in.Run, Offset: int(offset), Limit: in.Limit}
		if in.ID != "" {
			ref, err := entry.ParseRef(in.Directory + "/" + in.ID)
			if err != nil {
				return nil, fail(problem.Wrap(problem.BadInput, err, "read the entry's id"))
			}
			q.Ref = &ref
		}
		rows, total, err := s.store.Pins.List(ctx, q)
		if err != nil {
			return nil, fail(err)
		}
		list, err := views.Pins(rows)
		return answer(pageAt(list, total, int(offset)), err)
	})
	huma.Register(s.api, operation("POST", "/pins/lift", "lift-pins", "Let rules and scope decide again about what was put back", wire.OperatorRole), func(ctx context.Context, in *body[wire.LiftPins]) (*body[wire.Run], error) {
		return s.started(ctx, func() (int64, error) { return s.service.Acts.LiftPins(ctx, who(ctx).Name, in.Body) })
	})
}
