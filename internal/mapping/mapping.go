// Package mapping makes of a row and a brief the account that is wanted.
//
// It promises that every cell is read in the light of the brief alone, that a
// value it hands on is in the standard form of its kind, and that what cannot be
// read becomes a finding at its row and column, never a guess. Whether the
// account may be had is left to package check.
package mapping

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/expr"
	"evenledger/internal/profile"
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
	exact      bool // the sheet is an export: what looks wrapped is what the system has
	brief      *brief.Brief
	headings   []string
	attributes bool            // the headings are a directory's own names
	column     map[string]int  // words.Key of a heading, or a heading as an expression has it → index
	from       []int           // by field: index of its column, or -1
	parts      [][][]int       // by field with parts: for each of its values, the columns of the parts or -1
	ties       []tieColumns    // by memberships of the brief
	password   int             // index of the column with passwords, or -1
	secret     []bool          // by column: its cells are passwords, or look like some, and no field claims them
	free       []int           // the other columns that no field claims
	blanks     map[string]bool // what the brief has a blank written as
	family     [][]int         // by field that takes many columns: their indexes
	beyond     []int           // columns of a fix sheet in which nothing may stand
	unheaded   []int           // columns without a heading
	readers    []*codes.Reader // by field
	swapped    map[int]string  // field with dates → the one that shows that its true dates were made by a program which swapped them
	numbered   int             // index of the numbered field, or -1
	columns    []Column
	findings   []account.Finding
}

// New readies a brief for a sheet. What is wrong with the sheet as a whole is in
// Findings; with an error among them no row can be mapped.
func New(b *brief.Brief, info sheet.Info) *Mapper {
	own := slices.DeleteFunc(slices.Clone(info.Headings), func(h string) bool { return !sheet.IsOurs(h) })
	m := &Mapper{exact: len(own) == 1 && own[0] == sheet.AccountHeading, brief: b, headings: info.Headings, attributes: info.Traits().Attributes, column: map[string]int{}, numbered: b.Numbered(), blanks: map[string]bool{}, swapped: map[int]string{}}
	for _, word := range b.Blanks {
		m.blanks[word] = true
	}
	common := codes.NewReader(b.Dates)
	common.Phones, common.Settled = b.Phones, b.Dates != codes.Unsettled
	for range b.Fields {
		m.readers = append(m.readers, common)
	}
	twice := m.index(info.Headings)
	for _, heading := range info.Headings {
		m.columns = append(m.columns, Column{Heading: heading})
	}
	m.from, m.family, m.parts = make([]int, len(b.Fields)), make([][]int, len(b.Fields)), make([][][]int, len(b.Fields))
	for i, f := range b.Fields {
		m.from[i] = -1
		m.findColumns(i, f, twice)
	}
	m.findTies(twice)
	for _, e := range b.Expressions() {
		for _, heading := range e.Columns {
			if at, ok := m.use(heading, twice); ok {
				m.column[heading] = at
			} else {
				m.missing(account.Error, heading, "")
			}
		}
	}
	m.secretColumns()
	m.unusedColumns()
	m.oddColumns(info)
	return m
}

// index notes where each heading stands, and returns those that stand twice, by their keys.
func (m *Mapper) index(headings []string) (twice map[string][]string) {
	twice = map[string][]string{}
	for i, heading := range headings {
		key := words.Key(heading)
		if heading == sheet.BeyondHeading {
			m.beyond = append(m.beyond, i)
		}
		if heading == "" {
			m.unheaded = append(m.unheaded, i)
		}
		if key == "" || sheet.IsOurs(heading) && heading != sheet.AccountHeading {
			continue
		}
		if first, taken := m.column[key]; taken {
			twice[key] = []string{headings[first], heading}
			continue
		}
		m.column[key] = i
	}
	return twice
}

