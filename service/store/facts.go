package store

import (
	"context"
	"fmt"

	jsonv2 "github.com/go-json-experiment/json"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// Facts answers what decisions ask about others by the database as it is, see
// decide.Facts. Claims are rows, so they belong into the transaction of a batch.
type Facts struct{ *session }

// Claim gives entries their claims, in the order given, and returns who holds
// those that were taken. refs are all entries whose old claims end.
func (s Facts) Claim(ctx context.Context, refs []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	if err := s.deleteByEntry(ctx, "claims", refs); err != nil || len(claims) == 0 {
		return nil, err
	}
	keys, claimDirectories, claimIDs := claimArrays(claims)
	given, err := s.exec(ctx, `INSERT INTO claims (key, directory, entry_id) SELECT k, d, i FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i)
		ON CONFLICT (key) DO NOTHING`, keys, claimDirectories, claimIDs)
	if err != nil || given == int64(len(claims)) { // nobody had any
		return nil, err
	}
	var rows []struct {
		Key, Directory, EntryID, DN string
		Dirty                       bool
	}
	err = s.raw(ctx, `
		SELECT c.key, c.directory, c.entry_id, coalesce(e.dn, '') AS dn, coalesce(y.state = 0, false) AS dirty
		FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i) JOIN claims c ON c.key = k AND (c.directory, c.entry_id) <> (d, i)
		LEFT JOIN entries e ON e.directory = c.directory AND e.id = c.entry_id
		LEFT JOIN dirty y ON y.directory = c.directory AND y.entry_id = c.entry_id`, keys, claimDirectories, claimIDs).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	taken := make(map[string]decide.Claimant, len(rows))
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		taken[row.Key] = decide.Claimant{Ref: ref, DN: row.DN, Dirty: row.Dirty}
	}
	return taken, nil
}

func claimArrays(claims []decide.Claim) (keys, directories, ids textArray) {
	for _, claim := range claims {
		keys, directories, ids = append(keys, claim.Key), append(directories, claim.Ref.Directory), append(ids, claim.Ref.ID.String())
	}
	return keys, directories, ids
}

// Unclaim ends the claims of entries that could not be planned.
func (s Facts) Unclaim(ctx context.Context, refs []entry.Ref) error {
	return s.deleteByEntry(ctx, "claims", refs)
}

// Claims tells of unique values who else holds them than who wants them, by key.
func (s Facts) Claims(ctx context.Context, wanted []decide.Claim) (map[string]entry.Ref, error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	keys, directories, ids := claimArrays(wanted)
	var rows []struct{ Key, Directory, EntryID string }
	err := s.raw(ctx, `SELECT c.key, c.directory, c.entry_id
		FROM unnest(?::text[], ?::text[], ?::text[]::uuid[]) AS t(k, d, i) JOIN claims c ON c.key = k AND (c.directory, c.entry_id) <> (d, i)`,
		keys, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	holders := make(map[string]entry.Ref, len(rows))
	for _, row := range rows {
		if holders[row.Key], err = refOf(row.Directory, row.EntryID); err != nil {
			return nil, err
		}
	}
	return holders, nil
}

// FillGroups gives entries the groups that hold them.
func (s Facts) FillGroups(ctx context.Context, entries []*entry.Entry) error {
	at := map[entry.Ref][]*entry.Entry{}
	refs := make([]entry.Ref, 0, len(entries))
	for _, e := range entries {
		ref := entry.Ref{Directory: e.Directory, ID: e.ID}
		if at[ref] == nil {
			refs = append(refs, ref)
		}
		at[ref] = append(at[ref], e)
		e.Groups, e.AllGroups = nil, nil
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		Directory, Origin, DN string
		Direct                bool
	}
	err := s.raw(ctx, `
		WITH RECURSIVE up AS (
			SELECT m.directory, m.member_id AS origin, m.group_id FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN memberships m ON m.directory = d AND m.member_id = i
			UNION SELECT up.directory, up.origin, m.group_id FROM up JOIN memberships m ON m.directory = up.directory AND m.member_id = up.group_id
		)
		SELECT up.directory, up.origin, e.dn, EXISTS (SELECT FROM memberships m WHERE m.directory = up.directory AND m.group_id = up.group_id AND m.member_id = up.origin) AS direct
		FROM up JOIN entries e ON e.directory = up.directory AND e.id = up.group_id WHERE e.gone IS NULL ORDER BY e.dn`, directories, ids).Scan(&rows).Error
	if err != nil {
		return fmt.Errorf("look for the groups of entries: %w", err)
	}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.Origin)
		if err != nil {
			return err
		}
		for _, e := range at[ref] {
			e.AllGroups = append(e.AllGroups, row.DN)
			if row.Direct {
				e.Groups = append(e.Groups, row.DN)
			}
		}
	}
	return nil
}

