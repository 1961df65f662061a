package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
)

// storePointers brings the attributes by which entries name others into the
// mirror, and marks whose differ. The entries are those of one batch that are
// new or have changed.
func (s *Store) storePointers(ctx context.Context, directory string, attributes []string, entries []*entry.Entry) error {
	if len(attributes) == 0 || len(entries) == 0 {
		return nil
	}
	var all, ids, names, paths textArray
	for _, e := range entries {
		all = append(all, e.ID.String())
		for _, attribute := range attributes {
			for _, value := range e.Attributes.All(attribute) {
				dn, err := entry.ParseDN(value)
				if err != nil {
					continue // a value that names nobody refers to nobody
				}
				ids, names, paths = append(ids, e.ID.String()), append(names, strings.ToLower(attribute)), append(paths, dn.Path())
			}
		}
	}
	_, err := s.exec(ctx, `
		WITH input AS (SELECT DISTINCT i, a, p FROM unnest((@ids)::text[]::uuid[], (@names)::text[], (@paths)::text[]) AS t(i, a, p)),
		dropped AS (
			DELETE FROM pointers o WHERE o.directory = @directory AND o.entry_id = ANY((@all)::text[]::uuid[])
			AND NOT EXISTS (SELECT FROM input WHERE i = o.entry_id AND a = o.attribute AND p = o.path) RETURNING o.entry_id
		), added AS (
			INSERT INTO pointers (directory, entry_id, attribute, path, target_id)
			SELECT @directory , i, a, p, e.id FROM input LEFT JOIN entries e ON e.directory = @directory AND e.path = p AND e.gone IS NULL
			ON CONFLICT DO NOTHING RETURNING entry_id
		)
		INSERT INTO dirty_references (directory, entry_id) SELECT @directory , entry_id FROM dropped UNION SELECT @directory , entry_id FROM added
		ON CONFLICT DO NOTHING`, map[string]any{"all": all, "ids": ids, "names": names, "paths": paths, "directory": directory})
	if err != nil {
		return fmt.Errorf("keep whom entries of %s refer to: %w", directory, err)
	}
	return nil
}

// resolvePointers finds the entries that were read after those that name them.
func (s *Store) resolvePointers(ctx context.Context, directory string) error {
	_, err := s.exec(ctx, `
		WITH resolved AS (
			UPDATE pointers p SET target_id = e.id FROM entries e
			WHERE p.directory = @directory AND p.target_id IS NULL AND e.directory = @directory AND e.path = p.path AND e.gone IS NULL RETURNING p.entry_id
		)
		INSERT INTO dirty_references (directory, entry_id) SELECT DISTINCT @directory , entry_id FROM resolved ON CONFLICT DO NOTHING`, map[string]any{"directory": directory})
	return err
}

// fewMembers is up to how many at once members of groups are marked one by one;
// for more, groups are compared as a whole.
const fewMembers = 500

// persons are the entries whose links moved, with those that they lead.
const persons = `, persons AS (
		SELECT directory, entry_id FROM moved
		UNION SELECT j.directory, j.entry_id FROM moved JOIN joins j ON j.lead_directory = moved.directory AND j.lead_id = moved.entry_id
	)`

// markNamed marks who refers to persons, and themselves where they refer to
// others.
const markNamed = `
	INSERT INTO dirty_references (directory, entry_id)
		SELECT p.directory, p.entry_id FROM persons JOIN pointers p ON p.directory = persons.directory AND p.target_id = persons.entry_id
		UNION SELECT directory, entry_id FROM moved WHERE EXISTS (SELECT FROM memberships m WHERE m.directory = moved.directory AND m.group_id = moved.entry_id)
			OR EXISTS (SELECT FROM pointers p WHERE p.directory = moved.directory AND p.entry_id = moved.entry_id)`

// markReferring marks whom a change of links concerns: the groups that hold the
// entries, those who refer to them, and the entries themselves.
const markReferring = persons + markNamed + `
		UNION SELECT m.directory, m.group_id FROM persons JOIN memberships m ON m.directory = persons.directory AND m.member_id = persons.entry_id
	ON CONFLICT DO NOTHING`

// markMoved is markReferring for n links that lead to the same resources as
// before or to new ones: where they are few, groups compare these members only.
func markMoved(n int) string {
	if n > fewMembers {
		return markReferring
	}
	return persons + `, single AS (
		INSERT INTO dirty_members (directory, group_id, member_id)
		SELECT m.directory, m.group_id, m.member_id FROM persons JOIN memberships m ON m.directory = persons.directory AND m.member_id = persons.entry_id ON CONFLICT DO NOTHING
	)` + markNamed + `
	ON CONFLICT DO NOTHING`
}

