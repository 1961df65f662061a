package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/store"
)

const (
	longPoll = 25 * time.Second
	// passwordPoll is shorter, so that it is soon known that an agent is away, and an order
	// for a password is not long given to a connection that is gone.
	passwordPoll = 5 * time.Second
	// mostHello is the longest hello, in bytes.
	mostHello = 64 << 10
	// mostDiscarded is how much is read of what is refused, in bytes.
	mostDiscarded = 1 << 20
)

func (s *Server) agentRoutes() {
	huma.Register(s.api, operation("GET", "/agents", "list-agents", "Agents and what they serve", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.Agent], error) {
		return answer(s.service.Agents.List(ctx))
	})
	huma.Register(s.api, operation("POST", "/agents/codes", "issue-code", "Issue a one-time code that enrols an agent", wire.Administrator), func(ctx context.Context, in *body[wire.AgentGrant]) (*body[wire.EnrolmentCode], error) {
		return answer(s.service.Agents.IssueCode(ctx, who(ctx).Name, s.options.URL, s.fingerprint(), in.Body.Directories))
	})
	huma.Register(s.api, operation("PUT", "/agents/{id}/directories", "grant-directories", "Let an agent speak for just these directories", wire.Administrator), func(ctx context.Context, in *struct {
		ID   string `path:"id" format:"uuid"`
		Body struct {
			Directories []string `json:"directories" maxItems:"100" doc:"Names as in the settings; none takes every directory from it"`
		}
	}) (*body[wire.Agent], error) {
		return answer(s.service.Agents.Grant(ctx, who(ctx).Name, in.ID, in.Body.Directories))
	})
	huma.Register(s.api, operation("POST", "/agents", "enrol", "Enrol an agent with a one-time code", ""), func(ctx context.Context, in *body[wire.EnrolRequest]) (*body[wire.EnrolResponse], error) {
		return answer(s.service.Agents.Enrol(ctx, in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/agents/{id}", "retire-agent", "End an agent's identity", wire.Administrator), func(ctx context.Context, in *struct {
		ID string `path:"id" format:"uuid"`
	}) (*struct{}, error) {
		return nil, orNil(s.service.Agents.Retire(ctx, who(ctx).Name, in.ID))
	})
}

// agent finds out which agent signed a request.
func (s *Server) agent(c *fiber.Ctx) (store.Agent, error) {
	signature, _ := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	return s.service.Agents.Identify(c.UserContext(), signature, c.Method(), c.OriginalURL())
}

// agentAtOrder finds out which agent signed a request, and about which order it is.
func (s *Server) agentAtOrder(c *fiber.Ctx) (store.Agent, int64, error) {
	agent, err := s.agent(c)
	if err != nil {
		return agent, 0, err
	}
	id, err := c.ParamsInt("id")
	if err != nil {
		err = fiber.NewError(http.StatusNotFound, "there is no such order")
	}
	return agent, int64(id), err
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

// agentSays finds out which agent signed a request, and reads the little that it says.
func (s *Server) agentSays(c *fiber.Ctx, what string, into any) (store.Agent, error) {
	agent, err := s.agent(c)
	if err != nil {
		return agent, err
	}
	text, err := s.shortBody(c, mostHello)
	if err != nil {
		return agent, err
	}
	if err := json.Unmarshal(text, into); err != nil {
		return agent, problem.Wrap(problem.AgentMessageMalformed, err, "%s of agent %s", what, agent.Name)
	}
	return agent, nil
}

// agentStreams are the routes of agents: plain handlers, since they stream.
func (s *Server) agentStreams() {
	s.app.Put("/api/v1/agent/hello", func(c *fiber.Ctx) error {
		var hello wire.Hello
		agent, err := s.agentSays(c, "hello", &hello)
		if err != nil {
			return err
		}
		if fault := hello.Check(); fault != "" {
			return problem.New(problem.AgentMessageMalformed, "hello of agent %s: %s.", agent.Name, fault)
		}
		agent.Host, agent.Version, agent.Directories, agent.Plain = hello.Host, hello.Version, hello.Directories, hello.Plain
		agent.Platform, agent.Updates = hello.Platform, hello.Updates
		agent.Trusts, agent.Keys, agent.Digests, agent.Local = hello.Trusts, hello.Keys, hello.Digests, hello.Local
		found, err := s.store.Agents.Hello(c.UserContext(), agent)
		if err != nil {
			return err
		}
		if !found {
			return problem.New(problem.AgentRetired, "")
		}
		return c.SendStatus(http.StatusNoContent)
	})
	s.app.Post("/api/v1/agent/watches", func(c *fiber.Ctx) error {
		var said wire.Watches
		agent, err := s.agentSays(c, "watches", &said)
		if err != nil {
			return err
		}
		if fault := said.Check(); fault != "" {
			return problem.New(problem.AgentMessageMalformed, "watches of agent %s: %s.", agent.Name, fault)
		}
		wanted, err := s.service.Agents.Watches(c.UserContext(), agent, said)
		if err != nil {
			return err
		}
		return c.JSON(wanted)
	})
	s.app.Post("/api/v1/agent/changed", func(c *fiber.Ctx) error {
		var said wire.Changed
		agent, err := s.agentSays(c, "change", &said)
		if err != nil {
			return err
		}
		if !agent.May(said.Directory) {
			return problem.New(problem.DirectoryNotGranted, "agent %s may not speak for %q.", agent.Name, said.Directory)
		}
		if err := s.service.Jobs.Changed(c.UserContext(), said.Directory); err != nil {
			return err
		}
		return c.SendStatus(http.StatusNoContent)
	})
	s.app.Get("/api/v1/agent/order", func(c *fiber.Ctx) error {
		agent, err := s.agent(c)
		if err != nil {
			return err
		}
		lane, wait := orders.Lane(c.Query("lane", string(orders.LaneAny))), longPoll
		if lane == orders.LanePasswords {
			wait = passwordPoll
		}
		ctx, cancel := context.WithTimeout(c.UserContext(), wait)
		defer cancel()
		go func() {
			select {
			case <-s.closing:
				cancel()
			case <-ctx.Done():
			}
		}()
		order, ok, err := s.service.Orders.Take(ctx, agent, lane)
		if err != nil {
			return err
		}
		if !ok {
			return c.SendStatus(http.StatusNoContent)
		}
		return c.JSON(order)
	})
	s.app.Post("/api/v1/agent/orders/:id/begin", func(c *fiber.Ctx) error {
		agent, id, err := s.agentAtOrder(c)
		if err != nil {
			return err
		}
		if err := s.service.Orders.Begin(c.UserContext(), id, agent); err != nil {
			return err
		}
		return c.SendStatus(http.StatusNoContent)
	})
	s.app.Post("/api/v1/agent/orders/:id/answer", func(c *fiber.Ctx) error {
		agent, id, err := s.agentAtOrder(c)
		if err != nil {
			return err
		}
		var stream io.Reader = strings.NewReader("")
		if streamed := c.Context().RequestBodyStream(); streamed != nil {
			stream = patient{c.Context().Conn(), streamed}
		}
		if err := s.service.Orders.Ingest(c.UserContext(), id, agent, stream); err != nil {
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
	valid, err := s.service.Operators.StillAllowed(ctx, tokenID)
	// A database that is away ends no session.
	return valid || err != nil && problem.CodeOf(err) != problem.SignInUnanswered
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
