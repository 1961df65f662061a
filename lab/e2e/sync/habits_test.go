package sync_test

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

const (
	habitPeople = 24
	habitGroups = 8
)

// habitLDIF is people with managers, and groups that hold a third of them each.
func habitLDIF() string {
	var b strings.Builder
	for i := range habitPeople {
		fmt.Fprintf(&b, "dn: cn=Crew %02d,%s\nobjectClass: inetOrgPerson\nuid: crew%02d\nsn: Crew\ngivenName: N%02d\nmail: crew%02d@brisling.example\ntitle: Hand\nmanager: cn=Crew %02d,%s\n\n", i, worldtest.People, i, i, i, i/6*6, worldtest.People)
	}
	b.WriteString(worldtest.TeamsLDIF)
	for g := range habitGroups {
		fmt.Fprintf(&b, "dn: cn=Team %d,%s\nobjectClass: groupOfNames\n", g, worldtest.Teams)
		for i := g % 3; i < habitPeople; i += 3 {
			fmt.Fprintf(&b, "member: cn=Crew %02d,%s\n", i, worldtest.People)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// plain gives the names of an answer small first letters, whatever the cloud's
// habit.
func plain(value any) any {
	switch v := value.(type) {
	case map[string]any:
		out := map[string]any{}
		for name, inner := range v {
			out[strings.ToLower(name[:1])+name[1:]] = plain(inner)
		}
		return out
	case []any:
		for i := range v {
			v[i] = plain(v[i])
		}
	}
	return value
}

// inCloud is what the cloud has: whom each person reports to, and who is in each
// group, all by name, and how many resources there are, doubles included.
type inCloud struct {
	Managers      map[string]string
	Titles        map[string]string
	Members       map[string][]string
	Users, Groups int
}

// look reads the cloud as an outsider does.
func look(w *worldtest.World) inCloud {
	w.T.Helper()
	out := inCloud{Managers: map[string]string{}, Titles: map[string]string{}, Members: map[string][]string{}}
	list := func(endpoint string) []any {
		status, page := worldtest.SCIM(w.T, w.Address(), "GET", w.Cloud.URL+"/"+endpoint+"?count=1000", nil)
		require.Equal(w.T, 200, status, page)
		found, _ := plain(page).(map[string]any)["resources"].([]any)
		return found
	}
	names := map[any]string{}
	found := list("Users")
	for _, item := range found {
		u := item.(map[string]any)
		names[u["id"]] = strings.TrimSuffix(fmt.Sprint(u["userName"]), "@brisling.example")
	}
	out.Users = len(found)
	for _, item := range found {
		u := item.(map[string]any)
		extension, _ := u[worldtest.ManagerTarget].(map[string]any)
		manager, _ := extension["manager"].(map[string]any)
		out.Managers[names[u["id"]]] = names[manager["value"]]
		out.Titles[names[u["id"]]] = fmt.Sprint(u["title"])
	}
	found = list("Groups")
	out.Groups = len(found)
	for _, item := range found {
		g := item.(map[string]any)
		_, whole := worldtest.SCIM(w.T, w.Address(), "GET", fmt.Sprint(w.Cloud.URL, "/Groups/", g["id"], "?attributes=members"), nil)
		members, _ := plain(whole).(map[string]any)["members"].([]any)
		of := []string{}
		for _, m := range members {
			member := m.(map[string]any)
			id := member["value"]
			if reference, ok := member["$ref"].(string); ok && id == nil {
				id = reference[strings.LastIndexByte(reference, '/')+1:]
			}
			of = append(of, names[id])
		}
		slices.Sort(of)
		out.Members[fmt.Sprint(g["displayName"])] = of
	}
	return out
}

// wanted is what the directory says that the cloud should have.
func wanted(w *worldtest.World) inCloud {
	w.T.Helper()
	out := inCloud{Managers: map[string]string{}, Titles: map[string]string{}, Members: map[string][]string{}}
	login := func(dn string) string {
		return strings.Replace(strings.ToLower(strings.TrimSuffix(strings.TrimPrefix(dn, "cn="), ","+worldtest.People)), " ", "", 1)
	}
	find := func(base, filter string) []*ldap.Entry {
		result, err := w.LDAP.Search(&ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeWholeSubtree, Filter: filter})
		require.NoError(w.T, err)
		return result.Entries
	}
	for _, e := range find(worldtest.People, "(objectClass=inetOrgPerson)") {
		out.Users++
		out.Titles[login(e.DN)] = e.GetAttributeValue("title")
		out.Managers[login(e.DN)] = ""
		if manager := e.GetAttributeValue("manager"); manager != "" {
			out.Managers[login(e.DN)] = login(manager)
		}
	}
	for _, g := range find(worldtest.Teams, "(objectClass=groupOfNames)") {
		out.Groups++
		of := []string{}
		for _, dn := range g.GetAttributeValues("member") {
			of = append(of, login(dn))
		}
		slices.Sort(of)
		out.Members[g.GetAttributeValue("cn")] = of
	}
	return out
}

// exact waits until the cloud lists what the directory has, which lists that lag
// behind do after a while, and nothing else.
func exact(w *worldtest.World, when string) {
	w.T.Helper()
	wanted, have := wanted(w), inCloud{}
	deadline := time.Now().Add(5 * time.Second)
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for have = look(w); !assert.ObjectsAreEqual(wanted, have) && time.Now().Before(deadline); have = look(w) {
		<-tick.C
	}
	require.Equal(w.T, wanted, have, when)
}

// TestCloudsOfAllHabits brings clouds in step that read the standard each in its
// own way: exact members and managers, nobody twice, nothing repeated.
func TestCloudsOfAllHabits(t *testing.T) {
	t.Parallel()
	habits := func(names ...string) []string { return []string{"--habits", strings.Join(names, ",")} }
	without := func(features string, more ...string) []string {
		return append([]string{"--without", features}, more...)
	}
	for name, o := range map[string]worldtest.Options{
		"a service on a public library":       {Other: true},
		"it keeps what it was asked to show":  {Cloud: habits("stored-view", "strict-parts")},
		"bulk results in another order":       {Cloud: habits("bulk-order")},
		"and without their bulkId":            {Cloud: habits("bulk-order", "bulk-unnamed")},
		"members on request, PUT only":        {Cloud: without("patch", habits("members-asked")...)},
		"members on request":                  {Cloud: habits("members-asked")},
		"members by reference":                {Cloud: habits("members-by-ref")},
		"members by reference, PUT only":      {Cloud: without("patch,etag", habits("members-by-ref", "members-asked")...)},
		"lists that lag behind":               {Cloud: habits("late-lists", "free-names", "shared-link-keys")},
		"names in other letter case":          {Cloud: habits("other-case", "free-names", "shared-link-keys")},
		"no id in the answer":                 {Cloud: habits("no-id", "free-names", "shared-link-keys")},
		"no id and no Location":               {Cloud: habits("no-id", "no-location", "free-names", "shared-link-keys")},
		"no id, no bulk, no filter":           {Cloud: without("bulk,filter", habits("no-id", "no-location", "free-names")...)},
		"no discovery":                        {Cloud: habits("no-discovery", "members-asked")},
		"no discovery, other letters, no ids": {Cloud: habits("no-discovery", "other-case", "no-id", "late-lists", "free-names", "shared-link-keys")},
		"its own way of writing":              {Cloud: habits("active-text", "no-types", "no-meta")},
		"it refuses what it promises":         {Cloud: habits("bulk-missing", "patch-missing", "filter-missing")},
		"schemas that may not be read":        {Cloud: habits("secret-schemas", "bulk-missing")},
		"deletion deactivates":                {Cloud: habits("soft-delete", "bulk-order", "members-asked")},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := worldtest.NewWith(t, habitLDIF(), o)
			w.Activate(worldtest.WithGroups())
			run := w.Run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			// Without a pause, since what lags behind does so now.
			full := w.Run(wire.NewRun{Purpose: purpose.Full})
			require.Equal(t, progress.InStep, full.State, "%+v", full)
			assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
			exact(w, "after the first run")

			for i := range 12 {
				w.Set(fmt.Sprintf("cn=Crew %02d,%s", i, worldtest.People), "title", "Mate")
			}
			w.Member(fmt.Sprintf("cn=Team 1,%s", worldtest.Teams), false, "cn=Crew 04,"+worldtest.People)
			w.Member(fmt.Sprintf("cn=Team 2,%s", worldtest.Teams), true, "cn=Crew 04,"+worldtest.People)
			w.Set("cn=Crew 07,"+worldtest.People, "manager", "cn=Crew 01,"+worldtest.People)
			require.NoError(t, w.LDAP.Modify(&ldap.ModifyRequest{DN: "cn=Crew 08," + worldtest.People, Changes: []ldap.Change{{Operation: ldap.DeleteAttribute, Modification: ldap.PartialAttribute{Type: "manager"}}}}))
			w.Person("Newcomer", map[string]string{"mail": "newcomer@brisling.example", "title": "Hand", "manager": "cn=Crew 00," + worldtest.People})
			run = w.Run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			exact(w, "after changes")
			for range 2 {
				full = w.Run(wire.NewRun{Purpose: purpose.Full})
				require.Equal(t, progress.InStep, full.State, "%+v", full)
				require.Zero(t, full.Counts.Changes, "%+v", full.Counts)
			}
			exact(w, "after full runs")

			// A stranger whom somebody has added in the cloud is seen and removed.
			group := idOf(w, "Groups", "Team 5")
			stranger := idOf(w, "Users", "crew00@brisling.example")
			out, _, _ := w.Kambrel("show", "Team 5")
			assert.Contains(t, out, "the cloud has what is shown")
			addMember(w, group, stranger)
			out, _, _ = w.Kambrel("show", "Team 5")
			assert.Contains(t, out, "1 member too many: Crew 00", "show asks the cloud itself")
			full = w.Run(wire.NewRun{Purpose: purpose.Full})
			require.Equal(t, progress.InStep, full.State, "%+v", full)
			require.Equal(t, 1, full.Counts.Changes, "%+v", full.Counts)
			exact(w, "after a stranger was removed")
		})
	}
}

