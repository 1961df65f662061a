package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	jsonv2 "github.com/go-json-experiment/json"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
)

// Changes are what runs have planned, and what became of it.
type Changes struct{ *session }

// NewChange is a decision to be kept.
type NewChange struct {
	Ref        entry.Ref
	Side       change.Side // where it is written; the cloud when empty
	Rank       int         // of those that are written to a directory
	Drift      bool        // it puts back what somebody has changed in the directory
	Kind       entry.Kind
	References bool           // it ties resources together, and comes after all others
	Later      bool           // it comes after what takes access away
	Held       bool           // it hangs on a removal that is held
	Operation  plan.Operation // "" is kept as "none", with a problem
	DN         string
	ResourceID string
	Name       string
	Diffs      []change.Diff
	Lookup     bool
	Code       string
	Detail     string
	// Facts are those of the problem that Code names, if it is one.
	Facts *problem.Facts
	// Rule is the match rule that an adoption follows.
	Rule string
	// Leaving is how many of the members that go are leaving the cloud themselves.
	Leaving int
	// Due is when the resource of somebody who leaves is deleted.
	Due *time.Time
	// Noted: nothing is sent, and a rehearsal tells so. Tie is the same of what a
	// run would do to the link alone.
	Noted, Tie bool
}

// RankReferences is that of changes that tie resources together; they come after
// all others.
const RankReferences = 3

// The ranks of what is written to directories: groups, then their members, and last what
// goes.
const (
	RankGroups       = 4
	RankGroupMembers = 5
	RankGroupsGo     = 6
)

// Add keeps decisions of a run: planned or, with a code, blocked; or
// noted, where nothing is to be done and a forecast tells so.
func (s Changes) Add(ctx context.Context, run int64, changes []NewChange) error {
	if len(changes) == 0 {
		return nil
	}
	var sides, operations, ranks, states, directories, ids, dns, resources, names, diffs, lookups, codes, answers, kinds, facts, matches, losses, lost, dues, drifts textArray
	for _, c := range changes {
		text, err := json.Marshal(c.Diffs)
		if err != nil {
			return err
		}
		if c.Diffs == nil {
			text = []byte("[]")
		}
		operation, state, rank := string(c.Operation), "planned", "0"
		switch {
		case c.Side == change.Directory:
			rank = strconv.Itoa(c.Rank)
		case c.References:
			rank = strconv.Itoa(RankReferences)
		case c.Kind == entry.Group:
			rank = "2"
		case c.Operation == plan.Create, c.Later:
			rank = "1" // after what may free a login
		}
		if c.Held {
			state = "held"
		}
		if c.Code != "" {
			operation, state = "none", "blocked"
		}
		if c.Noted {
			state = "noted"
		}
		if c.Tie {
			operation, state = "none", "tie"
		}
		sides = append(sides, string(cmp.Or(c.Side, change.Cloud)))
		operations, ranks, states = append(operations, operation), append(ranks, rank), append(states, state)
		directories, ids, dns = append(directories, c.Ref.Directory), append(ids, c.Ref.ID.String()), append(dns, c.DN)
		resources, names, diffs = append(resources, c.ResourceID), append(names, c.Name), append(diffs, string(text))
		lookups = append(lookups, strconv.FormatBool(c.Lookup))
		codes, answers, kinds = append(codes, c.Code), append(answers, c.Detail), append(kinds, string(c.Kind))
		known := []byte{}
		if c.Facts != nil {
			if known, err = json.Marshal(c.Facts); err != nil {
				return err
			}
		}
		facts, matches = append(facts, string(known)), append(matches, c.Rule)
		takes, members := c.losses()
		losses, lost = append(losses, takes), append(lost, strconv.Itoa(members))
		dues, drifts = append(dues, instant(c.Due)), append(drifts, strconv.FormatBool(c.Drift))
	}
	_, err := s.exec(ctx, `INSERT INTO changes (run_id, side, kind, operation, rank, state, directory, entry_id, dn, resource_id, name, diffs, lookup, code, answer, facts, rule, losses, members_lost, due, drift)
		SELECT ?, v, g, o, r, s, d, i, n, x, m, f::jsonb, l, c, a, nullif(b, '')::jsonb, u, string_to_array(w, E'\n'), y, nullif(z, '')::timestamptz, q FROM unnest(?::text[], ?::text[], ?::text[]::smallint[], ?::text[], ?::text[], ?::text[]::uuid[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[]::boolean[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[]::integer[], ?::text[], ?::text[]::boolean[])
		AS t(v, o, r, s, d, i, n, x, m, f, l, c, a, g, b, u, w, y, z, q)`,
		run, sides, operations, ranks, states, directories, ids, dns, resources, names, diffs, lookups, codes, answers, kinds, facts, matches, losses, lost, dues, drifts)
	return err
}

