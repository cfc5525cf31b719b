package report

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/sheet"
	"evenledger/internal/store"

	"github.com/clipperhouse/displaywidth"
)

// A Set is the batches that one sheet came to, one for each system.
type Set struct {
	Name    string // empty: they were only asked for together
	Batches []*batch.Batch
	Counts  []account.Counts
	Waiting []map[account.Intent]int
}

// ReadSet reads what became of the rows of several batches.
func ReadSet(ctx context.Context, l store.Reader, batches []*batch.Batch) (s Set, err error) {
	s.Name, s.Batches = batches[0].Set, batches
	for _, b := range batches {
		if b.Set != s.Name || b.Beside != batches[0].Beside {
			s.Name = ""
		}
		counts, waiting, err := l.Counts(ctx, b.ID)
		if err != nil {
			return s, err
		}
		s.Counts, s.Waiting = append(s.Counts, counts), append(s.Waiting, waiting)
	}
	return s, nil
}

// OneSheet reports whether a row of one of the batches is the same person's in all of them.
func (s Set) OneSheet() bool { return s.Name != "" }

// ToDo is how many entries of a batch wait.
func (s Set) ToDo(i int) int { return total(s.Waiting[i]) }

// Called is what tells a batch from the others: its system, and where others are for that as well, its number.
func (s Set) Called(i int) string {
	b := s.Batches[i]
	for j, other := range s.Batches {
		if j != i && other.System == b.System {
			return fmt.Sprintf("%s, batch %d", b.System, b.ID)
		}
	}
	return b.System
}

// mostSheets is how many sheets are named in the title of batches that are not of one.
const mostSheets = 3

// sheets are what the batches were made of, in words.
func (s Set) sheets() string {
	var names []string
	for _, b := range s.Batches {
		if !slices.Contains(names, b.Sheet) {
			names = append(names, b.Sheet)
		}
	}
	if len(names) > mostSheets {
		return Number(len(names)) + " sheets"
	}
	return strings.Join(names, ", ")
}

// Numbers writes the numbers of the batches as they are typed, such as 12-14.
func (s Set) Numbers() string {
	first, last := s.Batches[0].ID, s.Batches[len(s.Batches)-1].ID
	if last-first == len(s.Batches)-1 && first != last {
		return fmt.Sprintf("%d-%d", first, last)
	}
	names := make([]string, len(s.Batches))
	for i, b := range s.Batches {
		names[i] = fmt.Sprint(b.ID)
	}
	return strings.Join(names, ",")
}

// A SetRow is what one row comes to in each of the systems.
type SetRow struct {
	Row     int
	Key     string
	Entries []*batch.Entry // in the order of the batches; nil: the batch does not have the row
}

// Bad reports whether it was refused, or failed, in one of them.
func (r SetRow) Bad() bool {
	return slices.ContainsFunc(r.Entries, func(e *batch.Entry) bool {
		return e != nil && (e.Outcome.IsBad())
	})
}

// Rows yields the rows of the sheet, with what each comes to in every batch. Accounts that no
// row lists are not among them.
func (s Set) Rows(ctx context.Context, l store.Reader, filter store.Filter) iter.Seq2[SetRow, error] {
	return func(yield func(SetRow, error) bool) {
		next := make([]func() (batch.Entry, error, bool), len(s.Batches))
		head := make([]*batch.Entry, len(s.Batches))
		advance := func(i int) error {
			head[i] = nil
			e, err, more := next[i]()
			if more && err == nil && batch.Unlisted(e.Row) == 0 {
				head[i] = &e
			}
			return err
		}
		for i, b := range s.Batches {
			pull, stop := iter.Pull2(l.Entries(ctx, b.ID, filter))
			defer stop()
			next[i] = pull
			if err := advance(i); err != nil {
				yield(SetRow{}, err)
				return
			}
		}
		for {
			r := SetRow{Entries: make([]*batch.Entry, len(head))}
			for _, e := range head {
				if e != nil && (r.Row == 0 || e.Row < r.Row) {
					r.Row = e.Row
				}
			}
			if r.Row == 0 {
				return
			}
			for i, e := range head {
				if e == nil || e.Row != r.Row {
					continue
				}
				r.Entries[i], r.Key = e, cmp.Or(r.Key, e.Key)
				if err := advance(i); err != nil {
					yield(SetRow{}, err)
					return
				}
			}
			if !yield(r, nil) {
				return
			}
		}
	}
}

