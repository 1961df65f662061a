package api

import (
	"bytes"
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

type reportQuery struct {
	From time.Time `query:"from" required:"true"`
	To   time.Time `query:"to" required:"true" doc:"Excluded; a year after from at most"`
}

func (s *Server) healthRoutes() {
	huma.Register(s.api, operation("GET", "/health", "health", "The state of everything", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.Health], error) {
		return answer(s.service.Health.Now(ctx))
	})
	huma.Register(s.api, operation("GET", "/health/trend", "health-trend", "How things went on each of the last days", wire.Viewer), func(ctx context.Context, in *struct {
		Days int `query:"days" minimum:"2" maximum:"365" default:"30"`
	}) (*body[[]wire.TrendDay], error) {
		return answer(s.service.Health.Trend(ctx, in.Days))
	})
	huma.Register(s.api, operation("POST", "/checkup", "checkup", "Have the installation looked at: what is well, doubtful and bad, with what to do", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[wire.Checkup], error) {
		return answer(s.service.Checkup.Look(ctx))
	})
	huma.Register(s.api, operation("GET", "/first-day", "first-day", "How far the installation is, from an empty service to people who are kept in step", wire.Administrator), func(ctx context.Context, _ *struct{}) (*body[wire.FirstDay], error) {
		return answer(s.service.Checkup.FirstDay(ctx))
	})
	huma.Register(s.api, operation("GET", "/report", "report", "What came of a time: who came, changed and left, what failed, problems, and who did what", wire.OperatorRole), func(ctx context.Context, in *reportQuery) (*body[wire.Report], error) {
		return answer(s.service.Health.Report(ctx, in.From, in.To))
	})
	huma.Register(s.api, operation("POST", "/report/mail", "mail-report", "Mail the report of a time to everybody who gets reports", wire.OperatorRole), func(ctx context.Context, in *body[wire.MailReport]) (*body[wire.MailedReport], error) {
		to, err := s.service.Notices.SendReport(ctx, who(ctx).Name, in.Body.From, in.Body.To)
		return answer(wire.MailedReport{Recipients: to}, err)
	})
	huma.Register(s.api, csvOperation("/report.csv", "export-report", "Everything that a report names, as CSV (RFC 4180)", wire.OperatorRole), func(ctx context.Context, in *reportQuery) (*csvFile, error) {
		var text bytes.Buffer
		if err := s.service.Health.ReportCSV(ctx, in.From, in.To, &text); err != nil {
			return nil, fail(err)
		}
		return &csvFile{ContentType: csvType, Disposition: `attachment; filename="report.csv"`, Body: text.Bytes()}, nil
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
	descriptionTook     = prometheus.NewDesc("kambrel_last_run_duration_seconds", "How long the last run took", nil, nil)
	descriptionHeld     = prometheus.NewDesc("kambrel_held_changes", "Changes that the last run holds until somebody decides", nil, nil)
	descriptionBroken   = prometheus.NewDesc("kambrel_broken", "1 while something keeps the cloud from being in step, as the overview says it", nil, nil)
	descriptionRead     = prometheus.NewDesc("kambrel_directory_read_seconds", "When a directory was read last, in Unix time", []string{"directory"}, nil)
	descriptionPins     = prometheus.NewDesc("kambrel_pins", "Things that were put back and are held against rules or scope", nil, nil)
	descriptionPaused   = prometheus.NewDesc("kambrel_paused", "1 for each part of the work that an operator has paused", []string{"of", "directory"}, nil)
	descriptionTakes    = prometheus.NewDesc("kambrel_cloud_requests_per_minute", "How many requests the cloud takes; absent while no limit is known", nil, nil)
	descriptionNotices  = prometheus.NewDesc("kambrel_notices_stuck", "1 while notices do not get through", nil, nil)
)

// Describe lists the metrics.
func (h *healthCollector) Describe(c chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{descriptionProblems, descriptionObjects, descriptionAgents, descriptionLastRun, descriptionTook, descriptionHeld, descriptionBroken, descriptionRead, descriptionPins, descriptionPaused, descriptionTakes, descriptionNotices} {
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
	one := func(d *prometheus.Desc, value float64) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value)
	}
	is := map[bool]float64{true: 1}
	one(descriptionBroken, is[now.State == "broken"])
	one(descriptionNotices, is[now.NoticesStuck != ""])
	one(descriptionPins, float64(now.Pins))
	if perMinute := now.Cloud.RequestsPerMinute; perMinute > 0 {
		one(descriptionTakes, float64(perMinute))
	}
	for _, p := range now.Pauses {
		c <- prometheus.MustNewConstMetric(descriptionPaused, prometheus.GaugeValue, 1, p.Of, p.Directory)
	}
	for _, d := range now.Directory {
		if d.LastRead != nil {
			gauge(descriptionRead, float64(d.LastRead.Unix()), d.Name)
		}
	}
	if now.LastRun != nil && now.LastRun.Ended != nil {
		one(descriptionHeld, float64(now.LastRun.Counts.Held))
		if now.LastRun.Started != nil {
			one(descriptionTook, now.LastRun.Ended.Sub(*now.LastRun.Started).Seconds())
		}
		gauge(descriptionLastRun, float64(now.LastRun.Ended.Unix()), string(now.LastRun.State))
	}
}
