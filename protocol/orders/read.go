package orders

// Read asks for all entries of a directory, or for what changed since the cookie.
// The answer is of Entry, Gone, Present and Restart lines.
type Read struct {
	Attributes []string `json:"attributes"`
	// Pointers are those of the attributes by which entries name others; the service
	// keeps them with the answer.
	Pointers []string `json:"pointers,omitempty"`
	// Cookie is where the last read stopped; empty asks for everything.
	Cookie []byte `json:"cookie,omitempty"`
}
