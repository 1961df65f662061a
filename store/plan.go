package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
)

// Ref names an entry.
type Ref struct {
	Directory string
	ID        entry.ID
}

// Dirty is one entry the plan must look at, with its link and resource.
type Dirty struct {
	Entry    entry.Entry
	Lookup   bool
	Link     *plan.Link
	LinkKey  string
	LeftAt   *time.Time
	Resource entry.Resource
}

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

func (r SubjectRow) dirty() (Dirty, error) {
	d := Dirty{Lookup: r.Lookup, LinkKey: r.LinkKey}
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

// where limits a query to one entry, where one is given.
func (r *Ref) where(table string) (string, []any) {
	if r == nil {
		return "", nil
	}
	return "AND " + table + ".directory = ? AND " + table + ".entry_id = ?", []any{r.Directory, r.ID.String()}
}

// NextDirty returns up to limit entries in a state, or only one of them, in their
// order after the one given, and holds them until the transaction ends; those that another
// transaction holds are left out.
func (s *Store) NextDirty(ctx context.Context, state int, only *Ref, after Ref, limit int) ([]Dirty, error) {
	var rows []SubjectRow
	where, args := only.where("d")
	err := s.raw(ctx, `SELECT d.lookup, `+subjectColumns+` FROM dirty d JOIN entries e ON e.directory = d.directory AND e.id = d.entry_id `+subjectJoins+`
		WHERE d.state = ? AND (d.directory, d.entry_id) > (?, ?) `+where+` ORDER BY d.directory, d.entry_id LIMIT ? FOR UPDATE OF d SKIP LOCKED`,
		slices.Concat([]any{state, after.Directory, after.ID.String()}, args, []any{limit})...).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := make([]Dirty, len(rows))
	for i, row := range rows {
		if out[i], err = row.dirty(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Subjects looks at up to limit entries in their order after the one given, and
// returns those with a link, or those without one that are still there, and who
// was looked at last; the zero Ref says that there is nobody more.
func (s *Store) Subjects(ctx context.Context, linked bool, after Ref, limit int) ([]Dirty, Ref, error) {
	which := `l.id IS NOT NULL`
	if !linked {
		which = `l.id IS NULL AND e.gone IS NULL`
	}
	// The page is cut before the joins, so that they look up a page's rows only.
	var rows []struct {
		SubjectRow
		Wanted bool
	}
	err := s.raw(ctx, `SELECT false AS lookup, `+which+` AS wanted, `+subjectColumns+` FROM (
			SELECT directory, id, kind, dn, attributes, gone, fault FROM entries WHERE kind <> 'container' AND (directory, id) > (?, ?) ORDER BY directory, id LIMIT ?
		) e `+subjectJoins+` ORDER BY e.directory, e.id`, after.Directory, after.ID.String(), limit).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, Ref{}, err
	}
	out := make([]Dirty, 0, len(rows))
	for _, row := range rows {
		if !row.Wanted {
			continue
		}
		d, err := row.dirty()
		if err != nil {
			return nil, Ref{}, err
		}
		out = append(out, d)
	}
	last, err := entry.NewID(rows[len(rows)-1].ID)
	return out, Ref{rows[len(rows)-1].Directory, last}, err
}

// Subject returns one entry with its link and resource, dirty or not.
func (s *Store) Subject(ctx context.Context, ref Ref) (Dirty, error) {
	var row SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM entries e `+subjectJoins+` WHERE e.directory = ? AND e.id = ?`, ref.Directory, ref.ID.String()).Scan(&row).Error
	if err != nil {
		return Dirty{}, err
	}
	if row.ID == "" {
		return Dirty{}, errNotFound
	}
	return row.dirty()
}

// RaiseDirty brings what waited for this run into it.
func (s *Store) RaiseDirty(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE dirty SET state = 0 WHERE state <> 0`)
	return err
}

// SetDirty puts entries into a state of the dirty set.
func (s *Store) SetDirty(ctx context.Context, refs []Ref, state int, lookup bool) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `INSERT INTO dirty (directory, entry_id, state, lookup) SELECT d, i, ?, ? FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = excluded.state, lookup = dirty.lookup OR excluded.lookup`, state, lookup, directories, ids)
	return err
}

// ClearDirty takes entries out of the dirty set.
func (s *Store) ClearDirty(ctx context.Context, refs []Ref) error {
	return s.deleteByEntry(ctx, "dirty", refs)
}

// CountDirty counts entries in a state.
func (s *Store) CountDirty(ctx context.Context, state int, only *Ref) (int, error) {
	var n int
	where, args := only.where("d")
	return n, s.raw(ctx, `SELECT count(*) FROM dirty d WHERE d.state = ? `+where, append([]any{state}, args...)...).Scan(&n).Error
}

// deleteByEntry deletes what one of our own tables has on entries.
func (s *Store) deleteByEntry(ctx context.Context, table string, refs []Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `DELETE FROM `+table+` USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE directory = d AND entry_id = i`, directories, ids)
	return err
}

func refArrays(refs []Ref) (directories, ids textArray) {
	for _, ref := range refs {
		directories, ids = append(directories, ref.Directory), append(ids, ref.ID.String())
	}
	return directories, ids
}

// NewClaim is a unique value that an entry wants.
type NewClaim struct {
	Ref Ref
	Key string
	DN  string // of the entry
}

// Claimant is who holds a claimed value.
type Claimant struct {
	Ref   Ref
	DN    string
	Dirty bool // the plan has still to look at the holder
}

// ReplaceClaims gives entries their claims, in the order given, and returns who
// holds those that were taken. refs are all entries whose old claims end.
func (s *Store) ReplaceClaims(ctx context.Context, refs []Ref, claims []NewClaim) (map[string]Claimant, error) {
	taken := map[string]Claimant{}
	if len(refs) == 0 {
		return taken, nil
	}
	if err := s.deleteByEntry(ctx, "claims", refs); err != nil {
		return nil, err
	}
	if len(claims) == 0 {
		return taken, nil
	}
	var keys, claimDirectories, claimIDs textArray
	for _, claim := range claims {
		keys, claimDirectories, claimIDs = append(keys, claim.Key), append(claimDirectories, claim.Ref.Directory), append(claimIDs, claim.Ref.ID.String())
	}
	if _, err := s.exec(ctx, `INSERT INTO claims (key, directory, entry_id) SELECT k, d, i FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i)
		ON CONFLICT (key) DO NOTHING`, keys, claimDirectories, claimIDs); err != nil {
		return nil, err
	}
	var rows []struct {
		Key, Directory, EntryID, DN string
		Dirty                       bool
	}
	err := s.raw(ctx, `
		SELECT c.key, c.directory, c.entry_id, coalesce(e.dn, '') AS dn, coalesce(y.state = 0, false) AS dirty
		FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i) JOIN claims c ON c.key = k AND (c.directory, c.entry_id) <> (d, i)
		LEFT JOIN entries e ON e.directory = c.directory AND e.id = c.entry_id
		LEFT JOIN dirty y ON y.directory = c.directory AND y.entry_id = c.entry_id`, keys, claimDirectories, claimIDs).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		id, err := entry.NewID(row.EntryID)
		if err != nil {
			return nil, err
		}
		taken[row.Key] = Claimant{Ref{row.Directory, id}, row.DN, row.Dirty}
	}
	return taken, nil
}

// DropClaims ends the claims of entries that could not be planned.
func (s *Store) DropClaims(ctx context.Context, refs []Ref) error {
	_, err := s.ReplaceClaims(ctx, refs, nil)
	return err
}
