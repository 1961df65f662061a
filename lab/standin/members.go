package standin

import (
	"encoding/json"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/scimfilter"
	"kambrel.example/kambrel/protocol/scim"
)

// members are those of a group, kept apart from its other values, so that one
// that comes or goes does not cost the whole group.
type members struct {
	ids []string
	at  map[string]string // id -> name of its resource type
}

func newMembers() *members { return &members{at: map[string]string{}} }

func (m *members) add(id, kind string) bool {
	if _, there := m.at[id]; there {
		return false
	}
	m.at[id] = kind
	m.ids = append(m.ids, id)
	return true
}

func (m *members) remove(id string) bool {
	if _, there := m.at[id]; !there {
		return false
	}
	delete(m.at, id)
	m.ids = slices.DeleteFunc(m.ids, func(other string) bool { return other == id })
	return true
}

// list is how members are sent.
func (m *members) list() []any {
	out := make([]any, len(m.ids))
	for i, id := range m.ids {
		out[i] = map[string]any{"value": id, "type": m.at[id]}
	}
	return out
}

// memberEdit is one step of a change of members.
type memberEdit struct {
	clear       bool
	add, remove []string
}

// splitMembers takes what concerns members out of the operations of a PATCH.
func splitMembers(operations []scim.PatchOperation) (rest []scim.PatchOperation, edits []memberEdit, f *failure) {
	for _, operation := range operations {
		path := strings.TrimPrefix(operation.Path, scim.GroupURN+":")
		op := strings.ToLower(operation.Op)
		switch {
		case path == "" && (op == "add" || op == "replace"):
			var values map[string]json.RawMessage
			if json.Unmarshal(operation.Value, &values) != nil {
				rest = append(rest, operation)
				continue
			}
			for name, value := range values {
				if strings.EqualFold(name, "members") {
					edit, f := memberValues(value)
					if f != nil {
						return nil, nil, f
					}
					edit.clear = op == "replace"
					edits = append(edits, edit)
					delete(values, name)
				}
			}
			if len(values) > 0 {
				operation.Value, _ = json.Marshal(values) // was JSON a moment ago
				rest = append(rest, operation)
			}
		case len(path) < len("members") || !strings.EqualFold(path[:len("members")], "members"):
			rest = append(rest, operation)
		case len(path) == len("members") && op == "remove":
			edits = append(edits, memberEdit{clear: true})
		case len(path) == len("members"):
			edit, f := memberValues(operation.Value)
			if f != nil {
				return nil, nil, f
			}
			edit.clear = op == "replace"
			edits = append(edits, edit)
		case op == "remove" && path[len("members")] == '[' && strings.HasSuffix(path, "]"):
			filter, err := scimfilter.Parse(path[len("members")+1 : len(path)-1])
			value, ok := "", false
			if err == nil && filter.Operator == "eq" && strings.EqualFold(filter.Path, "value") {
				value, ok = filter.Value.(string)
			}
			if !ok {
				return nil, nil, &failure{400, "invalidFilter", path + `: members are chosen as in members[value eq "id"]`}
			}
			edits = append(edits, memberEdit{remove: []string{value}})
		default:
			return nil, nil, &failure{400, "invalidPath", operation.Path + ": members are added and removed as a whole"}
		}
	}
	return rest, edits, nil
}

func memberValues(text json.RawMessage) (memberEdit, *failure) {
	var many []map[string]any
	if err := json.Unmarshal(text, &many); err != nil {
		var one map[string]any
		if err := json.Unmarshal(text, &one); err != nil {
			return memberEdit{}, invalidValue("members takes a list")
		}
		many = []map[string]any{one}
	}
	var edit memberEdit
	for _, element := range many {
		id, _ := element["value"].(string)
		if id == "" {
			return memberEdit{}, invalidValue("members.value: each member needs the id of its resource")
		}
		edit.add = append(edit.add, id)
	}
	return edit, nil
}

// membersIn takes the members out of a whole resource.
func membersIn(body map[string]any) (map[string]any, []memberEdit, *failure) {
	rest := make(map[string]any, len(body))
	edit := memberEdit{clear: true}
	for name, value := range body {
		if !strings.EqualFold(name, "members") {
			rest[name] = value
			continue
		}
		text, _ := json.Marshal(value) // was JSON a moment ago
		given, f := memberValues(text)
		if f != nil && value != nil {
			return nil, nil, f
		}
		edit.add = given.add
	}
	return rest, []memberEdit{edit}, nil
}

// editMembers carries edits out and tells who came and went. Nothing is done
// when a member does not exist.
func (s *store) editMembers(item *stored, edits []memberEdit) (added, removed []string, f *failure) {
	for _, edit := range edits {
		for _, id := range edit.add {
			if s.kindOf(id) == "" {
				return nil, nil, invalidValue("members.value: there is no resource %s", id)
			}
			if s.kindOf(id) == "Contact" && s.without["contact-members"] {
				return nil, nil, invalidValue("members.value: %s is a contact, and groups hold no contacts", id)
			}
			if id == item.id() {
				return nil, nil, invalidValue("members.value: a group cannot hold itself")
			}
		}
	}
	for _, edit := range edits {
		if edit.clear {
			for _, id := range slices.Clone(item.members.ids) {
				if !slices.Contains(edit.add, id) && item.members.remove(id) {
					removed = append(removed, id)
				}
			}
		}
		for _, id := range edit.remove {
			if item.members.remove(id) {
				removed = append(removed, id)
			}
		}
		for _, id := range edit.add {
			if item.members.add(id, s.kindOf(id)) {
				added = append(added, id)
			}
		}
	}
	return added, removed, nil
}

// kindOf names the resource type of an id, "" when there is none.
func (s *store) kindOf(id string) string {
	for _, c := range s.types {
		if c.byID[id] != nil {
			return c.kind.name
		}
	}
	return ""
}

// leaveGroups takes a resource that is deleted out of all groups.
func (s *store) leaveGroups(id string) {
	groups := s.types["Groups"]
	for _, group := range groups.byID {
		if group.members.remove(id) {
			s.touch(groups, group)
			s.recordMembers(groups, group, nil, []string{id})
		}
	}
}

// touch gives a resource a new version.
func (s *store) touch(c *collection, item *stored) {
	item.version, item.modified = item.version+1, s.now()
	c.changed = append(c.changed, change{item, item.version, item.modified})
	c.compactWhenLong()
}

func (s *store) recordMembers(c *collection, item *stored, added, removed []string) {
	text, _ := json.Marshal(journalLine{Endpoint: c.kind.endpoint, ID: item.id(), Version: item.version, Created: item.created, Modified: item.modified, Added: added, Removed: removed})
	_, _ = s.journal.Write(append(text, '\n')) // kept by the writer and told by flush
}
