// Package sheet reads and writes tabular files as rows that know where they
// stand: by the number a spreadsheet program shows beside them.
//
// A Sheet streams: it holds the first rows, to find the headings among them, and
// after that one row at a time. It promises that no row is dropped in silence
// but blank ones, and that whatever it cannot read is an *Error with the line.
// What a heading or a cell means is left to package mapping.
package sheet

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"evenledger/internal/words"
)

// Caps that keep a broken or hostile file from filling the memory.
const (
	MaxColumns   = 2000
	maxRecord    = 4 << 20 // bytes of one row
	maxHeading   = 1000    // bytes of one heading
	headingDepth = 20      // rows among which the headings are looked for
	sampleSize   = 64 << 10
)

// ours begins the headings of the columns that fix sheets add; such columns are
// passed over when a fix sheet is handed back in.
const ours = "Even Ledger "

// Options say how to read a sheet. The zero value finds everything out.
type Options struct {
	HeadingRow int                       // row of the headings, from 1; 0: look for it
	Recognise  func(heading string) bool // whether a text is a known heading; helps to find the row
}

// Info is what was found out about a sheet.
type Info struct {
	Name       string     `json:"name"`
	Format     string     `json:"format"`                  // "CSV"
	Encoding   string     `json:"encoding"`                // "UTF-8", "UTF-16LE", "UTF-16BE", "Windows-1252"
	Separator  string     `json:"separator"`               // "comma", "semicolon", "tab", "pipe"
	HeadingRow int        `json:"headingRow"`              // from 1
	Headings   []string   `json:"headings"`                // as written, trimmed
	Above      [][]string `json:"aboveHeadings,omitempty"` // the rows above the headings, as they stand
}

// A Row is one row of a sheet.
type Row struct {
	Number int      // as a spreadsheet program numbers it
	Cells  []string // as they stand; there may be fewer or more than headings
}

// An Error says what is wrong with a sheet and where.
type Error struct {
	Name    string
	Line    int // line of the file, 0: the whole file
	Message string
	Remedy  string
}

func (e *Error) Error() string {
	where := e.Name
	if e.Line > 0 {
		where = fmt.Sprintf("%s: line %d", e.Name, e.Line)
	}
	return where + ": " + e.Message
}

// A Sheet is a tabular file being read.
type Sheet struct {
	info    Info
	csv     *csv.Reader
	text    *textReader
	meter   *meter
	close   func() error
	pending []record // read to find the headings, not yet handed out
	next    int      // number of the row at nextLine
	line    int      // first line of the file not yet accounted for
	comma   rune
}

// record is a row as the CSV reader gave it, or the reader's error.
type record struct {
	number int
	line   int
	cells  []string
}

// Open opens the file at path.
func Open(path string, options Options) (*Sheet, error) {
	name := filepath.Base(path)
	stat, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, &Error{Name: path, Message: "there is no such file", Remedy: missing(path)}
	case err != nil:
		return nil, &Error{Name: path, Message: err.Error()}
	case stat.IsDir():
		return nil, &Error{Name: path, Message: "is a folder, not a sheet", Remedy: "Name a file in it."}
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, &Error{Name: path, Message: err.Error(), Remedy: "Ask whoever made the file to let you read it."}
	}
	s, err := Read(name, file, options)
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	s.close = file.Close
	return s, nil
}

// missing suggests a file beside the one that isn't there.
func missing(path string) string {
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return "The folder does not exist either."
	}
	var names []string
	for _, entry := range entries {
		if !entry.IsDir() {
			names = append(names, entry.Name())
		}
	}
	if near := words.Nearest(filepath.Base(path), names); near != "" {
		return fmt.Sprintf("Did you mean “%s”?", near)
	}
	return "Look at the spelling and at the folder you are in."
}

