package store

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Digests are of whose password the cloud has a digest. The digest itself is never kept.
type Digests struct{ *session }

// DigestRound is how the rounds of a directory stand.
type DigestRound struct {
	Directory string `gorm:"primaryKey"`
	Since     string // the highest mark that was told
	Ended     *time.Time
	Failing   *time.Time
	Failure   string
	PausedBy  string
	Rate      float64 // digests a second, of the last round
}

// Round returns how they stand.
func (s Digests) Round(ctx context.Context, directory string) (DigestRound, error) {
	round := DigestRound{Directory: directory}
	err := s.with(ctx).Where("directory = ?", directory).Take(&round).Error
	if NotFound(err) {
		return round, nil
	}
	return round, err
}

// SaveRound keeps what a round has come to; pausing is left as it is.
func (s Digests) SaveRound(ctx context.Context, r DigestRound) error {
	_, err := s.exec(ctx, `INSERT INTO digest_rounds (directory, since, ended, failing, failure, rate) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (directory) DO UPDATE SET since = excluded.since, ended = excluded.ended, failing = excluded.failing, failure = excluded.failure, rate = excluded.rate`,
		r.Directory, r.Since, r.Ended, r.Failing, r.Failure, r.Rate)
	if err != nil {
		return fmt.Errorf("keep how the digests of %s stand: %w", r.Directory, err)
	}
	return s.Notify(ctx, Event{Kind: "digest"})
}

// Pause lets no more rounds of a directory begin, or again for by = "".
func (s Digests) Pause(ctx context.Context, directory, by string) error {
	if _, err := s.exec(ctx, `INSERT INTO digest_rounds (directory, paused_by) VALUES (?, ?) ON CONFLICT (directory) DO UPDATE SET paused_by = excluded.paused_by`, directory, by); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "resumed"})
}

// Marked is whose password was set when.
type Marked struct {
	ID   entry.ID
	Mark string
}

// Mark keeps when passwords were set; what the cloud refused before was of another one.
func (s Digests) Mark(ctx context.Context, directory string, marked []Marked) error {
	if len(marked) == 0 {
		return nil
	}
	var ids, marks textArray
	for _, m := range marked {
		ids, marks = append(ids, m.ID.String()), append(marks, m.Mark)
	}
	_, err := s.exec(ctx, `INSERT INTO password_digests (directory, entry_id, mark) SELECT ?, i, m FROM unnest(?::text[]::uuid[], ?::text[]) AS t(i, m)
		ON CONFLICT (directory, entry_id) DO UPDATE SET mark = excluded.mark, fault = '', changed = CASE WHEN password_digests.mark = excluded.mark THEN password_digests.changed ELSE now() END
		WHERE password_digests.mark <> excluded.mark`, directory, ids, marks)
	return err
}

// due is true of people who are linked and in scope and of whose password the cloud has no
// digest, or an old one. Of a stored form of which none can be made it is not tried again
// before the password is set anew.
const due = `FROM links l JOIN password_digests d ON d.directory = l.directory AND d.entry_id = l.entry_id
	WHERE l.directory = @directory AND l.kind = 'user' AND l.left_at IS NULL AND (d.sent <> d.mark OR d.resource_id <> l.resource_id)`

// tried is true of those whose digest the cloud has refused just now: what it says may be
// over by the next round.
const tried = `d.fault <> '' AND d.sent_at > now() - interval '1 minute'`

// Due are some of those.
func (s Digests) Due(ctx context.Context, directory string, limit int) ([]entry.ID, error) {
	var texts []string
	if err := s.raw(ctx, `SELECT d.entry_id::text `+due+` AND NOT (`+tried+`) ORDER BY d.changed DESC, d.entry_id LIMIT @limit`, map[string]any{"directory": directory, "limit": limit}).Scan(&texts).Error; err != nil {
		return nil, err
	}
	ids := make([]entry.ID, len(texts))
	for i, text := range texts {
		id, err := entry.NewID(text)
		if err != nil {
			return nil, err
		}
		ids[i] = id
	}
	return ids, nil
}

// DigestCounts is how a directory's digests stand.
type DigestCounts struct {
	Have   int        // of so many people the cloud has the digest of the password as it is
	Due    int        // of so many it has none yet, or an old one
	Faulty int        // of so many none can be made
	Oldest *time.Time // since when the oldest of those that are due waits
}

