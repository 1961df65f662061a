package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"slices"
	"time"

	"kambrel.example/kambrel/core/problem"
)

// Agents are those that are enrolled, and the codes by which others may be.
type Agents struct{ *session }

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
	Trusts      string // the issuer whose events it carries out
	// Watches are how it watches directories.
	Watches []Watch `gorm:"serializer:json;type:jsonb"`
	// Keys are what it states of its key, by directory, and KeysBefore what it stated of the
	// one before.
	Keys       map[string]string `gorm:"serializer:json;type:jsonb"`
	KeysBefore map[string]string `gorm:"serializer:json;type:jsonb"`
	// Digests are the directories of whose passwords it can make digests, and Local those of
	// which it opens the domain controller's local socket.
	Digests textArray    `gorm:"type:text[]"`
	Local   textArray    `gorm:"type:text[]"`
	Faults  []AgentFault // for which directories it fails, when it was loaded with them
	// Platform is that of its program, and Updates the thumbprint of the key of those that it
	// takes, "" for none.
	Platform, Updates string
	// UpdateTo is the version that it is to go on by, "" for none, and UpdateState how that
	// stands, as in package wire.
	UpdateTo, UpdateState string
	UpdateSince           *time.Time
	UpdateBy              string
	UpdateDetail          string
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

// List lists all agents by name.
func (s Agents) List(ctx context.Context) ([]Agent, error) {
	var agents []Agent
	err := s.withFaults(ctx).Order("name").Find(&agents).Error
	for i := range agents {
		s.here(agents[i].LastContact)
	}
	return agents, err
}

// Get returns one agent.
func (s Agents) Get(ctx context.Context, id string) (Agent, error) {
	var agent Agent
	err := s.withFaults(ctx).Where("id = ?", id).Take(&agent).Error
	s.here(agent.LastContact)
	return agent, err
}

// Save keeps what an agent told about itself.
func (s Agents) Save(ctx context.Context, agent *Agent) error {
	if err := s.with(ctx).Omit("Faults").Save(agent).Error; err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// Hello keeps what an agent tells about itself; false when there is no such
// agent, so that one that was retired meanwhile stays so.
func (s Agents) Hello(ctx context.Context, agent Agent) (bool, error) {
	keys, err := json.Marshal(agent.Keys)
	if err != nil {
		return false, err
	}
	n, err := s.exec(ctx, `UPDATE agents SET host = ?, version = ?, directories = ?::text[], plain = ?::text[], trusts = ?, platform = ?, updates = ?,
		keys_before = CASE WHEN keys IS NOT DISTINCT FROM ?::jsonb THEN keys_before ELSE keys END, keys = ?::jsonb, digests = ?::text[], local = ?::text[], last_contact = now() WHERE id = ?`,
		agent.Host, agent.Version, agent.Directories, agent.Plain, agent.Trusts, agent.Platform, agent.Updates, string(keys), string(keys), agent.Digests, agent.Local, agent.ID)
	if err != nil || n == 0 {
		return false, err
	}
	if err := s.restarted(ctx, agent.ID); err != nil {
		return true, err
	}
	return true, s.Notify(ctx, Event{Kind: "agent"})
}

// Grant lets an agent speak for just these directories; false when
// there is no such agent.
func (s Agents) Grant(ctx context.Context, id string, directories []string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE agents SET granted = ?::text[] WHERE id = ?`, textArray(directories), id)
	if err == nil {
		err = s.Notify(ctx, Event{Kind: "agent"})
	}
	return n == 1, err
}

// ForUpdate lists all agents, of which no update begins or ends elsewhere until the transaction
// ends.
func (s Agents) ForUpdate(ctx context.Context) ([]Agent, error) {
	if _, err := s.exec(ctx, `SELECT pg_advisory_xact_lock(hashtext('agents.update_to'))`); err != nil {
		return nil, err
	}
	return s.List(ctx)
}

// SetUpdate keeps how the update of an agent stands.
func (s Agents) SetUpdate(ctx context.Context, agent Agent) error {
	if _, err := s.exec(ctx, `UPDATE agents SET update_to = ?, update_state = ?, update_since = ?, update_by = ?, update_detail = ? WHERE id = ?`,
		agent.UpdateTo, agent.UpdateState, agent.UpdateSince, agent.UpdateBy, agent.UpdateDetail, agent.ID); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// UseSignature notes that a signature was used; false when it was before.
func (s Agents) UseSignature(ctx context.Context, id string, expires time.Time) (bool, error) {
	n, err := s.exec(ctx, `INSERT INTO agent_signatures (id, expires) VALUES (?, ?) ON CONFLICT DO NOTHING`, id, expires)
	return n == 1, err
}

// Watch is how an agent watches a directory.
type Watch struct {
	Directory, State string
	Since            time.Time
	Detail           string
}

// KeepWatches keeps how an agent watches directories, where that is otherwise than before.
func (s Agents) KeepWatches(ctx context.Context, agent Agent, watches []Watch) error {
	text, err := json.Marshal(watches)
	if err != nil {
		return err
	}
	n, err := s.exec(ctx, `UPDATE agents SET watches = ?::jsonb WHERE id = ? AND watches IS DISTINCT FROM ?::jsonb`, string(text), agent.ID, string(text))
	if err != nil || n == 0 {
		return err
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// Touch notes that an agent was heard of.
func (s Agents) Touch(ctx context.Context, id string) error {
	_, err := s.exec(ctx, `UPDATE agents SET last_contact = now() WHERE id = ? AND (last_contact IS NULL OR last_contact < now() - interval '2 seconds')`, id)
	return err
}

// Retire ends an agent's identity; false when there is none.
func (s Agents) Retire(ctx context.Context, id string) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM agents WHERE id = ?`, id)
	if err != nil {
		return false, err
	}
	if _, err := s.exec(ctx, `UPDATE orders SET state = 'failed', failure_code = ?, failure_detail = '' WHERE only_agent = ? AND state IN ('waiting', 'leased')`, problem.AgentRetired, id); err != nil {
		return true, err
	}
	return n == 1, s.Notify(ctx, Event{Kind: "agent"})
}

// HashSecret is what is kept of a random secret.
func HashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// AddEnrolment keeps a one-time code for an agent of these directories.
func (s Agents) AddEnrolment(ctx context.Context, code, by string, expires time.Time, directories []string) error {
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
func (s Agents) UseEnrolment(ctx context.Context, code string) (Enrolment, bool, error) {
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

// EventToken tells that sessions or tokens have ended, so that what goes on
// under them ends too.
const EventToken = "token"
