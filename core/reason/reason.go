// Package reason holds the form of every explanation: a tree of statements,
// each with the value it saw and how it came out. Decisions in core return
// such trees beside their results, so that a run and a why share one path.
package reason

// Outcome is how one statement of an explanation came out.
type Outcome string

// The outcomes.
const (
	Yes  Outcome = "yes"
	No   Outcome = "no"
	Note Outcome = "note" // states a fact and decides nothing
	Bad  Outcome = "bad"  // something that needs a person
)

// Of turns a truth value into an outcome.
func Of(truth bool) Outcome {
	if truth {
		return Yes
	}
	return No
}

// Node is one statement.
type Node struct {
	Text    string  `json:"text" doc:"What was asked or stated"`
	Outcome Outcome `json:"outcome" enum:"yes,no,note,bad"`
	Value   string  `json:"value,omitempty" doc:"What was found on this entry"`
	// Source is where the value came from, such as a rule.
	Source string `json:"source,omitempty"`
	// Deciding marks the statements that made the result what it is.
	Deciding bool   `json:"deciding,omitempty"`
	Children []Node `json:"children,omitempty"`
}
