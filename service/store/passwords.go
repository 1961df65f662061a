package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
)

// Passwords are what the cloud asked about passwords, and how the stream stands by which
// it does.
type Passwords struct{ *session }

// PasswordEvent is one event. It never holds a password.
type PasswordEvent struct {
	ID         int64
	JTI        string
	Act        password.Act
	AskedBy    string
	Directory  string
	EntryID    string
	ResourceID string
	Person     string
	Received   time.Time
	Expires    time.Time
	OrderID    *int64
	Agent      string
	Ended      *time.Time
	Reason     password.Reason
	Least      int
	Detail     string
	Micros     int64 // how long the directory took
}

// PasswordCounts counts events since a time: done, refused by a directory's policy (reasons
// given), and refused otherwise; and how long what was done took, in milliseconds.
type PasswordCounts struct {
	Done, Policy, Refused int
	Median, Slow          int64
}

// Count counts them.
func (s Passwords) Count(ctx context.Context, since time.Time, policy []string) (PasswordCounts, error) {
	var c PasswordCounts
	err := s.raw(ctx, `SELECT count(*) FILTER (WHERE reason = '') AS done, count(*) FILTER (WHERE reason = ANY((@policy)::text[])) AS policy,
			count(*) FILTER (WHERE reason <> '' AND NOT reason = ANY((@policy)::text[])) AS refused,
			coalesce(percentile_disc(0.5) WITHIN GROUP (ORDER BY took) FILTER (WHERE reason = ''), 0) AS median,
			coalesce(percentile_disc(0.95) WITHIN GROUP (ORDER BY took) FILTER (WHERE reason = ''), 0) AS slow
		FROM (SELECT reason, CAST(extract(epoch FROM ended - received) * 1000 AS bigint) AS took FROM password_events WHERE ended IS NOT NULL AND received > @since) AS ended`,
		map[string]any{"policy": textArray(policy), "since": since}).Scan(&c).Error
	return c, err
}

// Begin keeps an event; false when it is there already, and then it is read.
func (s Passwords) Begin(ctx context.Context, event *PasswordEvent) (bool, error) {
	event.Received = time.Now()
	made := s.with(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "jti"}}, DoNothing: true}).Create(event)
	if made.Error != nil {
		return false, fmt.Errorf("keep the event %s: %w", event.JTI, made.Error)
	}
	if made.RowsAffected == 1 {
		return true, nil
	}
	return false, s.with(ctx).Where("jti = ?", event.JTI).Take(event).Error
}

// NameOf is what people call an entry.
func (s Passwords) NameOf(ctx context.Context, ref entry.Ref) (string, error) {
	var name string
	return name, s.raw(ctx, `SELECT name FROM entries WHERE directory = ? AND id = ?`, ref.Directory, ref.ID.String()).Scan(&name).Error
}

// Named notes who an event is about, as people call them.
func (s Passwords) Named(ctx context.Context, event *PasswordEvent, ref entry.Ref) error {
	var err error
	if event.Person, err = s.NameOf(ctx, ref); err != nil {
		return err
	}
	_, err = s.exec(ctx, `UPDATE password_events SET person = ? WHERE id = ?`, event.Person, event.ID)
	return err
}

// Ordered notes which order carries an event out.
func (s Passwords) Ordered(ctx context.Context, id, order int64) error {
	_, err := s.exec(ctx, `UPDATE password_events SET order_id = ? WHERE id = ?`, order, id)
	return err
}

// End keeps what became of an event, unless that is known already: the first answer counts.
func (s Passwords) End(ctx context.Context, event *PasswordEvent) error {
	if _, err := s.exec(ctx, `UPDATE password_events SET ended = now(), reason = ?, least = ?, detail = ?, agent = ?, micros = ? WHERE id = ? AND ended IS NULL`,
		event.Reason, event.Least, event.Detail, event.Agent, event.Micros, event.ID); err != nil {
		return fmt.Errorf("keep what became of the event %s: %w", event.JTI, err)
	}
	if err := s.with(ctx).Where("id = ?", event.ID).Take(event).Error; err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "password", ID: event.ID})
}

// Open are the events of which it is not known yet what becomes of them.
func (s Passwords) Open(ctx context.Context) ([]PasswordEvent, error) {
	var events []PasswordEvent
	return events, s.with(ctx).Where("ended IS NULL").Order("id").Find(&events).Error
}

