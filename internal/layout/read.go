package layout

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// A Found is an account as a row of an export shows it.
type Found struct {
	Row     int
	Account account.Account      // its identifier is the key's value
	Ties    []account.Membership // things by name
}

// A Shown is what an export shows of its accounts.
type Shown struct {
	Fields map[string]bool // those with a column
	Kinds  map[string]bool // of things
	Ended  sheet.Tally
}

// A place is where a column of the export stands and what it has.
type place struct {
	column *Column
	at     int
}

// ReadExport reads the application's export. One that is none of it, was cut off or names an account twice is
// a *sheet.Error.
func (l *Layout) ReadExport(path string, each func(Found) error) (shown Shown, err error) {
	wanted := l.exportHeadings()
	s, err := sheet.Open(path, nil, sheet.Options{AnyTab: true, End: sheet.End{Never: true}, Named: func(heading string) bool { return wanted[words.Key(heading)] }})
	if err != nil {
		return shown, err
	}
	defer s.Close()
	info := s.Info()
	fail := func(row int, remedy, format string, args ...any) error {
		return &sheet.Error{Name: path, Line: row, Message: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	places := l.places(info.Headings)
	shown = Shown{Fields: map[string]bool{}, Kinds: map[string]bool{}}
	for _, p := range places {
		switch p.column.Fill {
		case Field:
			shown.Fields[p.column.Field] = true
		case Tie:
			if p.column.Part == Thing {
				shown.Kinds[p.column.Things] = true
			}
		}
	}
	if !shown.Fields[l.Key] {
		return shown, fail(0, "Name the column in the layout, as “export: {columns: {HEADING: "+l.Key+"}}”, or give the export of the right application.", "has no column with the %s, by which the application knows an account; its headings are %s", l.Key, strings.Join(info.Headings, ", "))
	}
	key, reader, rows := account.Field{Name: l.Key}, codes.NewReader(codes.Unsettled), map[string]int{}
	if f, known := account.FieldNamed(l.Key); known {
		key = f
	}
	for row, err := range s.Rows() {
		if err != nil {
			return shown, err
		}
		if row.Aside != "" {
			continue
		}
		found := l.found(places, row, reader)
		if found.Account.ID == "" {
			return shown, fail(row.Number, "Export the accounts again, whole.", "row %d has no %s", row.Number, l.Key)
		}
		same := key.Key(found.Account.ID)
		if other := rows[same]; other > 0 {
			return shown, fail(row.Number, "Two accounts cannot be told apart: see in the application which is meant.", "rows %d and %d have the same %s, “%s”", other, row.Number, l.Key, found.Account.ID)
		}
		rows[same] = row.Number
		if err := each(found); err != nil {
			return shown, err
		}
	}
	if shown.Ended = s.Info().Read; shown.Ended.Cut {
		return shown, fail(0, "Save it once more, whole.", "seems to break off: its last row has no end, and fewer cells than the others")
	}
	return shown, nil
}

// exportHeadings are the headings that an export may have, as words.Key has them.
func (l *Layout) exportHeadings() map[string]bool {
	known := map[string]bool{}
	for _, heading := range l.Headings() {
		known[words.Key(heading)] = true
	}
	for heading := range l.Export.Columns {
		known[words.Key(heading)] = true
	}
	return known
}

// places finds the columns of an export.
func (l *Layout) places(headings []string) (places []place) {
	otherwise := map[string]string{}
	for heading, field := range l.Export.Columns {
		otherwise[words.Key(heading)] = field
	}
	for at, heading := range headings {
		if field, has := otherwise[words.Key(heading)]; has {
			places = append(places, place{l.exported(field), at})
			continue
		}
		for i := range l.Columns {
			switch c := &l.Columns[i]; {
			case c.Fill == Field && c.is(heading):
				places = append(places, place{l.exported(c.Field), at})
			case c.Fill == Tie && c.is(heading):
				places = append(places, place{c, at})
			}
		}
	}
	slices.SortStableFunc(places, func(a, b place) int { return int(a.column.Part) - int(b.column.Part) })
	return places
}

// exported is the column of a field, or one that only the exports have.
func (l *Layout) exported(field string) *Column {
	c := Column{Fill: Field, Field: field}
	if has, ok := l.Column(field); ok {
		c = *has
	} else if f, known := account.FieldNamed(field); known {
		c.Kind = f.Kind
	}
	if table := l.Export.Words[field]; table != nil {
		c.read = table
	}
	return &c
}

// is reports whether a heading of an export is the column's.
func (c *Column) is(heading string) bool {
	if before, after, star := strings.Cut(c.Heading, "*"); star && c.Fill == Tie {
		number, begins := strings.CutPrefix(words.Key(heading), words.Key(before))
		number = strings.TrimSuffix(number, words.Key(after))
		n, err := strconv.Atoi(number)
		return begins && err == nil && n > 0
	}
	return words.Key(c.Heading) == words.Key(heading)
}

// found reads one row.
func (l *Layout) found(places []place, row sheet.Row, reader *codes.Reader) Found {
	f := Found{Row: row.Number, Account: account.Account{Fields: map[string]account.Value{}}}
	ties := map[string][]account.Membership{}
	at := map[*Column]int{} // how many columns of a family were read
	for _, p := range places {
		cell := ""
		if p.at < len(row.Cells) {
			cell = strings.TrimSpace(row.Cells[p.at])
		}
		c := p.column
		if c.Fill == Field {
			f.Account.Fields[c.Field] = account.ValueOr(strings.Clone(c.reads(reader, cell)))
			continue
		}
		texts := []string{cell}
		if c.Split != "" {
			texts = strings.Split(cell, c.Split)
		}
		for _, text := range texts {
			n := at[c]
			at[c]++
			value := c.Standard(strings.Clone(strings.TrimSpace(text)))
			switch {
			case c.Part == Thing:
				ties[c.Things] = append(ties[c.Things], account.Membership{Kind: c.Things, Thing: value})
			case n >= len(ties[c.Things]):
			case c.Part == Role:
				ties[c.Things][n].Role = value
			default:
				ties[c.Things][n].Section = value
			}
		}
	}
	f.Account.ID = f.Account.Field(l.Key).Text()
	for _, kind := range l.Kinds() {
		for _, tie := range ties[kind] {
			if tie.Thing != "" {
				tie.Account = f.Account.ID
				f.Ties = append(f.Ties, tie)
			}
		}
	}
	return f
}

// A Failure is a row that the application did not take.
type Failure struct {
	Row    int // of its list
	Line   int // of the file; 0: it does not say
	Keys   map[string]string
	Reason string
}

// ReadResults reads the application's list of what it did not take.
func (l *Layout) ReadResults(path string) (all []Failure, err error) {
	r := l.Results
	if r.Message == "" {
		return nil, &account.Mistake{Message: "the layout does not say what the application's list of failures looks like", Remedy: "Add “results: {key: {HEADING: FIELD}, message: HEADING}” to it."}
	}
	named := map[string]bool{words.Key(r.Message): true, words.Key(r.Line): true}
	for _, k := range r.Keys {
		named[words.Key(k.Heading)] = true
	}
	s, err := sheet.Open(path, nil, sheet.Options{AnyTab: true, End: sheet.End{Never: true}, Named: func(heading string) bool { return heading != "" && named[words.Key(heading)] }})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	headings := s.Info().Headings
	at := func(heading string) int {
		return slices.IndexFunc(headings, func(h string) bool { return heading != "" && words.Key(h) == words.Key(heading) })
	}
	need := []string{r.Message}
	for _, k := range r.Keys {
		need = append(need, k.Heading)
	}
	if r.Line != "" {
		need = append(need, r.Line)
	}
	for _, heading := range need {
		if at(heading) < 0 {
			return nil, &sheet.Error{Name: path, Message: fmt.Sprintf("has no column “%s”; its headings are %s", heading, strings.Join(headings, ", ")), Remedy: "Is it the list of this application? Else correct “results” in the layout."}
		}
	}
	for row, err := range s.Rows() {
		if err != nil {
			return nil, err
		}
		if row.Aside != "" {
			continue
		}
		cell := func(heading string) string {
			if i := at(heading); i >= 0 && i < len(row.Cells) {
				return strings.TrimSpace(row.Cells[i])
			}
			return ""
		}
		f := Failure{Row: row.Number, Keys: map[string]string{}, Reason: cell(r.Message)}
		for _, k := range r.Keys {
			f.Keys[k.Field] = cell(k.Heading)
		}
		if r.Line != "" {
			n, err := strconv.Atoi(cell(r.Line))
			if err != nil || n < 0 {
				return nil, &sheet.Error{Name: path, Line: row.Number, Message: fmt.Sprintf("“%s” is no number of a line", cell(r.Line)), Remedy: "Correct “results: line” in the layout."}
			}
			f.Line = l.lineOf(n)
		}
		all = append(all, f)
	}
	return all, nil
}

// lineOf is the line of a file, from 1, that the application numbers like this.
func (l *Layout) lineOf(n int) int {
	if l.Results.Counts < 0 {
		return n
	}
	first := len(l.Above) + 2
	if !l.format().headed {
		first = 1
	}
	return n - l.Results.Counts + first
}
