package orders

import "time"

// Read asks for all entries of a directory, or for what changed since the cookie.
// The answer is of Entry, Gone, Present, Restart and Hidden lines.
type Read struct {
	Attributes []string `json:"attributes"`
	// Pointers are those of the attributes by which entries name others; the service
	// keeps them with the answer.
	Pointers []string `json:"pointers,omitempty"`
	// Cookie is where the last read stopped; empty asks for everything.
	Cookie []byte `json:"cookie,omitempty"`
	// Expected are attributes that entries are known to have, and Hidden those of which
	// nothing could be seen before; see directory.Request.
	Expected []string `json:"expected,omitempty"`
	// Schema asks how the directory compares the values of the attributes.
	Schema bool `json:"schema,omitempty"`
	// Check asks to compare, from a time on, whether all changes were told; the answer has
	// what that finds between two Check lines.
	Check  *time.Time `json:"check,omitempty"`
	Hidden []string   `json:"hidden,omitempty"`
}
