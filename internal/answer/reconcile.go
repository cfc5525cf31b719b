package answer

import (
	"context"
	"fmt"
	"io"
	"iter"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/readback"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

// states are what a row can be when it is held against the system, in the order in
// which they are told.
var states = [...]struct {
	name         app.State
	label, about string
}{
	{app.Even, "Even", ""},
	{app.Missing, "Not in the system", "In the sheet, and not in the system"},
	{app.Differs, "Differ", "Otherwise in the system than in the sheet"},
	{app.Unlisted, "Not in the sheet", "In the system within “scope”, and not in the sheet"},
	{app.Untold, "Cannot be told", "Rows that cannot be compared before they are corrected"},
	{app.Aside, "Set aside", ""},
}

// foundAs says of one row what states say of several.
func foundAs(state app.State) string {
	for _, s := range states {
		if s.name == state && state != app.Differs {
			return strings.ToLower(s.label)
		}
	}
	return string(state)
}

// Kinds are what may be otherwise, in words.
func (Compared) Kinds() (kinds []string) {
	for _, s := range states {
		if s.about != "" {
			kinds = append(kinds, foundAs(s.name))
		}
	}
	return kinds
}

// compared is a row as the document has it.
type compared struct {
	report.Entry
	State app.State `json:"state"`
}

// A Compared is how a sheet and one system, or each of those of a set, stand to each other.
type Compared struct {
	Ledger  store.Store
	Set     report.Set // without a name: one system
	Unseen  bool       // not every system could be looked at
	NoScope bool       // who is not in the sheet was not looked for
	Next    string     // what may be typed where it is not even
	Written Differences

	counts []app.States
	causes []*report.Causes
	even   bool // as far as they could be looked at
}

// NewCompared counts what batches that were made to compare found.
func NewCompared(ctx context.Context, l store.Store, batches []*batch.Batch, set string) (*Compared, error) {
	s, err := report.ReadSet(ctx, l, batches)
	if err != nil {
		return nil, err
	}
	s.Name = set
	c := &Compared{Ledger: l, Set: s, even: true}
	for _, b := range batches {
		counts, refusals, err := app.Compare(l.Entries(ctx, b.ID, store.Filter{}))
		if err != nil {
			return nil, err
		}
		causes := &report.Causes{}
		causes.AddAll(refusals)
		c.counts, c.causes, c.even = append(c.counts, counts), append(c.causes, causes), c.even && counts.Even()
	}
	return c, nil
}

// Several reports whether it is about the systems of a set.
func (c *Compared) Several() bool { return c.Set.Name != "" }

// Even reports whether all systems are even with the sheet.
func (c *Compared) Even() bool { return c.even && !c.Unseen }

// Comparison is what stands above the rows.
func (c *Compared) Comparison() report.Comparison {
	b := c.Set.Batches[0]
	if c.Several() {
		return report.Comparison{Title: fmt.Sprintf("%s and the set %s", b.Sheet, c.Set.Name), Even: c.Even(), Systems: true}
	}
	return report.Comparison{Title: fmt.Sprintf("%s and %s", b.Sheet, b.System), Even: c.Even(), In: report.In(b), Sides: c.sides(0)}
}

func (c *Compared) sides(i int) (sides []report.Side) {
	for _, state := range states {
		sides = append(sides, report.Side{Label: state.label, N: c.counts[i][state.name]})
	}
	return sides
}

// Document implements Answer.
func (c *Compared) Document(ctx context.Context) any {
	b := c.Set.Batches[0]
	if c.Several() {
		by := map[string]app.States{}
		for i, b := range c.Set.Batches {
			by[b.System] = c.counts[i]
		}
		return Stream(func(w io.Writer) error {
			return report.WriteJSON(w, map[string]any{"set": c.Set.Name, "sheet": b.Sheet, "systems": by, "even": c.Even()}, "entries", c.Set.Document(c.differ(ctx)), nil)
		})
	}
	return Stream(func(w io.Writer) error {
		return report.WriteJSON(w, map[string]any{"sheet": b.Sheet, "system": b.System, "rows": b.Rows, "states": c.counts[0], "even": c.Even()}, "entries", differing(b, c.Ledger.Entries(ctx, b.ID, store.Filter{Cells: true})), nil)
	})
}

// Draw implements Answer.
func (c *Compared) Draw(ctx context.Context, page *report.Page) error {
	told := c.Comparison()
	page.Speak(c.Set.Batches[0])
	page.Line("%s", page.Bold(told.Title))
	verdict, says := c.verdict(page)
	var err error
	if c.Several() {
		page.Line("")
		page.Sides(c.Set, false, c.sides, verdict)
		err = c.setRows(ctx, page)
	} else {
		page.AccountSaying(told.In, told.Sides, verdict)
		err = c.rows(ctx, page)
	}
	if err != nil {
		return err
	}
	var systems []string
	for _, b := range c.Set.Batches {
		systems = append(systems, b.System)
	}
	page.Findings(report.Together(systems, c.causes))
	page.Line("")
	page.Line("%s", says)
	if c.NoScope {
		page.Text(page.Dim, "The brief has no “scope”, so accounts that the sheet does not list were not looked for.")
	}
	if c.Written.say(page); !c.even {
		page.Next(c.Next)
	}
	return nil
}

// verdict says in a word and in a sentence how they stand.
func (c *Compared) verdict(page *report.Page) (verdict, says report.Styled) {
	verdict, says = page.Bold("even"), page.Bold("The system is even with the sheet.")
	switch {
	case c.Even() && c.Several():
		says = page.Bold("Every system is even with the sheet.")
	case c.Even():
	case c.even:
		says = page.Level(account.Error, "Those that could be looked at are even with the sheet, and not all could.")
	case c.Several():
		verdict, says = page.Level(account.Error, "not even"), page.Level(account.Error, "Not every system is even with the sheet.")
	default:
		verdict, says = page.Level(account.Error, "not even"), page.Level(account.Error, "The system is not even with the sheet.")
	}
	return verdict, says
}

// Lines are the lines about what is otherwise, of each entry together; of several systems they begin with its name.
func (c *Compared) Lines(ctx context.Context) iter.Seq2[[][]string, error] {
	return func(yield func([][]string, error) bool) {
		for _, b := range c.Set.Batches {
			for e, err := range c.Ledger.Entries(ctx, b.ID, store.Filter{Cells: true}) {
				state := app.StateOf(&e)
				if err == nil && !state.Differs() {
					continue
				}
				lines := report.Differences(b, &e, foundAs(state))
				for i := range lines {
					if c.Several() {
						lines[i] = append([]string{b.System}, lines[i]...)
					}
				}
				if !yield(lines, err) {
					return
				}
			}
		}
	}
}

// differ yields the rows of a sheet that are otherwise in one of the systems.
func (c *Compared) differ(ctx context.Context) iter.Seq2[report.SetRow, error] {
	return func(yield func(report.SetRow, error) bool) {
		for r, err := range c.Set.Rows(ctx, c.Ledger, store.Filter{Cells: true}) {
			if is := slices.ContainsFunc(r.Entries, func(e *batch.Entry) bool { return e != nil && app.StateOf(e).Differs() }); err != nil || is {
				if !yield(r, err) {
					return
				}
			}
		}
	}
}

// setRows shows the first of the rows that are otherwise in one of the systems.
func (c *Compared) setRows(ctx context.Context, page *report.Page) error {
	s := c.Set
	said := 0
	for r, err := range c.differ(ctx) {
		if err != nil {
			return err
		}
		if said == 0 {
			page.SetHeadings(s, "Not even")
		}
		if said++; said > 2*someShown {
			page.Line("  %s", page.Dim("…"))
			break
		}
		page.SetRow(s, r, func(e *batch.Entry) string { return string(app.StateOf(e)) })
		for i, e := range r.Entries {
			if e == nil || app.StateOf(e) != app.Differs || page.Summary(*e) == "" {
				continue
			}
			page.Line("            %s", page.Dim(s.Called(i)+": "+page.Summary(*e)))
		}
	}
	return nil
}

// someShown is how many rows of each state are shown.
const someShown = 12

// rows writes the rows that are not even, those of one state together.
func (c *Compared) rows(ctx context.Context, page *report.Page) error {
	b, counts := c.Set.Batches[0], c.counts[0]
	for _, s := range states {
		if s.about == "" || counts[s.name] == 0 || s.name == app.Untold {
			continue
		}
		page.Line("")
		page.Line("%s", page.Bold(s.about))
		written := 0
		for e, err := range c.Ledger.Entries(ctx, b.ID, store.Filter{}) {
			if err != nil {
				return err
			}
			if app.StateOf(&e) != s.name {
				continue
			}
			if written++; written > someShown {
				page.Line("  %s", page.Dim(fmt.Sprintf("… and %s more", report.Number(counts[s.name]-someShown))))
				break
			}
			if s.name == app.Unlisted {
				e.Intent, e.Changes, e.Steps = account.Keep, nil, nil // nothing is done about it here
			}
			page.Entered(e, page.Plain(""))
		}
	}
	return nil
}

// differing yields the rows that are not even.
func differing(b *batch.Batch, entries iter.Seq2[batch.Entry, error]) iter.Seq2[compared, error] {
	return func(yield func(compared, error) bool) {
		for e, err := range entries {
			if state := app.StateOf(&e); err != nil || state.Differs() {
				if !yield(compared{report.NewEntry(b, e), state}, err) {
					return
				}
			}
		}
	}
}

// Differences are lines about what is otherwise, as they were written to a file.
type Differences struct {
	File  string // empty: they were not
	Lines int
}

func (d Differences) say(page *report.Page) {
	if d.File != "" {
		page.Line("%s: %s, one for each field and membership that is otherwise.", d.File, report.Counted(d.Lines, "line", "lines"))
	}
}

// A ReadBack is whether a system is still as a batch left it.
type ReadBack struct {
	Batch   *batch.Batch
	Read    readback.Result
	Written Differences
}

// Comparison is what stands above the rows.
func (r ReadBack) Comparison() report.Comparison {
	return report.Comparison{Title: fmt.Sprintf("Batch %d and %s", r.Batch.ID, r.Batch.System), In: r.in(), Sides: r.sides(), Even: r.Read.Even()}
}

func (r ReadBack) in() []report.Side { return []report.Side{{Label: "Carried out", N: r.Read.Looked}} }

func (r ReadBack) sides() []report.Side {
	return []report.Side{{Label: "As the batch left it", N: r.Read.Looked - len(r.Read.Rows)}, {Label: "Otherwise", N: len(r.Read.Rows)}}
}

// Lines are about what is otherwise, of each row together.
func (r ReadBack) Lines(yield func([][]string, error) bool) {
	for _, row := range r.Read.Rows {
		var lines [][]string
		for _, d := range row.Differences {
			lines = append(lines, []string{strconv.Itoa(row.Row), string(app.Differs), row.Key, row.Account, d.What, d.Left, d.Found, ""})
		}
		if !yield(lines, nil) {
			return
		}
	}
}

// Document implements Answer.
func (r ReadBack) Document(context.Context) any {
	read, rows := r.Read, r.Read.Rows
	if rows == nil {
		rows = []readback.Row{}
	}
	return map[string]any{"batch": r.Batch.ID, "system": r.Batch.System, "read": read.Looked, "failed": read.Failed, "waiting": read.Waiting, "handedOver": read.Handed, "even": read.Even(), "entries": rows}
}

// Draw implements Answer.
func (r ReadBack) Draw(_ context.Context, page *report.Page) error {
	r.found(page)
	b, read := r.Batch, r.Read
	r.Written.say(page)
	switch {
	case len(read.Rows) > 0:
		page.Next(fmt.Sprintf("evenledger show %d --row %d", b.ID, read.Rows[0].Row))
	case read.Waiting > 0:
		page.Next(fmt.Sprintf("evenledger post %d", b.ID))
	case read.Failed > 0:
		page.Next(fmt.Sprintf("evenledger show %d --outcome failed", b.ID))
	}
	return nil
}

// found shows what was found where a batch was read back.
func (r ReadBack) found(page *report.Page) {
	b, read, rows := r.Batch, r.Read, r.Read.Rows
	page.Title(b)
	verdict := page.Bold("even")
	if !read.Even() {
		verdict = page.Level(account.Error, "not even")
	}
	page.AccountSaying(r.in(), r.sides(), verdict)
	for _, row := range rows {
		page.Line("")
		name := batch.RowName(row.Row)
		page.Line("%s  %s  %s", page.Bold(strings.ToUpper(name[:1])+name[1:]), row.Key, page.Dim("account "+row.Account))
		for _, d := range row.Differences {
			found := d.Found
			if found == "" {
				found = "(blank)"
			}
			page.Line("    %s  %s %s %s", report.Pad(d.What, 18), d.Left, page.Dim("now"), page.Level(account.Warning, found))
		}
	}
	page.Line("")
	if read.Handed > 0 {
		page.Line("%s", page.Level(account.Warning, app.Remains{Handed: read.Handed}.String()+"."))
	}
	if len(rows) == 0 && read.Looked > 0 {
		page.Line("The system is as batch %d left it.", b.ID)
	}
	if read.Failed > 0 {
		page.Line("%s", page.Level(account.Error, fmt.Sprintf("%s failed, as a whole or in part: the system is not as they want it.", report.Counted(read.Failed, "row", "rows"))))
	}
	if read.Waiting > 0 {
		page.Line("%s", page.Level(account.Error, fmt.Sprintf("%s not carried out to the end, or it is open whether they were.", report.Counted(read.Waiting, "row is", "rows are"))))
	}
}

// Filed is a comparison as it is written to a file: without sides that nothing stands on, and with when it was made, and by whom.
func Filed(c report.Comparison, held string) report.Comparison {
	none := func(s report.Side) bool { return s.N == 0 && s.Label != "Rows in" }
	c.In, c.Sides = slices.DeleteFunc(slices.Clone(c.In), none), slices.DeleteFunc(slices.Clone(c.Sides), none)
	c.Told = held
	c.Kinds = Compared{}.Kinds()
	return c
}
