package store

import (
	"cmp"
	"context"
	"fmt"

	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
)

// MemberQuery compares the members of groups of one directory.
type MemberQuery struct {
	Keeping *cloudgroups.Keeping
	Groups  []MarkedGroup // those with Members as a whole, of others what is marked
	// Run is a rehearsal whose changes are taken for done, and Planned are the groups that
	// it would make, by their ids; 0 of a run that writes.
	Run     int64
	Planned []PlannedGroup
}

// PlannedGroup is a group that a rehearsal would make, or call another name.
type PlannedGroup struct{ ResourceID, DN string }

// GroupMember is a member that a group in a directory lacks, or has too much.
type GroupMember struct {
	DN, Name, Kind string
	// Leaving: it goes since the person leaves the cloud, or the entry is gone.
	Leaving bool
	Drift   bool // somebody has added or removed it in the directory
}

// GroupMembers is what the membership of a group in a directory lacks and has too much.
type GroupMembers struct{ Added, Removed []GroupMember }

// memberTables are the parts of statements about members: g are the groups, wanted the
// members that the cloud has of them, and want those of them that are in the directory,
// by keys.
const memberTables = `
	g AS (SELECT t.r AS resource_id, t.w AS whole, c.entry_id FROM unnest((@groups)::text[], (@whole)::text[]::boolean[]) AS t(r, w) LEFT JOIN cloud_groups c ON c.directory = @directory AND c.resource_id = t.r),
	marks AS (SELECT m.resource_id, m.member, m.drift, g.whole FROM g JOIN dirty_cloud_members m ON m.directory = @directory AND m.resource_id = g.resource_id),
	marked AS (
		SELECT resource_id, substr(member, 3) AS member FROM marks WHERE NOT whole AND member LIKE 'r:%'
		UNION SELECT m.resource_id, l.resource_id FROM marks m JOIN {ties} l ON l.directory = @directory AND l.entry_id = substr(m.member, 3)::uuid WHERE NOT m.whole AND m.member LIKE 'e:%'
		UNION SELECT m.resource_id, c.resource_id FROM marks m JOIN cloud_groups c ON c.directory = @directory AND c.entry_id = substr(m.member, 3)::uuid WHERE NOT m.whole AND m.member LIKE 'e:%'
	),
	wanted AS (
		SELECT g.resource_id, rm.member_id FROM g JOIN resource_members rm ON rm.group_id = g.resource_id WHERE g.whole
		UNION SELECT k.resource_id, rm.member_id FROM marked k JOIN resource_members rm ON rm.group_id = k.resource_id AND rm.member_id = k.member
	),
	kept AS (
		SELECT c.resource_id, 'e:' || c.entry_id AS key, c.dn, c.name FROM cloud_groups c WHERE c.directory = @directory AND NOT c.forgone AND NOT c.resource_id = ANY((@planned)::text[])
			AND EXISTS (SELECT FROM wanted w WHERE w.member_id = c.resource_id)
			AND NOT EXISTS (SELECT FROM entries e WHERE e.directory = c.directory AND e.id = c.entry_id AND e.gone IS NOT NULL)
		UNION ALL SELECT p, 'new:' || p, d, coalesce(r.name, p) FROM unnest((@planned)::text[], (@names)::text[]) AS t(p, d) LEFT JOIN resources r ON r.id = p
	),
	want AS (
		SELECT w.resource_id, 'e:' || e.id AS key, w.member_id, e.dn, coalesce(r.name, e.name) AS name, e.kind
			FROM wanted w JOIN {ties} l ON l.resource_id = w.member_id AND l.directory = @directory JOIN entries e ON e.directory = l.directory AND e.id = l.entry_id AND e.gone IS NULL
			LEFT JOIN resources r ON r.id = w.member_id
			WHERE e.kind <> 'group' OR (@nested)::boolean AND NOT ((@refused)::bigint <> 0 AND coalesce(e.attributes -> 'groupType' ->> 0, '') ~ '^-{0,1}[0-9]+$' AND (e.attributes -> 'groupType' ->> 0)::bigint & (@refused)::bigint <> 0)
		UNION SELECT w.resource_id, k.key, w.member_id, k.dn, k.name, 'group' FROM wanted w JOIN kept k ON k.resource_id = w.member_id WHERE (@nested)::boolean
	)`

func (s CloudGroups) memberTables(run int64) string {
	return s.all().References.linked(memberTables, run)
}

