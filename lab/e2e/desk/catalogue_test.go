package desk_test

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// provoked is a problem that is made to happen, once for each of its remedies, which is
// followed to its end then.
type provoked struct {
	code problem.Code
	// before is what is there and in step before somebody gets the problem.
	before func(name string)
	// person makes the entry that has it.
	person   func(name string) string
	remedies []act.Kind
	// good is a value that ends it, of an attribute of the directory.
	attribute string
	good      func(name string) string
	// prepared makes ready what a remedy needs.
	prepared func(kind act.Kind, name string)
	// mended says how the cause is taken away elsewhere, before it is tried again.
	mended func(name, dn string)
}

// TestEachRemedyIsFollowedToItsEnd makes the problems of entries happen in a directory and a
// cloud, follows each remedy by the command that it names, and finds every problem closed.
func TestEachRemedyIsFollowedToItsEnd(t *testing.T) {
	t.Parallel()
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Between: between, Access: mayRepair})
	between.Takes(func(answer http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet || !strings.Contains(worldtest.BodyOf(r), "Refused") {
			return false
		}
		answer.Header().Set("Content-Type", "application/scim+json")
		answer.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(answer, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:Error"],"status":"400","scimType":"invalidValue","detail":"title: not so"}`)
		return true
	})
	w.CloudFaults(map[string]any{"titleLength": 20})

	mail := func(name string) string {
		return strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@brisling.example"
	}
	dnOf := func(name string) string { return "cn=" + name + "," + worldtest.People }
	with := func(attribute, value string) func(string) string {
		return func(name string) string { return w.Person(name, map[string]string{attribute: value}) }
	}
	set := func(attribute, value string) func(string, string) {
		return func(_, dn string) { w.Set(dn, attribute, value) }
	}
	own := func(name, dn string) { w.Set(dn, "mail", mail(name)) }
	twin := func(name string) string { return w.Person(name, map[string]string{"mail": "of." + mail(name)}) }
	of := func(name string) { w.Person("Of "+name, nil) }
	both := func(name string) {
		of(name)
		w.Person(name, nil)
	}
	values := []act.Kind{act.RepairValue, act.Activate, act.SyncOne}
	elsewhere := values[1:] // of attributes that no repair writes
	cases := []provoked{
		// Of two that are linked, one would get what the other has.
		{code: problem.DuplicateLogin, before: both, person: func(name string) string {
			w.Set(dnOf(name), "mail", mail("Of "+name))
			return dnOf(name)
		}, remedies: append([]act.Kind{act.Swap}, values...), attribute: "mail", good: mail, mended: own},
		{code: problem.LinkConflict, before: of, person: twin, remedies: append([]act.Kind{act.Unlink, act.TakeOver}, values...), attribute: "mail", good: mail, mended: own},
		{code: problem.NearMiss, before: func(name string) {
			w.InCloud("cloud."+strings.ToLower(strings.ReplaceAll(name, " ", "")), map[string]any{"displayName": name})
		}, person: with("displayName", ""), remedies: []act.Kind{act.Link, act.Create, act.SyncOne}},
		{code: problem.RequiredMissing, person: with("mail", ""), remedies: values, attribute: "mail", good: mail, mended: own},
		{code: problem.FormulaFailed, person: with("roomNumber", "bridge"), remedies: elsewhere, mended: set("roomNumber", "7")},
		{code: problem.ValueRefused, person: with("title", "Refused"), remedies: elsewhere, mended: set("title", "Cook")},
		{code: problem.ValueAltered, person: with("title", "Officer of the Watch, North"), remedies: elsewhere, mended: set("title", "Cook")},
		{code: problem.LoginSuffix, person: func(name string) string {
			return w.Person(name, map[string]string{"mail": strings.Replace(mail(name), "@", "@corp.", 1)})
		},
			remedies: values, attribute: "mail", good: mail, mended: own},
		{code: problem.ProtectedResource, before: func(name string) {
			w.InCloud(strings.TrimSuffix(mail(name), "@brisling.example"), map[string]any{"roles": []any{map[string]any{"type": "administrative", "value": "all"}}})
		}, person: with("title", ""), remedies: append([]act.Kind{act.Link}, values...),
			attribute: "mail", good: func(name string) string { return "other." + mail(name) }, mended: func(name, dn string) { w.Set(dn, "mail", "other."+mail(name)) }},
		{code: problem.AmbiguousMatch, before: func(name string) {
			for _, one := range []string{"a.", "b."} {
				w.InCloud(one+strings.ReplaceAll(name, " ", ""), map[string]any{"nickName": name})
			}
		}, person: func(name string) string { return w.Person(name, map[string]string{"employeeNumber": name}) },
			remedies: append([]act.Kind{act.Link, act.Link}, elsewhere...), mended: set("employeeNumber", "1")},
		{code: problem.HeldByHand, before: func(name string) { w.Person(name, nil) }, person: func(name string) string {
			w.Says([]string{"unlink", mail(name), "--yes"})
			return dnOf(name)
		}, remedies: []act.Kind{act.Rematch, act.Create, act.SyncOne}, prepared: func(kind act.Kind, name string) {
			if kind == act.Create { // nobody in the cloud is this person any more
				status, _ := worldtest.SCIM(t, w.Address(), "DELETE", fmt.Sprint(w.Cloud.URL, "/Users/", w.User(mail(name))["id"]), nil)
				require.Equal(t, 204, status)
			}
		}, mended: func(_, dn string) { w.Says([]string{"rematch", dn, "--yes"}) }},
		{code: problem.DuplicateAddress, before: both, person: func(name string) string {
			w.Set("cn=Of "+name+","+worldtest.People, "carLicense", mail("X "+name))
			w.Run(wire.NewRun{})
			w.Set(dnOf(name), "carLicense", mail("X "+name))
			return dnOf(name)
		}, remedies: append([]act.Kind{act.Swap}, elsewhere...), mended: func(name, dn string) { w.Set(dn, "carLicense", mail("Y "+name)) }},
		{code: problem.DuplicateName, before: func(name string) {
			w.Group(name, worldtest.People)
			w.Group("Another "+name, worldtest.People)
		}, person: func(name string) string {
			w.Set("cn=Another "+name+","+worldtest.Teams, "description", name)
			return "cn=Another " + name + "," + worldtest.Teams
		}, remedies: elsewhere, mended: func(name, dn string) { w.Set(dn, "description", "Y "+name) }},
	}
	d := worldtest.WithGroups()
	d.Users.Match = append(d.Users.Match, settings.MatchRule{Name: "same number", From: "employeeNumber", Resource: "nickName"})
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: `emails[type eq "home"].value`, From: "carLicense"})
	for i, r := range d.Groups.Rules {
		if r.Target == "displayName" {
			d.Groups.Rules[i].From, d.Groups.Rules[i].Formula = "", `entry.description == "" ? entry.cn : entry.description`
		}
	}
	d.Directories[0].Features = []entry.Feature{entry.FeatureRepair}
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "nickName", Formula: `entry.roomNumber == "" ? "" : string(int(entry.roomNumber))`})
	w.Activate(d)
	each := func(work func(c provoked, kind act.Kind, name string)) {
		for _, c := range cases {
			for i, kind := range c.remedies {
				work(c, kind, fmt.Sprintf("%s %d", strings.ReplaceAll(string(c.code), "-", ""), i))
			}
		}
	}
	each(func(c provoked, _ act.Kind, name string) {
		if c.before != nil {
			c.before(name)
		}
	})
	w.Run(wire.NewRun{})
	dns := map[string]string{}
	each(func(c provoked, _ act.Kind, name string) { dns[name] = c.person(name) })
	w.Run(wire.NewRun{})
	open := func() map[string]wire.Problem {
		page, err := w.Client.Problems(t.Context(), url.Values{"about": {"entry"}, "limit": {"500"}})
		require.NoError(t, err)
		found := map[string]wire.Problem{}
		for _, p := range page.Items {
			found[p.DN] = p
		}
		return found
	}
	stand := open()
	each(func(c provoked, kind act.Kind, name string) {
		p, has := stand[dns[name]]
		if !assert.True(t, has, "%s: %s has no problem", c.code, name) {
			return
		}
		assert.Equal(t, string(c.code), p.Code, name)
		var offered []act.Kind
		var follow remedy.Remedy
		for _, r := range p.Remedies {
			offered = append(offered, r.Act)
			if r.Act == kind {
				follow = r
			}
		}
		if !assert.Equal(t, c.remedies, offered, "remedies of %s", c.code) {
			return
		}
		if c.prepared != nil {
			c.prepared(kind, name)
		}
		arguments := strings.Fields(strings.TrimPrefix(follow.Command, "kambrel "))
		switch kind {
		case act.RepairValue:
			arguments = append(arguments, "--attribute", c.attribute, "--value", c.good(name), "--yes")
		case act.Swap: // they are not crosswise
			w.Says(arguments, "Nothing was done yet")
			c.mended(name, p.DN)
			return
		case act.Activate: // the rules are edited by hand; here the value is what is meant
			w.Says(arguments, strings.Split(follow.Attribute, ".")[0])
			c.mended(name, p.DN)
			return
		case act.SyncOne:
			if c.mended == nil {
				c.mended = func(name, dn string) { w.Set(dn, "displayName", "Somebody "+name); w.Set(dn, "sn", "Else") }
			}
			c.mended(name, p.DN)
		default:
			arguments = append(arguments, "--yes")
		}
		out, stderr, _ := w.Kambrel(arguments...)
		closed, err := w.Client.Problem(t.Context(), p.ID)
		require.NoError(t, err)
		if kind == act.Unlink { // of the other entry: this one takes the resource next
			w.Run(wire.NewRun{})
			closed, err = w.Client.Problem(t.Context(), p.ID)
			require.NoError(t, err)
		}
		assert.NotNil(t, closed.Closed, "%s of %s: kambrel %s\n%s%s", kind, c.code, strings.Join(arguments, " "), out, stderr)
	})
	w.Run(wire.NewRun{})
	for dn, p := range open() { // whom a resource was taken from waits for somebody
		assert.Equal(t, string(problem.HeldByHand), p.Code, "%s: %s", dn, p.Detail)
	}
}

