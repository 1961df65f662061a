package remedy_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
)

const who = "3d864a23-61ab-4c6d-868c-c7fa6b6ff1de"

func ExampleOf() {
	facts := problem.Facts{Resources: []problem.Resource{{ID: "r1", Name: "mira@halvard.example", Alike: "same names", Value: "Mira Lind"}}}
	for _, r := range remedy.Of(about.Thing{Type: about.Entry, Key: "halvard/" + who}, problem.NearMiss, facts, remedy.Situation{}) {
		fmt.Printf("%s\n  %s\n", r.Reason(), r.Command)
	}
	// Output:
	// Link with mira@halvard.example (r1). It is the same person.
	//   kambrel link 3d864a23-61ab-4c6d-868c-c7fa6b6ff1de r1
	// Make an account all the same. It is somebody else.
	//   kambrel create 3d864a23-61ab-4c6d-868c-c7fa6b6ff1de
	// Try again now. The cause is mended.
	//   kambrel trial 3d864a23-61ab-4c6d-868c-c7fa6b6ff1de --write
}

func TestRemediesFollowFromTheFacts(t *testing.T) {
	t.Parallel()
	entry := about.Thing{Type: about.Entry, Key: "halvard/" + who}
	again, repair := "kambrel trial "+who+" --write", "kambrel problems repair "+who
	living, gone := problem.Entry{Directory: "halvard", ID: "e2", Name: "CN=Bo"}, problem.Entry{Directory: "halvard", ID: "e3", Name: "CN=Old", Gone: true}
	for name, c := range map[string]struct {
		about about.Thing
		code  problem.Code
		facts problem.Facts
		want  []string
	}{
		"who has a living owner is no candidate": {entry, problem.LinkConflict, problem.Facts{Resources: []problem.Resource{{ID: "r1", Owner: &living}}}, []string{"kambrel unlink e2", "kambrel link " + who + " r1 --take-over", again}},
		"crosswise":                              {entry, problem.DuplicateLogin, problem.Facts{Attribute: "userName", Entries: []problem.Entry{living}}, []string{"kambrel link " + who + " e2 --swap", repair, "kambrel rules list", again}},
		"what a deleted entry had can be linked": {entry, problem.LinkConflict, problem.Facts{Resources: []problem.Resource{{ID: "r1", Owner: &gone}}}, []string{"kambrel link " + who + " r1", again}},
		"each that fits can be the one":          {entry, problem.AmbiguousMatch, problem.Facts{Resources: []problem.Resource{{ID: "r1"}, {ID: "r2"}}}, []string{"kambrel link " + who + " r1", "kambrel link " + who + " r2", again}},
		"held by hand":                           {entry, problem.HeldByHand, problem.Facts{By: "ingrid"}, []string{"kambrel rematch " + who, "kambrel create " + who, again}},
		"two resources":                          {entry, problem.PersonTwoResources, problem.Facts{}, []string{"kambrel unlink " + who, again}},
		"removals":                               {about.Thing{Type: about.Run, Key: "7"}, problem.RemovalsHeld, problem.Facts{Value: "7", Count: 24}, []string{"kambrel runs release 7", "kambrel runs discard 7"}},
		"attributes that are hidden":             {about.Thing{Type: about.Directory, Key: "hq"}, problem.AttributeHidden, problem.Facts{Value: "hq", Names: []string{"title"}}, []string{"kambrel directory absent hq title", "kambrel sync"}},
		"an agent asks":                          {about.Thing{Type: about.Agent, Key: "a1"}, problem.DirectoryNotGranted, problem.Facts{Names: []string{"x", "y"}}, []string{"kambrel agent grant a1 x y"}},
		"a value or its rule":                    {entry, problem.RequiredMissing, problem.Facts{Attribute: "userName"}, []string{repair, "kambrel rules list", again}},
		"a value that no repair may write":       {entry, problem.FormulaFailed, problem.Facts{Attribute: "nickName"}, []string{"kambrel rules list", again}},
		"several values are refused":             {entry, problem.ValueRefused, problem.Facts{Refused: []problem.Refused{{Target: "title"}, {Target: "nickName"}}}, []string{repair, "kambrel rules list", "kambrel rules list", again}},
		"what another run finds to be over":      {about.Thing{Type: about.Cloud}, problem.CloudUnreachable, problem.Facts{}, []string{"kambrel sync"}},
		"what is mended elsewhere alone":         {about.Thing{Type: about.Cloud}, problem.EventRefused, problem.Facts{}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var got []string
			for _, r := range remedy.Of(c.about, c.code, c.facts, remedy.Situation{Linked: c.about == entry, Correctable: c.code != problem.FormulaFailed}) {
				got = append(got, r.Command)
				assert.NotEmpty(t, r.Title)
			}
			assert.Equal(t, c.want, got)
		})
	}
}
