package mapping

import (
	"cmp"
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/attribute"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// use looks a heading up and marks its column as used. Where two columns have
// the heading, that is an error, as nobody can say which is meant.
func (m *Mapper) use(heading string, twice map[string][]string) (int, bool) {
	key := words.Key(heading)
	if both, ok := twice[key]; ok {
		f := account.Find(account.Error, account.SameHeading, fmt.Sprintf("the brief uses the column “%s”, but two columns have this heading (“%s” and “%s”)", heading, both[0], both[1]))
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

// useFamily finds the columns of a family such as “Training *”.
func (m *Mapper) useFamily(f brief.Field) []int {
	columns, _ := m.familyOf(f.From, f.Name)
	return columns
}

// familyOf finds the columns of a family, and what stands for the star in each.
// Those with numbers come first, in the order of their numbers.
func (m *Mapper) familyOf(from, field string) (columns []int, stars map[int]string) {
	stars = map[int]string{} // by index of a column
	for i, heading := range m.headings {
		star, isOne := starOf(from, heading)
		if !isOne || heading == "" || sheet.IsOurs(heading) {
			continue
		}
		stars[i], columns = star, append(columns, i)
		m.columns[i].Used, m.columns[i].Fields = true, append(m.columns[i].Fields, field)
	}
	number := func(i int) int {
		if n, err := strconv.Atoi(stars[i]); err == nil {
			return n
		}
		if stars[i] == "" {
			return 0
		}
		return math.MaxInt
	}
	slices.SortStableFunc(columns, func(x, y int) int { return cmp.Compare(number(x), number(y)) })
	return columns, stars
}

// starOf returns what stands for the star of a family in a heading: a number,
// however the words beside it are written, or a word of its own. A star at the end
// may stand for nothing.
func starOf(from, heading string) (star string, isOne bool) {
	before, behind, _ := strings.Cut(from, "*")
	inner, starts := strings.CutPrefix(words.Key(heading), words.Key(before))
	inner, ends := strings.CutSuffix(inner, words.Key(behind))
	if starts && ends && strings.Trim(inner, "0123456789") == "" && (inner != "" || words.Key(behind) == "") {
		return inner, true
	}
	inner, starts = strings.CutPrefix(words.NameKey(heading), words.NameKey(before)+" ")
	if behind = words.NameKey(behind); starts && behind != "" {
		inner, starts = strings.CutSuffix(inner, " "+behind)
	}
	return inner, starts && inner != ""
}

func (m *Mapper) missing(level account.Level, heading, field string) {
	f := account.Find(level, account.UnknownColumn, fmt.Sprintf("the sheet has no column “%s”, which the brief names", heading))
	f.Column, f.Field = heading, field
	if near := words.Nearest(heading, m.headings); near != "" {
		f.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
	}
	if !slices.Contains(m.findings, f) {
		m.findings = append(m.findings, f)
	}
}

// secretColumns finds the columns whose cells are to stand nowhere: that with the
// passwords, and those that are called so and that no field claims.
func (m *Mapper) secretColumns() {
	m.secret = make([]bool, len(m.headings))
	for i, heading := range m.headings {
		if m.secret[i] = i == m.password || profile.SecretHeading(heading) && len(m.columns[i].Fields) == 0; m.secret[i] && i != m.password {
			f := account.Find(account.Warning, account.PasswordLike, fmt.Sprintf("the column “%s” is called as passwords are, and the brief does not claim it: its cells are neither kept nor shown", heading))
			f.Column = heading
			m.findings = append(m.findings, f)
		}
		if !m.claimed(i) && !m.secret[i] {
			m.free = append(m.free, i)
		}
	}
}

// Conceals has the cells of columns stand nowhere that were seen to hold passwords, as far as no field
// claims them: which ones, secret says by column.
func (m *Mapper) Conceals(secret []bool) {
	for i, is := range secret {
		if !is || i >= len(m.secret) || m.secret[i] || m.claimed(i) {
			continue
		}
		m.secret[i] = true
		m.free = slices.DeleteFunc(m.free, func(at int) bool { return at == i })
		m.findings = slices.DeleteFunc(m.findings, func(f account.Finding) bool {
			return f.Code == account.UnknownHeading && f.Column == m.headings[i]
		})
		f := account.Find(account.Warning, account.PasswordLike, fmt.Sprintf("the cells of the column “%s” look like passwords, and the brief does not claim it: they are neither kept nor shown", m.headings[i]))
		f.Column = m.headings[i]
		m.findings = append(m.findings, f)
	}
}

// unclaimed tells of cells that look like passwords in columns that nothing claims.
func (w *Worker) unclaimed(row sheet.Row) {
	for _, i := range w.free {
		if i < len(row.Cells) && profile.LooksSecret(row.Cells[i]) {
			w.likePassword(w.headings[i])
		}
	}
	for i := len(w.headings); i < len(row.Cells); i++ {
		if profile.LooksSecret(row.Cells[i]) {
			w.likePassword("")
		}
	}
}

func (w *Worker) likePassword(heading string) {
	w.find(account.Warning, account.PasswordLike, heading, "", "the cell looks like a password, and the brief does not claim its column: it is neither kept nor shown")
}

// claimed reports whether a field takes its value from a column.
func (m *Mapper) claimed(i int) bool {
	return i < len(m.columns) && len(m.columns[i].Fields) > 0 && i != m.password
}

// Conceal returns the cells of a row without those that are passwords or look like
// some: they are to be stored and shown nowhere. Cells that a field claims stay.
func (m *Mapper) Conceal(cells []string) []string {
	concealed, copied := cells, false
	for i, cell := range cells {
		if cell == "" || m.claimed(i) || !(i < len(m.secret) && m.secret[i]) && profile.Concealed(cell) == cell {
			continue
		}
		if !copied {
			concealed, copied = slices.Clone(cells), true
		}
		concealed[i] = ""
	}
	return concealed
}

func (m *Mapper) unusedColumns() {
	known := account.NewHeadings()
	if m.attributes {
		known = attribute.Headings()
	}
	var headings []string // that would be recognised
	for _, f := range account.Fields() {
		headings = append(headings, f.Headings...)
	}
	for i, column := range m.columns {
		if column.Used || column.Heading == "" || sheet.IsOurs(column.Heading) || m.secret[i] {
			continue
		}
		first, taken := m.column[words.Key(column.Heading)]
		if taken && first != i && m.columns[first].Used {
			continue // told as a same heading
		}
		f := account.Find(account.Note, account.UnknownHeading, fmt.Sprintf("the column “%s” is not used", column.Heading))
		f.Column = column.Heading
		if field, ok := known.Field(column.Heading); ok && m.brief.Field(field.Name) < 0 {
			f.Remedy = fmt.Sprintf("It looks like the %s: to use it, add “%s: {from: %s}” to the brief.", field.Label, field.Name, column.Heading)
		} else if near := words.Nearest(column.Heading, headings); near != "" && !ok && len(words.Key(column.Heading)) > 4 {
			f.Level = account.Warning
			f.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		m.findings = append(m.findings, f)
	}
}

// oddColumns tells of columns that are not as they look in the spreadsheet program.
func (m *Mapper) oddColumns(info sheet.Info) {
	tell := func(level account.Level, code account.Code, heading, message string) {
		f := account.Find(level, code, message)
		f.Column = heading
		m.findings = append(m.findings, f)
	}
	for _, other := range info.Others {
		level, hidden := account.Warning, ""
		if m.brief.Gone == brief.Suspend {
			level = account.Error // who stands there would be taken for gone
		}
		if other.Hidden {
			hidden = ", which is hidden,"
		}
		tell(level, account.OtherTab, "", fmt.Sprintf("the tab “%s”%s has %d rows under such headings as well, and only “%s” is read", other.Name, hidden, other.Rows, info.Tab))
	}
	var hidden []string
	for _, heading := range info.Hidden {
		if i := slices.Index(info.Headings, heading); m.columns[i].Used {
			hidden = append(hidden, heading)
		}
	}
	if len(hidden) == 1 {
		tell(account.Warning, account.HiddenColumn, hidden[0], fmt.Sprintf("the column “%s” is hidden, and is used", hidden[0]))
	} else if len(hidden) > 1 {
		tell(account.Warning, account.HiddenColumn, hidden[0], fmt.Sprintf("%d columns are hidden and used: %s", len(hidden), firstOf(hidden)))
	}
	if len(info.Merged) == 1 {
		tell(account.Warning, account.MergedHeading, info.Merged[0], fmt.Sprintf("the heading “%s” stretches over the columns to its right: only the first is read under it", info.Merged[0]))
	} else if len(info.Merged) > 1 {
		tell(account.Warning, account.MergedHeading, info.Merged[0], fmt.Sprintf("%d headings stretch over columns to their right, of which only the first is read under each: %s", len(info.Merged), firstOf(info.Merged)))
	}
}

// firstOf lists the first of many headings.
func firstOf(headings []string) string {
	const most = 8
	if len(headings) > most {
		return "“" + strings.Join(headings[:most], "”, “") + "”, …"
	}
	return "“" + strings.Join(headings, "”, “") + "”"
}

// GuessedEncoding tells of words whose encoding was guessed.
func GuessedEncoding(info sheet.Info) []account.Finding {
	if len(info.Guessed) == 0 {
		return nil
	}
	var examples []string
	for _, g := range info.Guessed {
		text := fmt.Sprintf("“%s” in line %d", g.Word, g.Line)
		if len(g.Others) > 0 {
			text += ", which could be " + strings.Join(g.Others[:min(3, len(g.Others))], ", ")
		}
		examples = append(examples, text)
	}
	told := strings.Join(examples, "; ")
	if info.Doubted {
		return []account.Finding{account.Find(account.Error, account.DoubtedEncoding, fmt.Sprintf("nothing says in which encoding the sheet is, and its words fit two: as %s it reads %s", info.Encoding, told))}
	}
	return []account.Finding{account.Find(account.Warning, account.GuessedEncoding, fmt.Sprintf("nothing says in which encoding the sheet is; its words fit %s: %s", info.Encoding, told))}
}

// LooksAhead reports whether the rows have to be gone through before they are mapped:
// where there are dates of which nothing says in which order they have day and month,
// or that a spreadsheet program may have swapped.
func (m *Mapper) LooksAhead(info sheet.Info) bool {
	for i, f := range m.brief.Fields {
		if f.Kind == account.Date && m.from[i] >= 0 && (m.brief.Dates == codes.Unsettled || info.Traits().Workbook) {
			return true
		}
	}
	return false
}

// dates is what the dates of one column say together.
type dates struct {
	first, last account.Finding // texts with the day and with the month first; no row: none
	stored      int             // true dates, that could be the other way round
	sure        bool            // a true date that could not
	other       int             // dates written in a form that leaves no doubt
	doubtful    bool            // a text that could be either way round
}

// enough is how many dates that leave no doubt are looked at before a column is taken
// for one without any: what stands in doubt further down is refused then.
const enough = 1000

// SettleDates looks through the rows for dates that can be read in one way only, and
// takes their order for that of the column. If they go both ways, those that could be
// either are refused; and so are true dates if a program that takes the month first
// plainly made them: beside those that it could not take for dates, none has a day
// beyond the twelfth.
func (m *Mapper) SettleDates(rows iter.Seq2[sheet.Row, error]) error {
	found := map[int]*dates{}
	for i, f := range m.brief.Fields {
		if f.Kind == account.Date && m.from[i] >= 0 {
			found[i] = &dates{}
		}
	}
	for row, err := range rows {
		if err != nil {
			return err
		}
		for i, d := range found {
			if at := m.from[i]; at < len(row.Cells) && row.Cells[at] != "" {
				d.add(row, at)
			}
			if d.other >= enough && !d.doubtful && d.first.Row+d.last.Row == 0 && (d.stored == 0 || d.sure) {
				delete(found, i)
			}
		}
		if len(found) == 0 {
			return nil
		}
	}
	for i := range m.brief.Fields {
		if d := found[i]; d != nil {
			m.settle(i, d)
		}
	}
	return nil
}

// add takes a cell in.
func (d *dates) add(row sheet.Row, at int) {
	text, _ := words.Clean(row.Cells[at])
	if row.Kind(at) == sheet.Dated {
		if len(text) >= 10 && text[8:10] > "12" {
			d.sure = true
		} else if codes.InBothOrders(text) {
			d.stored++
		}
		d.other++
		return
	}
	switch order := codes.OrderOf(text); {
	case order == codes.DayFirst && d.first.Row == 0:
		d.first = account.Finding{Row: row.Number, Message: text}
	case order == codes.MonthFirst && d.last.Row == 0:
		d.last = account.Finding{Row: row.Number, Message: text}
	case order == codes.Unsettled && codes.IsAmbiguousDate(text):
		d.doubtful = true
	case order == codes.Unsettled:
		d.other++
	}
}

// settle takes the order of field i for settled, or the dates of it for doubtful.
func (m *Mapper) settle(i int, d *dates) {
	tell := func(level account.Level, code account.Code, format string, args ...any) {
		f := account.Find(level, code, fmt.Sprintf(format, args...))
		f.Column, f.Field = m.Heading(i), m.brief.Fields[i].Name
		m.findings = append(m.findings, f)
	}
	if text := d.first.Row + d.last.Row; text > 0 && d.stored > 0 && !d.sure && (d.first.Row == 0 || d.last.Row == 0) {
		witness := d.first
		if witness.Row == 0 {
			witness = d.last
		}
		m.swapped[i] = fmt.Sprintf("“%s” in row %d", show(witness.Message), witness.Row)
	}
	if m.brief.Dates != codes.Unsettled {
		return
	}
	order, witness := codes.Unsettled, d.first
	switch {
	case d.first.Row > 0 && d.last.Row > 0:
		tell(account.Warning, account.MixedDates, "dates in “%s” go both ways: row %d has “%s” and row %d “%s”, so those that could be either are refused", m.Heading(i), d.first.Row, show(d.first.Message), d.last.Row, show(d.last.Message))
		return
	case d.first.Row > 0:
		order = codes.DayFirst
	case d.last.Row > 0:
		order, witness = codes.MonthFirst, d.last
	default:
		return
	}
	reader := codes.NewReader(order)
	reader.Settled, reader.Phones = true, m.brief.Phones
	m.readers[i] = reader
	tell(account.Note, account.DatesSettled, "dates in “%s” are read with the %s first, as row %d has “%s”", m.Heading(i), map[codes.DateOrder]string{codes.DayFirst: "day", codes.MonthFirst: "month"}[order], witness.Row, show(witness.Message))
}