// instant is a time in PostgreSQL's text form, "" for none.
func instant(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.RFC3339Nano)
}

// losses is what the change takes away, a line each, and how many members that are
// still there; what waits with a removal that is held takes nothing by itself.
func (c NewChange) losses() (string, int) {
	if c.Held {
		return "", 0
	}
	members := -c.Leaving
	var lines []string
	for _, diff := range c.Diffs {
		if diff.Target == rules.Members {
			members += len(diff.Removed)
		}
	}
	for _, loss := range plan.Losses(c.Operation, c.Diffs) {
		if loss.Of != plan.LosesMembers || members > 0 {
			lines = append(lines, loss.String())
		}
	}
	return strings.Join(lines, "\n"), max(members, 0)
}

// Change is a change as it is carried out.
type Change struct {
	ID         int64
	RunID      int64
	Side       change.Side
	Kind       entry.Kind
	Operation  string
	State      string
	Rank       int
	Directory  string
	EntryID    string
	DN         string `gorm:"column:dn"`
	ResourceID string
	Name       string
	DiffsJSON  []byte `gorm:"column:diffs"`
	Lookup     bool
	Code       string
	Answer     string
	Facts      []byte
	Losses     textArray `gorm:"type:text[]"` // what it takes away
	Attempts   int
	Sent       *time.Time
	Answered   *time.Time
	Due        *time.Time // when the resource is deleted, of what leaves
	// Drift: it puts back what somebody has changed in the directory, and who and when as
	// far as that tells.
	Drift   bool
	DriftBy string
	DriftAt *time.Time
	// Version and Resource are those of the mirror when it was fetched.
	Resource []byte `gorm:"->"`

	Diffs []change.Diff `gorm:"-"`
}

// Hangs tells whether it waits with a removal that is held, and is decided with that.
func (c Change) Hangs() bool {
	return c.State == "held" && c.Rank == RankReferences && len(c.Losses) == 0
}

// Ref names the change's entry.
func (c Change) Ref() entry.Ref {
	ref, _ := refOf(c.Directory, c.EntryID) // written by AddChanges
	return ref
}

// Next returns up to limit planned changes of one rank of a run that are
// written to the cloud, after the one given.
func (s Changes) Next(ctx context.Context, run int64, rank int, after int64, limit int) ([]Change, error) {
	var changes []Change
	err := s.raw(ctx, `SELECT c.*, r.attributes AS resource FROM changes c LEFT JOIN resources r ON r.id = c.resource_id AND c.resource_id <> ''
		WHERE c.run_id = ? AND c.state = 'planned' AND c.side = 'cloud' AND c.rank = ? AND c.id > ? ORDER BY c.id LIMIT ?`, run, rank, after, limit).Scan(&changes).Error
	if err != nil {
		return nil, err
	}
	return changes, withDiffs(changes)
}

// MarkSent makes it durable that changes are about to be sent.
func (s Changes) MarkSent(ctx context.Context, changes []Change) error {
	_, err := s.exec(ctx, `UPDATE changes SET state = 'sent', sent = now(), attempts = attempts + 1 WHERE id = ANY(?::text[]::bigint[])`, changeIDs(changes))
	return err
}

// Outcome is how a change ended.
type Outcome struct {
	Change     Change
	State      string
	ResourceID string
	Code       string
	Answer     string
}

// SaveOutcomes makes the ends of changes durable, of the sending given where they were sent
// by one.
func (s Changes) SaveOutcomes(ctx context.Context, sending *Sending, outcomes []Outcome) error {
	if len(outcomes) == 0 {
		return nil
	}
	var ids, states, resources, codes, answers textArray
	for _, o := range outcomes {
		ids, states, resources = append(ids, strconv.FormatInt(o.Change.ID, 10)), append(states, o.State), append(resources, o.ResourceID)
		codes, answers = append(codes, o.Code), append(answers, o.Answer)
	}
	sent := ""
	if sending != nil {
		sent = instant(&sending.Sent)
	}
	_, err := s.exec(ctx, `UPDATE changes SET state = s, resource_id = r, code = c, answer = a, answered = now(), sent = coalesce(o.sent, changes.sent), attempts = attempts + CASE WHEN o.sent IS NULL THEN 0 ELSE 1 END
		FROM (SELECT nullif(?, '')::timestamptz AS sent) o, unnest(?::text[]::bigint[], ?::text[], ?::text[], ?::text[], ?::text[]) AS t(i, s, r, c, a) WHERE id = i`, sent, ids, states, resources, codes, answers)
	return err
}

