package store

import (
	"context"
	"fmt"
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// markBelow marks entries, and those that groups among them hold, also through
// other groups, as dirty. The entries come as a query
// that gives their id.
const markBelow = `
	INSERT INTO dirty (directory, entry_id) SELECT e.directory, e.id FROM below b JOIN entries e ON e.directory = @directory AND e.id = b.id WHERE e.kind <> 'container'
	ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0`

const below = `below AS (
	SELECT id FROM start
	UNION SELECT m.member_id FROM memberships m JOIN below b ON m.directory = @directory AND m.group_id = b.id WHERE m.member_id IS NOT NULL
)`

// storeMembers brings the memberships of groups of one directory into the
// mirror; only what differs is written, and whom it concerns is marked as dirty.
func (s Entries) storeMembers(ctx context.Context, directory string, groups []*entry.Entry) error {
	if len(groups) == 0 {
		return nil
	}
	type membership struct {
		group int // in ids
		path  string
	}
	total := 0
	for _, group := range groups {
		total += len(group.Members)
	}
	want := make(map[membership]struct{}, total)
	ids, at := make(textArray, len(groups)), map[string]int{}
	for i, group := range groups {
		ids[i] = group.ID.String()
		at[ids[i]] = i
		for _, member := range group.Members {
			path, err := entry.PathOf(member)
			if err != nil {
				return fmt.Errorf("member of %s: %w", group.DN, err)
			}
			want[membership{i, path}] = struct{}{}
		}
	}
	// What differs is found here: a directory tells all members of a group when
	// one has changed, and comparing lists so long is no work for a query.
	// One row for each group, since fetching so many rows takes longer than that.
	var rows []struct{ GroupID, Paths string }
	err := s.raw(ctx, `SELECT group_id::text, string_agg(member_path, chr(1)) AS paths FROM memberships WHERE directory = ? AND group_id = ANY(?::text[]::uuid[]) GROUP BY group_id`, directory, ids).Scan(&rows).Error
	if err != nil {
		return fmt.Errorf("look for the members of groups: %w", err)
	}
	var dropped, droppedOf, added, addedTo textArray
	for _, row := range rows {
		for path := range strings.SplitSeq(row.Paths, "\x01") {
			m := membership{at[row.GroupID], path}
			if _, kept := want[m]; kept {
				delete(want, m)
			} else {
				dropped, droppedOf = append(dropped, m.path), append(droppedOf, row.GroupID)
			}
		}
	}
	if len(dropped)+len(want) == 0 {
		return nil
	}
	for m := range want {
		added, addedTo = append(added, m.path), append(addedTo, ids[m.group])
	}
	s.written.Add(int64(len(added) + len(dropped)))
	_, err = s.exec(ctx, `
		WITH RECURSIVE less AS (SELECT g, path FROM unnest((@droppedOf)::text[]::uuid[], (@dropped)::text[]) AS t(g, path)),
		more AS (SELECT g, path FROM unnest((@addedTo)::text[]::uuid[], (@added)::text[]) AS t(g, path)),
		dropped AS (
			DELETE FROM memberships m USING less WHERE m.directory = @directory AND m.group_id = g AND m.member_path = path RETURNING m.group_id, m.member_id
		), added AS (
			INSERT INTO memberships (directory, group_id, member_path, member_id)
			SELECT @directory , g, more.path, e.id FROM more LEFT JOIN entries e ON e.directory = @directory AND e.path = more.path AND e.gone IS NULL ORDER BY g, more.path
			ON CONFLICT DO NOTHING RETURNING group_id, member_id
		), mark AS (
			INSERT INTO dirty_references (directory, entry_id) SELECT @directory , g FROM (SELECT g FROM less UNION SELECT g FROM more) c WHERE NOT @few ON CONFLICT DO NOTHING
		), single AS (
			INSERT INTO dirty_members (directory, group_id, member_id) SELECT @directory , group_id, member_id FROM (SELECT * FROM dropped UNION SELECT * FROM added) c
			WHERE @few AND member_id IS NOT NULL ON CONFLICT DO NOTHING
		), start AS (SELECT member_id AS id FROM dropped WHERE member_id IS NOT NULL UNION SELECT member_id FROM added WHERE member_id IS NOT NULL),
		`+below+markBelow, map[string]any{"dropped": dropped, "droppedOf": droppedOf, "added": added, "addedTo": addedTo, "directory": directory, "few": len(added)+len(dropped) <= fewMembers})
	if err != nil {
		return fmt.Errorf("keep the members of groups: %w", err)
	}
	return nil
}

// ResolveMembers finds the entries of members, and of others who are named, that
// were read after those that name them.
func (s Entries) ResolveMembers(ctx context.Context, directory string) error {
	if err := s.resolvePointers(ctx, directory); err != nil {
		return err
	}
	_, err := s.exec(ctx, `
		WITH RECURSIVE resolved AS (
			UPDATE memberships m SET member_id = e.id FROM entries e
			WHERE m.directory = @directory AND m.member_id IS NULL AND e.directory = @directory AND e.path = m.member_path AND e.gone IS NULL RETURNING m.member_id, m.group_id
		), mark AS (
			INSERT INTO dirty_references (directory, entry_id) SELECT DISTINCT @directory , group_id FROM resolved ON CONFLICT DO NOTHING
		), start AS (SELECT member_id AS id FROM resolved), `+below+markBelow, map[string]any{"directory": directory})
	return err
}

// CountMembers counts the members of a group, and of those how many are unknown
// to the mirror.
func (s Entries) CountMembers(ctx context.Context, ref entry.Ref) (members, unknown int, err error) {
	var row struct{ Members, Unknown int }
	err = s.raw(ctx, `SELECT count(*) AS members, count(*) FILTER (WHERE member_id IS NULL) AS unknown FROM memberships WHERE directory = ? AND group_id = ?`,
		ref.Directory, ref.ID.String()).Scan(&row).Error
	return row.Members, row.Unknown, err
}

// FillMembers gives groups the names of their members.
func (s Entries) FillMembers(ctx context.Context, entries []*entry.Entry) error {
	at := map[entry.Ref]*entry.Entry{}
	var refs []entry.Ref
	for _, e := range entries {
		if e.Kind == entry.Group {
			ref := entry.Ref{Directory: e.Directory, ID: e.ID}
			at[ref], refs = e, append(refs, ref)
			e.Members = nil
		}
	}
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	var rows []struct{ Directory, GroupID, DN, Path string }
	err := s.raw(ctx, `SELECT m.directory, m.group_id, coalesce(e.dn, '') AS dn, m.member_path AS path FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		JOIN memberships m ON m.directory = d AND m.group_id = i LEFT JOIN entries e ON e.directory = m.directory AND e.id = m.member_id`, directories, ids).Scan(&rows).Error
	for _, row := range rows {
		if row.DN == "" { // a member that is not mirrored, such as a computer
			row.DN = entry.NameOfPath(row.Path)
		}
		ref, err := refOf(row.Directory, row.GroupID)
		if err != nil {
			return err
		}
		at[ref].Members = append(at[ref].Members, row.DN)
	}
	return err
}

// storePointers brings the attributes by which entries name others into the
// mirror, and marks whose differ. The entries are those of one batch that are
// new or have changed.
func (s Entries) storePointers(ctx context.Context, directory string, attributes []string, entries []*entry.Entry) error {
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
func (s Entries) resolvePointers(ctx context.Context, directory string) error {
	_, err := s.exec(ctx, `
		WITH resolved AS (
			UPDATE pointers p SET target_id = e.id FROM entries e
			WHERE p.directory = @directory AND p.target_id IS NULL AND e.directory = @directory AND e.path = p.path AND e.gone IS NULL RETURNING p.entry_id
		)
		INSERT INTO dirty_references (directory, entry_id) SELECT DISTINCT @directory , entry_id FROM resolved ON CONFLICT DO NOTHING`, map[string]any{"directory": directory})
	return err
}
