package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Operators are who may use the interface: people, their sessions, and tokens.
type Operators struct{ *session }

// Operator is a person who signs in.
type Operator struct {
	Name         string `gorm:"primaryKey"`
	PasswordHash string
	Role         string
	Created      time.Time
	Emergency    bool // everybody is told when it is used
	// SecondFactor is sealed by the password, none without one; SecondFactorStep is the last
	// step of time that was used of it.
	SecondFactor     []byte
	SecondFactorStep int64
}

// List lists all operators by name.
func (s Operators) List(ctx context.Context) ([]Operator, error) {
	var operators []Operator
	return operators, s.with(ctx).Order("name").Find(&operators).Error
}

// Get returns one operator.
func (s Operators) Get(ctx context.Context, name string) (Operator, error) {
	var operator Operator
	return operator, s.with(ctx).Where("name = ?", name).Take(&operator).Error
}

// Add keeps a new operator.
func (s Operators) Add(ctx context.Context, operator *Operator) error {
	operator.Created = time.Now()
	return s.with(ctx).Create(operator).Error
}

// Token is a session or a token; the secret itself is not kept.
type Token struct {
	ID        string `gorm:"primaryKey"`
	Hash      []byte
	Kind      string // session or token
	Name      string
	Role      string
	CreatedBy string
	Created   time.Time
	Expires   time.Time
	Purpose   string
	Used      *time.Time // to the minute
	UsedFrom  string     // the address
	// Of a session by a directory: whose it is, and when an agent said last that all is so.
	Directory string
	EntryID   *string
	Confirmed *time.Time
	// SecondFactor: the operator of the session has one.
	SecondFactor bool `gorm:"->"`
}

// ByDirectory tells whether it is a session of somebody whom a directory vouches for.
func (t Token) ByDirectory() bool { return t.Directory != "" }

// AddToken keeps a token.
func (s Operators) AddToken(ctx context.Context, token *Token) error {
	token.Created = time.Now()
	return s.with(ctx).Create(token).Error
}

// valid are the tokens t that have not ended, with the operators o of local sessions. The role
// of such a session is the one that its operator has now.
const valid = `SELECT t.*, CASE WHEN t.kind = 'session' AND t.directory = '' THEN o.role ELSE t.role END AS role, o.second_factor IS NOT NULL AS second_factor
	FROM tokens t LEFT JOIN operators o ON o.name = t.name AND t.directory = '' WHERE t.expires > now() AND (t.kind <> 'session' OR t.directory <> '' OR o.name IS NOT NULL)`

// TokenBySecret returns the token a secret belongs to, if it is still valid.
func (s Operators) TokenBySecret(ctx context.Context, secret string) (Token, error) {
	return s.token(ctx, `t.hash = ?`, HashSecret(secret))
}

// TokenByID returns a token or session, if it is still valid.
func (s Operators) TokenByID(ctx context.Context, id string) (Token, error) {
	return s.token(ctx, `t.id = ?`, id)
}

func (s Operators) token(ctx context.Context, where string, arg any) (Token, error) {
	var tokens []Token
	err := s.raw(ctx, valid+` AND `+where, arg).Scan(&tokens).Error
	if err == nil && len(tokens) == 0 {
		err = gorm.ErrRecordNotFound
	}
	if err != nil {
		return Token{}, err
	}
	return tokens[0], nil
}

// Confirm notes that a directory has said what a session may, from the time on at which it was
// asked.
func (s Operators) Confirm(ctx context.Context, token Token, role string, asked time.Time) error {
	_, err := s.exec(ctx, `UPDATE tokens SET role = ?, confirmed = ? WHERE id = ?`, role, asked, token.ID)
	return err
}

// usedEvery is how exactly it is known when a token was used last.
const usedEvery = time.Minute

// Use notes that a token was used, and from where, where that is not known to the minute. One
// that two hosts use shows the one that was first in a minute.
func (s Operators) Use(ctx context.Context, token Token, address string) error {
	if token.Used != nil && time.Since(*token.Used) < usedEvery {
		return nil
	}
	_, err := s.exec(ctx, `UPDATE tokens SET used = now(), used_from = ? WHERE id = ?`, address, token.ID)
	return err
}

// Tokens lists tokens, without sessions.
func (s Operators) Tokens(ctx context.Context) ([]Token, error) {
	var tokens []Token
	return tokens, s.with(ctx).Where("kind = 'token'").Order("created").Find(&tokens).Error
}

// Sessions lists the sessions that have not ended, the last used first.
func (s Operators) Sessions(ctx context.Context) ([]Token, error) {
	var sessions []Token
	return sessions, s.raw(ctx, valid+` AND t.kind = 'session' ORDER BY coalesce(t.used, t.created) DESC, t.id`).Scan(&sessions).Error
}

