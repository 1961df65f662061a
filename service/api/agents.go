package api

import (
	"bufio"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/gofiber/fiber/v2"
	"github.com/google/uuid"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/store"
)

const (
	codeValid = time.Hour
	longPoll  = 25 * time.Second
	// How far the clocks of agent and service may differ.
	clockLeeway = 30 * time.Second
	// longestSignature is how long a signature may be valid.
	longestSignature = time.Minute
	// mostHello is the longest hello, in bytes.
	mostHello = 64 << 10
	// mostDiscarded is how much is read of what is refused, in bytes.
	mostDiscarded = 1 << 20
)

func (s *Server) agentRoutes() {
	huma.Register(s.api, operation("GET", "/agents", "list-agents", "Agents and what they serve", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.Agent], error) {
		agents, err := s.store.Agents(ctx)
		views, now := make([]wire.Agent, len(agents)), time.Now()
		for i, agent := range agents {
			views[i] = agent.View(now)
		}
		return answer(views, err)
	})
	huma.Register(s.api, operation("POST", "/agents/codes", "issue-code", "Issue a one-time code that enrols an agent", wire.Administrator), func(ctx context.Context, in *body[wire.AgentGrant]) (*body[wire.EnrolmentCode], error) {
		if err := checkNames(in.Body.Directories); err != nil {
			return nil, fail(err)
		}
		code := wire.EnrolmentCode{Code: rand.Text(), Expires: time.Now().Add(codeValid).Truncate(time.Second), Directories: in.Body.Directories}
		code.Command = fmt.Sprintf("kambrel agent enrol --service %s --code %s", s.options.URL, code.Code)
		err := s.store.AddEnrolment(ctx, code.Code, who(ctx).Name, code.Expires, in.Body.Directories)
		if err == nil {
			err = s.store.Audit(ctx, who(ctx).Name, "issue enrolment code", "for "+strings.Join(in.Body.Directories, ", "))
		}
		return answer(code, err)
	})
	huma.Register(s.api, operation("PUT", "/agents/{id}/directories", "grant-directories", "Let an agent speak for just these directories", wire.Administrator), func(ctx context.Context, in *struct {
		ID   string `path:"id" format:"uuid"`
		Body struct {
			Directories []string `json:"directories" maxItems:"100" doc:"Names as in the settings; none takes every directory from it"`
		}
	}) (*body[wire.Agent], error) {
		if err := checkNames(in.Body.Directories); err != nil {
			return nil, fail(err)
		}
		found, err := s.store.GrantDirectories(ctx, in.ID, in.Body.Directories)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no agent %s.", in.ID)
		}
		if err == nil {
			err = s.store.Audit(ctx, who(ctx).Name, "grant directories", in.ID+": "+cmp.Or(strings.Join(in.Body.Directories, ", "), "none"))
		}
		if err != nil {
			return nil, fail(err)
		}
		agent, err := s.store.Agent(ctx, in.ID)
		return answer(agent.View(time.Now()), err)
	})
	huma.Register(s.api, operation("POST", "/agents", "enrol", "Enrol an agent with a one-time code", ""), func(ctx context.Context, in *body[wire.EnrolRequest]) (*body[wire.EnrolResponse], error) {
		return answer(s.enrol(ctx, in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/agents/{id}", "retire-agent", "End an agent's identity", wire.Administrator), func(ctx context.Context, in *struct {
		ID string `path:"id" format:"uuid"`
	}) (*struct{}, error) {
		found, err := s.store.RetireAgent(ctx, in.ID)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no agent %s.", in.ID)
		}
		if err == nil {
			err = s.store.Audit(ctx, who(ctx).Name, "retire agent", in.ID)
		}
		return nil, orNil(err)
	})
}

func checkNames(directories []string) error {
	for _, name := range directories {
		if !settings.DirectoryName(name) {
			return problem.New(problem.BadInput, "%q is no name of a directory: use small letters, digits and hyphens.", name)
		}
	}
	return nil
}

