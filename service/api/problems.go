package api

import (
	"context"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

type problemsQuery struct {
	Code   string `query:"code" maxLength:"60"`
	About  string `query:"about" enum:"entry,resource,cloud-group,directory,agent,cloud,domain,run,settings,service" doc:"Only of this type of thing"`
	Key    string `query:"key" maxLength:"300" doc:"Only of this one: with about, directory/id of an entry, else a name, id or number"`
	Closed bool   `query:"closed" doc:"Those that were closed, the last first, instead of the open ones"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type actsQuery struct {
	Kind   act.Kind `query:"kind" maxLength:"60" doc:"Only of this kind"`
	By     string   `query:"by" maxLength:"200" doc:"Only what this one did"`
	About  string   `query:"about" enum:"entry,resource,cloud-group,directory,agent,cloud,domain,run,repair,settings,operator,token,service" doc:"Only what was done to this type of thing"`
	Key    string   `query:"key" maxLength:"300" doc:"Only to this one: with about, directory/id of an entry, else a name, id or number"`
	Cursor string   `query:"cursor"`
	Limit  int      `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

func (s *Server) problemRoutes() {
	huma.Register(s.api, operation("GET", "/problems", "list-problems", "Problems with their facts and remedies, the oldest first", wire.Viewer), func(ctx context.Context, in *problemsQuery) (*body[wire.Page[wire.Problem]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		problems, total, err := s.service.Problems.List(ctx, store.ProblemQuery{Code: in.Code, Type: about.Type(in.About), Key: in.Key, Closed: in.Closed, Offset: int(offset), Limit: in.Limit})
		return answer(pageAt(problems, total, int(offset)), err)
	})
	huma.Register(s.api, operation("GET", "/problems/kinds", "list-problem-kinds", "The catalogue: every code with its cause and what to do", wire.Viewer), func(context.Context, *struct{}) (*body[[]wire.ProblemKind], error) {
		kinds := []wire.ProblemKind{}
		for _, kind := range problem.Catalogue() {
			kinds = append(kinds, wire.ProblemKind{Code: string(kind.Code), Title: kind.Title, Cause: kind.Cause, Remedy: kind.Remedy, Touches: kind.Touches})
		}
		return answer(kinds, nil)
	})
	huma.Register(s.api, operation("GET", "/acts", "list-acts", "Who did what, with before and after, the newest first", wire.OperatorRole), func(ctx context.Context, in *actsQuery) (*body[wire.Page[wire.Act]], error) {
		before, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		list, total, err := s.service.Acts.List(ctx, store.ActQuery{Kind: in.Kind, By: in.By, Type: about.Type(in.About), Key: in.Key, Before: before, Limit: in.Limit})
		page := wire.Page[wire.Act]{Items: list, Total: total}
		if len(list) == in.Limit {
			page.Next = strconv.FormatInt(list[len(list)-1].ID, 10)
		}
		return answer(page, err)
	})
	huma.Register(s.api, operation("GET", "/acts/kinds", "list-act-kinds", "The catalogue of acts: what each is done to, and which takes it back", wire.Viewer), func(context.Context, *struct{}) (*body[[]act.Description], error) {
		return answer(act.Catalogue(), nil)
	})
}
