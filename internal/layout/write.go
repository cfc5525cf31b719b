package layout

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"strings"

	"golang.org/x/text/transform"

	"evenledger/internal/sheet"
)

// The formats of files.
const (
	formatCSV   = "csv"
	formatXLSX  = "xlsx"
	formatLines = "jsonl"
)

// A Writer writes one file in the form of a layout.
type Writer struct {
	layout  *Layout
	out     *bufio.Writer
	book    sheet.Writer // of a workbook
	lines   int
	between string    // the separator
	special [256]bool // bytes for which a cell needs quotes
	keys    [][]byte  // of objects, each with its colon
	row     bytes.Buffer
}

// NewWriter begins a file: what stands above the headings, and they.
func (l *Layout) NewWriter(w io.Writer) (*Writer, error) {
	out := &Writer{layout: l, between: string(l.File.Separator)}
	for _, b := range []byte("\"\r\n" + out.between) {
		out.special[b] = true
	}
	headings := l.Headings()
	switch l.File.Format {
	case formatXLSX:
		book, err := sheet.NewWriter(w, ".xlsx", sheet.Form{HeadingRow: len(l.Above) + 1})
		if err != nil {
			return nil, err
		}
		out.book = book
		for _, line := range l.Above {
			if err := book.Write(strings.Split(line, string(l.File.Separator))); err != nil {
				return nil, err
			}
		}
		out.lines = len(l.Above)
		return out, out.Write(headings)
	case formatLines:
		out.out = bufio.NewWriterSize(w, 64<<10)
		for _, heading := range headings {
			key, err := json.Marshal(heading)
			if err != nil {
				return nil, err
			}
			out.keys = append(out.keys, append(key, ':'))
		}
		return out, nil
	}
	if l.File.encoding != nil {
		w = transform.NewWriter(w, l.File.encoding.NewEncoder())
	}
	out.out = bufio.NewWriterSize(w, 64<<10)
	if l.File.Mark {
		out.out.WriteString("\uFEFF")
	}
	for _, line := range l.Above {
		out.out.WriteString(line + l.File.LineEnd)
	}
	out.lines = len(l.Above)
	return out, out.Write(headings)
}

// Line is the number of the line that was written last, from 1.
func (w *Writer) Line() int { return w.lines }

// Held is how many bytes of what was written are not in the file yet.
func (w *Writer) Held() int64 {
	if w.out == nil {
		return 0
	}
	return int64(w.out.Buffered())
}

// Write writes one line.
func (w *Writer) Write(cells []string) error {
	w.lines++
	switch w.layout.File.Format {
	case formatXLSX:
		return w.book.Write(cells)
	case formatLines:
		return w.object(cells)
	}
	quote := w.layout.File.Quote
	for i, cell := range cells {
		if i > 0 {
			w.out.WriteString(w.between)
		}
		if quote == QuoteAlways || quote == QuoteNeeded && w.needsQuotes(cell) {
			w.out.WriteByte('"')
			w.out.WriteString(strings.ReplaceAll(cell, `"`, `""`))
			w.out.WriteByte('"')
		} else {
			w.out.WriteString(cell)
		}
	}
	_, err := w.out.WriteString(w.layout.File.LineEnd) // which has the first error of all
	return err
}

// needsQuotes reports whether a cell would be read otherwise without (RFC 4180 section 2).
func (w *Writer) needsQuotes(cell string) bool {
	if cell == "" {
		return false
	}
	for i := range len(cell) {
		if w.special[cell[i]] {
			return true
		}
	}
	return cell[0] == ' ' || cell[len(cell)-1] == ' '
}

// object writes a line as an object of what is not blank.
func (w *Writer) object(cells []string) error {
	w.row.Reset()
	w.row.WriteByte('{')
	for i, cell := range cells {
		if cell == "" {
			continue
		}
		if w.row.Len() > 1 {
			w.row.WriteByte(',')
		}
		text, err := json.Marshal(cell)
		if err != nil {
			return err
		}
		w.row.Write(w.keys[i])
		w.row.Write(text)
	}
	w.row.WriteString("}\n")
	_, err := w.out.Write(w.row.Bytes())
	return err
}

// Close writes what is left.
func (w *Writer) Close() error {
	if w.book != nil {
		return w.book.Close()
	}
	return w.out.Flush()
}
