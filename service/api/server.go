package api

import (
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v2"
	"github.com/gofiber/fiber/v2/middleware/adaptor"
	"github.com/gofiber/fiber/v2/middleware/compress"
	"github.com/gofiber/fiber/v2/middleware/filesystem"
	"github.com/gofiber/fiber/v2/middleware/recover"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/version"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service"
	"kambrel.example/kambrel/service/certificates"
	"kambrel.example/kambrel/service/provider"
	"kambrel.example/kambrel/service/store"
)

// bodyLimit is the largest request, in bytes; most operations take less.
const bodyLimit = 24 << 20

const (
	// bodyTimeout ends a request whose body comes too slowly; clients give up
	// after as long.
	bodyTimeout = time.Minute
	// idleTimeout is above what Go's clients keep a connection for (90 s), so
	// that they, who know, end it. It also clears the last body's deadline,
	// which else would cut the connection under a later request.
	idleTimeout = 2 * time.Minute
	// readyTimeout is how long the database may take to answer for healthz.
	readyTimeout = 3 * time.Second
)

// Options say how the interface is served.
type Options struct {
	// URL is how agents and browsers reach the service; it stands in commands
	// that are shown, and in agents' signatures.
	URL string
	// Certificate is what the service shows itself by, nil for none.
	Certificate *certificates.Source
	// Console is the built console.
	Console fs.FS
	// TrustedProxies are the addresses of proxies that say truly where a request
	// comes from.
	TrustedProxies []netip.Prefix
}

// Server is the HTTP interface.
type Server struct {
	store   *store.Store
	service *service.Service
	options Options
	app     *fiber.App
	api     huma.API
	closing chan struct{} // closed when the server ends, so that streams end
	parsing sync.Mutex    // of settings files

	streams streams
}

// New declares all routes.
func New(e *service.Service, options Options) *Server {
	server := &Server{store: e.Store, service: e, options: options, closing: make(chan struct{})}
	server.app = fiber.New(fiber.Config{
		DisableStartupMessage: true, Immutable: true, StreamRequestBody: true, BodyLimit: bodyLimit, ReadBufferSize: 16 << 10, IdleTimeout: idleTimeout, ReadTimeout: headTimeout,
		ErrorHandler: func(c *fiber.Ctx, err error) error {
			var known *fiber.Error
			if errors.As(err, &known) {
				return writeProblem(c, huma.NewError(known.Code, known.Message))
			}
			return writeProblem(c, fail(err))
		},
	})
	server.app.Use(recover.New(), server.securityHeaders, server.identify)
	server.app.Get("/healthz", server.ready)
	server.app.Get("/ca.pem", server.authority)
	server.app.Server().HeaderReceived = perPath
	server.agentStreams()
	server.programStreams()
	server.eventStream()
	server.app.Use("/api/openapi", authorized(wire.Viewer, func(c *fiber.Ctx) error { return c.Next() }))

	huma.DefaultArrayNullable = false // every list in an answer is one, if an empty one
	config := huma.DefaultConfig("Kambrel", version.Number)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", ""
	config.CreateHooks = nil // no $schema links in answers
	config.Transformers = append(config.Transformers, withoutValues)
	config.Info.Description = "Keeps a cloud directory in step with on-premises directories."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "A token made with POST /api/v1/tokens"},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "Made by POST /api/v1/session"},
	}
	server.api = humafiber.New(server.app, config)
	server.api.UseMiddleware(server.authorize)
	server.sessionRoutes()
	server.operatorRoutes()
	server.runRoutes()
	server.objectRoutes()
	server.problemRoutes()
	server.undoRoutes()
	server.noticeRoutes()
	server.pauseRoutes()
	server.passwordRoutes()
	server.cloudGroupRoutes()
	server.settingsRoutes()
	server.directoryRoutes()
	server.scopeRoutes()
	server.cloudRoutes()
	server.domainRoutes()
	server.surveyRoutes()
	server.decideRoutes()
	server.agentRoutes()
	server.releaseRoutes()
	server.healthRoutes()
	server.app.Use("/api", func(*fiber.Ctx) error { return fiber.NewError(http.StatusNotFound, "there is no such route") })
	server.people()
	server.console()
	return server
}

// OpenAPIJSON is the document of the interface.
func (s *Server) OpenAPIJSON() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

// Serve answers requests on a listener until Close. Without a certificate it
// takes a loopback listener only.
func (s *Server) Serve(listener net.Listener) error {
	listener = &limited{Listener: listener, server: s, open: map[netip.Addr]int{}}
	if certificate := s.options.Certificate; certificate != nil {
		listener = tls.NewListener(listener, &tls.Config{GetCertificate: certificate.Get, MinVersion: tls.VersionTLS12})
	} else if address, ok := listener.Addr().(*net.TCPAddr); !ok || !address.IP.IsLoopback() {
		return problem.New(problem.BadInput, "%s is no loopback address: take --plain out, since people's data goes over it", listener.Addr())
	}
	return s.app.Listener(listener)
}

// Close ends streams and requests.
func (s *Server) Close() error {
	close(s.closing)
	return s.app.ShutdownWithTimeout(5 * time.Second)
}

// ready tells whether the service can work, for whoever sends requests to it.
func (s *Server) ready(c *fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.UserContext(), readyTimeout)
	defer cancel()
	if err := s.store.Writable(ctx); err != nil {
		return c.Status(http.StatusServiceUnavailable).SendString(problem.Describe(problem.CodeOf(err)).Title + "\n")
	}
	return c.SendString("ok\n")
}

