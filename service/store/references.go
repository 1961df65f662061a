package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// References is what ties resources together: members of groups and pointers of
// entries, as the directories and the cloud have them.
type References struct{ *session }

// fewMembers is up to how many at once members of groups are marked one by one;
// for more, groups are compared as a whole.
const fewMembers = 500

// persons are the entries whose links moved, with those that they lead.
const persons = `, persons AS (
		SELECT directory, entry_id FROM moved
		UNION SELECT j.directory, j.entry_id FROM moved JOIN followers j ON j.lead_directory = moved.directory AND j.lead_id = moved.entry_id
	)`

// markNamed marks who refers to persons, and themselves where they refer to
// others.
const markNamed = `
	INSERT INTO dirty_references (directory, entry_id)
		SELECT p.directory, p.entry_id FROM persons JOIN pointers p ON p.directory = persons.directory AND p.target_id = persons.entry_id
		UNION SELECT directory, entry_id FROM moved WHERE EXISTS (SELECT FROM memberships m WHERE m.directory = moved.directory AND m.group_id = moved.entry_id)
			OR EXISTS (SELECT FROM pointers p WHERE p.directory = moved.directory AND p.entry_id = moved.entry_id)`

// markReferring marks whom a change of links concerns: the groups that hold the
// entries, those who refer to them, and the entries themselves. In one order, since
// batches that mark the same groups side by side would wait for each other.
const markReferring = persons + markNamed + `
		UNION SELECT m.directory, m.group_id FROM persons JOIN memberships m ON m.directory = persons.directory AND m.member_id = persons.entry_id
	ORDER BY 1, 2 ON CONFLICT DO NOTHING`

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
	ORDER BY 1, 2 ON CONFLICT DO NOTHING`
}

// MarkAll makes the next plan compare everybody's members and references.
func (s References) MarkAll(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id)
		SELECT DISTINCT directory, group_id FROM memberships UNION SELECT DISTINCT directory, entry_id FROM pointers
		UNION SELECT directory, entry_id FROM links WHERE kind = 'group' ON CONFLICT DO NOTHING`)
	return err
}

// Mark marks entries whose members or references are to be compared.
func (s References) Mark(ctx context.Context, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id) SELECT d, i FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) ON CONFLICT DO NOTHING`, directories, ids)
	return err
}

// MarkLeads marks who leads those that are marked, since what they refer to is
// written to the resource of the lead.
func (s References) MarkLeads(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id) SELECT j.lead_directory, j.lead_id FROM dirty_references d
		JOIN followers j ON j.directory = d.directory AND j.entry_id = d.entry_id WHERE j.lead_id IS NOT NULL ON CONFLICT DO NOTHING`)
	return err
}

// Clear takes entries out of those whose references are to be compared.
func (s References) Clear(ctx context.Context, refs []entry.Ref) error {
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
	linksThen = `(SELECT l.directory, l.entry_id, l.resource_id, l.kind FROM {links} l WHERE ` + staysThen + `
		UNION ALL SELECT j.directory, j.entry_id, l.resource_id, l.kind FROM {followers} j JOIN {links} l ON l.directory = j.lead_directory AND l.entry_id = j.lead_id WHERE ` + staysThen + `
		UNION ALL SELECT c.directory, c.entry_id, ` + madeThen + `
		UNION ALL SELECT j.directory, j.entry_id, CASE WHEN c.resource_id = '' THEN 'new:' || c.entry_id ELSE c.resource_id END, c.kind
			FROM {followers} j JOIN changes c ON c.directory = j.lead_directory AND c.entry_id = j.lead_id WHERE ` + comesThen + `)`

	staysThen = `l.left_at IS NULL AND NOT EXISTS (
			SELECT FROM changes c WHERE c.run_id = @run AND c.directory = l.directory AND c.entry_id = l.entry_id AND c.state <> 'held'
				AND (c.operation IN ('suspend', 'leave', 'delete', 'create', 'unlink') OR c.code = 'left'))`
	madeThen  = `CASE WHEN c.resource_id = '' THEN 'new:' || c.entry_id ELSE c.resource_id END, c.kind FROM changes c WHERE ` + comesThen
	comesThen = `c.run_id = @run AND (c.operation IN ('create', 'adopt', 'restore') OR c.code = 'link-restored') AND c.rank < 3`
)

