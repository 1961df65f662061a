package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
)

// History is how entries, resources and links were. What is replaced is kept by triggers
// on their tables; what is there now is the last version.
type History struct{ *session }

// EntryVersion is an entry as it was until a time; of the last version Until is nil.
type EntryVersion struct {
	Entry entry.Entry
	Seen  time.Time // when the mirror had it first
	Until *time.Time
}

// entryVersions are all of an entry, each with the attributes of the next one that has any.
const entryVersions = `SELECT number, directory, id, kind, dn, gone, until, seen, fault,
		coalesce(attributes, (SELECT n.attributes FROM entry_history n WHERE n.directory = v.directory AND n.id = v.id AND n.number > v.number AND n.attributes IS NOT NULL ORDER BY n.number LIMIT 1),
			(SELECT e.attributes FROM entries e WHERE e.directory = v.directory AND e.id = v.id)) AS attributes
	FROM (
		SELECT h.number, h.directory, h.id, h.kind, h.dn, h.attributes, h.gone, h.until, e.seen, '' AS fault FROM entry_history h JOIN entries e ON e.directory = h.directory AND e.id = h.id WHERE h.directory = @directory AND h.id = (@id)::uuid
		UNION ALL SELECT NULL, directory, id, kind, dn, attributes, gone, NULL, seen, fault FROM entries WHERE directory = @directory AND id = (@id)::uuid
	) v`

// Entries lists the versions of an entry that ended after a time, the newest first.
func (s History) Entries(ctx context.Context, ref entry.Ref, after time.Time, limit int) ([]EntryVersion, error) {
	var rows []struct {
		EntryRow
		Until *time.Time
		Seen  time.Time
	}
	if err := s.raw(ctx, entryVersions+` WHERE until IS NULL OR until > @after ORDER BY number DESC NULLS FIRST LIMIT @limit`,
		map[string]any{"directory": ref.Directory, "id": ref.ID.String(), "after": after, "limit": limit}).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("look how %s was: %w", ref, err)
	}
	versions := make([]EntryVersion, len(rows))
	for i, row := range rows {
		one, err := row.entry()
		if err != nil {
			return nil, err
		}
		versions[i] = EntryVersion{Entry: one, Seen: row.Seen, Until: row.Until}
	}
	return versions, nil
}

// ResourceVersion is a resource as it was until a time; of the last version Until is nil.
type ResourceVersion struct {
	ID       string
	Kind     entry.Kind
	Resource entry.Resource
	Seen     time.Time
	Until    *time.Time
	// Dropped: the cloud had it no more then. Ours: the next version is what Kambrel has
	// written.
	Dropped, Ours bool
}

// Resources lists the versions of resources that ended after a time, the newest first.
func (s History) Resources(ctx context.Context, ids []string, after time.Time, limit int) ([]ResourceVersion, error) {
	var rows []struct {
		ID            string
		Kind          entry.Kind
		Attributes    []byte
		Seen          time.Time
		Until         *time.Time
		Dropped, Ours bool
	}
	if err := s.raw(ctx, `SELECT v.*, EXISTS (SELECT FROM (SELECT directory, entry_id FROM links WHERE resource_id = v.id UNION SELECT directory, entry_id FROM link_history WHERE resource_id = v.id) l
			JOIN changes c ON c.directory = l.directory AND c.entry_id = l.entry_id WHERE c.resource_id = v.id AND c.answered = v.until) AS ours FROM (
			SELECT number, id, kind, attributes, seen, until, dropped FROM resource_history WHERE id = ANY((@ids)::text[])
			UNION ALL SELECT NULL, id, kind, attributes - 'meta', seen, NULL, false FROM resources WHERE id = ANY((@ids)::text[])
		) v WHERE until IS NULL OR until > @after ORDER BY number DESC NULLS FIRST LIMIT @limit`,
		map[string]any{"ids": textArray(ids), "after": after, "limit": limit}).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("look how resources were: %w", err)
	}
	versions := make([]ResourceVersion, len(rows))
	for i, row := range rows {
		versions[i] = ResourceVersion{ID: row.ID, Kind: row.Kind, Seen: row.Seen, Until: row.Until, Dropped: row.Dropped, Ours: row.Ours}
		if err := json.Unmarshal(row.Attributes, &versions[i].Resource); err != nil {
			return nil, fmt.Errorf("resource %s as it was: %w", row.ID, err)
		}
	}
	return versions, nil
}

// LinkVersion is a link as it was until a time; of the last version Until is nil.
type LinkVersion struct {
	Link
	Until *time.Time
}

