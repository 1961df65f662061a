package store

import (
	"context"
	"time"

	jsonv2 "github.com/go-json-experiment/json"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
)

// Cases are entries with their links and resources, to decide about.
type Cases struct{ *session }

const subjectColumns = `CASE WHEN e.kind = 'group' THEN (SELECT g.name FROM cloud_groups g WHERE g.directory = e.directory AND g.entry_id = e.id) END AS cloud_group, e.directory, e.id, e.kind, e.dn, e.attributes, e.gone, e.fault, l.resource_id, coalesce(l.link_key, '') AS link_key, l.left_at, l.due, r.attributes AS resource, r.forms,
	CASE WHEN EXISTS (SELECT FROM kept) THEN (SELECT jsonb_agg(jsonb_build_object('Loss', k.loss, 'Member', k.member, 'Cause', k.cause, 'By', k.by, 'Reason', k.reason, 'Made', k.made)) FROM kept k WHERE k.directory = e.directory AND k.entry_id = e.id) END AS kept,
	CASE WHEN EXISTS (SELECT FROM pins) THEN (SELECT jsonb_agg(jsonb_build_object('Target', n.target, 'Element', n.element, 'Value', n.value, 'Run', n.run_id, 'By', n.by, 'Made', n.made)) FROM pins n WHERE n.directory = e.directory AND n.entry_id = e.id) END AS pins`

// subjectJoins looks each row's link and resource up by index, whatever the
// planner thinks of the tables' sizes: a hash of all links for every page would
// make the work grow with the square of the directory.
const subjectJoins = `LEFT JOIN LATERAL (SELECT id, resource_id, link_key, left_at, due FROM links WHERE directory = e.directory AND entry_id = e.id LIMIT 1) l ON true
	LEFT JOIN LATERAL (SELECT attributes, forms FROM resources WHERE id = l.resource_id LIMIT 1) r ON true`

// SubjectRow is exported since GORM reads embedded rows only then.
type SubjectRow struct {
	EntryRow
	Lookup     bool
	ResourceID *string
	LinkKey    string
	LeftAt     *time.Time
	Due        *time.Time
	Resource   []byte
	Kept       []byte
	Pins       []byte
	Forms      []byte
	CloudGroup *string
}

func (r SubjectRow) subject() (decide.Case, error) {
	d := decide.Case{Lookup: r.Lookup, LinkKey: r.LinkKey}
	var err error
	if d.Entry, err = r.entry(); err != nil {
		return d, err
	}
	if r.CloudGroup != nil {
		d.Entry.CloudGroup = *r.CloudGroup
	}
	if r.ResourceID != nil {
		d.Link = &plan.Link{ResourceID: *r.ResourceID, Left: r.LeftAt != nil, Due: r.Due}
		d.LeftAt = r.LeftAt
	}
	if r.Kept != nil {
		if err = jsonv2.Unmarshal(r.Kept, &d.Kept); err != nil {
			return d, err
		}
	}
	if r.Pins != nil {
		if err = jsonv2.Unmarshal(r.Pins, &d.Pins); err != nil {
			return d, err
		}
	}
	if r.Forms != nil {
		if err = jsonv2.Unmarshal(r.Forms, &d.Forms); err != nil {
			return d, err
		}
	}
	if r.Resource != nil {
		err = jsonv2.Unmarshal(r.Resource, &d.Resource)
	}
	return d, err
}

func subjects(rows []SubjectRow) ([]decide.Case, error) {
	out := make([]decide.Case, len(rows))
	for i, row := range rows {
		var err error
		if out[i], err = row.subject(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Page returns up to limit entries, in their order after the one given, that
// have a link, or that have none and are still there; and the last of them, or the
// zero Ref where there is nobody more.
func (s Cases) Page(ctx context.Context, linked bool, after entry.Ref, limit int) ([]decide.Case, entry.Ref, error) {
	which := `EXISTS (SELECT FROM links x WHERE x.directory = entries.directory AND x.entry_id = entries.id)`
	if !linked {
		which = `gone IS NULL AND NOT ` + which
	}
	// The page is cut before the joins, so that they look up a page's rows only.
	var rows []SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM (
			SELECT directory, id, kind, dn, attributes, gone, fault FROM entries WHERE kind <> 'container' AND (directory, id) > (?, ?) AND `+which+` ORDER BY directory, id LIMIT ?
		) e `+subjectJoins+` ORDER BY e.directory, e.id`, after.Directory, after.ID.String(), limit).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, entry.Ref{}, err
	}
	out, err := subjects(rows)
	if err != nil || len(rows) < limit {
		return out, entry.Ref{}, err
	}
	return out, out[len(out)-1].Entry.Ref(), nil
}

// Get returns one entry with its link and resource, dirty or not.
func (s Cases) Get(ctx context.Context, ref entry.Ref) (decide.Case, error) {
	var row SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM entries e `+subjectJoins+` WHERE e.directory = ? AND e.id = ?`, ref.Directory, ref.ID.String()).Scan(&row).Error
	if err != nil {
		return decide.Case{}, err
	}
	if row.ID == "" {
		return decide.Case{}, ErrNotFound
	}
	return row.subject()
}

// Of returns entries with their links and resources.
func (s Cases) Of(ctx context.Context, refs []entry.Ref) ([]decide.Case, error) {
	directories, ids := refArrays(refs)
	var rows []SubjectRow
	err := s.raw(ctx, `SELECT false AS lookup, `+subjectColumns+` FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN entries e ON e.directory = d AND e.id = i `+subjectJoins, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return subjects(rows)
}
