package store

import (
	"context"
	"crypto/sha256"
	"time"

	"kambrel.example/kambrel/wire"
)

// Agent is an enrolled agent.
type Agent struct {
	ID          string `gorm:"primaryKey"`
	Name        string
	Host        string
	Version     string
	Directories textArray `gorm:"type:text[]"`
	Plain       textArray `gorm:"type:text[]"` // those reached by plain LDAP
	PublicKey   string
	Enrolled    time.Time
	LastContact *time.Time
}

// Agents lists all agents by name.
func (s *Store) Agents(ctx context.Context) ([]Agent, error) {
	var agents []Agent
	return agents, s.with(ctx).Order("name").Find(&agents).Error
}

// Agent returns one agent.
func (s *Store) Agent(ctx context.Context, id string) (Agent, error) {
	var agent Agent
	return agent, s.with(ctx).Where("id = ?", id).Take(&agent).Error
}

// SaveAgent keeps what an agent told about itself.
func (s *Store) SaveAgent(ctx context.Context, agent *Agent) error {
	if err := s.with(ctx).Save(agent).Error; err != nil {
		return err
	}
	return s.Notify(ctx, wire.Event{Kind: "agent"})
}

// TouchAgent notes that an agent was heard of.
func (s *Store) TouchAgent(ctx context.Context, id string) error {
	_, err := s.exec(ctx, `UPDATE agents SET last_contact = now() WHERE id = ? AND (last_contact IS NULL OR last_contact < now() - interval '5 seconds')`, id)
	return err
}

// RetireAgent ends an agent's identity; false when there is none.
func (s *Store) RetireAgent(ctx context.Context, id string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM agents WHERE id = ?`, id)
	if err == nil {
		err = s.Notify(ctx, wire.Event{Kind: "agent"})
	}
	return n == 1, err
}

// HashSecret is what is kept of a random secret.
func HashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// AddEnrolment keeps a one-time code.
func (s *Store) AddEnrolment(ctx context.Context, code, by string, expires time.Time) error {
	_, err := s.exec(ctx, `INSERT INTO enrolments (code_hash, by, expires) VALUES (?, ?, ?)`, octets(HashSecret(code)), by, expires)
	return err
}

// Enrolment is a one-time code; only its hash is kept.
type Enrolment struct {
	CodeHash []byte `gorm:"primaryKey"`
	By       string
	Expires  time.Time
	Used     *time.Time
}

// UseEnrolment uses a code up; false when it cannot be used, and then the code
// is as it was found, the zero value when it is unknown.
func (s *Store) UseEnrolment(ctx context.Context, code string) (Enrolment, bool, error) {
	n, err := s.exec(ctx, `UPDATE enrolments SET used = now() WHERE code_hash = ? AND used IS NULL AND expires > now()`, octets(HashSecret(code)))
	if err != nil || n == 1 {
		return Enrolment{}, n == 1, err
	}
	var found Enrolment
	err = s.with(ctx).Where("code_hash = ?", octets(HashSecret(code))).Take(&found).Error
	if NotFound(err) {
		err = nil
	}
	return found, false, err
}

// Operator is a person who signs in.
type Operator struct {
	Name         string `gorm:"primaryKey"`
	PasswordHash string
	Role         string
	Created      time.Time
}

// Operators lists all operators by name.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	var operators []Operator
	return operators, s.with(ctx).Order("name").Find(&operators).Error
}

// Operator returns one operator.
func (s *Store) Operator(ctx context.Context, name string) (Operator, error) {
	var operator Operator
	return operator, s.with(ctx).Where("name = ?", name).Take(&operator).Error
}

// AddOperator keeps a new operator.
func (s *Store) AddOperator(ctx context.Context, operator *Operator) error {
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
}

// AddToken keeps a token.
func (s *Store) AddToken(ctx context.Context, token *Token) error {
	token.Created = time.Now()
	return s.with(ctx).Create(token).Error
}

// TokenBySecret returns the token a secret belongs to, if it is still valid.
func (s *Store) TokenBySecret(ctx context.Context, secret string) (Token, error) {
	var token Token
	return token, s.with(ctx).Where("hash = ? AND expires > now()", HashSecret(secret)).Take(&token).Error
}

// Tokens lists tokens, without sessions.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	var tokens []Token
	return tokens, s.with(ctx).Where("kind = 'token'").Order("created").Find(&tokens).Error
}

// DropToken ends a token or a session; false when there is none.
func (s *Store) DropToken(ctx context.Context, id string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM tokens WHERE id = ?`, id)
	return n == 1, err
}

// DropExpired takes away what nobody can use any more.
func (s *Store) DropExpired(ctx context.Context) error {
	if _, err := s.exec(ctx, `DELETE FROM tokens WHERE expires < now()`); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM enrolments WHERE expires < now() - interval '1 day'`)
	return err
}

// Audit notes who did what.
func (s *Store) Audit(ctx context.Context, who, what, detail string) error {
	_, err := s.exec(ctx, `INSERT INTO audit (who, what, detail) VALUES (?, ?, ?)`, who, what, detail)
	return err
}
