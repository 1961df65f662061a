package match

import (
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// Likeness is by what people who are the same may be told, although no match
// rule ties them.
type Likeness struct {
	Login     string
	Addresses []string
	Number    string // of the employee
	Names     []string
}

// The attributes under which the cloud mirror indexes likenesses of resources
// that nobody owns.
const (
	nearName   = "near name"
	nearNumber = "near number"
)

var (
	givenName      = entry.MustPath("name.givenName")
	familyName     = entry.MustPath("name.familyName")
	displayName    = entry.MustPath("displayName")
	employeeNumber = entry.MustPath("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber")
)

// LikenessOf is that of a resource, or of what one shall be.
func LikenessOf(r entry.Resource) Likeness {
	text := func(path entry.Path) string {
		value, _ := path.Get(r).(string)
		return strings.TrimSpace(value)
	}
	l := Likeness{Login: r.Login(), Addresses: r.Addresses(), Number: text(employeeNumber)}
	if given, family := text(givenName), text(familyName); given != "" && family != "" {
		l.Names = append(l.Names, given+" "+family)
	}
	if name := text(displayName); strings.Contains(name, " ") {
		l.Names = append(l.Names, name)
	}
	return l
}

// Indexed lists the texts under which a resource that nobody owns is found by
// its likeness, besides login and addresses.
func (l Likeness) Indexed() []string {
	var texts []string
	for _, name := range l.Names {
		texts = append(texts, KeyText(entry.User, nearName, name))
	}
	if l.Number != "" {
		texts = append(texts, KeyText(entry.User, nearNumber, l.Number))
	}
	return texts
}

// Keys lists what to look for: login and addresses crosswise, the number, and
// the names. Rule says in words what is alike.
func (l Likeness) Keys() []Key {
	var keys []Key
	add := func(rule, attribute, value string) {
		if value = strings.TrimSpace(value); value != "" {
			keys = append(keys, Key{entry.User, rule, attribute, value})
		}
	}
	add("its login is the entry's", "userName", l.Login)
	add("the entry's login is its address", "emails.value", l.Login)
	for _, address := range l.Addresses {
		add("its login is the entry's address", "userName", address)
		add("its address is the entry's", "emails.value", address)
	}
	add("the same employee number", nearNumber, l.Number)
	for _, name := range l.Names {
		add("the same name", nearName, name)
	}
	return keys
}