// Counts counts them.
func (s Digests) Counts(ctx context.Context, directory string) (DigestCounts, error) {
	var c DigestCounts
	err := s.raw(ctx, `SELECT (SELECT count(*) FROM password_digests d JOIN links l USING (directory, entry_id) WHERE d.directory = @directory AND d.sent = d.mark AND d.fault = '' AND l.left_at IS NULL) AS have,
		(SELECT count(*) FROM password_digests d JOIN links l USING (directory, entry_id) WHERE d.directory = @directory AND d.fault <> '' AND l.left_at IS NULL) AS faulty, w.due, w.oldest
		FROM (SELECT count(*) AS due, min(d.changed) AS oldest `+due+`) AS w`,
		map[string]any{"directory": directory}).Scan(&c).Error
	return c, err
}

// LinkOf is the resource of somebody whose digest may go to the cloud now, "" for nobody's.
func (s Digests) LinkOf(ctx context.Context, ref entry.Ref) (string, error) {
	var resource string
	return resource, s.raw(ctx, `SELECT resource_id FROM links WHERE directory = ? AND entry_id = ? AND kind = 'user' AND left_at IS NULL`, ref.Directory, ref.ID.String()).Scan(&resource).Error
}

// DigestFault is why of so many people no digest can be made, or the cloud takes none.
type DigestFault struct {
	Fault string
	Count int
}

// Faults lists those, the most frequent first.
func (s Digests) Faults(ctx context.Context, directory string, limit int) ([]DigestFault, error) {
	var list []DigestFault
	return list, s.raw(ctx, `SELECT d.fault, count(*) AS count FROM password_digests d JOIN links l USING (directory, entry_id) WHERE d.directory = ? AND d.fault <> '' AND l.left_at IS NULL
		GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT ?`, directory, limit).Scan(&list).Error
}

// Refused notes that the cloud did not take a digest; it is tried again later.
func (s Digests) Refused(ctx context.Context, ref entry.Ref, fault string) error {
	_, err := s.exec(ctx, `UPDATE password_digests SET fault = ?, sent_at = now() WHERE directory = ? AND entry_id = ?`, fault, ref.Directory, ref.ID.String())
	return err
}

// Sent notes of which mark the cloud has the digest, or why none can be made of it.
func (s Digests) Sent(ctx context.Context, ref entry.Ref, mark, resource, fault string) error {
	// It may have been set again since it was asked whose was: then this mark is the newer one.
	_, err := s.exec(ctx, `UPDATE password_digests SET mark = ?, sent = ?, resource_id = ?, fault = ?, sent_at = now() WHERE directory = ? AND entry_id = ?`, mark, mark, resource, fault, ref.Directory, ref.ID.String())
	return err
}

// Withdrawable are resources of which the cloud has a digest that it should not have: of
// people who left or are not linked any more, and of directories other than those given.
type Withdrawable struct {
	Directory, EntryID, ResourceID string
	// Replaced: the cloud has another one for the resource, of another entry of the person.
	Replaced bool
}

// Withdrawable lists some.
func (s Digests) Withdrawable(ctx context.Context, directories []string, limit int) ([]Withdrawable, error) {
	var list []Withdrawable
	return list, s.raw(ctx, `SELECT d.directory, d.entry_id::text AS entry_id, d.resource_id,
		EXISTS (SELECT FROM password_digests o JOIN links l USING (directory, entry_id) WHERE o.resource_id = d.resource_id AND l.resource_id = d.resource_id AND o.entry_id <> d.entry_id AND o.sent <> '' AND o.fault = '') AS replaced
		FROM password_digests d WHERE d.sent <> '' AND d.fault = ''
		AND (NOT d.directory = ANY(?::text[]) OR NOT EXISTS (SELECT FROM links l WHERE l.directory = d.directory AND l.entry_id = d.entry_id AND l.left_at IS NULL)) LIMIT ?`,
		textArray(directories), limit).Scan(&list).Error
}

// Forget drops what is known of somebody's digest.
func (s Digests) Forget(ctx context.Context, directory, id string) error {
	_, err := s.exec(ctx, `DELETE FROM password_digests WHERE directory = ? AND entry_id = ?`, directory, id)
	return err
}

// Unanswered notes of those who were asked for and of whom nothing came that none can be made,
// until their password is set anew.
func (s Digests) Unanswered(ctx context.Context, directory string, ids []entry.ID, asked time.Time) error {
	_, err := s.exec(ctx, `UPDATE password_digests d SET fault = 'the agent did not find this person in the directory', sent = d.mark, resource_id = l.resource_id
		FROM links l WHERE l.directory = d.directory AND l.entry_id = d.entry_id AND d.directory = ? AND d.entry_id = ANY(?::text[]::uuid[]) AND (d.sent <> d.mark OR d.resource_id <> l.resource_id)
		AND (d.sent_at IS NULL OR d.sent_at < ?)`, directory, idArray(ids), asked)
	return err
}
