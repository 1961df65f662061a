package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v2"
	"github.com/gofiber/fiber/v2/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/health"
)

func (s *Server) healthRoutes() {
	huma.Register(s.api, operation("GET", "/health", "health", "The state of everything", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Health], error) {
		return answer(s.service.Health.Now(ctx))
	})
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &healthCollector{s.service.Health})
	metrics := adaptor.HTTPHandler(promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	s.app.Get("/metrics", authorized(wire.Viewer, func(c *fiber.Ctx) error { return metrics(c) }))
}

// healthCollector gives Prometheus what health shows.
type healthCollector struct{ health *health.Health }

var (
	descriptionProblems = prometheus.NewDesc("kambrel_problems", "Open problems", []string{"code"}, nil)
	descriptionObjects  = prometheus.NewDesc("kambrel_objects", "Objects by where they stand", []string{"state"}, nil)
	descriptionAgents   = prometheus.NewDesc("kambrel_agents_online", "Agents online that serve a directory", []string{"directory"}, nil)
	descriptionLastRun  = prometheus.NewDesc("kambrel_last_run_seconds", "When the last run ended, in Unix time", []string{"state"}, nil)
)

// Describe lists the metrics.
func (h *healthCollector) Describe(c chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{descriptionProblems, descriptionObjects, descriptionAgents, descriptionLastRun} {
		c <- d
	}
}

// Collect reads the metrics now.
func (h *healthCollector) Collect(c chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	now, err := h.health.Now(ctx)
	if err != nil {
		c <- prometheus.NewInvalidMetric(descriptionObjects, err)
		return
	}
	gauge := func(d *prometheus.Desc, value float64, label string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, label)
	}
	problems := map[string]int{}
	for _, one := range now.Attention {
		problems[one.Code] += one.Count
	}
	for code, n := range problems {
		gauge(descriptionProblems, float64(n), code)
	}
	for state, n := range map[string]int{"entries": now.Objects.Entries, "linked": now.Objects.Linked, "suspended": now.Objects.Suspended, "cloud-only": now.Objects.CloudOnly} {
		gauge(descriptionObjects, float64(n), state)
	}
	for _, d := range now.Directory {
		gauge(descriptionAgents, float64(d.Agents), d.Name)
	}
	if now.LastRun != nil && now.LastRun.Ended != nil {
		gauge(descriptionLastRun, float64(now.LastRun.Ended.Unix()), string(now.LastRun.State))
	}
}
