package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
)

// Acts is who did what.
type Acts struct{ *session }

// Record notes acts; it belongs into the transaction of what they do.
func (s Acts) Record(ctx context.Context, acts ...act.Act) error {
	for _, a := range acts {
		before, err := asJSON(a.Before)
		if err != nil {
			return err
		}
		after, err := asJSON(a.After)
		if err != nil {
			return err
		}
		if _, err := s.exec(ctx, `INSERT INTO acts (by, kind, about, subject, before, after, result, note) VALUES (?, ?, ?, ?, ?::jsonb, ?::jsonb, ?, ?)`,
			a.By, string(a.Kind), string(a.About.Type), a.About.Key, before, after, string(cmp.Or(a.Result, act.Done)), a.Note); err != nil {
			return fmt.Errorf("note that %s did %s: %w", a.By, a.Kind, err)
		}
	}
	return nil
}

// asJSON is nil for nothing.
func asJSON(value any) (*string, error) {
	if value == nil {
		return nil, nil
	}
	text, err := json.Marshal(value)
	kept := string(text)
	return &kept, err
}

// Act is an act as it is kept.
type Act struct {
	ID      int64
	At      time.Time
	By      string
	Kind    act.Kind
	About   about.Type
	Subject string
	Name    string // what people call the thing
	Before  []byte // JSON, empty for nothing
	After   []byte
	Result  act.Result
	Note    string
}

// ActQuery chooses acts.
type ActQuery struct {
	Kind   act.Kind
	By     string
	Type   about.Type
	Key    string // of the thing, with Type
	Before int64  // only acts before this one; 0 begins with the newest
	Limit  int
}

// List lists acts, the newest first, and how many there are.
func (s Acts) List(ctx context.Context, q ActQuery) ([]Act, int, error) {
	const where = ` WHERE ? IN ('', a.kind) AND ? IN ('', a.by) AND ? IN ('', a.about) AND (? = '' OR a.subject = ?)`
	args := []any{string(q.Kind), q.By, string(q.Type), q.Key, q.Key}
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM acts a`+where, args...).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	var acts []Act
	err := s.raw(ctx, `SELECT a.id, a.at, a.by, a.kind, a.about, a.subject, coalesce(e.dn, g.name, a.subject) AS name, a.before, a.after, a.result, a.note FROM acts a
		LEFT JOIN entries e ON a.about = 'entry' AND e.directory = split_part(a.subject, '/', 1) AND e.id::text = split_part(a.subject, '/', 2)
		LEFT JOIN agents g ON a.about = 'agent' AND g.id::text = a.subject`+where+` AND (? = 0 OR a.id < ?) ORDER BY a.id DESC LIMIT ?`,
		append(args, q.Before, q.Before, q.Limit)...).Scan(&acts).Error
	return acts, total, err
}
