package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	"gorm.io/gorm"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Entries is the source mirror: what directories hold, and how far each was read.
type Entries struct{ *session }

// DirectoryState is where the last read of a directory stopped.
type DirectoryState struct {
	Directory  string `gorm:"primaryKey"`
	Cookie     []byte
	Base       string
	Attributes textArray `gorm:"type:text[]"`
	// Pointers are the attributes by which entries name others.
	Pointers textArray `gorm:"type:text[]"`
	Read     time.Time
	// Expected are attributes that several entries have, Hidden those of them of which
	// nothing could be seen at the last read, and Absent those of which an operator has
	// said that they are gone.
	Expected textArray `gorm:"type:text[]"`
	Hidden   textArray `gorm:"type:text[]"`
	Absent   textArray `gorm:"type:text[]"`
	// Checked is when it was last compared whether all changes were told; Missed is how
	// many were not, at the time when that was found last.
	Checked  *time.Time
	Missed   int
	MissedAt *time.Time
	// Schema is how it compares values, as far as it told.
	Schema entry.Schema `gorm:"serializer:json;type:jsonb"`
}

// StateOf returns the state, the zero value when it was never read.
func (s Entries) StateOf(ctx context.Context, directory string) (DirectoryState, error) {
	var state DirectoryState
	err := s.with(ctx).Where("directory = ?", directory).Take(&state).Error
	if NotFound(err) {
		return DirectoryState{}, nil
	}
	return state, err
}

// Schemas are how directories compare values, by their names.
func (s Entries) Schemas(ctx context.Context) (map[string]entry.Schema, error) {
	var states []DirectoryState
	if err := s.with(ctx).Select("directory", "schema").Where("schema IS NOT NULL").Find(&states).Error; err != nil {
		return nil, fmt.Errorf("read how directories compare values: %w", err)
	}
	schemas := map[string]entry.Schema{}
	for _, state := range states {
		if len(state.Schema) > 0 {
			schemas[state.Directory] = state.Schema
		}
	}
	return schemas, nil
}

// SaveState keeps the cookie; call it in the transaction of the last
// batch that it covers.
func (s Entries) SaveState(ctx context.Context, state DirectoryState) error {
	return s.with(ctx).Save(&state).Error
}

// Stored is how many entries of a batch were new to the mirror or different.
type Stored struct{ Added, Changed int }

// Source is where entries come from.
type Source struct {
	Directory string
	// Pointers are the attributes by which entries name others.
	Pointers []string
	// ByName: whoever is renamed is no longer meant by the old name. A directory
	// of the dialect ad changes all names of an entry itself, without a word.
	ByName bool
}

