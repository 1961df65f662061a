package settings

import (
	"bytes"
	"fmt"
	"regexp"

	"kambrel.example/kambrel/core/problem"
)

// What a settings file can be at most, so that a few kilobytes cannot take the
// memory of the host: reading nested text costs far more than its length.
const (
	mostBytes = 256 << 10
	mostDepth = 50
	// mostListed is how many commas lists in brackets may have, and mostKeys how
	// many keys one object.
	mostListed = 5000
	mostKeys   = 1000
)

// aliasForm is a value that stands for another (YAML 1.2 section 7.1): a few of
// them, each of several others, are as much text as one likes.
var aliasForm = regexp.MustCompile(`(?m)(?:^|[\[{,]|: |- )[ \t]*(\*[^\s*,\]}]+)[ \t]*(?:$|[,\]}#])`)

// bounded refuses text that is not read at all, before any of it is parsed.
func bounded(text []byte) error {
	if len(text) > mostBytes {
		return problem.New(problem.SettingsInvalid, "the file has %d bytes; a settings file has up to %d", len(text), mostBytes)
	}
	brackets, listed := 0, 0
	var indents, keys []int // of the levels that a line is in
	for number, line := range bytes.Split(text, []byte("\n")) {
		content := bytes.TrimLeft(line, " ")
		if len(bytes.TrimSpace(content)) > 0 {
			indent := len(line) - len(content)
			same := 0
			for len(indents) > 0 && indents[len(indents)-1] >= indent {
				if indents[len(indents)-1] == indent {
					same = keys[len(keys)-1]
				}
				indents, keys = indents[:len(indents)-1], keys[:len(keys)-1]
			}
			if content[0] != '-' && content[0] != '#' {
				same++
			}
			if same > mostKeys {
				return invalid([]problem.Fault{{Line: number + 1, Message: fmt.Sprintf("more than %d lines follow each other at one level", mostKeys)}})
			}
			indents, keys = append(indents, indent), append(keys, same)
			for rest := content; bytes.HasPrefix(rest, []byte("- ")) || bytes.HasPrefix(rest, []byte("? ")); { // lists in one line
				indent += 2
				indents, keys, rest = append(indents, indent), append(keys, 0), bytes.TrimLeft(rest[2:], " ")
			}
		}
		for column, c := range line {
			switch c {
			case '[', '{':
				brackets++
			case ']', '}':
				brackets = max(brackets-1, 0)
			case ',':
				if brackets > 0 {
					listed++
				}
			}
			if listed > mostListed {
				return invalid([]problem.Fault{{Line: number + 1, Column: column + 1, Message: "lists in brackets have too many values; write each on a line of its own, with a hyphen"}})
			}
			if brackets > mostDepth || len(indents) > mostDepth {
				return invalid([]problem.Fault{{Line: number + 1, Column: column + 1, Message: fmt.Sprintf("it is nested deeper than %d levels", mostDepth)}})
			}
		}
	}
	if at := aliasForm.FindSubmatchIndex(text); at != nil {
		return invalid([]problem.Fault{{Line: bytes.Count(text[:at[2]], []byte("\n")) + 1, Message: fmt.Sprintf("%s stands for another value; write the value itself", text[at[2]:at[3]])}})
	}
	return nil
}
