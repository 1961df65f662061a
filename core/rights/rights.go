// Package rights writes down which rights an agent's account needs in a
// directory, for the settings and the features that are switched on, as text
// to hand to the directory's owner.
package rights

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
)

// Right is one right in one place.
type Right struct {
	Feature   string // "reading" or a feature
	Container string // where, and everything below
	Kind      string // the kind of entry, "" for all
	Text      string
	// Grant is the right in the form that the directory's own tools take: an
	// access control entry in SDDL ([MS-DTYP] section 2.5.1) for the dialect ad, an access
	// control instruction for 389ds, and what the server has for the dialect standard.
	Grant string
}

// Schema ids of attributes and classes of the dialect ad ([MS-ADA1] to
// [MS-ADSC]), which are the same in every directory.
var schemaIDs = map[string]string{
	"userPrincipalName": "28630ebb-41d5-11d1-a9c1-0000f80367c1", "displayName": "bf967953-0de6-11d0-a285-00aa003049e2",
	"mail": "bf967961-0de6-11d0-a285-00aa003049e2", "otherMailbox": "0296c123-40da-11d1-a9c0-0000f80367c1",
	"proxyAddresses": "bf967a06-0de6-11d0-a285-00aa003049e2", "lockoutTime": "28630ebf-41d5-11d1-a9c1-0000f80367c1", "pwdLastSet": "bf967a0a-0de6-11d0-a285-00aa003049e2",
	"user": "bf967aba-0de6-11d0-a285-00aa003049e2", "group": "bf967a9c-0de6-11d0-a285-00aa003049e2", "contact": "5cb41ed0-0e4c-11d0-a286-00aa003049e2",
}

// Control access rights ([MS-ADTS] section 5.1.3.2.1): User-Force-Change-Password and
// User-Change-Password.
const (
	resetPassword  = "00299570-246d-11d0-a768-00aa006e0529"
	changePassword = "ab721a53-1e2f-11d0-9819-00aa0040529b"
)

// Language is how a server writes rights down.
type Language string

// The languages of servers of the dialect standard; of others the rights are told in
// words alone.
const (
	AccessLines  Language = "access-lines" // slapd.access(5)
	Instructions Language = "instructions" // access control instructions in the attribute aci
	Unknown      Language = ""
)

// LanguageOf is that of a server by the name that it gives itself.
func LanguageOf(server string) Language {
	switch {
	case strings.Contains(server, "OpenLDAP"):
		return AccessLines
	case strings.Contains(server, "389"), strings.Contains(server, "OpenDJ"), strings.Contains(server, "Ping"):
		return Instructions
	}
	return Unknown
}

// languageOf is how a directory's server writes rights down.
func languageOf(d settings.Directory, probed Language) Language {
	if d.Dialect == entry.DS389 {
		return Instructions
	}
	return probed
}

// List lists the rights for a directory. account stands in the grants: a SID
// for the dialect ad, a distinguished name for the others.
func List(d settings.Directory, account string, language Language) []Right {
	if account == "" {
		account = "DN-OF-THE-ACCOUNT"
		if d.Dialect == entry.AD {
			account = "SID-OF-THE-ACCOUNT"
		}
	}
	if d.Dialect == entry.AD {
		return listAD(d, account)
	}
	return listStandard(d, account, languageOf(d, language))
}

func listAD(d settings.Directory, account string) []Right {
	list := []Right{
		{"reading", d.Base, "", "read all properties (every authenticated account can, unless that was taken away)", fmt.Sprintf("(A;CI;LCRPLORC;;;%s)", account)},
		{"reading", "CN=Deleted Objects," + entry.DomainOf(d.Base), "", "list contents and read properties, so that deletions are noticed at once", fmt.Sprintf("(A;CI;LCRPLORC;;;%s)", account)},
	}
	if d.KeepsCloudGroups() {
		container, feature, class := d.CloudGroups.Container, string(entry.FeatureCloudGroups), schemaIDs["group"]
		list = append(list, Right{feature, container, "", "create and delete groups in it", fmt.Sprintf("(OA;CI;CCDC;%s;;%s)", class, account)},
			Right{feature, container, "group", "read and write all properties, and delete, so that groups are renamed, filled and moved away", fmt.Sprintf("(OA;CIIO;RPWPSD;;%s;%s)", class, account)})
	}
	for _, container := range d.Containers.Include {
		for _, feature := range entry.Features {
			if !slices.Contains(d.Features, feature) {
				continue
			}
			switch feature {
			case entry.FeatureRepair:
				for _, kind := range entry.Kinds {
					for _, attribute := range survey.Repairable(d.Dialect, kind) {
						list = append(list, Right{string(feature), container, string(kind), "write the property " + attribute,
							fmt.Sprintf("(OA;CIIO;WP;%s;%s;%s)", schemaIDs[attribute], schemaIDs[string(kind)], account)})
					}
				}
			case entry.FeatureResetPasswords:
				list = append(list, Right{string(feature), container, "user", "the extended right Reset Password", fmt.Sprintf("(OA;CIIO;CR;%s;%s;%s)", resetPassword, schemaIDs["user"], account)},
					Right{string(feature), container, "user", "write the property pwdLastSet, to ask for a new password at the next sign-in", fmt.Sprintf("(OA;CIIO;WP;%s;%s;%s)", schemaIDs["pwdLastSet"], schemaIDs["user"], account)})
			case entry.FeatureChangePasswords:
				list = append(list, Right{string(feature), container, "user", "the extended right Change Password (everybody has it, unless that was taken away)", fmt.Sprintf("(OA;CIIO;CR;%s;%s;%s)", changePassword, schemaIDs["user"], account)})
			case entry.FeatureCloudGroups: // in their own container
			case entry.FeatureDigests:
				// No right can be granted for this: stored passwords are told over a local socket alone.
			case entry.FeatureUnlock:
				list = append(list, Right{string(feature), container, "user", "write the property lockoutTime", fmt.Sprintf("(OA;CIIO;WP;%s;%s;%s)", schemaIDs["lockoutTime"], schemaIDs["user"], account)})
			}
		}
	}
	return list
}

