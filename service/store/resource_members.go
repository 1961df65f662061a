package store

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/change"
)

// CountMembers counts the members of a group in the cloud mirror.
func (s Resources) CountMembers(ctx context.Context, resource string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM resource_members WHERE group_id = ?`, resource).Scan(&n).Error
}

// HasMember tells whether a group has a member in the cloud mirror.
func (s Resources) HasMember(ctx context.Context, resource, member string) (bool, error) {
	var has bool
	return has, s.raw(ctx, `SELECT EXISTS (SELECT FROM resource_members WHERE group_id = ? AND member_id = ?)`, resource, member).Scan(&has).Error
}

// CountMemberships counts the members of all groups in the cloud mirror.
func (s Resources) CountMemberships(ctx context.Context) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM resource_members`).Scan(&n).Error
}

// MemberIDs lists the members of a group in the cloud mirror.
func (s Resources) MemberIDs(ctx context.Context, resource string) ([]string, error) {
	var row struct{ IDs textArray }
	return row.IDs, s.raw(ctx, `SELECT coalesce(array_agg(member_id ORDER BY member_id), '{}') AS ids FROM resource_members WHERE group_id = ?`, resource).Scan(&row).Error
}

// NamesOf tells what resources are called, by their ids where the mirror has none.
func (s Resources) NamesOf(ctx context.Context, ids []string) ([]string, error) {
	var row struct{ Names textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(coalesce(r.name, t.id)), '{}') AS names FROM unnest(?::text[]) AS t(id) LEFT JOIN resources r ON r.id = t.id`, textArray(ids)).Scan(&row).Error
	return append([]string{}, row.Names...), err
}

// SetMembers makes the cloud mirror hold just these members of a group, and
// marks the group's entry where that was a change. Of a list that may be cut short, whole
// is false: who is not in it stays. Who is missing is found by EXCEPT, which takes both lists
// once also where results are kept, by index and without hash joins.
func (s Resources) SetMembers(ctx context.Context, group string, members []string, whole bool) error {
	_, err := s.exec(ctx, `
		WITH input AS (SELECT DISTINCT m FROM unnest((@members)::text[]) AS t(m)),
		dropped AS (DELETE FROM resource_members WHERE group_id = @group AND member_id = ANY(ARRAY(
			SELECT member_id FROM resource_members WHERE @whole AND group_id = @group EXCEPT SELECT m FROM input)) RETURNING 1),
		added AS (INSERT INTO resource_members (group_id, member_id) SELECT @group , m FROM input ON CONFLICT DO NOTHING RETURNING 1),
		read AS (DELETE FROM unread_members WHERE group_id = @group)
		INSERT INTO dirty_references (directory, entry_id) SELECT directory, entry_id FROM links WHERE resource_id = @group
			AND (EXISTS (SELECT FROM dropped) OR EXISTS (SELECT FROM added)) ON CONFLICT DO NOTHING`,
		map[string]any{"group": group, "members": textArray(members), "whole": whole})
	if err != nil {
		return fmt.Errorf("keep the members of group %s: %w", group, err)
	}
	return nil
}

// MembersUnread notes groups that changed in the cloud and whose members are to be read.
func (s Resources) MembersUnread(ctx context.Context, groups []string) error {
	if len(groups) == 0 {
		return nil
	}
	_, err := s.exec(ctx, `INSERT INTO unread_members SELECT DISTINCT g FROM unnest(?::text[]) AS t(g) JOIN resources r ON r.id = g AND r.kind = 'group' ON CONFLICT DO NOTHING`, textArray(groups))
	if err != nil {
		err = fmt.Errorf("note groups whose members are to be read: %w", err)
	}
	return err
}

// Unread lists the groups whose members are to be read.
func (s Resources) Unread(ctx context.Context) ([]string, error) {
	var found struct{ IDs textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(group_id ORDER BY group_id), '{}') AS ids FROM unread_members`).Scan(&found).Error
	return found.IDs, err
}

// ChangeMembers brings the cloud mirror to what the cloud has done to a group.
func (s Resources) ChangeMembers(ctx context.Context, group string, diffs []change.Diff) error {
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

// Delete takes resources that were deleted by us out of the mirror,
// with their links.
func (s Resources) Delete(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := s.exec(ctx, `
		WITH gone AS (DELETE FROM resources WHERE id = ANY((@ids)::text[])),
		unread AS (DELETE FROM unread_members WHERE group_id = ANY((@ids)::text[])),
		members AS (DELETE FROM resource_members WHERE group_id = ANY((@ids)::text[]) OR member_id = ANY((@ids)::text[])),
		moved AS (DELETE FROM links WHERE resource_id = ANY((@ids)::text[]) RETURNING directory, entry_id)`+markReferring, map[string]any{"ids": textArray(ids)})
	return err
}

// KnownResource is what people know a resource by, with its link.
type KnownResource struct {
	ID, Name, Login, LinkKey string
	Since, LeftAt            *time.Time
}

// Known tells what resources are called, and since when their entries are linked and have
// left.
func (s Resources) Known(ctx context.Context, ids []string) (map[string]KnownResource, error) {
	var rows []KnownResource
	if err := s.raw(ctx, `SELECT r.id, coalesce(r.name, '') AS name, coalesce(r.login, '') AS login, coalesce(l.link_key, '') AS link_key, l.since, l.left_at
		FROM resources r LEFT JOIN links l ON l.resource_id = r.id WHERE r.id = ANY(?::text[])`, textArray(ids)).Scan(&rows).Error; err != nil {
		return nil, err
	}
	known := make(map[string]KnownResource, len(rows))
	for _, row := range rows {
		known[row.ID] = row
	}
	return known, nil
}

// MembersAmong tells which of the ids are members of a group in the cloud.
func (s Resources) MembersAmong(ctx context.Context, group string, ids []string) (map[string]bool, error) {
	return s.set(ctx, `SELECT coalesce(array_agg(member_id), '{}') AS ids FROM resource_members WHERE group_id = ? AND member_id = ANY(?::text[])`, group, textArray(ids))
}

// There tells which resources the cloud has, by the mirror.
func (s Resources) There(ctx context.Context, ids []string) (map[string]bool, error) {
	return s.set(ctx, `SELECT coalesce(array_agg(id), '{}') AS ids FROM resources WHERE id = ANY(?::text[])`, textArray(ids))
}

func (s Resources) set(ctx context.Context, query string, args ...any) (map[string]bool, error) {
	var found struct{ IDs textArray }
	err := s.raw(ctx, query, args...).Scan(&found).Error
	is := map[string]bool{}
	for _, id := range found.IDs {
		is[id] = true
	}
	return is, err
}
