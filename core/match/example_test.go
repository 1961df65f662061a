package match_test

import (
	"fmt"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/settings"
)

func ExampleDecide() {
	rules := match.Compile(settings.Taking{Match: []settings.MatchRule{{Name: "same login", Resource: "userName"}}})
	ada := entry.Entry{Kind: entry.User, DN: "CN=Ada,DC=example"}
	keys := rules.Keys(ada, func(string) []string { return []string{"ada@halvard.example"} })
	old := entry.Resource{"id": "r1", "userName": "Ada@halvard.example"}
	cloud := map[string]match.Candidate{"userName=ada@halvard.example": {Resource: old}}
	found := func(key match.Key) []match.Candidate {
		if c, ok := cloud[key.Text()]; ok {
			return []match.Candidate{c}
		}
		return nil
	}
	d := match.Decide(keys, found)
	fmt.Println(d.Action, d.Resource.ID(), "by", d.Rule)

	old["roles"] = []any{map[string]any{"type": "administrative", "value": "directory-administrator"}}
	d = match.Decide(keys, found)
	fmt.Println(d.Action, d.Problem.Code)
	// Output:
	// adopt r1 by same login
	// stop protected-resource
}