// FreeHolders is Holders without resources that bear a link key. It looks at
// those that nobody owns only when there are any.
func (s Facts) FreeHolders(ctx context.Context, keys []string) (map[string][]decide.Holder, error) {
	return s.holders(ctx, keys, `AND r.attributes->>'externalId' IS NULL`)
}

// Holders finds the resources that have any of the keys.
func (s Facts) Holders(ctx context.Context, keys []string) (map[string][]decide.Holder, error) {
	return s.holders(ctx, keys, "")
}

func (s Facts) holders(ctx context.Context, keys []string, where string) (map[string][]decide.Holder, error) {
	found := map[string][]decide.Holder{}
	if len(keys) == 0 {
		return found, nil
	}
	// PostgreSQL cannot know how few resources have a key, and would compare all of them
	// with all keys; OFFSET and LIMIT let it go by index, key by key.
	rows, err := s.raw(ctx, `
		SELECT r.attributes, r.kind, k.key, coalesce(l.directory, g.directory, ''), coalesce(l.entry_id::text, g.entry_id::text, ''), coalesce(e.dn, g.dn, ''), l.left_at IS NOT NULL OR e.gone IS NOT NULL, e.gone IS NOT NULL
		FROM (SELECT DISTINCT unnest(?::text[]) AS key) k CROSS JOIN LATERAL (SELECT r.id, r.attributes, r.kind FROM resources r WHERE r.keys @> ARRAY[k.key] `+where+` OFFSET 0) r
		LEFT JOIN LATERAL (SELECT l.directory, l.entry_id, l.resource_id, l.left_at FROM links l WHERE l.resource_id = r.id LIMIT 1) l ON true
		LEFT JOIN LATERAL (SELECT c.directory, c.entry_id, c.dn FROM cloud_groups c WHERE c.resource_id = r.id AND l.resource_id IS NULL LIMIT 1) g ON r.kind = 'group'
		LEFT JOIN LATERAL (SELECT e.dn, e.gone FROM entries e WHERE e.directory = l.directory AND e.id = l.entry_id LIMIT 1) e ON true`, textArray(keys)).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var h decide.Holder
		var text []byte
		var id string
		if err := rows.Scan(&text, &h.Kind, &h.Key, &h.Ref.Directory, &id, &h.LinkedDN, &h.Left, &h.Gone); err != nil {
			return nil, err
		}
		if err := jsonv2.Unmarshal(text, &h.Resource); err != nil {
			return nil, err
		}
		if id != "" {
			if h.Ref.ID, err = entry.NewID(id); err != nil {
				return nil, err
			}
			if h.LinkedDN == "" {
				h.LinkedDN = id
			}
		}
		found[h.Key] = append(found[h.Key], h)
	}
	return found, rows.Err()
}

