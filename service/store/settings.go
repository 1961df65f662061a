package store

import (
	"context"
	"encoding/json"
	"time"

	"kambrel.example/kambrel/core/settings"
)

// Settings are the revisions, one of which is active, and the draft.
type Settings struct{ *session }

// Revision is an activated settings document.
type Revision struct {
	Revision  int               `gorm:"primaryKey;autoIncrement"`
	Document  settings.Document `gorm:"serializer:json;type:jsonb"`
	By        string
	Note      string
	Activated time.Time
}

// TableName is the table of revisions.
func (Revision) TableName() string { return "settings_revisions" }

// Active returns the newest revision; false when there is none.
func (s Settings) Active(ctx context.Context) (Revision, bool, error) {
	var r Revision
	err := s.with(ctx).Order("revision DESC").Take(&r).Error
	if NotFound(err) {
		return Revision{}, false, nil
	}
	return r, err == nil, err
}

// Revision returns one revision.
func (s Settings) Revision(ctx context.Context, revision int) (Revision, error) {
	var r Revision
	return r, s.with(ctx).Where("revision = ?", revision).Take(&r).Error
}

// Activate keeps a new revision, makes the next run look at everybody where it may come to
// something else about them than the one before, and tells all services. It must run in a
// transaction.
func (s Settings) Activate(ctx context.Context, r *Revision, alike bool) error {
	r.Activated = time.Now()
	if err := s.with(ctx).Create(r).Error; err != nil {
		return err
	}
	if !alike {
		if err := s.all().Dirty.MarkAll(ctx); err != nil {
			return err
		}
	}
	return s.Notify(ctx, Event{Kind: "settings", ID: int64(r.Revision)})
}

// Lock lets one activation go at a time, until the transaction ends.
func (s Settings) Lock(ctx context.Context) error {
	_, err := s.exec(ctx, `LOCK TABLE settings_revisions IN SHARE ROW EXCLUSIVE MODE`)
	return err
}

// Revisions lists revisions, the newest first, and how many there are.
func (s Settings) Revisions(ctx context.Context, offset, limit int) ([]Revision, int, error) {
	var total int64
	if err := s.with(ctx).Model(&Revision{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	var revisions []Revision
	return revisions, int(total), s.with(ctx).Order("revision DESC").Offset(offset).Limit(limit).Find(&revisions).Error
}

// Draft is the one draft of the settings.
type Draft struct {
	Version  int
	Base     int // the revision it was made from, 0 for none
	Document settings.Document
	By       string
	Changed  time.Time
}

type draftRow struct {
	Version  int
	Base     int
	Document []byte
	By       string
	Changed  time.Time
}

// Draft returns the draft; false when there is none.
func (s Settings) Draft(ctx context.Context) (Draft, bool, error) {
	var row draftRow
	if err := s.raw(ctx, `SELECT version, base, document, by, changed FROM settings_draft`).Scan(&row).Error; err != nil || row.Version == 0 {
		return Draft{}, false, err
	}
	draft := Draft{Version: row.Version, Base: row.Base, By: row.By, Changed: row.Changed}
	return draft, true, json.Unmarshal(row.Document, &draft.Document)
}

// SaveDraft keeps the draft under a new version, ends the rehearsals of the old
// one, and tells all services. It must run in a transaction that holds
// LockSettings.
func (s Settings) SaveDraft(ctx context.Context, draft *Draft) error {
	text, err := json.Marshal(draft.Document)
	if err != nil {
		return err
	}
	draft.Changed = time.Now()
	err = s.raw(ctx, `INSERT INTO settings_draft (version, base, document, by, changed) VALUES (nextval('settings_draft_versions'), ?, ?::jsonb, ?, ?)
		ON CONFLICT (one) DO UPDATE SET version = excluded.version, base = excluded.base, document = excluded.document, by = excluded.by, changed = excluded.changed
		RETURNING version`, draft.Base, string(text), draft.By, draft.Changed).Scan(&draft.Version).Error
	if err != nil {
		return err
	}
	if err := s.all().Runs.CancelOfDrafts(ctx); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "draft", ID: int64(draft.Version)})
}

// DropDraft discards the draft; false when there is none.
func (s Settings) DropDraft(ctx context.Context) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM settings_draft`)
	if err != nil || n == 0 {
		return false, err
	}
	if err := s.all().Runs.CancelOfDrafts(ctx); err != nil {
		return true, err
	}
	return true, s.Notify(ctx, Event{Kind: "draft"})
}

// CurrentDraft returns the draft; where there is none, what a new one would begin
// with, under version 0.
func (s Settings) CurrentDraft(ctx context.Context) (Draft, Revision, error) {
	active, ok, err := s.Active(ctx)
	if err != nil {
		return Draft{}, active, err
	}
	draft, found, err := s.Draft(ctx)
	if err != nil || found {
		return draft, active, err
	}
	if ok {
		return Draft{Base: active.Revision, Document: active.Document}, active, nil
	}
	return Draft{}, active, nil
}