// Store brings a batch of entries into the source mirror and marks what
// changed as dirty. Entries that did not change cost no write.
func (s Entries) Store(ctx context.Context, source Source, entries []*entry.Entry) (Stored, error) {
	directory := source.Directory
	if err := s.renameContainers(ctx, source, entries); err != nil {
		return Stored{}, err
	}
	n := len(entries)
	ids, kinds, dns, paths := make([]string, 0, n), make([]string, 0, n), make([]string, 0, n), make([]string, 0, n)
	attributes, digests, searches, faults := make([]string, 0, n), make(byteaArray, 0, n), make([]string, 0, n), make(textArray, 0, n)
	at := map[entry.ID]*entry.Entry{}
	named := []byte(strings.Join(pointerList(source.Pointers), "\n"))
	for i := n - 1; i >= 0; i-- { // the last word on an entry counts
		e := entries[i]
		if at[e.ID] != nil {
			continue
		}
		at[e.ID] = e
		dn, err := entry.ParseDN(e.DN)
		if err != nil {
			return Stored{}, fmt.Errorf("entry %s: %w", e.ID, err)
		}
		e.DN = strings.ReplaceAll(e.DN, "\x00", `\00`)
		usable, fault := withoutNUL(e)
		text, err := json.Marshal(usable)
		if err != nil {
			return Stored{}, fmt.Errorf("entry %s: %w", e.DN, err)
		}
		ids, kinds, dns, paths = append(ids, e.ID.String()), append(kinds, string(e.Kind)), append(dns, e.DN), append(paths, dn.Path())
		attributes, searches, faults = append(attributes, string(text)), append(searches, searchText(*e, usable)), append(faults, fault)
		// In the order in which they came: sorting many takes longer than looking at
		// a group again whose order has changed.
		digests = append(digests, digest([]byte(e.Kind), []byte(e.DN), text, []byte(strings.Join(e.Members, "\n")), named, []byte(fault)))
	}
	var counts struct {
		Stored
		IDs, Known textArray
	}
	err := s.raw(ctx, `
		WITH input AS (
			SELECT * FROM unnest(?::text[]::uuid[], ?::text[], ?::text[], ?::text[], ?::text[], ?::bytea[], ?::text[], ?::text[])
				AS t(id, kind, dn, path, attributes, digest, search, fault)
		), stored AS (
			INSERT INTO entries AS e (directory, id, kind, dn, path, attributes, digest, search, fault)
			SELECT ?, id, kind, dn, path, attributes::jsonb, digest, search, fault FROM input
			ON CONFLICT (directory, id) DO UPDATE SET kind = excluded.kind, dn = excluded.dn, path = excluded.path, fault = excluded.fault,
				attributes = excluded.attributes, digest = excluded.digest, search = excluded.search, gone = NULL
			WHERE e.digest <> excluded.digest OR e.gone IS NOT NULL
			RETURNING id, kind, xmax = 0 AS added
		), marked AS (
			INSERT INTO dirty (directory, entry_id) SELECT ?, id FROM stored WHERE kind <> 'container'
			ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0
		)
		SELECT count(*) FILTER (WHERE added AND kind <> 'container') AS added, count(*) FILTER (WHERE NOT added AND kind <> 'container') AS changed,
			coalesce(array_agg(id::text) FILTER (WHERE kind <> 'container'), '{}') AS ids,
			coalesce(array_agg(id::text) FILTER (WHERE kind <> 'container' AND NOT added), '{}') AS known FROM stored`,
		textArray(ids), textArray(kinds), textArray(dns), textArray(paths), textArray(attributes), digests, textArray(searches), faults, directory, directory).
		Scan(&counts).Error
	if err != nil || len(counts.IDs) == 0 {
		return counts.Stored, err
	}
	s.written.Add(int64(len(counts.IDs)))
	stored := make([]*entry.Entry, 0, len(counts.IDs))
	var groups []*entry.Entry
	for _, text := range counts.IDs {
		id, err := entry.NewID(text)
		if err != nil {
			return counts.Stored, err
		}
		e := at[id]
		stored = append(stored, e)
		if e.Kind == entry.Group {
			groups = append(groups, e)
		}
	}
	if err := s.storeMembers(ctx, directory, groups); err != nil {
		return counts.Stored, err
	}
	if err := s.loseNames(ctx, source, counts.Known); err != nil {
		return counts.Stored, err
	}
	return counts.Stored, s.storePointers(ctx, directory, source.Pointers, stored)
}

// loseNames unties what names renamed entries by their old names.
func (s Entries) loseNames(ctx context.Context, source Source, ids textArray) error {
	if !source.ByName || len(ids) == 0 {
		return nil
	}
	_, err := s.exec(ctx, `
		WITH renamed AS (SELECT id, path FROM entries WHERE directory = @directory AND id = ANY((@ids)::text[]::uuid[])),
		members AS (
			UPDATE memberships m SET member_id = NULL FROM renamed r WHERE m.directory = @directory AND m.member_id = r.id AND m.member_path <> r.path RETURNING m.group_id AS id
		), named AS (
			UPDATE pointers p SET target_id = NULL FROM renamed r WHERE p.directory = @directory AND p.target_id = r.id AND p.path <> r.path RETURNING p.entry_id AS id
		)
		INSERT INTO dirty_references (directory, entry_id) SELECT @directory , id FROM members UNION SELECT @directory , id FROM named ON CONFLICT DO NOTHING`,
		map[string]any{"directory": source.Directory, "ids": ids})
	if err != nil {
		return fmt.Errorf("untie old names in %s: %w", source.Directory, err)
	}
	return nil
}

