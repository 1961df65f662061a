package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/rules"
)

// Pins are what operators have put back.
type Pins struct{ *session }

// PinRow is a pin as it is kept.
type PinRow struct {
	Directory, EntryID string
	DN                 string `gorm:"column:dn"`
	Target, Element    string
	Name               string // what people call the element
	Value              []byte
	RunID              int64
	By                 string
	Made               time.Time
}

// Ref names the pin's entry.
func (r PinRow) Ref() (entry.Ref, error) { return refOf(r.Directory, r.EntryID) }

// Pin is what it holds.
func (r PinRow) Pin() (decide.Pin, error) {
	pin := decide.Pin{Target: r.Target, Element: r.Element, Run: r.RunID, By: r.By, Made: r.Made}
	if len(r.Value) == 0 {
		return pin, nil
	}
	return pin, json.Unmarshal(r.Value, &pin.Value)
}

// NewPin is a pin to be kept, and what people call its element.
type NewPin struct {
	Ref  entry.Ref
	Pin  decide.Pin
	Name string
}

// Add keeps pins, in the place of those about the same, and lets the next plan look at
// their entries.
func (s Pins) Add(ctx context.Context, pins []NewPin) error {
	if len(pins) == 0 {
		return nil
	}
	var directories, ids, targets, elements, names, values, runs, bys textArray
	var refs []entry.Ref
	for _, p := range pins {
		value, err := json.Marshal(p.Pin.Value)
		if err != nil {
			return err
		}
		directories, ids = append(directories, p.Ref.Directory), append(ids, p.Ref.ID.String())
		targets, elements, names = append(targets, p.Pin.Target), append(elements, p.Pin.Element), append(names, p.Name)
		values, runs, bys = append(values, string(value)), append(runs, strconv.FormatInt(p.Pin.Run, 10)), append(bys, p.Pin.By)
		refs = append(refs, p.Ref)
	}
	if _, err := s.exec(ctx, `INSERT INTO pins (directory, entry_id, target, element, name, value, run_id, by)
		SELECT DISTINCT ON (d, i, t, e) d, i, t, e, n, v::jsonb, r, b FROM unnest(?::text[], ?::text[]::uuid[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[]::bigint[], ?::text[]) AS x(d, i, t, e, n, v, r, b)
		ON CONFLICT (directory, entry_id, target, element) DO UPDATE SET name = excluded.name, value = excluded.value, run_id = excluded.run_id, by = excluded.by, made = now()`,
		directories, ids, targets, elements, names, values, runs, bys); err != nil {
		return fmt.Errorf("keep what is put back: %w", err)
	}
	return s.look(ctx, refs)
}

// look lets the next plan look at entries, and at what ties them to others.
func (s Pins) look(ctx context.Context, refs []entry.Ref) error {
	refs = slices.Clone(refs)
	slices.SortFunc(refs, entry.Ref.Compare)
	refs = slices.Compact(refs)
	if err := s.all().Dirty.Set(ctx, refs, DirtyNow, false); err != nil {
		return err
	}
	return s.all().References.Mark(ctx, refs)
}

// Drop ends pins that rules and scope agree with.
func (s Pins) Drop(ctx context.Context, lapsed map[entry.Ref][]decide.Pin) error {
	for ref, pins := range lapsed {
		for _, p := range pins {
			if _, err := s.exec(ctx, `DELETE FROM pins WHERE directory = ? AND entry_id = ?::uuid AND target = ? AND element = ? AND run_id = ?`, ref.Directory, ref.ID.String(), p.Target, p.Element, p.Run); err != nil {
				return err
			}
		}
	}
	return nil
}

