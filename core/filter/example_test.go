package filter_test

import (
	"fmt"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
)

func ExampleParse() {
	f, err := filter.Parse("(&(title=Mate)(!(mail=*@late.example)))")
	if err != nil {
		fmt.Println(err)
		return
	}
	ada := entry.Entry{Attributes: entry.Attributes{"title": {"mate"}, "mail": {"ada@halvard.example"}}}
	fmt.Println(f.Matches(ada), f.Attributes())
	_, err = filter.Parse("(&(title=Mate)(mail=)")
	fmt.Println(err)
	// Output:
	// true [title mail]
	// filter "(&(title=Mate)(mail=)": at character 22: expected a closing parenthesis
}
