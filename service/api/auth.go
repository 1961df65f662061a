package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/store"
)

const (
	sessionCookie = "kambrel_session"
	roleKey       = "role" // metadata of an operation: its least role
	identityKey   = "identity"
)

type callerContext struct{}

// who returns who makes the request; authorize has made sure that it is set.
func who(ctx context.Context) operators.Caller {
	caller, _ := ctx.Value(callerContext{}).(operators.Caller)
	return caller
}

// identify finds out who makes a request, by token or session. It refuses
// nobody; authorize does.
func (s *Server) identify(c *fiber.Ctx) error {
	if !strings.HasPrefix(c.Path(), "/api/") && c.Path() != "/metrics" {
		return c.Next()
	}
	secret, fromCookie := "", false
	if bearer, ok := strings.CutPrefix(c.Get("Authorization"), "Bearer "); ok {
		secret = bearer
	} else if secret = c.Cookies(s.cookieName()); secret != "" {
		fromCookie = true
	}
	if secret == "" || strings.Count(secret, ".") == 2 { // a JWT is an agent's
		return c.Next()
	}
	if site := c.Get("Sec-Fetch-Site"); fromCookie && c.Method() != http.MethodGet && site != "" && site != "same-origin" {
		return writeProblem(c, fail(problem.New(problem.NotAllowed, "the request comes from another site")))
	}
	caller, known, err := s.service.Operators.Identify(c.UserContext(), secret, s.address(c))
	if err != nil {
		return err
	}
	if known {
		c.Locals(identityKey, caller)
	}
	return c.Next()
}

// authorize lets a request through when its role is enough for the operation.
func (s *Server) authorize(ctx huma.Context, next func(huma.Context)) {
	least, restricted := ctx.Operation().Metadata[roleKey].(wire.Role)
	i, known := humafiber.Unwrap(ctx).Locals(identityKey).(operators.Caller)
	if restricted {
		var refusal error
		switch {
		case !known:
			refusal = problem.New(problem.SignInRefused, "this needs a session or a token.")
		case !i.Role.Allows(least):
			refusal = problem.New(problem.NotAllowed, "this needs the role %s; %s is %s.", least, i.Name, i.Role)
		}
		if refusal != nil {
			_ = writeProblem(humafiber.Unwrap(ctx), fail(refusal))
			return
		}
	}
	address := s.address(humafiber.Unwrap(ctx))
	ctx = huma.WithValue(ctx, addressContext{}, address)
	ctx = huma.WithContext(ctx, store.WithOrigin(ctx.Context(), originOf(address, ctx.Header("Authorization") == "", i, known)))
	next(huma.WithValue(ctx, callerContext{}, i))
}

// originOf says from where a request comes, for the audit.
func originOf(address string, cookie bool, caller operators.Caller, known bool) string {
	switch {
	case !known:
		return address
	case caller.SignedIn && cookie:
		return address + ", console"
	case caller.SignedIn:
		return address + ", command line"
	}
	return address + ", token"
}

// authorized is authorize for plain handlers.
func authorized(least wire.Role, handler fiber.Handler) fiber.Handler {
	return func(c *fiber.Ctx) error {
		i, known := c.Locals(identityKey).(operators.Caller)
		if !known {
			return writeProblem(c, fail(problem.New(problem.SignInRefused, "this needs a session or a token.")))
		}
		if !i.Role.Allows(least) {
			return writeProblem(c, fail(problem.New(problem.NotAllowed, "this needs the role %s.", least)))
		}
		return handler(c)
	}
}

// operation declares a route with its least role; "" is for everybody.
func operation(method, path, id, summary string, least wire.Role) huma.Operation {
	op := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary, Errors: []int{422, 500}, BodyReadTimeout: bodyTimeout}
	if least != "" {
		op.Metadata = map[string]any{roleKey: least}
		op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		op.Errors = append(op.Errors, 401, 403)
		op.Description = "Needs the role " + string(least) + "."
	}
	return op
}

// large lets an operation take what a directory's worth of findings needs.
func large(op huma.Operation) huma.Operation {
	op.MaxBodyBytes = bodyLimit
	return op
}