func (s *Server) enrol(ctx context.Context, in wire.EnrolRequest) (wire.EnrolResponse, error) {
	var key jose.JSONWebKey
	if err := json.Unmarshal([]byte(in.PublicKey), &key); err != nil || !key.Valid() || !key.IsPublic() || key.Algorithm != string(jose.EdDSA) {
		return wire.EnrolResponse{}, problem.New(problem.BadInput, "publicKey is no JWK of a public Ed25519 key.")
	}
	agent := store.Agent{ID: uuid.NewString(), Name: in.Name, Host: in.Host, PublicKey: in.PublicKey, Directories: []string{}, Enrolled: time.Now()}
	err := s.store.Tx(ctx, func(tx *store.Store) error {
		found, used, err := tx.UseEnrolment(ctx, in.Code)
		switch {
		case err != nil:
			return err
		case used:
			agent.Granted = found.Directories
		case found.Used != nil:
			return problem.New(problem.EnrolmentCodeRefused, "it was used already, at %s.", found.Used.Format(time.RFC3339))
		case !found.Expires.IsZero():
			return problem.New(problem.EnrolmentCodeRefused, "it expired at %s.", found.Expires.Format(time.RFC3339))
		default:
			return problem.New(problem.EnrolmentCodeRefused, "it was never issued.")
		}
		agents, err := tx.Agents(ctx)
		if err != nil {
			return err
		}
		for _, other := range agents {
			if other.Name == in.Name {
				return problem.New(problem.BadInput, "there is an agent called %s already: choose another --name, or retire it first.", in.Name)
			}
		}
		if err := tx.SaveAgent(ctx, &agent); err != nil {
			return err
		}
		return tx.Audit(ctx, "agent "+in.Name, "enrol", agent.ID)
	})
	return wire.EnrolResponse{AgentID: agent.ID}, err
}

// agentClaims is what an agent signs for each request: RFC 7519, and method and
// path so that a stolen token opens nothing else.
type agentClaims struct {
	jwt.Claims
	Method string `json:"htm"`
	Path   string `json:"htp"`
}

// agent finds out which agent signed a request.
func (s *Server) agent(c *fiber.Ctx) (store.Agent, error) {
	refuse := func(reason string) (store.Agent, error) {
		return store.Agent{}, problem.New(problem.SignInRefused, "the agent's signature: %s.", reason)
	}
	text, ok := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	if !ok {
		return refuse("there is none")
	}
	token, err := jwt.ParseSigned(text, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return refuse("it cannot be read")
	}
	var unverified agentClaims
	if err := token.UnsafeClaimsWithoutVerification(&unverified); err != nil {
		return refuse("it cannot be read")
	}
	if _, err := uuid.Parse(unverified.Subject); err != nil {
		return refuse("it names no agent")
	}
	agent, err := s.store.Agent(c.UserContext(), unverified.Subject)
	if store.NotFound(err) {
		return store.Agent{}, problem.New(problem.AgentRetired, "")
	}
	if err != nil {
		return store.Agent{}, err
	}
	var key jose.JSONWebKey
	if err := json.Unmarshal([]byte(agent.PublicKey), &key); err != nil {
		return store.Agent{}, fmt.Errorf("public key of agent %s: %w", agent.ID, err)
	}
	var claims agentClaims
	if err := token.Claims(key, &claims); err != nil {
		return refuse("it is wrong")
	}
	switch err := claims.ValidateWithLeeway(jwt.Expected{AnyAudience: jwt.Audience{"kambrel"}, Time: time.Now()}, clockLeeway); {
	case err != nil:
		return refuse(fmt.Sprintf("%v; compare the clocks of agent and service", err))
	case claims.Expiry == nil, claims.IssuedAt == nil, claims.Expiry.Time().Sub(claims.IssuedAt.Time()) > longestSignature:
		return refuse("it is valid for too long")
	case claims.ID == "", len(claims.ID) > 64:
		return refuse("it has no id of its own (jti)")
	case claims.Method != c.Method() || claims.Path != c.OriginalURL():
		return refuse("it was made for another request")
	}
	fresh, err := s.store.UseSignature(c.UserContext(), agent.ID+"/"+claims.ID, claims.Expiry.Time().Add(2*clockLeeway))
	if err == nil && !fresh {
		return refuse("it was used before")
	}
	return agent, err
}

// shortBody reads the body of a request that has only little to say.
func (s *Server) shortBody(c *fiber.Ctx, most int) ([]byte, error) {
	stream := c.Context().RequestBodyStream()
	if stream == nil {
		stream = strings.NewReader(string(c.Request().Body()))
	}
	text, err := io.ReadAll(io.LimitReader(stream, int64(most)+1))
	if err == nil && len(text) <= most {
		return text, nil
	}
	// A little more is read, so that the answer finds somebody who listens; what is
	// left would be taken for the next request.
	_, _ = io.CopyN(io.Discard, stream, mostDiscarded)
	c.Context().SetConnectionClose()
	if err != nil {
		return nil, fiber.NewError(http.StatusRequestTimeout, "the request did not arrive")
	}
	return nil, fiber.NewError(http.StatusRequestEntityTooLarge, fmt.Sprintf("the request is longer than %d bytes", most))
}

