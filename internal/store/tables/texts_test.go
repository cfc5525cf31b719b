package tables

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
)

// texts are some that JSON, and what stands between the parts of a change, could be taken for.
func texts() *rapid.Generator[string] {
	odd := rapid.SampledFrom([]string{"", `"`, `","`, `["`, `"]`, "\\", "\x1f", "@", "*", "=", "-", "<&>", "\u2028", "\x7f", "\x00", "Zoë", "田"})
	return rapid.Custom(func(t *rapid.T) string {
		return strings.Join(rapid.SliceOfN(rapid.OneOf(odd, rapid.String()), 0, 3).Draw(t, "parts"), "")
	})
}

// What is written into a list is read out of it again, and is JSON whichever way it was written.
func TestTexts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(texts(), 0, 6).Draw(t, "texts")
		written := textsText(all)
		var other []string
		require.NoError(t, json.Unmarshal([]byte(written), &other), written)
		read, err := readTexts(written)
		require.NoError(t, err, written)
		assert.Equal(t, append([]string{}, all...), append([]string{}, read...), written)
		assert.Equal(t, append([]string{}, all...), append([]string{}, other...), written)
	})
}

// A change is what it was, with who is referred to and what a value is in whole. Only names give up what separates them.
func TestChanges(t *testing.T) {
	value := rapid.Custom(func(t *rapid.T) account.Value {
		if !rapid.Bool().Draw(t, "present") {
			return account.Value{}
		}
		return account.Of(texts().Draw(t, "value"))
	})
	rapid.Check(t, func(t *rapid.T) {
		var all []account.Change
		for range rapid.IntRange(0, 4).Draw(t, "changes") {
			c := account.Change{Field: texts().Draw(t, "field"), Before: value.Draw(t, "before"), After: value.Draw(t, "after")}
			if rapid.Bool().Draw(t, "whole") {
				whole, err := json.Marshal(texts().Draw(t, "in whole"))
				require.NoError(t, err)
				c.Whole = string(whole)
			}
			if rapid.Bool().Draw(t, "names") {
				c.Names = &[2]string{nameless.Replace(texts().Draw(t, "from")), nameless.Replace(texts().Draw(t, "to"))}
			}
			all = append(all, c)
		}
		read, err := readChanges(changesText(all))
		require.NoError(t, err)
		assert.Equal(t, append([]account.Change{}, all...), append([]account.Change{}, read...))
	})
	for _, broken := range []string{`["a"]`, `["a","=b"]`, `{"a": 1}`, `["a"`} {
		_, err := readChanges(broken)
		assert.Error(t, err, broken)
	}
}

// Ranges hold the rows that they were made of, in order, and no others; no two of them touch.
func TestRanges(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := rapid.SliceOfDistinct(rapid.IntRange(1, 40), rapid.ID).Draw(t, "rows")
		var within []int
		last := -1
		for _, r := range rangesOf(rows) {
			assert.Greater(t, r[0], last+1)
			for row := r[0]; row <= r[1]; row++ {
				within = append(within, row)
			}
			last = r[1]
		}
		slices.Sort(rows)
		assert.Equal(t, append([]int{}, rows...), append([]int{}, within...))
	})
}
