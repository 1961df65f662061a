package undo_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/undo"
)

// TestWhatCanBePutBack goes through each operation and what may stand in its way.
func TestWhatCanBePutBack(t *testing.T) {
	t.Parallel()
	resource := entry.Resource{"id": "r1", "userName": "bo@x.example", "title": "Mate", "active": true}
	there := undo.State{Known: true, Link: &plan.Link{ResourceID: "r1"}, Resource: resource, Leavers: settings.Suspend}
	with := func(edit func(*undo.State)) undo.State {
		s := there
		edit(&s)
		return s
	}
	title := []change.Diff{{Target: "title", Before: "Cook", After: "Mate"}}
	members := []change.Diff{{Target: "members", Added: []change.Member{{Value: "m1"}}, Removed: []change.Member{{Value: "m2", Name: "Bo"}}}}
	for name, c := range map[string]struct {
		operation plan.Operation
		diffs     []change.Diff
		state     undo.State
		outcome   undo.Outcome // of the first item
		pin       any          // the value that is held
		choice    decide.Choice
		why       string
	}{
		"a value":              {plan.Update, title, there, undo.Back, "Cook", "", ""},
		"a value that is back": {plan.Update, title, with(func(s *undo.State) { s.Resource = entry.Resource{"id": "r1", "title": "Cook"} }), undo.Already, nil, "", "as it was"},
		"a value that a later run has changed": {plan.Update, title, with(func(s *undo.State) {
			s.Resource = entry.Resource{"id": "r1", "title": "Master"}
			s.Later = map[string]int64{undo.Key("title", ""): 9}
		}), undo.Cannot, nil, "", "run 9 has changed it since: it is Master now"},
		"a value that the cloud has changed":   {plan.Update, title, with(func(s *undo.State) { s.Resource = entry.Resource{"id": "r1"} }), undo.Cannot, nil, "", "changed in the cloud since: it is empty now"},
		"a login that somebody has by now":     {plan.Update, []change.Diff{{Target: "userName", Before: "old@x.example", After: "bo@x.example"}}, with(func(s *undo.State) { s.Taken = func(string, any) string { return "ada" } }), undo.Cannot, nil, "", "ada has that value now"},
		"a value of a resource that is gone":   {plan.Update, title, with(func(s *undo.State) { s.Resource = nil }), undo.Cannot, nil, "", "gone from the cloud"},
		"a value of what is somebody's by now": {plan.Update, title, with(func(s *undo.State) { s.Owner = "CN=Ada" }), undo.Cannot, nil, "", "belongs to CN=Ada now"},
		"a value of what was untied":           {plan.Update, title, with(func(s *undo.State) { s.Link = nil }), undo.Cannot, nil, "", "linked to the resource no more"},
		"a value of who has left":              {plan.Update, title, with(func(s *undo.State) { s.Link = &plan.Link{ResourceID: "r1", Left: true} }), undo.Cannot, nil, "", "has left"},
		"an entry that is forgotten":           {plan.Update, title, undo.State{}, undo.Cannot, nil, "", "memory of the entry is over"},
		"a member that came goes":              {plan.Update, members, with(func(s *undo.State) { s.Members, s.Exists = map[string]bool{"m1": true}, map[string]bool{"m2": true} }), undo.Back, false, "", ""},
		"a creation is suspended":              {plan.Create, nil, there, undo.Back, false, "", ""},
		"a creation goes by the leaver policy": {plan.Create, nil, with(func(s *undo.State) { s.Leavers = settings.Delete }), undo.Back, false, "", "deleted when the grace time is over"},
		"which may keep it":                    {plan.Create, nil, with(func(s *undo.State) { s.Leavers = settings.Keep }), undo.Cannot, nil, "", "leaver policy of its kind keeps"},
		"a creation that is gone":              {plan.Create, nil, with(func(s *undo.State) { s.Link, s.Resource = nil, nil }), undo.Already, nil, "", "there no more"},
		"a suspension":                         {plan.Suspend, nil, with(func(s *undo.State) { s.Link = &plan.Link{ResourceID: "r1", Left: true} }), undo.Back, true, "", ""},
		"a suspension that is over":            {plan.Suspend, nil, there, undo.Already, nil, "", "takes part again"},
		"a deletion makes another":             {plan.Delete, nil, with(func(s *undo.State) { s.Link, s.Resource = nil, nil }), undo.Back, true, "", "what it owned there is lost"},
		"an adoption is untied":                {plan.Adopt, title, there, undo.Back, nil, decide.ChooseHold, ""},
		"what was untied is linked":            {plan.Unlink, nil, with(func(s *undo.State) { s.Link = nil }), undo.Back, nil, decide.ChooseLink, ""},
		"but not where somebody has it":        {plan.Unlink, nil, with(func(s *undo.State) { s.Link, s.Owner = nil, "CN=Ada" }), undo.Cannot, nil, "", "belongs to CN=Ada now"},
		"nor where it has another":             {plan.Unlink, nil, with(func(s *undo.State) { s.Link = &plan.Link{ResourceID: "r2"} }), undo.Cannot, nil, "", "linked to the resource r2 now"},
		"what a membership granted is withdrawn": {plan.Update, []change.Diff{{Target: "entitlements", Added: []change.Member{{Value: "bridge"}}}}, with(func(s *undo.State) {
			s.Resource = entry.Resource{"id": "r1", "entitlements": []any{map[string]any{"value": "bridge"}}}
		}), undo.Back, false, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			items := undo.Of(c.operation, c.diffs, c.state)
			require.NotEmpty(t, items)
			first := items[0]
			assert.Equal(t, c.outcome, first.Outcome, first.Why)
			assert.Contains(t, first.Why, c.why)
			if c.outcome == undo.Back {
				if c.choice != "" {
					require.NotNil(t, first.Choice)
					assert.Equal(t, c.choice, first.Choice.Choice)
				} else {
					require.NotNil(t, first.Pin)
					assert.Equal(t, c.pin, first.Pin.Value)
				}
			}
		})
	}

	items := undo.Of(plan.Update, members, with(func(s *undo.State) { s.Members = map[string]bool{"m1": true} }))
	require.Len(t, items, 2)
	assert.Equal(t, undo.Cannot, items[1].Outcome, "a member whom the cloud has lost is not put back")
	assert.Len(t, undo.Of(plan.Adopt, append(title, change.Diff{Target: "externalId", After: "k"}), there), 2, "the link and the title")
}