// Read reads a sheet from r; name is what messages call it.
func Read(name string, r io.Reader, options Options) (*Sheet, error) {
	fail := func(message, remedy string) (*Sheet, error) {
		return nil, &Error{Name: name, Message: message, Remedy: remedy}
	}
	source := bufio.NewReaderSize(r, sampleSize)
	sample, err := source.Peek(sampleSize)
	if err != nil && !errors.Is(err, io.EOF) {
		return fail(err.Error(), "")
	}
	if len(sample) == 0 {
		return fail("is empty", "Save the sheet again, or ask for it anew.")
	}
	if kind := otherFormat(sample); kind != "" {
		return fail("is "+kind+", not a text with separated values", "Open it in the program it belongs to and save it as CSV UTF-8.")
	}
	text := newTextReader(source, sample)
	decoded := bufio.NewReaderSize(text, sampleSize)
	start, err := decoded.Peek(sampleSize / 2)
	if err != nil && !errors.Is(err, io.EOF) {
		return fail(err.Error(), "")
	}
	s := &Sheet{text: text, next: 1, line: 1, close: func() error { return nil }}
	if comma, length, ok := declaredSeparator(start); ok {
		s.comma = comma
		if _, err := decoded.Discard(length); err != nil {
			return fail(err.Error(), "")
		}
	} else {
		s.comma = findSeparator(start)
	}
	s.meter = &meter{r: decoded}
	s.csv = csv.NewReader(s.meter)
	s.csv.Comma, s.csv.FieldsPerRecord, s.csv.LazyQuotes, s.csv.ReuseRecord = s.comma, -1, true, true
	s.info = Info{Name: name, Format: "CSV", Separator: separatorName(s.comma)}
	if err := s.findHeadings(options); err != nil {
		return nil, err
	}
	return s, nil
}

// otherFormat recognises files that are no text by how they begin.
func otherFormat(sample []byte) string {
	for _, format := range []struct{ begins, kind string }{
		{"PK\x03\x04", "a workbook or another zip archive"},
		{"\xd0\xcf\x11\xe0", "a workbook of an old kind or a password-protected one"},
		{"%PDF-", "a PDF"},
		{"\x1f\x8b", "compressed (gzip)"},
		{"\x89PNG", "a picture"},
		{"\xff\xd8\xff", "a picture"},
		{"SQLite format 3\x00", "a database"},
		{"{\\rtf", "a word-processor document"},
	} {
		if strings.HasPrefix(string(sample), format.begins) {
			return format.kind
		}
	}
	begins := strings.ToLower(strings.TrimSpace(string(sample[:min(len(sample), 64)])))
	if strings.HasPrefix(begins, "<!doctype") || strings.HasPrefix(begins, "<html") || strings.HasPrefix(begins, "<?xml") {
		return "a web page or XML"
	}
	if isBinary(sample) {
		return "binary data"
	}
	return ""
}

// Info returns what was found out. The encoding is sure once all rows are read.
func (s *Sheet) Info() Info {
	info := s.info
	info.Encoding = s.text.encoding
	return info
}

// Close closes the file beneath.
func (s *Sheet) Close() error { return s.close() }

// Rows yields the rows below the headings, blank ones left out. A row's cells
// are valid until the next. After an error nothing more is yielded.
func (s *Sheet) Rows() iter.Seq2[Row, error] {
	return func(yield func(Row, error) bool) {
		for {
			rec, err := s.read()
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil {
				yield(Row{}, err)
				return
			}
			if isBlank(rec.cells) {
				continue
			}
			if !yield(Row{rec.number, rec.cells}, nil) {
				return
			}
		}
	}
}

func isBlank(cells []string) bool {
	for _, cell := range cells {
		if cell == "" {
			continue
		}
		if clean, _ := words.Clean(cell); clean != "" {
			return false
		}
	}
	return true
}

// read returns the next record with its row number.
func (s *Sheet) read() (record, error) {
	if len(s.pending) > 0 {
		rec := s.pending[0]
		s.pending = s.pending[1:]
		return rec, nil
	}
	s.meter.left = maxRecord
	cells, err := s.csv.Read()
	if errors.Is(err, io.EOF) {
		return record{}, io.EOF
	}
	if errors.Is(err, errTooLong) {
		return record{}, &Error{s.info.Name, s.line,
			fmt.Sprintf("row %d, which begins about here, is over %d MiB long", s.next, maxRecord>>20),
			"A quote is likely opened in this row and not closed. Close it, or take it out."}
	}
	if err != nil {
		return record{}, &Error{s.info.Name, s.line, err.Error(), "Save the sheet again as CSV."}
	}
	// The CSV reader passes over empty lines, which a spreadsheet numbers, and a
	// quoted cell may span lines, which it doesn't.
	first, _ := s.csv.FieldPos(0)
	last, _ := s.csv.FieldPos(len(cells) - 1)
	number := s.next + first - s.line
	s.next = number + 1
	s.line = last + strings.Count(cells[len(cells)-1], "\n") + 1
	for i, cell := range cells {
		if cell != "" && cell[0] == '\'' && IsGuarded(cell) {
			cells[i] = cell[1:]
		}
	}
	if s.line-first > 1 {
		if err := s.swallowed(cells, first); err != nil {
			return record{}, err
		}
	}
	return record{number, first, cells}, nil
}