// Lift ends pins: of an entry, or of a run that was undone, or both; of a target alone
// where one is given. It tells which they were; the next run decides about them again.
func (s Pins) Lift(ctx context.Context, ref *entry.Ref, run int64, target string) ([]PinRow, error) {
	where, args := `(? = 0 OR run_id = ?) AND ? IN ('', target)`, []any{run, run, target}
	if ref != nil {
		where, args = where+` AND directory = ? AND entry_id = ?::uuid`, append(args, ref.Directory, ref.ID.String())
	}
	var rows []PinRow
	if err := s.raw(ctx, `DELETE FROM pins WHERE `+where+` RETURNING *`, args...).Scan(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	refs := make([]entry.Ref, len(rows))
	for i, row := range rows {
		var err error
		if refs[i], err = row.Ref(); err != nil {
			return nil, err
		}
	}
	return rows, s.look(ctx, refs)
}

// Count counts all pins.
func (s Pins) Count(ctx context.Context) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM pins`).Scan(&n).Error
}

// PinQuery chooses pins.
type PinQuery struct {
	Ref           *entry.Ref
	Run           int64 // that was undone
	Offset, Limit int
}

// List lists pins, the newest first, and how many there are.
func (s Pins) List(ctx context.Context, q PinQuery) ([]PinRow, int, error) {
	where, args := ` WHERE (? = 0 OR p.run_id = ?)`, []any{q.Run, q.Run}
	if q.Ref != nil {
		where, args = where+` AND p.directory = ? AND p.entry_id = ?::uuid`, append(args, q.Ref.Directory, q.Ref.ID.String())
	}
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM pins p`+where, args...).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []PinRow
	err := s.raw(ctx, `SELECT p.*, coalesce(e.dn, '') AS dn FROM pins p LEFT JOIN entries e ON e.directory = p.directory AND e.id = p.entry_id`+where+`
		ORDER BY p.made DESC, p.directory, p.entry_id, p.target, p.element OFFSET ? LIMIT ?`, append(args, q.Offset, q.Limit)...).Scan(&rows).Error
	return rows, total, err
}

// TiePin is a pin of a member or of a reference, with how things stand.
type TiePin struct {
	decide.Pin
	ResourceID string // of the group
	Name, Kind string // of the member
	// Has: the group has the member. Wanted: the directory wants it. There: the cloud has
	// the member's resource.
	Has, Wanted, There bool
}

// OfTies tells what of the members and references of entries was put back.
func (s Pins) OfTies(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]TiePin, error) {
	var any bool
	if err := s.raw(ctx, `SELECT EXISTS (SELECT FROM pins)`).Scan(&any).Error; err != nil || !any {
		return nil, err
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		PinRow
		ResourceID, MemberName, MemberKind string
		Has, Wanted, There                 bool
	}
	if err := s.raw(ctx, `SELECT p.directory, p.entry_id, p.target, p.element, p.value, p.run_id, p.by, p.made, coalesce(g.resource_id, '') AS resource_id, coalesce(r.name, p.name) AS member_name, coalesce(r.kind, '') AS member_kind, r.id IS NOT NULL AS there,
			EXISTS (SELECT FROM resource_members rm WHERE rm.group_id = g.resource_id AND rm.member_id = p.element) AS has,
			EXISTS (SELECT FROM ties l JOIN memberships m ON m.directory = l.directory AND m.member_id = l.entry_id WHERE l.resource_id = p.element AND l.left_at IS NULL AND m.directory = p.directory AND m.group_id = p.entry_id) AS wanted
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN pins p ON p.directory = d AND p.entry_id = i
		LEFT JOIN links g ON g.directory = p.directory AND g.entry_id = p.entry_id LEFT JOIN resources r ON r.id = p.element AND lower(p.target) = '`+rules.Members+`'`, directories, ids).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("look what of members was put back: %w", err)
	}
	pins := map[entry.Ref][]TiePin{}
	for _, row := range rows {
		ref, err := row.Ref()
		if err != nil {
			return nil, err
		}
		pin, err := row.Pin()
		if err != nil {
			return nil, err
		}
		pins[ref] = append(pins[ref], TiePin{Pin: pin, ResourceID: row.ResourceID, Name: row.MemberName, Kind: row.MemberKind, Has: row.Has, Wanted: row.Wanted, There: row.There})
	}
	return pins, nil
}