// MarkAllReferences makes the next plan compare everybody's members and references.
func (s *Store) MarkAllReferences(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id)
		SELECT DISTINCT directory, group_id FROM memberships UNION SELECT DISTINCT directory, entry_id FROM pointers
		UNION SELECT directory, entry_id FROM links WHERE kind = 'group' ON CONFLICT DO NOTHING`)
	return err
}

// MarkReferences marks entries whose members or references are to be compared.
func (s *Store) MarkReferences(ctx context.Context, refs []Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id) SELECT d, i FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) ON CONFLICT DO NOTHING`, directories, ids)
	return err
}

// MarkLeads marks who leads those that are marked, since what they refer to is
// written to the resource of the lead.
func (s *Store) MarkLeads(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id) SELECT j.lead_directory, j.lead_id FROM dirty_references d
		JOIN joins j ON j.directory = d.directory AND j.entry_id = d.entry_id WHERE j.lead_id IS NOT NULL ON CONFLICT DO NOTHING`)
	return err
}

// ClearReferences takes entries out of those whose references are to be compared.
func (s *Store) ClearReferences(ctx context.Context, refs []Ref) error {
	directories, ids := refArrays(refs)
	if _, err := s.exec(ctx, `DELETE FROM dirty_members USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE directory = d AND group_id = i`, directories, ids); err != nil {
		return err
	}
	return s.deleteByEntry(ctx, "dirty_references", refs)
}

// linksNow are the links as they are, of whole persons; linksThen are those that
// a rehearsal would lead to, whose new resources have no id yet.
const (
	linksNow  = `(SELECT directory, entry_id, resource_id, kind FROM ties WHERE left_at IS NULL)`
	linksThen = `(SELECT l.directory, l.entry_id, l.resource_id, l.kind FROM links l WHERE ` + staysThen + `
		UNION ALL SELECT j.directory, j.entry_id, l.resource_id, l.kind FROM joins j JOIN links l ON l.directory = j.lead_directory AND l.entry_id = j.lead_id WHERE ` + staysThen + `
		UNION ALL SELECT c.directory, c.entry_id, ` + madeThen + `
		UNION ALL SELECT j.directory, j.entry_id, CASE WHEN c.resource_id = '' THEN 'new:' || c.entry_id ELSE c.resource_id END, c.kind
			FROM joins j JOIN changes c ON c.directory = j.lead_directory AND c.entry_id = j.lead_id WHERE ` + comesThen + `)`

	staysThen = `l.left_at IS NULL AND NOT EXISTS (
			SELECT FROM changes c WHERE c.run_id = @run AND c.directory = l.directory AND c.entry_id = l.entry_id AND c.operation IN ('suspend', 'delete', 'create') AND c.state <> 'held')`
	madeThen  = `CASE WHEN c.resource_id = '' THEN 'new:' || c.entry_id ELSE c.resource_id END, c.kind FROM changes c WHERE ` + comesThen
	comesThen = `c.run_id = @run AND c.operation IN ('create', 'adopt', 'restore') AND c.rank < 3`
)

func linksFor(run int64) string {
	if run == 0 {
		return linksNow
	}
	return linksThen
}

// Referring lists entries whose members or references are to be compared, in
// their order after the one given. With a run, which is a rehearsal, also those
// whom its changes concern, or with everybody all of them.
func (s *Store) Referring(ctx context.Context, run int64, everybody bool, only *Ref, after Ref, limit int) ([]Ref, error) {
	from := `SELECT directory, entry_id FROM dirty_references UNION SELECT directory, group_id FROM dirty_members`
	switch {
	case everybody:
		from = `SELECT directory, group_id AS entry_id FROM memberships UNION SELECT directory, entry_id FROM pointers UNION SELECT directory, entry_id FROM links WHERE kind = 'group'`
	case run != 0:
		from += ` UNION SELECT m.directory, m.group_id FROM changes c JOIN memberships m ON m.directory = c.directory AND m.member_id = c.entry_id WHERE c.run_id = @run AND c.operation <> 'update'
			UNION SELECT p.directory, p.entry_id FROM changes c JOIN pointers p ON p.directory = c.directory AND p.target_id = c.entry_id WHERE c.run_id = @run AND c.operation <> 'update'
			UNION SELECT directory, entry_id FROM changes WHERE run_id = @run AND operation <> 'update' AND rank < 3`
	}
	where, subject := "", Ref{}
	if only != nil {
		where, subject = "AND directory = @only AND entry_id = (@subject)::uuid", *only
	}
	var rows []struct{ Directory, EntryID string }
	err := s.raw(ctx, `SELECT * FROM (`+from+`) r WHERE (directory, entry_id) > (@directory , (@id)::uuid) `+where+` ORDER BY directory, entry_id LIMIT @limit`,
		map[string]any{"run": run, "directory": after.Directory, "id": after.ID.String(), "limit": limit, "only": subject.Directory, "subject": subject.ID.String()}).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	refs := make([]Ref, len(rows))
	for i, row := range rows {
		id, err := entry.NewID(row.EntryID)
		if err != nil {
			return nil, err
		}
		refs[i] = Ref{row.Directory, id}
	}
	return refs, nil
}

// MemberDiff is what a group's membership in the cloud lacks and has too much.
type MemberDiff struct {
	ResourceID     string
	Added, Removed []plan.Member
}

// MemberDiffs compares the members of groups with the membership in the cloud:
// of groups that are marked, all; of others, the members that are marked.
// Members count that have a resource of one of the kinds; run is a rehearsal
// whose changes are taken for done, or 0.
func (s *Store) MemberDiffs(ctx context.Context, run int64, groups []Ref, kinds []entry.Kind) (map[Ref]*MemberDiff, error) {
	directories, ids := refArrays(groups)
	allowed := make(textArray, len(kinds))
	for i, kind := range kinds {
		allowed[i] = string(kind)
	}
	rows, err := s.raw(ctx, `
		WITH g AS (SELECT l.directory, l.entry_id, l.resource_id, @run <> 0 OR EXISTS (SELECT FROM dirty_references x WHERE x.directory = d AND x.entry_id = i) AS whole
			FROM unnest((@directories)::text[], (@ids)::text[]::uuid[]) AS t(d, i) JOIN `+linksFor(run)+` l ON l.directory = d AND l.entry_id = i AND l.kind = 'group'),
		single AS (SELECT DISTINCT g.directory, g.entry_id, g.resource_id, t.resource_id AS member FROM g JOIN dirty_members p ON p.directory = g.directory AND p.group_id = g.entry_id
			JOIN ties t ON t.directory = p.directory AND t.entry_id = p.member_id WHERE NOT g.whole),
		want AS (SELECT DISTINCT g.directory, g.entry_id, g.resource_id, l.resource_id AS member, l.kind, l.entry_id AS member_entry
				FROM g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id
				JOIN `+linksFor(run)+` l ON l.directory = m.directory AND l.entry_id = m.member_id AND l.kind = ANY((@allowed)::text[]) WHERE g.whole
			UNION SELECT k.directory, k.entry_id, k.resource_id, l.resource_id, l.kind, l.entry_id
				FROM single k JOIN `+linksFor(run)+` l ON l.resource_id = k.member AND l.kind = ANY((@allowed)::text[])
				JOIN memberships m ON m.directory = l.directory AND m.member_id = l.entry_id AND m.directory = k.directory AND m.group_id = k.entry_id),
		have AS (SELECT g.directory, g.entry_id, g.resource_id, rm.member_id AS member FROM g JOIN resource_members rm ON rm.group_id = g.resource_id WHERE g.whole
			UNION ALL SELECT k.directory, k.entry_id, k.resource_id, rm.member_id FROM single k JOIN resource_members rm ON rm.group_id = k.resource_id AND rm.member_id = k.member)
		SELECT coalesce(w.directory, h.directory), coalesce(w.entry_id, h.entry_id)::text, coalesce(w.resource_id, h.resource_id), coalesce(w.member, h.member),
			w.member IS NOT NULL, coalesce(w.kind, r.kind, ''), coalesce(r.name, e.name, '')
		FROM want w FULL JOIN have h ON h.directory = w.directory AND h.entry_id = w.entry_id AND h.member = w.member
		LEFT JOIN resources r ON r.id = coalesce(w.member, h.member)
		LEFT JOIN entries e ON r.id IS NULL AND e.directory = w.directory AND e.id = w.member_entry
		WHERE w.member IS NULL OR h.member IS NULL ORDER BY 1, 2, 7, 4`,
		map[string]any{"run": run, "directories": directories, "ids": ids, "allowed": allowed}).Rows()
	if err != nil {
		return nil, fmt.Errorf("compare members: %w", err)
	}
	defer rows.Close()
	diffs := map[Ref]*MemberDiff{}
	for rows.Next() {
		var directory, id, resource, kind string
		var member plan.Member
		var add bool
		if err := rows.Scan(&directory, &id, &resource, &member.Value, &add, &kind, &member.Name); err != nil {
			return nil, err
		}
		entryID, err := entry.NewID(id)
		if err != nil {
			return nil, err
		}
		ref := Ref{directory, entryID}
		if diffs[ref] == nil {
			diffs[ref] = &MemberDiff{ResourceID: resource}
		}
		member.Type = map[string]string{"user": "User", "group": "Group", "contact": "Contact"}[kind]
		if add {
			diffs[ref].Added = append(diffs[ref].Added, member)
		} else {
			diffs[ref].Removed = append(diffs[ref].Removed, member)
		}
	}
	return diffs, rows.Err()
}

// Pointed tells for entries to which resource each attribute leads, by attribute
// in small letters: the first in the order of names; "" where it leads to an
// entry without a resource.
func (s *Store) Pointed(ctx context.Context, run int64, refs []Ref) (map[Ref]map[string]string, error) {
	directories, ids := refArrays(refs)
	var rows []struct{ Directory, EntryID, Attribute, ResourceID string }
	err := s.raw(ctx, `SELECT p.directory, p.entry_id, p.attribute, coalesce(l.resource_id, '') AS resource_id FROM unnest((@directories)::text[], (@ids)::text[]::uuid[]) AS t(d, i)
		JOIN pointers p ON p.directory = d AND p.entry_id = i LEFT JOIN `+linksFor(run)+` l ON l.directory = p.directory AND l.entry_id = p.target_id ORDER BY p.path DESC`,
		map[string]any{"run": run, "directories": directories, "ids": ids}).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look whom entries refer to: %w", err)
	}
	out := map[Ref]map[string]string{}
	for _, row := range rows {
		id, err := entry.NewID(row.EntryID)
		if err != nil {
			return nil, err
		}
		ref := Ref{row.Directory, id}
		if out[ref] == nil {
			out[ref] = map[string]string{}
		}
		if row.ResourceID != "" || out[ref][row.Attribute] == "" {
			out[ref][row.Attribute] = row.ResourceID
		}
	}
	return out, nil
}

// SubjectsOf returns entries with their links and resources.
func (s *Store) SubjectsOf(ctx context.Context, refs []Ref) ([]Dirty, error) {
	directories, ids := refArrays(refs)
	var rows []SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN entries e ON e.directory = d AND e.id = i `+subjectJoins, directories, ids).Scan(&rows).Error
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

