package plan

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
)

func value(target string, v any) rules.Value {
	return rules.Value{Path: entry.MustPath(target), Value: v, Source: "test"}
}

func desired(values ...rules.Value) rules.Desired { return rules.Desired{Values: values} }

func resource(t *testing.T, text string) entry.Resource {
	t.Helper()
	var r entry.Resource
	require.NoError(t, json.Unmarshal([]byte(text), &r))
	return r
}

func TestDecide(t *testing.T) {
	t.Parallel()
	in, out := scope.Verdict{In: true}, scope.Verdict{Summary: "out: deleted"}
	active := resource(t, `{"id":"r1","userName":"ada","active":true,"nickName":"A"}`)
	suspended := resource(t, `{"id":"r1","userName":"ada","active":false}`)
	same := desired(value("userName", "ada"), value("active", true))
	other := desired(value("userName", "ada.lind"), value("active", true))
	trouble := rules.Desired{Problem: problem.New(problem.RequiredMissing, "x")}
	for name, c := range map[string]struct {
		subject Subject
		want    Code
		targets []string
	}{
		"in step":                           {Subject{Verdict: in, Desired: same, Link: &Link{}, Resource: active}, InStep, nil},
		"a value differs":                   {Subject{Verdict: in, Desired: other, Link: &Link{}, Resource: active}, Code(Update), []string{"userName"}},
		"back from leaving":                 {Subject{Verdict: in, Desired: same, Link: &Link{Left: true}, Resource: suspended}, Code(Restore), []string{"active"}},
		"disabled, then enabled":            {Subject{Verdict: in, Desired: same, Link: &Link{}, Resource: suspended}, Code(Update), []string{"active"}},
		"linked resource vanished":          {Subject{Verdict: in, Desired: same, Link: &Link{}}, Code(Create), []string{"externalId", "userName", "active"}},
		"new":                               {Subject{Verdict: in, Desired: same, Match: match.Decision{Action: match.Create}}, Code(Create), []string{"externalId", "userName", "active"}},
		"adopted even when nothing differs": {Subject{Verdict: in, Desired: same, Match: match.Decision{Action: match.Adopt, Resource: active}}, Code(Adopt), []string{"externalId"}},
		"link key found in the cloud":       {Subject{Verdict: in, Desired: same, Match: match.Decision{Action: match.Relink, Resource: active}}, Relinked, nil},
		"match stopped":                     {Subject{Verdict: in, Desired: same, Match: match.Decision{Action: match.Stop, Problem: problem.New(problem.AmbiguousMatch, "")}}, Blocked, nil},
		"rules stopped":                     {Subject{Verdict: in, Desired: trouble, Link: &Link{}, Resource: active}, Blocked, nil},
		"left":                              {Subject{Verdict: out, Link: &Link{}, Resource: active, Leavers: settings.Suspend}, Code(Suspend), []string{"active"}},
		"left, kept by policy":              {Subject{Verdict: out, Link: &Link{}, Resource: active, Leavers: settings.Keep}, Left, nil},
		"left long ago":                     {Subject{Verdict: out, Link: &Link{Left: true}, Resource: suspended, Leavers: settings.Suspend}, Left, nil},
		"left, and to be deleted later":     {Subject{Verdict: out, Link: &Link{}, Resource: active, Leavers: settings.Delete}, Code(Suspend), []string{"active"}},
		"left, and the grace time is over":  {Subject{Verdict: out, Link: &Link{Left: true}, Resource: suspended, Leavers: settings.Delete, GraceOver: true}, Code(Delete), []string{"externalId"}},
		"left and the resource gone":        {Subject{Verdict: out, Link: &Link{}, Leavers: settings.Suspend}, Unlinked, nil},
		"never in":                          {Subject{Verdict: out}, OutSide, nil},
	} {
		c.subject.Entry.Kind = entry.User
		d := Decide(c.subject)
		assert.Equal(t, c.want, d.Code, name)
		var targets []string
		for _, diff := range d.Diffs {
			targets = append(targets, diff.Target)
		}
		assert.Equal(t, c.targets, targets, name)
		assert.NotEmpty(t, d.Explain().Text, name)
	}
}

