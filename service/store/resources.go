package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

	jsonv2 "github.com/go-json-experiment/json"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/textkey"
)

// Resources is the cloud mirror, with the members of its groups.
type Resources struct{ *session }

// CloudState is where the last read of the cloud stopped; the zero value says
// that it was never read.
type CloudState struct {
	Watermark string
	Read      time.Time
}

// State returns where the last read of a kind stopped.
func (s Resources) State(ctx context.Context, kind entry.Kind) (CloudState, error) {
	var state CloudState
	return state, s.raw(ctx, `SELECT watermark, read FROM cloud_state WHERE kind = ?`, string(kind)).Scan(&state).Error
}

// SaveState keeps where a read of a kind stopped.
func (s Resources) SaveState(ctx context.Context, kind entry.Kind, watermark string) error {
	_, err := s.exec(ctx, `INSERT INTO cloud_state (kind, watermark, read) VALUES (?, ?, now())
		ON CONFLICT (kind) DO UPDATE SET watermark = excluded.watermark, read = excluded.read`, string(kind), watermark)
	return err
}

// Keys lists the values by which a resource is found: link key, login,
// addresses, and what the match rules look at.
func Keys(kind entry.Kind, r entry.Resource, indexed []entry.Path) []string {
	var keys []string
	if login := r.Login(); login != "" {
		keys = append(keys, match.KeyText(kind, "userName", login))
	}
	if key := r.ExternalID(); key != "" {
		keys = append(keys, match.KeyText(kind, "externalId", key))
	}
	for _, address := range r.Addresses() {
		keys = append(keys, match.KeyText(kind, "emails.value", address))
	}
	if kind == entry.User && r.ExternalID() == "" {
		// Only those that nobody owns can be taken for somebody else.
		keys = append(keys, match.LikenessOf(r).Indexed()...)
	}
	for _, path := range indexed {
		if key := path.Key(); key == "userName" || key == "externalId" || key == "emails.value" {
			continue
		}
		if text, _ := path.Get(r).(string); text != "" {
			keys = append(keys, match.KeyText(kind, path.Key(), text))
		}
	}
	return keys
}

// Store brings resources of a kind into the cloud mirror and, with mark, marks the
// entries that are linked to changed ones as dirty, and the members of groups as unread.
// It returns which changed.
func (s Resources) Store(ctx context.Context, kind entry.Kind, resources []entry.Resource, indexed []entry.Path, mark bool) ([]string, error) {
	if len(resources) == 0 {
		return nil, nil
	}
	var ids, attributes, actives, searches, keys textArray
	var digests byteaArray
	seen := map[string]bool{}
	for i := len(resources) - 1; i >= 0; i-- {
		r := resources[i]
		if seen[r.ID()] {
			continue
		}
		seen[r.ID()] = true
		text, err := json.Marshal(r)
		if err != nil {
			return nil, err
		}
		of := textArray(Keys(kind, r, indexed))
		keyText, err := json.Marshal(of)
		if err != nil {
			return nil, err
		}
		ids, attributes, keys = append(ids, r.ID()), append(attributes, string(text)), append(keys, of.literal())
		digests = append(digests, digest(text, keyText))
		actives = append(actives, map[bool]string{true: "t", false: "f"}[r.Active()])
		searches = append(searches, strings.ToLower(strings.Join(append([]string{r.ID(), r.ExternalID(), r.Login(), r.DisplayName()}, r.Addresses()...), "\n")))
	}
	var changed struct{ IDs textArray }
	err := s.raw(ctx, `
		WITH input AS (
			SELECT * FROM unnest(?::text[], ?::text[], ?::bytea[], ?::text[], ?::text[]::boolean[], ?::text[]) AS t(id, attributes, digest, keys, active, search)
		), stored AS (
			INSERT INTO resources AS r (kind, id, attributes, digest, keys, active, search)
			SELECT ?, id, attributes::jsonb, digest, keys::text[], active, search FROM input
			ON CONFLICT (id) DO UPDATE SET attributes = excluded.attributes, digest = excluded.digest, keys = excluded.keys,
				active = excluded.active, search = excluded.search
			WHERE r.digest <> excluded.digest
			RETURNING id
		), referring AS (
			INSERT INTO dirty_references (directory, entry_id) SELECT l.directory, l.entry_id FROM stored JOIN links l ON l.resource_id = stored.id WHERE ? ON CONFLICT DO NOTHING
		), marked AS (
			INSERT INTO dirty (directory, entry_id) SELECT l.directory, l.entry_id FROM stored JOIN links l ON l.resource_id = stored.id WHERE ?
			ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0
		), unread AS (
			INSERT INTO unread_members SELECT id FROM stored WHERE ? ON CONFLICT DO NOTHING
		)
		SELECT coalesce(array_agg(id), '{}') AS ids FROM stored`, ids, attributes, digests, keys, actives, searches, string(kind), mark, mark, mark && kind == entry.Group).Scan(&changed).Error
	s.written.Add(int64(len(changed.IDs)))
	return changed.IDs, err
}

