package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/protocol/wire"
)

func (s *Server) operatorRoutes() {
	type named struct {
		Name string `path:"name" maxLength:"63"`
	}
	people := s.service.Operators
	huma.Register(s.api, operation("GET", "/operators", "list-operators", "People who can sign in", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.Operator], error) {
		return answer(people.List(ctx))
	})
	huma.Register(s.api, operation("POST", "/operators", "add-operator", "Add somebody who can sign in", wire.Administrator), func(ctx context.Context, in *body[wire.NewOperator]) (*body[wire.Session], error) {
		return answer(people.Add(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/operators/{name}", "remove-operator", "Remove somebody who can sign in, and end their sessions", wire.Administrator), func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, orNil(people.Remove(ctx, who(ctx).Name, in.Name))
	})
	huma.Register(s.api, operation("PUT", "/operators/{name}/password", "set-password", "Give an operator a new password, and end their sessions", wire.Administrator), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"63"`
		Body wire.NewPassword
	}) (*struct{}, error) {
		return nil, orNil(people.SetPassword(ctx, who(ctx), in.Name, in.Body.Password))
	})
	huma.Register(s.api, operation("PUT", "/operators/{name}/role", "set-role", "Give an operator another role, from the next request on", wire.Administrator), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"63"`
		Body wire.NewRole
	}) (*struct{}, error) {
		return nil, orNil(people.SetRole(ctx, who(ctx).Name, in.Name, in.Body.Role))
	})
	huma.Register(s.api, operation("DELETE", "/operators/{name}/factor", "remove-factor", "Take an operator's second factor away", wire.Administrator), func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, orNil(people.RemoveFactor(ctx, who(ctx), in.Name))
	})
	huma.Register(s.api, operation("GET", "/operator-groups", "list-operator-groups", "Groups of directories whose members sign in", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.OperatorGroup], error) {
		return answer(people.Groups(ctx))
	})
	huma.Register(s.api, operation("POST", "/operator-groups", "add-operator-group", "Let the members of a group sign in, or as another role", wire.Administrator), func(ctx context.Context, in *body[wire.NewOperatorGroup]) (*body[wire.OperatorGroup], error) {
		hit, err := s.service.Explain.ResolveEntry(ctx, in.Body.Group)
		if err != nil {
			return nil, fail(err)
		}
		return answer(people.AddGroup(ctx, who(ctx).Name, hit, in.Body.Role))
	})
	huma.Register(s.api, operation("DELETE", "/operator-groups/{directory}/{entryId}", "remove-operator-group", "Let the members of a group sign in no more", wire.Administrator), func(ctx context.Context, in *struct {
		Directory string `path:"directory" maxLength:"63"`
		EntryID   string `path:"entryId" format:"uuid"`
	}) (*struct{}, error) {
		return nil, orNil(people.RemoveGroup(ctx, who(ctx).Name, in.Directory, in.EntryID))
	})
	huma.Register(s.api, operation("GET", "/sessions", "list-sessions", "Sessions that go on", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.OpenSession], error) {
		return answer(people.Sessions(ctx, who(ctx)))
	})
	huma.Register(s.api, operation("DELETE", "/sessions/{id}", "end-session", "End a session", wire.Administrator), func(ctx context.Context, in *struct {
		ID string `path:"id" format:"uuid"`
	}) (*struct{}, error) {
		return nil, orNil(people.EndSession(ctx, who(ctx).Name, in.ID))
	})
	huma.Register(s.api, operation("GET", "/tokens", "list-tokens", "Tokens for programs", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.Token], error) {
		return answer(people.Tokens(ctx))
	})
	huma.Register(s.api, operation("POST", "/tokens", "make-token", "Make a token", wire.Administrator), func(ctx context.Context, in *body[wire.NewToken]) (*body[wire.Token], error) {
		return answer(people.MakeToken(ctx, who(ctx).Name, in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/tokens/{id}", "end-token", "End a token", wire.Administrator), func(ctx context.Context, in *struct {
		ID string `path:"id" format:"uuid"`
	}) (*struct{}, error) {
		return nil, orNil(people.EndToken(ctx, who(ctx).Name, in.ID))
	})
}
