package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// ForecastPath names a forecast.
type ForecastPath struct {
	ID int64 `path:"id" minimum:"0" doc:"The forecast's run; 0 for the newest"`
}

func (s *Server) decideRoutes() {
	huma.Register(s.api, operation("POST", "/decisions", "decide", "Link, unlink, merge or create by hand; without do, only tell what would be done", wire.OperatorRole), func(ctx context.Context, in *body[wire.NewDecision]) (*body[wire.Decided], error) {
		return answer(s.service.Acts.Decide(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("POST", "/trials", "try", "Fetch one entry, explain each step, and start a run for it alone", wire.OperatorRole), func(ctx context.Context, in *body[wire.NewTrial]) (*body[wire.Trial], error) {
		return answer(s.service.Explain.Trial(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("POST", "/forecasts", "start-forecast", "Rehearse everybody: who would be linked, adopted, created, or left with a problem", wire.OperatorRole), func(ctx context.Context, in *body[wire.NewSurvey]) (*body[wire.Run], error) {
		id, err := s.service.Explain.Forecast(ctx, who(ctx).Name, in.Body.Draft)
		if err != nil {
			return nil, fail(err)
		}
		return answer(s.run(ctx, id))
	})
	huma.Register(s.api, operation("GET", "/forecasts/{id}", "get-forecast", "A forecast in numbers", wire.Viewer), func(ctx context.Context, in *ForecastPath) (*body[wire.Forecast], error) {
		return answer(s.service.Explain.ForecastOf(ctx, in.ID))
	})
	huma.Register(s.api, operation("GET", "/forecasts/{id}/unclaimed", "list-unclaimed", "Resources of the cloud that no entry has or would have", wire.Viewer), func(ctx context.Context, in *struct {
		ForecastPath
		Kind   string `query:"kind" enum:"user,group,contact"`
		Text   string `query:"text" maxLength:"200"`
		Cursor string `query:"cursor"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}) (*body[wire.Page[wire.CloudOnly]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		found, total, err := s.service.Explain.Unclaimed(ctx, in.ID, store.UnclaimedQuery{Kind: in.Kind, Text: in.Text, Offset: int(offset), Limit: in.Limit})
		return answer(pageAt(views.List(found, views.CloudOnly), total, int(offset)), err)
	})
	huma.Register(s.api, operation("POST", "/formulas/try", "try-formula", "Work a formula out on an entry or on typed values, with the value of each part", wire.Viewer), func(ctx context.Context, in *body[wire.TryFormula]) (*body[wire.TriedFormula], error) {
		return answer(s.service.Explain.TryFormula(ctx, in.Body))
	})
	huma.Register(s.api, operation("GET", "/formulas/functions", "list-functions", "What formulas can use", wire.Viewer), func(context.Context, *struct{}) (*body[[]wire.FormulaFunction], error) {
		functions := []wire.FormulaFunction{}
		for _, f := range formula.Library() {
			functions = append(functions, wire.FormulaFunction(f))
		}
		return answer(functions, nil)
	})
}
