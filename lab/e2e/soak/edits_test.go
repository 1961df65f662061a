package soak_test

import (
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
)

// history is what administrators of the directory do, and where everybody is by now.
type history struct {
	people []string // DNs
	next   int      // number of the next newcomer
	groups []string // DNs
	teams  int
	left   map[string]bool // entries that were out of scope for a moment, by entryUUID
}

// nobody is a member that a group may always have, since it must have one.
const nobody = "cn=Nobody," + worldtest.People

func (h *history) begin(s *soak) {
	h.left = map[string]bool{}
	for n := range people {
		h.people = append(h.people, worldtest.Crew(n))
	}
	h.next = people
	for range 4 {
		h.team(s)
	}
}

func (h *history) team(s *soak) {
	h.groups = append(h.groups, s.Group(fmt.Sprintf("Team %02d", h.teams), nobody))
	h.teams++
}

func (h *history) pick(s *soak) int { return s.random.IntN(len(h.people)) }

func inScope(dn string) bool { return strings.HasSuffix(dn, worldtest.People) }

// edit does one thing, or many alike.
func (h *history) edit(s *soak) {
	at := h.pick(s)
	dn := h.people[at]
	switch s.random.IntN(14) {
	case 0, 1:
		h.come(s, fmt.Sprintf("Crew %05d", h.next), h.next)
		h.next++
	case 2:
		s.must(s.LDAP.Del(ldap.NewDelRequest(dn, nil)))
		h.people = slices.Delete(h.people, at, at+1)
	case 3: // deleted, and made again with the same name and address
		name, number := nameOf(dn), numberOf(s, dn)
		s.must(s.LDAP.Del(ldap.NewDelRequest(dn, nil)))
		h.people = slices.Delete(h.people, at, at+1)
		h.come(s, name, number)
	case 4:
		h.move(s, at, fmt.Sprintf("Renamed %d", s.random.IntN(1_000_000)), parentOf(dn))
	case 5: // out of scope, or back
		h.move(s, at, nameOf(dn), map[bool]string{true: worldtest.Leavers, false: worldtest.People}[inScope(dn)])
	case 6:
		if len(h.groups) < 8 {
			h.team(s)
		} else {
			s.must(s.LDAP.Del(ldap.NewDelRequest(h.groups[0], nil)))
			h.groups = h.groups[1:]
		}
	case 7, 8:
		s.member(h.groups[s.random.IntN(len(h.groups))], dn)
	case 9: // many at once
		for range 10 {
			s.member(h.groups[s.random.IntN(len(h.groups))], h.people[h.pick(s)])
		}
	case 10:
		s.Set(dn, "manager", h.people[h.pick(s)])
	case 11: // a script
		for range 20 {
			s.Set(h.people[h.pick(s)], "title", fmt.Sprintf("Title %d", s.random.IntN(9)))
		}
	case 12: // somebody does it in the cloud
		s.byHand()
	default:
		s.Set(dn, "title", fmt.Sprintf("Title %d", s.random.IntN(9)))
	}
}

func (h *history) come(s *soak, name string, number int) {
	dn := s.Person(name, map[string]string{"title": "Hand", "mail": fmt.Sprintf("crew%05d@brisling.example", number), "employeeNumber": fmt.Sprint(number)})
	h.people = append(h.people, dn)
}

func (h *history) move(s *soak, at int, name, parent string) {
	dn := h.people[at]
	if inScope(dn) != (parent == worldtest.People) {
		h.left[uuidOf(s, dn)] = true
	}
	s.must(s.LDAP.ModifyDN(ldap.NewModifyDNRequest(dn, "cn="+name, true, parent)))
	h.people[at] = "cn=" + name + "," + parent
}

func nameOf(dn string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(dn, "cn="), ",")
	return name
}

func parentOf(dn string) string {
	_, parent, _ := strings.Cut(dn, ",")
	return parent
}

func uuidOf(s *soak, dn string) string { return s.Value(dn, "entryUUID") }

// numberOf is that of the address by which somebody signs in.
func numberOf(s *soak, dn string) (number int) {
	_, err := fmt.Sscanf(s.Value(dn, "mail"), "crew%d@", &number)
	s.must(err)
	return number
}

// member adds a member to a group, or takes it out.
func (s *soak) member(group, dn string) {
	request := ldap.NewModifyRequest(group, nil)
	request.Add("member", []string{dn})
	err := s.LDAP.Modify(request)
	if ldap.IsErrorWithCode(err, ldap.LDAPResultAttributeOrValueExists) {
		request = ldap.NewModifyRequest(group, nil)
		request.Delete("member", []string{dn})
		err = s.LDAP.Modify(request)
	}
	s.must(err)
}

func (s *soak) must(err error) {
	s.T.Helper()
	require.NoError(s.T, err)
}

// byHand changes somebody in the cloud, unless that is away or fails just now.
func (s *soak) byHand() {
	at := s.Address()
	_, page, _ := worldtest.TrySCIM(s.T.Context(), at, "GET", fmt.Sprintf("%s/Users?count=1&startIndex=%d", at.URL, 1+s.random.IntN(people/2)), nil)
	list, _ := page["Resources"].([]any)
	for _, one := range list {
		user, _ := one.(map[string]any)
		_, _, _ = worldtest.TrySCIM(s.T.Context(), at, "PATCH", fmt.Sprint(at.URL, "/Users/", user["id"]), worldtest.PatchRequest(worldtest.Operation("replace", "title", "By hand")))
	}
}

// wanted is what the cloud must be: titles by login, logins by entry, and members of groups
// by name.
type wanted struct {
	titles, logins map[string]string
	managers       map[string]string // logins, by login of who has one
	groups         map[string][]string
}

func (h *history) wanted(s *soak) wanted {
	want := wanted{map[string]string{}, map[string]string{}, map[string]string{}, map[string][]string{}}
	byDN := map[string]string{}
	found, err := s.LDAP.Search(ldap.NewSearchRequest(worldtest.People, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=inetOrgPerson)", []string{"mail", "title", "entryUUID", "manager"}, nil))
	s.must(err)
	for _, entry := range found.Entries {
		login := entry.GetAttributeValue("mail")
		want.titles[login], want.logins[entry.GetAttributeValue("entryUUID")] = entry.GetAttributeValue("title"), login
		byDN[strings.ToLower(entry.DN)] = login
	}
	for _, entry := range found.Entries {
		if manager := byDN[strings.ToLower(entry.GetAttributeValue("manager"))]; manager != "" {
			want.managers[entry.GetAttributeValue("mail")] = manager
		}
	}
	found, err = s.LDAP.Search(ldap.NewSearchRequest(worldtest.Teams, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=groupOfNames)", []string{"cn", "member"}, nil))
	s.must(err)
	for _, group := range found.Entries {
		members := []string{}
		for _, dn := range group.GetAttributeValues("member") {
			if login := byDN[strings.ToLower(dn)]; login != "" {
				members = append(members, login)
			}
		}
		slices.Sort(members)
		want.groups[group.GetAttributeValue("cn")] = members
	}
	return want
}

// anybody is somebody in scope, with a title to give them.
func (h *history) anybody(s *soak) (dn, login, title string) {
	for {
		if dn = h.people[h.pick(s)]; inScope(dn) {
			return dn, s.Value(dn, "mail"), fmt.Sprintf("Live %d", s.tally.rounds)
		}
	}
}