// renameContainers moves the names of all entries below containers whose name
// changed, since directories report only the container.
func (s Entries) renameContainers(ctx context.Context, source Source, entries []*entry.Entry) error {
	directory := source.Directory
	for _, e := range entries {
		if e.Kind != entry.Container {
			continue
		}
		var old struct{ DN, Path string }
		err := s.raw(ctx, `SELECT dn, path FROM entries WHERE directory = ? AND id = ? AND gone IS NULL`, directory, e.ID.String()).Scan(&old).Error
		if err != nil {
			return err
		}
		dn, err := entry.ParseDN(e.DN)
		if err != nil {
			return fmt.Errorf("container %s: %w", e.ID, err)
		}
		if old.DN == "" || old.Path == dn.Path() {
			continue
		}
		if _, err := s.exec(ctx, `INSERT INTO former_names (directory, path, id) VALUES (?, ?, ?) ON CONFLICT (directory, path) DO UPDATE SET id = excluded.id`, directory, old.Path, e.ID.String()); err != nil {
			return err
		}
		// In the C collation "0" follows "/", so this range is what lies below.
		var below struct{ IDs textArray }
		err = s.raw(ctx, `
			WITH moved AS (
				UPDATE entries SET dn = left(dn, length(dn) - ?) || ?, path = ? || substr(path, ?), digest = '',
					search = lower(left(dn, length(dn) - ?) || ?) || substr(search, strpos(search, E'\n'))
				WHERE directory = ? AND path > ? AND path < ? AND gone IS NULL RETURNING id, kind
			)
			, marked AS (
				INSERT INTO dirty (directory, entry_id) SELECT ?, id FROM moved WHERE kind <> 'container'
				ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0
			)
			SELECT coalesce(array_agg(id::text) FILTER (WHERE kind <> 'container'), '{}') AS ids FROM moved`,
			len([]rune(old.DN)), e.DN, dn.Path(), len([]rune(old.Path))+1, len([]rune(old.DN)), e.DN, directory, old.Path+"/", old.Path+"0", directory).Scan(&below).Error
		if err == nil {
			err = s.loseNames(ctx, source, below.IDs)
		}
		if err != nil {
			return fmt.Errorf("rename what lies below %s: %w", old.DN, err)
		}
	}
	return nil
}

// MarkGone notes that entries were deleted in the directory; the rows stay, so
// that why can tell about them.
func (s Entries) MarkGone(ctx context.Context, directory string, ids []entry.ID) (int, error) {
	var found struct {
		N      int
		Groups textArray
	}
	err := s.raw(ctx, `
		WITH gone AS (
			UPDATE entries SET gone = now() WHERE directory = @directory AND id = ANY((@ids)::text[]::uuid[]) AND gone IS NULL RETURNING id, kind
		), marked AS (
			INSERT INTO dirty (directory, entry_id) SELECT @directory , id FROM gone WHERE kind <> 'container'
			ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0
		), unknown AS (
			UPDATE memberships m SET member_id = NULL FROM gone WHERE m.directory = @directory AND m.member_id = gone.id RETURNING m.group_id AS id, gone.id AS member
		), unnamed AS (
			UPDATE pointers p SET target_id = NULL FROM gone WHERE p.directory = @directory AND p.target_id = gone.id RETURNING p.entry_id AS id
		), referring AS (
			INSERT INTO dirty_references (directory, entry_id) SELECT @directory , id FROM unknown WHERE NOT @few UNION SELECT @directory , id FROM unnamed ON CONFLICT DO NOTHING
		), single AS (
			INSERT INTO dirty_members (directory, group_id, member_id) SELECT @directory , id, member FROM unknown WHERE @few ON CONFLICT DO NOTHING
		)
		SELECT count(*) FILTER (WHERE kind <> 'container') AS n, coalesce(array_agg(id::text) FILTER (WHERE kind = 'group'), '{}') AS groups FROM gone`,
		map[string]any{"directory": directory, "ids": idArray(ids), "few": len(ids) <= fewMembers}).Scan(&found).Error
	if err != nil || len(found.Groups) == 0 {
		return found.N, err
	}
	_, err = s.exec(ctx, `WITH RECURSIVE start AS (SELECT unnest((@ids)::text[])::uuid AS id), `+below+markBelow, map[string]any{"ids": found.Groups, "directory": directory})
	return found.N, err
}

