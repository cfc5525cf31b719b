package layout

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/transform"

	"evenledger/internal/sheet"
)

// A format is one that files can be in: a further one is a line of formats.
type format struct {
	name, ending string
	headed       bool // the headings, and what stands above them, are lines of the file
	texts        bool // cells are separated by a character of the layout's
	begin        func(*Layout, io.Writer) (lines, error)
}

// lines are what a file is written of.
type lines interface {
	write(cells []string) error
	held() int64 // bytes that are not in the file yet
	close() error
}

func formats() []format {
	return []format{
		{name: "csv", ending: ".csv", headed: true, texts: true, begin: beginText},
		{name: "xlsx", ending: ".xlsx", headed: true, begin: beginWorkbook},
		{name: "jsonl", ending: ".jsonl", begin: beginObjects},
	}
}

func formatNames() []string {
	var names []string
	for _, f := range formats() {
		names = append(names, f.name)
	}
	return names
}

// format is that of the layout's files.
func (l *Layout) format() format {
	all := formats()
	return all[max(0, slices.IndexFunc(all, func(f format) bool { return f.name == l.File.Format }))]
}

// A Writer writes one file in the form of a layout.
type Writer struct {
	lines
	n int
}

// NewWriter begins a file: what stands above the headings, and they.
func (l *Layout) NewWriter(w io.Writer) (*Writer, error) {
	f := l.format()
	begun, err := f.begin(l, w)
	if err != nil || !f.headed {
		return &Writer{lines: begun}, err
	}
	out := &Writer{lines: begun, n: len(l.Above)}
	return out, out.Write(l.Headings())
}

// Line is the number of the line that was written last, from 1.
func (w *Writer) Line() int { return w.n }

// Held is how many bytes of what was written are not in the file yet.
func (w *Writer) Held() int64 { return w.held() }

// Write writes one line.
func (w *Writer) Write(cells []string) error {
	w.n++
	return w.write(cells)
}

// Close writes what is left.
func (w *Writer) Close() error { return w.close() }

// A book is a workbook.
type book struct{ sheet.Writer }

func beginWorkbook(l *Layout, w io.Writer) (lines, error) {
	to, err := sheet.NewWriter(w, ".xlsx", sheet.Form{HeadingRow: len(l.Above) + 1})
	if err != nil {
		return nil, err
	}
	for _, line := range l.Above {
		if err := to.Write(strings.Split(line, string(l.File.Separator))); err != nil {
			return nil, err
		}
	}
	return book{to}, nil
}

func (b book) write(cells []string) error { return b.Write(cells) }
func (b book) held() int64                { return 0 }
func (b book) close() error               { return b.Close() }

// objects are lines of JSON.
type objects struct {
	out  *bufio.Writer
	keys [][]byte // each with its colon
	row  bytes.Buffer
}

func beginObjects(l *Layout, w io.Writer) (lines, error) {
	o := &objects{out: bufio.NewWriterSize(w, 64<<10)}
	for _, heading := range l.Headings() {
		key, err := json.Marshal(heading)
		if err != nil {
			return nil, err
		}
		o.keys = append(o.keys, append(key, ':'))
	}
	return o, nil
}

func (o *objects) held() int64  { return int64(o.out.Buffered()) }
func (o *objects) close() error { return o.out.Flush() }

// write writes a line as an object of what is not blank.
func (o *objects) write(cells []string) error {
	o.row.Reset()
	o.row.WriteByte('{')
	for i, cell := range cells {
		if cell == "" {
			continue
		}
		if o.row.Len() > 1 {
			o.row.WriteByte(',')
		}
		text, err := json.Marshal(cell)
		if err != nil {
			return err
		}
		o.row.Write(o.keys[i])
		o.row.Write(text)
	}
	o.row.WriteString("}\n")
	_, err := o.out.Write(o.row.Bytes())
	return err
}

// A text is lines of separated values.
type text struct {
	out     *bufio.Writer
	file    File
	between string    // the separator
	special [256]bool // bytes for which a cell needs quotes
}

func beginText(l *Layout, w io.Writer) (lines, error) {
	t := &text{file: l.File, between: string(l.File.Separator)}
	for _, b := range []byte("\"\r\n" + t.between) {
		t.special[b] = true
	}
	if l.File.encoding != nil {
		w = transform.NewWriter(w, l.File.encoding.NewEncoder())
	}
	t.out = bufio.NewWriterSize(w, 64<<10)
	if l.File.Mark {
		t.out.WriteString("\uFEFF")
	}
	for _, line := range l.Above {
		t.out.WriteString(line + l.File.LineEnd)
	}
	return t, nil
}

func (t *text) held() int64  { return int64(t.out.Buffered()) }
func (t *text) close() error { return t.out.Flush() }

func (t *text) write(cells []string) error {
	quote := t.file.Quote
	for i, cell := range cells {
		if i > 0 {
			t.out.WriteString(t.between)
		}
		if quote == QuoteAlways || quote == QuoteNeeded && t.needsQuotes(cell) {
			t.out.WriteByte('"')
			t.out.WriteString(strings.ReplaceAll(cell, `"`, `""`))
			t.out.WriteByte('"')
		} else {
			t.out.WriteString(cell)
		}
	}
	_, err := t.out.WriteString(t.file.LineEnd) // which has the first error of all
	return err
}

// needsQuotes reports whether a cell would be read otherwise without (RFC 4180 section 2).
func (t *text) needsQuotes(cell string) bool {
	if cell == "" {
		return false
	}
	for i := range len(cell) {
		if t.special[cell[i]] {
			return true
		}
	}
	return cell[0] == ' ' || cell[len(cell)-1] == ' '
}