// body is an answer that has only a body.
type body[T any] struct{ Body T }

func answer[T any](value T, err error) (*body[T], error) {
	if err != nil {
		return nil, fail(err)
	}
	return &body[T]{value}, nil
}

type signInAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      wire.Session
}

func (s *Server) sessionRoutes() {
	people := s.service.Operators
	huma.Register(s.api, operation("POST", "/session", "sign-in", "Sign in with name and password", ""), s.signIn)
	huma.Register(s.api, operation("GET", "/session/ways", "get-sign-in-ways", "How one can sign in", ""), func(ctx context.Context, _ *struct{}) (*body[wire.SignInWays], error) {
		return answer(people.Ways(ctx))
	})
	huma.Register(s.api, operation("POST", "/session/factor", "new-factor", "Make a secret for an authenticator", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.NewFactor], error) {
		return answer(people.NewFactor(ctx, who(ctx), s.options.URL))
	})
	huma.Register(s.api, operation("PUT", "/session/factor", "set-factor", "Let yourself be asked for codes of a secret from now on, and end your other sessions", wire.Viewer), func(ctx context.Context, in *body[wire.OwnFactor]) (*struct{}, error) {
		return nil, orNil(people.SetFactor(ctx, who(ctx), in.Body))
	})
	huma.Register(s.api, operation("GET", "/session", "get-session", "Who is signed in", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Session], error) {
		return &body[wire.Session]{who(ctx).Session}, nil
	})
	huma.Register(s.api, operation("DELETE", "/session", "sign-out", "Sign out", wire.Viewer), func(ctx context.Context, _ *struct{}) (*signOutAnswer, error) {
		if err := people.SignOut(ctx, who(ctx)); err != nil {
			return nil, fail(err)
		}
		return &signOutAnswer{s.cookie("", -1)}, nil
	})
	huma.Register(s.api, operation("PUT", "/session/password", "change-password", "Change your own password, and end your other sessions", wire.Viewer), func(ctx context.Context, in *body[wire.OwnPassword]) (*struct{}, error) {
		return nil, orNil(people.ChangePassword(ctx, who(ctx), in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/session/everywhere", "sign-out-everywhere", "End all your sessions, this one too", wire.Viewer), func(ctx context.Context, _ *struct{}) (*signOutAnswer, error) {
		if err := people.SignOutEverywhere(ctx, who(ctx)); err != nil {
			return nil, fail(err)
		}
		return &signOutAnswer{s.cookie("", -1)}, nil
	})
}

type signOutAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

// orNil keeps a nil error nil, which a StatusError in an interface is not.
func orNil(err error) error {
	if err == nil {
		return nil
	}
	return fail(err)
}

// addressContext is the key of the address that a request comes from.
type addressContext struct{}

func (s *Server) signIn(ctx context.Context, in *body[wire.Credentials]) (*signInAnswer, error) {
	address, _ := ctx.Value(addressContext{}).(string)
	secret, session, err := s.service.Operators.SignIn(ctx, in.Body, address)
	var often operators.TooManyAttempts
	switch {
	case errors.As(err, &often):
		seconds := int(often.Wait/time.Second) + 1
		return nil, huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, fmt.Sprintf("too many attempts to sign in: try again in %d seconds", seconds)),
			http.Header{"Retry-After": {strconv.Itoa(seconds)}})
	case err != nil:
		return nil, fail(err)
	}
	return &signInAnswer{s.cookie(secret, int(operators.SessionTime/time.Second)), session}, nil
}

func (s *Server) cookie(secret string, age int) http.Cookie {
	return http.Cookie{
		Name: s.cookieName(), Value: secret, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: s.encrypted(),
	}
}

// encrypted tells whether the service is reached by TLS.
func (s *Server) encrypted() bool { return strings.HasPrefix(s.options.URL, "https://") }

// cookieName binds the cookie to this host where it goes over TLS, so that no
// other host of the domain can set it (RFC 6265bis section 4.1.3.2).
func (s *Server) cookieName() string {
	if s.encrypted() {
		return "__Host-" + sessionCookie
	}
	return sessionCookie
}
