package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/core/problem"
)

// Persons is which entries of several directories are one person: by what keys, and which
// of them follow another.
type Persons struct{ *session }

// PersonKeys is by what an entry is one with others.
type PersonKeys struct {
	Ref    entry.Ref
	Inside bool
	Keys   []string
}

// ReplaceKeys keeps by what entries are one with others, and returns the
// keys under which that has changed, or under which there is a problem. Leads of entries that are looked at are
// looked at too, since the values of those entries may count.
func (s Persons) ReplaceKeys(ctx context.Context, items []PersonKeys) ([]string, error) {
	var refs []entry.Ref
	var directories, ids, keys textArray
	inside := make([]string, 0, len(items))
	for _, item := range items {
		refs = append(refs, item.Ref)
		for _, key := range item.Keys {
			directories, ids, keys = append(directories, item.Ref.Directory), append(ids, item.Ref.ID.String()), append(keys, key)
			inside = append(inside, fmt.Sprint(item.Inside))
		}
	}
	allDirectories, allIDs := refArrays(refs)
	var touched []string
	err := s.raw(ctx, `
		WITH input AS (SELECT d, i, k, b FROM unnest((@directories)::text[], (@ids)::text[]::uuid[], (@keys)::text[], (@inside)::text[]::boolean[]) AS t(d, i, k, b)),
		asked AS (SELECT d, i FROM unnest((@allDirectories)::text[], (@allIDs)::text[]::uuid[]) AS t(d, i)),
		dropped AS (DELETE FROM person_keys o USING asked WHERE o.directory = asked.d AND o.entry_id = asked.i
			AND NOT EXISTS (SELECT FROM input WHERE input.d = o.directory AND input.i = o.entry_id AND input.k = o.key) RETURNING key),
		kept AS (INSERT INTO person_keys AS o (directory, entry_id, key, inside) SELECT d, i, k, b FROM input
			ON CONFLICT (directory, entry_id, key) DO UPDATE SET inside = excluded.inside WHERE o.inside <> excluded.inside RETURNING key),
		leads AS (INSERT INTO dirty (directory, entry_id) SELECT DISTINCT j.lead_directory, j.lead_id FROM asked JOIN followers j ON j.directory = asked.d AND j.entry_id = asked.i WHERE j.lead_id IS NOT NULL
			ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0)
		SELECT key FROM dropped UNION SELECT key FROM kept
		UNION SELECT o.key FROM asked JOIN followers j ON j.directory = asked.d AND j.entry_id = asked.i AND j.code <> '' JOIN person_keys o ON o.directory = asked.d AND o.entry_id = asked.i`,
		map[string]any{"directories": directories, "ids": ids, "keys": keys, "inside": textArray(inside), "allDirectories": allDirectories, "allIDs": allIDs}).Scan(&touched).Error
	if err != nil {
		return nil, fmt.Errorf("keep by what entries are one: %w", err)
	}
	return touched, nil
}

// Mates returns everybody who is one with whoever has one of the keys, through
// others too.
func (s Persons) Mates(ctx context.Context, keys []string) ([]person.Member, error) {
	var rows []struct {
		Directory, EntryID, DN, ResourceID string
		Keys                               textArray
		Inside                             bool
		LeftAt                             *time.Time
	}
	err := s.raw(ctx, `
		WITH RECURSIVE reach AS (
			SELECT k AS key FROM unnest((?)::text[]) AS t(k)
			UNION SELECT b.key FROM reach JOIN person_keys a ON a.key = reach.key JOIN person_keys b ON b.directory = a.directory AND b.entry_id = a.entry_id
		)
		SELECT k.directory, k.entry_id, array_agg(k.key ORDER BY k.key) AS keys, bool_or(k.inside) AS inside, min(e.dn) AS dn, coalesce(min(l.resource_id), '') AS resource_id, min(l.left_at) AS left_at
		FROM reach JOIN person_keys k ON k.key = reach.key JOIN entries e ON e.directory = k.directory AND e.id = k.entry_id
		LEFT JOIN links l ON l.directory = k.directory AND l.entry_id = k.entry_id GROUP BY 1, 2 ORDER BY 1, 2`, textArray(keys)).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look who is one with whom: %w", err)
	}
	members := make([]person.Member, len(rows))
	for i, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		members[i] = person.Member{Directory: ref.Directory, ID: ref.ID, DN: row.DN, Keys: row.Keys, Inside: row.Inside, ResourceID: row.ResourceID, Left: row.LeftAt != nil}
	}
	return members, nil
}