// column is how wide that of a system is.
func (s Set) column() int {
	width := 14
	for _, b := range s.Batches {
		width = max(width, len(b.System)+2)
	}
	return width
}

// Set writes the title of several batches, and their accounts side by side. It reports
// whether all of them come out even.
func (p *Page) Set(s Set) bool {
	b, numbers := s.Batches[0], ""
	if s.Name != "" {
		numbers = fmt.Sprintf(" · %s %s", Plural(len(s.Batches), "batch", "batches"), s.Numbers())
	}
	p.Line("%s%s", p.Bold(s.Title()), fmt.Sprintf(" · %s%s · %s %s by %s", s.sheets(), numbers, batch.Drafted, b.Made.Local().Format("2 Jan 2006 15:04"), b.By))
	p.Line("")
	even := p.Sides(s, true, func(i int) []Side { return Sides(s.Batches[i], s.Counts[i], s.Waiting[i]) }, p.paint(bold+green, "even"))
	for i, b := range s.Batches {
		if text, level := ProofText(b); text != "" {
			style := p.Plain
			if level != "" {
				style = func(s string) Styled { return p.Level(level, s) }
			}
			p.Text(style, "  "+s.Called(i)+": "+text)
		}
	}
	return even
}

// provenOf says in a cell how many rows of a batch were proven.
func provenOf(b *batch.Batch) string {
	switch text, _ := ProofText(b); {
	case text == "":
		return ""
	case b.Reading.Left:
		return "not read"
	case b.Reading.Proven == b.Reading.Of:
		return "all"
	}
	return Number(b.Reading.Proven) + "/" + Number(b.Reading.Of)
}

// ProvenOf says in a cell how many rows of a batch were proven, and how grave that is.
func (p *Page) ProvenOf(b *batch.Batch) Cell {
	cell := Cell{Text: provenOf(b)}
	if _, level := ProofText(b); level != "" {
		cell.Style = func(text string) Styled { return p.Level(level, text) }
	}
	return cell
}

// Sides writes the accounts of several batches side by side: what came in, what is said of it,
// and the verdict where they meet. It reports whether all of them come out even.
func (p *Page) Sides(s Set, numbered bool, said func(i int) []Side, verdict Styled) bool {
	width, labels := s.column(), 19
	line := func(label string, cell func(i int) string, style func(string) Styled) {
		text := Pad(label, labels)
		for i := range s.Batches {
			text += fmt.Sprintf("%*s", width, cell(i))
		}
		p.Line("  %s", style(strings.TrimRight(text, " ")))
	}
	rule := func(mark string) {
		line("", func(int) string { return strings.Repeat(mark, 3) }, p.Plain)
	}
	line("", func(i int) string { return Clip(s.Batches[i].System, width-1) }, p.Bold)
	if numbered {
		line("Batch", func(i int) string { return fmt.Sprint(s.Batches[i].ID) }, p.Dim)
	}
	line("Rows in", func(i int) string { return group(s.Batches[i].Rows) }, p.Plain)
	if slices.ContainsFunc(s.Batches, func(b *batch.Batch) bool { return b.Unlisted > 0 }) {
		line("Not listed", func(i int) string { return group(s.Batches[i].Unlisted) }, p.Plain)
	}
	rule("─")
	table := s.sides(said)
	for _, word := range table.words {
		line(word, func(i int) string {
			if table.counts[i][word] == 0 {
				return ""
			}
			return group(table.counts[i][word])
		}, p.Plain)
	}
	rule("─")
	text := Pad("", labels)
	for _, total := range table.totals {
		text += fmt.Sprintf("%*s", width, group(total))
	}
	even := s.even(table)
	if !even {
		verdict = p.paint(bold+red, "NOT EVEN: this is a fault of the program, please report it")
	}
	p.Line("  %s   %s", text, verdict)
	rule("═")
	return even
}

