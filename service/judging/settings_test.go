package judging

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCoversIgnoresCase(t *testing.T) {
	t.Parallel()
	assert.True(t, Covers([]string{"Mail", "cn"}, []string{"mail"}))
	assert.False(t, Covers([]string{"mail"}, []string{"mail", "title"}))
	assert.True(t, Covers(nil, nil))
}