// idOf finds a resource of the cloud by its login or name.
func idOf(w *worldtest.World, endpoint, name string) string {
	w.T.Helper()
	status, page := worldtest.SCIM(w.T, w.Address(), "GET", w.Cloud.URL+"/"+endpoint+"?count=1000", nil)
	require.Equal(w.T, 200, status)
	for _, item := range plain(page).(map[string]any)["resources"].([]any) {
		if r := item.(map[string]any); r["userName"] == name || r["displayName"] == name {
			return fmt.Sprint(r["id"])
		}
	}
	w.T.Fatalf("the cloud has no %s in %s", name, endpoint)
	return ""
}

// addMember adds a member as another administrator of the cloud would, by PATCH
// or, where there is none, by PUT.
func addMember(w *worldtest.World, group, member string) {
	w.T.Helper()
	address := fmt.Sprint(w.Cloud.URL, "/Groups/", group)
	status, answer := worldtest.SCIM(w.T, w.Address(), "PATCH", address, worldtest.PatchRequest(worldtest.Operation("add", "members", []any{map[string]any{"value": member, "type": "User"}})))
	if status == http.StatusNotImplemented {
		_, have := worldtest.SCIM(w.T, w.Address(), "GET", address, nil)
		_, asked := worldtest.SCIM(w.T, w.Address(), "GET", address+"?attributes=members", nil)
		whole := plain(have).(map[string]any)
		delete(whole, "meta")
		members := []any{map[string]any{"value": member}}
		for _, m := range plain(asked).(map[string]any)["members"].([]any) {
			id := m.(map[string]any)["value"]
			if reference, ok := m.(map[string]any)["$ref"].(string); ok && id == nil {
				id = reference[strings.LastIndexByte(reference, '/')+1:]
			}
			members = append(members, map[string]any{"value": id})
		}
		whole["members"] = members
		status, answer = worldtest.SCIM(w.T, w.Address(), "PUT", address, whole)
	}
	require.Contains(w.T, []int{200, 204}, status, answer)
}

