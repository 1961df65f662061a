package entry

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Resource is one object in the cloud: a SCIM resource (RFC 7643 section 3)
// as decoded JSON.
type Resource map[string]any

// Clone returns a copy that shares nothing with the resource.
func (r Resource) Clone() (Resource, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return nil, fmt.Errorf("copy resource %s: %w", r.ID(), err)
	}
	var out Resource
	return out, json.Unmarshal(text, &out)
}

// ID returns the cloud's id of the resource.
func (r Resource) ID() string { return r.text("id") }

// ExternalID returns the link key that the resource bears.
func (r Resource) ExternalID() string { return r.text("externalId") }

// Login returns userName.
func (r Resource) Login() string { return r.text("userName") }

// DisplayName returns displayName, or the login when there is none.
func (r Resource) DisplayName() string {
	if name := r.text("displayName"); name != "" {
		return name
	}
	return r.Login()
}

// Name is what the resource is told apart by: the login, else displayName.
func (r Resource) Name() string {
	if login := r.Login(); login != "" {
		return login
	}
	return r.text("displayName")
}

// Active tells whether the account can be used; a resource without the
// attribute counts as active (RFC 7643 section 4.1.1 leaves it to the service).
func (r Resource) Active() bool {
	active, ok := r["active"].(bool)
	return active || !ok
}

// Version returns meta.version, the entity tag.
func (r Resource) Version() string { return r.meta("version") }

// LastModified returns meta.lastModified as sent.
func (r Resource) LastModified() string { return r.meta("lastModified") }

// Stamp tells a state of a resource from others without what it holds (RFC 7643 section
// 3.1, meta.version and meta.lastModified).
type Stamp struct{ ID, Version, LastModified string }

// Whole tells whether nothing is missing, so that equal stamps are of equal states.
func (s Stamp) Whole() bool { return s.ID != "" && s.Version != "" && s.LastModified != "" }

// Stamp is that of the resource as it was read.
func (r Resource) Stamp() Stamp { return Stamp{r.ID(), r.Version(), r.LastModified()} }

// AdministrativeRoles lists the values of roles whose type is "administrative".
func (r Resource) AdministrativeRoles() []string {
	var roles []string
	elements, _ := r["roles"].([]any)
	for _, element := range elements {
		role, _ := element.(map[string]any)
		if kind, _ := role["type"].(string); strings.EqualFold(kind, "administrative") {
			value, _ := role["value"].(string)
			roles = append(roles, value)
		}
	}
	return roles
}

// Addresses lists every emails.value.
func (r Resource) Addresses() []string {
	var addresses []string
	elements, _ := r["emails"].([]any)
	for _, element := range elements {
		email, _ := element.(map[string]any)
		if value, _ := email["value"].(string); value != "" {
			addresses = append(addresses, value)
		}
	}
	return addresses
}

func (r Resource) text(name string) string {
	value, _ := lookup(r, name).(string)
	return value
}

func (r Resource) meta(name string) string {
	meta, _ := r["meta"].(map[string]any)
	value, _ := meta[name].(string)
	return value
}

// Flat gives the attributes of a resource the form of those of an entry: the simple ones by
// their name, the parts of a complex one as in name.givenName or emails.value, and those of
// a schema of its own as in urn:...:description.
func (r Resource) Flat() Attributes {
	out := Attributes{}
	for name, value := range r {
		sign := "."
		if strings.HasPrefix(strings.ToLower(name), "urn:") {
			sign = ":"
		}
		flatten(out, name, sign, value)
	}
	return out
}

func flatten(out Attributes, name, sign string, value any) {
	switch v := value.(type) {
	case map[string]any:
		for key, part := range v {
			flatten(out, name+sign+key, ".", part)
		}
	case []any:
		for _, one := range v {
			flatten(out, name, sign, one)
		}
	case nil:
	case string:
		out[name] = append(out[name], v)
	case float64:
		out[name] = append(out[name], strconv.FormatFloat(v, 'f', -1, 64))
	default:
		out[name] = append(out[name], fmt.Sprint(v))
	}
}
