package settings

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"kambrel.example/kambrel/core/problem"
)

// Parse reads a settings file that can be activated. Every fault that can be
// found is listed in the error, a *problem.Error with code settings-invalid,
// and then nothing of the file may be used.
func Parse(text []byte) (Document, error) {
	document, err := Read(text)
	if err != nil {
		return Document{}, err
	}
	if faults := document.Validate(); len(faults) > 0 {
		text, _ = Modern(text)
		return Document{}, invalid(locate(text, capped(faults)))
	}
	return document, nil
}

// Read reads a settings file that may still have faults in what it says, as a
// draft may; what is no settings file at all is refused as by Parse.
func Read(text []byte) (Document, error) {
	document := Document{Users: Taking{Leavers: Suspend}, Guard: Guard{Removals: 20, Share: 5}, Schedule: Schedule{Every: "2m"}}
	if strings.TrimSpace(string(text)) == "" {
		return Document{}, problem.New(problem.SettingsInvalid, "the file is empty")
	}
	if err := bounded(text); err != nil {
		return Document{}, err
	}
	text, _ = Modern(text)
	var faults []problem.Fault
	if err := yaml.Unmarshal(text, &document); err != nil {
		fault := problem.Fault{Message: err.Error()}
		var located yaml.Error
		if errors.As(err, &located) {
			fault.Message = located.GetMessage()
			if token := located.GetToken(); token != nil && token.Position != nil {
				fault.Line, fault.Column = token.Position.Line, token.Position.Column
			}
		}
		faults = append(faults, fault)
	}
	var raw any
	if yaml.Unmarshal(text, &raw) == nil {
		unknown := capped(unknownKeys("", raw, reflect.TypeFor[Document]()))
		faults = append(faults, locate(text, unknown)...)
		if len(faults) > 0 {
			// What else is wrong with it is worth knowing at the same time.
			faults = append(faults, locate(text, capped(document.Validate()))...)
		}
	}
	if len(faults) > 0 {
		return Document{}, invalid(faults)
	}
	return document, nil
}

// capped keeps the first faults, and says how many there are more.
func capped(faults []problem.Fault) []problem.Fault {
	if len(faults) <= mostFaults {
		return faults
	}
	return append(faults[:mostFaults:mostFaults], problem.Fault{Message: fmt.Sprintf("and %d faults more", len(faults)-mostFaults)})
}

func invalid(faults []problem.Fault) *problem.Error {
	failure := problem.New(problem.SettingsInvalid, "")
	failure.Faults = faults
	return failure
}

// unknownKeys finds keys that the document does not have.
func unknownKeys(path string, value any, kind reflect.Type) []problem.Fault {
	var faults []problem.Fault
	switch v := value.(type) {
	case map[string]any:
		if kind.Kind() != reflect.Struct {
			return nil
		}
		fields := map[string]reflect.Type{}
		var known []string
		for i := range kind.NumField() {
			name, _, _ := strings.Cut(kind.Field(i).Tag.Get("yaml"), ",")
			fields[name] = kind.Field(i).Type
			known = append(known, name)
		}
		for key, inner := range v {
			field, ok := fields[key]
			if !ok {
				faults = append(faults, problem.Fault{Path: join(path, key), Message: fmt.Sprintf("there is no %q here; there are %s", key, strings.Join(known, ", "))})
				continue
			}
			faults = append(faults, unknownKeys(join(path, key), inner, field)...)
		}
		slices.SortFunc(faults, func(a, b problem.Fault) int { return strings.Compare(a.Path, b.Path) })
	case []any:
		if kind.Kind() == reflect.Slice {
			for i, inner := range v {
				faults = append(faults, unknownKeys(fmt.Sprintf("%s[%d]", path, i), inner, kind.Elem())...)
			}
		}
	}
	return faults
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// locate gives faults the line of the file at which their path lies, or what is
// nearest above it.
func locate(text []byte, faults []problem.Fault) []problem.Fault {
	file, err := parser.ParseBytes(text, 0)
	if err != nil || len(file.Docs) == 0 {
		return faults
	}
	for i := range faults {
		for path := faults[i].Path; path != "" && faults[i].FileLine == 0; path = above(path) {
			faults[i].FileLine = lineOf(file, path)
		}
	}
	return faults
}

func above(path string) string {
	return path[:max(0, max(strings.LastIndexByte(path, '.'), strings.LastIndexByte(path, '[')))]
}

func lineOf(file *ast.File, path string) int {
	node := nodeAt(file, "$."+path)
	if node == nil || node.GetToken() == nil || node.GetToken().Position == nil {
		return 0
	}
	return node.GetToken().Position.Line
}

// nodeAt is what stands at a YAML path, nil when nothing does.
func nodeAt(file *ast.File, path string) ast.Node {
	query, err := yaml.PathString(path)
	if err != nil {
		return nil
	}
	node, err := query.FilterFile(file)
	if err != nil {
		return nil
	}
	return node
}

// offsetOf turns a line and a column in runes, both from 1, into bytes.
func offsetOf(text []byte, line, column int) int {
	at := 0
	for ; line > 1; line-- {
		at += bytes.IndexByte(text[at:], '\n') + 1
	}
	for ; column > 1; column-- {
		_, size := utf8.DecodeRune(text[at:])
		at += size
	}
	return at
}

// YAML writes the document as a settings file that Parse reads back.
func (d *Document) YAML() ([]byte, error) {
	return yaml.MarshalWithOptions(d, yaml.Indent(2), yaml.IndentSequence(true))
}
