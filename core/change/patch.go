package change

import (
	"strconv"
	"strings"

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
		case diff.Elements():
			p.operations = append(p.operations, diff.operations()...)
		case path.Sub != "":
			if p.now == nil {
				if p.now, err = resource.Clone(); err != nil {
					return nil, err
				}
			}
			if path.SelectorAttribute != "" {
				p.element(path, diff)
			} else {
				p.part(path, diff)
			}
		case diff.After == nil:
			p.add("remove", diff.Target, nil)
		default:
			p.add("replace", diff.Target, diff.After)
		}
	}
	return p.operations, nil
}

// PatchWhole is Patch that sets each attribute as a whole, with what others own
// in it as it is now, for services that refuse to change a part.
func PatchWhole(resource entry.Resource, diffs []Diff) ([]PatchOperation, error) {
	after, err := resource.Clone()
	if err != nil {
		return nil, err
	}
	if err := Advance(after, diffs); err != nil {
		return nil, err
	}
	p := patcher{}
	done := map[string]bool{}
	for _, diff := range diffs {
		path, err := entry.ParsePath(diff.Target)
		if err != nil {
			return nil, err
		}
		whole := path.Whole()
		if done[whole.String()] {
			continue
		}
		done[whole.String()] = true
		switch value := whole.Get(after); {
		case !blank(value) && blank(whole.Get(resource)):
			p.add("add", whole.String(), value)
		case !blank(value):
			p.add("replace", whole.String(), value)
		case !blank(whole.Get(resource)):
			p.add("remove", whole.String(), nil)
		}
	}
	return p.operations, nil
}

// blank tells a value that says nothing (RFC 7643 section 2.5).
func blank(value any) bool {
	switch v := value.(type) {
	case nil:
		return true
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	}
	return false
}

// patcher follows what becomes of the resource, since what an operation must
// say about an element depends on those before it.
type patcher struct {
	now        entry.Resource            // a copy, made when an element changes
	added      map[string]map[string]any // elements that this patch adds, by path
	operations []PatchOperation
}

// part changes a part of a complex attribute, such as manager.value. One that is
// not there is added whole and once, since services refuse to replace a part of
// nothing (noTarget); one of which nothing is left is removed whole.
func (p *patcher) part(path entry.Path, diff Diff) {
	whole := path.Whole()
	object, _ := whole.Get(p.now).(map[string]any)
	there := len(object) > 0
	switch {
	case diff.After == nil && !there:
	case diff.After == nil:
		if path.Remove(p.now); onlyDescribes(object) {
			whole.Remove(p.now)
			p.add("remove", whole.String(), nil)
			delete(p.added, whole.String())
		} else {
			p.add("remove", diff.Target, nil)
		}
	case p.added[whole.String()] != nil:
		p.added[whole.String()][path.Sub] = diff.After
	case there:
		p.add("replace", diff.Target, diff.After)
	default:
		object := map[string]any{path.Sub: diff.After}
		p.added[whole.String()] = object
		p.add("add", whole.String(), object)
	}
	path.Set(p.now, diff.After) // nothing, where it was removed
}

// onlyDescribes tells a complex attribute that has lost what it was about: what
// is left only says more about it.
func onlyDescribes(object map[string]any) bool {
	for name := range object {
		if name != "$ref" && !strings.EqualFold(name, "display") && !strings.EqualFold(name, "displayName") && !strings.EqualFold(name, "type") {
			return false
		}
	}
	return true
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
