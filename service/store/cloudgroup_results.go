package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
)

// Keep brings what an agent has written of groups into the mirror, the links and the
// changes. It is true whatever has become of the run that asked for it. byName is that of
// Source.
func (s CloudGroups) Keep(ctx context.Context, directory string, byName bool, request protocol.Groups, written []protocol.GroupWritten) error {
	for _, w := range written {
		at := slices.IndexFunc(request.Changes, func(c protocol.GroupChange) bool { return c.Number == w.Number })
		if at < 0 {
			return problem.New(problem.AgentMessageMalformed, "change %d was not asked for", w.Number)
		}
		if err := s.Tx(ctx, func(tx *Store) error { return tx.CloudGroups.keep(ctx, directory, byName, request.Changes[at], w) }); err != nil {
			return fmt.Errorf("keep what became of group %s: %w", request.Changes[at].Group, err)
		}
	}
	return nil
}

func (s CloudGroups) keep(ctx context.Context, directory string, byName bool, c protocol.GroupChange, w protocol.GroupWritten) error {
	steps := []func() error{
		func() error { return s.keepMade(ctx, directory, c, w) },
		func() error { return s.keepUpdated(ctx, directory, byName, c, w) },
		func() error { return s.keepDeleted(ctx, directory, c, w) },
		func() error { return s.keepMembers(ctx, directory, c, w) },
		func() error { return s.keepAnswer(ctx, c, w) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// keepMade ties a group to the entry that was made for it, or found.
func (s CloudGroups) keepMade(ctx context.Context, directory string, c protocol.GroupChange, w protocol.GroupWritten) error {
	if w.Entry == nil || c.Operation != protocol.GroupMake {
		return nil
	}
	w.Entry.Directory = directory
	if w.Entry.Kind != entry.Group {
		return problem.New(problem.AgentMessageMalformed, "%s was made as a group, and is a %s", w.Entry.DN, w.Entry.Kind)
	}
	if _, err := s.all().Entries.Store(ctx, Source{Directory: directory}, []*entry.Entry{w.Entry}); err != nil {
		return err
	}
	values := entry.Attributes{"dn": {w.Entry.DN}}
	for name, given := range c.Values {
		values[name] = given
	}
	text, err := json.Marshal(values)
	if err != nil {
		return err
	}
	if _, err := s.exec(ctx, `INSERT INTO cloud_groups AS g (directory, resource_id, entry_id, name, dn, sid, written, how, run_id)
		SELECT (@directory)::text, (@resource)::text, (@entry)::uuid, coalesce((SELECT name FROM resources WHERE id = @resource), @dn), (@dn)::text, (@sid)::text, (@written)::jsonb, 'made', coalesce((SELECT run_id FROM changes WHERE id = @change), 0)
		ON CONFLICT (directory, resource_id) DO UPDATE SET entry_id = excluded.entry_id, name = excluded.name, dn = excluded.dn, sid = excluded.sid, written = excluded.written, run_id = excluded.run_id,
			since = CASE WHEN g.entry_id = excluded.entry_id THEN g.since ELSE now() END, left_at = NULL, due = NULL, forgone = false`,
		map[string]any{"directory": directory, "resource": c.Group, "entry": w.Entry.ID.String(), "dn": w.Entry.DN, "sid": w.SID, "written": string(text), "change": c.Number}); err != nil {
		return err
	}
	// It was looked at, whatever the tables say of what was just written.
	_, err = s.exec(ctx, `DELETE FROM dirty_cloud_groups WHERE directory = ? AND resource_id = ? AND NOT members`, directory, c.Group)
	return err
}

// keepUpdated brings the mirror to what an entry was given; the next read looks at it anew.
func (s CloudGroups) keepUpdated(ctx context.Context, directory string, byName bool, c protocol.GroupChange, w protocol.GroupWritten) error {
	if c.Operation != protocol.GroupUpdate || w.Code != "" || w.DN == "" || c.DN == "" && len(c.Values) == 0 {
		return nil
	}
	name, err := entry.ParseDN(w.DN)
	if err != nil {
		return problem.Wrap(problem.AgentMessageMalformed, err, "what %s is called now", c.Group)
	}
	given, gone, written := entry.Attributes{}, textArray{}, entry.Attributes{}
	if c.DN != "" {
		written["dn"] = []string{w.DN}
	}
	for attribute, values := range c.Values {
		if written[attribute] = values; len(values) > 0 {
			given[attribute] = values
		} else {
			gone = append(gone, attribute)
		}
	}
	patch, err := json.Marshal(given)
	if err != nil {
		return err
	}
	last, err := json.Marshal(written)
	if err != nil {
		return err
	}
	if _, err := s.exec(ctx, `UPDATE entries SET dn = ?, path = ?, attributes = (attributes - ?::text[]) || ?::jsonb, digest = '' WHERE directory = ? AND id = ?::uuid`,
		w.DN, name.Path(), gone, string(patch), directory, c.EntryID.String()); err != nil {
		return err
	}
	if _, err := s.exec(ctx, `UPDATE memberships SET member_id = ?::uuid WHERE directory = ? AND member_path = ? AND member_id IS NULL`, c.EntryID.String(), directory, name.Path()); err != nil {
		return err
	}
	// Who holds it by a name that this directory does not keep true has to be told.
	if _, err := s.exec(ctx, `UPDATE memberships SET member_id = NULL WHERE ? AND directory = ? AND member_id = ?::uuid AND member_path <> ?`, byName, directory, c.EntryID.String(), name.Path()); err != nil {
		return err
	}
	_, err = s.exec(ctx, `WITH seen AS (DELETE FROM dirty_cloud_groups WHERE directory = @directory AND resource_id = @resource AND NOT members)
		UPDATE cloud_groups g SET dn = (@dn)::text, sid = CASE WHEN (@sid)::text = '' THEN sid ELSE (@sid)::text END, written = written || (@written)::jsonb, name = coalesce((SELECT name FROM resources WHERE id = @resource), g.name)
		WHERE directory = @directory AND resource_id = @resource`,
		map[string]any{"directory": directory, "resource": c.Group, "dn": w.DN, "sid": w.SID, "written": string(last)})
	return err
}

func (s CloudGroups) keepDeleted(ctx context.Context, directory string, c protocol.GroupChange, w protocol.GroupWritten) error {
	if c.Operation != protocol.GroupDelete || w.Code != "" {
		return nil
	}
	if err := s.Drop(ctx, directory, []string{c.Group}); err != nil {
		return err
	}
	_, err := s.all().Entries.MarkGone(ctx, directory, []entry.ID{c.EntryID})
	return err
}

// keepMembers brings the mirror to the members that an entry was given.
func (s CloudGroups) keepMembers(ctx context.Context, directory string, c protocol.GroupChange, w protocol.GroupWritten) error {
	if len(c.Add)+len(c.Remove) == 0 || w.Code != "" {
		return nil
	}
	var refused, codes, details, where textArray
	for _, r := range w.Refused {
		path, err := entry.PathOf(r.DN)
		if err != nil {
			return problem.Wrap(problem.AgentMessageMalformed, err, "a member that was refused")
		}
		where = append(where, path)
		refused, codes, details = append(refused, r.DN), append(codes, r.Code), append(details, r.Detail)
	}
	paths := func(names []string) (textArray, error) {
		out := textArray{}
		for _, name := range names {
			path, err := entry.PathOf(name)
			if err != nil {
				return nil, err
			}
			if !slices.Contains(refused, name) {
				out = append(out, path)
			}
		}
		return out, nil
	}
	added, err := paths(c.Add)
	if err != nil {
		return err
	}
	removed, err := paths(c.Remove)
	if err != nil {
		return err
	}
	if c.Placeholder != "" && len(added) > 0 { // it went when somebody came
		path, err := entry.PathOf(c.Placeholder)
		if err != nil {
			return err
		}
		removed = append(removed, path)
	}
	args := map[string]any{"directory": directory, "resource": c.Group, "added": added, "removed": removed, "refused": refused, "codes": codes, "details": details, "where": where, "change": c.Number,
		"settled": textArray(slices.Concat(c.Add, c.Remove))}
	for _, statement := range []string{
		// A directory that renames members itself tells it by their ids alone.
		`DELETE FROM memberships m USING cloud_groups g WHERE g.directory = @directory AND g.resource_id = @resource AND m.directory = g.directory AND m.group_id = g.entry_id
			AND (m.member_path = ANY((@removed)::text[]) OR m.member_id IN (SELECT id FROM entries e WHERE e.directory = @directory AND e.path = ANY((@removed)::text[])))`,
		`INSERT INTO memberships (directory, group_id, member_path, member_id) SELECT g.directory, g.entry_id, p, e.id FROM cloud_groups g, unnest((@added)::text[]) AS t(p)
			LEFT JOIN entries e ON e.directory = @directory AND e.path = p AND e.gone IS NULL WHERE g.directory = @directory AND g.resource_id = @resource ON CONFLICT DO NOTHING`,
		`DELETE FROM dirty_cloud_members d WHERE d.directory = @directory AND d.resource_id = @resource AND d.drift AND d.member IN (
			SELECT coalesce('e:' || e.id, 'p:' || p) FROM unnest((@added)::text[] || (@removed)::text[]) AS t(p) LEFT JOIN entries e ON e.directory = @directory AND e.path = p)`,
		`DELETE FROM cloud_group_refusals WHERE directory = @directory AND resource_id = @resource AND dn = ANY((@settled)::text[])`,
		`INSERT INTO cloud_group_refusals (directory, resource_id, dn, path, code, detail, run_id) SELECT (@directory)::text, (@resource)::text, d, p, c, t, coalesce((SELECT run_id FROM changes WHERE id = @change), 0)
			FROM unnest((@refused)::text[], (@where)::text[], (@codes)::text[], (@details)::text[]) AS x(d, p, c, t) ON CONFLICT (directory, resource_id, dn) DO UPDATE SET code = excluded.code, detail = excluded.detail, run_id = excluded.run_id`,
	} {
		if _, err := s.exec(ctx, statement, args); err != nil {
			return err
		}
	}
	return nil
}

// keepAnswer ends the change.
func (s CloudGroups) keepAnswer(ctx context.Context, c protocol.GroupChange, w protocol.GroupWritten) error {
	state, code, detail := "done", w.Code, w.Detail
	switch {
	case code != "" && !problem.Known(problem.Code(code)):
		state, code = "failed", string(problem.AgentMessageMalformed)
	case code != "":
		state = "failed"
	case len(w.Refused) > 0 && len(w.Refused) == len(c.Add)+len(c.Remove):
		state = "failed"
		fallthrough
	case len(w.Refused) > 0:
		code, detail = string(problem.CloudMembersRefused), refusedText(w.Refused)
	}
	var at string
	if w.At != nil {
		at = w.At.Format(time.RFC3339Nano)
	}
	entryID := ""
	if w.Entry != nil {
		entryID = w.Entry.ID.String()
	}
	_, err := s.exec(ctx, `UPDATE changes SET state = ?, code = ?, answer = ?, answered = now(), drift_by = ?, drift_at = nullif(?, '')::timestamptz, entry_id = coalesce(nullif(?, '')::uuid, entry_id), dn = CASE WHEN ? = '' THEN dn ELSE ? END
		WHERE id = ? AND side = 'directory' AND state IN ('planned', 'sent')`, state, code, detail, w.By, at, entryID, w.DN, w.DN, c.Number)
	return err
}

// mostRefused is how many refused members a text names.
const mostRefused = 5

func refusedText(refused []protocol.RefusedMember) string {
	text := ""
	for i, r := range refused {
		if i == mostRefused {
			return text + "; and " + strconv.Itoa(len(refused)-mostRefused) + " more"
		}
		if i > 0 {
			text += "; "
		}
		text += r.DN + ": " + cmp.Or(r.Detail, r.Code)
	}
	return text
}
