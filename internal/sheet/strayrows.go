package sheet

import (
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"evenledger/internal/words"
)

// What stands among the rows of a printed list and is nobody: totals, page numbers,
// and remarks on the list itself.
var (
	totalLine = regexp.MustCompile(`^(grand |sub)?-?(totals?|totale|totaal|sum|summe|gesamt|insgesamt|somme|suma|soma|razem|ogółem|count|headcount|anzahl|nombre total|number of (rows|people|staff|employees))\s*[:=(]?\s*[\d., ]*\)?$`)
	pageLine  = regexp.MustCompile(`^((page|seite|página|pagina|strona|sida|side|blatt)\s*\d+.*|\d+\s*(of|/|von|de|z)\s*\d+|(printed|generated|created|exported|as of|as at|gedruckt|erstellt|stand)[: ].*\d.*|end of (report|list|file|sheet)\.?|(strictly )?confidential.*|continued.*|[*†‡©].*|(source|note|notes|remark|legend|quelle|hinweis|fußnote)\s*:.*)$`)
)

const headingsAgain = "the row has the headings again"

// strayRow looks whether a row is one of the table at all.
func (s *Sheet) strayRow(row *Row) {
	if s.info.HeadingRow == 0 || len(s.info.Headings) < 2 {
		return
	}
	var few [4]int
	at := few[:0] // the filled cells
	for i, cell := range row.Cells {
		if strings.TrimSpace(cell) != "" {
			if at = append(at, i); len(at) == len(few) && !s.isHeading(at[0], row.Cells[at[0]]) {
				return // nearly every row
			}
		}
	}
	if len(at) >= 2 && 2*len(at) >= s.named() && !slices.ContainsFunc(at, func(i int) bool { return !s.isHeading(i, row.Cells[i]) }) {
		row.Aside = headingsAgain
		s.tally.Repeated++
		return
	}
	first, _ := words.Clean(row.Cells[at[0]])
	first = strings.ToLower(first)
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
	if i >= len(s.info.Headings) || s.info.Headings[i] == "" {
		return false
	}
	heading := s.info.Headings[i]
	if digit := cell[0]; digit >= '0' && digit <= '9' && heading[0] > '9' && heading[0] < utf8.RuneSelf {
		return false // spared the closer look
	}
	return words.Key(cell) == words.Key(heading)
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