func TestPatchBringsTheResourceThere(t *testing.T) {
	t.Parallel()
	r := resource(t, `{"id":"r1","title":"Mate","emails":[{"type":"home","value":"a@home.example"}],"phoneNumbers":[{"type":"work","value":"1"}]}`)
	d := Compare(r, desired(
		value("title", nil), value("displayName", "Ada"), value(`emails[type eq "work"].value`, "a@halvard.example"),
		value(`phoneNumbers[type eq "work"].value`, nil), value("nickName", nil)), nil)
	operations, err := change.Patch(r, d.Diffs)
	require.NoError(t, err)
	text, err := json.Marshal(operations)
	require.NoError(t, err)
	assert.JSONEq(t, `[{"op":"remove","path":"title"},{"op":"replace","path":"displayName","value":"Ada"},
	  {"op":"add","path":"emails","value":[{"type":"work","value":"a@halvard.example"}]},
	  {"op":"remove","path":"phoneNumbers[type eq \"work\"]"}]`, string(text))
	require.NoError(t, change.Advance(r, d.Diffs))
	assert.Equal(t, resource(t, `{"id":"r1","displayName":"Ada","emails":[{"type":"home","value":"a@home.example"},{"type":"work","value":"a@halvard.example"}]}`)["displayName"], r["displayName"])
	assert.Nil(t, r["title"])
	assert.Nil(t, r["phoneNumbers"])
	assert.Equal(t, []string{"a@home.example", "a@halvard.example"}, r.Addresses())
}

func TestALoginOutsideTheVerifiedDomainsIsNeverSent(t *testing.T) {
	t.Parallel()
	moves := Decision{Operation: Update, Diffs: []change.Diff{{Target: "userName", Before: "a@halvard.example", After: "a@Corp.halvard.example"}}}
	for name, c := range map[string]struct {
		decision Decision
		domains  []string
		blocked  bool
	}{
		"not verified":                {moves, []string{"halvard.example"}, true},
		"verified, whatever the case": {moves, []string{"corp.halvard.example"}, false},
		"not known":                   {moves, nil, false},
		"the login does not change":   {Decision{Operation: Update, Diffs: []change.Diff{{Target: "title", After: "x@y.example"}}}, []string{"halvard.example"}, false},
	} {
		got := CheckLogin(c.decision, c.domains)
		assert.Equal(t, c.blocked, got.Problem != nil, name)
		if c.blocked {
			assert.Equal(t, problem.LoginSuffix, got.Problem.Code)
			assert.Empty(t, got.Operation, "nothing is sent")
		}
	}
}

func TestSame(t *testing.T) {
	t.Parallel()
	assert.True(t, change.Same(nil, ""))
	assert.True(t, change.Same([]any{}, nil))
	assert.True(t, change.Same(float64(7), int64(7)))
	assert.True(t, change.Same([]any{"a", "b"}, []string{"a", "b"}))
	assert.False(t, change.Same([]any{"a b"}, []string{"a", "b"}))
	assert.False(t, change.Same(true, false))
	assert.False(t, change.Same("Ada", "ada"))
}

func TestALimitNeedsNumberAndSharePassed(t *testing.T) {
	t.Parallel()
	limit := settings.Limit{Number: 20, Share: 5}
	assert.False(t, Exceeds(limit, 20, 100), "not more than the number")
	assert.True(t, Exceeds(limit, 21, 100))
	assert.False(t, Exceeds(limit, 21, 10_000), "less than the share")
	assert.True(t, Exceeds(limit, 501, 10_000))
	assert.True(t, Exceeds(settings.Limit{}, 1, 10), "a limit of zero is passed by one")
	assert.False(t, Exceeds(settings.Limit{}, 0, 10))
	assert.False(t, Exceeds(settings.Limit{Share: 100}, 10, 10), "of all there can be no more")
}

func TestWhatADiffTakesAway(t *testing.T) {
	t.Parallel()
	some := change.Members([]string{"a", "b"})
	for want, diff := range map[string]change.Diff{
		"values title":    {Target: "title", Before: "Mate", After: nil},
		"values nickName": {Target: "nickName", Before: "M", After: ""},
		"values active":   {Target: "active", Before: true, After: false},
		"logins userName": {Target: "userName", Before: "a@x.example", After: "b@x.example"},
		"members members": {Target: "members", Removed: some, Added: some[:1]},
		"access roles":    {Target: "roles", Removed: some},
	} {
		loss, loses := LossIn(diff)
		assert.True(t, loses, want)
		assert.Equal(t, want, loss.String())
		assert.Equal(t, loss, ParseLoss(want))
		assert.Len(t, Losses(Update, []change.Diff{diff, diff}), 1)
		assert.Empty(t, Losses(Suspend, []change.Diff{diff}), "a removal is counted as one")
		assert.Empty(t, Losses(Create, []change.Diff{diff}))
	}
	for _, diff := range []change.Diff{
		{Target: "title", Before: "Mate", After: "Master"}, {Target: "title", Before: "", After: nil}, {Target: "userName", After: "a@x.example"},
		{Target: "active", Before: false, After: true}, {Target: "members", Added: some},
	} {
		_, loses := LossIn(diff)
		assert.False(t, loses, diff.Target)
	}
}

