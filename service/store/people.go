package store

import (
	"context"
	"crypto/sha256"
	"slices"
	"time"

	"kambrel.example/kambrel/protocol/wire"
)

// Agent is an enrolled agent.
type Agent struct {
	ID          string `gorm:"primaryKey"`
	Name        string
	Host        string
	Version     string
	Directories textArray `gorm:"type:text[]"` // those that it says that it can reach
	Plain       textArray `gorm:"type:text[]"` // those of them reached by plain LDAP
	Granted     textArray `gorm:"type:text[]"` // those that it may speak for
	PublicKey   string
	Enrolled    time.Time
	LastContact *time.Time
}

// Serves lists the directories that the agent can reach and may speak for.
func (a Agent) Serves() []string { return a.said(true) }

// Asks lists the directories that the agent says that it can reach and that
// nobody has granted it.
func (a Agent) Asks() []string { return a.said(false) }

func (a Agent) said(granted bool) []string {
	names := []string{}
	for _, name := range a.Directories {
		if slices.Contains(a.Granted, name) == granted {
			names = append(names, name)
		}
	}
	return names
}

// May tells whether the agent may speak for a directory.
func (a Agent) May(directory string) bool { return slices.Contains(a.Granted, directory) }

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

// Hello keeps what an agent tells about itself; false when there is no such
// agent, so that one that was retired meanwhile stays so.
func (s *Store) Hello(ctx context.Context, agent Agent) (bool, error) {
	n, err := s.exec(ctx, `UPDATE agents SET host = ?, version = ?, directories = ?::text[], plain = ?::text[], last_contact = now() WHERE id = ?`,
		agent.Host, agent.Version, agent.Directories, agent.Plain, agent.ID)
	if err == nil && n == 1 {
		err = s.Notify(ctx, wire.Event{Kind: "agent"})
	}
	return n == 1, err
}

// GrantDirectories lets an agent speak for just these directories; false when
// there is no such agent.
func (s *Store) GrantDirectories(ctx context.Context, id string, directories []string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE agents SET granted = ?::text[] WHERE id = ?`, textArray(directories), id)
	if err == nil {
		err = s.Notify(ctx, wire.Event{Kind: "agent"})
	}
	return n == 1, err
}

// UseSignature notes that a signature was used; false when it was before.
func (s *Store) UseSignature(ctx context.Context, id string, expires time.Time) (bool, error) {
	n, err := s.exec(ctx, `INSERT INTO agent_signatures (id, expires) VALUES (?, ?) ON CONFLICT DO NOTHING`, id, expires)
	return n == 1, err
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

// AddEnrolment keeps a one-time code for an agent of these directories.
func (s *Store) AddEnrolment(ctx context.Context, code, by string, expires time.Time, directories []string) error {
	_, err := s.exec(ctx, `INSERT INTO enrolments (code_hash, by, expires, directories) VALUES (?, ?, ?, ?::text[])`, octets(HashSecret(code)), by, expires, textArray(directories))
	return err
}

// Enrolment is a one-time code; only its hash is kept.
type Enrolment struct {
	CodeHash []byte `gorm:"primaryKey"`
	By       string
	Expires  time.Time
	Used     *time.Time
	// Directories are those that the agent may speak for.
	Directories textArray `gorm:"type:text[]"`
}

// UseEnrolment uses a code up and returns it; false when it cannot be used, and
// then the code is as it was found, the zero value when it is unknown.
func (s *Store) UseEnrolment(ctx context.Context, code string) (Enrolment, bool, error) {
	n, err := s.exec(ctx, `UPDATE enrolments SET used = now() WHERE code_hash = ? AND used IS NULL AND expires > now()`, octets(HashSecret(code)))
	if err != nil {
		return Enrolment{}, false, err
	}
	var found Enrolment
	err = s.with(ctx).Where("code_hash = ?", octets(HashSecret(code))).Take(&found).Error
	if NotFound(err) {
		err = nil
	}
	return found, n == 1, err
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

// EventToken tells that sessions or tokens have ended, so that what goes on
// under them ends too.
const EventToken = "token"

// TokenValid tells whether a token or session has not ended.
func (s *Store) TokenValid(ctx context.Context, id string) (bool, error) {
	var valid bool
	return valid, s.raw(ctx, `SELECT EXISTS (SELECT FROM tokens WHERE id = ? AND expires > now())`, id).Scan(&valid).Error
}

// DropToken ends a token or a session; false when there is none.
func (s *Store) DropToken(ctx context.Context, id string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM tokens WHERE id = ?`, id)
	if err == nil {
		err = s.Notify(ctx, wire.Event{Kind: EventToken})
	}
	return n == 1, err
}

// DropSessions ends all sessions of an operator but one.
func (s *Store) DropSessions(ctx context.Context, name, but string) error {
	if _, err := s.exec(ctx, `DELETE FROM tokens WHERE kind = 'session' AND name = ? AND id::text <> ?`, name, but); err != nil {
		return err
	}
	return s.Notify(ctx, wire.Event{Kind: EventToken})
}

// SetPassword keeps the hash of an operator's new password; false when there is
// no such operator.
func (s *Store) SetPassword(ctx context.Context, name, hash string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE operators SET password_hash = ? WHERE name = ?`, hash, name)
	return n == 1, err
}

// RemoveOperator removes somebody who signs in, with all sessions; false when
// there is nobody of the name.
func (s *Store) RemoveOperator(ctx context.Context, name string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM operators WHERE name = ?`, name)
	if err == nil {
		err = s.DropSessions(ctx, name, "")
	}
	return n == 1, err
}

// DropExpired takes away what nobody can use any more.
func (s *Store) DropExpired(ctx context.Context) error {
	if _, err := s.exec(ctx, `DELETE FROM tokens WHERE expires < now()`); err != nil {
		return err
	}
	if _, err := s.exec(ctx, `DELETE FROM agent_signatures WHERE expires < now()`); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM enrolments WHERE expires < now() - interval '1 day'`)
	return err
}
