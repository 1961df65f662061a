package api

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v2"
	"github.com/google/uuid"
	"golang.org/x/crypto/bcrypt"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

const (
	sessionCookie = "kambrel_session"
	sessionTime   = 12 * time.Hour
	roleKey       = "role" // metadata of an operation: its least role
	identityKey   = "identity"
)

// identity is who makes a request.
type identity struct {
	wire.Session
	tokenID string
	session bool // of an operator, not the token of a program
}

type identityContext struct{}

// who returns who makes the request; authorize has made sure that it is set.
func who(ctx context.Context) identity {
	i, _ := ctx.Value(identityContext{}).(identity)
	return i
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
	token, err := s.store.TokenBySecret(c.UserContext(), secret)
	if store.NotFound(err) {
		return c.Next()
	}
	if err != nil {
		return err
	}
	c.Locals(identityKey, identity{wire.Session{Name: token.Name, Role: wire.Role(token.Role)}, token.ID, token.Kind == "session"})
	return c.Next()
}

// authorize lets a request through when its role is enough for the operation.
func (s *Server) authorize(ctx huma.Context, next func(huma.Context)) {
	least, restricted := ctx.Operation().Metadata[roleKey].(wire.Role)
	i, known := humafiber.Unwrap(ctx).Locals(identityKey).(identity)
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
	ctx = huma.WithValue(ctx, addressContext{}, s.address(humafiber.Unwrap(ctx)))
	next(huma.WithValue(ctx, identityContext{}, i))
}

