package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
)

// The states of a dirty entry.
const (
	DirtyNow   = 0
	DirtyLater = 1 // at the end of this plan
	DirtyNext  = 2 // at the next run
)

const subjectColumns = `e.directory, e.id, e.kind, e.dn, e.attributes, e.gone, e.fault, l.resource_id, coalesce(l.link_key, '') AS link_key, l.left_at, r.attributes AS resource`

// subjectJoins looks each row's link and resource up by index, whatever the
// planner thinks of the tables' sizes: a hash of all links for every page would
// make the work grow with the square of the directory.
const subjectJoins = `LEFT JOIN LATERAL (SELECT id, resource_id, link_key, left_at FROM links WHERE directory = e.directory AND entry_id = e.id LIMIT 1) l ON true
	LEFT JOIN LATERAL (SELECT attributes FROM resources WHERE id = l.resource_id LIMIT 1) r ON true`

// SubjectRow is exported since GORM reads embedded rows only then.
type SubjectRow struct {
	EntryRow
	Lookup     bool
	ResourceID *string
	LinkKey    string
	LeftAt     *time.Time
	Resource   []byte
}

func (r SubjectRow) subject() (decide.Case, error) {
	d := decide.Case{Lookup: r.Lookup, LinkKey: r.LinkKey}
	var err error
	if d.Entry, err = r.entry(); err != nil {
		return d, err
	}
	if r.ResourceID != nil {
		d.Link = &plan.Link{ResourceID: *r.ResourceID, Left: r.LeftAt != nil}
		d.LeftAt = r.LeftAt
	}
	if r.Resource != nil {
		err = json.Unmarshal(r.Resource, &d.Resource)
	}
	return d, err
}

// onlyOf limits a query to one entry, where one is given.
func onlyOf(r *entry.Ref, table string) (string, []any) {
	if r == nil {
		return "", nil
	}
	return "AND " + table + ".directory = ? AND " + table + ".entry_id = ?", []any{r.Directory, r.ID.String()}
}

// DirtyQuery chooses entries of the dirty set.
type DirtyQuery struct {
	State int
	// Linked: those that have a link, or those that have none; nil for both.
	Linked *bool
	// Only is the one that is looked for; nil for all.
	Only  *entry.Ref
	After entry.Ref // in their order
	Limit int
}

// NextDirty returns dirty entries and holds them until the transaction ends;
// those that another transaction holds are left out.
func (s *Store) NextDirty(ctx context.Context, q DirtyQuery) ([]decide.Case, error) {
	var rows []SubjectRow
	where, args := onlyOf(q.Only, "d")
	if q.Linked != nil {
		where += " AND EXISTS (SELECT FROM links x WHERE x.directory = d.directory AND x.entry_id = d.entry_id) = ?"
		args = append(args, *q.Linked)
	}
	err := s.raw(ctx, `SELECT d.lookup, `+subjectColumns+` FROM dirty d JOIN entries e ON e.directory = d.directory AND e.id = d.entry_id `+subjectJoins+`
		WHERE d.state = ? AND (d.directory, d.entry_id) > (?, ?) `+where+` ORDER BY d.directory, d.entry_id LIMIT ? FOR UPDATE OF d SKIP LOCKED`,
		slices.Concat([]any{q.State, q.After.Directory, q.After.ID.String()}, args, []any{q.Limit})...).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return subjects(rows)
}

