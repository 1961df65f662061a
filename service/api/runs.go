package api

import (
	"context"
	"fmt"
	"log/slog"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// RunPath names a run; Huma fills embedded structs only when they are exported.
type RunPath struct {
	ID int64 `path:"id" minimum:"1"`
}

type offsetQuery struct {
	Cursor string `query:"cursor" doc:"next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

// KeptPath names the entry of which something is kept; it is exported since Huma reads
// embedded structs only then.
type KeptPath struct {
	Directory string `path:"directory" maxLength:"63"`
	ID        string `path:"id" format:"uuid"`
}

type runsQuery struct {
	Cursor  string          `query:"cursor" doc:"next of the page before"`
	Limit   int             `query:"limit" minimum:"1" maximum:"500" default:"50"`
	State   string          `query:"state" enum:"waiting,running,in-step,problems,failed,cancelled"`
	Changed bool            `query:"changed" doc:"Only runs that changed something, opened or closed a problem, or have not ended well"`
	Purpose purpose.Purpose `query:"purpose" enum:"sync,full,release,single,undo,rehearsal,forecast,impact,trial,look,survey"`
}

type changesQuery struct {
	RunPath
	Cursor    string `query:"cursor" doc:"next of the page before"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Kind      string `query:"kind" enum:"user,group,contact"`
	Operation string `query:"operation" enum:"create,adopt,update,restore,suspend,leave,delete,unlink,none"`
	Code      string `query:"code" maxLength:"60" doc:"Of a problem"`
	State     string `query:"state" enum:"planned,sent,done,failed,held,discarded,superseded,blocked,noted,unconfirmed,unanswered"`
	Without   string `query:"without" enum:"blocked,noted" doc:"All states but this one: blocked are those that a problem keeps from being done"`
	Text      string `query:"text" maxLength:"200" doc:"Part of a login or a distinguished name"`
}

func (s *Server) runRoutes() {
	huma.Register(s.api, operation("POST", "/runs", "start-run", "Start a run or a rehearsal", wire.OperatorRole), func(ctx context.Context, in *body[wire.NewRun]) (*body[wire.Run], error) {
		id, err := s.service.Jobs.Begin(ctx, store.Run{Purpose: in.Body.Purpose, By: who(ctx).Name})
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("GET", "/runs", "list-runs", "Runs, the newest first", wire.Viewer), func(ctx context.Context, in *runsQuery) (*body[wire.Page[wire.Run]], error) {
		before, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		list, total, err := s.store.Runs.List(ctx, store.RunQuery{State: in.State, Purpose: in.Purpose, Changed: in.Changed, Before: before, Limit: in.Limit})
		page := wire.Page[wire.Run]{Items: make([]wire.Run, len(list)), Total: total}
		for i, run := range list {
			page.Items[i] = views.Run(run)
		}
		if len(list) == in.Limit {
			page.Next = strconv.FormatInt(list[len(list)-1].ID, 10)
		}
		return answer(page, err)
	})
	huma.Register(s.api, operation("GET", "/runs/{id}", "get-run", "One run", wire.Viewer), func(ctx context.Context, in *RunPath) (*body[wire.Run], error) {
		return answer(s.run(ctx, in.ID))
	})
	huma.Register(s.api, operation("GET", "/runs/{id}/changes", "list-changes", "The changes of a run", wire.Viewer), s.changes)
	huma.Register(s.api, csvOperation("/runs/{id}/changes.csv", "export-changes", "The changes and problems of a run, or of a forecast, as CSV (RFC 4180)", wire.Viewer), s.exportChanges)
	huma.Register(s.api, operation("POST", "/runs/{id}/release", "release-removals", "Let through what a run holds, or some of it", wire.OperatorRole), func(ctx context.Context, in *struct {
		RunPath
		Body *wire.ReleaseHeld
	}) (*body[wire.Run], error) {
		var only []int64
		if in.Body != nil {
			only = in.Body.Changes
		}
		id, err := s.service.Jobs.Release(ctx, in.ID, only, who(ctx).Name)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("POST", "/runs/{id}/discard", "discard-held", "Keep what a run would have taken away, until the cause changes", wire.OperatorRole), func(ctx context.Context, in *struct {
		RunPath
		Body wire.DiscardHeld
	}) (*body[wire.Run], error) {
		reason := strings.TrimSpace(in.Body.Reason)
		if reason == "" {
			return nil, fail(problem.New(problem.BadInput, "say why: the reason is shown with what is kept."))
		}
		id, err := s.service.Jobs.Discard(ctx, in.ID, in.Body.Changes, who(ctx).Name, reason)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("GET", "/kept", "list-kept", "What runs would have taken away, and operators have discarded, the newest first", wire.Viewer), func(ctx context.Context, in *offsetQuery) (*body[wire.Page[wire.Kept]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		kept, total, err := s.store.Kept.List(ctx, int(offset), in.Limit)
		return answer(pageAt(views.List(kept, views.Kept), total, int(offset)), err)
	})
	huma.Register(s.api, operation("GET", "/leavers", "list-leavers", "Whose resources are deleted when their grace time is over, the first ones first", wire.Viewer), func(ctx context.Context, in *offsetQuery) (*body[wire.Page[wire.Leaver]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		leavers, total, err := s.service.Explain.Leavers(ctx, int(offset), in.Limit)
		return answer(pageAt(views.List(leavers, views.Leaver), total, int(offset)), err)
	})
	huma.Register(s.api, operation("DELETE", "/kept/{directory}/{id}", "end-kept", "Let the next run decide again about what is kept of an entry", wire.OperatorRole), func(ctx context.Context, in *KeptPath) (*body[wire.Run], error) {
		ref, err := entry.ParseRef(in.Directory + "/" + in.ID)
		if err != nil {
			return nil, fail(problem.Wrap(problem.BadInput, err, "read the entry's id"))
		}
		id, err := s.service.Jobs.EndKept(ctx, ref, who(ctx).Name)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
}

func (s *Server) run(ctx context.Context, id int64) (wire.Run, error) {
	run, err := s.store.Runs.Get(ctx, id)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no run %d.", id)
	}
	return views.Run(run), err
}

func (s *Server) exportChanges(ctx context.Context, in *changesQuery) (*huma.StreamResponse, error) {
	if _, err := s.run(ctx, in.ID); err != nil {
		return nil, fail(err)
	}
	return &huma.StreamResponse{Body: func(answer huma.Context) {
		answer.SetHeader("Content-Type", csvType)
		answer.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=\"run-%d.csv\"", in.ID))
		q := store.ChangeQuery{Run: in.ID, Kind: in.Kind, Operation: in.Operation, Code: in.Code, State: in.State, Text: in.Text}
		if err := s.service.Explain.ExportChanges(answer.Context(), q, answer.BodyWriter()); err != nil {
			slog.Error("export changes", logkey.Run, in.ID, logkey.Error, err)
		}
	}}, nil
}

func (s *Server) changes(ctx context.Context, in *changesQuery) (*body[wire.Page[wire.Change]], error) {
	after, err := number(in.Cursor)
	if err != nil {
		return nil, fail(err)
	}
	if _, err := s.run(ctx, in.ID); err != nil {
		return nil, fail(err)
	}
	changes, total, err := s.store.Changes.List(ctx, store.ChangeQuery{Run: in.ID, Kind: in.Kind, Operation: in.Operation, Code: in.Code, State: in.State, Without: in.Without, Text: in.Text, After: after, Limit: in.Limit})
	if err != nil {
		return nil, fail(err)
	}
	page := wire.Page[wire.Change]{Total: total.N, AtLeast: total.AtLeast}
	if len(changes) == in.Limit {
		page.Next = strconv.FormatInt(changes[len(changes)-1].ID, 10)
	}
	page.Items, err = views.Changes(changes)
	return answer(page, err)
}

// number reads a cursor; "" is 0.
func number(cursor string) (int64, error) {
	if cursor == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(cursor, 10, 64)
	if err != nil || n < 0 {
		return 0, problem.New(problem.BadInput, "cursor %q: use the next of the page before.", cursor)
	}
	return n, nil
}

// started is the run that an act has asked for.
func (s *Server) started(ctx context.Context, ask func() (int64, error)) (*body[wire.Run], error) {
	id, err := ask()
	if err != nil {
		return nil, fail(err)
	}
	return answer(s.run(ctx, id))
}
