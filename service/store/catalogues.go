package store

import (
	"context"
	"encoding/json"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

// SaveOffered keeps what a cloud takes.
func (s Resources) SaveOffered(ctx context.Context, url string, offered map[entry.Kind][]settings.Offered) error {
	text, err := json.Marshal(offered)
	if err != nil {
		return err
	}
	_, err = s.exec(ctx, `INSERT INTO cloud_catalogues (url, offered) VALUES (?, ?::jsonb) ON CONFLICT (url) DO UPDATE SET offered = excluded.offered, seen = now()`, url, string(text))
	return err
}

// Offered is what a cloud was seen to take last, empty when it never was.
func (s Resources) Offered(ctx context.Context, url string) (map[entry.Kind][]settings.Offered, error) {
	var row struct{ Offered []byte }
	offered := map[entry.Kind][]settings.Offered{}
	if err := s.raw(ctx, `SELECT offered FROM cloud_catalogues WHERE url = ?`, url).Scan(&row).Error; err != nil || row.Offered == nil {
		return offered, err
	}
	return offered, json.Unmarshal(row.Offered, &offered)
}
