package entry

import (
	"encoding/json"
	"fmt"
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
