package store

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

// The states of a dirty entry.
const (
	DirtyNow   = 0
	DirtyLater = 1 // at the end of this plan
	DirtyNext  = 2 // at the next run
)

// onlyOf limits a query to one entry, where one is given.
func onlyOf(r *entry.Ref, table string) (string, []any) {
	if r == nil {
		return "", nil
	}
	return "AND " + table + ".directory = ? AND " + table + ".entry_id = ?", []any{r.Directory, r.ID.String()}
}

// Dirty is what the next plan must look at.
type Dirty struct{ *session }

// DirtyQuery chooses entries of the dirty set.
type DirtyQuery struct {
	State int
	// Linked: those that have a link, or those that have none; nil for both.
	Linked *bool
	// Only is the one that is looked for; nil for all.
	Only *entry.Ref
	// Without are directories that are left out.
	Without []string
	After   entry.Ref // in their order
	Limit   int
}

// where is the condition, over a table d, that the entries meet.
func (q DirtyQuery) where() (string, []any) {
	where, args := onlyOf(q.Only, "d")
	if len(q.Without) > 0 {
		where += " AND d.directory <> ALL(?)"
		args = append(args, textArray(q.Without))
	}
	if q.Linked != nil {
		where += " AND EXISTS (SELECT FROM links x WHERE x.directory = d.directory AND x.entry_id = d.entry_id) = ?"
		args = append(args, *q.Linked)
	}
	return " d.state = ? " + where, append([]any{q.State}, args...)
}

// Next returns dirty entries and holds them until the transaction ends;
// those that another transaction holds are left out.
func (s Dirty) Next(ctx context.Context, q DirtyQuery) ([]decide.Case, error) {
	var rows []SubjectRow
	where, args := q.where()
	err := s.raw(ctx, `SELECT d.lookup, `+subjectColumns+` FROM dirty d JOIN entries e ON e.directory = d.directory AND e.id = d.entry_id `+subjectJoins+`
		WHERE `+where+` AND (d.directory, d.entry_id) > (?, ?) ORDER BY d.directory, d.entry_id LIMIT ? FOR UPDATE OF d SKIP LOCKED`,
		slices.Concat(args, []any{q.After.Directory, q.After.ID.String(), q.Limit})...).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return subjects(rows)
}

// Raise brings what waited for this run into it.
func (s Dirty) Raise(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE dirty SET state = 0 WHERE state <> 0`)
	return err
}

// Set puts entries into a state of the dirty set; one may be named several times, as where
// several changes of it came to nothing.
func (s Dirty) Set(ctx context.Context, refs []entry.Ref, state int, lookup bool) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `INSERT INTO dirty (directory, entry_id, state, lookup) SELECT DISTINCT d, i, ?::integer, ?::boolean FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = excluded.state, lookup = dirty.lookup OR excluded.lookup`, state, lookup, directories, ids)
	return err
}

// Clear takes entries out of the dirty set.
func (s Dirty) Clear(ctx context.Context, refs []entry.Ref) error {
	return s.deleteByEntry(ctx, "dirty", refs)
}

// Count counts the entries that a query chooses, whatever its limit.
func (s Dirty) Count(ctx context.Context, q DirtyQuery) (int, error) {
	var n int
	where, args := q.where()
	return n, s.raw(ctx, `SELECT count(*) FROM dirty d WHERE `+where, args...).Scan(&n).Error
}

// deleteByEntry deletes what one of our own tables has on entries.
func (s *session) deleteByEntry(ctx context.Context, table string, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `DELETE FROM `+table+` USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE directory = d AND entry_id = i`, directories, ids)
	return err
}

func refArrays(refs []entry.Ref) (directories, ids textArray) {
	for _, ref := range refs {
		directories, ids = append(directories, ref.Directory), append(ids, ref.ID.String())
	}
	return directories, ids
}

// refOf names the entry of a row.
func refOf(directory, id string) (entry.Ref, error) {
	parsed, err := entry.NewID(id)
	return entry.Ref{Directory: directory, ID: parsed}, err
}

// Grace is after how many seconds what left is deleted, of a kind.
type Grace struct {
	Kind    entry.Kind
	Seconds float64
}

// GraceOf lists the grace times of the kinds whose resources are deleted.
func GraceOf(document settings.Document) []Grace {
	var out []Grace
	for _, kind := range entry.Kinds {
		if of := document.Of(kind); of.Leavers == settings.Delete {
			out = append(out, Grace{Kind: kind, Seconds: of.GraceTime().Seconds()})
		}
	}
	return out
}

// graceOver chooses links whose entries left longer ago than the seconds given, of a kind.
const graceOver = `left_at < now() - make_interval(secs => ?) AND kind = ?`

// Refs lists up to limit entries that the next run would look at, by the
// dirty set and by grace times that are over, and tells how many there are.
func (s Dirty) Refs(ctx context.Context, grace []Grace, limit int) ([]entry.Ref, int, error) {
	over := ""
	var args []any
	for _, g := range grace {
		over += ` UNION SELECT directory, entry_id FROM links WHERE ` + graceOver
		args = append(args, g.Seconds, string(g.Kind))
	}
	var rows []struct {
		Directory, EntryID string
		Total              int
	}
	err := s.raw(ctx, `SELECT directory, entry_id, count(*) OVER () AS total FROM (SELECT directory, entry_id FROM dirty`+over+`) d ORDER BY 1, 2 LIMIT ?`, append(args, limit)...).Scan(&rows).Error
	if err != nil {
		return nil, 0, err
	}
	refs, total := make([]entry.Ref, len(rows)), 0
	for i, row := range rows {
		if refs[i], err = refOf(row.Directory, row.EntryID); err != nil {
			return nil, 0, err
		}
		total = row.Total
	}
	return refs, total, nil
}

// MarkGraceOver makes the next plan look at entries of a kind whose grace time is over.
func (s Dirty) MarkGraceOver(ctx context.Context, grace Grace) error {
	_, err := s.exec(ctx, `INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM links WHERE `+graceOver+`
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0`, grace.Seconds, string(grace.Kind))
	return err
}

// MarkAll makes the next plan look at everybody, as after an activation.
func (s Dirty) MarkAll(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO dirty (directory, entry_id) SELECT directory, id FROM entries WHERE kind <> 'container' AND
		(gone IS NULL OR EXISTS (SELECT FROM links l WHERE l.directory = entries.directory AND l.entry_id = entries.id))
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0 WHERE dirty.state <> 0`)
	if err != nil {
		return err
	}
	if err := s.all().CloudGroups.MarkAll(ctx); err != nil {
		return err
	}
	return s.all().References.MarkAll(ctx)
}