// Differing returns the ids of those stamps that are not of what the mirror has, as when
// somebody else has changed a resource after Kambrel wrote it.
func (s Resources) Differing(ctx context.Context, stamps []entry.Stamp) ([]string, error) {
	var ids, versions, times textArray
	for _, stamp := range stamps {
		ids, versions, times = append(ids, stamp.ID), append(versions, stamp.Version), append(times, stamp.LastModified)
	}
	var found struct{ IDs textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(i), '{}') AS ids FROM unnest(?::text[], ?::text[], ?::text[]) AS t(i, v, m)
		WHERE NOT EXISTS (SELECT FROM resources r WHERE r.id = i AND r.attributes->'meta'->>'version' = v AND r.attributes->'meta'->>'lastModified' = m)`,
		ids, versions, times).Scan(&found).Error
	return found.IDs, err
}

// Drop takes resources that the cloud no longer has out of the mirror
// and marks their entries as dirty, to be looked up before they are made again.
func (s Resources) Drop(ctx context.Context, ids []string) error {
	_, err := s.exec(ctx, `
		WITH gone AS (DELETE FROM resources WHERE id = ANY((@ids)::text[]) RETURNING id),
		unread AS (DELETE FROM unread_members WHERE group_id = ANY((@ids)::text[])),
		members AS (DELETE FROM resource_members WHERE group_id = ANY((@ids)::text[]) OR member_id = ANY((@ids)::text[]))
		INSERT INTO dirty (directory, entry_id, lookup) SELECT l.directory, l.entry_id, true FROM gone JOIN links l ON l.resource_id = gone.id
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0, lookup = true`, map[string]any{"ids": textArray(ids)})
	return err
}

// Except lists the resources of a kind that are not in seen.
func (s Resources) Except(ctx context.Context, kind entry.Kind, seen textkey.Set) ([]string, error) {
	rows, err := s.raw(ctx, `SELECT id FROM resources WHERE kind = ?`, string(kind)).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var others []string
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		if !seen.Has(id) {
			others = append(others, id)
		}
	}
	return others, rows.Err()
}

// FindLoose adds to the loose resources what two transactions have missed that did not see
// each other: one that dropped a link, and one that brought its resource.
func (s Resources) FindLoose(ctx context.Context) error {
	_, err := s.exec(ctx, `INSERT INTO loose_resources SELECT id FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id) ON CONFLICT DO NOTHING`)
	return err
}

// MembersTrust tells how often changes of members were found kept by the cloud.
func (s Resources) MembersTrust(ctx context.Context, url string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT coalesce((SELECT member_writes FROM cloud_trust WHERE url = ?), 0)`, url).Scan(&n).Error
}

// TrustMembers notes that a change of members was found kept.
func (s Resources) TrustMembers(ctx context.Context, url string) error {
	_, err := s.exec(ctx, `INSERT INTO cloud_trust AS t (url, member_writes) VALUES (?, 1) ON CONFLICT (url) DO UPDATE SET member_writes = t.member_writes + 1`, url)
	return err
}

// MembersShown is how many members of a group a cloud lists at most, 0 for all.
func (s Resources) MembersShown(ctx context.Context, url string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT coalesce((SELECT members_shown FROM cloud_trust WHERE url = ?), 0)`, url).Scan(&n).Error
}

// NoteMembersShown notes that a cloud lists no more members of a group than these.
func (s Resources) NoteMembersShown(ctx context.Context, url string, n int) error {
	_, err := s.exec(ctx, `INSERT INTO cloud_trust AS t (url, member_writes, members_shown) VALUES (?, 0, ?) ON CONFLICT (url) DO UPDATE SET members_shown = excluded.members_shown`, url, n)
	return err
}

// CountOf counts the resources of a kind in the mirror.
func (s Resources) CountOf(ctx context.Context, kind entry.Kind) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM resources WHERE kind = ?`, string(kind)).Scan(&n).Error
}

// GroupNamed returns a group of the mirror by its id or its name.
func (s Resources) GroupNamed(ctx context.Context, text string) (entry.Resource, error) {
	var id string
	if err := s.raw(ctx, `SELECT coalesce((SELECT id FROM resources WHERE kind = 'group' AND (id = ? OR lower(name) = lower(?)) ORDER BY id <> ?, id LIMIT 1), '')`, text, text, text).Scan(&id).Error; err != nil {
		return nil, err
	}
	return s.Get(ctx, id)
}

// Get returns one resource of the mirror.
func (s Resources) Get(ctx context.Context, id string) (entry.Resource, error) {
	var text []byte
	err := s.raw(ctx, `SELECT attributes FROM resources WHERE id = ?`, id).Row().Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	var r entry.Resource
	return r, jsonv2.Unmarshal(text, &r)
}

// OfKind returns one resource of the mirror and its kind.
func (s Resources) OfKind(ctx context.Context, id string) (entry.Kind, entry.Resource, error) {
	var kind string
	if err := s.raw(ctx, `SELECT kind FROM resources WHERE id = ?`, id).Scan(&kind).Error; err != nil {
		return "", nil, err
	}
	resource, err := s.Get(ctx, id)
	return entry.Kind(kind), resource, err
}
