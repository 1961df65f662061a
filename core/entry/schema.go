package entry

// Comparing is how a directory compares the values of an attribute: the names of its
// matching rules (RFC 4512 section 4.1.2), "" where it has none.
type Comparing struct {
	Equality string `json:"equality,omitempty"`
	Ordering string `json:"ordering,omitempty"`
}

// Schema tells of attributes, by their names in small letters, how a directory compares
// them; what is not in it is not known.
type Schema map[string]Comparing
