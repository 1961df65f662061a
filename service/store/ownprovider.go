package store

import (
	"context"
	"crypto/sha256"
	"time"
)

// OwnProvider is Kambrel's own identity provider: its keys, and who has signed in there.
type OwnProvider struct{ *session }

// OwnKey is a key by which assertions are signed.
type OwnKey struct {
	ID          int64  `gorm:"primaryKey;default:null"`
	State       string // OwnCurrent, OwnNext or OwnFormer
	Base        string // URL beneath which the provider is found, for good: it is named by it
	Certificate []byte // X.509, DER
	Key         []byte // PKCS #8 in PEM, sealed by a key of the service's host
	Made        time.Time
	Until       time.Time
	Changed     time.Time
}

// The states of a key: the next is told before anything is signed by it, and a former one a
// while after.
const (
	OwnCurrent = "current"
	OwnNext    = "next"
	OwnFormer  = "former"
)

// Keys lists them, the current one first, then the next, then former ones.
func (s OwnProvider) Keys(ctx context.Context) ([]OwnKey, error) {
	var keys []OwnKey
	return keys, s.with(ctx).Order("CASE state WHEN 'current' THEN 0 WHEN 'next' THEN 1 ELSE 2 END, id DESC").Find(&keys).Error
}

// AddKey keeps a new one.
func (s OwnProvider) AddKey(ctx context.Context, key *OwnKey) error {
	key.Made, key.Changed = time.Now(), time.Now()
	return s.with(ctx).Create(key).Error
}

// Promote makes the next key the current one.
func (s OwnProvider) Promote(ctx context.Context) error {
	if _, err := s.exec(ctx, `UPDATE own_keys SET state = ?, changed = now() WHERE state = ?`, OwnFormer, OwnCurrent); err != nil {
		return err
	}
	_, err := s.exec(ctx, `UPDATE own_keys SET state = ?, changed = now() WHERE state = ?`, OwnCurrent, OwnNext)
	return err
}

// DropFormer forgets former keys that are so for long enough; it tells how many.
func (s OwnProvider) DropFormer(ctx context.Context, before time.Time) (int64, error) {
	return s.exec(ctx, `DELETE FROM own_keys WHERE state = ? AND changed < ?`, OwnFormer, before)
}

// OwnSession is a session at the own provider.
type OwnSession struct {
	ID        []byte `gorm:"primaryKey"` // the digest of the cookie
	Index     string // as assertions name it
	Resource  string
	Directory string
	EntryID   string `gorm:"type:uuid"`
	By        string // password or ticket
	Began     time.Time
	Confirmed time.Time
	Expires   time.Time
}

func sessionID(cookie string) []byte {
	sum := sha256.Sum256([]byte(cookie))
	return sum[:]
}

// Begin keeps a session under its cookie.
func (s OwnProvider) Begin(ctx context.Context, cookie string, one OwnSession) error {
	one.ID, one.Began, one.Confirmed = sessionID(cookie), time.Now(), time.Now()
	if _, err := s.exec(ctx, `DELETE FROM own_sessions WHERE expires < now()`); err != nil {
		return err
	}
	return s.with(ctx).Create(&one).Error
}

// Session is that of a cookie; false where there is none.
func (s OwnProvider) Session(ctx context.Context, cookie string) (OwnSession, bool, error) {
	var one OwnSession
	err := s.with(ctx).Where("id = ? AND expires > now()", octets(sessionID(cookie))).Take(&one).Error
	if NotFound(err) {
		return one, false, nil
	}
	return one, err == nil, err
}

// Confirm notes that all is still so.
func (s OwnProvider) Confirm(ctx context.Context, one OwnSession) error {
	return s.with(ctx).Model(&OwnSession{}).Where("id = ?", octets(one.ID)).Update("confirmed", time.Now()).Error
}

// End ends the sessions of a person, of one index or, with "", all; it tells how many.
func (s OwnProvider) End(ctx context.Context, resource, index string) (int64, error) {
	return s.exec(ctx, `DELETE FROM own_sessions WHERE resource = ? AND (? = '' OR index = ?)`, resource, index, index)
}
