package wire

import "time"

// NewRelease adds a version of the agent.
type NewRelease struct {
	Statement string `json:"statement" minLength:"1" maxLength:"16384" doc:"What was signed, as a JWS (RFC 7515): 'kambrel agent release sign' makes it"`
}

// Release is a version of the agent that is passed on to agents whose host trusts its key.
type Release struct {
	Version string        `json:"version"`
	Key     string        `json:"key" doc:"Thumbprint (RFC 7638) of the key by which it says that it is signed; each agent checks that"`
	Made    time.Time     `json:"made"`
	Added   time.Time     `json:"added"`
	AddedBy string        `json:"addedBy"`
	Files   []ReleaseFile `json:"files"`
	Whole   bool          `json:"whole" doc:"All of its programs are here"`
}

// ReleaseFile is the program of one platform.
type ReleaseFile struct {
	Platform string `json:"platform"`
	Name     string `json:"name"`
	Size     int64  `json:"size" doc:"In bytes"`
	SHA256   string `json:"sha256"`
	Here     bool   `json:"here"`
}

// UpdateAgents names the agents that are to go on by a version.
type UpdateAgents struct {
	Agents []string `json:"agents" maxItems:"200" doc:"Ids; none for all that take it"`
}

// How the update of an agent stands.
const (
	UpdateWaits   = "waits"   // for its turn
	UpdateOffered = "offered" // it fetches the program, or starts it
	UpdateFailed  = "failed"  // it goes on as before
)

// AgentUpdate is an update of an agent that is still to come, or failed.
type AgentUpdate struct {
	To     string    `json:"to"`
	State  string    `json:"state" enum:"waits,offered,failed"`
	Since  time.Time `json:"since"`
	By     string    `json:"by"`
	Detail string    `json:"detail,omitempty"`
}

// ProgramAsked is how an agent asks whether a newer program is there for it.
type ProgramAsked struct {
	Version string         `json:"version"`
	Failed  *FailedProgram `json:"failed,omitempty"`
}

// FailedProgram is one that an agent has taken and does not run any more.
type FailedProgram struct {
	Version string `json:"version"`
	Detail  string `json:"detail"`
}

// Check tells what is wrong with it, "" when nothing is.
func (a ProgramAsked) Check() string {
	if len(a.Version) > 63 || a.Failed != nil && (len(a.Failed.Version) > 63 || len(a.Failed.Detail) > 4000) {
		return "a version has up to 63 bytes, and the detail up to 4000"
	}
	return ""
}

// ProgramOffered is a newer program.
type ProgramOffered struct {
	Statement string `json:"statement"`
}
