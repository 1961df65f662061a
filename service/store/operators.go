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
}

// AddToken keeps a token.
func (s Operators) AddToken(ctx context.Context, token *Token) error {
	token.Created = time.Now()
	return s.with(ctx).Create(token).Error
}

// TokenBySecret returns the token a secret belongs to, if it is still valid. The role of a
// session is the one that its operator has now.
func (s Operators) TokenBySecret(ctx context.Context, secret string) (Token, error) {
	var tokens []Token
	err := s.raw(ctx, `SELECT t.*, CASE WHEN t.kind = 'session' THEN o.role ELSE t.role END AS role FROM tokens t LEFT JOIN operators o ON o.name = t.name
		WHERE t.hash = ? AND t.expires > now() AND (t.kind <> 'session' OR o.name IS NOT NULL)`, HashSecret(secret)).Scan(&tokens).Error
	if err == nil && len(tokens) == 0 {
		err = gorm.ErrRecordNotFound
	}
	if err != nil {
		return Token{}, err
	}
	return tokens[0], nil
}

// usedEvery is how exactly it is known when a token was used last.
const usedEvery = time.Minute

// Use notes that a token was used, where that is not known to the minute.
func (s Operators) Use(ctx context.Context, token Token, address string) error {
	if token.Used != nil && time.Since(*token.Used) < usedEvery && token.UsedFrom == address {
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
	return sessions, s.raw(ctx, `SELECT t.*, o.role AS role FROM tokens t JOIN operators o ON o.name = t.name WHERE t.kind = 'session' AND t.expires > now()
		ORDER BY coalesce(t.used, t.created) DESC, t.id`).Scan(&sessions).Error
}

// SetRole gives an operator another role; false when there is nobody of the name.
func (s Operators) SetRole(ctx context.Context, name, role string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET role = ? WHERE name = ?`, role, name)
	if err == nil {
		err = s.Notify(ctx, Event{Kind: EventToken})
	}
	return n == 1, err
}

// TokenValid tells whether a token or session has not ended.
func (s Operators) TokenValid(ctx context.Context, id string) (bool, error) {
	var valid bool
	return valid, s.raw(ctx, `SELECT EXISTS (SELECT FROM tokens WHERE id = ? AND expires > now())`, id).Scan(&valid).Error
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

// SetPassword keeps the hash of an operator's new password; false when there is
// no such operator.
func (s Operators) SetPassword(ctx context.Context, name, hash string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET password_hash = ? WHERE name = ?`, hash, name)
	return n == 1, err
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

// DropExpired takes away what nobody can use any more.
func (s Operators) DropExpired(ctx context.Context) error {
	if _, err := s.exec(ctx, `DELETE FROM tokens WHERE expires < now()`); err != nil {
		return err
	}
	if _, err := s.exec(ctx, `DELETE FROM agent_signatures WHERE expires < now()`); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM enrolments WHERE expires < now() - interval '1 day'`)
	return err
}
