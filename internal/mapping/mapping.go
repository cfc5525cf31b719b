// Package mapping makes of a row and a brief the account that is wanted.
//
// It promises that every cell is read in the light of the brief alone, that a
// value it hands on is in the standard form of its kind, and that what cannot be
// read becomes a finding at its row and column, never a guess. Whether the
// account may be had is left to package check.
package mapping

import (
	"errors"
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// maxValue is the longest value of a field, in bytes.
const maxValue = 8 << 10

// A Column says how one column of the sheet is read.
type Column struct {
	Heading string   `json:"heading"`
	Fields  []string `json:"fields"` // that take their value from it; none: the column is not used
	Used    bool     `json:"used"`   // by a field or an expression
}

// A Mapper maps the rows of one sheet. It may be shared; the work is done by
// its Workers.
type Mapper struct {
	brief    *brief.Brief
	headings []string
	column   map[string]int  // words.Key of a heading, or a heading as an expression has it → index
	from     []int           // by field: index of its column, or -1
	family   [][]int         // by field that takes many columns: their indexes
	beyond   []int           // columns of a fix sheet in which nothing may stand
	unheaded []int           // columns without a heading
	readers  []*codes.Reader // by field
	columns  []Column
	findings []account.Finding
}

// New readies a brief for a sheet. What is wrong with the sheet as a whole is in
// Findings; with an error among them no row can be mapped.
func New(b *brief.Brief, info sheet.Info) *Mapper {
	m := &Mapper{brief: b, headings: info.Headings, column: map[string]int{}}
	common := codes.NewReader(b.Dates)
	common.Phones = b.Phones
	for range b.Fields {
		m.readers = append(m.readers, common)
	}
	twice := map[string][]string{}
	for i, heading := range info.Headings {
		key := words.Key(heading)
		if heading == sheet.BeyondHeading {
			m.beyond = append(m.beyond, i)
		}
		if heading == "" {
			m.unheaded = append(m.unheaded, i)
		}
		if key == "" || sheet.IsOurs(heading) {
			continue
		}
		if first, taken := m.column[key]; taken {
			twice[key] = []string{info.Headings[first], heading}
			continue
		}
		m.column[key] = i
	}
	for _, heading := range info.Headings {
		m.columns = append(m.columns, Column{Heading: heading})
	}
	m.from, m.family = make([]int, len(b.Fields)), make([][]int, len(b.Fields))
	for i, f := range b.Fields {
		m.from[i] = -1
		if f.From == "" {
			continue
		}
		if f.Family() {
			if m.family[i] = m.useFamily(f); len(m.family[i]) > 0 {
				m.from[i] = m.family[i][0]
			} else {
				m.missing(account.Warning, f.From, f.Name)
			}
			continue
		}
		if at, ok := m.use(f.From, twice); ok {
			m.from[i] = at
			m.columns[at].Fields = append(m.columns[at].Fields, f.Name)
		} else {
			level := account.Warning
			if f.Make == nil && (f.Required || len(b.Match) == 1 && b.Match[0] == f.Name) {
				level = account.Error
			}
			m.missing(level, f.From, f.Name)
		}
	}
	for _, e := range b.Expressions() {
		for _, heading := range e.Columns {
			if at, ok := m.use(heading, twice); ok {
				m.column[heading] = at
			} else {
				m.missing(account.Error, heading, "")
			}
		}
	}
	m.unusedColumns()
	m.oddColumns(info)
	return m
}

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
	stem := words.Key(f.From)
	numbers := map[int]int{} // index of a column → its number
	var columns []int
	for i, heading := range m.headings {
		number, isOne := strings.CutPrefix(words.Key(heading), stem)
		n, err := strconv.Atoi(number)
		if !isOne || number != "" && (err != nil || n < 0) || sheet.IsOurs(heading) {
			continue
		}
		numbers[i], columns = n, append(columns, i)
		m.columns[i].Used, m.columns[i].Fields = true, append(m.columns[i].Fields, f.Name)
	}
	slices.SortStableFunc(columns, func(x, y int) int { return numbers[x] - numbers[y] })
	return columns
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
// are settled.
func (m *Mapper) SettleDates(rows iter.Seq2[sheet.Row, error]) error {
	open := m.Undated()
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
				return false
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

// Findings returns what is to be told about the sheet as a whole.
func (m *Mapper) Findings() []account.Finding { return m.findings }

// Columns returns how each column of the sheet is read.
func (m *Mapper) Columns() []Column { return m.columns }

// Brief returns the brief.
func (m *Mapper) Brief() *brief.Brief { return m.brief }

// Heading returns the heading of the column that field i takes its value from.
func (m *Mapper) Heading(i int) string {
	if m.from[i] < 0 {
		return ""
	}
	return m.headings[m.from[i]]
}

// Wanted is what a row asks for.
type Wanted struct {
	Row      int
	Aside    bool            // the brief's “only” leaves the row out
	Values   []account.Value // by field of the brief; absent: not to be touched
	Base     string          // of the numbered field: its value before another was looked for
	Others   []string        // of the numbered field: what to try next
	Findings []account.Finding
}

// Refused reports whether a finding stops the row.
func (w *Wanted) Refused() bool { return account.HasError(w.Findings) }

// Value returns the wanted value of the brief's field of that name.
func (w *Wanted) Value(b *brief.Brief, name string) account.Value {
	if i := b.Field(name); i >= 0 && i < len(w.Values) {
		return w.Values[i]
	}
	return account.Value{}
}

// A Worker maps rows one at a time; each goroutine has its own.
type Worker struct {
	*Mapper
	scope  *brief.Scope
	cells  []string
	kinds  []sheet.CellKind // of cells, if not all are plain
	state  []state
	origin []Origin
	wants  *Wanted
	memo   map[written]string // standard forms of texts that come again and again
}

// written is a text as a value of some field.
type written struct {
	field int
	text  string
}

// memoSize bounds the memo; a sheet has few countries but many names.
const memoSize = 4096

// state is what became of a field while its row is mapped.
type state uint8

const (
	fine   state = iota // it has a value, or is rightly blank
	absent              // nothing in the sheet speaks of it
	faulty              // it has an error
)

// An Origin says where a field's value came from.
type Origin string

// The origins.
const (
	FromCell     Origin = "cell"
	FromTable    Origin = "table"    // the cell, through the brief's table
	FromFormula  Origin = "formula"  // made
	FromFallback Origin = "fallback" // the brief's value for a blank
	FromGiven    Origin = "given"    // another value had to be found, as it must be unique
	FromNowhere  Origin = ""
)

// Origin tells where the value of field i of the row mapped last came from.
func (w *Worker) Origin(i int) Origin { return w.origin[i] }

// NewWorker returns a Worker.
func (m *Mapper) NewWorker() *Worker {
	w := &Worker{Mapper: m, state: make([]state, len(m.brief.Fields)), origin: make([]Origin, len(m.brief.Fields)), memo: map[written]string{}}
	w.scope = m.brief.NewScope(w.cell)
	return w
}

// cell serves col["…"] in expressions.
func (w *Worker) cell(heading string) (string, bool) {
	at, ok := w.column[heading]
	if !ok {
		if at, ok = w.column[words.Key(heading)]; !ok {
			return "", false
		}
	}
	if at >= len(w.cells) {
		return "", true
	}
	clean, _ := words.Clean(w.cells[at])
	return clean, true
}

// Map maps a row into wanted, whose memory it uses again. With fixed, the field
// of that index gets the given value whatever the row says, and what is made from
// it follows.
func (w *Worker) Map(row sheet.Row, fixed map[int]string, wanted *Wanted) {
	*wanted = Wanted{Row: row.Number, Values: slices.Grow(wanted.Values[:0], len(w.brief.Fields))[:len(w.brief.Fields)]}
	w.cells, w.kinds, w.wants = row.Cells, row.Kinds, wanted
	if row.Left {
		wanted.Aside = true
		return
	}
	if row.Hidden {
		w.find(account.Warning, "hidden-row", "", "", "the row is hidden, and is read like the others")
	}
	if len(row.Cells) > len(w.headings) {
		for _, cell := range row.Cells[len(w.headings):] {
			if clean, _ := words.Clean(cell); clean != "" {
				w.find(account.Error, "ragged-row", "", "", fmt.Sprintf("the row has %d cells for %d headings; “%s” stands beyond the last", len(row.Cells), len(w.headings), show(clean)))
				break
			}
		}
	} else if len(row.Cells) < len(w.headings) {
		w.find(account.Warning, "short-row", "", "", fmt.Sprintf("the row has %d cells for %d headings", len(row.Cells), len(w.headings)))
	}
	for _, i := range w.beyond {
		if i < len(row.Cells) && row.Cells[i] != "" {
			w.find(account.Error, "ragged-row", w.headings[i], "", fmt.Sprintf("“%s” stands to the right of the last heading", show(row.Cells[i])))
		}
	}
	for _, i := range w.unheaded {
		if i < len(row.Cells) {
			if clean, _ := words.Clean(row.Cells[i]); clean != "" {
				w.find(account.Warning, "no-heading", "", "", fmt.Sprintf("“%s” stands in column %d, which has no heading", show(clean), i+1))
			}
		}
	}
	for i := range w.brief.Fields {
		value, state := w.field(i, fixed)
		wanted.Values[i], w.state[i] = value, state
		text := value.Text()
		if state == absent {
			text = w.brief.Fields[i].Fallback.Text() // what a new account would get
		}
		w.scope.Set(i, text)
	}
	for _, only := range w.brief.Only {
		in, err := only.True(w.scope)
		if err != nil {
			w.find(account.Error, "expression-failed", "", "", fmt.Sprintf("“only” could not be worked out: %s", err))
		} else if !in {
			// A row that is left out has no faults worth telling.
			wanted.Aside, wanted.Findings = true, nil
			return
		}
	}
	w.others()
}

// others makes what the numbered field could be besides.
func (w *Worker) others() {
	n := w.brief.Numbered()
	if n < 0 || !w.wants.Values[n].Filled() {
		return
	}
	f := &w.brief.Fields[n]
	for _, other := range f.Others {
		text, err := other.Text(w.scope)
		if text, _ = words.Clean(text); err != nil || text == "" || len(text) > maxValue {
			continue // there is nothing to try
		}
		if value, err := w.readers[n].Read(f.Kind, text); err == nil {
			w.wants.Others = append(w.wants.Others, value)
		}
	}
}

// field finds the value of field i.
func (w *Worker) field(i int, fixed map[int]string) (account.Value, state) {
	f := &w.brief.Fields[i]
	w.origin[i] = FromNowhere
	if value, ok := fixed[i]; ok {
		w.origin[i] = FromGiven
		return account.Of(value), fine
	}
	hasCell := w.from[i] >= 0
	if hasCell {
		read := w.read
		if f.Kind == account.List {
			read = w.list
		}
		value, state := read(i, f)
		if value.Filled() || state == faulty {
			if w.origin[i] = FromCell; f.Via != nil {
				w.origin[i] = FromTable
			}
			return value, state
		}
	}
	if f.Make != nil {
		if value, state, made := w.make(i, f); made {
			w.origin[i] = FromFormula
			return value, state
		}
	}
	if !hasCell {
		return account.Value{}, absent
	}
	switch {
	case f.Fallback.Present():
		w.origin[i] = FromFallback
		return f.Fallback, fine
	case f.ClearWhenBlank:
		return account.Blank(), fine
	}
	return account.Value{}, fine
}

// read reads the cell of field i to the standard form of its kind.
func (w *Worker) read(i int, f *brief.Field) (account.Value, state) {
	if w.from[i] >= len(w.cells) {
		return account.Value{}, fine
	}
	return w.value(i, f, w.from[i], w.cells[w.from[i]])
}

// value reads a text out of a column as a value of field i.
func (w *Worker) value(i int, f *brief.Field, column int, text string) (account.Value, state) {
	heading := w.headings[column]
	if f.Split != "" {
		text = strings.TrimSpace(text) // the spaces after separators are nothing to tell
	}
	if w.kinds != nil || len(text) > 4 || text != "" && text[0] == '#' {
		if w.spoiled(column, f, heading, text) {
			return account.Value{}, faulty
		}
	}
	if !words.IsPlain(text) {
		var sound bool
		if text, sound = w.tidy(f, heading, text); !sound {
			return account.Value{}, faulty
		}
	}
	if text == "" {
		return account.Value{}, fine
	}
	if len(text) > maxValue {
		w.find(account.Error, "too-long", heading, f.Name, fmt.Sprintf("the cell is %d bytes long, and a field takes at most %d", len(text), maxValue))
		return account.Value{}, faulty
	}
	if f.Via != nil {
		through, ok := f.ViaExact[text]
		if !ok {
			through, ok = f.Via[words.Key(text)]
		}
		if !ok {
			w.find(account.Error, "via-unlisted", heading, f.Name, fmt.Sprintf("“%s” is not in the brief's table for %s", show(text), f.Name))
			if near := words.Nearest(text, f.ViaWords); near != "" {
				last(w.wants).Remedy = fmt.Sprintf("Did you mean “%s”? Else add it to the table.", near)
			}
			return account.Value{}, faulty
		}
		if through == "" {
			return account.Value{}, fine
		}
		return account.Of(through), fine
	}
	return w.standard(i, heading, text)
}

// list reads the cells of field i as several values: those of a family of columns,
// or of one cell in which they are split.
func (w *Worker) list(i int, f *brief.Field) (account.Value, state) {
	columns := w.family[i]
	if columns == nil {
		columns = []int{w.from[i]}
	}
	var items []string
	for _, column := range columns {
		if column >= len(w.cells) {
			continue
		}
		parts := []string{w.cells[column]}
		if f.Split != "" {
			parts = strings.Split(parts[0], f.Split)
		}
		for _, part := range parts {
			value, state := w.value(i, f, column, part)
			if state == faulty {
				return account.Value{}, faulty
			}
			if value.Filled() && !slices.Contains(items, value.Text()) {
				items = append(items, value.Text())
			}
		}
	}
	if len(items) == 0 {
		return account.Value{}, fine
	}
	return account.Of(account.ListOf(items)), fine
}

// errorCells are what spreadsheet programs show for a formula that failed; a
// sheet saved as text has just that.
var errorCells = []string{"#N/A", "#REF!", "#VALUE!", "#DIV/0!", "#NAME?", "#NULL!", "#NUM!", "#SPILL!", "#CALC!", "#GETTING_DATA", "#ERROR!"}

// longNumber and shortDate are how spreadsheet programs write, in a text file,
// numbers too long for the column and codes that they took for dates.
var (
	longNumber = regexp.MustCompile(`^-?[0-9]([.,][0-9]+)?[eE]\+[0-9]+$`)
	shortDate  = regexp.MustCompile(`^(?i:[0-9]{1,2}-(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)|(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)-[0-9]{2})$`)
)

// sureDigits is how many digits of a number spreadsheet programs keep.
const sureDigits = 15

// spoiled tells of a cell whose value a spreadsheet program did not keep.
func (w *Worker) spoiled(column int, f *brief.Field, heading, text string) bool {
	kind := sheet.Plain
	if column < len(w.kinds) {
		kind = w.kinds[column]
	}
	switch {
	case kind == sheet.Faulty, text != "" && text[0] == '#' && slices.Contains(errorCells, text):
		w.find(account.Error, "error-cell", heading, f.Name, fmt.Sprintf("the cell holds the error %s", show(text)))
		return true
	case kind == sheet.Uncalculated:
		w.find(account.Error, "not-calculated", heading, f.Name, "the cell holds a formula without its value")
		return true
	case f.Kind == account.Number || text == "":
		return false
	case kind == sheet.Numeric && len(text) > sureDigits && len(strings.Trim(text, "-0.")) > 0 && !strings.ContainsAny(text, ". /()"):
		w.find(account.Error, "lost-digits", heading, f.Name, fmt.Sprintf("%s is stored as a number, of which only the first %d digits are kept", show(text), sureDigits))
		return true
	case kind == sheet.Plain && text[0] <= '9' && strings.ContainsAny(text, "Ee") && longNumber.MatchString(text):
		w.find(account.Error, "lost-digits", heading, f.Name, fmt.Sprintf("“%s” is a longer number that was written short, and its other digits are lost", show(text)))
		return true
	case kind == sheet.Dated && f.Kind != account.Date && f.Via == nil:
		w.find(account.Error, "became-a-date", heading, f.Name, fmt.Sprintf("the cell holds the date %s, and the %s is no date", show(text), f.Label))
		return true
	case kind == sheet.Plain && len(text) < 8 && f.Kind == account.Text && f.Via == nil && shortDate.MatchString(text):
		w.find(account.Warning, "became-a-date", heading, f.Name, fmt.Sprintf("“%s” looks like a code that was taken for a date", show(text)))
	}
	return false
}

// tidy takes away what cannot be seen around and in a cell's text. It is not
// sound if it holds what nobody could have typed.
func (w *Worker) tidy(f *brief.Field, heading, text string) (tidy string, sound bool) {
	tidy, spaced := words.Clean(text)
	if r, bad := words.ControlCharacter(tidy); bad {
		w.find(account.Error, "broken-text", heading, f.Name, fmt.Sprintf("“%s” holds the character U+%04X, which cannot be seen", show(tidy), r))
		return "", false
	}
	if said, garbled := words.Ungarbled(tidy); garbled {
		w.find(account.Warning, "garbled-text", heading, f.Name, fmt.Sprintf("“%s” looks like “%s”, read in the wrong encoding", show(tidy), show(said)))
	}
	if f.Name != "streetAddress" {
		line, broken := words.OneLine(tidy)
		tidy, spaced = line, spaced || broken
	}
	if spaced && tidy != "" {
		w.find(account.Note, "odd-white-space", heading, f.Name, fmt.Sprintf("white space or characters without width were taken away around “%s”", show(tidy)))
	}
	return tidy, true
}

// standard reads text as a value of the field's kind.
func (w *Worker) standard(i int, heading, text string) (account.Value, state) {
	f := &w.brief.Fields[i]
	if f.Kind == account.Text {
		return account.Of(text), fine
	}
	again := written{i, text}
	if value, ok := w.memo[again]; ok {
		return account.Of(value), fine
	}
	value, err := w.readers[i].Read(f.Kind, text)
	if err == nil {
		switch f.Kind {
		case account.Country, account.Language, account.Locale, account.Timezone, account.Date, account.YesNo:
			if len(w.memo) < memoSize {
				w.memo[again] = value
			}
		}
		return account.Of(value), fine
	}
	code := "not-allowed-value"
	var told *codes.Error
	if errors.As(err, &told) {
		code = told.Code
	}
	w.find(account.Error, code, heading, f.Name, fmt.Sprintf("“%s” %s", show(text), err))
	if told != nil && told.Remedy != "" {
		last(w.wants).Remedy = told.Remedy
	}
	return account.Value{}, faulty
}

// make makes field i with its expression. It makes nothing from a field with an
// error, which has been told, nor from one that the sheet doesn't speak of.
func (w *Worker) make(i int, f *brief.Field) (value account.Value, s state, made bool) {
	for _, used := range f.Make.Uses {
		switch {
		case w.state[used] == faulty:
			return account.Value{}, faulty, true
		case w.state[used] == absent && !w.brief.Fields[used].Fallback.Present():
			return account.Value{}, absent, false
		case w.brief.Fields[used].Required && !w.wants.Values[used].Filled():
			return account.Value{}, faulty, true // the row is refused for that
		}
	}
	heading := w.Heading(i)
	text, err := f.Make.Text(w.scope)
	if err != nil {
		w.find(account.Error, "expression-failed", heading, f.Name, fmt.Sprintf("%s could not be made: %s", f.Name, err))
		return account.Value{}, faulty, true
	}
	if text, _ = words.Clean(text); text == "" {
		return account.Value{}, fine, false
	}
	if len(text) > maxValue {
		w.find(account.Error, "too-long", heading, f.Name, fmt.Sprintf("what was made is %d bytes long, and a field takes at most %d", len(text), maxValue))
		return account.Value{}, faulty, true
	}
	value, s = w.standard(i, heading, text)
	return value, s, true
}

// Holds evaluates one of the brief's checks on the row mapped last. A check that
// uses a faulty field, or compares a date or number that is blank, is passed
// over: what is wrong there is told elsewhere.
func (w *Worker) Holds(c brief.Check) (bool, error) {
	for _, i := range c.That.Uses {
		kind := w.brief.Fields[i].Kind
		blank := !w.wants.Values[i].Filled()
		if w.state[i] == faulty || blank && (kind == account.Date || kind == account.Number) {
			return true, nil
		}
	}
	return c.That.True(w.scope)
}

// Faulty reports whether field i of the row mapped last has an error.
func (w *Worker) Faulty(i int) bool { return w.state[i] == faulty }

func (w *Worker) find(level account.Level, code, column, field, message string) {
	f := account.Find(level, code, message)
	f.Row, f.Column, f.Field = w.wants.Row, column, field
	w.wants.Findings = append(w.wants.Findings, f)
}

func last(w *Wanted) *account.Finding { return &w.Findings[len(w.Findings)-1] }

// show shortens a value for a message.
func show(text string) string {
	short := words.First(text, 60)
	if len(short) < len(text) {
		short += "…"
	}
	return strings.ToValidUTF8(short, "\uFFFD")
}
