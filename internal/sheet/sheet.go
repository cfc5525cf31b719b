// Package sheet reads and writes tabular files as rows that know where they
// stand: by the number a spreadsheet program shows beside them.
//
// A Sheet streams: it holds the first rows, to find the headings among them, and
// after that one row at a time. It promises that everything in the file is
// accounted for (Tally says as what), that no row is dropped but blank ones, and
// that whatever it cannot read is an *Error with the line. The format is found by
// looking into the file, whatever its name says. What a heading or a cell means is
// left to package mapping.
package sheet

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"unicode/utf8"

	"evenledger/internal/told"
	"evenledger/internal/words"
)

// Caps that keep a broken or hostile file from filling the memory.
const (
	MaxColumns     = 2000
	maxRecord      = 4 << 20 // bytes of one row
	maxHeading     = 1000    // bytes of one heading
	headingDepth   = 20      // rows among which the headings are looked for
	deepestHeading = 1000    // the last row in which headings may stand
	sampleSize     = 64 << 10
)

// ours begins the headings of the columns that fix sheets add; such columns are
// passed over when a fix sheet is handed back in.
const ours = "Even Ledger "

// Options say how to read a sheet. The zero value finds everything out.
type Options struct {
	Tab        string                    // of a workbook, or the list of a JSON file; empty: the one whose headings fit best
	Tabs       []string                  // of a workbook, read as one sheet, one below the other; AllTabs: those with the same headings as the one that fits best
	Columns    []string                  // what the columns are called, of a file without headings; nil: it has some
	HeadingRow int                       // row of the headings, from 1; 0: look for it
	Encoding   string                    // of text, by its name in the registry of character sets; empty: look
	Recognise  func(heading string) bool // whether a text is a known heading; helps to find the row
	Named      func(heading string) bool // whether the brief names a heading, which weighs more
	AnyTab     bool                      // of tabs that fit alike the first will do
	End        End                       // where the list ends; zero: look
	Most       int64                     // bytes that a packed file may come to; 0: 16 GiB
	Stop       <-chan struct{}           // closed when nobody wants the rest; reading what keeps its reader waiting ends with ErrStopped
}

// recognise reports whether a text is a heading that is known or named.
func (o Options) recognise(heading string) bool {
	return o.Recognise != nil && o.Recognise(heading) || o.Named != nil && o.Named(heading)
}

// Info is what was found out about a sheet.
type Info struct {
	Name       string     `json:"name"`
	Format     string     `json:"format"`                    // "CSV", "XLSX", "ODS", "JSON", "JSON lines"
	Compressed bool       `json:"compressed,omitempty"`      // the file is in gzip
	Encoding   string     `json:"encoding,omitempty"`        // of text: "UTF-8", "UTF-16LE", "windows-1250", …
	Guessed    []Guess    `json:"guessed,omitempty"`         // the encoding was guessed: words for which it matters
	Doubted    bool       `json:"encodingInDoubt,omitempty"` // the words fit another encoding about as well
	Separator  string     `json:"separator,omitempty"`       // of CSV: "comma", "semicolon", "tab", "pipe"
	Tab        string     `json:"tab,omitempty"`             // of a workbook
	Tabs       []string   `json:"tabs,omitempty"`            // every tab of it
	Others     []OtherTab `json:"otherTabs,omitempty"`       // that have rows under such headings as well, and are not read; unless a tab was named
	Below      []TabBelow `json:"tabsBelow,omitempty"`       // that are read as one sheet with the tab, as far as their rows are read
	HeadingRow int        `json:"headingRow"`                // from 1; 0: there is none, as in JSON
	Headings   []string   `json:"headings"`                  // as written, trimmed
	Above      [][]string `json:"aboveHeadings,omitempty"`   // the rows above the headings, as they stand
	Hidden     []string   `json:"hiddenColumns,omitempty"`   // headings of columns that the spreadsheet program doesn't show
	Merged     []string   `json:"mergedHeadings,omitempty"`  // headings that stretch over columns to their right
	Read       Tally      `json:"read,omitzero"`
}

// An OtherTab is a tab of a workbook that is not read.
type OtherTab struct {
	Name   string `json:"name"`
	Hidden bool   `json:"hidden,omitempty"`
	Rows   int    `json:"rows"`
}

// A TabBelow is a tab that is read as if it stood below the others.
type TabBelow struct {
	Name   string `json:"name"`
	Before int    `json:"rowsBefore"` // how many rows of the others come before: the number of a row is that much more than in the tab itself
}

// A Guess is a word of a text whose encoding nobody says, as it was read and as it
// would read in other encodings.
type Guess struct {
	Line   int      `json:"line"`
	Word   string   `json:"word"`
	Others []string `json:"others"` // with the encoding: "Łukasz (windows-1250)"
}

