package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
)

// Losses tells what the planned changes of some ranks of a run take away, alike ones
// together, and from which groups how many members go.
func (s Changes) Losses(ctx context.Context, run int64, from, to int) ([]problem.Loss, map[string]int, error) {
	of, args := `changes c WHERE c.run_id = @run AND c.state = 'planned' AND c.rank BETWEEN @from AND @to`, map[string]any{"run": run, "from": from, "to": to}
	losses, err := s.losses(ctx, of, args)
	if err != nil || !slices.ContainsFunc(losses, losesMembers) {
		return losses, nil, err
	}
	groups, err := s.membersOf(ctx, `SELECT c.resource_id, sum(c.members_lost) AS members FROM `+of+` AND c.members_lost > 0 GROUP BY 1`, args)
	return losses, groups, err
}

// LossesSince is the same of what runs have carried out since a time. Of groups it is by how
// many members they are fewer since: some come while others go.
func (s Changes) LossesSince(ctx context.Context, around int64, since time.Time, from, to int) ([]problem.Loss, map[string]int, error) {
	args := map[string]any{"since": since, "from": from, "to": to, "around": around}
	of := `changes c JOIN runs u ON u.id = c.run_id WHERE ` + took(around) + ` AND c.rank BETWEEN @from AND @to`
	losses, err := s.losses(ctx, of, args)
	at := slices.IndexFunc(losses, losesMembers)
	if err != nil || at < 0 {
		return losses, nil, err
	}
	groups, err := s.membersOf(ctx, `WITH lost AS (SELECT DISTINCT c.directory, c.entry_id, c.resource_id FROM `+of+` AND c.members_lost > 0)
		SELECT c.resource_id, sum(c.members_lost) - sum(coalesce(jsonb_array_length(d->'added'), 0)) AS members
		FROM lost l JOIN changes c ON c.directory = l.directory AND c.entry_id = l.entry_id AND c.resource_id = l.resource_id JOIN runs u ON u.id = c.run_id, jsonb_array_elements(c.diffs) d
		WHERE c.state = 'done' AND c.answered >= @since AND c.rank BETWEEN @from AND @to AND NOT `+decides+` AND d->>'target' = 'members' GROUP BY 1`, args)
	losses[at].Count = 0
	for _, n := range groups {
		losses[at].Count += n
	}
	return losses, groups, err
}

func losesMembers(l problem.Loss) bool { return l.Of == string(plan.LosesMembers) }

// membersOf reads how many members groups lose; who loses none is left out.
func (s Changes) membersOf(ctx context.Context, query string, args map[string]any) (map[string]int, error) {
	var rows []struct {
		ResourceID string
		Members    int
	}
	if err := s.raw(ctx, query, args).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("count the members that groups lose: %w", err)
	}
	groups := map[string]int{}
	for _, row := range rows {
		if row.Members > 0 {
			groups[row.ResourceID] = row.Members
		}
	}
	return groups, nil
}

// removesNow is true of a change c that takes a resource away, or lets its grace time
// begin; the guard has been asked already about one whose grace time is over.
const removesNow = `(c.operation IN ('suspend', 'leave') OR c.operation = 'delete' AND c.due IS NULL)`

// Going tells what is deleted later, of what leaves in a run.
func (s Changes) Going(ctx context.Context, run int64) ([]progress.Going, error) {
	var going []progress.Going
	err := s.raw(ctx, `SELECT kind, count(*) AS count, min(due) AS on FROM changes WHERE run_id = ? AND operation IN ('suspend', 'leave') AND due IS NOT NULL AND state IN ('planned', 'sent', 'done')
		GROUP BY kind ORDER BY kind DESC`, run).Scan(&going).Error
	for i := range going {
		going[i] = going[i].Say()
	}
	return going, err
}

// HeldLosses tells what the changes would take away that a run holds.
func (s Changes) HeldLosses(ctx context.Context, run int64) ([]problem.Loss, error) {
	var removals []problem.Loss
	if err := s.raw(ctx, `SELECT 'removals' AS of, kind, CASE WHEN operation = 'leave' THEN 'leave' ELSE '' END AS target, count(*) AS count FROM changes
		WHERE run_id = ? AND state = 'held' AND operation IN ('suspend', 'leave', 'delete') GROUP BY 2, 3 ORDER BY 2 DESC, 3`, run).Scan(&removals).Error; err != nil {
		return nil, err
	}
	var again []problem.Loss
	if err := s.raw(ctx, `SELECT 'identities' AS of, kind, '' AS target, count(*) AS count FROM changes WHERE run_id = ? AND state = 'held' AND side = 'directory' AND operation = 'create' GROUP BY 2`, run).Scan(&again).Error; err != nil {
		return nil, err
	}
	removals = append(removals, again...)
	losses, err := s.losses(ctx, `changes c WHERE c.run_id = @run AND c.state = 'held'`, map[string]any{"run": run})
	losses = append(removals, losses...)
	for i := range losses {
		losses[i] = losses[i].Say()
	}
	return losses, err
}

// losses counts what changes c take away, which follow FROM.
func (s Changes) losses(ctx context.Context, of string, args map[string]any) ([]problem.Loss, error) {
	var losses []problem.Loss
	err := s.raw(ctx, `SELECT split_part(l, ' ', 1) AS of, kind, substr(l, strpos(l, ' ') + 1) AS target,
			CASE WHEN l LIKE 'members %' THEN sum(members_lost) ELSE count(DISTINCT (directory, entry_id)) END AS count, CASE WHEN l LIKE 'members %' THEN count(DISTINCT resource_id) ELSE 0 END AS groups
		FROM (SELECT c.* FROM `+of+` AND c.losses <> '{}') c, unnest(losses) l GROUP BY l, kind ORDER BY 4 DESC, 2 DESC, 1, 3`, args).Scan(&losses).Error
	if err != nil {
		err = fmt.Errorf("count what would be taken away: %w", err)
	}
	return losses, err
}

