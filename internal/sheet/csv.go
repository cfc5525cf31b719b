package sheet

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
)

// A csvSource reads text with separated values (RFC 4180), as people really have
// them: quotes inside a cell that is not quoted are letters, and blanks between a
// closing quote and the separator are none. What could make rows vanish is an
// error: a quote that is left open, or closed where nothing closes.
type csvSource struct {
	name  string
	in    *bufio.Reader
	text  *textReader
	comma byte
	next  int // number of the next row
	wide  int // cells of the widest row so far
	last  int // cells of the row read last
	full  int // rows that are as wide as the widest

	unended bool // the line read last has no end
	cells   []string
	cut     cutter

	records  int // read so far, with empty lines
	lines    int // of the file, read so far
	inner    int // of those, that go on with a cell
	empty    int // of those, with nothing in them
	declared int // of those, that name the separator
}

// newCSV readies text with separated values.
func newCSV(name string, text *textReader, decoded *bufio.Reader, options Options) (*csvSource, error) {
	decoded = bufio.NewReaderSize(&newlines{from: decoded}, sampleSize)
	start, err := decoded.Peek(sampleSize / 2)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, &Error{Name: name, Message: err.Error()}
	}
	s := &csvSource{name: name, in: decoded, text: text, next: 1}
	if comma, length, ok := declaredSeparator(start); ok {
		s.comma, s.lines, s.declared = byte(comma), 1, 1
		if _, err := decoded.Discard(length); err != nil {
			return nil, &Error{Name: name, Message: err.Error()}
		}
	} else if comma, ok := columnSeparator(start, len(options.Columns)); ok {
		s.comma = comma
	} else if comma, ok := headingSeparator(start, options.recognise); ok {
		s.comma = byte(comma)
	} else {
		s.comma = byte(findSeparator(start))
	}
	return s, nil
}

// columnSeparator is what makes most of the first lines have a number of columns.
func columnSeparator(start []byte, columns int) (comma byte, ok bool) {
	if columns < 2 {
		return 0, false
	}
	most := 0
	for _, c := range []byte("\t|;:,") { // of two that fit alike, the one that is rarer within cells
		fit := 0
		for i, line := range strings.Split(string(start), "\n") {
			if i < 50 && strings.Count(line, string(c)) == columns-1 {
				fit++
			}
		}
		if fit > most {
			comma, most = c, fit
		}
	}
	return comma, most > 0
}

func (s *csvSource) describe(info *Info) {
	info.Format, info.Separator = "CSV", separatorName(rune(s.comma))
	s.text.describe(info)
	info.Read.Lines, info.Read.Inner, info.Read.Declared = s.lines, s.inner, s.declared
	info.Read.Records = s.records
	info.Read.Cut = s.unended && s.last < len(info.Headings) && s.full > 1
	info.Read.Blank += s.empty
}

// read returns the next record with its row number. Empty lines are passed over,
// which a spreadsheet numbers, and a quoted cell may span lines, which it doesn't.
func (s *csvSource) read() (record, error) {
	for {
		line, err := s.line()
		if err != nil {
			return record{}, err
		}
		number := s.next
		s.next, s.records = s.next+1, s.records+1
		if line == "" {
			s.empty++
			continue
		}
		rec := record{number: number, line: s.lines, certain: s.text.certain}
		guards := true // there may be some
		if strings.IndexByte(line, '"') < 0 {
			s.plain(line)
			guards = strings.IndexByte(line, '\'') >= 0
		} else if err := s.quoted(line); err != nil {
			return rec, err
		}
		if len(s.cells) > s.wide {
			s.full = 0
		}
		s.wide, s.last = max(s.wide, len(s.cells)), len(s.cells)
		if s.last == s.wide {
			s.full++
		}
		if guards {
			for i, cell := range s.cells {
				s.cells[i] = unguarded(cell)
			}
		}
		rec.cells = s.cells
		return rec, nil
	}
}

