package person

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
)

func id(n byte) entry.ID { return entry.ID(uuid.UUID{15: n}) }

// member is one of directory a (order 0), b (1) or c (2).
func member(n byte, directory string, keys ...string) Member {
	return Member{Directory: directory, ID: id(n), DN: "cn=" + string('0'+n) + "," + directory, Order: int(directory[0] - 'a'), Keys: keys, Inside: true}
}

func linked(m Member, resource string) Member { m.ResourceID = resource; return m }

func outside(m Member) Member { m.Inside = false; return m }

// told writes outcomes short: whom it follows, whose link it takes, its problem.
func told(outcomes []Outcome) map[byte]string {
	out := map[byte]string{}
	for _, o := range outcomes {
		text := "itself"
		switch {
		case o.Problem != nil:
			text = string(o.Problem.Code)
		case o.Lead != nil:
			text = "follows " + string('0'+o.Lead.ID[15]) + " by " + o.Rule
		case o.From != nil:
			text = "takes from " + string('0'+o.From.ID[15])
		case !o.Inside:
			text = "out"
		}
		out[o.ID[15]] = text
	}
	return out
}

func TestDecide(t *testing.T) {
	t.Parallel()
	left := outside(linked(member(2, "b", "n=7"), "r2"))
	left.Left = true
	for name, c := range map[string]struct {
		members []Member
		want    map[byte]string
	}{
		"alone":                        {[]Member{member(1, "a", "n=7")}, map[byte]string{1: "itself"}},
		"strangers":                    {[]Member{member(1, "a", "n=7"), member(2, "b", "n=8")}, map[byte]string{1: "itself", 2: "itself"}},
		"the first directory leads":    {[]Member{member(2, "b", "n=7"), member(1, "a", "n=7")}, map[byte]string{1: "itself", 2: "follows 1 by n"}},
		"whoever has the link leads":   {[]Member{linked(member(2, "b", "n=7"), "r2"), member(1, "a", "n=7")}, map[byte]string{1: "follows 2 by n", 2: "itself"}},
		"through a third":              {[]Member{member(1, "a", "n=7"), member(2, "b", "n=7", "m=x"), member(3, "c", "m=x")}, map[byte]string{1: "itself", 2: "follows 1 by n", 3: "follows 1 by m, through cn=2,b"}},
		"through who is out of scope":  {[]Member{member(1, "a", "n=7"), outside(member(2, "b", "n=7", "m=x")), member(3, "b", "m=x")}, map[byte]string{1: "itself", 2: "out", 3: "follows 1 by m, through cn=2,b"}},
		"a link goes over":             {[]Member{member(1, "a", "n=7"), outside(linked(member(2, "b", "n=7"), "r2"))}, map[byte]string{1: "takes from 2", 2: "out"}},
		"to the first of those":        {[]Member{member(1, "a", "n=7"), outside(linked(member(2, "b", "n=7"), "r2")), member(3, "c", "n=7")}, map[byte]string{1: "takes from 2", 2: "out", 3: "follows 1 by n"}},
		"from who has not left":        {[]Member{member(1, "a", "n=7"), left, outside(linked(member(3, "c", "n=7"), "r3"))}, map[byte]string{1: "takes from 3", 2: "out", 3: "out"}},
		"not to who has one":           {[]Member{linked(member(1, "a", "n=7"), "r1"), left}, map[byte]string{1: "itself", 2: "out"}},
		"within one directory":         {[]Member{member(1, "a", "n=7"), member(2, "a", "n=7")}, map[byte]string{1: "itself", 2: "itself"}},
		"two of one, one of another":   {[]Member{member(1, "a", "n=7"), member(2, "a", "n=7"), member(3, "b", "n=7")}, map[byte]string{1: "person-ambiguous", 2: "person-ambiguous", 3: "person-ambiguous"}},
		"who is linked is left alone":  {[]Member{linked(member(1, "a", "n=7"), "r1"), member(2, "a", "n=7"), member(3, "b", "n=7")}, map[byte]string{1: "itself", 2: "person-ambiguous", 3: "person-ambiguous"}},
		"two resources for one person": {[]Member{linked(member(1, "a", "n=7"), "r1"), linked(member(2, "b", "n=7"), "r2")}, map[byte]string{1: "itself", 2: "person-two-resources"}},
		"nobody is there":              {[]Member{outside(member(1, "a", "n=7")), left}, map[byte]string{1: "out", 2: "out"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.want, told(Decide(c.members)))
			backwards := make([]Member, 0, len(c.members))
			for i := range c.members {
				backwards = append(backwards, c.members[len(c.members)-1-i])
			}
			assert.Equal(t, c.want, told(Decide(backwards)), "whatever the order in which they come")
		})
	}
}

func TestTheProblemOfTwoResourcesNamesBothSides(t *testing.T) {
	t.Parallel()
	outcomes := Decide([]Member{linked(member(1, "a", "n=7"), "r1"), linked(member(2, "b", "n=7"), "r2")})
	assert.Nil(t, outcomes[0].Problem)
	require.NotNil(t, outcomes[1].Problem)
	assert.Equal(t, problem.PersonTwoResources, outcomes[1].Problem.Code)
	assert.Equal(t, "by n it is one person with cn=1,a, which is linked to the resource r1; this entry is linked to r2", outcomes[1].Problem.Detail)
}

func TestKeys(t *testing.T) {
	t.Parallel()
	rules, err := Compile(settings.Taking{
		Person: []settings.PersonRule{{Name: "number", Formula: "first([entry.employeeID, entry.employeeNumber])"}, {Name: "address", From: "mail"}}, CarriedID: "extensionAttribute1",
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"extensionAttribute1", "employeeID", "employeeNumber", "mail"}, rules.Attributes())
	e := entry.Entry{ID: id(1), Attributes: entry.Attributes{"employeeNumber": {" 0042 "}, "mail": {"Otto@Halvard.example"}}}
	assert.Equal(t, []string{"number=0042", "address=otto@halvard.example", "carried id=" + id(1).String()}, rules.Keys(e))

	old := id(9)
	for form, value := range map[string]string{"textual": old.String(), "octets": string(old.ObjectGUID()), "base64": old.Forms(entry.AD)[2].Text, "hex": old.Forms(entry.Standard)[2].Text} {
		e.Attributes["extensionAttribute1"] = []string{value}
		assert.Contains(t, rules.Keys(e), "carried id="+old.String(), form)
		assert.Contains(t, rules.Carried(e), old, form)
	}
	e.Attributes = entry.Attributes{"extensionAttribute1": {"see the old file"}}
	assert.Equal(t, []string{"carried id=" + id(1).String()}, rules.Keys(e), "what is no id carries nothing, and blank values compare with nothing")

	none, err := Compile(settings.Taking{})
	require.NoError(t, err)
	assert.True(t, none.Empty())
	assert.Empty(t, none.Keys(e))
}
