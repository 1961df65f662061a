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

type originContext struct{}

// WithOrigin says from where what is done with the context is done: an address, and by
// what.
func WithOrigin(ctx context.Context, origin string) context.Context {
	return context.WithValue(ctx, originContext{}, origin)
}

func originOf(ctx context.Context) string {
	origin, _ := ctx.Value(originContext{}).(string)
	return origin
}

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
		if _, err := s.exec(ctx, `INSERT INTO acts (origin, by, kind, about, subject, before, after, result, note) VALUES (?, ?, ?, ?, ?, ?::jsonb, ?::jsonb, ?, ?)`,
			originOf(ctx), a.By, string(a.Kind), string(a.About.Type), a.About.Key, before, after, string(cmp.Or(a.Result, act.Done)), a.Note); err != nil {
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
	Origin  string // from where it was done
}

// subjectID is the id of the entry that an act a is about, null for anything else.
const subjectID = `CASE WHEN a.about = 'entry' AND a.subject ~ '/[0-9a-f-]{36}$' THEN split_part(a.subject, '/', 2)::uuid END`

// The page is cut before names are looked up.
const actSelect = `SELECT a.id, a.at, a.by, a.kind, a.about, a.subject, coalesce(
		(SELECT e.dn FROM entries e WHERE a.about = 'entry' AND e.directory = split_part(a.subject, '/', 1) AND e.id = ` + subjectID + `),
		(SELECT g.name FROM agents g WHERE a.about = 'agent' AND g.id::text = a.subject), a.subject) AS name, a.before, a.after, a.result, a.note, a.origin FROM acts a`

// ActQuery chooses acts.
type ActQuery struct {
	Kind   act.Kind
	By     string
	Type   about.Type
	Key    string // of the thing, with Type
	Result act.Result
	Text   string // part of a name, a note, or of what was before or after
	Since  time.Time
	Until  time.Time
	Before int64 // only acts before this one; 0 begins with the newest
	Limit  int
}

// List lists acts, the newest first, and how many there are.
func (s Acts) List(ctx context.Context, q ActQuery) ([]Act, int, error) {
	where, args := q.where()
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM acts a`+where, args...).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	var acts []Act
	err := s.raw(ctx, actSelect+where+` AND (? = 0 OR a.id < ?) ORDER BY a.id DESC LIMIT ?`,
		append(args, q.Before, q.Before, q.Limit)...).Scan(&acts).Error
	return acts, total, err
}

func (q ActQuery) where() (string, []any) {
	where, args := ` WHERE ? IN ('', a.kind) AND ? IN ('', a.by) AND ? IN ('', a.about) AND (? = '' OR a.subject = ?) AND ? IN ('', a.result)`, []any{string(q.Kind), q.By, string(q.Type), q.Key, q.Key, string(q.Result)}
	if q.Text != "" {
		where += ` AND (a.note ILIKE ? OR a.subject ILIKE ? OR a.before::text ILIKE ? OR a.after::text ILIKE ? OR EXISTS (SELECT FROM entries n WHERE a.about = 'entry' AND n.directory = split_part(a.subject, '/', 1) AND n.id = ` + subjectID + ` AND n.dn ILIKE ?))`
		text := like(q.Text)
		args = append(args, text, text, text, text, text)
	}
	if !q.Since.IsZero() {
		where, args = where+` AND a.at >= ?`, append(args, q.Since)
	}
	if !q.Until.IsZero() {
		where, args = where+` AND a.at < ?`, append(args, q.Until)
	}
	return where, args
}

// Each goes through acts, the newest first, by pages.
func (s Acts) Each(ctx context.Context, q ActQuery, work func([]Act) error) error {
	for q.Limit = 500; ; {
		acts, _, err := s.List(ctx, q)
		if err != nil || len(acts) == 0 {
			return err
		}
		if err := work(acts); err != nil {
			return err
		}
		q.Before = acts[len(acts)-1].ID
	}
}

// PassOn gives acts that were not passed on yet to a stream, the oldest first and up to a
// number, and keeps how far that has come; of several services on a database one at a time
// does. It returns how many there were.
func (s Acts) PassOn(ctx context.Context, stream string, limit int, pass func([]Act) error) (int, error) {
	if _, err := s.exec(ctx, `INSERT INTO act_streams (name) VALUES (?) ON CONFLICT DO NOTHING`, stream); err != nil {
		return 0, err
	}
	n := 0
	err := s.Tx(ctx, func(tx *Store) error {
		var at struct {
			Tx string
			ID int64
		}
		if err := tx.raw(ctx, `SELECT tx::text AS tx, id FROM act_streams WHERE name = ? FOR UPDATE SKIP LOCKED`, stream).Scan(&at).Error; err != nil || at.Tx == "" {
			return err
		}
		var rows []struct {
			Act
			Tx string
		}
		// What a transaction that goes on may still note is waited for.
		if err := tx.raw(ctx, actSelect[:len(`SELECT `)]+`a.tx::text AS tx, `+actSelect[len(`SELECT `):]+` WHERE (a.tx, a.id) > (?::xid8, ?) AND a.tx < pg_snapshot_xmin(pg_current_snapshot()) ORDER BY a.tx, a.id LIMIT ?`, at.Tx, at.ID, limit).Scan(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		acts := make([]Act, len(rows))
		for i, row := range rows {
			acts[i] = row.Act
		}
		if err := pass(acts); err != nil {
			return err
		}
		n = len(rows)
		_, err := tx.exec(ctx, `UPDATE act_streams SET tx = ?::xid8, id = ? WHERE name = ?`, rows[n-1].Tx, rows[n-1].ID, stream)
		return err
	})
	return n, err
}

// RefusedSignIns counts attempts to sign in that were refused since a time, with whose names and
// from which addresses, the most first and a few of each.
func (s Acts) RefusedSignIns(ctx context.Context, since time.Time) (count int, names, addresses []string, err error) {
	var row struct {
		Count            int
		Names, Addresses textArray
	}
	err = s.raw(ctx, `
		WITH refused AS (SELECT by, after->>'address' AS address FROM acts WHERE at > @since AND kind = 'sign-in' AND result = 'refused')
		SELECT (SELECT count(*) FROM refused) AS count,
			(SELECT coalesce(array_agg(by ORDER BY n DESC, by), '{}') FROM (SELECT by, count(*) AS n FROM refused GROUP BY by ORDER BY n DESC, by LIMIT 3) t) AS names,
			(SELECT coalesce(array_agg(address ORDER BY n DESC, address), '{}') FROM (SELECT address, count(*) AS n FROM refused WHERE address <> '' GROUP BY address ORDER BY n DESC, address LIMIT 3) t) AS addresses`,
		map[string]any{"since": since}).Scan(&row).Error
	return row.Count, row.Names, row.Addresses, err
}

// EmergencySignIns are the uses of accounts for emergencies since a time.
func (s Acts) EmergencySignIns(ctx context.Context, since time.Time) ([]Act, error) {
	var list []Act
	return list, s.raw(ctx, `SELECT a.* FROM acts a JOIN operators o ON o.name = a.by AND o.emergency WHERE a.at > ? AND a.kind = 'sign-in' AND a.result = 'done' ORDER BY a.id DESC LIMIT 5`, since).Scan(&list).Error
}
