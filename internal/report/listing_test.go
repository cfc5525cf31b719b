package report_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/report"
)

// A listing has as many columns as fit, the least needed left out first, and no line runs over.
func TestListing(t *testing.T) {
	for width, titles := range map[int]string{120: "row name when why", 60: "row name why", 62: "row name why", 70: "row name when why"} {
		var out strings.Builder
		page := &report.Page{W: &out, Width: width}
		listing := page.Listing(report.Column{Title: "row", Width: 5, Right: true}, report.Column{Title: "name", Width: 20}, report.Column{Title: "when", Width: 16, Rank: 2}, report.Column{Title: "why", Rank: 1})
		listing.Row(report.Cell{Text: "17"}, report.Cell{Text: "Ångström, Zoë"}, report.Cell{Text: "2027-03-04"}, report.Cell{Text: strings.Repeat("as it is ", 20)})
		lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		assert.Equal(t, titles, strings.Join(strings.Fields(lines[0]), " "), width)
		for _, line := range lines {
			assert.LessOrEqual(t, len([]rune(line)), width, line)
		}
		assert.Contains(t, lines[1], "   17  Ångström, Zoë")
	}
}
