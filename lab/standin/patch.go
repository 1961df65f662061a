package standin

import (
	"encoding/json"
	"reflect"
	"strings"

	"kambrel.example/kambrel/core/scimfilter"
	"kambrel.example/kambrel/protocol/scim"
)

// apply carries out a PATCH on a copy of a resource (RFC 7644 section 3.5.2).
func (t resourceType) apply(resource map[string]any, operations []scim.PatchOperation) (map[string]any, *failure) {
	if len(operations) == 0 {
		return nil, invalidSyntax("a PATCH needs at least one operation")
	}
	out := clone(resource).(map[string]any)
	for _, operation := range operations {
		var value any
		if len(operation.Value) > 0 {
			if err := json.Unmarshal(operation.Value, &value); err != nil {
				return nil, invalidSyntax("the value of an operation is no JSON: %s", err)
			}
		}
		var f *failure
		switch op := strings.ToLower(operation.Op); op {
		case "add", "replace":
			if operation.Path == "" {
				f = t.merge(out, value, op)
			} else {
				f = t.set(out, operation.Path, value, op)
			}
		case "remove":
			if operation.Path == "" {
				return nil, &failure{400, "noTarget", "remove needs a path"}
			}
			f = t.remove(out, operation.Path)
		default:
			return nil, invalidSyntax("%q is no operation; add, replace and remove are", operation.Op)
		}
		if f != nil {
			return nil, f
		}
	}
	return out, nil
}

func (t resourceType) merge(resource map[string]any, value any, op string) *failure {
	object, ok := value.(map[string]any)
	if !ok {
		return invalidValue("an operation without a path needs an object as value")
	}
	for name, inner := range object {
		if extension, isExtension := t.extension(name); isExtension {
			members, ok := inner.(map[string]any)
			if !ok {
				return invalidValue("%s takes an object", name)
			}
			for member, v := range members {
				if f := t.set(resource, extension.ID+":"+member, v, op); f != nil {
					return f
				}
			}
			continue
		}
		if f := t.set(resource, name, inner, op); f != nil {
			return f
		}
	}
	return nil
}

// target is a path taken apart against the schema.
type target struct {
	holder    map[string]any
	attribute attribute
	filter    *scimfilter.Filter
	sub       string
}

func (t resourceType) target(resource map[string]any, path string) (target, *failure) {
	invalid := func(detail string) (target, *failure) {
		return target{}, &failure{400, "invalidPath", path + ": " + detail}
	}
	tgt := target{holder: resource}
	attributes, rest := append(t.core.Attributes[:len(t.core.Attributes):len(t.core.Attributes)], common...), path
	if len(rest) > 4 && strings.EqualFold(rest[:4], "urn:") {
		found := false
		for _, s := range append([]schema{t.core}, t.extensions...) {
			if len(rest) > len(s.ID) && strings.EqualFold(rest[:len(s.ID)], s.ID) && rest[len(s.ID)] == ':' {
				rest, found = rest[len(s.ID)+1:], true
				if s.ID != t.core.ID {
					attributes = s.Attributes
					inner, ok := resource[s.ID].(map[string]any)
					if !ok {
						inner = map[string]any{}
						resource[s.ID] = inner
					}
					tgt.holder = inner
				}
			}
		}
		if !found {
			return invalid("no schema of this resource has such an attribute")
		}
	}
	end := strings.IndexAny(rest, "[.")
	name := rest
	if end >= 0 {
		name = rest[:end]
	}
	a, ok := find(attributes, name)
	if !ok {
		return invalid("is not in the schema")
	}
	tgt.attribute = a
	if end >= 0 && rest[end] == '[' {
		closing := strings.LastIndexByte(rest, ']')
		if closing < end {
			return invalid("expected ]")
		}
		filter, err := scimfilter.Parse(rest[end+1 : closing])
		if err != nil {
			return target{}, &failure{400, "invalidFilter", err.Error()}
		}
		tgt.filter = filter
		rest = rest[closing+1:]
		if rest != "" && rest[0] != '.' {
			return invalid("expected a point after ]")
		}
		end = 0
		if rest == "" {
			end = -1
		}
	}
	if end >= 0 {
		sub, ok := find(a.SubAttributes, rest[end+1:])
		if !ok {
			return invalid("has no such part")
		}
		tgt.sub = sub.Name
	}
	if tgt.filter != nil && !a.MultiValued {
		return invalid("only a multi-valued attribute takes a filter")
	}
	return tgt, nil
}

