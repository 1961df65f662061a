package settings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Expectation is what must hold of one entry. What is not said is not looked at.
type Expectation struct {
	// Entry is whom it is about: a distinguished name, a login, an address, an id or a name.
	Entry string `json:"entry" yaml:"entry" doc:"Whom it is about: an id, a distinguished name, a login or an address"`
	// Name is what people call it, where Entry is an id.
	Name string `json:"name,omitempty" yaml:"name,omitempty" doc:"What people call it"`
	// Note says why it must hold, for whoever reads that it does not.
	Note string `json:"note,omitempty" yaml:"note,omitempty" maxLength:"500" doc:"Why it must hold"`
	// In is whether it takes part, Because a part of the reason.
	In      *bool  `json:"in,omitempty" yaml:"in,omitempty" doc:"Whether it takes part"`
	Because string `json:"because,omitempty" yaml:"because,omitempty" doc:"A part of the reason"`
	// Becomes is what would be done, see Outcomes.
	Becomes string `json:"becomes,omitempty" yaml:"becomes,omitempty" doc:"What would be done"`
	// Resource is that of the cloud which it has or adopts, by login, id or name.
	Resource string `json:"resource,omitempty" yaml:"resource,omitempty" doc:"The resource that it has or adopts, by login, id or name"`
	// Problem is the code of what keeps it from being in step.
	Problem string `json:"problem,omitempty" yaml:"problem,omitempty" doc:"The code of what keeps it from being in step"`
	// Values are those of attributes of the resource, null for none.
	Values map[string]any `json:"values,omitempty" yaml:"values,omitempty" doc:"Values of attributes of the resource, null for none"`
}

// Called is whom an expectation is about, in words.
func (e Expectation) Called() string {
	if e.Name != "" {
		return e.Name
	}
	return e.Entry
}

// Empty tells that nothing is expected.
func (e Expectation) Empty() bool {
	return e.In == nil && e.Because == "" && e.Becomes == "" && e.Resource == "" && e.Problem == "" && len(e.Values) == 0
}

// Said is what is expected, in words.
func (e Expectation) Said() string {
	var said []string
	if e.In != nil {
		said = append(said, map[bool]string{true: "takes part", false: "stays out"}[*e.In])
	}
	for _, one := range []struct{ word, text string }{{"because of", e.Because}, {"becomes", e.Becomes}, {"resource", e.Resource}, {"problem", e.Problem}} {
		if one.text != "" {
			said = append(said, one.word+" "+one.text)
		}
	}
	for _, target := range slices.Sorted(maps.Keys(e.Values)) {
		value := "nothing"
		if e.Values[target] != nil {
			value = fmt.Sprint(e.Values[target])
		}
		said = append(said, target+" = "+value)
	}
	return strings.Join(said, ", ")
}

// Outcomes are the words for what an entry can become.
var Outcomes = []string{"create", "adopt", "update", "suspend", "restore", "leave", "delete", "in-step", "out-of-scope", "same-person", "problem"}

// mostExpected is how many entries each activation looks at.
const mostExpected = 500

// expect finds what is wrong with expectations themselves.
func (v *validation) expect(list []Expectation) {
	if len(list) > mostExpected {
		v.add("expect", "there are %d; at most %d are looked at before each activation. Keep the others in a file for 'kambrel settings test'", len(list), mostExpected)
		return
	}
	for i, e := range list {
		path := fmt.Sprintf("expect[%d]", i)
		if strings.TrimSpace(e.Entry) == "" {
			v.add(path+".entry", "say whom it is about: an id, a distinguished name, a login or an address")
		}
		if e.Empty() {
			v.add(path, "expects nothing: say something of in, because, becomes, resource, problem and values")
		}
		if e.Becomes != "" && !slices.Contains(Outcomes, e.Becomes) {
			v.add(path+".becomes", "%q is not what an entry becomes; write one of %s", e.Becomes, strings.Join(Outcomes, ", "))
		}
		if e.Problem != "" && !problem.Known(problem.Code(e.Problem)) {
			v.add(path+".problem", "%q is the code of no problem", e.Problem)
		}
		for _, target := range slices.Sorted(maps.Keys(e.Values)) {
			if _, err := entry.ParsePath(target); err != nil {
				v.add(path+".values["+target+"]", "%v", err)
			}
		}
	}
}
