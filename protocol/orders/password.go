package orders

import (
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
)

// Password asks to do what an event of the cloud asks for (protocol/events), or to try
// whether it could be done. The answer is one Password line, of a trial Verdict lines.
type Password struct {
	// Event is the token as the cloud signed it; the agent believes nothing else about
	// whom it is for and what is to be done.
	Event string `json:"event,omitempty"`
	// Protected is a filter (RFC 4515) of those whose password is never touched.
	Protected string `json:"protected,omitempty"`
	// Again: an agent has begun it before, so that it may have been done.
	Again bool `json:"again,omitempty"`
	// Try names an entry for which the rights for the features are tried.
	Try      *entry.ID       `json:"try,omitempty"`
	Features []entry.Feature `json:"features,omitempty"`
}

// PasswordDone is what became of it. It never holds a password.
type PasswordDone struct {
	Reason password.Reason `json:"reason,omitempty"` // "" when it was done
	Least  int             `json:"least,omitempty"`  // characters that the policy asks for
	Detail string          `json:"detail,omitempty"`
	// Remembered: it was done before, and not again.
	Remembered bool `json:"remembered,omitempty"`
	// Micros is how long the directory took to set it, in microseconds.
	Micros int64 `json:"micros,omitempty"`
}

// passwordLease is how long an agent is waited for that has taken an order for a password:
// somebody sits before the screen.
const passwordLease = 2 * time.Second

// Lane is which orders an agent asks for.
type Lane string

// The lanes.
const (
	LaneAny       Lane = "any"       // everything but passwords
	LaneQuick     Lane = "quick"     // of that, what is not slow
	LanePasswords Lane = "passwords" // passwords alone, so that they are never behind anything
)