// Attempts counts what was tried since a time, of one person and of all: what was refused
// for want of a link, or for the limit itself, was no attempt.
func (s Passwords) Attempts(ctx context.Context, resource string, personSince, allSince time.Time) (person, all int, err error) {
	var counts struct{ Person, Total int }
	err = s.raw(ctx, `SELECT count(*) FILTER (WHERE resource_id = @resource AND received > @person) AS person, count(*) FILTER (WHERE received > @all) AS total
		FROM password_events WHERE received > LEAST(CAST(@person AS timestamptz), CAST(@all AS timestamptz)) AND reason <> @many`,
		map[string]any{"resource": resource, "person": personSince, "all": allSince, "many": password.TooMany}).Scan(&counts).Error
	return counts.Person, counts.Total, err
}

// PasswordQuery is which events are listed, the newest first.
type PasswordQuery struct {
	Directory string
	Failed    bool // of what was not done alone
	Offset    int
	Limit     int
}

// List lists events, and how many there are.
func (s Passwords) List(ctx context.Context, q PasswordQuery) ([]PasswordEvent, int, error) {
	query := s.with(ctx).Model(&PasswordEvent{})
	if q.Directory != "" {
		query = query.Where("directory = ?", q.Directory)
	}
	if q.Failed {
		query = query.Where("ended IS NOT NULL AND reason <> ''")
	}
	var total int64
	if err := query.Count(&total).Error; err != nil {
		return nil, 0, err
	}
	var events []PasswordEvent
	return events, int(total), query.Order("id DESC").Offset(q.Offset).Limit(q.Limit).Find(&events).Error
}

// Prune deletes events that ended before a time.
func (s Passwords) Prune(ctx context.Context, before time.Time) error {
	_, err := s.exec(ctx, `DELETE FROM password_events WHERE ended < ?`, before)
	return err
}

// EventStream is how the stream of events stands.
type EventStream struct {
	Service    string // who holds it
	Issuer     string
	Endpoint   string
	Opened     *time.Time
	Polled     *time.Time
	Failing    *time.Time // since when
	Failure    string
	Refused    int // tokens that were not taken
	RefusedAt  *time.Time
	RefusedFor string
	ClockMs    int64  // how far the cloud's clock is ahead
	Verified   string // the state of the last token that tried the stream
	// Published are the agents whose keys the cloud has, by directory, and whether it seals
	// for them.
	Published map[string]map[string]bool `gorm:"serializer:json;type:jsonb"`
}

// TableName is the table of the one row.
func (EventStream) TableName() string { return "event_stream" }

// Stream tells how the stream stands.
func (s Passwords) Stream(ctx context.Context) (EventStream, error) {
	var stream EventStream
	err := s.with(ctx).Take(&stream).Error
	s.here(stream.Opened, stream.Polled, stream.Failing, stream.RefusedAt)
	return stream, err
}

func (s Passwords) stream(ctx context.Context, set string, values ...any) error {
	if _, err := s.exec(ctx, `UPDATE event_stream SET `+set, values...); err != nil {
		return fmt.Errorf("note how the stream of events stands: %w", err)
	}
	return s.Notify(ctx, Event{Kind: "password"})
}

// Opened notes who holds the stream.
func (s Passwords) Opened(ctx context.Context, service, issuer, endpoint string) error {
	return s.stream(ctx, `service = ?, issuer = ?, endpoint = ?, opened = now(), polled = now(), failing = NULL, failure = ''`, service, issuer, endpoint)
}

// Polled notes that the stream answers; it is called with each poll.
func (s Passwords) Polled(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE event_stream SET polled = now(), failing = NULL, failure = ''`)
	return err
}

// Broken notes that the stream does not answer, and why.
func (s Passwords) Broken(ctx context.Context, why string) error {
	return s.stream(ctx, `failing = coalesce(failing, now()), failure = ?, opened = NULL`, why)
}

// Closed notes that no directory takes passwords.
func (s Passwords) Closed(ctx context.Context) error {
	return s.stream(ctx, `service = '', opened = NULL, failing = NULL, failure = ''`)
}

// Refused counts a token that was not taken.
func (s Passwords) Refused(ctx context.Context, why string) error {
	return s.stream(ctx, `refused = refused + 1, refused_at = now(), refused_for = ?`, why)
}

// Clock notes how far the cloud's clock is ahead.
func (s Passwords) Clock(ctx context.Context, ahead time.Duration) error {
	_, err := s.exec(ctx, `UPDATE event_stream SET clock_ms = ?`, ahead.Milliseconds())
	return err
}

// Verified notes that a token arrived that tries the stream.
func (s Passwords) Verified(ctx context.Context, state string) error {
	return s.stream(ctx, `verified = ?`, state)
}

// Published notes whose keys the cloud has.
func (s Passwords) Published(ctx context.Context, agents map[string]map[string]bool) error {
	text, err := json.Marshal(agents)
	if err != nil {
		return err
	}
	return s.stream(ctx, `published = ?::jsonb`, string(text))
}
