package store

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/problem"
)

// Notices are what people are told, by mail and by webhook.
type Notices struct{ *session }

// The channels.
const (
	ByMail    = "mail"
	ByWebhook = "webhook"
)

// Notice is something that people are told.
type Notice struct {
	ID         int64
	Key        string // tells it from all others
	Kind       string // broke, well, digest or test
	Channel    string
	Recipients textArray `gorm:"type:text[]"`
	Subject    string
	Body       string // plain text, or JSON for a webhook
	HTML       string
	Created    time.Time
	Due        time.Time
	Sent       *time.Time
	Attempts   int
	Failure    string // why it was not taken the last time
}

// Add keeps notices to be sent; one whose key is there already is not kept again.
func (s Notices) Add(ctx context.Context, notices ...Notice) error {
	for _, n := range notices {
		if _, err := s.exec(ctx, `INSERT INTO notices (key, kind, channel, recipients, subject, body, html) VALUES (?, ?, ?, ?::text[], ?, ?, ?) ON CONFLICT (key) DO NOTHING`,
			n.Key, n.Kind, n.Channel, n.Recipients, n.Subject, n.Body, n.HTML); err != nil {
			return fmt.Errorf("keep the notice %s: %w", n.Key, err)
		}
	}
	return nil
}

// Send gives one notice that is due to a function that sends it, and keeps what came of
// that; of several services on a database one sends it. It returns whether there was one.
// later is when one is due again that was not taken so many times; channels are those by
// which the service can send.
func (s Notices) Send(ctx context.Context, channels []string, send func(Notice) error, later func(attempts int) time.Duration) (bool, error) {
	found := false
	err := s.Tx(ctx, func(tx *Store) error {
		var n Notice
		if err := tx.raw(ctx, `SELECT * FROM notices WHERE sent IS NULL AND due <= now() AND channel = ANY(?::text[]) ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED`, textArray(channels)).Scan(&n).Error; err != nil || n.ID == 0 {
			return err
		}
		found = true
		failure := send(n)
		if failure == nil {
			_, err := tx.exec(ctx, `UPDATE notices SET sent = now(), attempts = attempts + 1, failure = '' WHERE id = ?`, n.ID)
			return err
		}
		_, err := tx.exec(ctx, `UPDATE notices SET attempts = attempts + 1, failure = ?, due = now() + make_interval(secs => ?) WHERE id = ?`, failure.Error(), later(n.Attempts+1).Seconds(), n.ID)
		return err
	})
	return found, err
}

// List lists notices, the newest first.
func (s Notices) List(ctx context.Context, limit int) ([]Notice, error) {
	var notices []Notice
	return notices, s.raw(ctx, `SELECT * FROM notices ORDER BY id DESC LIMIT ?`, limit).Scan(&notices).Error
}

// Stuck is why a notice was not taken, "" when none waits that was refused before, or that
// no service on the database can send.
func (s Notices) Stuck(ctx context.Context) (string, error) {
	var failure string
	err := s.raw(ctx, `SELECT coalesce((SELECT CASE WHEN attempts > 0 THEN failure ELSE 'no service was started with a mail server' END FROM notices
		WHERE sent IS NULL AND (attempts > 0 OR created < now() - interval '2 minutes') ORDER BY id LIMIT 1), '')`).Scan(&failure).Error
	return failure, err
}

// CountSince counts notices of some kinds since a time.
func (s Notices) CountSince(ctx context.Context, kinds []string, since time.Time) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(DISTINCT split_part(key, '@', 1)) FROM notices WHERE kind = ANY(?::text[]) AND created >= ?`, textArray(kinds), since).Scan(&n).Error
}

// Exists tells whether there is a notice with a key.
func (s Notices) Exists(ctx context.Context, key string) (bool, error) {
	var is bool
	return is, s.raw(ctx, `SELECT EXISTS (SELECT FROM notices WHERE key = ?)`, key).Scan(&is).Error
}

// Lock lets one service at a time make notices; it belongs into a transaction.
func (s Notices) Lock(ctx context.Context) error {
	_, err := s.exec(ctx, `LOCK TABLE noticed IN SHARE ROW EXCLUSIVE MODE`)
	return err
}

// Inherit lets a problem stand for one that people were told of: what has come and gone and
// come again, and what each run meets anew, is told once.
func (s Notices) Inherit(ctx context.Context) error {
	const same = `q.code = p.code AND q.about = p.about AND (q.subject = p.subject OR q.about = 'run')`
	if _, err := s.exec(ctx, `INSERT INTO noticed (problem_id) SELECT p.id FROM problems p WHERE p.closed IS NULL AND p.about NOT IN ('entry', 'cloud-group') AND NOT EXISTS (SELECT FROM noticed n WHERE n.problem_id = p.id)
		AND EXISTS (SELECT FROM noticed o JOIN problems q ON q.id = o.problem_id WHERE o.over IS NULL AND q.closed IS NOT NULL AND `+same+`) ON CONFLICT DO NOTHING`); err != nil {
		return err
	}
	_, err := s.exec(ctx, `UPDATE noticed o SET over = now() FROM problems q WHERE o.over IS NULL AND q.id = o.problem_id AND q.closed IS NOT NULL
		AND EXISTS (SELECT FROM problems p JOIN noticed n ON n.problem_id = p.id WHERE p.closed IS NULL AND `+same+`)`)
	return err
}

// Untold lists problems with one of the codes of which nobody was told, that are open since
// before a time.
func (s Notices) Untold(ctx context.Context, codes []problem.Code, before time.Time) ([]Problem, error) {
	texts := make(textArray, len(codes))
	for i, code := range codes {
		texts[i] = string(code)
	}
	return s.all().Problems.list(ctx, `WHERE p.closed IS NULL AND p.since <= ? AND p.about NOT IN ('entry', 'cloud-group') AND p.code = ANY(?::text[]) AND NOT EXISTS (SELECT FROM noticed o WHERE o.problem_id = p.id) ORDER BY p.since, p.id`, before, texts)
}

// Over lists problems of which people were told and that are closed since before a time.
func (s Notices) Over(ctx context.Context, before time.Time) ([]Problem, error) {
	return s.all().Problems.list(ctx, `JOIN noticed o ON o.problem_id = p.id AND o.over IS NULL WHERE p.closed <= ? ORDER BY p.closed, p.id`, before)
}

// Tell notes that people are told of problems, or that these are over.
func (s Notices) Tell(ctx context.Context, problems []Problem, over bool) error {
	ids := make([]int64, len(problems))
	for i, p := range problems {
		ids[i] = p.ID
	}
	statement := `INSERT INTO noticed (problem_id) SELECT unnest(?::text[]::bigint[]) ON CONFLICT DO NOTHING`
	if over {
		statement = `UPDATE noticed SET over = now() WHERE problem_id = ANY(?::text[]::bigint[])`
	}
	_, err := s.exec(ctx, statement, numbers(ids))
	return err
}

// Prune forgets what was sent before a time.
func (s Notices) Prune(ctx context.Context, before time.Time) error {
	if _, err := s.exec(ctx, `DELETE FROM notices WHERE created < ?`, before); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM noticed WHERE told < ? AND over IS NOT NULL`, before)
	return err
}