// A Tally counts what was in a file and what became of it. Once a sheet is read to
// its end both sides come out even.
type Tally struct {
	Lines    int  `json:"lines,omitempty"`         // of a text file
	Declared int  `json:"separatorLine,omitempty"` // of those: names the separator
	Inner    int  `json:"innerLines,omitempty"`    // of those: go on with a cell begun above
	Records  int  `json:"records"`                 // rows of the table, or objects
	Blank    int  `json:"blank"`                   // of those: with nothing in them
	Above    int  `json:"above"`                   // titles above the headings
	Headings int  `json:"headings"`                // the headings
	Rows     int  `json:"rows"`                    // rows below, handed out
	Repeated int  `json:"repeatedHeadings"`        // of Rows: have the headings again
	Ended    bool `json:"ended"`                   // the file was read to its end
	Cut      bool `json:"cut,omitempty"`           // its last line has no end, and fewer cells than others: it seems to break off
}

// Even reports whether everything read is accounted for. What was not read to its
// end is never uneven.
func (t Tally) Even() bool {
	return !t.Ended || t.Records == t.Blank+t.Above+t.Headings+t.Rows && (t.Lines == 0 || t.Lines == t.Declared+t.Inner+t.Records)
}

// A CellKind says what a spreadsheet program took a cell for. Cells of text
// files are all Plain.
type CellKind uint8

// The kinds of cell.
const (
	Plain        CellKind = iota
	Numeric               // a number, written as the program shows it where its format pads it
	Dated                 // a date or time, written year-month-day hour:minute:second
	Logical               // TRUE or FALSE
	Faulty                // an error such as #N/A
	Uncalculated          // a formula whose value was not stored
	Listed                // several values, or one, that came as a list: as JoinItems writes them, where one has a semicolon in it
)

// A Row is one row of a sheet.
type Row struct {
	Number int        // as a spreadsheet program numbers it; in JSON the line or the item
	Cells  []string   // as they stand; there may be fewer or more than headings
	Kinds  []CellKind // one for each cell, or nil if all are Plain
	Hidden bool       // the spreadsheet program doesn't show the row
	Left   bool       // a selection leaves the row out

	Aside   string    // why the row is not one of the table's, such as headings repeated; or empty
	Doubt   string    // why it is perhaps none; or empty
	Below   bool      // of those: another list below the first seems to begin there, or has begun
	Certain Certainty // in which encoding its text is
	Merged  []int     // columns, from 0, whose cells are part of a larger one that begins elsewhere
	Twice   []int     // columns that the object gives two different values
}

