package formula_test

import (
	"fmt"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/formula"
)

func ExampleCompile() {
	f, err := formula.Compile(`ascii(entry.givenName).lowerAscii() + "@" + domain(entry.mail)`)
	if err != nil {
		fmt.Println(err)
		return
	}
	bjorn := entry.Entry{Attributes: entry.Attributes{"givenName": {"Bjørn"}, "mail": {"b@halvard.example"}}}
	value, err := f.Evaluate(bjorn)
	fmt.Println(value, err)
	for _, part := range f.Explain(bjorn).Children {
		fmt.Println(part.Text, "=", part.Value)
	}
	// Output:
	// bjorn@halvard.example <nil>
	// ascii(entry.givenName).lowerAscii() + "@" = "bjorn@"
	// domain(entry.mail) = "halvard.example"
}