func (s References) linksFor(run int64) string {
	if run == 0 {
		return linksNow
	}
	return s.tables(linksThen)
}

// linked puts the links of a run into a statement that names them {ties}; those of no run
// are as they are.
func (s References) linked(statement string, run int64) string {
	return strings.ReplaceAll(statement, "{ties}", s.linksFor(run))
}

// tables puts the names of tables into a statement: those of the mirrors, or what
// a rehearsal has in their place.
func (s References) tables(statement string) string {
	if s.rehearsed {
		return strings.NewReplacer("{followers}", "rehearsed_followers", "{links}", "rehearsed_links").Replace(statement)
	}
	return strings.NewReplacer("{followers}", "followers", "{links}", "links").Replace(statement)
}

// Move is a link that goes over from one entry of a person to another.
type Move struct{ From, To entry.Ref }

// Rehearsed lets work look at references as if other entries were one person:
// following replaces whom entries follow, nil ending it, and the links have moved.
// Nothing of it is kept, and nobody else sees it.
func (s *session) Rehearsed(ctx context.Context, following map[entry.Ref]*decide.Following, moves []Move, work func(s *Store) error) error {
	var directories, ids, leads, leadIDs, rules textArray
	for ref, f := range following {
		lead, id, rule := "", "", ""
		if f != nil && f.Code() == "" {
			lead, id, rule = f.Lead.Directory, f.Lead.ID.String(), f.Rule
		}
		directories, ids, leads, leadIDs, rules = append(directories, ref.Directory), append(ids, ref.ID.String()), append(leads, lead), append(leadIDs, id), append(rules, rule)
	}
	return s.Tx(ctx, func(tx *Store) error {
		for _, step := range []struct {
			statement string
			args      []any
		}{
			{`CREATE TEMP TABLE rehearsed_followers ON COMMIT DROP AS SELECT directory, entry_id, lead_directory, lead_id, rule FROM followers WHERE lead_id IS NOT NULL`, nil},
			{`DELETE FROM rehearsed_followers j USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE j.directory = d AND j.entry_id = i`, []any{directories, ids}},
			{`INSERT INTO rehearsed_followers SELECT d, i, ld, li::uuid, r FROM unnest(?::text[], ?::text[]::uuid[], ?::text[], ?::text[], ?::text[]) AS t(d, i, ld, li, r) WHERE li <> ''`, []any{directories, ids, leads, leadIDs, rules}},
			{`CREATE INDEX ON rehearsed_followers (lead_directory, lead_id)`, nil},
			{`CREATE TEMP TABLE rehearsed_links ON COMMIT DROP AS SELECT directory, entry_id, resource_id, kind, left_at FROM links`, nil},
		} {
			if _, err := tx.exec(ctx, step.statement, step.args...); err != nil {
				return fmt.Errorf("rehearse who is one with whom: %w", err)
			}
		}
		var from, fromIDs, to, toIDs textArray
		for _, move := range moves {
			from, fromIDs = append(from, move.From.Directory), append(fromIDs, move.From.ID.String())
			to, toIDs = append(to, move.To.Directory), append(toIDs, move.To.ID.String())
		}
		if _, err := tx.exec(ctx, `UPDATE rehearsed_links SET directory = td, entry_id = ti FROM unnest(?::text[], ?::text[]::uuid[], ?::text[], ?::text[]::uuid[]) AS t(fd, fi, td, ti)
			WHERE directory = fd AND entry_id = fi`, from, fromIDs, to, toIDs); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `CREATE INDEX ON rehearsed_links (directory, entry_id)`); err != nil {
			return err
		}
		tx.rehearsed = true
		return work(tx)
	})
}

