// Package report says what a batch came to: as a two-sided account with its
// findings and entries for a person, as a document for programs, and as a fix
// sheet to correct and hand back in.
//
// It promises that no total is shown that does not add up, and that nothing out
// of a sheet or a system can steer a terminal or a spreadsheet program.
package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/sheet"
)

// Head is a batch as a document has it, without its entries.
type Head struct {
	Batch    int            `json:"batch"`
	Sheet    string         `json:"sheet"`
	Brief    string         `json:"brief,omitempty"`
	System   string         `json:"system"`
	State    batch.State    `json:"state"`
	Made     string         `json:"made"`
	Posted   string         `json:"posted,omitempty"`
	By       string         `json:"by"`
	Seal     string         `json:"seal,omitempty"` // hash of all that was drafted
	Policies string         `json:"policies"`
	Rows     int            `json:"rows"`
	Unlisted int            `json:"unlisted,omitempty"` // accounts that no row lists
	Outcomes map[string]int `json:"outcomes"`
	Even     bool           `json:"even"`

	Held     []string           `json:"held,omitempty"` // why it may not be posted
	Seats    []membership.Seats `json:"seats,omitempty"`
	Makes    []membership.Make  `json:"makes,omitempty"` // things that are made first
	Reverses int                `json:"reverses,omitempty"`
	Unmakes  []membership.Step  `json:"unmakes,omitempty"`  // things that are removed if nobody is in them
	Words    map[string]string  `json:"words,omitempty"`    // field → what the sheet calls it
	Corrects int                `json:"corrects,omitempty"` // the batch from whose fix sheet the rows come

	Countersigned []string `json:"countersigned,omitempty"` // by whom, so that it counts
	SignedBy      string   `json:"signedBy,omitempty"`      // who signed all that became of it
	Doubts        []string `json:"doubts,omitempty"`        // why what the ledger says of it is not to be trusted

	AsOf  string       `json:"asOf,omitempty"`  // what accounts were read from, where that is not the system itself
	Files []batch.File `json:"files,omitempty"` // in which rows were handed over

	Proof *batch.Reading `json:"proof,omitempty"` // what reading back what was done came to

	Corrected int          `json:"corrected,omitempty"` // refused and failed rows that later batches put right
	Read      *sheet.Tally `json:"read,omitempty"`      // what was in the sheet
}

const stamp = "2006-01-02T15:04:05Z07:00"

// NewHead makes the head of a batch.
func NewHead(b *batch.Batch, counts account.Counts) Head {
	h := Head{Batch: b.ID, Sheet: b.Sheet, Brief: b.Brief, System: b.System, State: b.State, Made: b.Made.Format(stamp), By: b.By, Seal: b.Seal, Policies: b.Policies, Rows: b.Rows, Outcomes: map[string]int{}, Even: counts.Total() == b.Rows+b.Unlisted && ReadEven(b), Unlisted: b.Unlisted, Held: b.Held, Seats: b.Seats, Makes: b.Makes, Reverses: b.Reverses, Unmakes: b.Removals(), Corrects: b.Corrects, Words: b.Words}
	h.AsOf, h.Files = b.AsOf, b.Files
	if b.Read.Ended {
		h.Read = &b.Read
	}
	if b.Reading.Of > 0 {
		h.Proof = &b.Reading
	}
	if !b.Posted.IsZero() {
		h.Posted = b.Posted.Format(stamp)
	}
	for _, outcome := range account.Outcomes() {
		h.Outcomes[string(outcome)] = counts[outcome]
	}
	return h
}

// Entry is an entry as a document has it.
type Entry struct {
	Row      int               `json:"row"`
	Unlisted int               `json:"unlisted,omitempty"` // instead of a row: the nth account that no row lists
	Key      string            `json:"key"`
	Who      string            `json:"who,omitempty"` // what the person is called
	Intent   account.Intent    `json:"intent"`
	Outcome  account.Outcome   `json:"outcome"`
	Account  string            `json:"account,omitempty"`
	Proof    batch.Proof       `json:"proof,omitempty"` // what reading back what was done showed
	Place    *batch.Place      `json:"place,omitempty"` // where it was handed over
	Changes  []account.Change  `json:"changes"`
	Steps    []membership.Step `json:"steps,omitempty"`
	Findings []account.Finding `json:"findings"`
}

