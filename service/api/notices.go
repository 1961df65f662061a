package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/protocol/wire"
)

func (s *Server) noticeRoutes() {
	huma.Register(s.api, operation("GET", "/notices", "list-notices", "Who is told of what, and what people were told, the newest first", wire.OperatorRole), func(ctx context.Context, _ *struct{}) (*body[wire.NoticesView], error) {
		return answer(s.service.Notices.List(ctx))
	})
	huma.Register(s.api, operation("POST", "/notices/test", "test-notices", "Send a notice for a trial to everybody who is told of anything", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.Notice], error) {
		return answer(s.service.Notices.Test(ctx, who(ctx).Name))
	})
}
