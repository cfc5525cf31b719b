package sheet

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Headings of the columns a fix sheet adds at the right. Beyond stands above what
// a row had to the right of the last heading.
const (
	BeyondHeading  = ours + "beyond"
	OutcomeHeading = ours + "outcome"
	AccountHeading = ours + "account"
	ReasonsHeading = ours + "reasons"
)

// rowHeading begins the heading of the column with the rows' numbers.
const rowHeading = ours + "row of batch "

// RowHeading is the heading of the column that has the rows' numbers in the sheet that
// a batch was made from.
func RowHeading(batch int) string { return rowHeading + strconv.Itoa(batch) }

// FixesOf returns the batch whose rows a sheet holds that was written of one, and
// the column with their numbers; 0 if it was not.
func FixesOf(headings []string) (batch, column int) {
	for i, heading := range headings {
		if text, is := strings.CutPrefix(heading, rowHeading); is {
			if n, err := strconv.Atoi(text); err == nil && n > 0 {
				return n, i
			}
		}
	}
	return 0, -1
}

// JoinItems writes several values into one cell, with a semicolon between. Where one
// has a semicolon in it, a backslash stands before that.
func JoinItems(items []string) string {
	escape := strings.NewReplacer(`\`, `\\`, ListSeparator, `\`+ListSeparator)
	escaped := make([]string, len(items))
	for i, item := range items {
		escaped[i] = escape.Replace(item)
	}
	return strings.Join(escaped, ListSeparator+" ")
}

// A Writer writes a sheet for people who will open it in a spreadsheet program.
// What it writes a Sheet reads back as it was.
type Writer interface {
	// Write writes one row. Marks are shown where the format can.
	Write(cells []string, marks ...Mark) error
	// Close writes what is left.
	Close() error
}

// A Mark makes a cell stand out.
type Mark struct {
	Column int    // from 0
	Note   string // shown when the cell is pointed at; may be empty
	Reason bool   // the cell has the reasons themselves
}

// A Form says how a sheet is written.
type Form struct {
	Separator  string                      // of CSV; empty: comma
	HeadingRow int                         // from 1; 0: 1
	Wide       int                         // column from 0 whose texts are long; 0: none
	Folder     string                      // where working files may stand for a moment
	Attribute  func(heading string) string // of LDIF: a directory's name for what stands beneath a heading; nil: the heading itself
	Account    []Count                     // of a workbook: what became of the rows, for a tab with a chart; none: no such tab
}

// A csvWriter writes separated values: UTF-8 with a byte order mark, so that
// letters arrive, and cells that a spreadsheet program would take for formulas
// made into text by an apostrophe.
type csvWriter struct {
	csv   *csv.Writer
	guard []string
}

func newCSVWriter(w io.Writer, separator string) (*csvWriter, error) {
	if _, err := io.WriteString(w, "\uFEFF"); err != nil {
		return nil, err
	}
	out := &csvWriter{csv: csv.NewWriter(w)}
	out.csv.Comma = separatorNamed(separator)
	out.csv.UseCRLF = true
	return out, nil
}

// Write implements Writer.
func (w *csvWriter) Write(cells []string, _ ...Mark) error {
	w.guard = w.guard[:0]
	for _, cell := range cells {
		w.guard = append(w.guard, guarded(cell))
	}
	return w.csv.Write(w.guard)
}

// Close implements Writer.
func (w *csvWriter) Close() error {
	w.csv.Flush()
	return w.csv.Error()
}

// A linesWriter writes JSON lines: an object a row, of the cells that aren't blank
// under their headings. What stands above the headings is left out.
type linesWriter struct {
	w        *bufio.Writer
	left     int // rows up to the headings, with them
	headings []string
	line     bytes.Buffer
}

// Write implements Writer.
func (w *linesWriter) Write(cells []string, _ ...Mark) error {
	if w.left--; w.left == 0 {
		w.headings = slices.Clone(cells)
	}
	if w.left >= 0 {
		return nil
	}
	w.line.Reset()
	w.line.WriteByte('{')
	encoder := json.NewEncoder(&w.line)
	encoder.SetEscapeHTML(false)
	for i, cell := range cells {
		if cell == "" {
			continue
		}
		heading := ""
		if i < len(w.headings) {
			heading = w.headings[i]
		}
		if w.line.Len() > 1 {
			w.line.WriteByte(',')
		}
		// What Encode writes ends in a line break.
		if err := encoder.Encode(heading); err != nil {
			return err
		}
		w.line.Bytes()[w.line.Len()-1] = ':'
		if err := encoder.Encode(cell); err != nil {
			return err
		}
		w.line.Truncate(w.line.Len() - 1)
	}
	if w.line.Len() == 1 {
		return nil // a blank row
	}
	w.line.WriteString("}\n")
	_, err := w.w.Write(w.line.Bytes())
	return err
}

// Close implements Writer.
func (w *linesWriter) Close() error { return w.w.Flush() }

// formulaStarts begin a formula, some in the wide forms of East Asian keyboards as well.
const formulaStarts = "=+-@\t\r＝＋－＠"

// guarded puts an apostrophe before what a spreadsheet program would take for a
// formula: at the beginning of a cell, and behind each sign that is a separator to
// a program set to another one than the file's.
func guarded(cell string) string {
	if !strings.ContainsAny(cell, formulaStarts) {
		return cell
	}
	var out strings.Builder
	for at := 0; at < len(cell); at++ {
		if isGuard(cell[at:]) && begins(cell, at) {
			out.WriteByte('\'')
		}
		out.WriteByte(cell[at])
	}
	return out.String()
}

// unguarded takes the apostrophes off that guarded put there.
func unguarded(cell string) string {
	if strings.IndexByte(cell, '\'') < 0 {
		return cell
	}
	var out strings.Builder
	for at := 0; at < len(cell); at++ {
		if cell[at] == '\'' && isGuard(cell[at+1:]) && begins(cell, at) {
			continue
		}
		out.WriteByte(cell[at])
	}
	return out.String()
}

// begins reports whether a program set to any separator could begin a cell at a
// place of this one: blanks and quotes may stand before.
func begins(cell string, at int) bool {
	before := strings.TrimRight(cell[:at], ` "`)
	return before == "" && at == 0 || before != "" && strings.IndexByte(separators+"\n", before[len(before)-1]) >= 0
}

// isGuard reports whether a text is a formula behind any number of apostrophes.
func isGuard(text string) bool {
	text = strings.TrimLeft(text, "'")
	first, _ := utf8.DecodeRuneInString(text)
	return text != "" && strings.ContainsRune(formulaStarts, first)
}
