package orders

// Search asks which entries fit a filter (RFC 4515), as the directory itself evaluates it.
// The answer is of Present lines.
type Search struct {
	Filter string `json:"filter"`
	// Most is how many may fit; more is a refusal.
	Most int `json:"most"`
}
