package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

const (
	every = 2 * time.Second
	// settle is how long something must have been broken, or well again, before anybody is
	// told: what comes and goes within seconds is no news.
	settle = 10 * time.Second
	// mostAnHour is how many notices of failures go out within an hour; what breaks beyond
	// that is told with the next one.
	mostAnHour   = 6
	firstPause   = 15 * time.Second
	longestPause = time.Hour
)

// Failures are the problems of which people are told at once: nothing is synced while they
// last.
var Failures = []problem.Code{
	problem.AgentOffline, problem.DirectoryUnreachable, problem.DirectoryRefused, problem.DirectoryNotServed, problem.NothingVisible, problem.ContainerMissing,
	problem.CloudUnreachable, problem.CloudUnauthorized, problem.CloudFailing, problem.CloudThrottled, problem.CloudListIncomplete, problem.MembersLost, problem.SecondResource,
	problem.RemovalsHeld, problem.Unforeseen, problem.SettingsInvalid, problem.DatabaseRefused, problem.DatabaseReadOnly, problem.EntryOutsideBase,
}

// Notices tells people. Its methods may be called from many goroutines.
type Notices struct {
	store  *store.Store
	sender Sender
	url    string // of the console
	report Reports
	group  sync.WaitGroup
	stop   context.CancelFunc
}

// New makes one; url is where people find the console.
func New(s *store.Store, sender Sender, url string, reports Reports) *Notices {
	return &Notices{store: s, sender: sender, url: strings.TrimSuffix(url, "/"), report: reports}
}

// Start begins to make and to send notices, until Stop. All services on a database may.
func (n *Notices) Start(ctx context.Context) {
	ctx, n.stop = context.WithCancel(context.WithoutCancel(ctx))
	n.group.Go(func() {
		ticker := time.NewTicker(every)
		defer ticker.Stop()
		for {
			if err := n.tick(ctx, time.Now()); err != nil && ctx.Err() == nil {
				slog.Warn("tell people", logkey.Error, err)
			}
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
		}
	})
}

// Stop ends it; what is due goes out after the next start.
func (n *Notices) Stop() {
	if n.stop != nil {
		n.stop()
		n.group.Wait()
	}
}

// tick makes what is to be told, and sends what is due.
func (n *Notices) tick(ctx context.Context, now time.Time) error {
	active, ok, err := n.store.Settings.Active(ctx)
	if err != nil {
		return err
	}
	of := active.Document.Notices
	if ok && (len(of.Recipients) > 0 || of.Webhook != "") {
		if err := n.failures(ctx, of, now); err != nil {
			return err
		}
		if err := n.digest(ctx, active.Document, now); err != nil {
			return err
		}
		if err := n.reports(ctx, of, now); err != nil {
			return err
		}
	}
	for {
		found, err := n.store.Notices.Send(ctx, n.sender.channels(), func(one store.Notice) error {
			err := n.sender.send(ctx, one, of.Webhook)
			if err != nil {
				slog.Warn("a notice was not taken", logkey.Kind, one.Kind, logkey.Failures, one.Attempts+1, logkey.Error, err)
			}
			return err
		}, func(attempts int) time.Duration {
			return min(firstPause<<min(attempts-1, 10), longestPause)
		})
		if err != nil || !found {
			return err
		}
	}
}

// failures tells of what has broken, and of what is well again.
func (n *Notices) failures(ctx context.Context, of settings.Notices, now time.Time) error {
	told, err := n.store.Notices.CountSince(ctx, []string{"broke", "well"}, now.Add(-time.Hour))
	if err != nil || told >= mostAnHour {
		return err
	}
	return n.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Notices.Lock(ctx); err != nil {
			return err
		}
		if err := tx.Notices.Inherit(ctx); err != nil {
			return err
		}
		broke, err := tx.Notices.Untold(ctx, Failures, now.Add(-settle))
		if err != nil {
			return err
		}
		over, err := tx.Notices.Over(ctx, now.Add(-settle))
		if err != nil {
			return err
		}
		if len(broke) > 0 {
			if err := n.tell(ctx, tx, of, settings.NoticeFailures, failure(n.url, "broke", broke)); err != nil {
				return err
			}
			if err := tx.Notices.Tell(ctx, broke, false); err != nil {
				return err
			}
		}
		if len(over) > 0 {
			if err := n.tell(ctx, tx, of, settings.NoticeFailures, failure(n.url, "well", over)); err != nil {
				return err
			}
			return tx.Notices.Tell(ctx, over, true)
		}
		return nil
	})
}

// due tells whether something goes out that is due at a time of the day: what is long due is
// not sent any more.
func due(at, now time.Time) bool { return !now.Before(at) && now.Sub(at) <= 12*time.Hour }

