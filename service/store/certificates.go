package store

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/about"
)

// Certificates are until when those are valid by which services, directories and the cloud
// are known.
type Certificates struct{ *session }

// Certificate is one of them. Of a service the key is its URL.
type Certificate struct {
	Type    about.Type
	Key     string
	SeenBy  string
	Expires time.Time
}

// stillSeen is how long what somebody has seen counts: who meets a certificate no more, as
// an agent that is retired, does not know of the new one.
const stillSeen = "interval '2 days'"

// Keep takes in what somebody has seen; again it is written only every hour.
func (s Certificates) Keep(ctx context.Context, c Certificate) error {
	// It is told every few seconds, so it is looked at first: ON CONFLICT alone locks the row,
	// which is a write.
	_, err := s.exec(ctx, `INSERT INTO certificates (type, key, seen_by, expires) SELECT (@type)::text, (@key)::text, (@by)::text, (@expires)::timestamptz
		WHERE NOT EXISTS (SELECT FROM certificates WHERE type = (@type) AND key = (@key) AND seen_by = (@by) AND expires = (@expires) AND seen > now() - interval '1 hour')
		ON CONFLICT (type, key, seen_by) DO UPDATE SET expires = excluded.expires, seen = now()`,
		map[string]any{"type": string(c.Type), "key": c.Key, "by": c.SeenBy, "expires": c.Expires})
	return err
}

// Expiring are those that end before a time, the first of each thing.
func (s Certificates) Expiring(ctx context.Context, before time.Time) ([]Certificate, error) {
	var list []Certificate
	return list, s.raw(ctx, `SELECT DISTINCT ON (type, key) * FROM certificates WHERE expires < ? AND seen > now() - `+stillSeen+` ORDER BY type, key, expires`, before).Scan(&list).Error
}