// TestProblemsThatAreNobodysAreTold makes problems happen that no entry has, and ends each
// by what its remedy or the catalogue says.
func TestProblemsThatAreNobodysAreTold(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(12), worldtest.Options{Serve: []string{"--mail-server", "smtp://127.0.0.1:9", "--mail-from", "kambrel@brisling.example"}})
	w.Activate(worldtest.Document())
	w.InStep(12)
	title := func(code problem.Code) string { return problem.Describe(code).Title }

	// More would be taken away than one run may.
	d := worldtest.Document()
	d.Users.Filter, d.Guard = "(cn=Crew 00001)", settings.Guard{Removals: 3, Share: 10}
	w.Activate(d)
	run := w.Run(wire.NewRun{})
	require.Equal(t, 11, run.Counts.Held, "%+v", run.Counts)
	open := func(code problem.Code, n int) func() bool {
		return func() bool { // how things stand is looked at every few seconds
			page, err := w.Client.Problems(t.Context(), url.Values{"code": {string(code)}})
			return err == nil && len(page.Items) == n
		}
	}
	require.Eventually(t, open(problem.RemovalsHeld, 1), 20*time.Second, 100*time.Millisecond)
	held := one(w, problem.RemovalsHeld)
	require.Equal(t, []string{fmt.Sprintf("kambrel runs release %d", run.ID), fmt.Sprintf("kambrel runs discard %d", run.ID)}, commands(held))
	w.Says([]string{"runs", "discard", fmt.Sprint(run.ID), "--reason", "a slip", "--yes"})
	w.InStep(0)
	require.Eventually(t, open(problem.RemovalsHeld, 0), 20*time.Second, 100*time.Millisecond)
	w.Says([]string{"problems", "show", fmt.Sprint(held.ID)}, "the cause is gone")

	// What is refused at once, with what to do.
	w.Refuses([]string{"show", "crew"}, title(problem.AmbiguousText), "kambrel find")
	d.Directories[0].Name = "another"
	text, err := d.YAML()
	require.NoError(t, err)
	_, err = w.Client.Activate(t.Context(), wire.ActivateSettings{YAML: string(text)})
	require.ErrorContains(t, err, title(problem.DirectoryInUse))

	// Passwords are switched on, and no agent trusts the cloud's key.
	d = worldtest.PasswordDocument()
	w.Activate(d)
	require.Eventually(t, open(problem.PasswordsClosed, 1), 20*time.Second, 100*time.Millisecond)

	// People are to be told, and no mail server listens.
	d.Notices.Recipients = []settings.Recipient{{To: "ops@brisling.example"}}
	w.Activate(d)
	_, _, _ = w.Kambrel("notices", "test")
	require.Eventually(t, open(problem.NoticesStuck, 1), 30*time.Second, 100*time.Millisecond)

	// The database takes no writes, and does again.
	w.ReadOnly(true)
	require.Eventually(t, func() bool {
		_, stderr, status := w.Kambrel("sync")
		return status != 0 && strings.Contains(stderr, title(problem.DatabaseReadOnly))
	}, 20*time.Second, 100*time.Millisecond)
	w.ReadOnly(false)
	require.NoError(t, w.Agent.Stop()) // it waits longer each time that it is sent away
	w.StartAgent()
	require.Eventually(t, func() bool {
		_, _, status := w.Kambrel("sync")
		return status == 0
	}, 30*time.Second, 100*time.Millisecond)
}

// commands are the remedies of a problem.
func commands(p wire.Problem) (out []string) {
	for _, r := range p.Remedies {
		out = append(out, r.Command)
	}
	return out
}