// findColumns finds the columns that field i takes its value from.
func (m *Mapper) findColumns(i int, f brief.Field, twice map[string][]string) {
	if len(f.Parts) > 0 {
		m.findParts(i, f, twice)
	}
	if f.From == "" {
		return
	}
	if f.Family() {
		if m.family[i] = m.useFamily(f); len(m.family[i]) > 0 {
			m.from[i] = m.family[i][0]
		} else {
			m.missing(account.Warning, f.From, f.Name)
		}
		return
	}
	if at, ok := m.use(f.From, twice); ok {
		m.from[i] = at
		m.columns[at].Fields = append(m.columns[at].Fields, f.Name)
	} else {
		level := account.Warning
		if match := m.brief.Match; f.Make == nil && (f.Required || len(match) == 1 && match[0] == f.Name && len(m.brief.Like) == 0) {
			level = account.Error
		}
		m.missing(level, f.From, f.Name)
	}
}

// Findings returns what is to be told about the sheet as a whole.
func (m *Mapper) Findings() []account.Finding { return m.findings }

// Columns returns how each column of the sheet is read.
func (m *Mapper) Columns() []Column { return m.columns }

// Words are the sheet's own words for fields: the heading of the one column that gives each.
func (m *Mapper) Words() map[string]string {
	all, times := map[string]string{}, map[string]int{}
	for _, c := range m.columns {
		for _, field := range c.Fields {
			all[field] = c.Heading
			times[field]++
		}
	}
	maps.DeleteFunc(all, func(field, heading string) bool {
		return times[field] > 1 || heading == "" || m.brief.Field(field) < 0 || len(m.brief.Fields[m.brief.Field(field)].Parts) > 0
	})
	return all
}

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
	Row           int                   `json:"-"`
	Aside         bool                  `json:",omitempty"` // the row is left out; a finding says why
	Values        []account.Value       `json:"-"`          // by field of the brief; absent: not to be touched
	ByFallback    []bool                `json:"-"`          // by field: the value is the brief's fallback, or made from one
	Base          string                `json:",omitempty"` // of the numbered field: its value before another was looked for
	Others        []string              `json:",omitempty"` // of the numbered field: what to try next
	Spoken        []bool                `json:",omitempty"` // by memberships of the brief: whether the row speaks of them
	Ties          []Tie                 `json:",omitempty"` // memberships it names
	Password      string                `json:",omitempty"` // given in the row
	Pattern       string                `json:",omitempty"` // to make a password of
	Weak          string                `json:",omitempty"` // why the given password will not do
	NeedsKeysOnly bool                  `json:",omitempty"` // nothing but its keys matters: the account is suspended or removed
	Said          map[int]account.Value `json:",omitempty"` // with NeedsKeysOnly, by field: what says whom the row means where no key does
	Findings      []account.Finding     `json:",omitempty"`
	Cells         []string              `json:"-"`          // of the row, until the next is read
	Kinds         []sheet.CellKind      `json:",omitempty"` // of the cells, if not all are plain
}

// Refused reports whether a finding stops the row.
func (w *Wanted) Refused() bool { return account.HasError(w.Findings) }

// IsFallback reports whether the value of field i is the brief's fallback, or made from
// one.
func (w *Wanted) IsFallback(i int) bool { return i < len(w.ByFallback) && w.ByFallback[i] }

// Says returns what the row says of who is meant, in field i.
func (w *Wanted) Says(i int) account.Value {
	if said, is := w.Said[i]; is {
		return said
	}
	return w.Values[i]
}

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
	scope    *expr.Scope
	cells    []string
	kinds    []sheet.CellKind // of cells, if not all are plain
	certain  sheet.Certainty  // in which encoding the cells are
	state    []state
	alone    []bool // by field: its condition does not hold
	origin   []Origin
	wants    *Wanted
	memo     []map[string]string // by field: standard forms of texts that come again and again
	unwanted []account.Finding   // by condition of the brief: what is told of a row it leaves out
}