// Links lists the links that an entry has had, the newest first.
func (s History) Links(ctx context.Context, ref entry.Ref) ([]LinkVersion, error) {
	var rows []LinkVersion
	return rows, s.raw(ctx, `SELECT directory, entry_id, resource_id, link_key, how, run_id, since, left_at, due, until FROM (
			SELECT number, directory, entry_id, resource_id, link_key, how, run_id, since, left_at, due, until FROM link_history WHERE directory = @directory AND entry_id = (@id)::uuid
			UNION ALL SELECT NULL, directory, entry_id, resource_id, link_key, how, run_id, since, left_at, due, NULL FROM links WHERE directory = @directory AND entry_id = (@id)::uuid
		) v ORDER BY number DESC NULLS FIRST`, map[string]any{"directory": ref.Directory, "id": ref.ID.String()}).Scan(&rows).Error
}

// At is an entry with its link and resource as they were at a time; false when the mirror
// did not have it then, or remembers that no more.
func (s History) At(ctx context.Context, ref entry.Ref, at time.Time) (decide.Case, *LinkVersion, bool, error) {
	var c decide.Case
	versions, err := s.Entries(ctx, ref, at, 1<<30)
	if err != nil || len(versions) == 0 || versions[len(versions)-1].Seen.After(at) {
		return c, nil, false, err
	}
	c.Entry = versions[len(versions)-1].Entry
	links, err := s.Links(ctx, ref)
	if err != nil {
		return c, nil, false, err
	}
	for i := len(links) - 1; i >= 0; i-- {
		link := links[i]
		if link.Since.After(at) || link.Until != nil && !link.Until.After(at) {
			continue
		}
		left := link.LeftAt != nil && !link.LeftAt.After(at)
		c.Link, c.LinkKey = &plan.Link{ResourceID: link.ResourceID, Left: left}, link.LinkKey
		if left {
			c.LeftAt, c.Link.Due = link.LeftAt, link.Due
		}
		resources, err := s.Resources(ctx, []string{link.ResourceID}, at, 1<<30)
		if err != nil {
			return c, nil, false, err
		}
		if n := len(resources); n > 0 && !resources[n-1].Seen.After(at) {
			c.Resource = resources[n-1].Resource
		}
		return c, &link, true, nil
	}
	return c, nil, true, nil
}

// ProblemsOf lists all problems that a thing has had, the newest first.
func (s History) ProblemsOf(ctx context.Context, thing about.Thing, limit int) ([]Problem, error) {
	return s.all().Problems.list(ctx, `WHERE p.about = ? AND p.subject = ? ORDER BY p.id DESC LIMIT ?`, string(thing.Type), thing.Key, limit)
}

// Prune forgets how things were before a time.
func (s History) Prune(ctx context.Context, before time.Time) error {
	for _, table := range []string{"entry_history", "resource_history", "link_history"} {
		if _, err := s.exec(ctx, `DELETE FROM `+table+` WHERE until < ?`, before); err != nil {
			return fmt.Errorf("forget how things were: %w", err)
		}
	}
	return nil
}

// RunsAt tells which run was under way at each of some times, 0 for none.
func (s History) RunsAt(ctx context.Context, times []time.Time) (map[time.Time]int64, error) {
	texts := make(textArray, len(times))
	for i := range times {
		texts[i] = instant(&times[i])
	}
	var rows []struct {
		At  int
		Run int64
	}
	if err := s.raw(ctx, `SELECT n AS at, (SELECT coalesce(max(u.id), 0) FROM runs u WHERE u.started <= t AND coalesce(u.ended, now()) >= t AND u.`+writing+`) AS run
		FROM unnest(?::text[]::timestamptz[]) WITH ORDINALITY AS x(t, n)`, texts).Scan(&rows).Error; err != nil {
		return nil, err
	}
	runs := map[time.Time]int64{}
	for _, row := range rows {
		runs[times[row.At-1]] = row.Run
	}
	return runs, nil
}

// Revisions tells by which settings runs worked, and who asked for them.
func (s History) Revisions(ctx context.Context, runs []int64) (map[int64]Run, error) {
	var rows []runRow
	if err := s.with(ctx).Select("id", "revision", "by", "purpose", "undoes").Where("id IN ?", runs).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[int64]Run{}
	for _, row := range rows {
		out[row.ID] = row.run()
	}
	return out, nil
}

// RevisionAt is the revision of the settings that was active at a time; false when there
// was none.
func (s History) RevisionAt(ctx context.Context, at time.Time) (Revision, bool, error) {
	var r Revision
	err := s.with(ctx).Where("activated <= ?", at).Order("revision DESC").Take(&r).Error
	if NotFound(err) {
		return r, false, nil
	}
	return r, err == nil, err
}
