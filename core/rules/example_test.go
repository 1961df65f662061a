package rules_test

import (
	"fmt"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

func ExampleSet_Apply() {
	set, err := rules.Compile(settings.Taking{Rules: []settings.Rule{
		{Target: "userName", From: "userPrincipalName", Required: true},
		{Target: "displayName", Formula: `entry.displayName != "" ? entry.displayName : entry.cn`},
		{Target: "preferredLanguage", Always: "nb"},
	}})
	if err != nil {
		fmt.Println(err)
		return
	}
	desired := set.Apply(rules.Person{{Attributes: entry.Attributes{"userPrincipalName": {"ada@halvard.example"}, "cn": {"Ada Lind"}}}})
	for _, v := range desired.Values {
		fmt.Printf("%s: %v, %s\n", v.Path, v.Value, v.Source)
	}
	fmt.Println(set.Apply(rules.Person{{}}).Problem)
	// Output:
	// userName: ada@halvard.example, from userPrincipalName
	// displayName: Ada Lind, formula entry.displayName != "" ? entry.displayName : entry.cn
	// preferredLanguage: nb, always nb
	// Required value missing: userName would be empty: the entry has no userPrincipalName
}