// NewEntry makes an entry of a batch's document. Who a row is about that nothing is done for stands in its cells.
func NewEntry(b *batch.Batch, e batch.Entry) Entry {
	out := Entry{Row: e.Row, Key: e.Key, Who: nameOf(b.Words, b.Headings, &e), Intent: e.Intent, Outcome: e.Outcome, Account: e.Account, Proof: e.Proof, Place: e.Place, Changes: e.Changes, Steps: e.Steps, Findings: slices.Clone(e.Findings)}
	if out.Unlisted = batch.Unlisted(e.Row); out.Unlisted > 0 {
		out.Row = 0
		for i := range out.Findings {
			out.Findings[i].Row = 0
		}
	}
	if out.Changes == nil {
		out.Changes = []account.Change{}
	}
	if out.Findings == nil {
		out.Findings = []account.Finding{}
	}
	return out
}

// WriteJSON writes a document: the keys of head, then the list under name, then
// the keys of what tail returns once the list is written. The list is streamed;
// head, and tail's result if there is a tail, must marshal to objects. If the list
// breaks off, the document is closed with the reason under "error".
func WriteJSON[T any](w io.Writer, head any, name string, list iter.Seq2[T, error], tail func() any) error {
	opening, err := json.MarshalIndent(head, "", "  ")
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, "%s,\n  %q: [", strings.TrimSuffix(string(opening), "\n}"), name); err != nil {
		return err
	}
	separator := "\n    "
	for item, err := range list {
		if err != nil {
			reason, _ := json.Marshal(map[string]string{"message": err.Error()}) // texts always marshal
			_, writeErr := fmt.Fprintf(w, "],\n  \"error\": %s\n}\n", reason)
			return errors.Join(err, writeErr)
		}
		data, err := json.Marshal(item)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s%s", separator, data); err != nil {
			return err
		}
		separator = ",\n    "
	}
	end := "]"
	if separator != "\n    " {
		end = "\n  ]"
	}
	if tail == nil {
		_, err = io.WriteString(w, end+"\n}\n")
		return err
	}
	closing, err := json.MarshalIndent(tail(), "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "%s,%s\n", end, strings.TrimPrefix(string(closing), "{"))
	return err
}

// WriteBatch writes the document of a batch.
func WriteBatch(w io.Writer, head Head, b *batch.Batch, entries iter.Seq2[batch.Entry, error]) error {
	return WriteJSON(w, head, "entries", func(yield func(Entry, error) bool) {
		for e, err := range entries {
			if !yield(NewEntry(b, e), err) {
				return
			}
		}
	}, nil)
}

// WriteFixes writes the fix sheet of a batch: the rows as they came in, below the
// headings where they were, with the row and the reasons at the right. It goes
// through the entries twice, and returns how many rows it wrote. begin begins the
// sheet.
func WriteFixes(begin func(sheet.Form) (sheet.Writer, error), b *batch.Batch, entries iter.Seq2[batch.Entry, error]) (rows int, err error) {
	return writeRows(begin, b, ofSheet(entries), []string{sheet.RowHeading(b.ID), sheet.ReasonsHeading}, func(e batch.Entry) []string {
		return []string{fmt.Sprint(e.Row), Reasons(e.Findings)}
	})
}

// WriteOutcomes does the same with the outcome and the system's identifier of the
// account besides.
func WriteOutcomes(begin func(sheet.Form) (sheet.Writer, error), b *batch.Batch, entries iter.Seq2[batch.Entry, error]) (rows int, err error) {
	return writeRows(begin, b, entries, OutcomeHeadings(b), outcomeCells)
}

// OutcomeHeadings are those of the columns that WriteOutcomes adds.
func OutcomeHeadings(b *batch.Batch) []string {
	return []string{sheet.RowHeading(b.ID), sheet.OutcomeHeading, sheet.AccountHeading, sheet.ReasonsHeading}
}

// outcomeCells are what stands in them beside a row.
func outcomeCells(e batch.Entry) []string {
	row := fmt.Sprint(e.Row)
	if batch.Unlisted(e.Row) > 0 {
		row = "not listed: " + e.Key
	}
	return []string{row, became(&e), e.Account, Reasons(e.Findings)}
}

// WriteOutcomesBeside writes the outcomes into the workbook that the batch was made of.
// hide returns the columns of a row that are not to stand in a second file.
func WriteOutcomesBeside(to *sheet.Beside, b *batch.Batch, entries iter.Seq2[batch.Entry, error], hide func(batch.Entry) []int) (rows int, err error) {
	for e, err := range entries {
		if err != nil {
			return rows, err
		}
		row := e.Row
		if batch.Unlisted(row) > 0 {
			row = 0
		}
		if err := to.Write(row, outcomeCells(e), Marks(e.Findings, b.Headings, to.Width()+len(OutcomeHeadings(b))-1), hide(e)); err != nil {
			return rows, err
		}
		rows++
	}
	return rows, nil
}

// Chart is what became of the rows of a batch, for a workbook's tab.
func Chart(b *batch.Batch, counts account.Counts, waiting map[account.Intent]int) []sheet.Count {
	colors := map[string]string{"Created": "4D7A5A", "Updated": "4B6C8F", "Suspended": "8A6D3B", "Resumed": "5D8A86", "Removed": "6B4A6E", "Nothing to change": "B9BCB4", "Set aside": "D8D6CD", "Refused": "B4553C", "Failed": "8C2634", "May sign in, failed": "8C2634"}
	var lines []sheet.Count
	for _, s := range Sides(b, counts, waiting) {
		if s.N == 0 {
			continue
		}
		color := colors[s.Label]
		if color == "" {
			color = "D3B25A" // it waits
		}
		lines = append(lines, sheet.Count{Label: s.Label, N: s.N, Color: color})
	}
	return lines
}

// ofSheet leaves out the entries of accounts that no row lists.
func ofSheet(entries iter.Seq2[batch.Entry, error]) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for e, err := range entries {
			if (err != nil || batch.Unlisted(e.Row) == 0) && !yield(e, err) {
				return
			}
		}
	}
}

