package decide_test

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

func ExampleDecider_Decide() {
	compiled, err := decide.Compile(settings.Default(settings.Directory{
		Name: "halvard", Dialect: entry.AD, Base: "DC=example", Containers: settings.Containers{Include: []string{"OU=Fleet,DC=example"}},
	}))
	if err != nil {
		fmt.Println(err)
		return
	}
	decider := decide.Decider{Settings: compiled, Cloud: decide.AnyCloud(), Facts: &memory{names: map[entry.Ref]string{ref(1): "CN=Ada,OU=Fleet,DC=example"}}, Now: time.Time{}, Last: true}
	person := func(n byte, dn, login string) decide.Case {
		return decide.Case{Entry: entry.Entry{
			Directory: "halvard", ID: entry.ID{15: n}, Kind: entry.User, DN: dn, Attributes: entry.Attributes{"cn": {dn}, "userPrincipalName": {login}, "userAccountControl": {"512"}, "objectClass": {"user"}},
		}}
	}
	outcomes, err := decider.Decide(context.Background(), []decide.Case{
		person(1, "CN=Ada,OU=Fleet,DC=example", "ada@halvard.example"),
		person(2, "CN=Ada,OU=Deck,OU=Fleet,DC=example", "ADA@halvard.example"),
		person(3, "CN=Bo,OU=Office,DC=example", "bo@halvard.example"),
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, o := range outcomes {
		fmt.Println(o.Summary())
	}
	// Output:
	// in: the container OU=Fleet,DC=example is included; the next run will create the resource
	// in: the container OU=Fleet,DC=example is included; Login is taken: userName = ADA@halvard.example is also that of CN=Ada,OU=Fleet,DC=example
	// out: no container above it is included
}
