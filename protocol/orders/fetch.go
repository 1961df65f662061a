package orders

// Fetch asks for the entries of a name, whole. The answer is of Entry lines.
type Fetch struct {
	Attributes []string `json:"attributes"`
	Pointers   []string `json:"pointers,omitempty"`
	// Find is the name, login, address or id.
	Find string `json:"find"`
}
