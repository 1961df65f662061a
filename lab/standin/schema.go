package standin

import (
	"fmt"
	"regexp"
	"strings"

	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/scim"
)

// AccountURN is the stand-in's own extension of users, there to be discovered.
const AccountURN = "urn:standin.example:params:scim:schemas:extension:account:2.0:User"

// attribute and schema are as /Schemas shows them (RFC 7643 section 7).
type (
	attribute = scim.Attribute
	schema    = scim.Schema
)

func text(name, description string) attribute {
	return attribute{Name: name, Type: "string", Description: description, Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
}

func flagged(name, description string) attribute {
	a := text(name, description)
	a.Type = "boolean"
	return a
}

func complexOf(name, description string, sub ...attribute) attribute {
	a := text(name, description)
	a.Type, a.SubAttributes = "complex", sub
	return a
}

func multi(a attribute) attribute { a.MultiValued = true; return a }

func required(a attribute) attribute { a.Required = true; return a }

func unique(a attribute) attribute { a.Uniqueness = "server"; return a }

// plural is a list of values with types; those that are usual may be named
// (RFC 7643 section 4.1.2).
func plural(name, description string, types ...string) attribute {
	kind := text("type", "What the value is for, such as work")
	kind.CanonicalValues = types
	return multi(complexOf(name, description,
		text("value", "The value"), text("display", "A name for people"), kind,
		flagged("primary", "Whether this is the preferred one")))
}

var telephones = []string{"work", "home", "mobile", "fax", "pager", "other"}

var userSchema = schema{ID: scim.UserURN, Name: "User", Description: "User account", Attributes: []attribute{
	required(unique(text("userName", "Login; its domain must be verified"))),
	complexOf("name", "Parts of the name", text("formatted", "Full name"), text("familyName", "Family name"), text("givenName", "Given name"),
		text("middleName", "Middle name"), text("honorificPrefix", "Title before the name"), text("honorificSuffix", "Title after the name")),
	text("displayName", "Name shown to others"), text("nickName", "Casual name"), text("profileUrl", "Page of the person"),
	text("title", "Job title"), text("userType", "Relation to the organization"), text("preferredLanguage", "Language tag"),
	text("locale", "Locale"), text("timezone", "Time zone"), flagged("active", "Whether the person can sign in"),
	unique(plural("emails", "Addresses")), plural("phoneNumbers", "Telephone numbers", telephones...),
	plural("roles", "Roles; those of type administrative administer the cloud"), plural("entitlements", "Entitlements"),
	multi(complexOf("addresses", "Postal addresses", text("formatted", "All of it"), text("streetAddress", "Street"), text("locality", "Town"),
		text("region", "Region"), text("postalCode", "Postal code"), text("country", "Country"), text("type", "What it is for"), flagged("primary", "Preferred"))),
}}

var enterpriseSchema = schema{ID: scim.EnterpriseURN, Name: "EnterpriseUser", Description: "Enterprise user", Attributes: []attribute{
	text("employeeNumber", "Number of the person"), text("costCenter", "Cost centre"), text("organization", "Organization"),
	text("division", "Division"), text("department", "Department"),
	complexOf("manager", "Manager", text("value", "Id of the manager"), text("displayName", "Name of the manager")),
}}

var accountSchema = schema{ID: AccountURN, Name: "Account", Description: "What this cloud adds to a user", Attributes: []attribute{
	text("homePort", "Harbour where the person is based"), multi(text("badges", "Numbers of the person's badges")),
	flagged("guest", "Whether the person comes from another organization"),
}}

// originSchema says from which entry of which directory a user comes.
var originSchema = schema{ID: events.OriginURN, Name: "Origin", Description: "Where a user comes from, so that passwords find the way back", Attributes: []attribute{
	text("directory", "Name of the directory"), text("entry", "Unchanging id of the entry"),
}}

// digestSchema takes the digest of a password; nobody reads it.
var digestSchema = schema{ID: events.DigestURN, Name: "Digest", Description: "Digest of the password in a directory, sealed for this cloud", Attributes: []attribute{
	writeOnly(text("sealed", "A JWE")),
}}

// keySetSchema is the keys for which passwords are sealed.
var keySetSchema = schema{ID: events.KeySetURN, Name: "KeySet", Description: "Keys for which passwords of a directory are sealed", Attributes: []attribute{
	required(unique(text("directory", "Name of the directory"))), multi(complexOf("keys", "What agents say of their keys", text("value", "The statement, a JWS"), text("display", "Name of the agent"))),
	readOnly(multi(text("accepted", "Ids of the keys for which passwords are sealed"))),
}}

var groupSchema = groupsOf("User", "Group", "Contact")

// groupsWithoutContacts is the schema of a cloud whose groups hold no contacts.
var groupsWithoutContacts = groupsOf("User", "Group")

func groupsOf(members ...string) schema {
	kind := text("type", "User or Group")
	kind.CanonicalValues = members
	return schema{ID: scim.GroupURN, Name: "Group", Description: "Group", Attributes: []attribute{
		required(unique(text("displayName", "Name of the group"))),
		multi(complexOf("members", "Members", text("value", "Id of the member"), kind, text("display", "Name of the member"))),
	}}
}

// ContactURN is the schema of contacts: people who have an address and no login.
const ContactURN = "urn:standin.example:params:scim:schemas:core:2.0:Contact"

var contactSchema = schema{ID: ContactURN, Name: "Contact", Description: "Somebody with an address and without a login", Attributes: []attribute{
	required(text("displayName", "Name shown to others")),
	complexOf("name", "Name of the person", text("givenName", "First name"), text("familyName", "Last name"), text("formatted", "All of it")),
	required(unique(plural("emails", "Addresses"))), plural("phoneNumbers", "Telephone numbers", telephones...), text("title", "Job title"), text("organization", "Organization"),
}}

// DomainURN is the schema of the login domains, which can only be read.
const DomainURN = "urn:standin.example:params:scim:schemas:core:2.0:Domain"

var domainSchema = schema{ID: DomainURN, Name: "Domain", Description: "Domain in which people may have logins", Attributes: []attribute{
	readOnly(text("value", "The domain")), readOnly(flagged("verified", "Whether logins may end in it")), readOnly(text("verification", "How somebody proves to have it, where that is still to be done")),
}}

var federationSchema = schema{ID: federation.URN, Name: "Federation", Description: "How the people of a domain sign in", Attributes: []attribute{
	readOnly(text("metadata", "The cloud's own SAML 2.0 metadata")), text("signOn", "password, some or provider"), text("provider", "The SAML 2.0 metadata of the identity provider"),
	multi(text("people", "The ids of users who sign in there")), multi(text("groups", "The ids of groups whose members sign in there")),
}}

var signInTestSchema = schema{ID: federation.TestURN, Name: "SignInTest", Description: "A sign-in that is tried", Attributes: []attribute{
	text("domain", "The domain"), text("person", "The id of the user"), text("provider", "The SAML 2.0 metadata of the identity provider"), readOnly(text("url", "Where a browser begins it")),
	readOnly(text("expires", "Until when")), readOnly(text("request", "The id of the request")), readOnly(text("answered", "When an answer came")), readOnly(text("response", "The answer, in Base64")),
	readOnly(flagged("accepted", "Whether it would have signed the user in")), readOnly(text("reason", "Why it would not")),
}}

func writeOnly(a attribute) attribute {
	a.Mutability, a.Returned = "writeOnly", "never"
	return a
}

func readOnly(a attribute) attribute { a.Mutability = "readOnly"; return a }

// resourceType is one endpoint with its schemas.
type resourceType struct {
	name, endpoint string
	core           schema
	extensions     []schema
}

var resourceTypes = []resourceType{
	{"User", "Users", userSchema, []schema{enterpriseSchema, accountSchema, originSchema, digestSchema}},
	{"Group", "Groups", groupSchema, nil},
	{"Contact", "Contacts", contactSchema, nil},
	{"KeySet", "KeySets", keySetSchema, nil},
}

// common are the attributes of every resource (RFC 7643 section 3.1).
var common = []attribute{text("id", ""), text("externalId", "Link key of the service that provisions the resource")}

func find(attributes []attribute, name string) (attribute, bool) {
	for _, a := range attributes {
		if strings.EqualFold(a.Name, name) {
			return a, true
		}
	}
	return attribute{}, false
}

// normalize returns a copy of a resource with names in their canonical
// spelling, or what is wrong with it. Members the client may not set (id, meta,
// schemas) are left out, as RFC 7644 section 3.3 asks.
func (t resourceType) normalize(in map[string]any) (map[string]any, *failure) {
	out := map[string]any{}
	for name, value := range in {
		if extension, ok := t.extension(name); ok {
			inner, isObject := value.(map[string]any)
			if !isObject {
				return nil, invalidValue("%s is not an object", name)
			}
			normalized, f := normalizeObject(extension.Attributes, inner, extension.ID+":")
			if f != nil {
				return nil, f
			}
			if len(normalized) > 0 {
				out[extension.ID] = normalized
			}
			continue
		}
		switch strings.ToLower(name) {
		case "schemas", "id", "meta", "groups":
			continue
		}
		a, ok := find(t.core.Attributes, name)
		if !ok {
			a, ok = find(common, name)
		}
		if !ok {
			return nil, invalidSyntax("the attribute %s is not in the schema of %s", name, t.name)
		}
		normalized, f := normalizeValue(a, value, a.Name)
		if f != nil {
			return nil, f
		}
		if normalized != nil {
			out[a.Name] = normalized
		}
	}
	return out, t.check(out)
}

func (t resourceType) extension(name string) (schema, bool) {
	for _, e := range t.extensions {
		if strings.EqualFold(e.ID, name) {
			return e, true
		}
	}
	return schema{}, false
}

func normalizeObject(attributes []attribute, in map[string]any, prefix string) (map[string]any, *failure) {
	out := map[string]any{}
	for name, value := range in {
		a, ok := find(attributes, name)
		if !ok {
			if name == "$ref" {
				continue
			}
			return nil, invalidSyntax("the attribute %s%s is not in the schema", prefix, name)
		}
		normalized, f := normalizeValue(a, value, prefix+a.Name)
		if f != nil {
			return nil, f
		}
		if normalized != nil {
			out[a.Name] = normalized
		}
	}
	return out, nil
}

func normalizeValue(a attribute, value any, path string) (any, *failure) {
	if value == nil {
		return nil, nil
	}
	if !a.MultiValued {
		return normalizeOne(a, value, path)
	}
	list, ok := value.([]any)
	if !ok {
		return nil, invalidValue("%s takes a list", path)
	}
	var out []any
	for _, item := range list {
		normalized, f := normalizeOne(a, item, path)
		if f != nil {
			return nil, f
		}
		if normalized != nil {
			out = append(out, normalized)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

func normalizeOne(a attribute, value any, path string) (any, *failure) {
	switch a.Type {
	case "string":
		s, ok := value.(string)
		if !ok {
			return nil, invalidValue("%s takes a text", path)
		}
		most := longest
		if path == "keys.value" {
			most = longestStatement
		}
		if len([]rune(s)) > most {
			return nil, invalidValue("%s is longer than %d characters", path, most)
		}
		if s == "" {
			return nil, nil
		}
		return s, nil
	case "boolean":
		b, ok := value.(bool)
		if !ok {
			return nil, invalidValue("%s takes true or false", path)
		}
		return b, nil
	}
	object, ok := value.(map[string]any)
	if !ok {
		return nil, invalidValue("%s takes an object", path)
	}
	out, f := normalizeObject(a.SubAttributes, object, path+".")
	if f != nil || len(out) == 0 {
		return nil, f
	}
	return out, nil
}

const longest = 256

// longestStatement is how long what an agent says of its key may be.
const longestStatement = 4096

var (
	loginForm   = regexp.MustCompile(`^[A-Za-z0-9.!#^_'~-]+@([A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+)$`)
	addressForm = regexp.MustCompile(`^[^\s@<>(),;:"]+@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+$`)
)

// check applies what a single resource must fulfil; what concerns other
// resources and domains is checked by the directory.
func (t resourceType) check(r map[string]any) *failure {
	for _, a := range t.core.Attributes {
		if a.Required && r[a.Name] == nil {
			return invalidValue("%s is required", a.Name)
		}
	}
	primary := 0
	emails, _ := r["emails"].([]any)
	for _, item := range emails {
		email := item.(map[string]any)
		address, _ := email["value"].(string)
		if !addressForm.MatchString(address) {
			return invalidValue("emails.value: %q is no address", address)
		}
		if email["primary"] == true {
			primary++
		}
	}
	if primary > 1 {
		return invalidValue("emails: only one may be primary")
	}
	return nil
}

func loginDomain(login string) (string, *failure) {
	m := loginForm.FindStringSubmatch(login)
	if m == nil {
		return "", invalidValue("userName: %q is no login of the form name@domain", login)
	}
	return strings.ToLower(m[1]), nil
}

func invalidValue(format string, facts ...any) *failure {
	return &failure{400, "invalidValue", fmt.Sprintf(format, facts...)}
}

func invalidSyntax(format string, facts ...any) *failure {
	return &failure{400, "invalidSyntax", fmt.Sprintf(format, facts...)}
}

// failure is a refusal with its SCIM error type (RFC 7644 section 3.12).
type failure struct {
	status   int
	scimType string
	detail   string
}
