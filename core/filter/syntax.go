package filter

import (
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// syntax tells how the values of an attribute are compared (RFC 4517 section
// 4.2). A filter does not carry the directory's schema, so this knows the
// attributes of RFC 4519, RFC 2798 and the dialect ad whose values are no plain
// text without regard to case.
type syntax int

const (
	plain syntax = iota
	names
	octets
	telephone
	class
	category
)

var syntaxes = map[string]syntax{
	"objectclass": class, "objectcategory": category,
	"objectguid": octets, "objectsid": octets, "userpassword": octets, "jpegphoto": octets, "thumbnailphoto": octets,
	"telephonenumber": telephone, "homephone": telephone, "mobile": telephone, "pager": telephone,
}

func init() {
	for _, name := range strings.Fields(`member uniqueMember memberOf manager owner seeAlso secretary roleOccupant distinguishedName entryDN
		creatorsName modifiersName managedBy managedObjects directReports associatedName aliasedObjectName documentAuthor`) {
		syntaxes[strings.ToLower(name)] = names
	}
	for _, name := range strings.Fields(`createTimestamp modifyTimestamp entryCSN contextCSN uidNumber gidNumber shadowLastChange shadowMin shadowMax
		shadowWarning shadowInactive shadowExpire pwdChangedTime pwdAccountLockedTime pwdFailureTime pwdLastSuccess`) {
		ordered[strings.ToLower(name)] = true
	}
}

// categories are the short names of the object categories of the kinds.
var categories = map[entry.Kind]string{entry.User: "person", entry.Contact: "person", entry.Group: "group", entry.Container: "organizational-unit"}

// ordered are the attributes of the standard schemas that have an ordering rule;
// in the dialect ad all have one.
var ordered = map[string]bool{}

func isOrdered(attribute string) bool {
	name, _, _ := strings.Cut(attribute, ";")
	return ordered[strings.ToLower(name)]
}

func syntaxOf(attribute string) syntax {
	name, _, _ := strings.Cut(attribute, ";") // without options (RFC 4512 section 2.5)
	return syntaxes[strings.ToLower(name)]
}

// squeeze takes out what telephoneNumberMatch leaves out of account.
func squeeze(text string) string { return strings.NewReplacer(" ", "", "-", "").Replace(text) }

// superclasses are the standard object classes' parents: an entry of a class is
// also one of its superclasses (RFC 4512 section 2.4.1), whether it lists them
// or not.
var superclasses = map[string]string{
	"person": "top", "organizationalperson": "person", "inetorgperson": "organizationalperson", "residentialperson": "person",
	"user": "organizationalperson", "computer": "user", "contact": "organizationalperson",
	"organizationalunit": "top", "organization": "top", "locality": "top", "groupofnames": "top", "groupofuniquenames": "top",
	"organizationalrole": "top", "account": "top", "device": "top", "group": "top", "container": "top", "posixgroup": "top",
	"subentry": "top", "country": "top", "dcobject": "top", "simplesecurityobject": "top", "posixaccount": "top",
}

func isSubclass(value, of string) bool {
	of = strings.ToLower(of)
	for name := strings.ToLower(value); name != ""; name = superclasses[name] {
		if name == of {
			return true
		}
	}
	return false
}
