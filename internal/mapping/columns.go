package mapping

import (
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// use looks a heading up and marks its column as used. Where two columns have
// the heading, that is an error, as nobody can say which is meant.
func (m *Mapper) use(heading string, twice map[string][]string) (int, bool) {
	key := words.Key(heading)
	if both, ok := twice[key]; ok {
		f := account.Find(account.Error, "same-heading", fmt.Sprintf("the brief uses the column “%s”, but two columns have this heading (“%s” and “%s”)", heading, both[0], both[1]))
		f.Column = heading
		if !slices.Contains(m.findings, f) {
			m.findings = append(m.findings, f)
		}
	}
	at, ok := m.column[key]
	if ok {
		m.columns[at].Used = true
	}
	return at, ok
}

// useFamily finds the columns of a family such as “Course *”, by their numbers.
func (m *Mapper) useFamily(f brief.Field) []int {
	columns, _ := m.familyOf(f.From, f.Name)
	return columns
}

// familyOf finds the columns of a family and the number of each.
func (m *Mapper) familyOf(from, field string) (columns []int, numbers map[int]int) {
	stem := words.Key(from)
	numbers = map[int]int{} // index of a column → its number
	for i, heading := range m.headings {
		number, isOne := strings.CutPrefix(words.Key(heading), stem)
		n, err := strconv.Atoi(number)
		if !isOne || number != "" && (err != nil || n < 0) || sheet.IsOurs(heading) {
			continue
		}
		numbers[i], columns = n, append(columns, i)
		m.columns[i].Used, m.columns[i].Fields = true, append(m.columns[i].Fields, field)
	}
	slices.SortStableFunc(columns, func(x, y int) int { return numbers[x] - numbers[y] })
	return columns, numbers
}

func (m *Mapper) missing(level account.Level, heading, field string) {
	f := account.Find(level, "unknown-column", fmt.Sprintf("the sheet has no column “%s”, which the brief names", heading))
	f.Column, f.Field = heading, field
	if near := words.Nearest(heading, m.headings); near != "" {
		f.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
	}
	if !slices.Contains(m.findings, f) {
		m.findings = append(m.findings, f)
	}
}

func (m *Mapper) unusedColumns() {
	known := account.NewHeadings()
	var headings []string // that would be recognised
	for _, f := range account.Fields() {
		headings = append(headings, f.Headings...)
	}
	for i, column := range m.columns {
		if column.Used || column.Heading == "" || sheet.IsOurs(column.Heading) {
			continue
		}
		first, taken := m.column[words.Key(column.Heading)]
		if taken && first != i && m.columns[first].Used {
			continue // told as a same heading
		}
		f := account.Find(account.Note, "unknown-heading", fmt.Sprintf("the column “%s” is not used", column.Heading))
		f.Column = column.Heading
		if field, ok := known.Field(column.Heading); ok && m.brief.Field(field.Name) < 0 {
			f.Remedy = fmt.Sprintf("It looks like the %s: to use it, add “%s: {from: %s}” to the brief.", field.Label, field.Name, column.Heading)
		} else if near := words.Nearest(column.Heading, headings); near != "" && !ok {
			f.Level = account.Warning
			f.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		m.findings = append(m.findings, f)
	}
}

// oddColumns tells of columns that are not as they look in the spreadsheet program.
func (m *Mapper) oddColumns(info sheet.Info) {
	tell := func(level account.Level, code, heading, message string) {
		f := account.Find(level, code, message)
		f.Column = heading
		m.findings = append(m.findings, f)
	}
	for _, heading := range info.Hidden {
		if i := slices.Index(info.Headings, heading); m.columns[i].Used {
			tell(account.Warning, "hidden-column", heading, fmt.Sprintf("the column “%s” is hidden, and is used", heading))
		}
	}
	for _, heading := range info.Merged {
		tell(account.Warning, "merged-heading", heading, fmt.Sprintf("the heading “%s” stretches over the columns to its right: only the first is read under it", heading))
	}
}

// Undated lists the fields with dates of which nothing says in which order they
// have their day and month.
func (m *Mapper) Undated() []int {
	var fields []int
	for i, f := range m.brief.Fields {
		if f.Kind == account.Date && m.from[i] >= 0 && m.brief.Dates == codes.Unsettled {
			fields = append(fields, i)
		}
	}
	return fields
}

// SettleDates looks through the rows for dates that can be read in one way only,
// and takes their order for that of the column. It stops as soon as all columns
// are settled, or plainly have their dates in another form.
func (m *Mapper) SettleDates(rows iter.Seq2[sheet.Row, error]) error {
	const enough = 1000 // dates of another form
	open, other := m.Undated(), map[int]int{}
	for row, err := range rows {
		if err != nil || len(open) == 0 {
			return err
		}
		open = slices.DeleteFunc(open, func(i int) bool {
			if m.from[i] >= len(row.Cells) || row.Cells[m.from[i]] == "" {
				return false
			}
			text, _ := words.Clean(row.Cells[m.from[i]])
			order := codes.OrderOf(text)
			if order == codes.Unsettled {
				if codes.IsAmbiguousDate(text) {
					other[i] = math.MinInt // from here on only a date that settles it will do
				}
				other[i]++
				return other[i] == enough
			}
			m.readers[i] = codes.NewReader(order)
			m.readers[i].Settled = true
			f := account.Find(account.Note, "dates-settled", fmt.Sprintf("dates in “%s” are read with the %s first, as row %d has “%s”", m.Heading(i), map[codes.DateOrder]string{codes.DayFirst: "day", codes.MonthFirst: "month"}[order], row.Number, show(text)))
			f.Column, f.Field = m.Heading(i), m.brief.Fields[i].Name
			m.findings = append(m.findings, f)
			return true
		})
	}
	return nil
}