// writeRows writes rows as they came in with more columns at the right, of which
// the last has the reasons.
func writeRows(begin func(sheet.Form) (sheet.Writer, error), b *batch.Batch, entries iter.Seq2[batch.Entry, error], more []string, beside func(batch.Entry) []string) (rows int, err error) {
	// The columns of an earlier such sheet are not written again.
	var kept []int
	var headings []string
	for i, heading := range b.Headings {
		if !sheet.IsOurs(heading) || heading == sheet.AccountHeading && !slices.Contains(more, heading) || heading == sheet.BeyondHeading {
			kept, headings = append(kept, i), append(headings, heading)
		}
	}
	width := len(b.Headings)
	for e, err := range entries {
		if err != nil {
			return 0, err
		}
		width = max(width, filled(e.Cells))
	}
	for i := len(b.Headings); i < width; i++ {
		kept, headings = append(kept, i), append(headings, sheet.BeyondHeading)
	}
	reasons := len(headings) + len(more) - 1
	out, err := begin(sheet.Form{Separator: b.Separator, HeadingRow: len(b.Above) + 1, Wide: reasons})
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	for _, cells := range b.Above {
		if err := out.Write(cells); err != nil {
			return 0, err
		}
	}
	if err := out.Write(slices.Concat(headings, more)); err != nil {
		return 0, err
	}
	for e, err := range entries {
		if err != nil {
			return rows, err
		}
		cells := make([]string, len(kept))
		for i, at := range kept {
			if at < len(e.Cells) {
				cells[i] = e.Cells[at]
			}
		}
		if err := out.Write(append(cells, beside(e)...), Marks(e.Findings, headings, reasons)...); err != nil {
			return rows, err
		}
		rows++
	}
	return rows, nil
}

// Marks points at the cells that the errors and warnings among the findings are
// about, and at the reasons in their own column.
func Marks(findings []account.Finding, headings []string, reasons int) []sheet.Mark {
	marks := []sheet.Mark{{Column: reasons, Reason: true}}
	for _, f := range findings {
		at := slices.Index(headings, f.Column)
		if f.Level == account.Note || f.Column == "" || at < 0 {
			continue
		}
		note := f.Message
		if f.Remedy != "" {
			note += "\n→ " + f.Remedy
		}
		if i := slices.IndexFunc(marks, func(m sheet.Mark) bool { return m.Column == at }); i >= 0 {
			marks[i].Note += "\n" + note
		} else {
			marks = append(marks, sheet.Mark{Column: at, Note: note})
		}
	}
	return marks
}

// filled is how many cells there are up to the last that isn't blank.
func filled(cells []string) int {
	n := len(cells)
	for n > 0 && strings.TrimSpace(cells[n-1]) == "" {
		n--
	}
	return n
}

// setsAside reports whether a code is that of what sets a row aside.
func setsAside(code account.Code) bool {
	switch code {
	case account.ExistsAlready, account.NoPersonsRow, account.NotSelected, account.NotThere, account.NotWanted:
		return true
	}
	return false
}

// Reasons puts the errors among the findings into one text, and why a row was set
// aside.
func Reasons(findings []account.Finding) string {
	var reasons []string
	for _, f := range findings {
		if setsAside(f.Code) {
			return f.Message
		}
		if f.Level != account.Error {
			continue
		}
		text := f.Message
		if f.Column != "" && !strings.Contains(text, f.Column) {
			text = f.Column + ": " + text
		}
		if f.Remedy != "" {
			text += " (" + strings.TrimSuffix(f.Remedy, ".") + ")"
		}
		reasons = append(reasons, text)
	}
	return strings.Join(reasons, "; ")
}
