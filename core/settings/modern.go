package settings

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// renamed are the keys that a settings file of an older version may have, by
// their path, and what they are called now.
var renamed = []struct{ path, now string }{
	{"users.join", "person"},
}

// Modern writes keys of older versions as they are called now, line by line, and
// tells of each what was done. A text that is no YAML comes back as it is.
func Modern(text []byte) (modern []byte, notes []string) {
	if bounded(text) != nil {
		return text, nil
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return text, nil
	}
	type edit struct {
		offset, length int
		now            string
	}
	var edits []edit
	for _, key := range renamed {
		query := "$." + key.path
		if nodeAt(file, "$."+above(key.path)+"."+key.now) != nil {
			continue // both: the old one is told as a key that there is not
		}
		node := nodeAt(file, query)
		parent, ok := nodeAt(file, "$."+above(key.path)).(*ast.MappingNode)
		if node == nil || !ok {
			continue
		}
		for _, value := range parent.Values {
			token := value.Key.GetToken()
			if value.Value != node || token == nil || token.Position == nil {
				continue
			}
			offset := offsetOf(text, token.Position.Line, token.Position.Column)
			if quote := text[offset]; quote == '"' || quote == '\'' {
				offset++
			}
			edits = append(edits, edit{offset, len(token.Value), key.now})
			notes = append(notes, fmt.Sprintf("line %d: %s is called %s.%s now, and is read as that", token.Position.Line, key.path, above(key.path), key.now))
		}
	}
	slices.SortFunc(edits, func(a, b edit) int { return cmp.Compare(b.offset, a.offset) })
	modern = slices.Clone(text)
	for _, e := range edits {
		modern = slices.Replace(modern, e.offset, e.offset+e.length, []byte(e.now)...)
	}
	return modern, notes
}
