package entry

import (
	"net/url"
	"strings"
)

// known are the names of RFC 7643 (sections 3.1, 4.1 to 4.3 and 8.7) as it
// writes them, by their lower case. Names are compared without case (section
// 2.1), and the same name means the same at every depth.
var known = func() map[string]string {
	names := map[string]string{}
	for _, name := range strings.Fields(`id externalId meta schemas resourceType created lastModified location version
		userName name formatted familyName givenName middleName honorificPrefix honorificSuffix displayName nickName profileUrl title
		userType preferredLanguage locale timezone active password emails phoneNumbers ims photos addresses groups entitlements roles
		x509Certificates members value display type primary $ref streetAddress locality region postalCode country
		employeeNumber costCenter organization division department manager
		urn:ietf:params:scim:schemas:core:2.0:User urn:ietf:params:scim:schemas:core:2.0:Group
		urn:ietf:params:scim:schemas:extension:enterprise:2.0:User`) {
		names[strings.ToLower(name)] = name
	}
	return names
}()

// asWritten are the names that need no look.
var asWritten = func() map[string]bool {
	names := map[string]bool{}
	for _, name := range known {
		names[name] = true
	}
	return names
}()

// Canonical gives the names of a resource the letter case of RFC 7643, since a
// service may write them in another (section 2.1), and completes what services
// leave to be read from something else: an element that only has a $ref gets
// the value that it ends in, and active is a boolean also where it came as text.
func Canonical(r Resource) Resource {
	canonical(r)
	if text, ok := r["active"].(string); ok {
		r["active"] = strings.EqualFold(text, "true")
	}
	return r
}

func canonical(object map[string]any) {
	var other []string
	for name, value := range object {
		if !asWritten[name] {
			if _, ok := known[strings.ToLower(name)]; ok {
				other = append(other, name)
			}
		}
		switch value := value.(type) {
		case map[string]any:
			canonical(value)
		case []any:
			for _, item := range value {
				if element, ok := item.(map[string]any); ok {
					canonical(element)
				}
			}
		}
	}
	for _, name := range other {
		wanted := known[strings.ToLower(name)]
		if _, there := object[wanted]; !there {
			object[wanted] = object[name]
		}
		delete(object, name)
	}
	if _, there := object["value"]; !there {
		if reference, ok := object["$ref"].(string); ok && reference != "" {
			object["value"] = LastSegment(reference)
		}
	}
}

// LastSegment is the id that a reference or a location ends in, "" when there
// is none.
func LastSegment(reference string) string {
	address, err := url.Parse(reference)
	if err != nil {
		return ""
	}
	path := strings.TrimSuffix(address.EscapedPath(), "/")
	id, err := url.PathUnescape(path[strings.LastIndex(path, "/")+1:])
	if err != nil {
		return ""
	}
	return id
}
