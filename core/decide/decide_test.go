package decide_test

import (
	"cmp"
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
)

// memory answers from what a test puts into it.
type memory struct {
	kin       map[entry.Ref]decide.Kin
	formers   map[entry.Ref][]decide.Former
	heirs     map[entry.Ref][]decide.Former
	resources []decide.Holder
	chosen    map[entry.Ref]decide.Chosen
	claims    map[string]decide.Claimant
	unclaimed []entry.Ref
	groups    map[string][]string  // by the name of the entry
	names     map[entry.Ref]string // of those who are not called like Ada
	failure   error
}

func (m *memory) FillGroups(_ context.Context, entries []*entry.Entry) error {
	for _, e := range entries {
		e.AllGroups = m.groups[e.DN]
	}
	return m.failure
}

func (m *memory) Kin(context.Context, []entry.Ref) (map[entry.Ref]decide.Kin, error) {
	out := map[entry.Ref]decide.Kin{}
	for ref, kin := range m.kin {
		out[ref] = kin
	}
	return out, m.failure
}

func (m *memory) Formers(context.Context, []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return m.formers, m.failure
}

func (m *memory) Heirs(context.Context, []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return m.heirs, m.failure
}

func (m *memory) Holders(_ context.Context, keys []string) (map[string][]decide.Holder, error) {
	out := map[string][]decide.Holder{}
	for _, h := range m.resources {
		texts := []string{match.KeyText(h.Kind, "externalId", h.Resource.ExternalID()), match.KeyText(h.Kind, "userName", h.Resource.Login())}
		for _, address := range h.Resource.Addresses() {
			texts = append(texts, match.KeyText(h.Kind, "emails.value", address))
		}
		if h.Kind == entry.User {
			texts = append(texts, match.LikenessOf(h.Resource).Indexed()...)
		}
		for _, key := range keys {
			for _, text := range texts {
				if key == text {
					out[key] = append(out[key], h)
				}
			}
		}
	}
	return out, m.failure
}

func (m *memory) FreeHolders(ctx context.Context, keys []string) (map[string][]decide.Holder, error) {
	all, err := m.Holders(ctx, keys)
	for key, list := range all {
		var free []decide.Holder
		for _, h := range list {
			if h.Resource.ExternalID() == "" {
				free = append(free, h)
			}
		}
		all[key] = free
	}
	return all, err
}

func (m *memory) Chosen(context.Context, []entry.Ref) (map[entry.Ref]decide.Chosen, error) {
	out := map[entry.Ref]decide.Chosen{}
	for ref, c := range m.chosen {
		out[ref] = c
	}
	return out, m.failure
}

func (m *memory) Claim(_ context.Context, _ []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	if m.claims == nil {
		m.claims = map[string]decide.Claimant{}
	}
	taken := map[string]decide.Claimant{}
	for _, c := range claims {
		if holder, ok := m.claims[c.Key]; ok && holder.Ref != c.Ref {
			taken[c.Key] = holder
		} else {
			m.claims[c.Key] = decide.Claimant{Ref: c.Ref, DN: cmp.Or(m.names[c.Ref], ada(0).Entry.DN)}
		}
	}
	return taken, m.failure
}

func (m *memory) Unclaim(_ context.Context, refs []entry.Ref) error {
	m.unclaimed = append(m.unclaimed, refs...)
	return m.failure
}

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func ref(n byte) entry.Ref { return entry.Ref{Directory: "halvard", ID: entry.ID{15: n}} }

// ada is a case of the name and number given, in scope.
func ada(n byte) decide.Case {
	return decide.Case{Entry: entry.Entry{Directory: "halvard", ID: ref(n).ID, Kind: entry.User, DN: "CN=Ada Lind,OU=Fleet,DC=example", Attributes: entry.Attributes{
		"cn": {"Ada Lind"}, "displayName": {"Ada Lind"}, "givenName": {"Ada"}, "sn": {"Lind"}, "userPrincipalName": {"ada@halvard.example"}, "mail": {"ada@halvard.example"},
		"userAccountControl": {"512"}, "objectClass": {"user"},
	}}}
}