// readLine returns the next line with its end, like bufio.Reader.ReadString; of one that is
// longer than any row may be, errTooLong.
func readLine(in *bufio.Reader) (string, error) {
	piece, err := in.ReadSlice('\n')
	text := string(piece)
	for errors.Is(err, bufio.ErrBufferFull) {
		piece, err = in.ReadSlice('\n')
		if text += string(piece); len(text) > maxRecord {
			return "", errTooLong
		}
	}
	return text, err
}

// line returns the next line of the file without its end.
func (s *csvSource) line() (string, error) {
	text, err := readLine(s.in)
	switch {
	case errors.Is(err, errTooLong):
		return "", s.tooLong(s.lines + 1)
	case errors.Is(err, io.EOF) && text == "":
		return "", io.EOF
	case err != nil && !errors.Is(err, io.EOF):
		return "", &Error{s.name, s.lines + 1, "the file cannot be read on: " + err.Error(), "The file is cut short or damaged: fetch it again."}
	}
	s.lines++
	s.unended = err != nil
	text = strings.TrimSuffix(text, "\n")
	return strings.TrimSuffix(text, "\r"), nil
}

func (s *csvSource) tooLong(line int) error {
	return &Error{s.name, line, fmt.Sprintf("row %d, which begins about here, is over %d MiB long", s.next, maxRecord>>20),
		"A quote is likely opened in this row and not closed. Close it, or take it out."}
}

// plain cuts a line without quotes into cells.
func (s *csvSource) plain(line string) {
	s.cells = s.cells[:0]
	for {
		at := strings.IndexByte(line, s.comma)
		if at < 0 {
			s.cells = append(s.cells, line)
			return
		}
		s.cells = append(s.cells, line[:at])
		line = line[at+1:]
	}
}

// quoted cuts a line with quotes into cells, reading on where a quoted cell goes
// over several lines.
func (s *csvSource) quoted(line string) error {
	first, cut := s.lines, &s.cut
	if cut.more == nil {
		cut.comma, cut.more = s.comma, func() (string, error) {
			next, err := s.line()
			if errors.Is(err, io.EOF) {
				return "", errOpen
			}
			return next, err
		}
	}
	cells, err := cut.cut(s.cells[:0], line)
	if (err != nil || cut.bare) && s.lines == first && strings.Contains(line, `\"`) {
		// Some programs write a quote within a cell as \" and not twice.
		again := cutter{comma: s.comma, escaped: true, more: func() (string, error) { return "", errOpen }}
		if other, otherErr := again.cut(nil, line); otherErr == nil && !again.bare {
			cells, err = other, nil
		}
	}
	if err != nil {
		return s.doubt(err, first, cut.opened)
	}
	s.cells = cells
	s.inner += s.lines - first
	if s.lines > first && s.swallowed(cut.lines) > 0 {
		return &Error{s.name, first, fmt.Sprintf("a quote is opened here and closed %d %s further down, and what is between looks like rows of their own", s.lines-first, map[bool]string{true: "line", false: "lines"}[s.lines-first == 1]),
			"Close the quote, or take it out. If the line breaks are meant to be in the cell, take them out of it."}
	}
	return nil
}

// doubt tells why a record that begins in a line could not be cut.
func (s *csvSource) doubt(err error, first, opened int) error {
	switch {
	case errors.Is(err, errTooLong):
		return s.tooLong(first)
	case errors.Is(err, errOpen):
		return &Error{s.name, first + opened, "a quote is opened here and not closed before the end of the file", "Close the quote, or take it out."}
	case errors.Is(err, errBare):
		return &Error{s.name, first + opened, fmt.Sprintf("a quote is opened here and not closed rightly: a quote within the cell, in line %d, ends it in the midst of a text", s.lines), "Close the quote behind its cell, and write a quote within a cell twice."}
	}
	return err
}