// Parted is a change that was done in part: what of it was done, what the cloud refused,
// and its answer. What is in neither is planned anew.
type Parted struct {
	ID            int64
	Done, Refused []change.Diff
	Code, Answer  string
}

// SaveParts keeps what of changes was done, and what was refused as a change of its own.
func (s Changes) SaveParts(ctx context.Context, parted []Parted) error {
	for _, p := range parted {
		done, err := json.Marshal(p.Done)
		if err != nil {
			return err
		}
		if len(p.Refused) > 0 {
			refused, err := json.Marshal(p.Refused)
			if err != nil {
				return err
			}
			if _, err := s.exec(ctx, `INSERT INTO changes (run_id, side, kind, operation, rank, state, directory, entry_id, dn, resource_id, name, diffs, lookup, code, answer, rule, attempts, sent, answered)
				SELECT run_id, side, kind, 'update', rank, 'failed', directory, entry_id, dn, resource_id, name, ?::jsonb, false, ?, ?, rule, attempts, sent, now() FROM changes WHERE id = ?`,
				string(refused), p.Code, p.Answer, p.ID); err != nil {
				return fmt.Errorf("keep what was refused of change %d: %w", p.ID, err)
			}
		}
		if _, err := s.exec(ctx, `UPDATE changes SET diffs = ?::jsonb WHERE id = ?`, string(done), p.ID); err != nil {
			return fmt.Errorf("keep what was done of change %d: %w", p.ID, err)
		}
	}
	return nil
}

// Forget takes back what a run that writes nothing has planned.
func (s Changes) Forget(ctx context.Context, run int64) error {
	_, err := s.exec(ctx, `DELETE FROM changes WHERE run_id = ?`, run)
	return err
}

// SettleInterrupted finds the changes of a run that were sent and not answered
// before it was interrupted, and that were done: nothing was left to do for them
// when the entry was planned anew.
func (s Changes) SettleInterrupted(ctx context.Context, run int64) error {
	_, err := s.exec(ctx, `UPDATE changes c SET state = 'done', answer = 'done before the run was interrupted', answered = now(),
			resource_id = coalesce(nullif(c.resource_id, ''), (SELECT l.resource_id FROM links l WHERE l.directory = c.directory AND l.entry_id = c.entry_id), '')
		WHERE c.run_id = ? AND c.side = 'cloud' AND c.state = 'superseded' AND c.sent IS NOT NULL AND c.answered IS NULL
			AND NOT EXISTS (SELECT FROM changes n WHERE n.run_id = c.run_id AND n.directory = c.directory AND n.entry_id = c.entry_id AND n.id > c.id AND n.rank >= c.rank)
			AND NOT EXISTS (SELECT FROM dirty d WHERE d.directory = c.directory AND d.entry_id = c.entry_id)
			AND (c.operation NOT IN ('create', 'adopt') OR EXISTS (SELECT FROM links l WHERE l.directory = c.directory AND l.entry_id = c.entry_id))`, run)
	return err
}

// SupersedeOpen ends the changes of a run that were not carried out and puts
// their entries back into the dirty set, to be planned anew.
func (s Changes) SupersedeOpen(ctx context.Context, run int64) error {
	if err := s.settleSendings(ctx, `run_id = ?`, run); err != nil {
		return err
	}
	_, err := s.exec(ctx, `
		WITH open AS (
			SELECT id, directory, entry_id, state, side, resource_id FROM changes WHERE run_id = ? AND state IN ('planned', 'sent') FOR UPDATE
		), ended AS (
			UPDATE changes SET state = 'superseded', answer = 'the run was interrupted; the change was planned anew' FROM open WHERE changes.id = open.id
		), groups AS (
			INSERT INTO dirty_cloud_groups (directory, resource_id, members) SELECT DISTINCT directory, resource_id, true FROM open WHERE side = 'directory'
			ON CONFLICT (directory, resource_id) DO UPDATE SET members = true
		)
		INSERT INTO dirty (directory, entry_id, lookup) SELECT directory, entry_id, bool_or(state = 'sent') FROM open WHERE side = 'cloud' GROUP BY directory, entry_id
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0, lookup = dirty.lookup OR excluded.lookup`, run)
	if err == nil {
		_, err = s.exec(ctx, `INSERT INTO dirty_references (directory, entry_id) SELECT DISTINCT directory, entry_id FROM changes
			WHERE run_id = ? AND rank = 3 AND state = 'superseded' ON CONFLICT DO NOTHING`, run)
	}
	return err
}

