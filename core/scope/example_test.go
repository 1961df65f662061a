package scope_test

import (
	"fmt"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
)

func ExampleScope_Decide() {
	s, err := scope.Compile(settings.Document{
		Directories: []settings.Directory{{Name: "halvard", Base: "DC=example", Containers: settings.Containers{Include: []string{"OU=Fleet,DC=example"}, Exclude: []string{"OU=Kiosks,OU=Fleet,DC=example"}}}},
		Users:       settings.Taking{Filter: "(!(title=Guest))"},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range []entry.Entry{
		{DN: "CN=Ada,OU=Fleet,DC=example"},
		{DN: "CN=Bo,OU=Kiosks,OU=Fleet,DC=example"},
		{DN: "CN=Cai,OU=Fleet,DC=example", Attributes: entry.Attributes{"title": {"Guest"}}},
		{DN: "CN=Dag,OU=Office,DC=example"},
	} {
		e.Kind, e.Directory = entry.User, "halvard"
		verdict := s.Decide(e)
		fmt.Println(verdict.In, verdict.Code, "-", verdict.Summary)
	}
	// Output:
	// true included - in: the container OU=Fleet,DC=example is included
	// false excluded-container - out: the container OU=Kiosks,OU=Fleet,DC=example is excluded
	// false filtered - out: the filter (!(title=Guest)) does not keep it
	// false no-mark - out: no container above it is included
}
