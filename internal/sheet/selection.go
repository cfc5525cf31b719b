package sheet

import (
	"fmt"
	"iter"
	"strconv"
	"strings"
)

// A Selection says which rows of a sheet are taken. The zero value takes all.
type Selection struct {
	Ranges [][2]int // row numbers from, to; none: any
	First  int      // no more than this many of them; 0: all
}

// ParseRows reads row numbers such as "3-9,12,20-".
func ParseRows(text string) ([][2]int, error) {
	var ranges [][2]int
	for part := range strings.SplitSeq(text, ",") {
		from, to, isRange := strings.Cut(strings.TrimSpace(part), "-")
		first, err := strconv.Atoi(strings.TrimSpace(from))
		last := first
		if to = strings.TrimSpace(to); err == nil && isRange {
			if last = int(^uint(0) >> 1); to != "" {
				last, err = strconv.Atoi(to)
			}
		}
		if err != nil || first < 1 || last < first {
			return nil, fmt.Errorf("“%s” names no rows: write them as 3-9,12 or 20-", part)
		}
		ranges = append(ranges, [2]int{first, last})
	}
	return ranges, nil
}

// All reports whether every row is taken.
func (s Selection) All() bool { return len(s.Ranges) == 0 && s.First == 0 }

// Has reports whether a row number is in the ranges.
func (s Selection) Has(row int) bool {
	for _, r := range s.Ranges {
		if row >= r[0] && row <= r[1] {
			return true
		}
	}
	return len(s.Ranges) == 0
}

// String says the selection in words.
func (s Selection) String() string {
	var parts []string
	for _, r := range s.Ranges {
		switch {
		case r[0] == r[1]:
			parts = append(parts, strconv.Itoa(r[0]))
		case r[1] == int(^uint(0)>>1):
			parts = append(parts, strconv.Itoa(r[0])+" on")
		default:
			parts = append(parts, fmt.Sprintf("%d to %d", r[0], r[1]))
		}
	}
	text := "rows " + strings.Join(parts, ", ")
	switch {
	case s.All():
		return "all rows"
	case s.First == 0:
		return text
	case len(parts) == 0:
		return fmt.Sprintf("the first %d rows", s.First)
	}
	return fmt.Sprintf("the first %d of %s", s.First, text)
}

// Of yields all rows, those that are not taken marked as Left.
func (s Selection) Of(rows iter.Seq2[Row, error]) iter.Seq2[Row, error] {
	if s.All() {
		return rows
	}
	return func(yield func(Row, error) bool) {
		taken := 0
		for row, err := range rows {
			if row.Left = !s.Has(row.Number) || s.First > 0 && taken == s.First; !row.Left {
				taken++
			}
			if !yield(row, err) {
				return
			}
		}
	}
}