// resource is one of hers in the cloud, with a link key or "".
func resource(id, key, login string) entry.Resource {
	r := entry.Resource{
		"id": id, "userName": login, "active": true, "displayName": "Ada Lind", "name": map[string]any{"givenName": "Ada", "familyName": "Lind"},
		"emails": []any{map[string]any{"type": "work", "value": "ada@halvard.example"}},
	}
	if key != "" {
		r["externalId"] = key
	}
	return r
}

// linked gives a case the resource.
func linked(c decide.Case, r entry.Resource) decide.Case {
	c.Link, c.LinkKey, c.Resource = &plan.Link{ResourceID: r.ID()}, r.ExternalID(), r
	return c
}

func decider(t *testing.T, m *memory, change func(*settings.Document)) *decide.Decider {
	t.Helper()
	d := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=example", Containers: settings.Containers{Include: []string{"OU=Fleet,DC=example"}}})
	if change != nil {
		change(&d)
	}
	compiled, err := decide.Compile(d)
	require.NoError(t, err)
	cloud := decide.AnyCloud()
	cloud.Domains = []string{"halvard.example"}
	return &decide.Decider{Settings: compiled, Cloud: cloud, Facts: m, Now: now, Last: true}
}

func TestDecisions(t *testing.T) {
	t.Parallel()
	key := ada(1).Entry.LinkKey()
	mine, other := resource("r1", key, "ada@halvard.example"), resource("r2", "", "ada.lind@halvard.example")
	free := decide.Holder{Resource: resource("r2", "", "ada@halvard.example"), Kind: entry.User}
	chose := func(choice decide.Choice, of entry.Resource) map[entry.Ref]decide.Chosen {
		return map[entry.Ref]decide.Chosen{ref(1): {Choice: choice, By: "ingrid", ResourceID: of.ID(), Resource: of}}
	}
	leaver := func(c decide.Case) decide.Case {
		c.Entry.DN = "CN=Ada Lind,OU=Leavers,DC=example"
		return c
	}
	for name, c := range map[string]struct {
		of        decide.Case
		facts     memory
		settings  func(*settings.Document)
		cloud     func(*decide.Cloud)
		operation plan.Operation
		code      plan.Code
		problem   problem.Code
		resource  string
	}{
		"a newcomer gets a resource":                               {of: ada(1), operation: plan.Create, code: "create"},
		"who is in step is left alone":                             {of: linked(ada(1), mine), code: plan.InStep, resource: "r1"},
		"who fits a match rule is adopted":                         {of: ada(1), facts: memory{resources: []decide.Holder{free}}, operation: plan.Adopt, code: "adopt", resource: "r2"},
		"who bears the link key is linked again":                   {of: ada(1), facts: memory{resources: []decide.Holder{{Resource: mine, Kind: entry.User}}}, code: plan.Relinked, resource: "r1"},
		"a near miss waits for a person":                           {of: ada(1), facts: memory{resources: []decide.Holder{{Resource: resource("r9", "", "lind@old.example"), Kind: entry.User}}}, settings: func(d *settings.Document) { d.Users.Match = nil }, code: plan.Blocked, problem: problem.NearMiss},
		"a near miss is made all the same when decided so":         {of: ada(1), facts: memory{resources: []decide.Holder{{Resource: entry.Resource{"id": "r9", "userName": "lind@old.example", "displayName": "Ada Lind"}, Kind: entry.User}}, chosen: chose(decide.ChooseCreate, nil)}, operation: plan.Create, code: "create"},
		"a resource of another entry is not taken":                 {of: ada(1), facts: memory{resources: []decide.Holder{{Resource: free.Resource, Kind: entry.User, Ref: ref(7), LinkedDN: "CN=Bo"}}}, code: plan.Blocked, problem: problem.LinkConflict},
		"a login that a leaver's resource has is not given again":  {of: ada(1), facts: memory{resources: []decide.Holder{{Resource: free.Resource, Kind: entry.User, Ref: ref(7), LinkedDN: "CN=Bo", Left: true}}}, settings: func(d *settings.Document) { d.Users.Match = nil }, code: plan.Blocked, problem: problem.DuplicateLogin},
		"a login outside the verified domains is not sent":         {of: ada(1), cloud: func(c *decide.Cloud) { c.Domains = []string{"other.example"} }, code: plan.Blocked, problem: problem.LoginSuffix},
		"a kind that the cloud has not is not sent":                {of: ada(1), cloud: func(c *decide.Cloud) { c.Kinds = map[entry.Kind]bool{} }, code: plan.NotSent},
		"a kind without rules is not sent":                         {of: ada(1), settings: func(d *settings.Document) { d.Users.Rules = nil }, code: plan.NotSent},
		"who left is suspended":                                    {of: leaver(linked(ada(1), mine)), operation: plan.Suspend, code: "suspend", resource: "r1"},
		"who left is left where the policy keeps":                  {of: leaver(linked(ada(1), mine)), settings: func(d *settings.Document) { d.Users.Leavers = settings.Keep }, code: plan.Left, resource: "r1"},
		"who left and has nothing stays so":                        {of: leaver(ada(1)), code: plan.OutSide},
		"a link to the resource of an operator's choice":           {of: ada(1), facts: memory{chosen: chose(decide.ChooseLink, other)}, operation: plan.Adopt, code: "adopt", resource: "r2"},
		"a resource of choice that somebody else has by now":       {of: ada(1), facts: memory{chosen: map[entry.Ref]decide.Chosen{ref(1): {Choice: decide.ChooseLink, By: "ingrid", ResourceID: "r2", Resource: other, OwnerRef: ref(7), Owner: "CN=Bo"}}}, code: plan.Blocked, problem: problem.LinkConflict},
		"a resource of choice that is gone leaves it to the rules": {of: ada(1), facts: memory{chosen: map[entry.Ref]decide.Chosen{ref(1): {Choice: decide.ChooseLink, By: "ingrid", ResourceID: "r2"}}}, operation: plan.Create, code: "create"},
		"who is to be unlinked is untied":                          {of: linked(ada(1), mine), facts: memory{chosen: chose(decide.ChooseHold, nil)}, operation: plan.Unlink, code: "unlink", resource: "r1"},
		"who was unlinked is held":                                 {of: ada(1), facts: memory{chosen: chose(decide.ChooseHold, nil)}, code: plan.Blocked, problem: problem.HeldByHand},
		"who is to be unlinked leaves without a suspension":        {of: leaver(linked(ada(1), mine)), facts: memory{chosen: chose(decide.ChooseHold, nil)}, operation: plan.Unlink, code: "unlink", resource: "r1"},
		"a double is deleted for the one that is kept":             {of: linked(ada(1), mine), facts: memory{chosen: chose(decide.ChooseMerge, other)}, operation: plan.Delete, code: "delete", resource: "r1"},
		"after a merge the other is adopted":                       {of: ada(1), facts: memory{chosen: chose(decide.ChooseMerge, other)}, operation: plan.Adopt, code: "adopt", resource: "r2"},
		"a merge out of scope waits":                               {of: leaver(linked(ada(1), mine)), facts: memory{chosen: chose(decide.ChooseMerge, other)}, operation: plan.Suspend, code: "suspend", resource: "r1"},
		"a merge into what is gone deletes nothing":                {of: linked(ada(1), mine), facts: memory{chosen: map[entry.Ref]decide.Chosen{ref(1): {Choice: decide.ChooseMerge, By: "ingrid", ResourceID: "r2"}}}, code: plan.InStep, resource: "r1"},
		"a merge into what somebody else has deletes nothing":      {of: linked(ada(1), mine), facts: memory{chosen: map[entry.Ref]decide.Chosen{ref(1): {Choice: decide.ChooseMerge, By: "ingrid", ResourceID: "r2", Resource: other, OwnerRef: ref(7), Owner: "CN=Bo"}}}, code: plan.InStep, problem: problem.LinkConflict, resource: "r1"},
		"a merge into the resource that it has does nothing":       {of: linked(ada(1), mine), facts: memory{chosen: chose(decide.ChooseMerge, mine)}, code: plan.InStep, resource: "r1"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			facts := c.facts
			d := decider(t, &facts, c.settings)
			if c.cloud != nil {
				c.cloud(&d.Cloud)
			}
			outcomes, err := d.Decide(t.Context(), []decide.Case{c.of})
			require.NoError(t, err)
			o := outcomes[0]
			got := problem.Code("")
			if o.Problem != nil {
				got = o.Problem.Code
			}
			assert.Equal(t, []any{c.operation, c.code, c.problem}, []any{o.Operation, o.Code, got}, o.Summary())
			if c.resource != "" {
				assert.Equal(t, c.resource, o.ResourceID)
			}
			assert.NotEmpty(t, o.Explain(d.Settings, "resource r1"), "every outcome can be explained")
			assert.NotEmpty(t, o.Summary())
		})
	}
}