// MemberDiffs compares members, by the ids of the groups. Members that cannot be in the
// directory are none of it; see Skipped.
func (s CloudGroups) MemberDiffs(ctx context.Context, q MemberQuery) (map[string]*GroupMembers, error) {
	args := q.args()
	rows, err := s.raw(ctx, `WITH `+s.memberTables(q.Run)+`,
		have AS (
			SELECT g.resource_id, coalesce('e:' || m.member_id, 'p:' || m.member_path) AS key, m.member_path AS path, m.member_id FROM g JOIN memberships m ON m.directory = @directory AND m.group_id = g.entry_id WHERE g.whole
			UNION SELECT g.resource_id, k.member, m.member_path, m.member_id FROM g JOIN marks k ON k.resource_id = g.resource_id AND k.member LIKE 'e:%' JOIN memberships m ON m.directory = @directory AND m.group_id = g.entry_id AND m.member_id = substr(k.member, 3)::uuid WHERE NOT g.whole
			UNION SELECT g.resource_id, k.member, m.member_path, NULL FROM g JOIN marks k ON k.resource_id = g.resource_id AND k.member LIKE 'p:%' JOIN memberships m ON m.directory = @directory AND m.group_id = g.entry_id AND m.member_path = substr(k.member, 3) AND m.member_id IS NULL WHERE NOT g.whole
			UNION SELECT g.resource_id, 'e:' || m.member_id, m.member_path, m.member_id FROM g JOIN marked k ON k.resource_id = g.resource_id JOIN ties t ON t.resource_id = k.member AND t.directory = @directory
				JOIN memberships m ON m.directory = @directory AND m.group_id = g.entry_id AND m.member_id = t.entry_id WHERE NOT g.whole
			UNION SELECT g.resource_id, 'e:' || m.member_id, m.member_path, m.member_id FROM g JOIN marked k ON k.resource_id = g.resource_id JOIN cloud_groups c ON c.directory = @directory AND c.resource_id = k.member
				JOIN memberships m ON m.directory = @directory AND m.group_id = g.entry_id AND m.member_id = c.entry_id WHERE NOT g.whole
		)
		SELECT coalesce(w.resource_id, h.resource_id), w.key IS NOT NULL, coalesce(w.dn, e.dn, ''), coalesce(h.path, ''), coalesce(nullif(w.name, ''), e.name, ''), coalesce(w.kind, e.kind, ''),
			h.key IS NOT NULL AND (e.gone IS NOT NULL OR EXISTS (SELECT FROM ties l WHERE l.directory = @directory AND l.entry_id = h.member_id AND l.left_at IS NOT NULL)),
			EXISTS (SELECT FROM marks k WHERE k.resource_id = coalesce(w.resource_id, h.resource_id) AND k.drift AND k.member = coalesce(w.key, h.key))
		FROM want w FULL JOIN have h ON h.resource_id = w.resource_id AND h.key = w.key LEFT JOIN entries e ON e.directory = @directory AND e.id = h.member_id
		WHERE w.key IS NULL OR h.key IS NULL ORDER BY 1, lower(coalesce(w.dn, e.dn, h.path))`, args).Rows()
	if err != nil {
		return nil, fmt.Errorf("compare the members of cloud groups: %w", err)
	}
	defer rows.Close()
	out := map[string]*GroupMembers{}
	for rows.Next() {
		var group, path string
		var add bool
		var m GroupMember
		if err := rows.Scan(&group, &add, &m.DN, &path, &m.Name, &m.Kind, &m.Leaving, &m.Drift); err != nil {
			return nil, err
		}
		if out[group] == nil {
			out[group] = &GroupMembers{}
		}
		if m.DN == "" {
			m.DN = entry.NameOfPath(path)
		}
		if m.Name = cmp.Or(m.Name, m.DN); add {
			out[group].Added = append(out[group].Added, m)
		} else {
			out[group].Removed = append(out[group].Removed, m)
		}
	}
	return out, rows.Err()
}

func (q MemberQuery) args() map[string]any {
	groups, whole, planned, names := make(textArray, len(q.Groups)), make(textArray, len(q.Groups)), textArray{}, textArray{}
	for i, g := range q.Groups {
		groups[i], whole[i] = g.ResourceID, "f"
		if g.Members {
			whole[i] = "t"
		}
	}
	for _, p := range q.Planned {
		planned, names = append(planned, p.ResourceID), append(names, p.DN)
	}
	return map[string]any{"groups": groups, "whole": whole, "directory": q.Keeping.Directory, "planned": planned, "names": names, "run": q.Run,
		"nested": !q.Keeping.Flat, "refused": q.Keeping.RefusedBits()}
}