// A setTable is what is said of several batches, in the one order that the words have.
type setTable struct {
	words  []string
	counts []map[string]int
	totals []int
}

func (s Set) sides(said func(i int) []Side) setTable {
	order := map[string]int{} // in which each batch has them
	t := setTable{counts: make([]map[string]int, len(s.Batches)), totals: make([]int, len(s.Batches))}
	for i := range s.Batches {
		t.counts[i] = map[string]int{}
		for at, side := range said(i) {
			if side.N == 0 {
				continue
			}
			t.counts[i][side.Label] = side.N
			t.totals[i] += side.N
			if order[side.Label] = at; !slices.Contains(t.words, side.Label) {
				t.words = append(t.words, side.Label)
			}
		}
	}
	slices.SortStableFunc(t.words, func(x, y string) int { return cmp.Compare(order[x], order[y]) })
	return t
}

// even reports whether every row of every batch is accounted for.
func (s Set) even(t setTable) bool {
	even := true
	for i, b := range s.Batches {
		even = even && t.totals[i] == b.Rows+b.Unlisted && ReadEven(b)
	}
	return even
}

// Title names the batches.
func (s Set) Title() string {
	if s.Name == "" {
		return "Batches " + s.Numbers()
	}
	return "Set " + s.Name
}

// keyWidth is that of what names a row of a set.
const keyWidth = 18

// SetHeadings writes the line above rows of a set.
func (p *Page) SetHeadings(s Set, title string) {
	p.Line("")
	text := Pad(Clip(title, 10+keyWidth), 10+keyWidth)
	said := p.Bold(text)
	text = ""
	for _, b := range s.Batches {
		text += Pad(Clip(b.System, s.column()), s.column()+1)
	}
	p.Line("%s%s", said, p.Dim(strings.TrimRight(text, " ")))
}

// SetRow writes what a row comes to in each of the systems. Without say, its outcomes.
func (p *Page) SetRow(s Set, r SetRow, say func(*batch.Entry) string) {
	var text strings.Builder
	for _, e := range r.Entries {
		word, width := Styled("–"), 1
		switch {
		case e != nil && say != nil:
			said := Clip(say(e), s.column())
			word, width = p.Plain(said), displaywidth.String(said)
		case e != nil:
			word, width = p.outcome(*e), max(10, len(became(e)))
		}
		text.WriteString(string(word) + strings.Repeat(" ", max(0, s.column()+1-width)))
	}
	who := Styled("")
	if left := p.Columns() - 10 - keyWidth - len(r.Entries)*(s.column()+1); left > 8 {
		who = p.Dim(Clip(s.who(r), left))
	}
	p.Line("  %s%s%s%s", Pad(rowLabel(r.Row), 10), Pad(Clip(r.Key, keyWidth-3), keyWidth-2), Styled(text.String()), who)
}

// who is what a row's person is called, as far as that does not stand there already: by one of the systems, or in the
// sheet where nothing is known of them.
func (s Set) who(r SetRow) string {
	for i, e := range r.Entries {
		if e == nil {
			continue
		}
		if name := nameOf(s.Batches[i].Words, s.Batches[i].Headings, e); name != "" && name != r.Key {
			return name
		}
	}
	return ""
}

// ChangeOf says how an entry changes a field, such as a number: “1004 → 20017”; of an account that
// is to be made, the new value; of one that keeps it, that.
func ChangeOf(e *batch.Entry, field string) string {
	for _, c := range e.Changes {
		if c.Field != field {
			continue
		}
		if c.Before.Filled() {
			return c.Before.Text() + " → " + c.After.Text()
		}
		return "→ " + c.After.Text()
	}
	return e.Known[field].Text()
}

