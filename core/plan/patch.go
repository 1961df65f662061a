package plan

import (
	"strconv"

	"kambrel.example/kambrel/core/entry"
)

// PatchOperation is one element of a SCIM PATCH request (RFC 7644 section 3.5.2).
type PatchOperation struct {
	Op    string `json:"op"`
	Path  string `json:"path,omitempty"`
	Value any    `json:"value,omitempty"`
}

// Patch turns diffs into the operations that carry them out on a resource as
// it is now. An element that a path's selector does not find is added as a
// whole, since replacing it would be refused (noTarget).
func Patch(resource entry.Resource, diffs []Diff) ([]PatchOperation, error) {
	operations := make([]PatchOperation, 0, len(diffs))
	for _, diff := range diffs {
		path, err := entry.ParsePath(diff.Target)
		if err != nil {
			return nil, err
		}
		switch {
		case diff.elements():
			operations = append(operations, diff.operations()...)
		case diff.After == nil && path.SelectorAttribute != "":
			whole := path.Attribute + "[" + path.SelectorAttribute + ` eq "` + path.SelectorValue + `"]`
			if path.Schema != "" {
				whole = path.Schema + ":" + whole
			}
			operations = append(operations, PatchOperation{Op: "remove", Path: whole})
		case diff.After == nil:
			operations = append(operations, PatchOperation{Op: "remove", Path: diff.Target})
		case path.SelectorAttribute != "" && path.Element(resource) == nil:
			holder := path.Attribute
			if path.Schema != "" {
				holder = path.Schema + ":" + holder
			}
			first := path.Attribute == "emails" && len(resource.Addresses()) == 0
			operations = append(operations, PatchOperation{Op: "add", Path: holder, Value: []any{path.NewElement(diff.After, first)}})
		default:
			operations = append(operations, PatchOperation{Op: "replace", Path: diff.Target, Value: diff.After})
		}
	}
	return operations, nil
}

// operations add and remove single elements. Each removal names its element, so
// that what others have added meanwhile stays.
func (d Diff) operations() []PatchOperation {
	var operations []PatchOperation
	for _, m := range d.Removed {
		operations = append(operations, PatchOperation{Op: "remove", Path: d.Target + `[value eq ` + strconv.Quote(m.Value) + `]`})
	}
	if len(d.Added) > 0 {
		elements := make([]any, len(d.Added))
		for i, m := range d.Added {
			elements[i] = m.element()
		}
		operations = append(operations, PatchOperation{Op: "add", Path: d.Target, Value: elements})
	}
	return operations
}
