package told_test

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/told"
)

// How an error is told follows from the first in it that explains itself, however deep; of none, from its words.
func TestOf(t *testing.T) {
	held := told.New(told.Held, "somebody is at it", "Wait.")
	for _, c := range []struct {
		err       error
		want      told.Telling
		explained bool
	}{
		{errors.New("plain"), told.Telling{Message: "plain"}, false},
		{held, told.Telling{Class: told.Held, Message: "somebody is at it", Remedy: "Wait."}, true},
		{fmt.Errorf("batch 7: %w", held), told.Telling{Class: told.Held, Message: "batch 7: somebody is at it", Remedy: "Wait."}, true},
		{errors.Join(errors.New("first"), held), told.Telling{Class: told.Held, Message: "first\nsomebody is at it", Remedy: "Wait."}, true},
	} {
		says, explained := told.Of(c.err)
		assert.Equal(t, c.want, says)
		assert.Equal(t, c.explained, explained)
	}
	assert.ErrorIs(t, fmt.Errorf("x: %w", held), held, "it is a variable that others compare with")
}
