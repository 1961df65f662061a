package entry

import "strings"

// Kind tells what an entry or a resource is.
type Kind string

// The kinds Kambrel knows. A container is mirrored so that names stay true
// when a container is renamed; it is never synced.
const (
	User      Kind = "user"
	Group     Kind = "group"
	Contact   Kind = "contact"
	Container Kind = "container"
)

// ResourceType is the SCIM resource type of a kind (RFC 7643 section 6), "" of others.
func (k Kind) ResourceType() string {
	return map[Kind]string{User: "User", Group: "Group", Contact: "Contact"}[k]
}

// Kinds are those that can take part, in the order in which they are shown.
var Kinds = []Kind{User, Group, Contact}

// Entry is one object in a directory as the mirror holds it.
type Entry struct {
	Directory  string     `json:"directory"`
	ID         ID         `json:"id"`
	Kind       Kind       `json:"kind"`
	DN         string     `json:"dn"`
	Attributes Attributes `json:"attributes"`
	// Gone is set when the directory has told that the entry was deleted.
	Gone bool `json:"gone,omitempty"`
	// Fault is why the entry cannot be synced as it was read, "" mostly.
	Fault string `json:"fault,omitempty"`
	// CloudGroup is what the group of the cloud is called that the entry is kept for, ""
	// where no such group owns it.
	CloudGroup string `json:"-"`
	// Members are the distinguished names of a group's members.
	Members []string `json:"members,omitempty"`
	// Groups are the distinguished names of the groups that hold the entry,
	// AllGroups also of those that hold it through others. They are filled only
	// where the settings ask about groups.
	Groups    []string `json:"groups,omitempty"`
	AllGroups []string `json:"allGroups,omitempty"`
}

// LinkKey is the value that ties this entry to its resource (externalId).
func (e Entry) LinkKey() string { return e.ID.String() }

// Name is what people call the entry; the DN where it has no name.
func (e Entry) Name() string {
	for _, attribute := range []string{"displayName", "cn", "uid"} {
		if name := strings.TrimSpace(e.Attributes.First(attribute)); name != "" {
			return name
		}
	}
	return e.DN
}

// MemberAttribute stands for whatever names the members of a group, which are kept
// apart from its attributes.
const MemberAttribute = "member"

// Attributes maps an attribute description to its values. Names keep the
// directory's spelling; lookups ignore case (RFC 4512 section 2.5).
type Attributes map[string][]string

// All returns every value of the attribute, nil when it has none.
func (a Attributes) All(name string) []string {
	if values, ok := a[name]; ok {
		return values
	}
	for key, values := range a {
		if strings.EqualFold(key, name) {
			return values
		}
	}
	return nil
}

// First returns the first value of the attribute, "" when it has none.
func (a Attributes) First(name string) string {
	if values := a.All(name); len(values) > 0 {
		return values[0]
	}
	return ""
}
