package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
)

// CloudGroups are groups of the cloud that are kept in directories, and what the next plan
// must look at of them. Marks are made by the tables themselves, see their triggers.
type CloudGroups struct{ *session }

// Serve says in which directories groups of the cloud are kept; of new ones, all are marked.
func (s CloudGroups) Serve(ctx context.Context, directories []string) error {
	var added struct{ Names textArray }
	err := s.raw(ctx, `
		WITH wanted AS (SELECT d FROM unnest((@directories)::text[]) AS t(d)),
		gone AS (DELETE FROM cloud_group_directories c WHERE NOT EXISTS (SELECT FROM wanted WHERE d = c.directory)),
		groups AS (DELETE FROM dirty_cloud_groups c WHERE NOT EXISTS (SELECT FROM wanted WHERE d = c.directory)),
		members AS (DELETE FROM dirty_cloud_members c WHERE NOT EXISTS (SELECT FROM wanted WHERE d = c.directory)),
		added AS (INSERT INTO cloud_group_directories (directory) SELECT d FROM wanted ON CONFLICT DO NOTHING RETURNING directory)
		SELECT coalesce(array_agg(directory), '{}') AS names FROM added`, map[string]any{"directories": textArray(directories)}).Scan(&added).Error
	if err != nil || len(added.Names) == 0 {
		return err
	}
	return s.markAll(ctx, added.Names)
}

// MarkAll makes the next plan look at all groups and all of their members.
func (s CloudGroups) MarkAll(ctx context.Context) error {
	var served struct{ Names textArray }
	if err := s.raw(ctx, `SELECT coalesce(array_agg(directory), '{}') AS names FROM cloud_group_directories`).Scan(&served).Error; err != nil || len(served.Names) == 0 {
		return err
	}
	return s.markAll(ctx, served.Names)
}

func (s CloudGroups) markAll(ctx context.Context, directories []string) error {
	_, err := s.exec(ctx, `INSERT INTO dirty_cloud_groups (directory, resource_id, members)
		SELECT d, r.id, true FROM unnest((@directories)::text[]) AS t(d), resources r WHERE r.kind = 'group'
		UNION SELECT directory, resource_id, true FROM cloud_groups WHERE directory = ANY((@directories)::text[])
		ON CONFLICT (directory, resource_id) DO UPDATE SET members = true`, map[string]any{"directories": textArray(directories)})
	return err
}

