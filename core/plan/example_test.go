package plan_test

import (
	"fmt"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
)

func ExampleDecide() {
	resource := entry.Resource{"id": "r1", "externalId": "e1", "userName": "ada@halvard.example", "title": "Mate", "active": true}
	subject := plan.Subject{
		Entry: entry.Entry{Kind: entry.User}, Link: &plan.Link{ResourceID: "r1"}, Resource: resource, Leavers: settings.Suspend,
		Verdict: scope.Verdict{In: true, Code: scope.Included},
		Desired: rules.Desired{Values: []rules.Value{{Path: entry.MustPath("title"), Value: "Master", Source: "from title"}}},
	}
	d := plan.Decide(subject)
	fmt.Println(d.Operation, d.Diffs[0].Target, d.Diffs[0].Before, "->", d.Diffs[0].After)

	subject.Verdict = scope.Verdict{Code: scope.NoMark, Summary: "out: no container above it is included"}
	d = plan.Decide(subject)
	fmt.Println(d.Operation, d.Diffs[0].Source)
	// Output:
	// update title Mate -> Master
	// suspend leaver policy suspend; out: no container above it is included
}

func ExampleExceeds() {
	limit := settings.Limit{Number: 20, Share: 5}
	fmt.Println(plan.Exceeds(limit, 21, 1000), plan.Exceeds(limit, 60, 1000))
	// Output:
	// false true
}
