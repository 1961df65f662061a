package orders

import (
	"encoding/json"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
)

// Digest asks whose password was set since a mark, or, with IDs, for the digests of
// those. The answer is of Digest lines.
type Digest struct {
	Since string        `json:"since,omitempty"`
	IDs   []entry.ID    `json:"ids,omitempty"`
	Work  password.Work `json:"work,omitzero"`
}

// Digested is one person: when the password was set, and the digest, sealed for the cloud.
type Digested struct {
	ID     entry.ID        `json:"id"`
	Mark   string          `json:"mark"`
	Sealed json.RawMessage `json:"sealed,omitempty"`
	Fault  string          `json:"fault,omitempty"`
}