// MarkDue marks those whose grace time is over and those of which members were refused, and
// ends what was kept of members that are back.
func (s CloudGroups) MarkDue(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO dirty_cloud_groups (directory, resource_id)
		SELECT c.directory, c.resource_id FROM cloud_groups c JOIN cloud_group_directories d ON d.directory = c.directory WHERE c.due < now() ON CONFLICT DO NOTHING`)
	if err == nil { // who is a member in the cloud again is not kept against it
		_, err = s.exec(ctx, `DELETE FROM cloud_group_kept k WHERE EXISTS (SELECT FROM entries e JOIN ties t ON t.directory = e.directory AND t.entry_id = e.id AND t.left_at IS NULL
			JOIN resource_members m ON m.member_id = t.resource_id WHERE e.directory = k.directory AND e.dn = k.dn AND e.gone IS NULL AND m.group_id = k.resource_id)`)
	}
	if err == nil {
		_, err = s.exec(ctx, `DELETE FROM cloud_group_refusals f WHERE NOT EXISTS (SELECT FROM entries e WHERE e.directory = f.directory AND e.path = f.path AND e.gone IS NULL)`)
	}
	if err == nil {
		_, err = s.exec(ctx, `INSERT INTO dirty_cloud_members (directory, resource_id, member)
			SELECT f.directory, f.resource_id, 'e:' || e.id FROM cloud_group_refusals f JOIN cloud_group_directories d ON d.directory = f.directory
			JOIN entries e ON e.directory = f.directory AND e.path = f.path AND e.gone IS NULL ON CONFLICT DO NOTHING`)
	}
	return err
}

// Mark makes the next plan look at groups, with members at all of those.
func (s CloudGroups) Mark(ctx context.Context, directory string, resources []string, members bool) error {
	if len(resources) == 0 {
		return nil
	}
	_, err := s.exec(ctx, `INSERT INTO dirty_cloud_groups (directory, resource_id, members) SELECT DISTINCT ?::text, r, ?::boolean FROM unnest(?::text[]) AS t(r)
		ON CONFLICT (directory, resource_id) DO UPDATE SET members = dirty_cloud_groups.members OR excluded.members`, directory, members, textArray(resources))
	return err
}

// Clear takes groups, with all that is marked of their members, out of what is to be looked
// at.
func (s CloudGroups) Clear(ctx context.Context, directory string, resources []string) error {
	_, err := s.exec(ctx, `WITH whole AS (DELETE FROM dirty_cloud_groups WHERE directory = @directory AND resource_id = ANY((@ids)::text[]))
		DELETE FROM dirty_cloud_members WHERE directory = @directory AND resource_id = ANY((@ids)::text[])`, map[string]any{"directory": directory, "ids": textArray(resources)})
	return err
}

// CloudGroup is a group of the cloud in a directory.
type CloudGroup struct {
	Directory  string `gorm:"primaryKey"`
	ResourceID string `gorm:"primaryKey"`
	EntryID    string
	Name       string
	DN         string           `gorm:"column:dn"`
	SID        string           `gorm:"column:sid"`
	Written    entry.Attributes `gorm:"serializer:json;type:jsonb"`
	How        string
	RunID      int64
	Since      time.Time
	LeftAt     *time.Time
	Due        *time.Time
	Forgone    bool
	Stays      bool
}

// link is what decisions take of it.
func (g CloudGroup) link() (*cloudgroups.Link, error) {
	id, err := entry.NewID(g.EntryID)
	return &cloudgroups.Link{EntryID: id, Written: g.Written, Left: g.LeftAt != nil, Due: g.Due, Forgone: g.Forgone, Stays: g.Stays}, err
}

// MarkedGroup is a group that the plan looks at, with whether all of its members are
// compared.
type MarkedGroup struct {
	ResourceID string
	Members    bool
}

// MarkedQuery chooses groups that the plan looks at.
type MarkedQuery struct {
	Directory string
	// Run is a rehearsal, and then also the groups are meant whose members its changes
	// concern, or with Everybody all of them; 0 of a run that writes.
	Run       int64
	Everybody bool
	Only      string // one group alone
	After     string
	Limit     int
}

// Marked lists such groups in the order of their ids.
func (s CloudGroups) Marked(ctx context.Context, q MarkedQuery) ([]MarkedGroup, error) {
	const all = `SELECT id AS resource_id, true AS members FROM resources WHERE kind = 'group' UNION ALL SELECT resource_id, true FROM cloud_groups WHERE directory = @directory`
	from := `SELECT resource_id, members FROM dirty_cloud_groups WHERE directory = @directory UNION ALL SELECT resource_id, false FROM dirty_cloud_members WHERE directory = @directory`
	switch {
	case q.Only != "":
		from = `SELECT (@only)::text AS resource_id, true AS members`
	case q.Everybody:
		from = all
	case q.Run != 0:
		from += ` UNION ALL SELECT g.resource_id, true FROM changes c JOIN resource_members rm ON rm.member_id = c.resource_id JOIN cloud_groups g ON g.directory = @directory AND g.resource_id = rm.group_id
			WHERE c.run_id = @run AND c.rank < 3 AND c.operation <> 'update' AND c.resource_id <> ''`
	}
	var marked []MarkedGroup
	return marked, s.raw(ctx, `SELECT resource_id, bool_or(members) AS members FROM (`+from+`) m WHERE resource_id > @after GROUP BY 1 ORDER BY 1 LIMIT @limit`,
		map[string]any{"directory": q.Directory, "run": q.Run, "only": q.Only, "after": q.After, "limit": q.Limit}).Scan(&marked).Error
}

// GroupCase is what a decision about a group in a directory is made from.
type GroupCase struct {
	ResourceID string
	Name       string
	Subject    cloudgroups.Subject
	Row        *CloudGroup
}

// Cases returns what decisions about groups are made from.
func (s CloudGroups) Cases(ctx context.Context, directory string, resources []string) ([]GroupCase, error) {
	var rows []struct {
		ID       string
		Name     string
		Resource []byte
		Owner    string
		Linked   []byte
		EntryRow `gorm:"embedded;embeddedPrefix:e_"`
	}
	err := s.raw(ctx, `SELECT t.id, coalesce(r.name, g.name, t.id) AS name, r.attributes AS resource, coalesce(o.dn, l.link_key, (SELECT a.directory || ', which was taken away' FROM links_aside a WHERE a.resource_id = t.id AND g.resource_id IS NULL LIMIT 1), '') AS owner, to_jsonb(g) AS linked,
			coalesce(e.directory, '') AS e_directory, coalesce(e.id::text, '') AS e_id, coalesce(e.kind, '') AS e_kind, coalesce(e.dn, '') AS e_dn, e.attributes AS e_attributes, e.gone AS e_gone, coalesce(e.fault, '') AS e_fault
		FROM unnest((@ids)::text[]) AS t(id) LEFT JOIN resources r ON r.id = t.id AND r.kind = 'group'
		LEFT JOIN links l ON l.resource_id = t.id LEFT JOIN entries o ON o.directory = l.directory AND o.id = l.entry_id
		LEFT JOIN cloud_groups g ON g.directory = @directory AND g.resource_id = t.id
		LEFT JOIN entries e ON e.directory = g.directory AND e.id = g.entry_id ORDER BY t.id`, map[string]any{"ids": textArray(resources), "directory": directory}).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look for groups of the cloud: %w", err)
	}
	out := make([]GroupCase, len(rows))
	for i, row := range rows {
		c := GroupCase{ResourceID: row.ID, Name: row.Name, Subject: cloudgroups.Subject{Owner: row.Owner}}
		if row.Resource != nil {
			if err := json.Unmarshal(row.Resource, &c.Subject.Group); err != nil {
				return nil, err
			}
		}
		if row.Linked != nil {
			if c.Row, err = cloudGroupOf(row.Linked); err != nil {
				return nil, err
			}
			if c.Subject.Link, err = c.Row.link(); err != nil {
				return nil, err
			}
		}
		if row.EntryRow.ID != "" {
			e, err := row.entry()
			if err != nil {
				return nil, err
			}
			c.Subject.Entry = &e
		}
		out[i] = c
	}
	return out, nil
}

// cloudGroupOf reads a row that was given as JSON.
func cloudGroupOf(text []byte) (*CloudGroup, error) {
	var row struct {
		Directory  string           `json:"directory"`
		ResourceID string           `json:"resource_id"`
		EntryID    string           `json:"entry_id"`
		Name       string           `json:"name"`
		DN         string           `json:"dn"`
		SID        string           `json:"sid"`
		Written    entry.Attributes `json:"written"`
		How        string           `json:"how"`
		RunID      int64            `json:"run_id"`
		Since      time.Time        `json:"since"`
		LeftAt     *time.Time       `json:"left_at"`
		Due        *time.Time       `json:"due"`
		Forgone    bool             `json:"forgone"`
		Stays      bool             `json:"stays"`
	}
	err := json.Unmarshal(text, &row)
	out := CloudGroup(row)
	return &out, err
}

// NameKeys are the keys by which a group's names are claimed.
func NameKeys(path, account string) []string {
	keys := []string{"dn:" + path}
	if account != "" {
		keys = append(keys, "account:"+account)
	}
	return keys
}

// Claim claims names in a directory for a group, in place of those that it had, and returns
// which group has one of them already; "" when it has them all.
func (s CloudGroups) Claim(ctx context.Context, directory, resource string, keys []string) (string, error) {
	var holder string
	err := s.raw(ctx, `SELECT coalesce((SELECT resource_id FROM cloud_group_names WHERE directory = @directory AND key = ANY((@keys)::text[]) AND resource_id <> @resource LIMIT 1), '')`,
		map[string]any{"directory": directory, "keys": textArray(keys), "resource": resource}).Scan(&holder).Error
	if err != nil || holder != "" {
		return holder, err
	}
	_, err = s.exec(ctx, `WITH gone AS (DELETE FROM cloud_group_names WHERE directory = @directory AND resource_id = @resource AND NOT key = ANY((@keys)::text[]))
		INSERT INTO cloud_group_names (directory, key, resource_id) SELECT @directory , k, @resource FROM unnest((@keys)::text[]) AS t(k) ON CONFLICT DO NOTHING`,
		map[string]any{"directory": directory, "keys": textArray(keys), "resource": resource})
	return "", err
}

// NameHolder returns which other group has claimed one of the names, "" if none.
func (s CloudGroups) NameHolder(ctx context.Context, directory, resource string, keys []string) (string, error) {
	var holder string
	return holder, s.raw(ctx, `SELECT coalesce((SELECT resource_id FROM cloud_group_names WHERE directory = ? AND key = ANY(?::text[]) AND resource_id <> ? LIMIT 1), '')`, directory, textArray(keys), resource).Scan(&holder).Error
}

// Unname takes the names of groups back.
func (s CloudGroups) Unname(ctx context.Context, directory, resource string) error {
	_, err := s.exec(ctx, `DELETE FROM cloud_group_names WHERE directory = ? AND resource_id = ?`, directory, resource)
	return err
}

// Holder returns the entry that has a name or an account name, but for one; nil if none.
func (s CloudGroups) Holder(ctx context.Context, directory, path, account string, except *entry.ID) (*problem.Entry, error) {
	var row struct{ ID, DN string }
	var self string
	if except != nil {
		self = except.String()
	}
	err := s.raw(ctx, `SELECT id, dn FROM entries WHERE directory = @directory AND gone IS NULL AND id::text <> @self AND path = @path
		UNION ALL SELECT id, dn FROM entries WHERE directory = @directory AND gone IS NULL AND id::text <> @self AND (@account)::text <> '' AND attributes -> 'sAMAccountName' IS NOT NULL AND lower(attributes -> 'sAMAccountName' ->> 0) = lower((@account)::text) LIMIT 1`,
		map[string]any{"directory": directory, "self": self, "path": path, "account": account}).Scan(&row).Error
	if err != nil || row.ID == "" {
		return nil, err
	}
	return &problem.Entry{Directory: directory, ID: row.ID, Name: row.DN}, nil
}

// Get returns a group in a directory.
func (s CloudGroups) Get(ctx context.Context, directory, resource string) (CloudGroup, error) {
	var row CloudGroup
	return row, s.with(ctx).Where("directory = ? AND resource_id = ?", directory, resource).Take(&row).Error
}

// Fill gives entries the groups of the cloud that they are kept for.
func (s CloudGroups) Fill(ctx context.Context, entries []*entry.Entry) error {
	var refs []entry.Ref
	for _, e := range entries {
		if e.Kind == entry.Group {
			refs = append(refs, e.Ref())
		}
	}
	if len(refs) == 0 {
		return nil
	}
	owned, err := s.OfEntries(ctx, refs)
	for _, e := range entries {
		e.CloudGroup = owned[e.Ref()]
	}
	return err
}

// OfEntries tells which entries of directories are groups that the cloud owns, with the
// names of these.
func (s CloudGroups) OfEntries(ctx context.Context, refs []entry.Ref) (map[entry.Ref]string, error) {
	directories, ids := refArrays(refs)
	var rows []struct{ Directory, EntryID, Name string }
	if err := s.raw(ctx, `SELECT g.directory, g.entry_id, g.name FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN cloud_groups g ON g.directory = d AND g.entry_id = i`, directories, ids).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := map[entry.Ref]string{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		out[ref] = row.Name
	}
	return out, nil
}

// SetLeft notes that groups are no longer kept and go when they are due; nil: they stay.
func (s CloudGroups) SetLeft(ctx context.Context, directory string, resources []string, due *time.Time) error {
	_, err := s.exec(ctx, `UPDATE cloud_groups SET left_at = coalesce(left_at, now()), due = coalesce(due, ?) WHERE directory = ? AND resource_id = ANY(?::text[])`, due, directory, textArray(resources))
	return err
}

// SetBack notes that groups are kept that were not any more.
func (s CloudGroups) SetBack(ctx context.Context, directory string, resources []string) error {
	_, err := s.exec(ctx, `UPDATE cloud_groups SET left_at = NULL, due = NULL, stays = false WHERE directory = ? AND resource_id = ANY(?::text[])`, directory, textArray(resources))
	return err
}

// Discard keeps what a change of a group would take away, since somebody has said so.
func (s CloudGroups) Discard(ctx context.Context, c Change, by, reason string) error {
	var err error
	switch plan.Operation(c.Operation) {
	case plan.Create: // it was deleted in the directory
		_, err = s.exec(ctx, `UPDATE cloud_groups SET forgone = true WHERE directory = ? AND resource_id = ?`, c.Directory, c.ResourceID)
	case plan.Leave, plan.Delete:
		_, err = s.exec(ctx, `UPDATE cloud_groups SET stays = true, left_at = coalesce(left_at, now()), due = NULL WHERE directory = ? AND resource_id = ?`, c.Directory, c.ResourceID)
	default:
		_, err = s.exec(ctx, `INSERT INTO cloud_group_kept (directory, resource_id, dn, run_id, by, reason) SELECT ?, ?, d, ?, ?, ? FROM unnest(?::text[]) AS t(d)
			ON CONFLICT (directory, resource_id, dn) DO UPDATE SET run_id = excluded.run_id, by = excluded.by, reason = excluded.reason, made = now()`, c.Directory, c.ResourceID, c.RunID, by, reason, textArray(change.Removed(c.Diffs)))
	}
	return err
}

// DecideAgain ends what somebody has said of a group: that it is not made again, that it
// stays, or that members do; false when there is nothing of the kind.
func (s CloudGroups) DecideAgain(ctx context.Context, directory, resource string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE cloud_groups SET forgone = false, stays = false WHERE directory = ? AND resource_id = ? AND (forgone OR stays)`, directory, resource)
	if err != nil {
		return false, err
	}
	kept, err := s.exec(ctx, `DELETE FROM cloud_group_kept WHERE directory = ? AND resource_id = ?`, directory, resource)
	if err != nil || n+kept == 0 {
		return false, err
	}
	return true, s.Mark(ctx, directory, []string{resource}, true)
}