// Losing returns up to limit changes of some ranks of a run that take something away
// and are planned, or held, after the one given.
func (s Changes) Losing(ctx context.Context, run int64, state string, from, to int, after int64, limit int) ([]Change, error) {
	var changes []Change
	err := s.raw(ctx, `SELECT * FROM changes WHERE run_id = ? AND state = ? AND rank BETWEEN ? AND ? AND losses <> '{}' AND id > ? ORDER BY id LIMIT ?`, run, state, from, to, after, limit).Scan(&changes).Error
	if err != nil {
		return nil, err
	}
	return changes, withDiffs(changes)
}

// Held returns the changes that a run holds, those given or all, but for what only hangs
// on others.
func (s Changes) Held(ctx context.Context, run int64, only []int64) ([]Change, error) {
	query := s.with(ctx).Table("changes").Where(`run_id = ? AND state = 'held' AND (rank <> 3 OR losses <> '{}')`, run)
	if len(only) > 0 {
		query = query.Where("id IN ?", only)
	}
	var changes []Change
	if err := query.Order("id").Scan(&changes).Error; err != nil {
		return nil, err
	}
	return changes, withDiffs(changes)
}

// Discard notes of held changes that they were discarded, and lets the next run look at
// their entries again.
func (s Changes) Discard(ctx context.Context, changes []Change, note string) error {
	ids := changeIDs(changes)
	if _, err := s.exec(ctx, `UPDATE changes SET state = 'discarded', answer = ?, answered = now() WHERE id = ANY(?::text[]::bigint[])`, note, ids); err != nil {
		return err
	}
	return s.lookAgain(ctx, changes)
}

// lookAgain lets the next run decide again about the entries of changes.
func (s Changes) lookAgain(ctx context.Context, changes []Change) error {
	var refs, tied []entry.Ref
	for _, c := range changes {
		if c.Side == change.Directory {
			if err := s.all().CloudGroups.Mark(ctx, c.Directory, []string{c.ResourceID}, true); err != nil {
				return err
			}
		} else if c.Rank == RankReferences {
			tied = append(tied, c.Ref())
		} else {
			refs = append(refs, c.Ref())
		}
	}
	slices.SortFunc(refs, entry.Ref.Compare) // one may have several changes
	if err := s.all().Dirty.Set(ctx, slices.Compact(refs), DirtyNext, false); err != nil {
		return err
	}
	return s.all().References.Mark(ctx, tied)
}

// Divided is a planned change of which something is held: Waits is that, and Rest what
// goes on.
type Divided struct {
	Change      Change
	Waits, Rest []change.Diff
	// Lost is how many members are held that are not leaving themselves.
	Lost int
}

// Hold holds parts of planned changes. With again, the next run plans them again.
func (s Changes) Hold(ctx context.Context, divided []Divided, again bool) error {
	changes := make([]Change, len(divided))
	for i, d := range divided {
		waits, err := json.Marshal(d.Waits)
		if err != nil {
			return err
		}
		held := ofDiffs(plan.Operation(d.Change.Operation), d.Waits)
		if len(d.Rest) == 0 {
			_, err = s.exec(ctx, `UPDATE changes SET state = 'held', members_lost = ? WHERE id = ?`, d.Lost, d.Change.ID)
		} else {
			var rest []byte
			if rest, err = json.Marshal(d.Rest); err != nil {
				return err
			}
			if _, err = s.exec(ctx, `INSERT INTO changes (run_id, side, kind, operation, rank, state, directory, entry_id, dn, resource_id, name, diffs, lookup, code, answer, rule, losses, members_lost)
				SELECT run_id, side, kind, 'update', rank, 'held', directory, entry_id, dn, resource_id, name, ?::jsonb, false, '', '', '', ?::text[], ? FROM changes WHERE id = ?`, string(waits), held, d.Lost, d.Change.ID); err == nil {
				_, err = s.exec(ctx, `UPDATE changes SET diffs = ?::jsonb, losses = ?::text[], members_lost = 0 WHERE id = ?`, string(rest), ofDiffs(plan.Operation(d.Change.Operation), d.Rest), d.Change.ID)
			}
		}
		if err != nil {
			return fmt.Errorf("hold a part of change %d: %w", d.Change.ID, err)
		}
		changes[i] = d.Change
	}
	if !again {
		return nil
	}
	return s.lookAgain(ctx, changes)
}

func ofDiffs(operation plan.Operation, diffs []change.Diff) textArray {
	out := textArray{}
	for _, loss := range plan.Losses(operation, diffs) {
		out = append(out, loss.String())
	}
	return out
}

// Leaving tells which resources leave the cloud: their entries have left, or the run
// takes them away.
func (s Changes) Leaving(ctx context.Context, run int64, ids []string) (map[string]bool, error) {
	leaving := map[string]bool{}
	if len(ids) == 0 {
		return leaving, nil
	}
	var found struct{ IDs textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(resource_id), '{}') AS ids FROM (
			SELECT resource_id FROM links WHERE left_at IS NOT NULL AND resource_id = ANY((@ids)::text[])
			UNION SELECT resource_id FROM changes WHERE run_id = @run AND rank < 3 AND operation IN ('suspend', 'leave', 'delete', 'unlink') AND state <> 'held' AND resource_id = ANY((@ids)::text[])
		) l`, map[string]any{"ids": textArray(ids), "run": run}).Scan(&found).Error
	for _, id := range found.IDs {
		leaving[id] = true
	}
	return leaving, err
}