// Chosen returns what was decided about entries, with who has the resource now.
func (s Facts) Chosen(ctx context.Context, refs []entry.Ref) (map[entry.Ref]decide.Chosen, error) {
	out := map[entry.Ref]decide.Chosen{}
	if len(refs) == 0 {
		return out, nil
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		Directory, EntryID, Action, ResourceID, By string
		Attributes                                 []byte
		OwnerDirectory, OwnerID, Owner             string
	}
	err := s.raw(ctx, `SELECT c.directory, c.entry_id, c.action, c.resource_id, c.by, r.attributes,
			coalesce(l.directory, '') AS owner_directory, coalesce(l.entry_id::text, '') AS owner_id, coalesce(e.dn, l.entry_id::text, '') AS owner
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN decisions c ON c.directory = d AND c.entry_id = i
		LEFT JOIN resources r ON r.id = c.resource_id AND c.resource_id <> '' LEFT JOIN links l ON l.resource_id = c.resource_id AND c.resource_id <> ''
		LEFT JOIN entries e ON e.directory = l.directory AND e.id = l.entry_id`, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		chosen := decide.Chosen{Choice: decide.Choice(row.Action), ResourceID: row.ResourceID, By: row.By, Owner: row.Owner}
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		if row.OwnerID != "" {
			if chosen.OwnerRef, err = refOf(row.OwnerDirectory, row.OwnerID); err != nil {
				return nil, err
			}
		}
		if row.Attributes != nil {
			if err := jsonv2.Unmarshal(row.Attributes, &chosen.Resource); err != nil {
				return nil, err
			}
		}
		out[ref] = chosen
	}
	return out, nil
}

// Kin tells of entries whom they follow or who follows them.
func (s Facts) Kin(ctx context.Context, refs []entry.Ref) (map[entry.Ref]decide.Kin, error) {
	following, err := s.all().Persons.FollowingOf(ctx, refs)
	if err != nil {
		return nil, err
	}
	followers, err := s.all().Persons.FollowersOf(ctx, refs)
	if err != nil {
		return nil, err
	}
	kin := make(map[entry.Ref]decide.Kin, len(following)+len(followers))
	for ref, f := range following {
		kin[ref] = decide.Kin{Follows: &f}
	}
	for ref, list := range followers {
		one := kin[ref]
		one.Followers = list
		kin[ref] = one
	}
	return kin, nil
}

// Formers finds for entries those of their directory, kind and name that were
// deleted.
func (s Facts) Formers(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return s.namesakes(ctx, refs, `f.gone IS NOT NULL`)
}

// Heirs finds for entries that were deleted those of their directory, kind and
// name that are there and have no link.
func (s Facts) Heirs(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return s.namesakes(ctx, refs, `f.gone IS NULL AND l.link_key IS NULL`)
}

// namesakes is only worth a look where somebody was deleted, which the index of
// those tells at once.
func (s Facts) namesakes(ctx context.Context, refs []entry.Ref, where string) (map[entry.Ref][]decide.Former, error) {
	if len(refs) == 0 {
		return nil, nil
	}
	var any bool
	if err := s.raw(ctx, `SELECT EXISTS (SELECT FROM entries WHERE gone IS NOT NULL)`).Scan(&any).Error; err != nil || !any {
		return nil, err
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		EntryRow
		OfID    string
		LinkKey string
	}
	err := s.raw(ctx, `SELECT e.id AS of_id, f.directory, f.id, f.kind, f.dn, f.attributes, f.gone, coalesce(l.link_key, '') AS link_key
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN entries e ON e.directory = d AND e.id = i
		JOIN entries f ON f.directory = e.directory AND lower(f.name) = lower(e.name) AND f.kind = e.kind AND f.kind <> 'container' AND f.id <> e.id
		LEFT JOIN links l ON l.directory = f.directory AND l.entry_id = f.id WHERE `+where, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look who was deleted and made again: %w", err)
	}
	out := map[entry.Ref][]decide.Former{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.OfID)
		if err != nil {
			return nil, err
		}
		former := decide.Former{LinkKey: row.LinkKey}
		if former.Entry, err = row.entry(); err != nil {
			return nil, err
		}
		out[ref] = append(out[ref], former)
	}
	return out, nil
}