// ReferringQuery chooses entries whose members or references are to be compared.
type ReferringQuery struct {
	// Run is a rehearsal, and then also those whom its changes concern are meant,
	// or with Everybody all of them.
	Run       int64
	Everybody bool
	Only      *entry.Ref // nil for all
	Without   []string   // directories that are left out
	After     entry.Ref  // in their order
	Limit     int
}

// Referring lists such entries.
func (s References) Referring(ctx context.Context, q ReferringQuery) ([]entry.Ref, error) {
	from := `SELECT directory, entry_id FROM dirty_references UNION SELECT directory, group_id FROM dirty_members`
	switch {
	case q.Everybody:
		from = `SELECT directory, group_id AS entry_id FROM memberships UNION SELECT directory, entry_id FROM pointers UNION SELECT directory, entry_id FROM links WHERE kind = 'group'
			UNION SELECT directory, entry_id FROM changes WHERE run_id = @run AND (state = 'tie' OR operation = 'adopt') AND rank < 3`
	case q.Run != 0:
		from = s.tables(`WITH planned AS (SELECT directory, entry_id FROM changes WHERE run_id = @run AND (operation <> 'update' OR state = 'tie') AND rank < 3),
				concerned AS (SELECT * FROM planned UNION SELECT j.directory, j.entry_id FROM planned p JOIN {followers} j ON j.lead_directory = p.directory AND j.lead_id = p.entry_id),
				referring AS (` + from + ` UNION SELECT m.directory, m.group_id FROM concerned c JOIN memberships m ON m.directory = c.directory AND m.member_id = c.entry_id
					UNION SELECT p.directory, p.entry_id FROM concerned c JOIN pointers p ON p.directory = c.directory AND p.target_id = c.entry_id
					UNION SELECT directory, entry_id FROM planned)
			SELECT directory, entry_id FROM referring
			UNION SELECT j.lead_directory, j.lead_id FROM referring r JOIN {followers} j ON j.directory = r.directory AND j.entry_id = r.entry_id WHERE j.lead_id IS NOT NULL`)
	}
	where, subject := "", entry.Ref{}
	if q.Only != nil {
		from += ` UNION SELECT @only , (@subject)::uuid`
		where, subject = "AND directory = @only AND entry_id = (@subject)::uuid", *q.Only
	}
	if len(q.Without) > 0 {
		where += " AND directory <> ALL((@without)::text[])"
	}
	var rows []struct{ Directory, EntryID string }
	err := s.raw(ctx, `SELECT * FROM (`+from+`) r WHERE (directory, entry_id) > (@directory , (@id)::uuid) `+where+` ORDER BY directory, entry_id LIMIT @limit`,
		map[string]any{"run": q.Run, "directory": q.After.Directory, "id": q.After.ID.String(), "limit": q.Limit, "without": textArray(q.Without), "only": subject.Directory, "subject": subject.ID.String()}).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	refs := make([]entry.Ref, len(rows))
	for i, row := range rows {
		if refs[i], err = refOf(row.Directory, row.EntryID); err != nil {
			return nil, err
		}
	}
	return refs, nil
}

// Taken are the resources that a rehearsal would link entries with that are there already.
func (s References) Taken(ctx context.Context, run int64, refs []entry.Ref) (map[entry.Ref]entry.Resource, error) {
	directories, ids := refArrays(refs)
	var rows []struct {
		Directory, EntryID string
		Attributes         []byte
	}
	err := s.raw(ctx, `SELECT c.directory, c.entry_id, r.attributes FROM unnest((@directories)::text[], (@ids)::text[]::uuid[]) AS t(d, i)
		JOIN changes c ON c.directory = d AND c.entry_id = i JOIN resources r ON r.id = c.resource_id WHERE c.state <> 'held' AND `+comesThen,
		map[string]any{"run": run, "directories": directories, "ids": ids}).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look which resources a rehearsal would take: %w", err)
	}
	out := map[entry.Ref]entry.Resource{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		var resource entry.Resource
		if err := json.Unmarshal(row.Attributes, &resource); err != nil {
			return nil, fmt.Errorf("resource of %s: %w", ref, err)
		}
		out[ref] = resource
	}
	return out, nil
}

