package keyset_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/keyset"
)

// Each key is known by the row that it came with first, however the set grows.
func TestSet(t *testing.T) {
	s := keyset.New()
	assert.False(t, s.Has("p1"))
	for row := 1; row <= 50_000; row++ {
		first, taken := s.Add(fmt.Sprint("p", row%40_000), row)
		assert.Equal(t, row > 40_000, taken)
		if taken {
			assert.Equal(t, row-40_000, first)
		}
	}
	assert.Equal(t, 40_000, s.Len())
	assert.Equal(t, 40_000, s.First("p0"))
	assert.Equal(t, 7, s.First("p7"))
	assert.False(t, s.Has("p40000") || s.Has(""))
	var none *keyset.Set
	assert.False(t, none.Has("p1"), "no set has no key")
}