// authority gives the certificate of the service's own authority, for browsers; who takes it
// compares its fingerprint.
func (s *Server) authority(c *fiber.Ctx) error {
	if s.fingerprint() == "" {
		return fiber.NewError(http.StatusNotFound, "the service has no certificate authority of its own")
	}
	c.Set("Content-Type", "application/x-x509-ca-cert")
	return c.SendFile(s.options.Certificate.Authority().File())
}

// fingerprint is by what people compare the service's own authority, "" where it has none.
func (s *Server) fingerprint() string {
	if s.options.Certificate == nil || s.options.Certificate.Authority() == nil {
		return ""
	}
	return s.options.Certificate.Authority().Fingerprint()
}

// withoutValues takes what was sent out of the answer to a request that was
// refused: it may be a password.
func withoutValues(_ huma.Context, _ string, answer any) (any, error) {
	if refusal, ok := answer.(*huma.ErrorModel); ok {
		for _, detail := range refusal.Errors {
			detail.Value = nil
		}
	}
	return answer, nil
}

func (s *Server) securityHeaders(c *fiber.Ctx) error {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'")
	if s.encrypted() {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store")
	}
	return c.Next()
}

// people serves those who sign in to the cloud here.
func (s *Server) people() {
	handler := adaptor.HTTPHandler(s.service.Provider.Handler())
	s.app.All(provider.Path+"/*", func(c *fiber.Ctx) error {
		c.Locals(provider.AddressKey, s.address(c))
		c.Response().Header.Del(fiber.HeaderContentSecurityPolicy) // it sets one of its own
		return handler(c)
	})
}

// console serves the built console; every path of it is one page.
func (s *Server) console() {
	if _, err := fs.Stat(s.options.Console, "index.html"); err != nil {
		s.app.Get("/", func(c *fiber.Ctx) error {
			return c.Status(http.StatusNotFound).SendString("The console was not built into this program: run 'make build'.\n")
		})
		return
	}
	s.app.Use(compress.New(compress.Config{Next: func(c *fiber.Ctx) bool { return strings.HasPrefix(c.Path(), "/api/") }}))
	s.app.Use(func(c *fiber.Ctx) error {
		if strings.HasPrefix(c.Path(), "/assets/") {
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		return c.Next()
	})
	s.app.Use(filesystem.New(filesystem.Config{Root: http.FS(s.options.Console), Next: func(c *fiber.Ctx) bool { return path.Ext(c.Path()) == "" }}))
	s.app.Get("*", func(c *fiber.Ctx) error { return filesystem.SendFile(c, http.FS(s.options.Console), "index.html") })
}

// problemType is the RFC 9457 type of a problem with a code of the catalogue.
const problemType = "urn:kambrel:problem:"

// fail makes the RFC 9457 problem of an error. Errors that are no problems of
// the catalogue are logged here and told without their details.
func fail(err error) huma.StatusError {
	var status huma.StatusError
	if errors.As(err, &status) {
		return status
	}
	var p *problem.Error
	if !errors.As(err, &p) && store.Refused(err) != "" && strings.HasPrefix(store.Refused(err), "22") {
		p = problem.New(problem.BadInput, "a text holds a character that cannot be kept, or a number is too large.")
	}
	if p == nil && !errors.As(err, &p) {
		p = store.Away(err)
	}
	if p == nil {
		slog.Error("request failed", logkey.Error, err)
		return huma.NewError(http.StatusInternalServerError, "the service could not do it; its log tells why")
	}
	kind, detail := problem.Describe(p.Code), p.Detail
	if p.Code == problem.Paused { // who has paused it wrote the end of the sentence
		detail = strings.TrimRight(detail, ". ") + "."
	}
	model := &huma.ErrorModel{Type: problemType + string(p.Code), Title: kind.Title, Status: statusOf(p.Code), Detail: strings.TrimSpace(detail + " " + kind.Remedy)}
	for _, fault := range p.Faults {
		model.Errors = append(model.Errors, &huma.ErrorDetail{Location: fault.Place(), Message: fault.Message})
	}
	return model
}

func statusOf(code problem.Code) int {
	switch code {
	case problem.NotFound:
		return http.StatusNotFound
	case problem.SignInRefused, problem.SecondFactorNeeded, problem.AgentRetired:
		return http.StatusUnauthorized
	case problem.NotAllowed:
		return http.StatusForbidden
	case problem.BadInput, problem.SettingsInvalid, problem.ExpectationsNotMet, problem.AgentMessageMalformed:
		return http.StatusUnprocessableEntity
	case problem.AmbiguousText, problem.NoSettings, problem.OrderLost, problem.DraftChanged, problem.DirectoryInUse, problem.Paused, problem.Cancelled:
		return http.StatusConflict
	case problem.EnrolmentCodeRefused:
		return http.StatusForbidden
	case problem.DatabaseUnreachable, problem.DatabaseReadOnly, problem.CloudUnreachable, problem.CloudUnauthorized, problem.CloudThrottled, problem.CloudRefused, problem.DirectoryUnreachable,
		problem.DirectoryRefused, problem.AgentOffline, problem.DirectoryNotServed, problem.SignInUnanswered:
		return http.StatusServiceUnavailable
	}
	return http.StatusInternalServerError
}

func writeProblem(c *fiber.Ctx, status huma.StatusError) error {
	c.Status(status.GetStatus())
	if err := c.JSON(status); err != nil {
		return err
	}
	c.Set("Content-Type", "application/problem+json")
	return nil
}
