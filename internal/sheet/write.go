package sheet

import (
	"encoding/csv"
	"io"
	"path/filepath"
	"strings"
)

// Headings of the columns a fix sheet adds at the right. Beyond stands above what
// a row had to the right of the last heading.
const (
	BeyondHeading  = ours + "beyond"
	RowHeading     = ours + "row"
	ReasonsHeading = ours + "reasons"
)

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
	Separator  string // of CSV; empty: comma
	HeadingRow int    // from 1; 0: 1
	Wide       int    // column from 0 whose texts are long; 0: none
	Folder     string // where working files may stand for a moment
}

// Formats are the endings of files that can be written.
const Formats = ".xlsx, .csv or .tsv"

// CanWrite reports whether a path ends in a format that can be written.
func CanWrite(path string) bool {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".xlsx", ".csv", ".tsv", ".tab", ".txt":
		return true
	}
	return false
}

// NewWriter begins a sheet on w in the format that path ends in, which CanWrite
// knows.
func NewWriter(w io.Writer, path string, form Form) (Writer, error) {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".xlsx":
		return newWorkbook(w, form)
	case ".tsv", ".tab":
		form.Separator = "tab"
	}
	return newCSVWriter(w, form.Separator)
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
		if cell != "" && (formulaStart(cell[0]) || cell[0] == '\'' && IsGuarded(cell)) {
			cell = "'" + cell
		}
		w.guard = append(w.guard, cell)
	}
	return w.csv.Write(w.guard)
}

// Close implements Writer.
func (w *csvWriter) Close() error {
	w.csv.Flush()
	return w.csv.Error()
}

func formulaStart(c byte) bool { return strings.IndexByte("=+-@\t\r", c) >= 0 }

// IsGuarded reports whether cell is one that Write put an apostrophe before:
// apostrophes, then a character that begins a formula.
func IsGuarded(cell string) bool {
	rest := strings.TrimLeft(cell, "'")
	return len(rest) < len(cell) && rest != "" && formulaStart(rest[0])
}
