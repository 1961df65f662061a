package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/views"
)

// nextShown is how many runs of a schedule are told.
const nextShown = 4

// pauseRoutes are when runs begin by themselves, and what keeps them from it.
func (s *Server) pauseRoutes() {
	list := func(ctx context.Context) (*body[[]wire.Pause], error) {
		all, err := s.store.Pauses.Now(ctx)
		return answer(views.List(all, views.Pause), err)
	}
	huma.Register(s.api, operation("GET", "/pauses", "list-pauses", "What operators have stopped", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.Pause], error) {
		return list(ctx)
	})
	huma.Register(s.api, operation("POST", "/schedule/times", "try-schedule", "When a schedule would start the next runs; nothing is kept", wire.Viewer), func(ctx context.Context, in *body[settings.Schedule]) (*body[wire.ScheduleTimes], error) {
		out := wire.ScheduleTimes{Faults: in.Body.Faults(), Next: []time.Time{}}
		if len(out.Faults) > 0 {
			return answer(out, nil)
		}
		out.Within = in.Body.Within(time.Now())
		var err error
		out.Next, out.Full, err = s.service.Jobs.Times(ctx, in.Body, nextShown)
		return answer(out, err)
	})
	huma.Register(s.api, operation("POST", "/pauses", "pause", "Stop all of the work or a part of it; a run that is under way ends where it is", wire.OperatorRole), func(ctx context.Context, in *body[wire.NewPause]) (*body[[]wire.Pause], error) {
		p := pause.Pause{Of: pause.Of(in.Body.Of), Directory: in.Body.Directory, By: who(ctx).Name, Reason: in.Body.Reason, Until: in.Body.Until}
		if err := s.service.Jobs.Pause(ctx, p); err != nil {
			return nil, fail(err)
		}
		return list(ctx)
	})
	huma.Register(s.api, operation("DELETE", "/pauses/{of}", "resume", "Let paused work go on; what has changed meanwhile is taken up by a run", wire.OperatorRole), func(ctx context.Context, in *struct {
		Of        string `path:"of" enum:"everything,cloud,directories,directory"`
		Directory string `query:"directory" doc:"Of a pause of one directory"`
	}) (*body[[]wire.Pause], error) {
		if err := s.service.Jobs.Resume(ctx, pause.Of(in.Of), in.Directory, who(ctx).Name); err != nil {
			return nil, fail(err)
		}
		return list(ctx)
	})
}