// ToSend is how many changes of a rank and an operation are to be sent.
type ToSend struct {
	Rank      int
	Operation string
	Count     int
}

// ToSend counts what a run would send to the cloud.
func (s Changes) ToSend(ctx context.Context, run int64) ([]ToSend, error) {
	var counted []ToSend
	err := s.raw(ctx, `SELECT rank, operation, count(*) AS count FROM changes WHERE run_id = ? AND state = 'planned' AND side = 'cloud' AND operation <> 'leave' GROUP BY 1, 2`, run).Scan(&counted).Error
	return counted, err
}

// Supersede ends what a run has planned for entries, of which another that came in between
// decides anew. What ties them to others stays.
func (s Changes) Supersede(ctx context.Context, run int64, refs []entry.Ref, by int64) error {
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `UPDATE changes c SET state = 'superseded', answer = ? FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		WHERE c.directory = d AND c.entry_id = i AND c.run_id = ? AND c.state = 'planned' AND c.side = 'cloud' AND c.rank < ?`,
		fmt.Sprintf("run %d came in between and planned it anew", by), directories, ids, run, RankReferences)
	if err != nil {
		err = fmt.Errorf("end what run %d has planned: %w", run, err)
	}
	return err
}

// HoldRemovals holds the suspensions of a run that were not held in the run
// that is being released. With again, the next run plans them again, and what
// hangs on them is held too until then.
func (s Changes) HoldRemovals(ctx context.Context, run int64, again bool) error {
	_, err := s.exec(ctx, `
		WITH held AS (
			UPDATE changes c SET state = 'held' WHERE c.run_id = ? AND c.state = 'planned' AND `+removesNow+` AND NOT EXISTS
				(SELECT FROM changes h JOIN runs u ON u.id = ? WHERE h.run_id = u.releases AND h.state = 'held' AND h.operation IN ('suspend', 'leave', 'delete') AND h.directory = c.directory AND h.entry_id = c.entry_id AND (coalesce(u.released_only, 'null') IN ('null', '[]') OR u.released_only @> to_jsonb(h.id)))
			RETURNING directory, entry_id
		), kept AS (
			UPDATE links l SET held = true FROM held h WHERE ? AND l.directory = h.directory AND l.entry_id = h.entry_id
		)
		INSERT INTO dirty (directory, entry_id, state) SELECT directory, entry_id, 2 FROM held WHERE ?
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 2`, run, run, again, again)
	return err
}

// Unhold ends what is held or kept of entries, since the plan decides about them anew.
func (s Changes) Unhold(ctx context.Context, refs []entry.Ref) error {
	var any bool
	if err := s.raw(ctx, `SELECT EXISTS (SELECT FROM links WHERE held) OR EXISTS (SELECT FROM links WHERE kept)`).Scan(&any).Error; err != nil || !any {
		return err
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `UPDATE links l SET held = false, kept = false FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE (l.held OR l.kept) AND l.directory = d AND l.entry_id = i`, directories, ids)
	return err
}