func listStandard(d settings.Directory, account string, language Language) []Right {
	grant := func(container, names, right string) string {
		switch language {
		case AccessLines:
			attributes := ""
			if names != "" {
				attributes = " attrs=" + names
			}
			return fmt.Sprintf(`access to dn.subtree=%q%s by dn.exact=%q %s by * break`, container, attributes, account, right)
		case Instructions:
			target := `targetattr!="userPassword"`
			if names != "" {
				target = fmt.Sprintf("targetattr=%q", strings.ReplaceAll(names, ",", " || "))
			}
			// Unlike an access line, an instruction to write does not include reading.
			rights := map[string]string{"read": "read,search,compare", "write": "write"}[right]
			return fmt.Sprintf(`aci: (%s)(version 3.0; acl "kambrel %s %s"; allow (%s) userdn="ldap:///%s";)`, target, right, strings.ReplaceAll(cmp.Or(names, "all"), ",", " "), rights, account)
		}
		return ""
	}
	var list []Right
	if d.KeepsCloudGroups() {
		container := d.CloudGroups.Container
		line := grant(container, "", "write")
		if language == Instructions {
			line = fmt.Sprintf(`aci: (targetattr="*")(version 3.0; acl "kambrel cloud groups"; allow (read,search,compare,write,add,delete,moddn) userdn="ldap:///%s";)`, account)
		}
		list = append(list, Right{string(entry.FeatureCloudGroups), container, "group", "create, write, move and delete groups", line})
	}
	attributes := map[entry.Feature][]string{entry.FeatureRepair: survey.Repairable(d.Dialect, entry.User), entry.FeatureResetPasswords: {"userPassword", "pwdReset"}, entry.FeatureChangePasswords: {"userPassword"}, entry.FeatureUnlock: {"pwdAccountLockedTime"}}
	if d.Dialect == entry.DS389 {
		attributes[entry.FeatureResetPasswords] = []string{"userPassword", "passwordExpirationTime"}
		attributes[entry.FeatureUnlock] = []string{"accountUnlockTime", "passwordRetryCount"}
	}
	for _, container := range d.Containers.Include {
		for _, feature := range entry.Features {
			if slices.Contains(d.Features, feature) && feature != entry.FeatureDigests && feature != entry.FeatureCloudGroups {
				names := strings.Join(attributes[feature], ",")
				list = append(list, Right{string(feature), container, "user", "write " + names, grant(container, names, "write")})
			}
		}
		// After the lines that write: the first one that fits counts, and writing includes reading.
		if slices.Contains(d.Features, entry.FeatureDigests) {
			list = append(list, Right{string(entry.FeatureDigests), container, "user", "read userPassword", grant(container, "userPassword", "read")})
		}
	}
	return append(list, Right{"reading", d.Base, "", "read all entries and attributes, but userPassword", grant(d.Base, "", "read")})
}

// forms say what the grants of a language are.
var forms = map[Language]string{
	AccessLines:  "lines for the access rules (slapd.access(5)), in this order and before wider ones",
	Instructions: "an access control instruction, to add to the attribute aci of the container",
}

// Text writes the list for people.
func Text(d settings.Directory, account string, language Language) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Rights that Kambrel needs in the directory %s (%s, base %s)\n", d.Name, d.Dialect, d.Base)
	if d.Dialect == entry.AD && slices.Contains(d.Features, entry.FeatureDigests) {
		b.WriteString("For password-digests its agent runs on a domain controller's own host, as an account that may open the privileged local socket (localSocket in the agent's configuration).\n")
	}
	if len(d.Features) == 0 {
		b.WriteString("It only reads this directory; no right to change anything is needed.\n")
	}
	form := forms[languageOf(d, language)]
	if d.Dialect == entry.AD {
		form = "access control entries in SDDL, to add to the list of the container"
	}
	if d.KeepsCloudGroups() {
		b.WriteString("Where another container is set for groups of the cloud, they are moved: the same rights are needed in both until that is done.\n")
	}
	last := ""
	for _, right := range List(d, account, language) {
		if place := right.Container; place != last {
			fmt.Fprintf(&b, "\nOn %s and everything below:\n", place)
			last = place
		}
		kind := "all entries"
		if right.Kind != "" {
			kind = right.Kind + " entries"
		}
		fmt.Fprintf(&b, "  for %s, %s: %s\n", right.Feature, kind, right.Text)
		if right.Grant != "" {
			fmt.Fprintf(&b, "      %s\n", right.Grant)
		}
	}
	if form == "" {
		b.WriteString("\nHow the server writes rights down is not known: probe the directory first, or hand this to its owner as it is.\n")
	} else {
		fmt.Fprintf(&b, "\nThe second line of each is the same right as %s.\n", form)
	}
	b.WriteString("Nothing else is needed; in particular no membership of an administrators' group.\n")
	return b.String()
}
