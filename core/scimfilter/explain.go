package scimfilter

import (
	"encoding/json"
	"fmt"

	"kambrel.example/kambrel/core/reason"
)

// String writes the filter as it could be given.
func (e *Filter) String() string {
	switch e.Operator {
	case "and", "or":
		return e.operand(e.Left) + " " + e.Operator + " " + e.operand(e.Right)
	case "not":
		return "not (" + e.Left.String() + ")"
	case "[]":
		return e.Path + "[" + e.Left.String() + "]"
	case "pr":
		return e.Path + " pr"
	}
	text, err := json.Marshal(e.Value)
	if err != nil { // a value that was read from JSON can be written
		return fmt.Sprintf("%s %s %v", e.Path, e.Operator, e.Value)
	}
	return e.Path + " " + e.Operator + " " + string(text)
}

// operand is a part of a conjunction or disjunction: another one within it stands in
// parentheses.
func (e *Filter) operand(part *Filter) string {
	if (part.Operator == "and" || part.Operator == "or") && part.Operator != e.Operator {
		return "(" + part.String() + ")"
	}
	return part.String()
}

// Explain evaluates the filter on a resource and tells of each condition how it came out,
// with the values that it saw.
func (e *Filter) Explain(object map[string]any) reason.Node {
	truth := e.Matches(object)
	node := reason.Node{Text: e.String(), Outcome: reason.Of(truth)}
	switch e.Operator {
	case "and", "or":
		node.Children = []reason.Node{e.Left.Explain(object), e.Right.Explain(object)}
		for i := range node.Children {
			// The first one that alone makes it what it is.
			if node.Children[i].Outcome == reason.Of(e.Operator == "or") {
				node.Children[i].Deciding = true
				break
			}
		}
	case "not":
		node.Children = []reason.Node{e.Left.Explain(object)}
	default:
		values := valuesAt(object, e.Path)
		if len(values) == 0 {
			node.Value = "(nothing)"
		} else if text, err := json.Marshal(values); err == nil {
			node.Value = string(text)
		}
	}
	return node
}
