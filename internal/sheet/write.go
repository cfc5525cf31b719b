package sheet

import (
	"encoding/csv"
	"io"
	"strings"
)

// Headings of the columns a fix sheet adds at the right. Beyond stands above what
// a row had to the right of the last heading.
const (
	BeyondHeading  = ours + "beyond"
	RowHeading     = ours + "row"
	ReasonsHeading = ours + "reasons"
)

// A Writer writes a CSV sheet for people who will open it in a spreadsheet
// program: UTF-8 with a byte order mark, so that letters arrive, and cells that
// the program would take for formulas made into text. A Sheet reads such cells
// back as they were.
type Writer struct {
	csv   *csv.Writer
	guard []string
}

// NewWriter begins a sheet on w with the separator of that name.
func NewWriter(w io.Writer, separator string) (*Writer, error) {
	if _, err := io.WriteString(w, "\uFEFF"); err != nil {
		return nil, err
	}
	out := &Writer{csv: csv.NewWriter(w)}
	out.csv.Comma = SeparatorNamed(separator)
	out.csv.UseCRLF = true
	return out, nil
}

// Write writes one row.
func (w *Writer) Write(cells []string) error {
	w.guard = w.guard[:0]
	for _, cell := range cells {
		if cell != "" && (formulaStart(cell[0]) || cell[0] == '\'' && IsGuarded(cell)) {
			cell = "'" + cell
		}
		w.guard = append(w.guard, cell)
	}
	return w.csv.Write(w.guard)
}

// Close writes what is left.
func (w *Writer) Close() error {
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