// SetEntry is a row of a set as the document has it.
type SetEntry struct {
	Row     int              `json:"row"`
	Key     string           `json:"key"`
	Systems map[string]Entry `json:"systems"`
}

// NewSetEntry makes it.
func NewSetEntry(s Set, r SetRow) SetEntry {
	out := SetEntry{Row: r.Row, Key: r.Key, Systems: map[string]Entry{}}
	for i, e := range r.Entries {
		if e != nil {
			out.Systems[s.Batches[i].System] = NewEntry(s.Batches[i], *e)
		}
	}
	return out
}

// WriteSetOutcomes writes the rows of a sheet with what became of each in every system.
func WriteSetOutcomes(begin func(sheet.Form) (sheet.Writer, error), s Set, rows iter.Seq2[SetRow, error]) (n int, err error) {
	b := s.Batches[0]
	out, err := begin(sheet.Form{Separator: b.Separator})
	if err != nil {
		return 0, err
	}
	headings := slices.Clone(b.Headings)
	headings = append(headings, sheet.RowHeading(b.ID))
	for _, of := range s.Batches {
		for _, heading := range []string{sheet.OutcomeHeading, sheet.AccountHeading, sheet.ReasonsHeading} {
			headings = append(headings, heading+" in "+of.System)
		}
	}
	if err := out.Write(headings); err != nil {
		return 0, err
	}
	for r, err := range rows {
		if err != nil {
			return n, err
		}
		line := make([]string, len(b.Headings))
		for _, e := range r.Entries {
			if e != nil {
				copy(line, e.Cells)
				break
			}
		}
		line = append(line, fmt.Sprint(r.Row))
		for _, e := range r.Entries {
			if e == nil {
				line = append(line, "", "", "")
				continue
			}
			line = append(line, became(e), e.Account, Reasons(e.Findings))
		}
		if err := out.Write(line); err != nil {
			return n, err
		}
		n++
	}
	return n, out.Close()
}

// Batches writes what several batches came to, system beside system: their accounts, what is left to whom (in lines of
// its own), what should be known before they are posted, their findings with more of each, and rows. It reports whether all come out even.
func (p *Page) Batches(ctx context.Context, l Ledger, s Set, left []string, more [][]account.Finding) (even bool, err error) {
	even = p.Set(s)
	for _, line := range left {
		p.Line("  %s", p.Dim(line))
	}
	if err := p.shut(ctx, l, s.Batches); err != nil {
		return even, err
	}
	if err := p.setBefore(ctx, l, s); err != nil {
		return even, err
	}
	causes, err := s.Causes(ctx, l, more)
	if err != nil {
		return even, err
	}
	if p.Findings(causes); s.OneSheet() {
		err = p.setRows(ctx, l, s)
	}
	return even, err
}

// setShown is how many rows of a set are shown at its head, and how many that were refused or
// failed.
const setShown = 12

// setBefore tells what should be known of each system before it is posted: what becomes of passwords, what is made, seats,
// and whom it is gravest for.
func (p *Page) setBefore(ctx context.Context, l Ledger, s Set) error {
	for i, b := range s.Batches {
		tells := s.Waiting[i][account.Remove]+s.Waiting[i][account.Suspend]+s.Waiting[i][account.Resume]+len(b.Seats)+len(b.Makes) > 0 || b.Renames != nil
		if b.Secrets != "" {
			kept, err := l.Passwords(b.ID).Count(ctx)
			if err != nil {
				return err
			}
			tells = tells || kept.Waiting+kept.Given+kept.Mailed > 0
		}
		if s.Counts[i].Waiting() == 0 || !tells {
			continue
		}
		p.Line("")
		p.Line("%s", p.Bold(s.Called(i)))
		if err := p.before(ctx, l, b); err != nil {
			return err
		}
		if err := p.gravest(ctx, l, b, s.Waiting[i]); err != nil {
			return err
		}
	}
	return nil
}