// MatesOf returns everybody who is one with the entries as they were kept, or
// with whoever has one of the keys.
func (s Persons) MatesOf(ctx context.Context, refs []entry.Ref, keys []string) ([]person.Member, error) {
	directories, ids := refArrays(refs)
	var row struct{ Keys textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(DISTINCT k.key), '{}') AS keys FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		JOIN person_keys k ON k.directory = d AND k.entry_id = i`, directories, ids).Scan(&row).Error
	if err != nil {
		return nil, fmt.Errorf("look by what entries are one: %w", err)
	}
	return s.Mates(ctx, append(row.Keys, keys...))
}

// Save keeps what was decided about members and makes the plan look at
// whom it concerns. Links go over from those who left to those who came.
func (s Persons) Save(ctx context.Context, outcomes []person.Outcome) error {
	if len(outcomes) == 0 {
		return nil
	}
	var refs []entry.Ref
	var rules, codes, details, facts, leads, leadIDs textArray
	for _, o := range outcomes {
		refs = append(refs, entry.Ref{Directory: o.Directory, ID: o.ID})
		lead, leadID, code, detail, known := "", "", "", "", []byte("{}")
		switch {
		case o.Lead != nil:
			lead, leadID = o.Lead.Directory, o.Lead.ID.String()
		case o.Problem != nil:
			code, detail = string(o.Problem.Code), o.Problem.Detail
			var err error
			if known, err = json.Marshal(o.Problem.Facts); err != nil {
				return err
			}
		}
		facts = append(facts, string(known))
		rules, codes, details, leads, leadIDs = append(rules, o.Rule), append(codes, code), append(details, detail), append(leads, lead), append(leadIDs, leadID)
	}
	directories, ids := refArrays(refs)
	// Old leads and new ones are looked at, and the references of who follows.
	_, err := s.exec(ctx, `
		WITH input AS (SELECT d, i, ld, nullif(li, '')::uuid AS li, r, c, t, f::jsonb AS f FROM unnest((@directories)::text[], (@ids)::text[]::uuid[], (@leads)::text[], (@leadIDs)::text[], (@rules)::text[], (@codes)::text[], (@details)::text[], (@facts)::text[]) AS x(d, i, ld, li, r, c, t, f)),
		before AS (SELECT j.* FROM followers j JOIN input ON d = j.directory AND i = j.entry_id),
		dropped AS (DELETE FROM followers j USING input WHERE d = j.directory AND i = j.entry_id AND li IS NULL AND c = '' RETURNING j.directory, j.entry_id, j.lead_directory, j.lead_id),
		kept AS (INSERT INTO followers AS j (directory, entry_id, lead_directory, lead_id, rule, code, detail, facts) SELECT d, i, ld, li, r, c, t, f FROM input WHERE li IS NOT NULL OR c <> ''
			ON CONFLICT (directory, entry_id) DO UPDATE SET lead_directory = excluded.lead_directory, lead_id = excluded.lead_id, rule = excluded.rule, code = excluded.code, detail = excluded.detail, facts = excluded.facts
			WHERE (j.lead_directory, j.lead_id, j.code) IS DISTINCT FROM (excluded.lead_directory, excluded.lead_id, excluded.code)
			RETURNING directory, entry_id, lead_directory, lead_id),
		moved AS (SELECT * FROM dropped UNION SELECT * FROM kept UNION SELECT b.directory, b.entry_id, b.lead_directory, b.lead_id FROM before b JOIN kept USING (directory, entry_id)),
		look AS (INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM moved UNION SELECT lead_directory, lead_id FROM moved WHERE lead_id IS NOT NULL
			ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0)`+markReferring,
		map[string]any{"directories": directories, "ids": ids, "leads": leads, "leadIDs": leadIDs, "rules": rules, "codes": codes, "details": details, "facts": facts})
	if err != nil {
		return fmt.Errorf("keep who is one with whom: %w", err)
	}
	for _, o := range outcomes {
		if o.From != nil {
			if err := s.moveLink(ctx, entry.Ref{Directory: o.From.Directory, ID: o.From.ID}, entry.Ref{Directory: o.Directory, ID: o.ID}); err != nil {
				return err
			}
		}
	}
	return nil
}

// moveLink hands a link over, with its link key, from an entry that left to
// another of the same person.
func (s Persons) moveLink(ctx context.Context, from, to entry.Ref) error {
	_, err := s.exec(ctx, `
		WITH changed AS (UPDATE links SET directory = @directory , entry_id = (@id)::uuid WHERE directory = @fromDirectory AND entry_id = (@fromID)::uuid RETURNING 1),
		moved AS (SELECT (@directory)::text AS directory, (@id)::uuid AS entry_id FROM changed UNION ALL SELECT (@fromDirectory)::text, (@fromID)::uuid FROM changed),
		look AS (INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM moved ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0)`+markReferring,
		map[string]any{"directory": to.Directory, "id": to.ID.String(), "fromDirectory": from.Directory, "fromID": from.ID.String()})
	if err != nil {
		return fmt.Errorf("hand the link of %s/%s over: %w", from.Directory, from.ID, err)
	}
	return nil
}

// Drop forgets who is one with whom, as when the settings know no person
// rules any more; those concerned are looked at.
func (s Persons) Drop(ctx context.Context) error {
	_, err := s.exec(ctx, `WITH keys AS (DELETE FROM person_keys), moved AS (DELETE FROM followers RETURNING directory, entry_id, lead_directory, lead_id),
		look AS (INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM moved UNION SELECT lead_directory, lead_id FROM moved WHERE lead_id IS NOT NULL
			ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0)`+markReferring)
	return err
}

// FollowingOf tells of entries which entry leads them; those that stand for
// themselves are not in it.
func (s Persons) FollowingOf(ctx context.Context, refs []entry.Ref) (map[entry.Ref]decide.Following, error) {
	directories, ids := refArrays(refs)
	var rows []struct {
		Directory, EntryID, LeadDirectory, LeadID, LeadDN, Rule, Code, Detail string
		Facts                                                                 []byte
	}
	err := s.raw(ctx, `SELECT j.directory, j.entry_id, j.lead_directory, coalesce(j.lead_id::text, '') AS lead_id, coalesce(e.dn, '') AS lead_dn, j.rule, j.code, j.detail, j.facts
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN followers j ON j.directory = d AND j.entry_id = i
		LEFT JOIN entries e ON e.directory = j.lead_directory AND e.id = j.lead_id`, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look whom entries follow: %w", err)
	}
	out := map[entry.Ref]decide.Following{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		following := decide.Following{LeadDN: row.LeadDN, Rule: row.Rule}
		if row.Code != "" {
			following.Problem = &problem.Error{Code: problem.Code(row.Code), Detail: row.Detail}
			if err := json.Unmarshal(row.Facts, &following.Problem.Facts); err != nil {
				return nil, fmt.Errorf("facts of a person: %w", err)
			}
		}
		if row.LeadID != "" {
			if following.Lead, err = refOf(row.LeadDirectory, row.LeadID); err != nil {
				return nil, err
			}
		}
		out[ref] = following
	}
	return out, nil
}

// FollowersOf returns the entries that follow others, by those.
func (s Persons) FollowersOf(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]decide.Follower, error) {
	directories, ids := refArrays(refs)
	var rows []struct {
		EntryRow
		LeadDirectory, LeadID, Rule string
	}
	err := s.raw(ctx, s.all().References.tables(`SELECT e.directory, e.id, e.kind, e.dn, e.attributes, e.gone, j.lead_directory, j.lead_id, j.rule
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN {followers} j ON j.lead_directory = d AND j.lead_id = i
		JOIN entries e ON e.directory = j.directory AND e.id = j.entry_id ORDER BY e.directory, e.id`), directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look who follows entries: %w", err)
	}
	out := map[entry.Ref][]decide.Follower{}
	for _, row := range rows {
		lead, err := refOf(row.LeadDirectory, row.LeadID)
		if err != nil {
			return nil, err
		}
		e, err := row.entry()
		if err != nil {
			return nil, err
		}
		out[lead] = append(out[lead], decide.Follower{Entry: e, Rule: row.Rule})
	}
	return out, nil
}
