package cloudgroups

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
)

const container = "OU=Cloud Groups,DC=corp,DC=halvard,DC=example"

func keeping(t *testing.T, change func(*settings.Directory)) *Keeping {
	t.Helper()
	d := settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=corp,DC=halvard,DC=example", Features: []entry.Feature{entry.FeatureCloudGroups},
		Containers: settings.Containers{Include: []string{"DC=corp,DC=halvard,DC=example"}}, CloudGroups: &settings.CloudGroups{Container: container}}
	if change != nil {
		change(&d)
	}
	document := settings.Default(d)
	require.Empty(t, document.Validate())
	k, err := Compile(d)
	require.NoError(t, err)
	return k
}

func group(name string) entry.Resource { return entry.Resource{"id": "g1", "displayName": name} }

// made is the subject of a group that was made as it is wanted.
func made(k *Keeping, name string) Subject {
	d := k.Decide(Subject{Group: group(name)})
	e := entry.Entry{DN: d.Wanted.DN, Kind: entry.Group, Attributes: entry.Attributes{"objectClass": {"top", "group"}}}
	for _, v := range d.Wanted.Values {
		e.Attributes[v.Attribute] = v.Values
	}
	return Subject{Group: group(name), Link: &Link{Written: d.Written()}, Entry: &e, Now: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)}
}

func targets(diffs []change.Diff) []string {
	var out []string
	for _, d := range diffs {
		out = append(out, d.Target)
	}
	return out
}

func TestWhatAGroupIsInTheDirectory(t *testing.T) {
	t.Parallel()
	k := keeping(t, nil)
	d := k.Decide(Subject{Group: group("Regatta, Committee/1")})
	require.Equal(t, plan.Create, d.Operation)
	assert.Equal(t, `CN=Regatta\, Committee/1,`+container, d.Wanted.DN)
	assert.Equal(t, "Regatta  Committee-1", d.Wanted.Account)
	values := d.Written()
	assert.Equal(t, []string{"g1"}, values["adminDisplayName"])
	assert.Equal(t, []string{"-2147483640"}, values["groupType"], "a universal security group")

	s := made(k, "Regatta")
	assert.Equal(t, plan.InStep, k.Decide(s).Code)
	s.Group = group("Harbour Regatta")
	d = k.Decide(s)
	assert.Equal(t, []string{DN, "sAMAccountName", "displayName"}, targets(d.Diffs))
	assert.Empty(t, d.Drift, "it was renamed in the cloud")

	s = made(k, "Regatta")
	s.Entry.DN, s.Entry.Attributes["description"] = "CN=Other,"+container, []string{"mine"}
	d = k.Decide(s)
	assert.Equal(t, []string{DN, "description"}, targets(d.Drift), "what was changed in the directory is put back")
	s.Hidden = []string{"Description"}
	assert.Equal(t, []string{DN}, targets(k.Decide(s).Diffs), "what cannot be seen is not missing")
}

func TestNamesThatCannotBe(t *testing.T) {
	t.Parallel()
	k := keeping(t, nil)
	long := "A name that is much longer than a directory of this dialect takes for one"
	for name, code := range map[string]problem.Code{long: problem.CloudGroupName, "": problem.RequiredMissing, "a\nb": problem.CloudGroupName, "Crew\x7f": problem.CloudGroupName} {
		d := k.Decide(Subject{Group: group(name)})
		require.NotNil(t, d.Problem, "%q", name)
		assert.Equal(t, code, d.Problem.Code, "%q", name)
		assert.Empty(t, d.Operation)
	}
	holder := problem.Entry{Name: "CN=Regatta,OU=Teams"}
	d := k.Decide(Subject{Group: group("Regatta"), Holder: &holder})
	assert.Equal(t, problem.CloudGroupNameTaken, d.Problem.Code)
	assert.Contains(t, d.Problem.Detail, holder.Name)
	s := made(k, "Crew")
	s.Group, s.Holder = group("Regatta"), &holder
	s.Entry.Attributes["description"] = nil
	d = k.Decide(s)
	assert.Equal(t, []string{"displayName", "description"}, targets(d.Diffs), "only the name waits")
	assert.True(t, d.Members)
}

func TestWhatIsDeletedIsMadeAgainOnlyWithAWord(t *testing.T) {
	t.Parallel()
	k := keeping(t, nil)
	s := made(k, "Regatta")
	s.Entry.Gone = true
	d := k.Decide(s)
	assert.True(t, d.Again)
	assert.Equal(t, plan.Create, d.Operation)
	s.Link.Forgone = true
	d = k.Decide(s)
	assert.Equal(t, Forgone, d.Code)
	assert.Empty(t, d.Operation)
}