// SetRole gives an operator another role; false when there is nobody of the name.
func (s Operators) SetRole(ctx context.Context, name, role string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET role = ? WHERE name = ?`, role, name)
	if err == nil {
		err = s.Notify(ctx, Event{Kind: EventToken})
	}
	return n == 1, err
}

// DropToken ends a token or a session; false when there is none.
func (s Operators) DropToken(ctx context.Context, id string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM tokens WHERE id = ?`, id)
	if err == nil {
		err = s.Notify(ctx, Event{Kind: EventToken})
	}
	return n == 1, err
}

// DropSessions ends all sessions of an operator but one.
func (s Operators) DropSessions(ctx context.Context, name, but string) error {
	if _, err := s.exec(ctx, `DELETE FROM tokens WHERE kind = 'session' AND name = ? AND id::text <> ?`, name, but); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: EventToken})
}

// SetPassword keeps the hash of an operator's new password, and the second factor sealed by
// it, nil for none; false when there is no such operator.
func (s Operators) SetPassword(ctx context.Context, name, hash string, factor []byte) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET password_hash = ?, second_factor = ? WHERE name = ?`, hash, factor, name)
	return n == 1, err
}

// SetFactor keeps somebody's second factor, nil for none; false when there is nobody of the name.
func (s Operators) SetFactor(ctx context.Context, name string, factor []byte, step int64) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET second_factor = ?, second_factor_step = ? WHERE name = ?`, factor, step, name)
	return n == 1, err
}

// UseFactor notes that a step of time was used of a second factor; false when it was used
// before, or a later one (RFC 6238 section 5.2).
func (s Operators) UseFactor(ctx context.Context, name string, step int64) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET second_factor_step = ? WHERE name = ? AND second_factor_step < ?`, step, name, step)
	return n == 1, err
}

// OperatorGroup is a group of a directory whose members sign in.
type OperatorGroup struct {
	Directory string
	EntryID   string
	Role      string
	CreatedBy string
	Created   time.Time
	DN        string `gorm:"->"` // as the mirror has it, "" where it does not
	Gone      bool   `gorm:"->"` // the mirror says that it was deleted
}

// Groups lists the groups whose members sign in, of all directories for "".
func (s Operators) Groups(ctx context.Context, directory string) ([]OperatorGroup, error) {
	var groups []OperatorGroup
	return groups, s.raw(ctx, `SELECT g.*, coalesce(e.dn, '') AS dn, e.gone IS NOT NULL AS gone FROM operator_groups g
		LEFT JOIN entries e ON e.directory = g.directory AND e.id = g.entry_id WHERE ? IN ('', g.directory) ORDER BY g.directory, e.dn, g.entry_id`, directory).Scan(&groups).Error
}

// AddGroup lets the members of a group sign in, or as something else than before.
func (s Operators) AddGroup(ctx context.Context, g OperatorGroup) error {
	_, err := s.exec(ctx, `INSERT INTO operator_groups (directory, entry_id, role, created_by) VALUES (?, ?, ?, ?)
		ON CONFLICT (directory, entry_id) DO UPDATE SET role = excluded.role, created_by = excluded.created_by, created = now()`, g.Directory, g.EntryID, g.Role, g.CreatedBy)
	if err != nil {
		return err
	}
	return s.doubt(ctx, g.Directory)
}

// RemoveGroup lets the members of a group sign in no more; false when they do not.
func (s Operators) RemoveGroup(ctx context.Context, directory, id string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM operator_groups WHERE directory = ? AND entry_id = ?`, directory, id)
	if err == nil {
		err = s.doubt(ctx, directory)
	}
	return n == 1, err
}

// doubt lets the sessions of a directory be confirmed with their next request.
func (s Operators) doubt(ctx context.Context, directory string) error {
	_, err := s.exec(ctx, `UPDATE tokens SET confirmed = NULL WHERE kind = 'session' AND directory = ?`, directory)
	return err
}

// Remove removes somebody who signs in, with all sessions; false when
// there is nobody of the name.
func (s Operators) Remove(ctx context.Context, name string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM operators WHERE name = ?`, name)
	if err == nil {
		err = s.DropSessions(ctx, name, "")
	}
	return n == 1, err
}

// skewOfServices is how far the clocks of services on one database may be apart.
const skewOfServices = 5 * time.Minute

// DropExpired takes away what nobody can use any more.
func (s Operators) DropExpired(ctx context.Context) error {
	if _, err := s.exec(ctx, `DELETE FROM tokens WHERE expires < now()`); err != nil {
		return err
	}
	if _, err := s.exec(ctx, `DELETE FROM agent_signatures WHERE expires < ?`, time.Now().Add(-skewOfServices)); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM enrolments WHERE expires < now() - interval '1 day'`)
	return err
}