// Causes are the findings of all the batches, with more of each, those that are alike once.
func (s Set) Causes(ctx context.Context, l Ledger, more [][]account.Finding) (*Causes, error) {
	var systems []string
	var all []*Causes
	for at, b := range s.Batches {
		causes := &Causes{}
		if at < len(more) {
			causes.AddAll(more[at])
		}
		if err := causes.AddEntries(l.Entries(ctx, b.ID, store.Filter{Findings: true}), nil); err != nil {
			return nil, err
		}
		systems, all = append(systems, s.Called(at)), append(all, causes)
	}
	return Together(systems, all), nil
}

// setRows shows the first rows, those that are to be looked at, and the last; and, where
// numbers are given, what becomes of them.
func (p *Page) setRows(ctx context.Context, l Ledger, s Set) error {
	var first, bad, last []SetRow
	for r, err := range s.Rows(ctx, l, store.Filter{Cells: true}) {
		switch {
		case err != nil:
			return err
		case len(first) < setShown:
			first = append(first, r)
		case r.Bad() && len(bad) < setShown:
			bad = append(bad, r)
		default:
			last = append(last, r)
			if len(last) > shown {
				last = last[1:]
			}
		}
	}
	shown := slices.Concat(first, bad, last)
	slices.SortFunc(shown, func(x, y SetRow) int { return cmp.Compare(x.Row, y.Row) })
	write := func(title string, say func(*batch.Entry) string) {
		p.SetHeadings(s, title)
		before := 0
		for _, r := range shown {
			if before > 0 && r.Row > before+1 {
				p.Line("  %s", p.Dim("…"))
			}
			p.SetRow(s, r, say)
			before = r.Row
		}
	}
	write("Row by row", nil)
	if slices.ContainsFunc(s.Batches, func(b *batch.Batch) bool { return b.Reown != nil && b.Posted.IsZero() }) {
		write("Files to re-own", func(e *batch.Entry) string {
			for _, step := range e.Steps {
				if step.Do == membership.Reown {
					files, _, _ := strings.Cut(step.Name, " (") // whose group they have as well the row itself says
					return files
				}
			}
			return ""
		})
	}
	var fields []string
	for _, b := range s.Batches {
		for _, field := range b.Numbers {
			if !slices.Contains(fields, field) && b.Posted.IsZero() {
				fields = append(fields, field)
			}
		}
	}
	for _, field := range fields {
		write(field, func(e *batch.Entry) string { return ChangeOf(e, field) })
	}
	return nil
}

// Fixes yields the rows that were refused or failed in any of the systems, with the
// reasons of all.
func (s Set) Fixes(rows iter.Seq2[SetRow, error]) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for r, err := range rows {
			if err != nil {
				yield(batch.Entry{}, err)
				return
			}
			if !r.Bad() {
				continue
			}
			var out *batch.Entry
			in := map[string][]string{} // message → systems
			var findings []account.Finding
			for i, e := range r.Entries {
				if e == nil || !e.Outcome.IsBad() {
					continue
				}
				if out == nil {
					one := *e
					out = &one
				}
				for _, f := range e.Findings {
					if in[f.Message] == nil {
						findings = append(findings, f)
					}
					in[f.Message] = append(in[f.Message], s.Batches[i].System)
				}
			}
			for i, f := range findings {
				if of := in[f.Message]; len(of) < len(s.Batches) {
					findings[i].Message = strings.Join(of, ", ") + ": " + f.Message
				}
			}
			out.Findings = findings
			if !yield(*out, nil) {
				return
			}
		}
	}
}

// Document are the rows as a document has them.
func (s Set) Document(rows iter.Seq2[SetRow, error]) iter.Seq2[SetEntry, error] {
	return func(yield func(SetEntry, error) bool) {
		for r, err := range rows {
			if !yield(NewSetEntry(s, r), err) {
				return
			}
		}
	}
}