// memoSize bounds the memo of a field; a sheet has few countries but many names.
const memoSize = 1024

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
	// What is written at every cell stands apart from that of other workers: where two
	// processors write to one line of their caches, each waits for the other.
	const apart = 128
	n := len(m.brief.Fields)
	w := &Worker{Mapper: m, state: make([]state, n, n+apart), alone: make([]bool, n, n+apart), origin: make([]Origin, n, n+apart), memo: make([]map[string]string, n)}
	for i, f := range m.brief.Fields {
		switch f.Kind {
		case account.Country, account.Language, account.Locale, account.Timezone, account.Date, account.YesNo:
			w.memo[i] = map[string]string{}
		}
	}
	w.scope = m.brief.NewScope(rowCells{w})
	for _, only := range m.brief.Only {
		w.unwanted = append(w.unwanted, account.Find(account.Note, account.NotWanted, "the brief takes only rows with "+only.Source))
	}
	return w
}

// rowCells is what expressions see of the cells of the row at hand.
type rowCells struct{ *Worker }

// Column implements expr.Cells.
func (r rowCells) Column(heading string) (at int, ok bool) {
	if at, ok = r.column[heading]; !ok {
		at, ok = r.column[words.Key(heading)]
	}
	return at, ok
}

// Cell implements expr.Cells.
func (r rowCells) Cell(at int) string {
	if at >= len(r.cells) {
		return ""
	}
	clean, _ := words.Clean(r.cells[at])
	return clean
}

// Map maps a row into wanted, whose memory it uses again. With fixed, the field
// of that index gets the given value whatever the row says, and what is made from
// it follows.
func (w *Worker) Map(row sheet.Row, fixed map[int]string, wanted *Wanted) {
	n := len(w.brief.Fields)
	*wanted = Wanted{Row: row.Number, Values: slices.Grow(wanted.Values[:0], n)[:n], ByFallback: slices.Grow(wanted.ByFallback[:0], n)[:n], Cells: row.Cells, Kinds: row.Kinds}
	clear(wanted.ByFallback)
	w.cells, w.kinds, w.wants, w.certain = row.Cells, row.Kinds, wanted, row.Certain
	switch {
	case row.Left:
		w.aside(account.NotSelected, "the selection leaves the row out")
		return
	case row.Aside != "":
		w.aside(account.NoPersonsRow, row.Aside)
		return
	}
	w.oddRow(row)
	for i := range w.brief.Fields {
		value, state := w.field(i, fixed)
		wanted.Values[i], w.state[i] = value, state
		w.scope.Set(i, value.Text())
	}
	for i, only := range w.brief.Only {
		in, err := only.True(w.scope)
		if err != nil {
			w.find(account.Error, account.ExpressionFailed, "", "", fmt.Sprintf("“only” could not be worked out: %s", err))
		} else if !in {
			f := w.unwanted[i]
			f.Row = row.Number
			wanted.Aside, wanted.Findings = true, []account.Finding{f}
			return
		}
	}
	w.others()
	w.memberships()
	w.passwords()
	w.spare()
}

// aside leaves the row out. It has no faults worth telling then.
func (w *Worker) aside(code account.Code, why string) {
	w.wants.Aside, w.wants.Findings = true, nil
	w.find(account.Note, code, "", "", why)
}

// oddRow tells of what is odd about a row as a whole.
func (w *Worker) oddRow(row sheet.Row) {
	switch {
	case row.Below:
		w.find(account.Error, account.AnotherList, "", "", row.Doubt)
	case row.Doubt != "":
		w.find(account.Error, account.NoPersonsRow, "", "", row.Doubt)
	}
	for _, i := range row.Twice {
		w.find(account.Error, account.SameKey, w.headings[i], "", fmt.Sprintf("the object gives “%s” two different values", w.headings[i]))
	}
	for _, i := range row.Merged {
		if i < len(w.columns) && w.columns[i].Used && (i >= len(row.Cells) || row.Cells[i] == "") {
			w.find(account.Warning, account.MergedCell, w.headings[i], "", "the cell is part of a larger one that begins in another row or column, which alone has its value; here it is read as blank")
		}
	}
	w.unclaimed(row)
	if row.Hidden {
		w.find(account.Warning, account.HiddenRow, "", "", "the row is hidden, and is read like the others")
	}
	if len(row.Cells) > len(w.headings) {
		for _, cell := range row.Cells[len(w.headings):] {
			if clean, _ := words.Clean(cell); clean != "" {
				w.find(account.Error, account.RaggedRow, "", "", fmt.Sprintf("the row has %d cells for %d headings; “%s” stands beyond the last", len(row.Cells), len(w.headings), show(profile.Concealed(clean))))
				break
			}
		}
	} else if len(row.Cells) < len(w.headings) {
		w.find(account.Warning, account.ShortRow, "", "", fmt.Sprintf("the row has %d cells for %d headings", len(row.Cells), len(w.headings)))
	}
	for _, i := range w.beyond {
		if i < len(row.Cells) && row.Cells[i] != "" {
			w.find(account.Error, account.RaggedRow, w.headings[i], "", fmt.Sprintf("“%s” stands to the right of the last heading", show(profile.Concealed(row.Cells[i]))))
		}
	}
	for _, i := range w.unheaded {
		if i < len(row.Cells) {
			if clean, _ := words.Clean(row.Cells[i]); clean != "" {
				w.find(account.Warning, account.NoHeading, "", "", fmt.Sprintf("“%s” stands in column %d, which has no heading", show(profile.Concealed(clean)), i+1))
			}
		}
	}
}