// TestALinkThatLeadsNowhereIsDroppedFirst holds that a decision about an entry whose
// resource is gone is carried out in the same plan, once its link is dropped.
func TestALinkThatLeadsNowhereIsDroppedFirst(t *testing.T) {
	t.Parallel()
	other := resource("r2", "", "ada.lind@halvard.example")
	facts := &memory{chosen: map[entry.Ref]decide.Chosen{ref(1): {Choice: decide.ChooseMerge, By: "ingrid", ResourceID: "r2", Resource: other}}}
	lost := ada(1)
	lost.Link = &plan.Link{ResourceID: "r1"}
	outcomes, err := decider(t, facts, nil).Decide(t.Context(), []decide.Case{lost})
	require.NoError(t, err)
	assert.Equal(t, plan.Unlinked, outcomes[0].Code)
	assert.True(t, outcomes[0].Again())
	lost.Link = nil
	outcomes, err = decider(t, facts, nil).Decide(t.Context(), []decide.Case{lost})
	require.NoError(t, err)
	assert.Equal(t, plan.Adopt, outcomes[0].Operation)
	assert.False(t, outcomes[0].Again())
}

// TestValuesThatTwoWant: what a resource has already comes before what one shall get,
// and that before newcomers; who is still to be planned is waited for.
func TestValuesThatTwoWant(t *testing.T) {
	t.Parallel()
	has := linked(ada(2), resource("r2", ada(2).Entry.LinkKey(), "ada@halvard.example"))
	shall := linked(ada(1), resource("r1", ada(1).Entry.LinkKey(), "old@halvard.example"))
	for _, c := range []*decide.Case{&has, &shall} {
		delete(c.Entry.Attributes, "mail")
		delete(c.Resource, "emails")
	}
	newcomer := ada(3)
	delete(newcomer.Entry.Attributes, "mail")
	outcomes, err := decider(t, &memory{}, nil).Decide(t.Context(), []decide.Case{newcomer, shall, has})
	require.NoError(t, err)
	assert.Equal(t, problem.DuplicateLogin, outcomes[0].Problem.Code)
	assert.Equal(t, problem.DuplicateLogin, outcomes[1].Problem.Code, "whoever has it keeps it, whatever the order")
	assert.Equal(t, "r1", outcomes[1].ResourceID, "and of a resource that is there only the value waits")
	assert.Nil(t, outcomes[2].Problem)

	facts := &memory{claims: map[string]decide.Claimant{"userName=ada@halvard.example": {Ref: ref(9), DN: "CN=Bo", Dirty: true}}}
	d := decider(t, facts, nil)
	d.Last = false
	outcomes, err = d.Decide(t.Context(), []decide.Case{newcomer})
	require.NoError(t, err)
	assert.True(t, outcomes[0].Waits)
	assert.Nil(t, outcomes[0].Problem)
	assert.Equal(t, []entry.Ref{ref(3)}, facts.unclaimed, "who waits claims nothing meanwhile")
}

