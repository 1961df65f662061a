package problem

import (
	"fmt"
	"strings"
)

// Fault is one thing wrong at one place of the input, as in
// users.rules[2].formula.
type Fault struct {
	Path    string `json:"path"`
	Message string `json:"message"`
	// Line and Column are within the value at the path, or within the file
	// where the file cannot be read at all.
	Line   int `json:"line,omitempty" doc:"1-based line, 0 when unknown"`
	Column int `json:"column,omitempty" doc:"1-based column, 0 when unknown"`
	// FileLine is the line of the settings file at which the path lies.
	FileLine int `json:"fileLine,omitempty" doc:"1-based line of the file, 0 when there is none"`
}

// Place tells where the fault lies, for people.
func (f Fault) Place() string {
	var within []string
	if f.FileLine > 0 {
		within = append(within, fmt.Sprintf("line %d of the file", f.FileLine))
	}
	switch {
	case f.Line > 0:
		within = append(within, fmt.Sprintf("line %d, column %d", f.Line, f.Column))
	case f.Column > 0:
		within = append(within, fmt.Sprintf("character %d", f.Column))
	}
	switch {
	case len(within) == 0:
		return f.Path
	case f.Path == "":
		return strings.Join(within, "; ")
	}
	return f.Path + " (" + strings.Join(within, "; ") + ")"
}

func (f Fault) String() string { return strings.TrimPrefix(f.Place()+": "+f.Message, ": ") }