// digest tells once a day all that is open, and what came of the day before; on a day on
// which there is nothing of it, nobody is bothered.
func (n *Notices) digest(ctx context.Context, document settings.Document, now time.Time) error {
	of := document.Notices
	at, wanted := of.DigestAt(now)
	if len(of.To(settings.NoticeDigest)) == 0 && of.Webhook == "" { // nobody would be told, again and again
		wanted = false
	}
	if !wanted || !due(at, now) {
		return nil
	}
	key := "digest-" + now.Format(time.DateOnly)
	if there, err := n.store.Notices.Exists(ctx, key+"@"+store.ByMail); err != nil || there {
		return err
	}
	if there, err := n.store.Notices.Exists(ctx, key+"@"+store.ByWebhook); err != nil || there {
		return err
	}
	groups, err := n.store.Problems.Groups(ctx, now.Add(-24*time.Hour))
	if err != nil {
		return err
	}
	going, err := n.store.Links.Going(ctx, store.GraceOf(document))
	if err != nil {
		return err
	}
	message, any := daily(n.url, key, now, groups, going)
	if !any {
		return nil
	}
	return n.tell(ctx, n.store, of, settings.NoticeDigest, message)
}

// settings says who is told of what.
func (n *Notices) settings(ctx context.Context) (settings.Notices, error) {
	active, _, err := n.store.Settings.Active(ctx)
	return active.Document.Notices, err
}

// tell keeps a message for all who want to be told of its kind.
func (n *Notices) tell(ctx context.Context, tx *store.Store, of settings.Notices, kind settings.NoticeKind, m message) error {
	var out []store.Notice
	if to := of.To(kind); len(to) > 0 {
		text, html, err := m.write()
		if err != nil {
			return err
		}
		out = append(out, store.Notice{Key: m.Key + "@" + store.ByMail, Kind: m.Kind, Channel: store.ByMail, Recipients: to, Subject: m.Subject, Body: text, HTML: html})
	}
	if of.Webhook != "" {
		body, err := json.Marshal(m)
		if err != nil {
			return err
		}
		out = append(out, store.Notice{Key: m.Key + "@" + store.ByWebhook, Kind: m.Kind, Channel: store.ByWebhook, Subject: m.Subject, Body: string(body)})
	}
	return tx.Notices.Add(ctx, out...)
}

// Test sends a notice for a trial to everybody who is told of anything, now, and says what
// came of it.
func (n *Notices) Test(ctx context.Context, by string) ([]wire.Notice, error) {
	of, err := n.settings(ctx)
	if err != nil {
		return nil, err
	}
	if len(of.Recipients) == 0 && of.Webhook == "" {
		return nil, problem.New(problem.BadInput, "the settings name nobody who is told: notices.recipients or notices.webhook.")
	}
	now := time.Now()
	m := message{Key: fmt.Sprintf("test-%d", now.UnixNano()), Kind: "test", Subject: "Kambrel: a trial", At: now, Intro: by + " tries whether notices get through. Nothing has happened.", Links: []link{{n.url + "/notices", "Notices"}}}
	var out []wire.Notice
	each := of
	each.Recipients = nil
	for _, r := range of.Recipients {
		r.Of = nil
		each.Recipients = append(each.Recipients, r)
	}
	if err := n.store.Tx(ctx, func(tx *store.Store) error {
		if err := n.tell(ctx, tx, each, settings.NoticeFailures, m); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.TestNotice, By: by, About: about.Thing{Type: about.Service}, After: each.To(settings.NoticeFailures)})
	}); err != nil {
		return nil, err
	}
	if err := n.tick(ctx, now); err != nil {
		return nil, err
	}
	list, err := n.List(ctx)
	for _, one := range list.Items {
		if strings.HasPrefix(one.Key, m.Key+"@") {
			out = append(out, one)
		}
	}
	return out, err
}

const mostListed = 100

// List shows who is told of what, and what people were told, the newest first.
func (n *Notices) List(ctx context.Context) (wire.NoticesView, error) {
	view := wire.NoticesView{Items: []wire.Notice{}, Recipients: []wire.NoticeRecipient{}, From: n.sender.From}
	if n.sender.Server != nil {
		view.Server = n.sender.Server.String()
	}
	of, err := n.settings(ctx)
	if err != nil {
		return view, err
	}
	for _, r := range of.Recipients {
		kinds := []string{}
		for _, kind := range settings.NoticeKinds {
			if r.Wants(kind) {
				kinds = append(kinds, string(kind))
			}
		}
		view.Recipients = append(view.Recipients, wire.NoticeRecipient{To: r.To, Of: kinds})
	}
	if view.Webhook = of.Webhook; view.Webhook != "" {
		view.Signed = n.sender.KeyFile != ""
	}
	if at, wanted := of.DigestAt(time.Now()); wanted {
		view.Digest = at.Format("15:04")
	}
	list, err := n.store.Notices.List(ctx, mostListed)
	for _, one := range list {
		view.Items = append(view.Items, wire.Notice{
			ID: one.ID, Key: one.Key, Kind: one.Kind, Channel: one.Channel, Recipients: one.Recipients, Subject: one.Subject, Body: one.Body,
			Created: one.Created, Sent: one.Sent, Attempts: one.Attempts, Failure: one.Failure,
		})
	}
	return view, err
}