// MarkGoneExcept is MarkGone for every entry that is not in seen, after a read that
// named all there are. That of several entries none is there any more is not believed
// (problem.NothingVisible), unless another base was read. It counts those that went, and
// those of seen that the mirror does not have.
func (s Entries) MarkGoneExcept(ctx context.Context, directory string, seen map[entry.ID]struct{}, another bool) (went, unknown int, err error) {
	gone, had, left, err := s.unseen(ctx, directory, seen)
	if err != nil {
		return 0, 0, err
	}
	if had.others >= Fewest && left.others == 0 && !another {
		return 0, 0, problem.Of(problem.NothingVisible, problem.Facts{Value: directory, Count: had.others})
	}
	went, err = s.MarkGone(ctx, directory, gone)
	return went, len(seen) - left.containers - left.others, err
}

// CountUnseen counts the entries of the mirror that are not in seen.
func (s Entries) CountUnseen(ctx context.Context, directory string, seen map[entry.ID]struct{}) (int, error) {
	gone, _, _, err := s.unseen(ctx, directory, seen)
	return len(gone), err
}

type counted struct{ containers, others int }

func (c *counted) add(container bool) {
	if container {
		c.containers++
	} else {
		c.others++
	}
}

// unseen lists the entries of the mirror that are not in seen, and counts those that it has,
// and those of them that are.
func (s Entries) unseen(ctx context.Context, directory string, seen map[entry.ID]struct{}) (gone []entry.ID, had, left counted, err error) {
	rows, err := s.raw(ctx, `SELECT id, kind = 'container' FROM entries WHERE directory = ? AND gone IS NULL`, directory).Rows()
	if err != nil {
		return nil, had, left, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		var container bool
		if err := rows.Scan(&text, &container); err != nil {
			return nil, had, left, err
		}
		id, err := entry.NewID(text)
		if err != nil {
			return nil, had, left, err
		}
		_, there := seen[id]
		had.add(container)
		if !there {
			gone = append(gone, id)
			continue
		}
		left.add(container)
	}
	return gone, had, left, rows.Err()
}

// AnyHas tells whether some entry of a kind that is there has an attribute.
func (s Entries) AnyHas(ctx context.Context, directory string, kind entry.Kind, attribute string) (bool, error) {
	var has bool
	err := s.raw(ctx, `SELECT EXISTS (SELECT FROM entries, jsonb_object_keys(attributes) k WHERE directory = ? AND kind = ? AND gone IS NULL AND lower(k) = lower(?))`, directory, string(kind), attribute).Scan(&has).Error
	return has, err
}

// Fewest is of how many entries it is noticed that none is there any more, or has an
// attribute any more: from so many at once it was not taken one by one.
const Fewest = 5

