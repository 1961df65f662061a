package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/problem"
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
	for _, diff := range out {
		diff.settle()
	}
	return out, rows.Err()
}

// settle takes out who is there by the name that is wanted, though the mirror does not know
// yet that it is the same.
func (m *GroupMembers) settle() {
	there := map[string]bool{}
	for _, one := range m.Removed {
		there[pathOr(one.DN)] = true
	}
	both := map[string]bool{}
	m.Added = slices.DeleteFunc(m.Added, func(one GroupMember) bool {
		path := pathOr(one.DN)
		both[path] = there[path]
		return there[path]
	})
	m.Removed = slices.DeleteFunc(m.Removed, func(one GroupMember) bool { return both[pathOr(one.DN)] })
}

// pathOr is the path of a name, or what is none as it is.
func pathOr(name string) string {
	if path, err := entry.PathOf(name); err == nil {
		return path
	}
	return name
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

// SkipQuery chooses such members of a group.
type SkipQuery struct {
	Resource      string
	Marked        bool   // of those alone that the next plan looks at
	Member        string // one alone
	Text          string // in the name, or a reason
	Offset, Limit int
}

// Skipped lists such members of a group, and tells how many there are.
func (s CloudGroups) Skipped(ctx context.Context, k *cloudgroups.Keeping, which SkipQuery) ([]SkippedMember, int, error) {
	var rows []struct {
		SkippedMember
		Total int
	}
	q := MemberQuery{Keeping: k, Groups: []MarkedGroup{{which.Resource, !which.Marked}}}
	args := q.args()
	args["text"], args["like"], args["offset"], args["limit"], args["flat"], args["member"] = which.Text, like(which.Text), which.Offset, which.Limit, k.Flat, which.Member
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
			WHERE ((@member)::text = '' OR w.member_id = (@member)::text) AND (f.dn IS NOT NULL OR NOT EXISTS (SELECT FROM want x WHERE x.resource_id = w.resource_id AND x.member_id = w.member_id))
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

// ListedGroup is a group of the cloud in the list of a directory.
type ListedGroup struct {
	Directory, ResourceID string
	Name                  string
	Members, InCloud      int
	Marked                bool
	Code, Detail          string // of its problem
	Drifted               *time.Time
}

// GroupQuery chooses groups of the cloud.
type GroupQuery struct {
	Directories   []string
	Show          string // kept, other, leaving, problems or drift; "" for all
	Text          string
	Resource      string // one alone
	Offset, Limit int
}

// List lists groups by directory and name, those first that are kept.
func (s CloudGroups) List(ctx context.Context, q GroupQuery) ([]ListedGroup, int, error) {
	where := map[string]string{
		"kept": `AND kept AND NOT leaving`, "other": `AND NOT kept`, "leaving": `AND leaving`, "problems": `AND code <> ''`, "drift": `AND drifted IS NOT NULL`,
	}[q.Show]
	var rows []struct {
		ListedGroup
		Total int
	}
	err := s.raw(ctx, `SELECT x.*, count(*) OVER () AS total FROM (
			SELECT d AS directory, coalesce(r.id, g.resource_id) AS resource_id, coalesce(r.name, g.name) AS name, g.resource_id IS NOT NULL AS kept, g.left_at IS NOT NULL AS leaving, g.entry_id,
				coalesce((SELECT p.code FROM problems p WHERE p.about = 'cloud-group' AND p.subject = d || '/' || coalesce(r.id, g.resource_id) AND p.closed IS NULL ORDER BY p.id LIMIT 1), '') AS code,
				coalesce((SELECT p.detail FROM problems p WHERE p.about = 'cloud-group' AND p.subject = d || '/' || coalesce(r.id, g.resource_id) AND p.closed IS NULL ORDER BY p.id LIMIT 1), '') AS detail,
				(SELECT max(c.answered) FROM changes c WHERE c.side = 'directory' AND c.directory = d AND c.resource_id = coalesce(r.id, g.resource_id) AND c.drift AND c.state = 'done') AS drifted
			FROM unnest((@directories)::text[]) AS t(d) CROSS JOIN LATERAL (SELECT id FROM resources WHERE kind = 'group' UNION SELECT c.resource_id FROM cloud_groups c WHERE c.directory = d) i
			LEFT JOIN resources r ON r.id = i.id LEFT JOIN cloud_groups g ON g.directory = d AND g.resource_id = i.id
			WHERE (@resource)::text = '' OR i.id = (@resource)::text
		) x WHERE ((@text)::text = '' OR name ILIKE (@like)::text OR resource_id = (@text)::text) `+where+` ORDER BY NOT kept, directory, lower(name), resource_id OFFSET @offset LIMIT @limit`,
		map[string]any{"directories": textArray(q.Directories), "text": q.Text, "like": like(q.Text), "resource": q.Resource, "offset": q.Offset, "limit": q.Limit}).Scan(&rows).Error
	if err != nil {
		return nil, 0, fmt.Errorf("list groups of the cloud: %w", err)
	}
	out, total := make([]ListedGroup, len(rows)), 0
	for i, row := range rows {
		out[i], total = row.ListedGroup, row.Total
	}
	return out, total, s.count(ctx, out)
}

// count counts the members of listed groups, here and in the cloud.
func (s CloudGroups) count(ctx context.Context, groups []ListedGroup) error {
	var directories, ids textArray
	for _, g := range groups {
		directories, ids = append(directories, g.Directory), append(ids, g.ResourceID)
	}
	var rows []struct {
		N                int
		Members, InCloud int
		Marked           bool
	}
	err := s.raw(ctx, `SELECT n, (SELECT count(*) FROM cloud_groups g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id WHERE g.directory = d AND g.resource_id = r) AS members,
			(SELECT count(*) FROM resource_members m WHERE m.group_id = r) AS in_cloud,
			EXISTS (SELECT FROM dirty_cloud_groups c WHERE c.directory = d AND c.resource_id = r) OR EXISTS (SELECT FROM dirty_cloud_members c WHERE c.directory = d AND c.resource_id = r) AS marked
		FROM unnest(?::text[], ?::text[]) WITH ORDINALITY AS t(d, r, n)`, directories, ids).Scan(&rows).Error
	for _, row := range rows {
		groups[row.N-1].Members, groups[row.N-1].InCloud, groups[row.N-1].Marked = row.Members, row.InCloud, row.Marked
	}
	return err
}

// GroupCounts are how groups of the cloud stand in a directory.
type GroupCounts struct{ Kept, Leaving, Waiting, Problems, Drifted int }

// CountIn counts how groups of the cloud stand in a directory; drift since a time.
func (s CloudGroups) CountIn(ctx context.Context, directory string, since time.Time) (GroupCounts, error) {
	var counts GroupCounts
	return counts, s.raw(ctx, `SELECT (SELECT count(*) FROM cloud_groups WHERE directory = @directory AND left_at IS NULL) AS kept, (SELECT count(*) FROM cloud_groups WHERE directory = @directory AND left_at IS NOT NULL) AS leaving,
			(SELECT count(*) FROM (SELECT resource_id FROM dirty_cloud_groups WHERE directory = @directory UNION SELECT resource_id FROM dirty_cloud_members WHERE directory = @directory) d) AS waiting,
			(SELECT count(DISTINCT subject) FROM problems WHERE about = 'cloud-group' AND closed IS NULL AND subject LIKE @directory || '/%') AS problems,
			(SELECT count(*) FROM changes WHERE drift AND state = 'done' AND directory = @directory AND answered > @since) AS drifted`,
		map[string]any{"directory": directory, "since": since}).Scan(&counts).Error
}

// MembersOf lists members of a group as its directory has them.
func (s CloudGroups) MembersOf(ctx context.Context, directory, resource, text string, offset, limit int) ([]MemberView, int, error) {
	var rows []struct {
		MemberView
		Path  string
		Total int
	}
	err := s.raw(ctx, `SELECT *, count(*) OVER () AS total FROM (SELECT coalesce(e.dn, '') AS dn, m.member_path AS path, coalesce(e.kind, '') AS kind, coalesce(e.name, '') AS name, coalesce(e.id::text, '') AS entry_id,
				coalesce((SELECT t.resource_id FROM ties t WHERE t.directory = m.directory AND t.entry_id = m.member_id LIMIT 1), (SELECT c.resource_id FROM cloud_groups c WHERE c.directory = m.directory AND c.entry_id = m.member_id), '') AS resource_id
			FROM cloud_groups g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id LEFT JOIN entries e ON e.directory = m.directory AND e.id = m.member_id
			WHERE g.directory = @directory AND g.resource_id = @resource) x WHERE (@text)::text = '' OR name ILIKE (@like)::text OR dn ILIKE (@like)::text ORDER BY lower(name), path OFFSET @offset LIMIT @limit`,
		map[string]any{"directory": directory, "resource": resource, "text": text, "like": like(text), "offset": offset, "limit": limit}).Scan(&rows).Error
	out, total := make([]MemberView, len(rows)), 0
	for i, row := range rows {
		if out[i], total = row.MemberView, row.Total; out[i].DN == "" {
			out[i].DN = entry.NameOfPath(row.Path)
		}
	}
	return out, total, err
}

// Drifts lists what runs have put back of groups, the newest first; "" for all directories
// and groups.
func (s CloudGroups) Drifts(ctx context.Context, directory, resource string, offset, limit int) ([]Change, int, error) {
	query := s.with(ctx).Table("changes").Where("drift AND run_id IN (SELECT id FROM runs WHERE purpose NOT IN ('rehearsal', 'forecast', 'impact', 'trial')) AND state <> 'superseded'")
	if directory != "" {
		query = query.Where("directory = ?", directory)
	}
	if resource != "" {
		query = query.Where("resource_id = ?", resource)
	}
	var total int64
	if err := query.Session(newSession).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	var changes []Change
	if err := query.Order("id DESC").Offset(offset).Limit(limit).Scan(&changes).Error; err != nil {
		return nil, 0, err
	}
	return changes, int(total), withDiffs(changes)
}

// HandToCloud makes a group that a directory owned one that the cloud owns.
func (s CloudGroups) HandToCloud(ctx context.Context, ref entry.Ref, resource, name, dn string) error {
	if err := s.all().Links.Drop(ctx, []entry.Ref{ref}); err != nil {
		return err
	}
	if _, err := s.exec(ctx, `INSERT INTO cloud_groups (directory, resource_id, entry_id, name, dn, how, run_id) VALUES (?, ?, ?::uuid, ?, ?, 'handed over', 0)`,
		ref.Directory, resource, ref.ID.String(), name, dn); err != nil {
		return err
	}
	return s.Mark(ctx, ref.Directory, []string{resource}, true)
}

// HandToDirectory makes a group that the cloud owned one that the directory owns; the
// resource keeps the link key that it bears.
func (s CloudGroups) HandToDirectory(ctx context.Context, ref entry.Ref, resource, linkKey string) error {
	if err := s.Drop(ctx, ref.Directory, []string{resource}); err != nil {
		return err
	}
	if err := s.all().Links.Save(ctx, 0, []NewLink{{Ref: ref, Kind: entry.Group, LinkKey: linkKey, ResourceID: resource, How: "handed over"}}); err != nil {
		return err
	}
	if err := s.all().References.Mark(ctx, []entry.Ref{ref}); err != nil {
		return err
	}
	return s.all().Dirty.Set(ctx, []entry.Ref{ref}, DirtyNow, false)
}

// Judge decides about a group as the next run would, and claims nothing.
func (s CloudGroups) Judge(ctx context.Context, k *cloudgroups.Keeping, c GroupCase) (cloudgroups.Decision, error) {
	d := k.Decide(c.Subject)
	if !d.Verdict.In || d.Wanted.DN == "" {
		return d, nil
	}
	holder, err := s.holderOf(ctx, k.Directory, c, d.Wanted)
	if err != nil || holder == nil {
		return d, err
	}
	c.Subject.Holder = holder
	return k.Decide(c.Subject), nil
}

// holderOf finds who has a name that a group wants, another group or another entry.
func (s CloudGroups) holderOf(ctx context.Context, directory string, c GroupCase, w cloudgroups.Wanted) (*problem.Entry, error) {
	path, err := entry.PathOf(w.DN)
	if err != nil {
		return nil, err
	}
	group, err := s.NameHolder(ctx, directory, c.ResourceID, NameKeys(path, strings.ToLower(w.Account)))
	if err != nil {
		return nil, err
	}
	if group != "" {
		return s.GroupNamed(ctx, directory, group)
	}
	var self *entry.ID
	if c.Subject.Link != nil {
		self = &c.Subject.Link.EntryID
	}
	return s.Holder(ctx, directory, path, w.Account, self)
}

// GroupNamed names a group of the cloud as a problem does.
func (s CloudGroups) GroupNamed(ctx context.Context, directory, resource string) (*problem.Entry, error) {
	names, err := s.all().Resources.NamesOf(ctx, []string{resource})
	if err != nil {
		return nil, err
	}
	return &problem.Entry{Directory: directory, ID: resource, Name: "the group " + names[0] + " (" + resource + ") of the cloud"}, nil
}

// FindMember finds a resource by its id, login or name, members of a group first; "" if
// there is none.
func (s CloudGroups) FindMember(ctx context.Context, group, text string) (string, error) {
	var id string
	return id, s.raw(ctx, `SELECT coalesce((SELECT r.id FROM resources r LEFT JOIN resource_members m ON m.group_id = (@group)::text AND m.member_id = r.id
		WHERE r.id = (@text)::text OR r.keys @> ARRAY[(@key)::text] OR m.member_id IS NOT NULL AND lower(r.name) = lower((@text)::text) ORDER BY m.member_id IS NULL, r.id <> (@text)::text, r.id LIMIT 1), '')`,
		map[string]any{"group": group, "text": text, "key": match.KeyText(entry.User, "userName", text)}).Scan(&id).Error
}

// Inside is the entry of a member in a directory, and whether the group has it there.
type Inside struct {
	DN  string `gorm:"column:dn"`
	Has bool
}

// HasMember tells whether a group has the entry of a resource as a member in its directory.
func (s CloudGroups) HasMember(ctx context.Context, directory, group, member string) (Inside, error) {
	var row Inside
	return row, s.raw(ctx, `SELECT coalesce(e.dn, '') AS dn, EXISTS (SELECT FROM cloud_groups g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id WHERE g.directory = @directory AND g.resource_id = @group AND m.member_id = e.id) AS has
		FROM (SELECT entry_id FROM ties WHERE directory = @directory AND resource_id = @member AND left_at IS NULL UNION SELECT entry_id FROM cloud_groups WHERE directory = @directory AND resource_id = @member) t
		JOIN entries e ON e.directory = @directory AND e.id = t.entry_id AND e.gone IS NULL LIMIT 1`, map[string]any{"directory": directory, "group": group, "member": member}).Scan(&row).Error
}