// MembersOf counts the members of a group in the cloud mirror.
func (s *Store) MembersOf(ctx context.Context, resource string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM resource_members WHERE group_id = ?`, resource).Scan(&n).Error
}

// MemberIDs lists the members of a group in the cloud mirror.
func (s *Store) MemberIDs(ctx context.Context, resource string) ([]string, error) {
	var row struct{ IDs textArray }
	return row.IDs, s.raw(ctx, `SELECT coalesce(array_agg(member_id ORDER BY member_id), '{}') AS ids FROM resource_members WHERE group_id = ?`, resource).Scan(&row).Error
}

// NamesOf tells what resources are called, by their ids where the mirror has none.
func (s *Store) NamesOf(ctx context.Context, ids []string) ([]string, error) {
	var row struct{ Names textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(coalesce(r.name, t.id)), '{}') AS names FROM unnest(?::text[]) AS t(id) LEFT JOIN resources r ON r.id = t.id`, textArray(ids)).Scan(&row).Error
	return append([]string{}, row.Names...), err
}

// SetMembers makes the cloud mirror hold just these members of a group, and
// marks the group's entry where that was a change.
func (s *Store) SetMembers(ctx context.Context, group string, members []string) error {
	_, err := s.exec(ctx, `
		WITH input AS (SELECT DISTINCT m FROM unnest((@members)::text[]) AS t(m)),
		dropped AS (DELETE FROM resource_members o WHERE o.group_id = @group AND NOT EXISTS (SELECT FROM input WHERE m = o.member_id) RETURNING 1),
		added AS (INSERT INTO resource_members (group_id, member_id) SELECT @group , m FROM input ON CONFLICT DO NOTHING RETURNING 1)
		INSERT INTO dirty_references (directory, entry_id) SELECT directory, entry_id FROM links WHERE resource_id = @group
			AND (EXISTS (SELECT FROM dropped) OR EXISTS (SELECT FROM added)) ON CONFLICT DO NOTHING`,
		map[string]any{"group": group, "members": textArray(members)})
	if err != nil {
		return fmt.Errorf("keep the members of group %s: %w", group, err)
	}
	return nil
}