func subjects(rows []SubjectRow) ([]decide.Case, error) {
	out := make([]decide.Case, len(rows))
	for i, row := range rows {
		var err error
		if out[i], err = row.subject(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Subjects returns up to limit entries, in their order after the one given, that
// have a link, or that have none and are still there; and the last of them, or the
// zero Ref where there is nobody more.
func (s *Store) Subjects(ctx context.Context, linked bool, after entry.Ref, limit int) ([]decide.Case, entry.Ref, error) {
	which := `EXISTS (SELECT FROM links x WHERE x.directory = entries.directory AND x.entry_id = entries.id)`
	if !linked {
		which = `gone IS NULL AND NOT ` + which
	}
	// The page is cut before the joins, so that they look up a page's rows only.
	var rows []SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM (
			SELECT directory, id, kind, dn, attributes, gone, fault FROM entries WHERE kind <> 'container' AND (directory, id) > (?, ?) AND `+which+` ORDER BY directory, id LIMIT ?
		) e `+subjectJoins+` ORDER BY e.directory, e.id`, after.Directory, after.ID.String(), limit).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, entry.Ref{}, err
	}
	out, err := subjects(rows)
	if err != nil || len(rows) < limit {
		return out, entry.Ref{}, err
	}
	return out, out[len(out)-1].Entry.Ref(), nil
}

// Subject returns one entry with its link and resource, dirty or not.
func (s *Store) Subject(ctx context.Context, ref entry.Ref) (decide.Case, error) {
	var row SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM entries e `+subjectJoins+` WHERE e.directory = ? AND e.id = ?`, ref.Directory, ref.ID.String()).Scan(&row).Error
	if err != nil {
		return decide.Case{}, err
	}
	if row.ID == "" {
		return decide.Case{}, ErrNotFound
	}
	return row.subject()
}

// RaiseDirty brings what waited for this run into it.
func (s *Store) RaiseDirty(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE dirty SET state = 0 WHERE state <> 0`)
	return err
}

// SetDirty puts entries into a state of the dirty set.
func (s *Store) SetDirty(ctx context.Context, refs []entry.Ref, state int, lookup bool) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `INSERT INTO dirty (directory, entry_id, state, lookup) SELECT d, i, ?, ? FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = excluded.state, lookup = dirty.lookup OR excluded.lookup`, state, lookup, directories, ids)
	return err
}

// ClearDirty takes entries out of the dirty set.
func (s *Store) ClearDirty(ctx context.Context, refs []entry.Ref) error {
	return s.deleteByEntry(ctx, "dirty", refs)
}

// CountDirty counts entries in a state.
func (s *Store) CountDirty(ctx context.Context, state int, only *entry.Ref) (int, error) {
	var n int
	where, args := onlyOf(only, "d")
	return n, s.raw(ctx, `SELECT count(*) FROM dirty d WHERE d.state = ? `+where, append([]any{state}, args...)...).Scan(&n).Error
}

// deleteByEntry deletes what one of our own tables has on entries.
func (s *Store) deleteByEntry(ctx context.Context, table string, refs []entry.Ref) error {
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

// Claim gives entries their claims, in the order given, and returns who holds
// those that were taken. refs are all entries whose old claims end.
func (s *Store) Claim(ctx context.Context, refs []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	if err := s.deleteByEntry(ctx, "claims", refs); err != nil || len(claims) == 0 {
		return nil, err
	}
	keys, claimDirectories, claimIDs := claimArrays(claims)
	if _, err := s.exec(ctx, `INSERT INTO claims (key, directory, entry_id) SELECT k, d, i FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i)
		ON CONFLICT (key) DO NOTHING`, keys, claimDirectories, claimIDs); err != nil {
		return nil, err
	}
	var rows []claimantRow
	err := s.raw(ctx, `
		SELECT c.key, c.directory, c.entry_id, coalesce(e.dn, '') AS dn, coalesce(y.state = 0, false) AS dirty
		FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i) JOIN claims c ON c.key = k AND (c.directory, c.entry_id) <> (d, i)
		LEFT JOIN entries e ON e.directory = c.directory AND e.id = c.entry_id
		LEFT JOIN dirty y ON y.directory = c.directory AND y.entry_id = c.entry_id`, keys, claimDirectories, claimIDs).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return claimants(rows)
}

func claimArrays(claims []decide.Claim) (keys, directories, ids textArray) {
	for _, claim := range claims {
		keys, directories, ids = append(keys, claim.Key), append(directories, claim.Ref.Directory), append(ids, claim.Ref.ID.String())
	}
	return keys, directories, ids
}

type claimantRow struct {
	Key, Directory, EntryID, DN string
	Dirty                       bool
}

func claimants(rows []claimantRow) (map[string]decide.Claimant, error) {
	out := make(map[string]decide.Claimant, len(rows))
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		out[row.Key] = decide.Claimant{Ref: ref, DN: row.DN, Dirty: row.Dirty}
	}
	return out, nil
}

// Unclaim ends the claims of entries that could not be planned.
func (s *Store) Unclaim(ctx context.Context, refs []entry.Ref) error {
	return s.deleteByEntry(ctx, "claims", refs)
}

// Claims tells of unique values who else holds them than who wants them, by key.
func (s *Store) Claims(ctx context.Context, wanted []decide.Claim) (map[string]decide.Claimant, error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	keys, directories, ids := claimArrays(wanted)
	var rows []claimantRow
	err := s.raw(ctx, `SELECT c.key, c.directory, c.entry_id, coalesce(e.dn, '') AS dn
		FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i) JOIN claims c ON c.key = k AND (c.directory, c.entry_id) <> (d, i)
		LEFT JOIN entries e ON e.directory = c.directory AND e.id = c.entry_id`, keys, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return claimants(rows)
}

// Grace is after how many seconds what left is deleted, of a kind.
type Grace struct {
	Kind    entry.Kind
	Seconds float64
}

// graceOver chooses links whose entries left longer ago than the seconds given, of a kind.
const graceOver = `left_at < now() - make_interval(secs => ?) AND kind = ?`

// DirtyRefs lists up to limit entries that the next run would look at, by the
// dirty set and by grace times that are over, and tells how many there are.
func (s *Store) DirtyRefs(ctx context.Context, grace []Grace, limit int) ([]entry.Ref, int, error) {
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
