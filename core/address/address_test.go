package address

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAListOfServices(t *testing.T) {
	t.Parallel()
	assert.Equal(t, []string{"https://a.example", "https://b.example:8443"}, List(" https://a.example/, https://b.example:8443,,HTTPS://A.example"))
	assert.Empty(t, List(" , "))
}

func TestTheServiceThatAnswersIsAskedFirst(t *testing.T) {
	t.Parallel()
	s := ServicesOf("https://a.example,https://b.example")
	away := map[string]bool{"https://a.example": true}
	var asked []string
	ask := func() error {
		asked = nil
		return s.Ask(func(base string) (bool, error) {
			if asked = append(asked, base); away[base] {
				return false, errors.New(base + " is away")
			}
			return true, nil
		})
	}
	assert.NoError(t, ask())
	assert.Equal(t, s.URLs(), asked)
	assert.NoError(t, ask())
	assert.Equal(t, []string{"https://b.example"}, asked)
	away["https://b.example"] = true
	assert.EqualError(t, ask(), "https://b.example is away\nhttps://a.example is away")
	assert.Equal(t, "https://b.example", s.Asked())
	assert.Error(t, ServicesOf("").Ask(func(string) (bool, error) { return true, nil }))
}
