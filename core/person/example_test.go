package person_test

import (
	"fmt"

	"kambrel.example/kambrel/core/person"
)

func ExampleDecide() {
	outcomes := person.Decide([]person.Member{
		{Directory: "halvard", DN: "CN=Ada,DC=halvard,DC=example", Order: 0, Inside: true, Keys: []string{"same number=7"}},
		{Directory: "brisling", DN: "cn=Ada,dc=brisling,dc=example", Order: 1, Inside: true, Keys: []string{"same number=7"}, ResourceID: "r1"},
	})
	for _, o := range outcomes {
		if o.Lead == nil {
			fmt.Println(o.DN, "stands for itself")
		} else {
			fmt.Println(o.DN, "follows", o.Lead.DN, "by", o.Rule)
		}
	}
	// Output:
	// CN=Ada,DC=halvard,DC=example follows cn=Ada,dc=brisling,dc=example by same number
	// cn=Ada,dc=brisling,dc=example stands for itself
}
