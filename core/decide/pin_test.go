package decide_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/settings"
)

func pin(target, element string, value any) decide.Pin {
	return decide.Pin{Target: target, Element: element, Value: value, Run: 7, By: "ingrid", Made: time.Unix(0, 0)}
}

// TestWhatWasPutBackIsHeldAgainstTheRules: a pin wins over rules and scope for as long as
// they come to something else, and ends when they agree.
func TestWhatWasPutBackIsHeldAgainstTheRules(t *testing.T) {
	t.Parallel()
	key := ada(1).Entry.LinkKey()
	titled := func(title string) decide.Case {
		c := linked(ada(1), resource("r1", key, "ada@halvard.example"))
		c.Entry.Attributes["title"] = []string{"Mate"}
		c.Resource["title"] = title
		return c
	}
	out := func(c decide.Case) decide.Case {
		c.Entry.DN = "CN=Ada Lind,OU=Leavers,DC=example"
		return c
	}
	left := func(c decide.Case) decide.Case {
		c.Link.Left, c.Resource["active"] = true, false
		return c
	}
	grants := func(d *settings.Document) {
		d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "entitlements", Granted: []settings.Grant{{Value: "bridge", Group: "CN=Deck,DC=example"}}})
	}
	pinned := func(c decide.Case, pins ...decide.Pin) decide.Case {
		c.Pins = pins
		return c
	}
	for name, c := range map[string]struct {
		of        decide.Case
		groups    []string
		settings  func(*settings.Document)
		operation plan.Operation
		diffs     map[string]any // after, by target; of elements the change in words
		lapsed    int
	}{
		"a value goes back":                            {of: pinned(titled("Mate"), pin("title", "", "Cook")), operation: plan.Update, diffs: map[string]any{"title": "Cook"}},
		"and stays back":                               {of: pinned(titled("Cook"), pin("title", "", "Cook"))},
		"to nothing too":                               {of: pinned(titled("Mate"), pin("title", "", nil)), operation: plan.Update, diffs: map[string]any{"title": nil}},
		"until the rules give the same":                {of: pinned(titled("Mate"), pin("title", "", "Mate")), lapsed: 1},
		"what no rule gives is put back once":          {of: pinned(titled("Mate"), pin("nickName", "", "Addi")), operation: plan.Update, diffs: map[string]any{"nickName": "Addi"}},
		"and is nobody's then":                         {of: pinned(linked(titled("Mate"), entry.Resource{"id": "r1", "externalId": key, "userName": "ada@halvard.example", "active": true, "displayName": "Ada Lind", "title": "Mate", "nickName": "Addi", "name": map[string]any{"givenName": "Ada", "familyName": "Lind"}, "emails": []any{map[string]any{"type": "work", "value": "ada@halvard.example"}}}), pin("nickName", "", "Addi")), lapsed: 1},
		"who is out of scope comes back":               {of: pinned(left(out(titled("Mate"))), pin(decide.PinScope, "", true)), operation: plan.Restore, diffs: map[string]any{"active": true}},
		"and stays":                                    {of: pinned(out(titled("Mate")), pin(decide.PinScope, "", true))},
		"who is in scope goes as a leaver does":        {of: pinned(titled("Mate"), pin(decide.PinScope, "", false)), operation: plan.Suspend, diffs: map[string]any{"active": false}},
		"until the scope agrees":                       {of: pinned(titled("Mate"), pin(decide.PinScope, "", true)), lapsed: 1},
		"who was never made stays out":                 {of: pinned(ada(1), pin(decide.PinScope, "", false))},
		"what a membership grants goes back":           {of: pinned(titled("Mate"), pin("entitlements", "bridge", true)), settings: grants, operation: plan.Update, diffs: map[string]any{"entitlements": "+bridge"}},
		"and what it has granted is taken back":        {of: pinned(titled("Mate"), pin("entitlements", "bridge", false)), groups: []string{"CN=Deck,DC=example"}, settings: grants},
		"until the membership says the same":           {of: pinned(titled("Mate"), pin("entitlements", "bridge", false)), settings: grants, lapsed: 1},
		"pins of members are not the plan's":           {of: pinned(titled("Mate"), pin("members", "r2", true))},
		"a reference is compared where references are": {of: pinned(titled("Mate"), pin("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value", "", "r2"))},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			facts := &memory{groups: map[string][]string{c.of.Entry.DN: c.groups}}
			d := decider(t, facts, c.settings)
			outcomes, err := d.Decide(t.Context(), []decide.Case{c.of})
			require.NoError(t, err)
			o := outcomes[0]
			assert.Equal(t, c.operation, o.Operation, o.Summary())
			got := map[string]any{}
			for _, diff := range o.Diffs {
				if got[diff.Target] = diff.After; diff.Elements() {
					got[diff.Target] = change.ShowElements(diff)
				}
				assert.Contains(t, diff.Source+o.Verdict.Summary, "put back by ingrid: undo of run 7")
			}
			if c.diffs == nil {
				c.diffs = map[string]any{}
			}
			assert.Equal(t, c.diffs, got)
			assert.Len(t, o.LapsedPins, c.lapsed)
			assert.NotEmpty(t, o.Explain(d.Settings, "resource r1"))
		})
	}
}

// TestAnAdoptionIsTakenBack: the resource keeps what it had, and is the cloud's then.
func TestAnAdoptionIsTakenBack(t *testing.T) {
	t.Parallel()
	facts := &memory{chosen: map[entry.Ref]decide.Chosen{ref(1): {Choice: decide.ChooseHold, By: "ingrid"}}}
	c := linked(ada(1), resource("r1", ada(1).Entry.LinkKey(), "ada@halvard.example"))
	c.Pins = []decide.Pin{pin("displayName", "", "Ada L."), pin("title", "", nil)}
	outcomes, err := decider(t, facts, nil).Decide(t.Context(), []decide.Case{c})
	require.NoError(t, err)
	o := outcomes[0]
	assert.Equal(t, plan.Unlink, o.Operation)
	require.Len(t, o.Diffs, 2, "%+v", o.Diffs)
	assert.Equal(t, []any{"displayName", "Ada Lind", "Ada L."}, []any{o.Diffs[1].Target, o.Diffs[1].Before, o.Diffs[1].After})
	assert.Len(t, o.LapsedPins, 1, "no title is what the rules give too")

	c.Link, c.Resource = nil, nil
	outcomes, err = decider(t, facts, nil).Decide(t.Context(), []decide.Case{c})
	require.NoError(t, err)
	assert.Equal(t, plan.Blocked, outcomes[0].Code)
	assert.Len(t, outcomes[0].LapsedPins, 2, "what is not linked is not held")
}