// agentStreams are the routes of agents: plain handlers, since they stream.
func (s *Server) agentStreams() {
	s.app.Put("/api/v1/agent/hello", func(c *fiber.Ctx) error {
		agent, err := s.agent(c)
		if err != nil {
			return err
		}
		var hello wire.Hello
		text, err := s.shortBody(c, mostHello)
		if err != nil {
			return err
		}
		if err := json.Unmarshal(text, &hello); err != nil {
			return problem.Wrap(problem.AgentMessageMalformed, err, "hello of agent %s", agent.Name)
		}
		if fault := hello.Check(); fault != "" {
			return problem.New(problem.AgentMessageMalformed, "hello of agent %s: %s.", agent.Name, fault)
		}
		agent.Host, agent.Version, agent.Directories, agent.Plain = hello.Host, hello.Version, hello.Directories, hello.Plain
		found, err := s.store.Hello(c.UserContext(), agent)
		if err != nil {
			return err
		}
		if !found {
			return problem.New(problem.AgentRetired, "")
		}
		return c.SendStatus(http.StatusNoContent)
	})
	s.app.Get("/api/v1/agent/order", func(c *fiber.Ctx) error {
		agent, err := s.agent(c)
		if err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(c.UserContext(), longPoll)
		defer cancel()
		go func() {
			select {
			case <-s.closing:
				cancel()
			case <-ctx.Done():
			}
		}()
		order, ok, err := s.service.Orders.Take(ctx, agent, c.QueryBool("quick"))
		if err != nil {
			return err
		}
		if !ok {
			return c.SendStatus(http.StatusNoContent)
		}
		return c.JSON(order)
	})
	s.app.Post("/api/v1/agent/orders/:id/answer", func(c *fiber.Ctx) error {
		agent, err := s.agent(c)
		if err != nil {
			return err
		}
		id, err := c.ParamsInt("id")
		if err != nil {
			return fiber.NewError(http.StatusNotFound, "there is no such order")
		}
		var stream io.Reader = strings.NewReader("")
		if streamed := c.Context().RequestBodyStream(); streamed != nil {
			stream = patient{c.Context().Conn(), streamed}
		}
		if err := s.service.Orders.Ingest(c.UserContext(), int64(id), agent, stream); err != nil {
			// What was not read would be taken for the next request.
			c.Context().SetConnectionClose()
			return err
		}
		return c.SendStatus(http.StatusNoContent)
	})
}

// stillValid tells whether the session or token of a stream has not ended; a
// stream outlives the request that began it.
func (s *Server) stillValid(tokenID string) bool {
	ctx, cancel := context.WithTimeout(context.Background(), readyTimeout)
	defer cancel()
	valid, err := s.store.TokenValid(ctx, tokenID)
	return valid || err != nil // a database that is away ends no session
}

// eventStream tells by server-sent events that something changed.
func (s *Server) eventStream() {
	s.app.Get("/api/v1/events", authorized(wire.Viewer, func(c *fiber.Ctx) error {
		c.Set("Content-Type", "text/event-stream")
		c.Set("X-Accel-Buffering", "no")
		of, _ := c.Locals(identityKey).(operators.Caller)
		if !s.streams.begin(of.TokenID) {
			return fiber.NewError(http.StatusTooManyRequests, "there are too many streams of events: end one first")
		}
		events, stop := s.service.Events.Subscribe()
		c.Context().SetBodyStreamWriter(func(w *bufio.Writer) {
			defer s.streams.end(of.TokenID)
			defer stop()
			alive := time.NewTicker(15 * time.Second)
			defer alive.Stop()
			fmt.Fprint(w, ": listening\n\n")
			for w.Flush() == nil {
				select {
				case <-s.closing:
					return
				case <-alive.C:
					if !s.stillValid(of.TokenID) {
						return
					}
					fmt.Fprint(w, ": alive\n\n")
				case event := <-events:
					if (event.Kind == store.EventToken || event.Kind == "") && !s.stillValid(of.TokenID) {
						return
					}
					if event.Kind == store.EventToken {
						continue
					}
					text, err := json.Marshal(event)
					if err != nil {
						return
					}
					fmt.Fprintf(w, "data: %s\n\n", text)
				}
			}
		})
		return nil
	}))
}