// ChangeMembers brings the cloud mirror to what the cloud has done to a group.
func (s *Store) ChangeMembers(ctx context.Context, group string, diffs []plan.Diff) error {
	var added, removed textArray
	for _, diff := range diffs {
		for _, m := range diff.Added {
			added = append(added, m.Value)
		}
		for _, m := range diff.Removed {
			removed = append(removed, m.Value)
		}
	}
	_, err := s.exec(ctx, `
		WITH gone AS (DELETE FROM resource_members WHERE group_id = @group AND member_id = ANY((@removed)::text[]))
		INSERT INTO resource_members (group_id, member_id) SELECT DISTINCT @group , m FROM unnest((@added)::text[]) AS t(m) ON CONFLICT DO NOTHING`,
		map[string]any{"group": group, "added": added, "removed": removed})
	return err
}

// DeleteResources takes resources that were deleted by us out of the mirror,
// with their links.
func (s *Store) DeleteResources(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := s.exec(ctx, `
		WITH gone AS (DELETE FROM resources WHERE id = ANY((@ids)::text[])),
		members AS (DELETE FROM resource_members WHERE group_id = ANY((@ids)::text[]) OR member_id = ANY((@ids)::text[])),
		moved AS (DELETE FROM links WHERE resource_id = ANY((@ids)::text[]) RETURNING directory, entry_id)`+markReferring, map[string]any{"ids": textArray(ids)})
	return err
}