func TestPersonsAndReturns(t *testing.T) {
	t.Parallel()
	persons := func(d *settings.Document) {
		d.Users.Person = []settings.PersonRule{{Name: "same number", From: "employeeID"}}
	}
	facts := &memory{kin: map[entry.Ref]decide.Kin{
		ref(1): {Follows: &decide.Following{Lead: ref(2), LeadDN: "CN=Lead", Rule: "same number"}},
		ref(2): {Follows: &decide.Following{Problem: problem.Of(problem.PersonTwoResources, problem.Facts{Answer: "two"})}},
	}}
	outcomes, err := decider(t, facts, persons).Decide(t.Context(), []decide.Case{ada(1), ada(2)})
	require.NoError(t, err)
	assert.Equal(t, plan.Follows, outcomes[0].Code)
	assert.Contains(t, outcomes[0].Summary(), "one person with CN=Lead")
	assert.Equal(t, problem.PersonTwoResources, outcomes[1].Problem.Code)

	// Of one person with two resources, one is let go when that is decided.
	facts.chosen = map[entry.Ref]decide.Chosen{ref(2): {Choice: decide.ChooseHold, By: "ingrid"}}
	outcomes, err = decider(t, facts, persons).Decide(t.Context(), []decide.Case{linked(ada(2), resource("r2", "k", "ada@halvard.example"))})
	require.NoError(t, err)
	assert.Equal(t, plan.Unlink, outcomes[0].Operation)

	// Whoever was deleted and made again takes the resource over.
	old := ada(4).Entry
	old.Gone = true
	facts = &memory{
		formers:   map[entry.Ref][]decide.Former{ref(1): {{Entry: old, LinkKey: old.LinkKey()}}},
		resources: []decide.Holder{{Resource: resource("r4", old.LinkKey(), "ada@halvard.example"), Kind: entry.User, Ref: ref(4), LinkedDN: old.DN, Left: true, Gone: true}},
	}
	outcomes, err = decider(t, facts, nil).Decide(t.Context(), []decide.Case{ada(1)})
	require.NoError(t, err)
	assert.Equal(t, plan.Relinked, outcomes[0].Code, outcomes[0].Summary())
	require.NotNil(t, outcomes[0].Former())
	assert.Equal(t, ref(4), outcomes[0].Former().Entry.Ref())

	gone := linked(ada(4), resource("r4", old.LinkKey(), "ada@halvard.example"))
	gone.Entry.Gone = true
	facts = &memory{heirs: map[entry.Ref][]decide.Former{ref(4): {{Entry: ada(1).Entry}}}}
	outcomes, err = decider(t, facts, nil).Decide(t.Context(), []decide.Case{gone})
	require.NoError(t, err)
	assert.Equal(t, plan.Returns, outcomes[0].Code, "and meanwhile nobody is suspended")
}

func TestGroupsThatHoldAreAskedFor(t *testing.T) {
	t.Parallel()
	pilot := func(d *settings.Document) {
		d.Users.MembersOf = settings.GroupLimit{Groups: []string{"CN=Pilot,DC=example"}, Nested: true}
	}
	facts := &memory{groups: map[string][]string{ada(1).Entry.DN: {"CN=Pilot,DC=example"}}}
	stranger := ada(2)
	stranger.Entry.DN = "CN=Eve,OU=Fleet,DC=example"
	outcomes, err := decider(t, facts, pilot).Decide(t.Context(), []decide.Case{ada(1), stranger})
	require.NoError(t, err)
	assert.True(t, outcomes[0].Verdict.In)
	assert.False(t, outcomes[1].Verdict.In)
}

// TestWhatCannotBeAskedIsNoDecision: without facts nothing is decided.
func TestWhatCannotBeAskedIsNoDecision(t *testing.T) {
	t.Parallel()
	away := errors.New("the database is away")
	_, err := decider(t, &memory{failure: away}, nil).Decide(t.Context(), []decide.Case{ada(1)})
	assert.ErrorIs(t, err, away)
}
