package sheet

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// A csvSource reads text with separated values.
type csvSource struct {
	name  string
	csv   *csv.Reader
	text  *textReader
	meter *meter
	next  int // number of the row at nextLine
	line  int // first line of the file not yet accounted for
	comma rune
	wide  int // cells of the widest row so far
}

// newCSV readies text with separated values.
func newCSV(name string, text *textReader, decoded *bufio.Reader, options Options) (*csvSource, error) {
	start, err := decoded.Peek(sampleSize / 2)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, &Error{Name: name, Message: err.Error()}
	}
	s := &csvSource{name: name, text: text, next: 1, line: 1}
	if comma, length, ok := declaredSeparator(start); ok {
		s.comma = comma
		if _, err := decoded.Discard(length); err != nil {
			return nil, &Error{Name: name, Message: err.Error()}
		}
	} else if comma, ok := headingSeparator(start, options.Recognise); ok {
		s.comma = comma
	} else {
		s.comma = findSeparator(start)
	}
	s.meter = &meter{r: decoded}
	s.csv = csv.NewReader(s.meter)
	s.csv.Comma, s.csv.FieldsPerRecord, s.csv.LazyQuotes, s.csv.ReuseRecord = s.comma, -1, true, true
	return s, nil
}

func (s *csvSource) describe(info *Info) {
	info.Format, info.Separator, info.Encoding = "CSV", separatorName(s.comma), s.text.encoding
}

// read returns the next record with its row number.
func (s *csvSource) read() (record, error) {
	s.meter.left = maxRecord
	cells, err := s.csv.Read()
	if errors.Is(err, io.EOF) {
		return record{}, io.EOF
	}
	if errors.Is(err, errTooLong) {
		return record{}, &Error{s.name, s.line,
			fmt.Sprintf("row %d, which begins about here, is over %d MiB long", s.next, maxRecord>>20),
			"A quote is likely opened in this row and not closed. Close it, or take it out."}
	}
	if err != nil {
		return record{}, &Error{s.name, s.line, err.Error(), "Save the sheet again as CSV."}
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
	s.wide = max(s.wide, len(cells))
	return record{number: number, line: first, cells: cells}, nil
}

// swallowed looks for rows that an unclosed quote made part of a cell.
func (s *csvSource) swallowed(cells []string, line int) error {
	wide := max(2, s.wide/2)
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
			return &Error{s.name, line,
				fmt.Sprintf("a quote is opened here and not closed, so that %d lines below would become part of one cell", strings.Count(cell, "\n")),
				"Close the quote, or take it out."}
		}
	}
	return nil
}

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