// MarkGraceOver makes the next plan look at entries of a kind that left before
// the grace time given in seconds.
func (s *Store) MarkGraceOver(ctx context.Context, kind entry.Kind, seconds float64) error {
	_, err := s.exec(ctx, `INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM links WHERE left_at < now() - make_interval(secs => ?) AND kind = ?
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0`, seconds, string(kind))
	return err
}

// MemberView is one member of a group as the directory has it.
type MemberView struct {
	DN, Kind, Name, ResourceID string
	Left, Known                bool
	Held                       bool // it was deleted, and its removal is held
	Directory, EntryID         string
}

// MembersBeside lists up to limit members of a group's entry with their
// resources, those without one first.
func (s *Store) MembersBeside(ctx context.Context, ref Ref, limit int) ([]MemberView, error) {
	var rows []struct {
		MemberView
		Path string
	}
	err := s.raw(ctx, `SELECT coalesce(e.dn, '') AS dn, m.member_path AS path, coalesce(e.kind, '') AS kind, coalesce(e.name, '') AS name,
		coalesce(l.resource_id, '') AS resource_id, l.left_at IS NOT NULL AS left, e.id IS NOT NULL AS known,
		e.id IS NULL AND EXISTS (SELECT FROM entries g JOIN links h ON h.directory = g.directory AND h.entry_id = g.id AND h.held WHERE g.directory = m.directory AND g.path = m.member_path) AS held, coalesce(e.directory, '') AS directory, coalesce(e.id::text, '') AS entry_id
		FROM memberships m LEFT JOIN entries e ON e.directory = m.directory AND e.id = m.member_id
		LEFT JOIN ties l ON l.directory = m.directory AND l.entry_id = m.member_id
		WHERE m.directory = ? AND m.group_id = ? ORDER BY l.resource_id IS NOT NULL AND l.left_at IS NULL, m.member_path LIMIT ?`, ref.Directory, ref.ID.String(), limit).Scan(&rows).Error
	out := make([]MemberView, len(rows))
	for i, row := range rows {
		out[i] = row.MemberView
		if out[i].DN == "" {
			out[i].DN = entry.NameOfPath(row.Path)
		}
	}
	return out, err
}

// pointerList is how the attributes of references are compared and kept.
func pointerList(attributes []string) textArray {
	out := make(textArray, len(attributes))
	for i, name := range attributes {
		out[i] = strings.ToLower(name)
	}
	slices.Sort(out)
	return out
}