// swallowed counts the lines of a row over several that look like rows of their
// own.
func (s *csvSource) swallowed(lines []cutLine) (rows int) {
	wide, last := s.wide, len(lines)-1
	switch wide {
	case 0:
		wide = lines[0].separators(s.comma) + 1 // these are the headings
	case 1:
		return last // of one column nobody can tell
	}
	for _, line := range lines[1:last] {
		if n := line.separators(s.comma) + 1; line.inside && n > 1 && (n == wide || n == s.last) {
			rows++
		}
	}
	if wide > 1 && lines[0].separators(s.comma)+1 >= wide && lines[last].separators(s.comma)+1 >= wide {
		rows++
	}
	return rows
}

// What a cutter gives up for.
var (
	errOpen    = errors.New("a quote is left open")
	errBare    = errors.New("a quote stands in the midst of a cell over several lines or cells")
	errTooLong = errors.New("the row is too long")
)

// A cutter cuts one record into cells.
type cutter struct {
	comma   byte
	escaped bool                   // a quote within a cell is written \"
	more    func() (string, error) // the next line of a cell that goes on

	bare   bool // a quote within a quoted cell was neither doubled nor its end
	opened int  // line of the record, from 0, in which the cell at hand begins
	lines  []cutLine
}

// A cutLine is a line of the file that a record takes.
type cutLine struct {
	text   string
	inside bool // it lies within one cell from end to end
}

func (c *cutter) begin(line string) { c.lines = append(c.lines, cutLine{line, len(c.lines) > 0}) }

// separators is how many there are in a line, within quotes or not.
func (l cutLine) separators(comma byte) int { return strings.Count(l.text, string(comma)) }

func (c *cutter) cut(cells []string, line string) ([]string, error) {
	c.bare, c.lines = false, c.lines[:0]
	c.begin(line)
	for {
		cell := ""
		if strings.HasPrefix(line, `"`) {
			var err error
			if cell, line, err = c.inQuotes(line[1:]); err != nil {
				return cells, err
			}
		} else if at := strings.IndexByte(line, c.comma); at >= 0 {
			cell, line = line[:at], line[at:]
		} else {
			cell, line = line, ""
		}
		cells = append(cells, cell)
		if line == "" {
			return cells, nil
		}
		line = line[1:]
	}
}

// inQuotes reads a cell whose quote was opened; rest begins with the separator
// behind it, or is empty.
func (c *cutter) inQuotes(line string) (cell, rest string, err error) {
	c.opened = len(c.lines) - 1
	// Nearly all cells have no quote within.
	if at := strings.IndexByte(line, '"'); at >= 0 && (at+1 == len(line) || line[at+1] == c.comma) && !(c.escaped && at > 0 && line[at-1] == '\\') {
		return line[:at], line[at+1:], nil
	}
	var text strings.Builder
	bare := -1 // length of the text before the first bare quote
	for {
		at := strings.IndexByte(line, '"')
		if at < 0 {
			text.WriteString(line)
			text.WriteByte('\n')
			if bare >= 0 {
				return "", "", errBare
			}
			if line, err = c.more(); err != nil {
				return "", "", err
			}
			if text.Len()+len(line) > maxRecord {
				return "", "", errTooLong
			}
			c.begin(line)
			continue
		}
		if c.escaped && at > 0 && line[at-1] == '\\' {
			text.WriteString(line[:at-1] + `"`)
			line = line[at+1:]
			continue
		}
		text.WriteString(line[:at])
		line = line[at+1:]
		behind := strings.TrimLeft(line, " ")
		if c.comma != '\t' {
			behind = strings.TrimLeft(line, " \t")
		}
		switch {
		case behind == "" || behind[0] == c.comma:
			if bare >= 0 && strings.IndexByte(text.String()[bare:], c.comma) >= 0 {
				return "", "", errBare // it may as well be two cells
			}
			c.lines[len(c.lines)-1].inside = false
			return text.String(), behind, nil
		case line[0] == '"':
			text.WriteByte('"')
			line = line[1:]
		case len(c.lines)-1 > c.opened:
			return "", "", errBare
		default:
			c.bare = true
			if bare < 0 {
				bare = text.Len()
			}
			text.WriteByte('"')
		}
	}
}

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