func TestLeavingTakesItsTime(t *testing.T) {
	t.Parallel()
	k := keeping(t, func(d *settings.Directory) { d.CloudGroups.Grace = "48h" })
	s := made(k, "Regatta")
	s.Group = nil
	d := k.Decide(s)
	require.Equal(t, plan.Leave, d.Operation)
	assert.Equal(t, s.Now.Add(48*time.Hour), *d.Due)
	s.Link.Left, s.Link.Due = true, d.Due
	assert.Equal(t, plan.Left, k.Decide(s).Code)
	back := s
	back.Group = group("Regatta")
	assert.Equal(t, plan.Restore, k.Decide(back).Operation, "chosen again, it is the same entry")
	s.Now = *d.Due
	assert.Equal(t, plan.Delete, k.Decide(s).Operation)
	s.Entry.Gone = true
	assert.Equal(t, plan.Unlinked, k.Decide(s).Code)
	kept := keeping(t, func(d *settings.Directory) { d.CloudGroups.Leavers = settings.Keep })
	s = made(kept, "Regatta")
	s.Group = nil
	assert.Equal(t, plan.Left, kept.Decide(s).Code)
}

func TestWhichGroupsAreKept(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		change func(*settings.CloudGroups)
		owner  string
		want   Code
	}{
		"all":          {func(*settings.CloudGroups) {}, "", Chosen},
		"synced up":    {func(*settings.CloudGroups) {}, "CN=Crew", OfDirectory},
		"named":        {func(c *settings.CloudGroups) { c.Only = []string{"g1"} }, "", Chosen},
		"not named":    {func(c *settings.CloudGroups) { c.Only = []string{"g2"} }, "", NotOnly},
		"excepted":     {func(c *settings.CloudGroups) { c.Except = []string{"g1"} }, "", Excepted},
		"filtered":     {func(c *settings.CloudGroups) { c.Filter = `displayName sw "B"` }, "", Filtered},
		"fits":         {func(c *settings.CloudGroups) { c.Filter = `displayName co "gat"` }, "", Chosen},
		"none, so far": {func(c *settings.CloudGroups) { c.None = true }, "", NoneYet},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			k := keeping(t, func(d *settings.Directory) { c.change(d.CloudGroups) })
			v := k.Chosen(group("Regatta"), c.owner, false)
			assert.Equal(t, c.want, v.Code)
			node := k.ExplainChosen(group("Regatta"), c.owner, false)
			assert.Equal(t, v.Summary, node.Value)
		})
	}
}

func TestAGroupThatBearsALinkKeyIsNotTakenForTheClouds(t *testing.T) {
	t.Parallel()
	foreign := entry.Resource{"id": "g1", "displayName": "Regatta", "externalId": "3d864a23"}
	k := keeping(t, nil)
	assert.Equal(t, OfDirectory, k.Chosen(foreign, "", false).Code)
	assert.Equal(t, Chosen, k.Chosen(foreign, "", true).Code, "it was handed over")
	k = keeping(t, func(d *settings.Directory) { d.CloudGroups.Only = []string{"g1"} })
	assert.Equal(t, Chosen, k.Chosen(foreign, "", false).Code, "the settings name it")
}

func TestScopesRefuseMembers(t *testing.T) {
	t.Parallel()
	const local, universal, global = "-2147483644", "-2147483640", "-2147483646"
	for scope, refused := range map[settings.GroupScope][]string{settings.Universal: {local}, settings.Global: {local, universal}, settings.DomainLocal: nil} {
		k := keeping(t, func(d *settings.Directory) { d.CloudGroups.Scope = scope })
		var got []string
		for _, one := range []string{local, universal, global} {
			if k.Refuses(one) != "" {
				got = append(got, one)
			}
		}
		assert.Equal(t, refused, got, scope)
	}
}

func TestFaultsOfTheSettings(t *testing.T) {
	t.Parallel()
	d := settings.Directory{Name: "b", Dialect: entry.Standard, Base: "dc=b,dc=example", Features: []entry.Feature{entry.FeatureCloudGroups}, Containers: settings.Containers{Include: []string{"dc=b,dc=example"}},
		CloudGroups: &settings.CloudGroups{Container: "ou=x,dc=c,dc=example", Filter: "displayName like", Mark: "member", Scope: "global", Class: "posixGroup", Only: []string{"a"}, Except: []string{"a"},
			Grace: "soon", Rules: []settings.Rule{{Target: "member", From: "x"}, {Target: "description", Formula: "entry.title"}, {Target: "o", From: "a", Always: "b"}}}}
	document := settings.Default(d)
	faults := map[string]bool{}
	for _, fault := range document.Validate() {
		faults[fault.Path] = true
	}
	for _, path := range []string{".container", ".filter", ".mark", "", ".class", ".except", ".grace", ".rules[0].target", ".rules[1].formula", ".rules[2]", ".rules"} {
		assert.True(t, faults["directories[0].cloudGroups"+path], "%s in %v", path, faults)
	}
	document.Directories[0].CloudGroups = nil
	assert.Len(t, document.Validate(), 1, "the feature asks for a container")
}
