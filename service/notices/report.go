package notices

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// Reports makes the report of a time.
type Reports func(ctx context.Context, from, to time.Time) (wire.Report, error)

// mostNamed is how many things of a part a mail names.
const mostNamed = 40

// reports sends the report of the week before on Mondays and that of the month before on its
// first day, at the time of the digest, to whom the settings name for it.
func (n *Notices) reports(ctx context.Context, of settings.Notices, now time.Time) error {
	at, wanted := of.DigestAt(now)
	if !wanted { // who wants no digest may want reports
		at, _ = settings.Notices{}.DigestAt(now)
	}
	if !due(at, now) {
		return nil
	}
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	if now.Weekday() == time.Monday {
		if err := n.scheduled(ctx, of, settings.NoticeWeekly, today.AddDate(0, 0, -7), today); err != nil {
			return err
		}
	}
	if now.Day() == 1 {
		return n.scheduled(ctx, of, settings.NoticeMonthly, today.AddDate(0, -1, 0), today)
	}
	return nil
}

// scheduled keeps a report that is due, once.
func (n *Notices) scheduled(ctx context.Context, of settings.Notices, kind settings.NoticeKind, from, to time.Time) error {
	if len(of.To(kind)) == 0 {
		return nil
	}
	key := string(kind) + "-" + to.Format(time.DateOnly)
	if there, err := n.store.Notices.Exists(ctx, key+"@"+store.ByMail); err != nil || there {
		return err
	}
	report, err := n.report(ctx, from, to)
	if err != nil {
		return fmt.Errorf("make the report that is due: %w", err)
	}
	of.Webhook = "" // reports are for people
	return n.tell(ctx, n.store, of, kind, reported(n.url, key, report))
}

// SendReport mails the report of a time to everybody who gets reports, and says to whom.
func (n *Notices) SendReport(ctx context.Context, by string, from, to time.Time) ([]string, error) {
	of, err := n.settings(ctx)
	if err != nil {
		return nil, err
	}
	var recipients []settings.Recipient
	for _, r := range of.Recipients {
		if r.Wants(settings.NoticeWeekly) || r.Wants(settings.NoticeMonthly) {
			recipients = append(recipients, settings.Recipient{To: r.To, Of: []settings.NoticeKind{settings.NoticeWeekly}})
		}
	}
	if len(recipients) == 0 {
		return nil, problem.New(problem.BadInput, "the settings name nobody who gets reports: weekly-report or monthly-report in notices.recipients.")
	}
	report, err := n.report(ctx, from, to)
	if err != nil {
		return nil, err
	}
	only := settings.Notices{Recipients: recipients}
	now := time.Now()
	err = n.store.Tx(ctx, func(tx *store.Store) error {
		if err := n.tell(ctx, tx, only, settings.NoticeWeekly, reported(n.url, fmt.Sprintf("report-%d", now.UnixNano()), report)); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.SendReport, By: by, About: about.Thing{Type: about.Service}, After: only.To(settings.NoticeWeekly),
			Note: fmt.Sprintf("from %s to %s", from.UTC().Format(time.RFC3339), to.UTC().Format(time.RFC3339))})
	})
	if err != nil {
		return nil, err
	}
	return only.To(settings.NoticeWeekly), n.tick(ctx, now)
}

// reported is a report as a mail.
func reported(console, key string, r wire.Report) message {
	day := func(t time.Time) string { return t.Local().Format(time.DateOnly) }
	span := url.Values{"from": {r.From.UTC().Format(time.RFC3339)}, "to": {r.To.UTC().Format(time.RFC3339)}}.Encode()
	m := message{
		Key: key, Kind: "report", At: time.Now(),
		Subject: fmt.Sprintf("Kambrel: report from %s to %s: %d came, %d changed, %d left", day(r.From), day(r.To), r.Came.Total, r.Changed.Total, r.Left.Total),
		Intro:   fmt.Sprintf("From %s to %s: %d runs, of which %d failed.", day(r.From), day(r.To), r.Runs, r.Failures),
		Links:   []link{{console + "/report?" + span, "The whole report"}, {console + "/api/v1/report.csv?" + span, "Everything as CSV"}},
	}
	for _, part := range []struct {
		title string
		of    wire.ReportPart
	}{{"Came", r.Came}, {"Left", r.Left}, {"Failed", r.Failed}} {
		if part.of.Total == 0 {
			continue
		}
		m.Lines = append(m.Lines, fmt.Sprintf("%s: %d", part.title, part.of.Total))
		for _, one := range part.of.Items[:min(len(part.of.Items), mostNamed)] {
			line := fmt.Sprintf("- %s: %s (%s), run %d", one.Operation, one.Name, one.Kind, one.RunID)
			if one.Released {
				line += ", released by " + one.By
			}
			if one.Answer != "" {
				line += ": " + one.Answer
			}
			m.Lines = append(m.Lines, line)
		}
		if more := part.of.Total - mostNamed; more > 0 {
			m.Lines = append(m.Lines, fmt.Sprintf("- and %d more", more))
		}
	}
	for _, p := range r.Problems {
		m.Lines = append(m.Lines, fmt.Sprintf("Problem %s: %d opened, %d closed, %d open", p.Title, p.Opened, p.Closed, p.Open))
	}
	return m
}