// TestAListThatContradictsItselfIsNotBelieved lets every page of a list be the
// first: nobody is dropped from the mirror, nobody made again.
func TestAListThatContradictsItselfIsNotBelieved(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]worldtest.Options{
		"the stand-in":                  {Cloud: []string{"--habits", "first-page", "--page-size", "10"}},
		"a service on a public library": {Other: true, Cloud: []string{"--first-page"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := worldtest.NewWith(t, habitLDIF(), o)
			w.Activate(worldtest.Document())
			run := w.Run(wire.NewRun{}) // the cloud is empty, so that no page contradicts another
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			w.Set("cn=Crew 03,"+worldtest.People, "title", "Mate")
			for range 2 {
				full := w.Run(wire.NewRun{Purpose: purpose.Full})
				require.Equal(t, progress.Failed, full.State, "%+v", full)
				assert.Equal(t, string(problem.CloudListIncomplete), full.Failure.Code)
				assert.Contains(t, full.Failure.Detail, "from number")
				assert.Zero(t, full.Counts.Create)
			}
			health, err := w.Client.Health(t.Context())
			require.NoError(t, err)
			assert.Equal(t, habitPeople, health.Objects.Linked)
			total := worldtest.Users(t, w.Address(), "userName sw \"crew\"")
			assert.NotEmpty(t, total)
			logins := map[any]int{}
			for i := range habitPeople {
				for _, u := range worldtest.Users(t, w.Address(), fmt.Sprintf("userName eq \"crew%02d@brisling.example\"", i)) {
					logins[u["userName"]]++
				}
			}
			assert.Len(t, logins, habitPeople)
			assert.NotContains(t, slices.Collect(maps.Values(logins)), 2, "nobody is there twice")
		})
	}
}

// TestLostAnswersAndLateListsTogether loses answers to creations in a cloud whose
// lists lag behind and that refuses no second one: nothing is made twice.
func TestLostAnswersAndLateListsTogether(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, habitLDIF(), worldtest.Options{Cloud: []string{"--habits", "late-lists,free-names,shared-link-keys", "--without", "bulk"}})
	w.Activate(worldtest.WithGroups())
	w.CloudFaults(map[string]any{"rate": 0.25, "seed": 7, "kinds": []string{"lost"}})
	for range 6 {
		if run := w.Run(wire.NewRun{}); run.State == progress.InStep {
			break
		}
	}
	w.CloudFaults(nil)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	exact(w, "after lost answers")
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	require.Equal(t, progress.InStep, full.State, "%+v", full)
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
	exact(w, "after a full run")
}