// Kind returns the kind of the cell in column i, from 0.
func (r Row) Kind(i int) CellKind {
	if i < len(r.Kinds) {
		return r.Kinds[i]
	}
	return Plain
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

// Tell implements told.Error.
func (e *Error) Tell() told.Telling { return told.Telling{Message: e.Error(), Remedy: e.Remedy} }

// A source is the rows of one format.
type source interface {
	// read returns the next row, valid until the one after, or io.EOF.
	read() (record, error)
	// describe fills in what the source knows by now: how many records it read, against which rows are tallied, and what it
	// learned on the way.
	describe(*Info)
}

// record is a row as its source gave it.
type record struct {
	number int
	line   int // of the file; 0 where it has no lines
	cells  []string
	kinds  []CellKind
	hidden bool

	certain Certainty
	merged  []int
	twice   []int

	aside string // why it is nobody's row; or empty
	doubt string // why it is perhaps none; or empty
}

// A Sheet is a tabular file being read.
type Sheet struct {
	info    Info
	source  source
	close   func() error
	pending []record // read to find the headings, not yet handed out

	fit   fit  // of the headings
	lines bool // rows are lines, in which cells can be missing
	ours  bool // the program wrote the sheet
	ended bool
	tally Tally

	below     below
	further   further
	keys      map[string]bool // of the headings, as words.Key has them
	recognise func(heading string) bool
}

// A fit is how well headings are known.
type fit struct{ named, known int }

func (f fit) less(than fit) bool {
	return f.named < than.named || f.named == than.named && f.known < than.known
}

// like reports whether other headings are known about as well.
func (f fit) like(other fit) bool {
	return f.named > 0 && 2*other.named >= f.named || f.known > 0 && 2*other.known >= f.known
}

// Info returns what was found out. The encoding is sure once all rows are read.
func (s *Sheet) Info() Info {
	info := s.info
	info.Read = s.tally
	info.Read.Ended = s.ended && len(s.pending) == 0
	s.source.describe(&info)
	s.further.describe(&info)
	return info
}

// Close closes the file beneath.
func (s *Sheet) Close() error { return s.close() }

// Rows yields the rows below the headings, blank ones left out, and those of the tabs that are read as one sheet
// with this one. A row's cells are valid until the next. After an error nothing more is yielded.
func (s *Sheet) Rows() iter.Seq2[Row, error] {
	if len(s.further.tabs) == 0 {
		return s.rows()
	}
	return s.further.rows(s)
}

// rows yields the rows below the headings, blank ones left out. A row's cells
// are valid until the next. After an error nothing more is yielded.
func (s *Sheet) rows() iter.Seq2[Row, error] {
	return func(yield func(Row, error) bool) {
		var held []Row // that are odd
		release := func() bool {
			for _, row := range held {
				if !yield(row, nil) {
					return false
				}
			}
			held = held[:0]
			return true
		}
		for {
			rec, err := s.read()
			if err != nil {
				if release() && !errors.Is(err, io.EOF) {
					yield(Row{}, err)
				}
				return
			}
			if isBlank(rec.cells) {
				s.tally.Blank++
				continue
			}
			s.tally.Rows++
			if s.ours && !s.lines { // our CSV went through a spreadsheet program
				for i, cell := range rec.cells {
					rec.cells[i] = unguarded(cell)
				}
			}
			if !s.lines {
				// A spreadsheet program does not store the blank cells at the end of a row.
				for len(rec.cells) < len(s.info.Headings) {
					rec.cells = append(rec.cells, "")
				}
			}
			row := Row{Number: rec.number, Cells: rec.cells, Kinds: rec.kinds, Hidden: rec.hidden, Certain: rec.certain, Merged: rec.merged, Twice: rec.twice, Aside: rec.aside, Doubt: rec.doubt}
			s.strayRow(&row)
			if s.below.judge(s, &row) {
				row.Cells, row.Kinds = slices.Clone(row.Cells), slices.Clone(row.Kinds)
				if held = append(held, row); len(held) < lastingOdd {
					continue
				}
				s.below.lasts(s, held)
				row, held = held[len(held)-1], held[:len(held)-1]
			}
			if !release() || !yield(row, nil) {
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

func (s *Sheet) read() (record, error) {
	if len(s.pending) > 0 {
		rec := s.pending[0]
		s.pending = s.pending[1:]
		return rec, nil
	}
	if s.ended {
		return record{}, io.EOF
	}
	rec, err := s.source.read()
	s.ended = errors.Is(err, io.EOF)
	return rec, err
}

// findHeadings reads the first rows and settles which of them has the headings.
func (s *Sheet) findHeadings(options Options) error {
	s.recognise = options.recognise
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
		rec.cells, rec.kinds = slices.Clone(rec.cells), slices.Clone(rec.kinds)
		first = append(first, rec)
	}
	if options.Columns != nil && !(len(first) > 0 && slices.ContainsFunc(first[0].cells, IsOurs)) {
		s.info.Headings, s.pending = options.Columns, first
		return nil
	}
	at, fits := pickHeadings(first, options)
	s.fit = fits
	if at < 0 {
		if options.HeadingRow > 0 {
			return &Error{s.info.Name, 0, fmt.Sprintf("row %d, which the brief names as the headings', is blank or not there", options.HeadingRow), "Correct “heading_row” in the brief."}
		}
		return &Error{s.info.Name, 0, "has no headings: every row looked at is blank", "Add a first row with a heading above each column."}
	}
	heading := first[at]
	if heading.number > deepestHeading {
		return &Error{s.info.Name, heading.line, fmt.Sprintf("the first row with anything in it is row %d", heading.number), "Take the empty rows above it out."}
	}
	for _, rec := range first[:at] {
		if isBlank(rec.cells) {
			s.tally.Blank++
		} else {
			s.tally.Above++
		}
	}
	s.tally.Headings = 1
	for row := 1; row < heading.number; row++ {
		var cells []string
		for _, rec := range first[:at] {
			if rec.number == row {
				cells = rec.cells
			}
		}
		s.info.Above = append(s.info.Above, cells)
	}
	s.info.HeadingRow = heading.number
	s.pending = first[at+1:]
	return s.setHeadings(heading)
}

// setHeadings takes the cells of the heading row for headings.
func (s *Sheet) setHeadings(heading record) error {
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
		s.ours = s.ours || IsOurs(clean)
	}
	return nil
}

// pickHeadings returns the index of the row with the headings, or -1, and how well
// they are known.
func pickHeadings(rows []record, options Options) (at int, fits fit) {
	fallback := -1
	for i, rec := range rows {
		filled, known, fits := 0, 0, fit{}
		for _, cell := range rec.cells {
			clean, _ := words.Clean(cell)
			if clean == "" {
				continue
			}
			filled++
			if options.recognise(clean) {
				known++
			}
			if options.Recognise != nil && options.Recognise(clean) {
				fits.known++
			}
			if options.Named != nil && options.Named(clean) {
				fits.named++
			}
		}
		if options.HeadingRow > 0 {
			if rec.number == options.HeadingRow && filled > 0 {
				return i, fits
			}
			continue
		}
		if known >= 2 || known > 0 && 2*known >= filled {
			return i, fits
		}
		// Without a known heading the first row that is more than a title is it.
		if fallback < 0 && (filled > 1 || filled == 1 && len(rec.cells) == 1) {
			fallback = i
		}
	}
	return fallback, fit{}
}

// IsOurs reports whether a heading is of a column that a fix sheet added.
func IsOurs(heading string) bool { return strings.HasPrefix(heading, ours) }