func TestWhatIsTakenAwayWaitsAndTheRestGoesOn(t *testing.T) {
	t.Parallel()
	members := change.Members([]string{"a", "b", "c"})
	waits, rest := Wait([]change.Diff{
		{Target: "title", Before: "Mate"}, {Target: "nickName", Before: "M"}, {Target: "displayName", Before: "A", After: "B"},
		{Target: "members", Removed: members[:2], Added: members[2:]},
	}, func(loss Loss, m change.Member) bool {
		return loss.Target == "title" || m.Value == "a"
	})
	assert.Equal(t, []change.Diff{{Target: "title", Before: "Mate"}, {Target: "members", Removed: members[:1]}}, waits)
	assert.Equal(t, []change.Diff{{Target: "nickName", Before: "M"}, {Target: "displayName", Before: "A", After: "B"}, {Target: "members", Removed: members[1:2], Added: members[2:]}}, rest)
	all := []change.Diff{{Target: "members", Removed: members}}
	waits, rest = Wait(all, func(Loss, change.Member) bool { return true })
	assert.Equal(t, all, waits)
	assert.Empty(t, rest)
}

func TestClaims(t *testing.T) {
	t.Parallel()
	claims := Claims(entry.User, desired(value("userName", "Ada@Halvard.example"), value(`emails[type eq "work"].value`, "ada@halvard.example"), value("title", "Mate")), nil)
	require.Len(t, claims, 2)
	assert.Equal(t, "userName=ada@halvard.example", claims[0].Key())
	assert.Equal(t, problem.DuplicateAddress, claims[1].Code)
	assert.Equal(t, Blocked, Clash(Decision{Operation: Create}, claims[0], problem.Facts{Entries: []problem.Entry{{Name: "CN=Bo"}}}).Code)
}

func TestAGroupThatLeftStaysUntilItsGraceTimeIsOver(t *testing.T) {
	t.Parallel()
	group := entry.Entry{Kind: entry.Group}
	left := Subject{Entry: group, Verdict: scope.Verdict{}, Link: &Link{}, Resource: resource(t, `{"id":"g1","displayName":"Crew"}`), Leavers: settings.Delete}
	due := time.Date(2026, 12, 26, 6, 0, 0, 0, time.UTC)
	left.Due = &due
	leaves := Decide(left)
	assert.Equal(t, Leave, leaves.Operation)
	assert.Equal(t, "the resource stays until its grace time is over, and is deleted on 2026-12-26", leaves.Will())
	assert.True(t, Leave.Removes(), "the guard asks now")

	left.Link = &Link{Left: true, Due: &due}
	assert.Equal(t, Decision{Code: Left, Due: &due}.Due, Decide(left).Due)
	assert.Equal(t, Left, Decide(left).Code)
	left.GraceOver = true
	goes := Decide(left)
	assert.Equal(t, Delete, goes.Operation)
	assert.Equal(t, &due, goes.Due, "it was said when it left")
	sooner := due.Add(-time.Hour)
	left.Due = &sooner
	assert.Nil(t, Decide(left).Due, "the grace time was made shorter since")
}

func TestWhatIsGrantedComesAndGoesWithoutTouchingTheRest(t *testing.T) {
	t.Parallel()
	has := resource(t, `{"id":"r1","entitlements":[{"value":"crew-app"},{"value":"by-hand"}]}`)
	grant := func(have ...string) rules.Desired {
		return desired(rules.Value{Path: entry.MustPath("entitlements"), Granted: &rules.Granted{Have: have, Owned: []string{"crew-app", "bridge"}}})
	}
	subject := func(d rules.Desired) Subject {
		return Subject{Verdict: scope.Verdict{In: true}, Desired: d, Link: &Link{}, Resource: has}
	}
	assert.Equal(t, InStep, Decide(subject(grant("crew-app"))).Code)
	d := Decide(subject(grant("bridge")))
	require.Len(t, d.Diffs, 1)
	assert.Equal(t, []change.Member{{Value: "bridge"}}, d.Diffs[0].Added)
	assert.Equal(t, []change.Member{{Value: "crew-app"}}, d.Diffs[0].Removed)
	operations, err := change.Patch(has, d.Diffs)
	require.NoError(t, err)
	assert.Equal(t, []change.PatchOperation{
		{Op: "remove", Path: `entitlements[value eq "crew-app"]`},
		{Op: "add", Path: "entitlements", Value: []any{map[string]any{"value": "bridge"}}},
	}, operations)
	require.NoError(t, change.Advance(has, d.Diffs))
	assert.Equal(t, []string{"by-hand", "bridge"}, entry.MustPath("entitlements").Values(has))
	assert.True(t, d.Diffs[0].Done(has))
	made, err := change.NewResource(Decide(Subject{Verdict: scope.Verdict{In: true}, Desired: grant("bridge"), Match: match.Decision{Action: match.Create}}).Diffs)
	require.NoError(t, err)
	assert.Equal(t, []string{"bridge"}, entry.MustPath("entitlements").Values(made))
}