func (t resourceType) set(resource map[string]any, path string, value any, op string) *failure {
	tgt, f := t.target(resource, path)
	if f != nil {
		return f
	}
	name := tgt.attribute.Name
	switch {
	case tgt.filter != nil:
		matched := false
		elements, _ := tgt.holder[name].([]any)
		for _, item := range elements {
			element := item.(map[string]any)
			if !tgt.filter.Matches(element) {
				continue
			}
			matched = true
			if tgt.sub != "" {
				element[tgt.sub] = value
			} else if members, ok := value.(map[string]any); ok {
				for member, v := range members {
					element[member] = v
				}
			}
		}
		if !matched {
			return &failure{400, "noTarget", path + ": no element fits the filter"}
		}
	case tgt.sub != "" && tgt.attribute.MultiValued:
		elements, _ := tgt.holder[name].([]any)
		if len(elements) == 0 {
			return &failure{400, "noTarget", path + ": there is no element"}
		}
		for _, item := range elements {
			item.(map[string]any)[tgt.sub] = value
		}
	case tgt.sub != "":
		inner, ok := tgt.holder[name].(map[string]any)
		if !ok {
			inner = map[string]any{}
			tgt.holder[name] = inner
		}
		inner[tgt.sub] = value
	case tgt.attribute.MultiValued && op == "add":
		added, ok := value.([]any)
		if !ok {
			added = []any{value}
		}
		elements, _ := tgt.holder[name].([]any)
		for _, item := range added {
			if !containsValue(elements, item) {
				elements = append(elements, item)
			}
		}
		tgt.holder[name] = elements
	case tgt.attribute.Type == "complex" && !tgt.attribute.MultiValued:
		members, ok := value.(map[string]any)
		inner, have := tgt.holder[name].(map[string]any)
		if !ok || !have {
			tgt.holder[name] = value
			return nil
		}
		for member, v := range members {
			inner[member] = v
		}
	default:
		tgt.holder[name] = value
	}
	return nil
}

func (t resourceType) remove(resource map[string]any, path string) *failure {
	tgt, f := t.target(resource, path)
	if f != nil {
		return f
	}
	name := tgt.attribute.Name
	if tgt.attribute.Required && tgt.sub == "" && tgt.filter == nil {
		return &failure{400, "mutability", name + " is required and cannot be removed"}
	}
	switch {
	case tgt.filter != nil:
		elements, _ := tgt.holder[name].([]any)
		kept := make([]any, 0, len(elements))
		for _, item := range elements {
			element := item.(map[string]any)
			if !tgt.filter.Matches(element) {
				kept = append(kept, item)
			} else if tgt.sub != "" {
				delete(element, tgt.sub)
				kept = append(kept, item)
			}
		}
		tgt.holder[name] = kept
	case tgt.sub != "":
		if inner, ok := tgt.holder[name].(map[string]any); ok {
			delete(inner, tgt.sub)
		}
	default:
		delete(tgt.holder, name)
	}
	return nil
}

func containsValue(list []any, value any) bool {
	for _, item := range list {
		if reflect.DeepEqual(item, value) {
			return true
		}
	}
	return false
}

func clone(value any) any {
	switch v := value.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for key, inner := range v {
			out[key] = clone(inner)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			out[i] = clone(inner)
		}
		return out
	}
	return value
}
