package sheet

import (
	"regexp"
	"slices"
	"strings"

	"evenledger/internal/words"
)

// What stands among the rows of a printed list and is nobody: totals, page numbers,
// and remarks on the list itself.
var (
	totalLine = regexp.MustCompile(`(?i)^(grand |sub)?-?(totals?|totale|totaal|sum|summe|gesamt|insgesamt|somme|suma|soma|razem|ogółem|count|headcount|anzahl|nombre total|number of (rows|people|staff|employees))\s*[:=(]?\s*[\d., ]*\)?$`)
	pageLine  = regexp.MustCompile(`(?i)^((page|seite|página|pagina|strona|sida|side|blatt)\s*\d+.*|\d+\s*(of|/|von|de|z)\s*\d+|(printed|generated|created|exported|as of|as at|gedruckt|erstellt|stand)[: ].*\d.*|end of (report|list|file|sheet)\.?|(strictly )?confidential.*|continued.*|[*†‡©].*|(source|note|notes|remark|legend|quelle|hinweis|fußnote)\s*:.*)$`)
)

// furniture looks whether a row is one of the table at all.
func (s *Sheet) furniture(row *Row) {
	if s.info.HeadingRow == 0 || len(s.info.Headings) < 2 {
		return
	}
	var at []int // the filled cells
	for i, cell := range row.Cells {
		if strings.TrimSpace(cell) != "" {
			if at = append(at, i); len(at) > 3 && !s.isHeading(i, cell) {
				return
			}
		}
	}
	if len(at) >= 2 && 2*len(at) >= s.named() && !slices.ContainsFunc(at, func(i int) bool { return !s.isHeading(i, row.Cells[i]) }) {
		row.Aside = "the row has the headings again"
		s.tally.Repeated++
		return
	}
	first, _ := words.Clean(row.Cells[at[0]])
	bare := !slices.ContainsFunc(at[1:], func(i int) bool { return strings.Trim(row.Cells[i], "0123456789., ") != "" })
	switch {
	case len(at) <= 2 && bare && totalLine.MatchString(first):
		row.Aside = "the row is a total"
	case len(at) == 1 && len(s.info.Headings) > 2 && pageLine.MatchString(first):
		row.Aside = "the row is a remark of the page, and nobody's"
	case len(at) == 1 && len(s.info.Headings) > 2 && strings.Count(first, " ") > 3:
		row.Doubt = "the row has one cell filled, with a whole sentence in it"
	}
}

func (s *Sheet) isHeading(i int, cell string) bool {
	return i < len(s.info.Headings) && s.info.Headings[i] != "" && words.Key(cell) == words.Key(s.info.Headings[i])
}

// named is how many columns have a heading.
func (s *Sheet) named() int {
	n := 0
	for _, heading := range s.info.Headings {
		if heading != "" {
			n++
		}
	}
	return n
}
