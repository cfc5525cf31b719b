package profile_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

func of(t *testing.T, text string) *profile.Profile {
	s, err := sheet.Read("s.csv", strings.NewReader(text), sheet.Options{HeadingRow: 1})
	require.NoError(t, err)
	p, err := profile.Of(s.Info(), s.Rows(), nil)
	require.NoError(t, err)
	return p
}

func TestColumns(t *testing.T) {
	p := of(t, `Per No,Vorname,Where,Contact,From,Ok,Tel,Zone,PIN,Key
1,Ana,Portugal,a@x.example,14/3/2027,yes,+351 282 555 014,Europe/Lisbon,1234,Xy7$abcd
2,Zoë,PT,b@x.example,3/4/2027,nein,07700 900123,Europe/London,9,b
3,Ана,UK,c@x.example,1/5/2027,ja,07700 900124,,,
4,Tom,France,,2/6/2027,no,,,,
5,Tom,Spain,,,,,,,
`)
	assert.Equal(t, 5, p.Rows)
	got := map[string]string{}
	for _, c := range p.Columns {
		got[c.Heading] = fmt.Sprintf("%s as %s, %d and %d, %d to %d", c.Field, c.Kind, c.Filled, c.Blank, c.Shortest, c.Longest)
	}
	assert.Equal(t, map[string]string{
		"Per No":  "employeeNumber as digits, 5 and 0, 1 to 1",
		"Vorname": "givenName as text, 5 and 0, 3 to 3",
		"Where":   "country as country, 5 and 0, 2 to 8",
		"Contact": "email as email, 3 and 2, 11 to 11",
		"From":    " as date, 4 and 1, 8 to 9",
		"Ok":      " as yes or no, 4 and 1, 2 to 4",
		"Tel":     "phone as phone, 3 and 2, 12 to 16",
		"Zone":    "timezone as time zone, 2 and 3, 13 to 13",
		"PIN":     " as digits, 2 and 3, 1 to 4",
		"Key":     " as text, 2 and 3, 1 to 8",
	}, got)
	assert.True(t, p.Columns[8].Secret)
	assert.Empty(t, p.Columns[8].Examples)
	assert.Empty(t, p.Columns[9].Examples, "one value like a password is enough to show none")
	assert.NotContains(t, fmt.Sprint(p), "Xy7$")
}

// Every cell is counted once, whatever stands in it.
func TestEveryCellCounts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.OneOf(rapid.SampledFrom([]string{"", " ", "7", "00417", "14/3/2027", "yes", "PT", "a@x.example", "Xy7$abcd", "#N/A", "\u00a0", "Deck", "deck"}), rapid.String())
		width := rapid.IntRange(1, 4).Draw(t, "width")
		info := sheet.Info{}
		for i := range width {
			info.Headings = append(info.Headings, fmt.Sprintf("Column %d", i))
		}
		kinds := rapid.SampledFrom([]sheet.CellKind{sheet.Plain, sheet.Numeric, sheet.Dated, sheet.Logical, sheet.Faulty, sheet.Uncalculated})
		n := rapid.IntRange(0, 40).Draw(t, "rows")
		p, err := profile.Of(info, func(yield func(sheet.Row, error) bool) {
			for i := range n {
				row := sheet.Row{Number: i + 2}
				for range rapid.IntRange(0, width+1).Draw(t, "cells") {
					row.Cells = append(row.Cells, value.Draw(t, "value"))
					row.Kinds = append(row.Kinds, kinds.Draw(t, "kind"))
				}
				if !yield(row, nil) {
					return
				}
			}
		}, nil)
		require.NoError(t, err)
		require.Equal(t, n, p.Rows)
		for _, c := range p.Columns {
			require.Equal(t, n, c.Filled+c.Blank)
			require.LessOrEqual(t, c.Distinct, c.Filled)
			require.LessOrEqual(t, c.Shortest, c.Longest)
			for _, o := range c.Odd {
				require.NotEmpty(t, o.Message)
				require.LessOrEqual(t, o.Count, n)
				for _, row := range o.Rows {
					require.True(t, row >= 2 && row < n+2)
				}
			}
			for _, example := range c.Examples {
				require.False(t, profile.LooksSecret(example))
			}
		}
	})
}

func TestOddities(t *testing.T) {
	var rows strings.Builder
	for i := range 40 {
		fmt.Fprintf(&rows, "%05d,Deck,p%d@x.example,%d/%d/2027\n", i*400, i, 1+i%12, 1+i%9)
	}
	for name, c := range map[string]struct{ row, says string }{
		"several spellings":  {"7,deck ,q@x.example,", "“Deck”, “deck”"},
		"white space":        {"7,deck ,q@x.example,", "white space"},
		"zeros lost":         {"417,Deck,q@x.example,", "shorter than the 5 digits"},
		"a key twice":        {"00400,Deck,q@x.example,", "stands in another row already"},
		"another kind":       {"90000,Deck,none,", "not of the kind email"},
		"an error":           {"90000,#REF!,q@x.example,", "an error of the spreadsheet program: “#REF!”"},
		"alphabets":          {"90000,Dеck,q@x.example,", "letters of different alphabets"},
		"encoding":           {"90000,TÃ¼rk,q@x.example,", "“TÃ¼rk” for “Türk”"},
		"order of dates":     {"90000,Deck,q@x.example,", "day or month could be first"},
		"orders go both way": {"90000,Deck,q@x.example,14/3/2027\n90001,Deck,r@x.example,3/14/2027", "go both ways"},
		"shortened number":   {"4.17E+10,Deck,q@x.example,", "lost its last digits"},
	} {
		t.Run(name, func(t *testing.T) {
			p := of(t, "Staff no,Team,Email,From\n"+rows.String()+c.row+"\n")
			var said []string
			for _, column := range p.Columns {
				for _, o := range column.Odd {
					said = append(said, o.Message)
				}
			}
			assert.Contains(t, strings.Join(said, "\n"), c.says)
		})
	}
	p := of(t, "Staff no,Team,Email,From\n"+strings.ReplaceAll(rows.String(), "/2027", "/2027 10:00")+"\n")
	for _, c := range p.Columns[:3] {
		assert.Empty(t, c.Odd, "nothing is odd in %s", c.Heading)
	}
}
