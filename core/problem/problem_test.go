package problem

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEveryKindIsComplete(t *testing.T) {
	t.Parallel()
	seen := map[Code]bool{}
	for _, kind := range Catalogue() {
		assert.False(t, seen[kind.Code], "%s stands twice", kind.Code)
		seen[kind.Code] = true
		assert.NotEmpty(t, kind.Title, kind.Code)
		assert.NotEmpty(t, kind.Cause, kind.Code)
		assert.NotEmpty(t, kind.Remedy, kind.Code)
	}
}

func TestCodeOfLooksThroughWrapping(t *testing.T) {
	t.Parallel()
	cause := errors.New("connection refused")
	err := fmt.Errorf("run 7: %w", Wrap(CloudUnreachable, cause, "read resources"))
	assert.Equal(t, CloudUnreachable, CodeOf(err))
	assert.ErrorIs(t, err, cause)
	assert.Equal(t, "run 7: The cloud cannot be reached: read resources: connection refused", err.Error())
	assert.Empty(t, CodeOf(cause))
}
