package api

import (
	"context"
	"log/slog"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

type problemsQuery struct {
	Code   string `query:"code" maxLength:"60"`
	About  string `query:"about" enum:"entry,resource,cloud-group,directory,agent,cloud,domain,run,settings,service" doc:"Only of this type of thing"`
	Key    string `query:"key" maxLength:"300" doc:"Only of this one: with about, directory/id of an entry, else a name, id or number"`
	Closed bool   `query:"closed" doc:"Those that were closed, the last first, instead of the open ones"`
	Run    int64  `query:"run" minimum:"1" doc:"Those of a run, with share"`
	Share  string `query:"share" enum:"new,gone,standing" default:"new" doc:"What the run has to do with them: it has opened them, closed them, or they stood before it and still do"`
	To     string `query:"assigned" maxLength:"200" doc:"Only those that this one looks after"`
	Asleep string `query:"asleep" enum:"yes,no" doc:"Only those that sleep, or that do not"`
	Text   string `query:"text" maxLength:"200" doc:"Part of a name or of the detail"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type actsQuery struct {
	Kind   act.Kind   `query:"kind" maxLength:"60" doc:"Only of this kind"`
	By     string     `query:"by" maxLength:"200" doc:"Only what this one did"`
	About  string     `query:"about" enum:"entry,resource,cloud-group,directory,agent,cloud,domain,run,repair,settings,operator,token,service" doc:"Only what was done to this type of thing"`
	Key    string     `query:"key" maxLength:"300" doc:"Only to this one: with about, directory/id of an entry, else a name, id or number"`
	Result act.Result `query:"result" enum:"done,refused,failed"`
	Text   string     `query:"text" maxLength:"200" doc:"Part of a name, a note, or of what was before or after"`
	Since  time.Time  `query:"since"`
	Until  time.Time  `query:"until"`
	Cursor string     `query:"cursor"`
	Limit  int        `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

func (q actsQuery) query() store.ActQuery {
	return store.ActQuery{Kind: q.Kind, By: q.By, Type: about.Type(q.About), Key: q.Key, Result: q.Result, Text: q.Text, Since: q.Since, Until: q.Until, Limit: q.Limit}
}

func (s *Server) problemRoutes() {
	huma.Register(s.api, operation("GET", "/problems", "list-problems", "Problems with their facts and remedies, the newest first, those that sleep last", wire.Viewer), func(ctx context.Context, in *problemsQuery) (*body[wire.Page[wire.Problem]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		q := store.ProblemQuery{Code: in.Code, Type: about.Type(in.About), Key: in.Key, Closed: in.Closed, Assigned: in.To, Text: in.Text, Offset: int(offset), Limit: in.Limit}
		if in.Run > 0 {
			q.Run, q.In = in.Run, store.RunShare(in.Share)
		}
		if in.Asleep != "" {
			asleep := in.Asleep == "yes"
			q.Asleep = &asleep
		}
		list, total, err := s.service.Problems.List(ctx, q)
		return answer(pageAt(list, total, int(offset)), err)
	})
	huma.Register(s.api, operation("GET", "/problems/kinds", "list-problem-kinds", "The catalogue: every code with its cause and what to do", wire.Viewer), func(context.Context, *struct{}) (*body[[]wire.ProblemKind], error) {
		return answer(s.service.Problems.Kinds(), nil)
	})
	huma.Register(s.api, operation("GET", "/problems/groups", "group-problems", "The open problems by what causes them, the most frequent first, with what came and went of late", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.ProblemGroup], error) {
		return answer(s.service.Problems.Groups(ctx))
	})
	huma.Register(s.api, operation("GET", "/problems/repairs", "offer-repairs", "The values that would have to be others so that problems are solved, to be edited and written by write-repairs", wire.Viewer), func(ctx context.Context, in *struct {
		ID   int64  `query:"id" minimum:"1" doc:"Of one problem"`
		Code string `query:"code" maxLength:"60" doc:"Or of all open ones that have this code, at most 1000"`
	}) (*body[[]wire.RepairItem], error) {
		return answer(s.service.Surveys.RepairsOf(ctx, in.ID, in.Code))
	})
	huma.Register(s.api, operation("GET", "/problems/{id}", "get-problem", "One problem, with values that could be repaired and what was done about it", wire.Viewer), s.problem)
	huma.Register(s.api, operation("POST", "/problems/marks", "mark-problems", "Say who looks after problems, note something, or let them sleep until a time", wire.OperatorRole), func(ctx context.Context, in *body[wire.MarkProblems]) (*body[wire.MarkedProblems], error) {
		return answer(s.service.Problems.Mark(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("GET", "/acts", "list-acts", "Who did what, with before and after, the newest first", wire.OperatorRole), func(ctx context.Context, in *actsQuery) (*body[wire.Page[wire.Act]], error) {
		before, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		q := in.query()
		q.Before = before
		list, total, err := s.service.Acts.List(ctx, q)
		page := wire.Page[wire.Act]{Items: list, Total: total}
		if len(list) == in.Limit {
			page.Next = strconv.FormatInt(list[len(list)-1].ID, 10)
		}
		return answer(page, err)
	})
	huma.Register(s.api, csvOperation("/acts.csv", "export-acts", "Who did what, as CSV (RFC 4180), the newest first", wire.OperatorRole), func(_ context.Context, in *actsQuery) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(answer huma.Context) {
			answer.SetHeader("Content-Type", csvType)
			answer.SetHeader("Content-Disposition", `attachment; filename="acts.csv"`)
			if err := s.service.Acts.ExportCSV(answer.Context(), in.query(), answer.BodyWriter()); err != nil {
				slog.Error("export acts", logkey.Error, err)
			}
		}}, nil
	})
	huma.Register(s.api, operation("GET", "/acts/kinds", "list-act-kinds", "The catalogue of acts: what each is done to, and which takes it back", wire.Viewer), func(context.Context, *struct{}) (*body[[]act.Description], error) {
		return answer(act.Catalogue(), nil)
	})
}

// mostActs is how many acts are shown with a problem.
const mostActs = 50

// problem shows one problem with all that helps to solve it.
func (s *Server) problem(ctx context.Context, in *RunPath) (*body[wire.ProblemView], error) {
	one, err := s.service.Problems.Get(ctx, in.ID)
	if err != nil {
		return nil, fail(err)
	}
	view := wire.ProblemView{Problem: one, Acts: []wire.Act{}}
	if view.Repairs, err = s.service.Surveys.RepairsOf(ctx, in.ID, ""); err != nil {
		return nil, fail(err)
	}
	acts, _, err := s.service.Acts.List(ctx, store.ActQuery{Type: one.About.Type, Key: one.About.Key, Limit: mostActs})
	for _, a := range acts {
		if !a.At.Before(one.Since) && (one.Closed == nil || !a.At.After(*one.Closed)) {
			view.Acts = append(view.Acts, a)
		}
	}
	return answer(view, err)
}