// KeptMembers are those that stay in groups since somebody has said so, by the groups.
func (s CloudGroups) KeptMembers(ctx context.Context, directory string, resources []string) (map[string][]string, error) {
	var rows []struct{ ResourceID, DN string }
	err := s.raw(ctx, `SELECT resource_id, dn FROM cloud_group_kept WHERE directory = ? AND resource_id = ANY(?::text[])`, directory, textArray(resources)).Scan(&rows).Error
	out := map[string][]string{}
	for _, row := range rows {
		out[row.ResourceID] = append(out[row.ResourceID], row.DN)
	}
	return out, err
}

// Drop forgets groups in a directory, which stay there as they are.
func (s CloudGroups) Drop(ctx context.Context, directory string, resources []string) error {
	for _, table := range []string{"cloud_groups", "cloud_group_names", "cloud_group_refusals", "cloud_group_kept", "dirty_cloud_groups", "dirty_cloud_members"} {
		if _, err := s.exec(ctx, `DELETE FROM `+table+` WHERE directory = ? AND resource_id = ANY(?::text[])`, directory, textArray(resources)); err != nil {
			return err
		}
	}
	return nil
}

// Count counts the groups that are kept in directories and have not left.
func (s CloudGroups) Count(ctx context.Context) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM cloud_groups WHERE left_at IS NULL`).Scan(&n).Error
}

// CountMembers counts the members that a group has in directories, and CountMemberships
// those of all.
func (s CloudGroups) CountMembers(ctx context.Context, resource string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM cloud_groups g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id WHERE g.resource_id = ?`, resource).Scan(&n).Error
}

