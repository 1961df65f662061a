package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

type passwordsQuery struct {
	Directory string `query:"directory" maxLength:"63" doc:"Of this directory alone"`
	Failed    bool   `query:"failed" doc:"Of what was not done alone"`
	Cursor    string `query:"cursor"`
	Limit     int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

func (s *Server) passwordRoutes() {
	huma.Register(s.api, operation("GET", "/passwords", "passwords-state", "How the way stands by which passwords come from the cloud, step by step", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.PasswordsState], error) {
		return answer(s.service.Passwords.State(ctx))
	})
	huma.Register(s.api, operation("GET", "/passwords/events", "list-password-events", "What was asked about passwords and what became of it, the newest first; never a password", wire.Viewer), func(ctx context.Context, in *passwordsQuery) (*body[wire.Page[wire.PasswordEvent]], error) {
		offset, err := number(in.Cursor)
		if err != nil {
			return nil, fail(err)
		}
		events, total, err := s.service.Passwords.Events(ctx, store.PasswordQuery{Directory: in.Directory, Failed: in.Failed, Offset: int(offset), Limit: in.Limit})
		return answer(pageAt(events, total, int(offset)), err)
	})
	for _, one := range []struct {
		verb, summary string
		pause         bool
	}{{"pause", "Let no more digests of a directory's passwords be made", true}, {"resume", "Let digests of a directory's passwords be made again", false}} {
		huma.Register(s.api, operation("POST", "/passwords/digests/{name}/"+one.verb, one.verb+"-digests", one.summary, wire.Administrator), func(ctx context.Context, in *NamePath) (*body[wire.PasswordsState], error) {
			return answer(s.service.Passwords.PauseDigests(ctx, who(ctx).Name, in.Name, one.pause))
		})
	}
	huma.Register(s.api, operation("POST", "/passwords/try", "try-password", "Go the whole way for one person without setting anything", wire.OperatorRole), func(ctx context.Context, in *body[wire.TryPassword]) (*body[wire.PasswordTrial], error) {
		return answer(s.service.Passwords.Try(ctx, in.Body.Person))
	})
}
