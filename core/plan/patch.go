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
// it is now.
func Patch(resource entry.Resource, diffs []Diff) ([]PatchOperation, error) {
	p := patcher{operations: make([]PatchOperation, 0, len(diffs)), added: map[string]map[string]any{}}
	for _, diff := range diffs {
		path, err := entry.ParsePath(diff.Target)
		if err != nil {
			return nil, err
		}
		switch {
		case diff.elements():
			p.operations = append(p.operations, diff.operations()...)
		case path.SelectorAttribute != "":
			if p.now == nil {
				if p.now, err = resource.Clone(); err != nil {
					return nil, err
				}
			}
			p.element(path, diff)
		case diff.After == nil:
			p.add("remove", diff.Target, nil)
		default:
			p.add("replace", diff.Target, diff.After)
		}
	}
	return p.operations, nil
}

// patcher follows what becomes of the resource, since what an operation must
// say about an element depends on those before it.
type patcher struct {
	now        entry.Resource            // a copy, made when an element changes
	added      map[string]map[string]any // elements that this patch adds, by path
	operations []PatchOperation
}

func (p *patcher) add(op, path string, value any) {
	p.operations = append(p.operations, PatchOperation{Op: op, Path: path, Value: value})
}

// element changes a part of an element. One that is not there is added whole
// and once, since replacing its parts would be refused (noTarget); one of which
// nothing is left is removed whole.
func (p *patcher) element(path entry.Path, diff Diff) {
	list := path.Attribute
	if path.Schema != "" {
		list = path.Schema + ":" + list
	}
	whole := list + "[" + path.SelectorAttribute + ` eq "` + path.SelectorValue + `"]`
	there := path.Element(p.now) != nil
	switch {
	case diff.After == nil && !there:
	case diff.After == nil:
		if path.Remove(p.now); path.Element(p.now) == nil {
			p.add("remove", whole, nil)
			delete(p.added, whole)
		} else {
			p.add("remove", diff.Target, nil)
		}
	case p.added[whole] != nil:
		p.added[whole][path.Sub] = diff.After
	case there:
		p.add("replace", diff.Target, diff.After)
	default:
		element := path.NewElement(diff.After, path.Attribute == "emails" && len(p.now.Addresses()) == 0)
		p.added[whole] = element
		p.add("add", list, []any{element})
	}
	path.Set(p.now, diff.After) // nothing, where it was removed
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