// CountMemberships counts the members of all groups of the cloud in directories.
func (s CloudGroups) CountMemberships(ctx context.Context) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM cloud_groups g JOIN memberships m ON m.directory = g.directory AND m.group_id = g.entry_id`).Scan(&n).Error
}

// SaveProblems keeps the problems of groups that a run has met, and closes the others that
// these groups had.
func (s CloudGroups) SaveProblems(ctx context.Context, run int64, directory string, groups []string, problems []NewProblem) error {
	keys := textArray{}
	for _, p := range problems {
		keys = append(keys, p.About.Key+" "+string(p.Code))
	}
	subjects := make(textArray, len(groups))
	for i, id := range groups {
		subjects[i] = about.CloudGroupOf(directory, id).Key
	}
	if _, err := s.exec(ctx, `UPDATE problems SET closed = now(), closing = ?, closed_run = ? WHERE closed IS NULL AND about = ? AND subject = ANY(?::text[]) AND NOT (subject || ' ' || code) = ANY(?::text[])`,
		ClosedGone, run, about.CloudGroup, subjects, keys); err != nil {
		return fmt.Errorf("close the problems of groups: %w", err)
	}
	return s.all().Problems.Save(ctx, MetByPlan, run, problems)
}

// Released tells of which groups a run may do what another holds: one is made again, or
// leaves; only are the changes of that run that are let through, none for all.
func (s CloudGroups) Released(ctx context.Context, run int64, only []int64) (map[string]bool, error) {
	released := map[string]bool{}
	if run == 0 {
		return released, nil
	}
	query := s.with(ctx).Table("changes").Where(`run_id = ? AND state = 'held' AND side = 'directory' AND rank = ?`, run, RankGroups)
	if len(only) > 0 {
		query = query.Where("id IN ?", only)
	}
	var ids []string
	err := query.Where("operation <> 'update'").Pluck("resource_id", &ids).Error
	for _, id := range ids {
		released[id] = true
	}
	return released, err
}

// HoldLeaving holds what a run has planned of groups that are no longer kept, but for those
// that are released. With again, the next run plans it again.
func (s CloudGroups) HoldLeaving(ctx context.Context, run int64, released map[string]bool, again bool) error {
	var let textArray
	for id := range released {
		let = append(let, id)
	}
	_, err := s.exec(ctx, `WITH held AS (
			UPDATE changes SET state = 'held' WHERE run_id = @run AND state = 'planned' AND side = 'directory' AND operation = 'leave' AND NOT resource_id = ANY((@let)::text[]) RETURNING directory, resource_id
		) INSERT INTO dirty_cloud_groups (directory, resource_id) SELECT directory, resource_id FROM held WHERE (@again)::boolean ON CONFLICT DO NOTHING`, map[string]any{"run": run, "let": let, "again": again})
	return err
}

// CountLeaving counts what HoldLeaving would hold.
func (s CloudGroups) CountLeaving(ctx context.Context, run int64, released map[string]bool) (int, error) {
	let := textArray{}
	for id := range released {
		let = append(let, id)
	}
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM changes WHERE run_id = ? AND state = 'planned' AND side = 'directory' AND operation = 'leave' AND NOT resource_id = ANY(?::text[])`, run, let).Scan(&n).Error
}

