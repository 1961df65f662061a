package store

import (
	"context"
	"time"
)

// Connection is which cloud the records are of, and how it is reached.
type Connection struct{ *session }

// CloudConnection is what is kept of it.
type CloudConnection struct {
	// RecordsOf is the URL at which the cloud of the records was met last, "" before that.
	RecordsOf string
	// URL is where an operator has said that it is, "" where nobody has; Token is sealed.
	URL   string
	Token []byte
	SetBy string
	SetAt *time.Time
}

// EventCloud tells that the cloud is to be reached otherwise.
const EventCloud = "cloud"

// Now is how it stands.
func (s Connection) Now(ctx context.Context) (CloudConnection, error) {
	var row CloudConnection
	return row, s.with(ctx).Table("cloud_connection").Take(&row).Error
}

// Set keeps how the cloud is reached; with "" the service's own configuration tells.
func (s Connection) Set(ctx context.Context, url string, token []byte, by string) error {
	if _, err := s.exec(ctx, `UPDATE cloud_connection SET url = ?, token = ?, set_by = ?, set_at = now()`, url, octets(token), by); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: EventCloud})
}

// RecordsAreOf notes where the cloud of the records was met. What was learned of it elsewhere
// holds there too.
func (s Connection) RecordsAreOf(ctx context.Context, url string) error {
	for _, statement := range []string{
		`INSERT INTO cloud_trust (url, member_writes, members_shown)
			SELECT (@url)::text, member_writes, members_shown FROM cloud_trust WHERE url = (SELECT records_of FROM cloud_connection) ON CONFLICT DO NOTHING`,
		`UPDATE cloud_connection SET records_of = @url `,
	} {
		if _, err := s.exec(ctx, statement, map[string]any{"url": url}); err != nil {
			return err
		}
	}
	return nil
}
