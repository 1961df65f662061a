package store

import (
	"context"
	"encoding/json"
	"log/slog"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/jackc/pgx/v5"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/rest"
)

const channel = "kambrel"

// Event tells that something changed: a run, settings, a draft, an agent, an order or
// a repair. What it is, is read from its own table.
type Event struct {
	Kind string `json:"kind"`
	ID   int64  `json:"id,omitempty"`
}

// Notify tells all services on the database that something changed. Inside a
// transaction it is sent when that commits.
func (s *session) Notify(ctx context.Context, event Event) error {
	text, err := json.Marshal(event)
	if err != nil {
		return err
	}
	_, err = s.exec(ctx, `SELECT pg_notify(?, ?)`, channel, string(text))
	return err
}

// Listen hands every event to each until ctx ends, over a connection of its
// own that it opens again when it breaks. After a break it hands on an empty
// event, since some may have been missed.
func (s *session) Listen(ctx context.Context, each func(Event)) {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = 500*time.Millisecond, 3*time.Second
	for ctx.Err() == nil {
		if err := s.listenOnce(ctx, func(event Event) { pauses.Reset(); each(event) }); err != nil && ctx.Err() == nil {
			slog.Warn("listening for events broke off, trying again", logkey.Error, err)
			_ = rest.For(ctx, pauses.NextBackOff())
			each(Event{})
		}
	}
}

func (s *session) listenOnce(ctx context.Context, each func(Event)) error {
	connection, err := pgx.Connect(ctx, s.dsn)
	if err != nil {
		return err
	}
	defer connection.Close(context.WithoutCancel(ctx))
	if _, err := connection.Exec(ctx, `LISTEN `+channel); err != nil {
		return err
	}
	each(Event{})
	for {
		notification, err := connection.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var event Event
		if json.Unmarshal([]byte(notification.Payload), &event) == nil {
			each(event)
		}
	}
}
