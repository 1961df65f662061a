package wire

import (
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
)

// PasswordsState is how the way stands by which passwords come from the cloud, step by
// step.
type PasswordsState struct {
	State       string               `json:"state" enum:"off,open,partly,closed" doc:"off: no directory takes passwords; partly: some directory, or something of it, is not served"`
	Summary     string               `json:"summary"`
	Stream      PasswordStep         `json:"stream" doc:"The stream of events at the cloud"`
	Service     PasswordStep         `json:"service" doc:"The service that listens to it"`
	Directories []PasswordsDirectory `json:"directories"`
	Digests     []DigestState        `json:"digests"`
	Refused     int                  `json:"refused" doc:"Events that were not taken so far: forged, for somebody else, or too old"`
	RefusedAt   *time.Time           `json:"refusedAt,omitempty"`
	RefusedFor  string               `json:"refusedFor,omitempty" doc:"Why the last one was not"`
	Today       PasswordCounts       `json:"today" doc:"Of the last 24 hours"`
}

// PasswordCounts counts what was asked.
type PasswordCounts struct {
	Done    int `json:"done"`
	Policy  int `json:"policy" doc:"Refused by a directory's own policy: the way was open"`
	Refused int `json:"refused" doc:"Not done for another reason"`
	// Median and Slow are of what was done.
	Median int64 `json:"median" doc:"Milliseconds from the event to the answer, half of them"`
	Slow   int64 `json:"slow" doc:"The same, 95 of 100"`
}

// PasswordStep is one step of the way.
type PasswordStep struct {
	Name    string     `json:"name"`
	Outcome string     `json:"outcome" enum:"good,doubtful,bad,skipped"`
	Detail  string     `json:"detail"`
	Advice  string     `json:"advice,omitempty" doc:"What to do about it"`
	Since   *time.Time `json:"since,omitempty"`
}

// PasswordsDirectory is the way's last part, for one directory.
type PasswordsDirectory struct {
	Name     string          `json:"name"`
	Features []entry.Feature `json:"features" doc:"What is switched on of reset-passwords, change-passwords and unlock"`
	Outcome  string          `json:"outcome" enum:"good,doubtful,bad,skipped"`
	Steps    []PasswordStep  `json:"steps" doc:"Its agents, then the rights"`
}

// DigestState is how the digests of a directory's passwords stand, by which people sign in to
// the cloud with the same password.
type DigestState struct {
	Directory string       `json:"directory"`
	Step      PasswordStep `json:"step"`
	Have      int          `json:"have" doc:"Of so many people the cloud has the digest of the password as it is"`
	Due       int          `json:"due" doc:"Of so many it has none yet, or an old one"`
	Faulty    int          `json:"faulty" doc:"Of so many none can be made"`
	Faults    []CodeCount  `json:"faults" doc:"Why, the most frequent first, as far as there are few"`
	Oldest    *time.Time   `json:"oldest,omitempty" doc:"Since when the oldest of those that are due waits"`
	LastRound *time.Time   `json:"lastRound,omitempty"`
	Seconds   int          `json:"seconds,omitempty" doc:"How long the rest takes, as far as that can be told"`
	PausedBy  string       `json:"pausedBy,omitempty"`
	Late      bool         `json:"late" doc:"A password was set longer ago than rounds take"`
}

// PasswordEvent is what was asked about one person's password, and what became of it.
type PasswordEvent struct {
	ID          int64           `json:"id"`
	JTI         string          `json:"jti" doc:"The id of the security event token (RFC 8417)"`
	Act         password.Act    `json:"act" enum:"reset,change,unlock"`
	By          string          `json:"by" enum:"person,administrator"`
	Directory   string          `json:"directory"`
	EntryID     string          `json:"entryId"`
	ResourceID  string          `json:"resourceId"`
	Person      string          `json:"person"`
	Received    time.Time       `json:"received"`
	Ended       *time.Time      `json:"ended,omitempty"`
	Done        bool            `json:"done"`
	Reason      password.Reason `json:"reason,omitempty" doc:"Why it was not done"`
	Text        string          `json:"text" doc:"The reason in words"`
	Told        string          `json:"told" doc:"What the person was told"`
	Detail      string          `json:"detail,omitempty" doc:"What the directory or the agent said"`
	Agent       string          `json:"agent,omitempty"`
	Millis      int64           `json:"millis" doc:"From the event to the answer"`
	InDirectory int64           `json:"directoryMillis" doc:"Of that, in the directory"`
}

// PasswordTrial is whether a password could be set for somebody, tried from the cloud to the
// directory without setting anything.
type PasswordTrial struct {
	Person    string         `json:"person"`
	Directory string         `json:"directory"`
	Outcome   string         `json:"outcome" enum:"good,doubtful,bad"`
	Steps     []PasswordStep `json:"steps"`
}

// TryPassword asks for a trial.
type TryPassword struct {
	Person string `json:"person" minLength:"1" maxLength:"1000" doc:"A name, login, address or id"`
}