// authorized is authorize for plain handlers.
func authorized(least wire.Role, handler fiber.Handler) fiber.Handler {
	return func(c *fiber.Ctx) error {
		i, known := c.Locals(identityKey).(identity)
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
	huma.Register(s.api, operation("POST", "/session", "sign-in", "Sign in with name and password", ""), s.signIn)
	huma.Register(s.api, operation("GET", "/session", "get-session", "Who is signed in", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Session], error) {
		return &body[wire.Session]{who(ctx).Session}, nil
	})
	huma.Register(s.api, operation("DELETE", "/session", "sign-out", "Sign out", wire.Viewer), func(ctx context.Context, _ *struct{}) (*signOutAnswer, error) {
		if _, err := s.store.DropToken(ctx, who(ctx).tokenID); err != nil {
			return nil, fail(err)
		}
		return &signOutAnswer{s.cookie("", -1)}, nil
	})
	huma.Register(s.api, operation("GET", "/tokens", "list-tokens", "Tokens for programs", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.Token], error) {
		tokens, err := s.store.Tokens(ctx)
		views := make([]wire.Token, len(tokens))
		for i, t := range tokens {
			views[i] = tokenView(t)
		}
		return answer(views, err)
	})
	huma.Register(s.api, operation("POST", "/tokens", "make-token", "Make a token", wire.Administrator), func(ctx context.Context, in *body[wire.NewToken]) (*body[wire.Token], error) {
		return answer(s.makeToken(ctx, in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/tokens/{id}", "end-token", "End a token", wire.Administrator), func(ctx context.Context, in *struct {
		ID string `path:"id" format:"uuid"`
	}) (*struct{}, error) {
		found, err := s.store.DropToken(ctx, in.ID)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no token %s", in.ID)
		}
		if err == nil {
			err = s.store.Audit(ctx, who(ctx).Name, "end token", in.ID)
		}
		return nil, orNil(err)
	})
	huma.Register(s.api, operation("GET", "/operators", "list-operators", "People who can sign in", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[[]wire.Session], error) {
		operators, err := s.store.Operators(ctx)
		views := make([]wire.Session, len(operators))
		for i, o := range operators {
			views[i] = wire.Session{Name: o.Name, Role: wire.Role(o.Role)}
		}
		return answer(views, err)
	})
	huma.Register(s.api, operation("POST", "/operators", "add-operator", "Add somebody who can sign in", wire.Administrator), func(ctx context.Context, in *body[wire.NewOperator]) (*body[wire.Session], error) {
		err := AddOperator(ctx, s.store, in.Body)
		if err == nil {
			err = s.store.Audit(ctx, who(ctx).Name, "add operator", in.Body.Name+" as "+string(in.Body.Role))
		}
		return answer(wire.Session{Name: in.Body.Name, Role: in.Body.Role}, err)
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

// AddOperator adds an operator; only a hash of the password is kept.
func AddOperator(ctx context.Context, s *store.Store, o wire.NewOperator) error {
	if _, err := s.Operator(ctx, o.Name); err == nil {
		return problem.New(problem.BadInput, "there is an operator %s already", o.Name)
	}
	hash, err := hashPassword(o.Name, o.Password)
	if err != nil {
		return err
	}
	return s.AddOperator(ctx, &store.Operator{Name: o.Name, PasswordHash: hash, Role: string(o.Role)})
}

// nobody is compared with when there is no such operator, so that an answer
// takes as long as with one. It is made when a server is, since it takes long,
// and the command line needs none.
var nobody = sync.OnceValue(func() []byte {
	hash, _ := bcrypt.GenerateFromPassword([]byte(rand.Text()), bcrypt.DefaultCost) // the text is short enough
	return hash
})

// addressContext is the key of the address that a request comes from.
type addressContext struct{}

func (s *Server) signIn(ctx context.Context, in *body[wire.Credentials]) (*signInAnswer, error) {
	address, _ := ctx.Value(addressContext{}).(string)
	if wait := s.attempts.wait(in.Body.Name, address, time.Now()); wait > 0 {
		return nil, huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, fmt.Sprintf("too many attempts to sign in: try again in %d seconds", int(wait/time.Second)+1)),
			http.Header{"Retry-After": {strconv.Itoa(int(wait/time.Second) + 1)}})
	}
	operator, err := s.store.Operator(ctx, in.Body.Name)
	if err != nil && !store.NotFound(err) {
		return nil, fail(err)
	}
	hash := []byte(operator.PasswordHash)
	if err != nil {
		hash = nobody()
	}
	if wrong := bcrypt.CompareHashAndPassword(hash, []byte(in.Body.Password)); wrong != nil || err != nil {
		s.attempts.failed(in.Body.Name, address, time.Now())
		slog.Warn("sign-in refused", "operator", in.Body.Name, "address", address)
		if err := s.store.Audit(ctx, in.Body.Name, "sign-in refused", "from "+address); err != nil {
			return nil, fail(err)
		}
		return nil, fail(problem.New(problem.SignInRefused, "check both."))
	}
	s.attempts.succeeded(operator.Name, address, time.Now())
	secret := rand.Text()
	token := store.Token{ID: uuid.NewString(), Hash: store.HashSecret(secret), Kind: "session", Name: operator.Name, Role: operator.Role, CreatedBy: operator.Name, Expires: time.Now().Add(sessionTime)}
	if err := errors.Join(s.store.AddToken(ctx, &token), s.store.Audit(ctx, operator.Name, "sign in", "from "+address)); err != nil {
		return nil, fail(err)
	}
	return &signInAnswer{s.cookie(secret, int(sessionTime/time.Second)), wire.Session{Name: operator.Name, Role: wire.Role(operator.Role)}}, nil
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

func (s *Server) makeToken(ctx context.Context, t wire.NewToken) (wire.Token, error) {
	days := t.Days
	if days == 0 {
		days = 365
	}
	secret := rand.Text() + rand.Text()
	token := store.Token{ID: uuid.NewString(), Hash: store.HashSecret(secret), Kind: "token", Name: t.Name, Role: string(t.Role), CreatedBy: who(ctx).Name, Expires: time.Now().AddDate(0, 0, days)}
	if err := s.store.AddToken(ctx, &token); err != nil {
		return wire.Token{}, err
	}
	view := tokenView(token)
	view.Secret = secret
	return view, s.store.Audit(ctx, who(ctx).Name, "make token", t.Name+" as "+string(t.Role))
}

func tokenView(t store.Token) wire.Token {
	return wire.Token{ID: t.ID, Name: t.Name, Role: wire.Role(t.Role), CreatedBy: t.CreatedBy, Expires: t.Expires}
}