// spare takes back what was found about fields that do not matter to a row which says
// itself what is to happen to an account that there is. Suspending and removing need
// no more than a key, and a known account keeps its sign-in name, so that one that
// could not be made is no fault.
func (w *Worker) spare() {
	i := w.brief.Intent()
	if i < 0 {
		return
	}
	intent := account.Intent(strings.ToLower(w.wants.Values[i].Text()))
	leaves := intent == account.Suspend || intent == account.Remove
	if !leaves && intent != account.Update && intent != account.Resume {
		return
	}
	w.wants.NeedsKeysOnly = leaves
	keyed := slices.ContainsFunc(w.brief.Match, func(name string) bool {
		i := w.brief.Field(name)
		return w.wants.Values[i].Filled() && w.origin[i] != FromFormula && w.origin[i] != FromFallback
	})
	for i, f := range w.brief.Fields {
		if i == w.brief.Intent() || !w.doesWithout(i, leaves, keyed) {
			continue
		}
		if leaves && w.wants.Values[i].Filled() && w.state[i] == fine && slices.Contains(w.brief.Like, f.Name) {
			if w.wants.Said == nil {
				w.wants.Said = map[int]account.Value{}
			}
			w.wants.Said[i] = w.wants.Values[i]
		}
		if leaves || w.state[i] == faulty {
			w.wants.Values[i] = account.Value{}
		}
		w.wants.Findings = slices.DeleteFunc(w.wants.Findings, func(found account.Finding) bool {
			return found.Field == f.Name && found.Level == account.Error
		})
	}
}

// doesWithout reports whether the row does without the field. A key is needed unless it is
// made and another is given; who stays needs all but what is made to be an account's own.
func (w *Worker) doesWithout(i int, leaves, keyed bool) bool {
	f := &w.brief.Fields[i]
	isKey := slices.Contains(w.brief.Match, f.Name)
	made := f.Make != nil && w.origin[i] != FromCell && w.origin[i] != FromTable
	if isKey && !(made && keyed) {
		return false
	}
	return leaves || made && (isKey || f.Unique != brief.Shared)
}

