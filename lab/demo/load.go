package demo

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/servers"
)

// content is what a directory of the scenario holds.
type content struct {
	containers []string
	people     []Person
	groups     []Group
	contacts   []Contact
}

// loadDirectory puts the scenario into an empty directory. What is there
// already is left, so that a load that was interrupted can go on.
func loadDirectory(ctx context.Context, server *servers.LDAPServer, dialect entry.Dialect, c content, progress func(done int)) error {
	conn, err := server.Dial()
	if err != nil {
		return fmt.Errorf("load the directory: %w", err)
	}
	defer conn.Close()
	done := 0
	add := func(dn string, attributes map[string][]string) error {
		request := ldap.NewAddRequest(dn, nil)
		for name, values := range attributes {
			if len(values) > 0 && values[0] != "" {
				request.Attribute(name, values)
			}
		}
		if err := conn.Add(request); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultEntryAlreadyExists) {
			return fmt.Errorf("add %s: %w", dn, err)
		}
		done++
		progress(done)
		return ctx.Err()
	}
	for _, path := range c.containers {
		if err := add(containerDN(path, server.BaseDN), map[string][]string{"objectClass": {"organizationalUnit"}}); err != nil {
			return err
		}
	}
	names := map[string]string{} // account or group -> DN
	for _, p := range c.people {
		attributes := p.standardAttributes()
		if dialect == entry.AD {
			attributes = p.adAttributes()
		}
		names[p.Account] = p.dn(server.BaseDN)
		attributes["manager"] = []string{names[p.Manager]} // managers come first
		if err := add(names[p.Account], attributes); err != nil {
			return err
		}
	}
	for _, g := range c.groups {
		dn := "CN=" + g.Name + "," + containerDN("Teams", server.BaseDN)
		var members []string
		for _, name := range append(slices.Clone(g.Members), g.Groups...) {
			members = append(members, names[name])
		}
		names[g.Name] = dn
		attributes := map[string][]string{"objectClass": {"groupOfNames"}, "member": members}
		if dialect == entry.AD {
			attributes = map[string][]string{"objectClass": {"group"}, "sAMAccountName": {g.Name}, "groupType": {g.Type}, "displayName": {g.Name}, "mail": {g.Mail}, "member": members}
		}
		if err := add(dn, attributes); err != nil {
			return err
		}
	}
	if dialect != entry.AD {
		return nil // the dialect standard has no class for contacts
	}
	for _, one := range c.contacts {
		attributes := map[string][]string{"objectClass": {"contact"}, "displayName": {one.DisplayName}, "mail": {one.Mail}}
		if one.Hidden {
			attributes["showInAdvancedViewOnly"] = []string{"TRUE"}
		}
		if err := add("CN="+one.Name+","+containerDN("Partners", server.BaseDN), attributes); err != nil {
			return err
		}
	}
	return nil
}

// Password is what all made-up people have; only its policy matters.
const Password = "Ferry-Bell-88"

func (p Person) adAttributes() map[string][]string {
	control := "512"
	if p.Disabled {
		control = "514"
	}
	attributes := map[string][]string{
		"objectClass": {"user"}, "sAMAccountName": {short(p.Account)}, "userPrincipalName": {p.Login}, "sn": {p.Family}, "givenName": {p.Given},
		"displayName": {p.Name()}, "title": {p.Title}, "telephoneNumber": {p.Phone}, "employeeID": {p.Number}, "userAccountControl": {control},
		"unicodePwd": {encodePassword(Password)},
	}
	if p.Number != "" {
		attributes["mail"], attributes["department"] = []string{p.address()}, []string{p.Container}
	}
	attributes["otherMailbox"] = p.Others
	if p.NoDisplayName {
		delete(attributes, "displayName")
	}
	return attributes
}

// address is where mail reaches a person, also one with an old login.
func (p Person) address() string {
	return cmp.Or(p.Mail, strings.Replace(p.Login, "@corp.", "@", 1))
}

func (p Person) standardAttributes() map[string][]string {
	attributes := map[string][]string{
		"objectClass": {"inetOrgPerson"}, "uid": {p.Account}, "sn": {p.Family}, "givenName": {p.Given}, "displayName": {p.Name()},
		"mail": {p.Login}, "title": {p.Title}, "telephoneNumber": {p.Phone}, "employeeNumber": {p.Number}, "userPassword": {Password},
	}
	if p.Number != "" {
		attributes["departmentNumber"] = []string{p.Container}
	}
	if p.NoDisplayName {
		delete(attributes, "displayName")
	}
	return attributes
}

// short fits sAMAccountName, which takes 20 characters.
func short(account string) string { return account[:min(len(account), 20)] }

// encodePassword writes unicodePwd: the quoted password in UTF-16, little-endian.
func encodePassword(text string) string {
	var b bytes.Buffer
	for _, unit := range utf16.Encode([]rune(`"` + text + `"`)) {
		b.WriteByte(byte(unit))
		b.WriteByte(byte(unit >> 8))
	}
	return b.String()
}

// letChangeAtOnce takes the least age of passwords out of a domain's policy.
func letChangeAtOnce(server *servers.LDAPServer) error {
	conn, err := server.Dial()
	if err != nil {
		return err
	}
	defer conn.Close()
	request := ldap.NewModifyRequest(server.BaseDN, nil)
	request.Replace("minPwdAge", []string{"0"})
	if err := conn.Modify(request); err != nil {
		return fmt.Errorf("change the domain's policy for passwords: %w", err)
	}
	return nil
}

// cloudOnly is what was in the cloud before Kambrel came.
var cloudOnly = []map[string]any{
	{"userName": "jon.sletta@halvard.example", "displayName": "Jon S.", "nickName": "Jonny", "preferredLanguage": "nn-NO", "active": true},
	{"userName": "harbourmaster@halvard.example", "displayName": "Harbour Master", "active": true,
		"roles": []any{map[string]any{"type": "administrative", "value": "directory-administrator"}}},
	{"userName": "mira.tangen@halvard.example", "displayName": "Mira T.", "active": true},
	{"userName": "regatta.desk@halvard-cargo.example", "displayName": "Regatta Desk", "active": true},
}

// loadCloud makes the accounts that were in the cloud before.
func loadCloud(ctx context.Context, cloud *servers.Cloud) error {
	for _, user := range cloudOnly {
		body := map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}}
		for name, value := range user {
			body[name] = value
		}
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, cloud.URL+"/Users", bytes.NewReader(text))
		if err != nil {
			return err
		}
		request.Header.Set("Authorization", "Bearer "+cloud.Token)
		request.Header.Set("Content-Type", "application/scim+json")
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return err
		}
		_ = response.Body.Close()
		if response.StatusCode != http.StatusCreated && response.StatusCode != http.StatusConflict {
			return fmt.Errorf("make %s in the cloud: it answers %s", user["userName"], response.Status)
		}
	}
	return nil
}