// NextOf returns up to limit planned changes of one rank that a run writes to a directory,
// after the one given.
func (s Changes) NextOf(ctx context.Context, run int64, directory string, rank int, after int64, limit int) ([]Change, error) {
	var changes []Change
	err := s.raw(ctx, `SELECT * FROM changes WHERE run_id = ? AND side = 'directory' AND directory = ? AND state = 'planned' AND rank = ? AND id > ? ORDER BY id LIMIT ?`, run, directory, rank, after, limit).Scan(&changes).Error
	if err != nil {
		return nil, err
	}
	return changes, withDiffs(changes)
}

// Again returns changes as they are now.
func (s Changes) Again(ctx context.Context, changes []Change) ([]Change, error) {
	var now []Change
	err := s.raw(ctx, `SELECT * FROM changes WHERE id = ANY(?::text[]::bigint[]) ORDER BY id`, changeIDs(changes)).Scan(&now).Error
	return now, err
}

// Of returns groups in a directory by their ids.
func (s CloudGroups) Of(ctx context.Context, directory string, resources []string) (map[string]CloudGroup, error) {
	var rows []CloudGroup
	err := s.with(ctx).Where("directory = ? AND resource_id = ANY(?::text[])", directory, textArray(resources)).Find(&rows).Error
	out := map[string]CloudGroup{}
	for _, row := range rows {
		out[row.ResourceID] = row
	}
	return out, err
}

// Ref names the entry of a group.
func (g CloudGroup) Ref() (entry.Ref, error) { return refOf(g.Directory, g.EntryID) }