// others makes what the numbered field could be besides.
func (w *Worker) others() {
	n := w.numbered
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

// field finds the value of field i, which the brief allows.
func (w *Worker) field(i int, fixed map[int]string) (account.Value, state) {
	value, state := w.found(i, fixed)
	f := &w.brief.Fields[i]
	if f.OneOf == nil || state != fine || !value.Filled() {
		return value, state
	}
	items := []string{value.Text()}
	if f.Kind == account.List {
		items = account.Items(value.Text())
	}
	for n, item := range items {
		allowed, ok := f.OneOf[words.NameKey(item)]
		if !ok {
			w.find(account.Error, account.NotAllowedValue, w.Heading(i), f.Name, fmt.Sprintf("“%s” is none of the values that the brief allows for %s: %s", show(item), f.Name, enumerated(f.OneOfWords)))
			if near := words.Nearest(item, f.OneOfWords); near != "" {
				last(w.wants).Remedy = fmt.Sprintf("Did you mean “%s”? Else add it to “one_of” in the brief.", near)
			}
			return account.Value{}, faulty
		}
		items[n] = allowed
	}
	return account.Of(account.ListOf(items)), fine
}

// mostNamed is how many values a message names.
const mostNamed = 12

// enumerated names values, the first of many.
func enumerated(values []string) string {
	if more := len(values) - mostNamed; more > 0 {
		return strings.Join(values[:mostNamed], ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(values, ", ")
}

// found finds the value of field i.
func (w *Worker) found(i int, fixed map[int]string) (account.Value, state) {
	f := &w.brief.Fields[i]
	w.origin[i] = FromNowhere
	if value, ok := fixed[i]; ok {
		w.origin[i] = FromGiven
		return account.Of(value), fine
	}
	if w.alone[i] = f.When != nil && !w.counts(i, f); w.alone[i] {
		return account.Value{}, absent
	}
	hasCell := w.from[i] >= 0
	if hasCell {
		read := w.read
		switch {
		case len(f.Parts) > 0:
			read = w.inParts
		case f.Kind == account.List:
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
	switch {
	case f.Falls(hasCell):
		w.origin[i], w.wants.ByFallback[i] = FromFallback, true
		return f.Fallback, fine
	case !hasCell:
		return account.Value{}, absent
	case f.ClearWhenBlank:
		return account.Blank(), fine
	}
	return account.Value{}, fine
}

// counts reports whether field i counts in the row. Where a field that says so has an error, the row is refused for that.
func (w *Worker) counts(i int, f *brief.Field) bool {
	for _, used := range f.When.Uses {
		if w.state[used] == faulty {
			return false
		}
	}
	holds, err := f.When.True(w.scope)
	if err != nil {
		w.find(account.Error, account.ExpressionFailed, w.Heading(i), f.Name, fmt.Sprintf("“when” of %s could not be worked out: %s", f.Name, err))
	}
	return holds
}

// IsAlone reports whether the brief leaves field i alone in the row mapped last.
func (w *Worker) IsAlone(i int) bool { return w.alone[i] }

// make makes field i with its expression. It makes nothing from a field with an
// error, which has been told, nor from one that the sheet doesn't speak of.
func (w *Worker) make(i int, f *brief.Field) (value account.Value, s state, made bool) {
	for _, used := range f.Make.Uses {
		switch {
		case w.state[used] == faulty:
			return account.Value{}, faulty, true
		case w.state[used] == absent:
			return account.Value{}, absent, false
		case w.brief.Fields[used].Required && !w.wants.Values[used].Filled():
			return account.Value{}, faulty, true // the row is refused for that
		}
	}
	heading := w.Heading(i)
	text, err := f.Make.Text(w.scope)
	if err != nil {
		w.find(account.Error, account.ExpressionFailed, heading, f.Name, fmt.Sprintf("%s could not be made: %s", f.Name, err))
		return account.Value{}, faulty, true
	}
	if text, _ = words.Clean(text); text == "" {
		return account.Value{}, fine, false
	}
	if len(text) > maxValue {
		w.find(account.Error, account.TooLong, heading, f.Name, fmt.Sprintf("what was made is %d bytes long, and a field takes at most %d", len(text), maxValue))
		return account.Value{}, faulty, true
	}
	for _, used := range f.Make.Uses {
		// What is made from a fallback is for the same accounts.
		w.wants.ByFallback[i] = w.wants.ByFallback[i] || w.wants.ByFallback[used] && w.brief.Fields[used].FallbackFor == brief.ForNew
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

// See has expressions see a row that was mapped before: its cells, and for each field of the
// brief a value.
func (w *Worker) See(cells []string, value func(i int) account.Value) *expr.Scope {
	w.cells = cells
	for i := range w.brief.Fields {
		w.scope.Set(i, value(i).Text())
	}
	return w.scope
}

// Faulty reports whether field i of the row mapped last has an error.
func (w *Worker) Faulty(i int) bool { return w.state[i] == faulty }

func (w *Worker) find(level account.Level, code account.Code, column, field, message string) {
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