// swallowed looks for rows that an unclosed quote made part of a cell.
func (s *Sheet) swallowed(cells []string, line int) error {
	wide := max(2, len(s.info.Headings)/2)
	for _, cell := range cells {
		if !strings.Contains(cell, "\n") {
			continue
		}
		rows := 0
		for inner := range strings.Lines(cell) {
			if strings.Count(inner, string(s.comma)) >= wide {
				rows++
			}
		}
		if rows > 1 {
			return &Error{s.info.Name, line,
				fmt.Sprintf("a quote is opened here and not closed, so that %d lines below would become part of one cell", strings.Count(cell, "\n")),
				"Close the quote, or take it out."}
		}
	}
	return nil
}

// findHeadings reads the first rows and settles which of them has the headings.
func (s *Sheet) findHeadings(options Options) error {
	var first []record
	for len(first) < max(headingDepth, options.HeadingRow) {
		rec, err := s.read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if len(rec.cells) > MaxColumns {
			return &Error{s.info.Name, rec.line, fmt.Sprintf("row %d has %d columns, more than the %d a sheet may have", rec.number, len(rec.cells), MaxColumns),
				"Take the columns out that are not needed."}
		}
		rec.cells = append([]string(nil), rec.cells...)
		first = append(first, rec)
	}
	at := pickHeadings(first, options)
	if at < 0 {
		if options.HeadingRow > 0 {
			return &Error{s.info.Name, 0, fmt.Sprintf("row %d, which the brief names as the headings', is blank or not there", options.HeadingRow), "Correct “heading_row” in the brief."}
		}
		return &Error{s.info.Name, 0, "has no headings: every row looked at is blank", "Add a first row with a heading above each column."}
	}
	heading := first[at]
	for row := 1; row < heading.number; row++ {
		var cells []string
		for _, rec := range first[:at] {
			if rec.number == row {
				cells = rec.cells
			}
		}
		s.info.Above = append(s.info.Above, cells)
	}
	headings := heading.cells
	for len(headings) > 0 {
		if clean, _ := words.Clean(headings[len(headings)-1]); clean != "" {
			break
		}
		headings = headings[:len(headings)-1]
	}
	for i, cell := range headings {
		clean, _ := words.Clean(cell)
		clean, _ = words.OneLine(clean)
		if len(clean) > maxHeading {
			return &Error{s.info.Name, heading.line, fmt.Sprintf("the heading of column %d is %d characters long", i+1, utf8.RuneCountInString(clean)), "Look for a quote that is opened and not closed."}
		}
		s.info.Headings = append(s.info.Headings, clean)
	}
	s.info.HeadingRow = heading.number
	s.pending = first[at+1:]
	return nil
}

// pickHeadings returns the index of the row with the headings, or -1.
func pickHeadings(rows []record, options Options) int {
	fallback := -1
	for i, rec := range rows {
		if options.HeadingRow > 0 {
			if rec.number == options.HeadingRow && !isBlank(rec.cells) {
				return i
			}
			continue
		}
		filled, known := 0, 0
		for _, cell := range rec.cells {
			clean, _ := words.Clean(cell)
			if clean == "" {
				continue
			}
			filled++
			if options.Recognise != nil && options.Recognise(clean) {
				known++
			}
		}
		if known >= 2 || known > 0 && 2*known >= filled {
			return i
		}
		// Without a known heading the first row that is more than a title is it.
		if fallback < 0 && (filled > 1 || filled == 1 && len(rec.cells) == 1) {
			fallback = i
		}
	}
	return fallback
}

// IsOurs reports whether a heading is of a column that a fix sheet added.
func IsOurs(heading string) bool { return strings.HasPrefix(heading, ours) }

var errTooLong = errors.New("the row is too long")

// meter is a reader that gives up when a row takes too many bytes.
type meter struct {
	r    io.Reader
	left int
}

func (m *meter) Read(p []byte) (int, error) {
	if m.left <= 0 {
		return 0, errTooLong
	}
	n, err := m.r.Read(p)
	m.left -= n
	return n, err
}
