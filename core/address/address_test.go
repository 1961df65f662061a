package address

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAListOfServices(t *testing.T) {
	t.Parallel()
	assert.Equal(t, []string{"https://a.example", "https://b.example:8443"}, List(" https://a.example/, https://b.example:8443,,HTTPS://A.example"))
	assert.Empty(t, List(" , "))
}