// MemberDiff is what a group's membership in the cloud lacks and has too much.
type MemberDiff struct {
	ResourceID     string
	Added, Removed []change.Member
}

// MemberDiffs compares the members of groups with the membership in the cloud:
// of groups that are marked, all; of others, the members that are marked.
// Members count that have a resource of one of the kinds; run is a rehearsal
// whose changes are taken for done, or 0.
func (s References) MemberDiffs(ctx context.Context, run int64, groups []entry.Ref, kinds []entry.Kind) (map[entry.Ref]*MemberDiff, error) {
	directories, ids := refArrays(groups)
	allowed := make(textArray, len(kinds))
	for i, kind := range kinds {
		allowed[i] = string(kind)
	}
	rows, err := s.raw(ctx, `
		WITH g AS (SELECT l.directory, l.entry_id, l.resource_id, @run <> 0 OR EXISTS (SELECT FROM dirty_references x WHERE x.directory = d AND x.entry_id = i) AS whole
			FROM unnest((@directories)::text[], (@ids)::text[]::uuid[]) AS t(d, i) JOIN `+s.linksFor(run)+` l ON l.directory = d AND l.entry_id = i AND l.kind = 'group'),
		single AS (SELECT DISTINCT g.directory, g.entry_id, g.resource_id, t.resource_id AS member FROM g JOIN dirty_members p ON p.directory = g.directory AND p.group_id = g.entry_id
			JOIN ties t ON t.directory = p.directory AND t.entry_id = p.member_id WHERE NOT g.whole),
		want AS (SELECT DISTINCT g.directory, g.entry_id, g.resource_id, l.resource_id AS member, l.kind, l.entry_id AS member_entry
				FROM g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id
				JOIN `+s.linksFor(run)+` l ON l.directory = m.directory AND l.entry_id = m.member_id AND l.kind = ANY((@allowed)::text[]) WHERE g.whole
			UNION SELECT k.directory, k.entry_id, k.resource_id, l.resource_id, l.kind, l.entry_id
				FROM single k JOIN `+s.linksFor(run)+` l ON l.resource_id = k.member AND l.kind = ANY((@allowed)::text[])
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
	diffs := map[entry.Ref]*MemberDiff{}
	for rows.Next() {
		var directory, id, resource, kind string
		var member change.Member
		var add bool
		if err := rows.Scan(&directory, &id, &resource, &member.Value, &add, &kind, &member.Name); err != nil {
			return nil, err
		}
		ref, err := refOf(directory, id)
		if err != nil {
			return nil, err
		}
		if diffs[ref] == nil {
			diffs[ref] = &MemberDiff{ResourceID: resource}
		}
		member.Type = entry.Kind(kind).ResourceType()
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
func (s References) Pointed(ctx context.Context, run int64, refs []entry.Ref) (map[entry.Ref]map[string]string, error) {
	directories, ids := refArrays(refs)
	var rows []struct{ Directory, EntryID, Attribute, ResourceID string }
	err := s.raw(ctx, `SELECT p.directory, p.entry_id, p.attribute, coalesce(l.resource_id, '') AS resource_id FROM unnest((@directories)::text[], (@ids)::text[]::uuid[]) AS t(d, i)
		JOIN pointers p ON p.directory = d AND p.entry_id = i LEFT JOIN `+s.linksFor(run)+` l ON l.directory = p.directory AND l.entry_id = p.target_id ORDER BY p.path DESC`,
		map[string]any{"run": run, "directories": directories, "ids": ids}).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look whom entries refer to: %w", err)
	}
	out := map[entry.Ref]map[string]string{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		if out[ref] == nil {
			out[ref] = map[string]string{}
		}
		if row.ResourceID != "" || out[ref][row.Attribute] == "" {
			out[ref][row.Attribute] = row.ResourceID
		}
	}
	return out, nil
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
func (s References) MembersBeside(ctx context.Context, ref entry.Ref, limit int) ([]MemberView, error) {
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