// Occupied tells of groups whose class needs a member whether the placeholder is one, and
// whether anybody else is who is not among those that go.
func (s CloudGroups) Occupied(ctx context.Context, directory, resource, placeholder string, going []string) (holds, others bool, err error) {
	path, err := entry.PathOf(placeholder)
	if err != nil {
		return false, false, err
	}
	paths := textArray{path}
	for _, dn := range going {
		one, err := entry.PathOf(dn)
		if err != nil {
			return false, false, err
		}
		paths = append(paths, one)
	}
	var row struct{ Holds, Others bool }
	err = s.raw(ctx, `SELECT EXISTS (SELECT FROM memberships m WHERE m.directory = g.directory AND m.group_id = g.entry_id AND m.member_path = @placeholder) AS holds,
			EXISTS (SELECT FROM memberships m WHERE m.directory = g.directory AND m.group_id = g.entry_id AND NOT m.member_path = ANY((@paths)::text[])) AS others
		FROM cloud_groups g WHERE g.directory = @directory AND g.resource_id = @resource`,
		map[string]any{"directory": directory, "resource": resource, "placeholder": path, "paths": paths}).Scan(&row).Error
	return row.Holds, row.Others, err
}

// SkippedMember is a member of a group in the cloud that is none in the directory.
type SkippedMember struct {
	ResourceID, Name, Kind string
	Reason                 cloudgroups.Skip
	// Detail is the other directory, the refused group's name, or the directory's answer.
	Detail    string
	GroupType string
	EntryID   string // of the entry that is refused
	DN        string `gorm:"column:dn"`
}

// Skipped lists such members of a group, and tells how many there are.
func (s CloudGroups) Skipped(ctx context.Context, k *cloudgroups.Keeping, resource, text string, offset, limit int) ([]SkippedMember, int, error) {
	var rows []struct {
		SkippedMember
		Total int
	}
	q := MemberQuery{Keeping: k, Groups: []MarkedGroup{{resource, true}}}
	args := q.args()
	args["text"], args["like"], args["offset"], args["limit"], args["flat"] = text, like(text), offset, limit, k.Flat
	err := s.raw(ctx, `WITH `+s.memberTables(0)+`
		SELECT *, count(*) OVER () AS total FROM (
			SELECT w.member_id AS resource_id, coalesce(r.name, w.member_id) AS name, coalesce(r.kind, '') AS kind, coalesce(e.id::text, '') AS entry_id, coalesce(e.dn, '') AS dn, coalesce(e.attributes -> 'groupType' ->> 0, '') AS group_type,
				CASE WHEN f.dn IS NOT NULL THEN 'refused' WHEN r.id IS NULL THEN 'unknown' WHEN r.kind = 'group' AND (@flat)::boolean THEN 'nested-off' WHEN here.left_at IS NOT NULL OR e.gone IS NOT NULL THEN 'out-of-scope'
					WHEN e.id IS NOT NULL THEN 'scope' WHEN r.kind = 'group' AND l.resource_id IS NULL THEN 'group-not-kept' WHEN l.resource_id IS NOT NULL THEN 'other-directory' ELSE 'cloud-only' END AS reason,
				coalesce(f.detail, CASE WHEN here.resource_id IS NULL THEN l.directory END, '') AS detail
			FROM wanted w LEFT JOIN resources r ON r.id = w.member_id LEFT JOIN links l ON l.resource_id = w.member_id
			LEFT JOIN LATERAL (SELECT * FROM ties t WHERE t.resource_id = w.member_id AND t.directory = @directory ORDER BY t.left_at NULLS FIRST LIMIT 1) here ON true
			LEFT JOIN entries e ON e.directory = here.directory AND e.id = here.entry_id
			LEFT JOIN cloud_group_refusals f ON f.directory = @directory AND f.resource_id = w.resource_id AND f.dn = coalesce(e.dn, (SELECT c.dn FROM cloud_groups c WHERE c.directory = @directory AND c.resource_id = w.member_id))
			WHERE f.dn IS NOT NULL OR NOT EXISTS (SELECT FROM want x WHERE x.resource_id = w.resource_id AND x.member_id = w.member_id)
		) s WHERE (@text)::text = '' OR name ILIKE (@like)::text OR reason = (@text)::text ORDER BY reason, lower(name), resource_id OFFSET @offset LIMIT @limit`, args).Scan(&rows).Error
	if err != nil {
		return nil, 0, fmt.Errorf("look which members of a group are left out: %w", err)
	}
	out, total := make([]SkippedMember, len(rows)), 0
	for i, row := range rows {
		out[i], total = row.SkippedMember, row.Total
	}
	return out, total, nil
}
