package sheet_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/sheet"
)

// crew are so many rows under “No,Surname,First name,E-mail,Unit”, the columns in the order that is said.
func crew(n int, order ...int) string {
	var rows strings.Builder
	last, first := strings.Fields("Brandt Okafor Weiß Nowak Holm Đurić Zając"), strings.Fields("Zoë Amélie Ngũgĩ Łukasz Søren")
	for i := range n {
		cells := []string{fmt.Sprint(417 + i), last[i%7], first[i%5], fmt.Sprintf("p%d@brindlesound.example", i), []string{"Deck", "Engine", "Pilots"}[i%3]}
		for at, from := range order {
			if at > 0 {
				rows.WriteByte(',')
			}
			rows.WriteString(cells[from])
		}
		rows.WriteByte('\n')
	}
	return rows.String()
}

// What stands below a list is none of it, and told; what is only written otherwise than the rows above is.
func TestListsBelow(t *testing.T) {
	const headings = "No,Surname,First name,E-mail,Unit\n"
	list := func(n int) string { return headings + crew(n, 0, 1, 2, 3, 4) }
	for name, c := range map[string]struct {
		text  string
		end   string
		below string // rows of another list
		aside string // rows that are set aside, or doubted by themselves
	}{
		"one list":                      {list(40), "", "", ""},
		"parted by blank rows":          {list(12) + "\n" + crew(5, 0, 1, 2, 3, 4) + "\n\n" + crew(5, 0, 1, 2, 3, 4), "", "", ""},
		"the headings again":            {list(6) + "\n" + list(3), "", "", "9"},
		"in another order":              {list(6) + "\nNo,First name,Surname,E-mail,Unit\n" + crew(3, 0, 2, 1, 3, 4), "", "9 10 11 12", ""},
		"right below":                   {list(25) + "First name,Surname,No,Unit,E-mail\n" + crew(3, 2, 1, 0, 4, 3), "", "27 28 29 30", ""},
		"and then the first again":      {list(6) + "\nNo,First name,Surname\n1,Zoë,Brandt\n" + list(2), "", "9 10", "11"},
		"of other headings":             {list(6) + "\nWho,Room\nZoë,B12\n", "", "9 10", ""},
		"of totals":                     {list(6) + "\nUnit,People,,,\nDeck,12,,,\nEngine,8,,,\n", "", "9 10 11", ""},
		"of totals without headings":    {list(6) + "\n,Deck,12\n,Engine,8\n", "", "9 10", ""},
		"of other kinds":                {list(30) + crew(4, 1, 0, 3, 2, 4), "", "32 33 34 35", ""},
		"two odd rows":                  {list(30) + crew(2, 1, 0, 3, 2, 4) + crew(4, 0, 1, 2, 3, 4), "", "", ""},
		"of other kinds, parted":        {list(4) + "\n" + crew(3, 1, 0, 3, 2, 4), "", "7 8 9", ""},
		"titles between":                {list(4) + "\nEngine crew\n" + crew(3, 0, 1, 2, 3, 4), "", "", "7"},
		"as the brief says: a row":      {list(6) + "1,Brandt,Zoë,z@brindlesound.example,Deck\n", "7", "", "8"},
		"as the brief says: blank":      {list(6) + "\n" + crew(2, 0, 1, 2, 3, 4), "blank", "", "9 10"},
		"as the brief says: a text":     {list(6) + "In all,6\n\nDeck,12\n", "in all", "", "8 10"},
		"as the brief says: it goes on": {list(6) + "\nUnit,People,,,\nDeck,12,,,\n", "never", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			options := sheet.Options{Recognise: func(h string) bool { return strings.Contains(" surname e-mail unit ", " "+strings.ToLower(h)+" ") }}
			if c.end != "" {
				var err error
				options.End, err = sheet.ParseEnd(c.end)
				require.NoError(t, err)
			}
			s, err := sheet.Read("t", strings.NewReader(c.text), options)
			require.NoError(t, err)
			var below, aside []string
			for row, err := range s.Rows() {
				require.NoError(t, err)
				switch {
				case row.Below:
					require.NotEmpty(t, row.Doubt)
					below = append(below, fmt.Sprint(row.Number))
				case row.Aside+row.Doubt != "":
					aside = append(aside, fmt.Sprint(row.Number))
				}
			}
			assert.Equal(t, c.below, strings.Join(below, " "))
			assert.Equal(t, c.aside, strings.Join(aside, " "))
			assert.True(t, s.Info().Read.Even())
		})
	}
	for _, wrong := range []string{"", "0", "-3"} {
		_, err := sheet.ParseEnd(wrong)
		assert.Error(t, err, wrong)
	}
}