// Missing returns which of the names are no container of the mirror.
func (s Entries) Missing(ctx context.Context, directory, base string, names []string) ([]string, error) {
	var missing []string
	root, err := entry.ParseDN(base)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		dn, err := entry.ParseDN(name)
		if err != nil {
			return nil, err
		}
		var found bool
		err = s.raw(ctx, `SELECT EXISTS (SELECT FROM entries WHERE directory = ? AND path = ? AND gone IS NULL)`, directory, dn.Path()).Scan(&found).Error
		if err != nil {
			return nil, err
		}
		if !found && !dn.Equal(root) {
			missing = append(missing, name)
		}
	}
	return missing, nil
}

// withoutNUL leaves values out that hold the NUL character, which PostgreSQL
// cannot keep, and tells which those are. It is legal in a directory (RFC 4514
// section 2.4).
func withoutNUL(e *entry.Entry) (entry.Attributes, string) {
	var faulty []string
	for name, values := range e.Attributes {
		if slices.ContainsFunc(values, func(v string) bool { return strings.ContainsRune(v, 0) }) {
			faulty = append(faulty, name)
		}
	}
	if len(faulty) == 0 {
		return e.Attributes, e.Fault
	}
	slices.Sort(faulty)
	usable := maps.Clone(e.Attributes)
	for _, name := range faulty {
		usable[name] = slices.DeleteFunc(slices.Clone(usable[name]), func(v string) bool { return strings.ContainsRune(v, 0) })
	}
	return usable, fmt.Sprintf("the NUL character is in %s", strings.Join(faulty, ", "))
}

// searchText is what find looks in.
func searchText(e entry.Entry, attributes entry.Attributes) string {
	parts := []string{e.DN, e.ID.String()}
	for _, name := range []string{"cn", "displayName", "userPrincipalName", "mail", "uid", "sAMAccountName"} {
		parts = append(parts, attributes.First(name))
	}
	return strings.ToLower(strings.Join(parts, "\n"))
}

// digest tells whether a record changed; 16 bytes of SHA-256 do not collide here.
func digest(parts ...[]byte) []byte {
	h := sha256.New()
	for _, part := range parts {
		fmt.Fprintf(h, "%d:", len(part))
		h.Write(part)
	}
	return h.Sum(nil)[:16]
}

// EntryRow is the columns of an entry; GORM reads embedded rows only when their
// type is exported.
type EntryRow struct {
	Directory  string
	ID         string
	Kind       string
	DN         string `gorm:"column:dn"`
	Attributes []byte
	Gone       *time.Time
	Fault      string
}

func (r EntryRow) entry() (entry.Entry, error) {
	e := entry.Entry{Directory: r.Directory, Kind: entry.Kind(r.Kind), DN: r.DN, Gone: r.Gone != nil, Fault: r.Fault}
	var err error
	if e.ID, err = entry.NewID(r.ID); err != nil {
		return e, err
	}
	return e, jsonv2.Unmarshal(r.Attributes, &e.Attributes)
}

// Get returns one entry of the mirror.
func (s Entries) Get(ctx context.Context, directory string, id entry.ID) (entry.Entry, error) {
	var row EntryRow
	err := s.raw(ctx, `SELECT directory, id, kind, dn, attributes, gone, fault FROM entries WHERE directory = ? AND id = ?`, directory, id.String()).Scan(&row).Error
	if err != nil {
		return entry.Entry{}, err
	}
	if row.ID == "" {
		return entry.Entry{}, gorm.ErrRecordNotFound
	}
	return row.entry()
}

// Names returns the DNs of entries of the mirror.
func (s Entries) Names(ctx context.Context, refs []entry.Ref) (map[entry.Ref]string, error) {
	directories, ids := refArrays(refs)
	var rows []struct{ Directory, ID, DN string }
	err := s.raw(ctx, `SELECT DISTINCT e.directory, e.id, e.dn FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		JOIN entries e ON e.directory = d AND e.id = i`, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look for the names of entries: %w", err)
	}
	names := make(map[entry.Ref]string, len(rows))
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.ID)
		if err != nil {
			return nil, err
		}
		names[ref] = row.DN
	}
	return names, nil
}