// HeldResources tells which resources have a removal that is held: by the links,
// or in a rehearsal, which decides anew about all of them or about the one given,
// by its own changes.
func (s Changes) HeldResources(ctx context.Context, rehearsal int64, except *entry.Ref, ids []string) (map[string]bool, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	links, where, subject := rehearsal == 0, "", entry.Ref{}
	if except != nil {
		links, where, subject = true, "AND NOT (directory = @directory AND entry_id = (@id)::uuid)", *except
	}
	var found struct{ IDs textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(resource_id), '{}') AS ids FROM (
			SELECT resource_id FROM links WHERE @links AND held AND resource_id = ANY((@ids)::text[]) `+where+`
			UNION SELECT resource_id FROM changes WHERE run_id = @run AND rank < 3 AND state = 'held' AND resource_id = ANY((@ids)::text[])
		) h`, map[string]any{"links": links, "ids": textArray(ids), "run": rehearsal, "directory": subject.Directory, "id": subject.ID.String()}).Scan(&found).Error
	held := map[string]bool{}
	for _, id := range found.IDs {
		held[id] = true
	}
	return held, err
}

// DropHeld drops what a run holds of the members and references of entries, so
// that a later pass of it says so once.
func (s Changes) DropHeld(ctx context.Context, run int64, refs []entry.Ref) error {
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `DELETE FROM changes c USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		WHERE c.run_id = ? AND c.rank = 3 AND c.state = 'held' AND c.directory = d AND c.entry_id = i`, directories, ids, run)
	return err
}

// Doubt is a creation of which the outcome is not known.
type Doubt struct {
	Sent time.Time
	// Made: the cloud said that it was done.
	Made bool
}

// Doubts tells for which of the entries a creation was sent, of which it was
// never told what came of it, or that it was done but not as what. One that an
// operator has decided upon since is no doubt any more. The changes given do not
// count.
func (s Changes) Doubts(ctx context.Context, refs []entry.Ref, but []Change) (map[entry.Ref]Doubt, error) {
	directories, ids := refArrays(refs)
	var rows []struct {
		Directory, EntryID string
		Sent               time.Time
		Made               bool
	}
	err := s.raw(ctx, `SELECT c.directory, c.entry_id, min(c.sent) AS sent, bool_or(c.state = 'unconfirmed') AS made
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN changes c ON c.directory = d AND c.entry_id = i
		WHERE c.operation = 'create' AND c.sent IS NOT NULL AND (c.answered IS NULL OR c.state IN ('unconfirmed', 'unanswered')) AND c.id <> ALL(?::text[]::bigint[])
			AND NOT EXISTS (SELECT FROM decisions x WHERE x.directory = d AND x.entry_id = i AND x.action = 'create' AND x.made > c.sent)
		GROUP BY c.directory, c.entry_id`, directories, ids, changeIDs(but)).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look for creations in doubt: %w", err)
	}
	out := map[entry.Ref]Doubt{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		out[ref] = Doubt{row.Sent, row.Made}
	}
	return out, nil
}

// SettleDoubts ends the doubts about entries whose resource was found or made.
func (s Changes) SettleDoubts(ctx context.Context, links []NewLink) error {
	if len(links) == 0 {
		return nil
	}
	refs := make([]entry.Ref, len(links))
	for i, l := range links {
		refs[i] = l.Ref
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `UPDATE changes c SET answered = coalesce(c.answered, now()), state = 'superseded' FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		WHERE c.directory = d AND c.entry_id = i AND c.operation = 'create' AND c.sent IS NOT NULL AND (c.answered IS NULL OR c.state IN ('unconfirmed', 'unanswered'))`, directories, ids)
	return err
}

// UnconfirmedKinds lists the kinds of which the cloud says that it made something
// that has not been found yet.
func (s Changes) UnconfirmedKinds(ctx context.Context) ([]entry.Kind, error) {
	var kinds []entry.Kind
	return kinds, s.raw(ctx, `SELECT DISTINCT c.kind FROM changes c JOIN entries e ON e.directory = c.directory AND e.id = c.entry_id AND e.gone IS NULL
		WHERE c.state = 'unconfirmed' AND NOT EXISTS (SELECT FROM links l WHERE l.directory = c.directory AND l.entry_id = c.entry_id) AND NOT EXISTS (SELECT FROM decisions x WHERE x.directory = c.directory AND x.entry_id = c.entry_id AND x.action = 'create' AND x.made > c.sent)`).Scan(&kinds).Error
}

// CountRemovals counts the planned removals of a run, those that it does not release and
// those that it does.
func (s Changes) CountRemovals(ctx context.Context, run int64) (n, released int, err error) {
	var counted struct{ N, Released int }
	err = s.raw(ctx, `SELECT count(*) FILTER (WHERE NOT released) AS n, count(*) FILTER (WHERE released) AS released FROM (SELECT EXISTS
		(SELECT FROM changes h JOIN runs u ON u.id = ? WHERE h.run_id = u.releases AND h.state = 'held' AND h.operation IN ('suspend', 'leave', 'delete') AND h.directory = c.directory AND h.entry_id = c.entry_id AND (coalesce(u.released_only, 'null') IN ('null', '[]') OR u.released_only @> to_jsonb(h.id))) AS released
		FROM changes c WHERE c.run_id = ? AND c.state = 'planned' AND `+removesNow+`) c`, run, run).Scan(&counted).Error
	return counted.N, counted.Released, err
}

// took chooses changes c of runs u that took something away by themselves since a time,
// and not since an operator released all that was held, or undid something; and those
// that the run around has let through and not written yet.
func took(around int64) string {
	when := `c.state = 'done' AND c.answered >= @since`
	if around != 0 {
		when = `(` + when + ` OR c.run_id = @around AND c.state IN ('planned', 'sent'))`
	}
	return when + ` AND (c.losses <> '{}' OR c.operation IN ('suspend', 'leave', 'delete')) AND NOT ` + decides
}

// RemovedSince counts those whom runs have taken out of the cloud since a time, who have
// not come back and whom the run given does not take away once more. With side
// "directory" it counts groups of the cloud that left directories.
func (s Changes) RemovedSince(ctx context.Context, run, around int64, side change.Side, since time.Time) (int, error) {
	var n int
	err := s.raw(ctx, `SELECT count(DISTINCT (c.directory, c.entry_id, c.resource_id)) FROM changes c JOIN runs u ON u.id = c.run_id
		WHERE `+took(around)+` AND c.side = @side AND `+removesNow+`
			AND (c.state <> 'done' OR NOT EXISTS (SELECT FROM links l WHERE l.directory = c.directory AND l.entry_id = c.entry_id AND l.left_at IS NULL))
			AND NOT EXISTS (SELECT FROM changes p WHERE p.run_id = @run AND p.directory = c.directory AND p.entry_id = c.entry_id AND p.resource_id = c.resource_id AND p.state = 'planned')`,
		map[string]any{"since": since, "side": string(side), "run": run, "around": around}).Scan(&n).Error
	if err != nil {
		err = fmt.Errorf("count what went before: %w", err)
	}
	return n, err
}

// Count counts the changes of a run by operation and state; altered are
// those that were done, and of which the cloud made something else; hanging are
// single values that hang on what is held.
func (s Changes) Count(ctx context.Context, run int64) (map[[2]string]int, error) {
	var rows []struct {
		Operation, State string
		N                int
	}
	if err := s.raw(ctx, `SELECT operation, CASE WHEN state = 'done' AND code <> '' THEN 'altered' WHEN state = 'held' AND rank = 3 AND losses = '{}' THEN 'hanging' ELSE state END AS state,
		sum(CASE WHEN state = 'held' AND rank = 3 AND losses = '{}' THEN greatest((SELECT coalesce(sum(greatest(jsonb_array_length(coalesce(d->'removed', '[]')), 1)), 1) FROM jsonb_array_elements(diffs) d), 1) ELSE 1 END) AS n
		FROM changes WHERE run_id = ? GROUP BY 1, 2`, run).Scan(&rows).Error; err != nil {
		return nil, err
	}
	counts := map[[2]string]int{}
	for _, row := range rows {
		counts[[2]string{row.Operation, row.State}] = row.N
	}
	return counts, nil
}

// Tally keeps how much a run has done, for the reports.
func (s Changes) Tally(ctx context.Context, run int64) error {
	_, err := s.exec(ctx, `INSERT INTO run_done SELECT run_id, kind, operation, count(*) FROM changes WHERE run_id = ? AND state = 'done' GROUP BY 1, 2, 3
		ON CONFLICT (run_id, kind, operation) DO UPDATE SET n = excluded.n`, run)
	return err
}

// ChangeQuery chooses changes of a run.
type ChangeQuery struct {
	Run       int64
	Kind      string
	Code      string
	Operation string
	State     string
	Without   string // a state that is left out
	Text      string
	After     int64 // id of the last one seen
	Limit     int
}

// where is what the query asks of a change c of the run, and its arguments.
func (q ChangeQuery) where() (string, map[string]any) {
	where := []string{`c.run_id = @run`}
	and := func(value, condition string) {
		if value != "" {
			where = append(where, condition)
		}
	}
	and(q.Kind, `c.kind = @kind`)
	and(q.Code, `c.code = @code`)
	and(q.Operation, `c.operation = @operation`)
	and(q.Without, `c.state <> @without`)
	if and(q.State, `c.state = @state`); q.State == "" {
		where = append(where, `c.state NOT IN ('superseded', 'tie')`)
	}
	return all(where...), map[string]any{"run": q.Run, "kind": q.Kind, "code": q.Code, "operation": q.Operation, "state": q.State, "without": q.Without,
		"text": strings.ToLower(q.Text), "after": q.After, "limit": q.Limit, "most": MostCounted + 1}
}

// List lists changes of a run in the order in which they were planned, and how many the
// query fits. As with objects, so many are gathered as are counted, and where these are not
// all, the page is found along the numbers.
func (s Changes) List(ctx context.Context, q ChangeQuery) ([]Change, Total, error) {
	where, args := q.where()
	with, from := "", `changes c`
	if q.Text != "" { // the index of the run has names and distinguished names, so that no row is read for it
		with = `named AS MATERIALIZED (SELECT id FROM changes WHERE run_id = @run AND strpos(searched, @text) > 0), `
		from = `named JOIN changes c USING (id)`
	}
	var rows []struct {
		Change
		Total int
	}
	// Behind the end there is a total only.
	if err := s.raw(ctx, `WITH `+with+`gathered AS MATERIALIZED (SELECT c.id FROM `+from+` WHERE `+where+` LIMIT @most),
		counted AS MATERIALIZED (SELECT count(*) AS total FROM gathered),
		page AS MATERIALIZED ((SELECT id FROM gathered WHERE id > @after AND (SELECT total FROM counted) < @most ORDER BY id LIMIT @limit)
			UNION ALL (SELECT c.id FROM `+from+` WHERE `+where+` AND c.id > @after AND (SELECT total FROM counted) >= @most ORDER BY c.id LIMIT @limit))
		SELECT c.*, total FROM counted LEFT JOIN page ON true LEFT JOIN changes c ON c.id = page.id ORDER BY c.id`, args).Scan(&rows).Error; err != nil {
		return nil, Total{}, err
	}
	page := make([]Change, 0, len(rows))
	for _, row := range rows {
		if row.ID != 0 {
			page = append(page, row.Change)
		}
	}
	return page, totalOf(rows[0].Total, MostCounted), withDiffs(page)
}

// OfEntry lists the latest changes of one entry, the newest first. Those of
// rehearsals are left out.
func (s Changes) OfEntry(ctx context.Context, ref entry.Ref, limit int) ([]Change, error) {
	var rows []Change
	err := s.raw(ctx, `SELECT c.* FROM changes c JOIN runs u ON u.id = c.run_id WHERE c.directory = ? AND c.entry_id = ? AND u.`+writing+`
		AND c.state <> 'superseded' ORDER BY c.id DESC LIMIT ?`, ref.Directory, ref.ID.String(), limit).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return rows, withDiffs(rows)
}

// withDiffs reads what each change changes.
func withDiffs(changes []Change) error {
	for i := range changes {
		if err := jsonv2.Unmarshal(changes[i].DiffsJSON, &changes[i].Diffs); err != nil {
			return fmt.Errorf("change %d: %w", changes[i].ID, err)
		}
	}
	return nil
}

func changeIDs(changes []Change) textArray {
	ids := make(textArray, len(changes))
	for i, c := range changes {
		ids[i] = strconv.FormatInt(c.ID, 10)
	}
	return ids
}

// Done returns up to limit changes of a run that were carried out, after the one given.
func (s Changes) Done(ctx context.Context, run, after int64, limit int) ([]Change, error) {
	var changes []Change
	if err := s.raw(ctx, `SELECT * FROM changes WHERE run_id = ? AND state = 'done' AND id > ? ORDER BY id LIMIT ?`, run, after, limit).Scan(&changes).Error; err != nil {
		return nil, err
	}
	return changes, withDiffs(changes)
}

// Since lists what runs after one have done to entries, the latest last.
func (s Changes) Since(ctx context.Context, run int64, refs []entry.Ref) ([]Change, error) {
	directories, ids := refArrays(refs)
	var changes []Change
	if err := s.raw(ctx, `SELECT c.* FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN changes c ON c.directory = d AND c.entry_id = i
		WHERE c.run_id > ? AND c.state = 'done' AND c.side = 'cloud' ORDER BY c.id`, directories, ids, run).Scan(&changes).Error; err != nil {
		return nil, err
	}
	return changes, withDiffs(changes)
}
