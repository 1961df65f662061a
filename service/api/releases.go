package api

import (
	"bufio"
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

// programTimeout is how long a program may take to arrive: some 20 MB over a slow line.
const programTimeout = 5 * time.Minute

// releaseRoutes are those of the versions of the agent, and of who is to go on by which.
func (s *Server) releaseRoutes() {
	huma.Register(s.api, operation("GET", "/agent-releases", "list-agent-releases", "Versions of the agent that are passed on to agents, the newest first", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.Release], error) {
		return answer(s.service.Agents.Releases(ctx))
	})
	huma.Register(s.api, operation("POST", "/agent-releases", "add-agent-release", "Add a version of the agent by what was signed of it", wire.Administrator), func(ctx context.Context, in *body[wire.NewRelease]) (*body[wire.Release], error) {
		return answer(s.service.Agents.AddRelease(ctx, who(ctx).Name, in.Body.Statement))
	})
	program := large(operation("PUT", "/agent-releases/{version}/programs/{platform}", "add-agent-program", "Add the program of a platform to a version of the agent", wire.Administrator))
	program.BodyReadTimeout = programTimeout
	huma.Register(s.api, program, func(ctx context.Context, in *struct {
		Version  string `path:"version" maxLength:"63"`
		Platform string `path:"platform" maxLength:"63" doc:"As in what was signed: linux-amd64"`
		RawBody  []byte `contentType:"application/octet-stream"`
	}) (*body[wire.Release], error) {
		return answer(s.service.Agents.AddProgram(ctx, in.Version, in.Platform, in.RawBody))
	})
	huma.Register(s.api, operation("DELETE", "/agent-releases/{version}", "remove-agent-release", "Remove a version of the agent", wire.Administrator), func(ctx context.Context, in *struct {
		Version string `path:"version" maxLength:"63"`
	}) (*struct{}, error) {
		return nil, orNil(s.service.Agents.RemoveRelease(ctx, who(ctx).Name, in.Version))
	})
	huma.Register(s.api, operation("POST", "/agent-releases/{version}/updates", "update-agents", "Have agents go on by a version, one after the other", wire.Administrator), func(ctx context.Context, in *struct {
		Version string `path:"version" maxLength:"63"`
		Body    wire.UpdateAgents
	}) (*body[[]wire.Agent], error) {
		return answer(s.service.Agents.Update(ctx, who(ctx).Name, in.Version, in.Body.Agents))
	})
	huma.Register(s.api, operation("DELETE", "/agents/{id}/update", "keep-agent-version", "Have an agent stay at the version that it runs", wire.Administrator), func(ctx context.Context, in *struct {
		ID string `path:"id" format:"uuid"`
	}) (*body[wire.Agent], error) {
		return answer(s.service.Agents.KeepVersion(ctx, who(ctx).Name, in.ID))
	})
}

// programStreams are those by which an agent asks for a newer program, and fetches it.
func (s *Server) programStreams() {
	s.app.Post("/api/v1/agent/program", func(c *fiber.Ctx) error {
		var asked wire.ProgramAsked
		agent, err := s.agentSays(c, "question for a program", &asked)
		if err != nil {
			return err
		}
		if fault := asked.Check(); fault != "" {
			return problem.New(problem.AgentMessageMalformed, "question of agent %s for a program: %s.", agent.Name, fault)
		}
		offer, offered, err := s.service.Agents.AskProgram(c.UserContext(), agent, asked)
		if err != nil {
			return err
		}
		if !offered {
			return c.SendStatus(http.StatusNoContent)
		}
		return c.JSON(offer)
	})
	s.app.Get("/api/v1/agent/programs/:version/:platform", func(c *fiber.Ctx) error {
		if _, err := s.agent(c); err != nil {
			return err
		}
		version, platform := c.Params("version"), c.Params("platform")
		here, err := s.service.Agents.HasProgram(c.UserContext(), version, platform)
		if err != nil {
			return err
		}
		if !here {
			return problem.New(problem.NotFound, "there is no program %s for %s.", version, platform)
		}
		c.Set(fiber.HeaderContentType, fiber.MIMEOctetStream)
		c.Context().SetBodyStreamWriter(func(w *bufio.Writer) {
			// The agent finds out by the checksum that it broke off.
			if err := s.service.Agents.WriteProgram(context.Background(), version, platform, w); err != nil {
				slog.Warn("pass a program on to an agent", logkey.Version, version, logkey.Error, err)
			}
		})
		return nil
	})
}
