package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// An odsSource reads a tab of an OpenDocument spreadsheet (ISO/IEC 26300) row
// by row.
type odsSource struct {
	p     parts
	xml   *markup
	meter *meter
	tab   string
	tabs  []string

	text    []byte // of the cell at hand
	next    int    // number of the next row
	repeat  int    // times the row in cells is still to be given
	row     record
	rows    int // given so far
	hidden  [][2]int
	columns int     // described so far
	open    []merge // that reach the row at hand
	merged  []merge // in the rows that may be the headings'
}

func openODS(p parts, options Options) (*Sheet, error) {
	listed, err := p.odsTabs()
	if err != nil {
		return nil, p.broken(err)
	}
	if len(listed) == 0 {
		return nil, &Error{Name: p.name, Message: "has no tab with cells", Remedy: saveAgain}
	}
	var tabs []tab
	var names []string
	for _, t := range listed {
		names = append(names, t.name)
		tabs = append(tabs, tab{t.name, t.hidden, func() (*Sheet, error) {
			source := &odsSource{p: p, tab: t.name, tabs: names, next: 1}
			if err := source.begin(t.offset); err != nil {
				return nil, p.broken(err)
			}
			opened, err := startWorkbook(p.name, source, options)
			if err == nil {
				m := newMerges(source.merged)
				opened.info.Merged = m.headings(opened.info.Headings, opened.info.HeadingRow)
			}
			return opened, err
		}})
	}
	return pickTab(p.name, tabs, options)
}

// An odsTab is where a tab stands in the content.
type odsTab struct {
	name   string
	hidden bool
	offset int64
}

var (
	tabTags  = [][]byte{[]byte("<table:table "), []byte("<style:style "), []byte("<style:table-properties ")}
	tagParts = regexp.MustCompile(`([a-z]+:[a-z-]+)=(?:"([^"]*)"|'([^']*)')`)
)

// odsTabs lists the tabs. It looks for their tags in the text of the part, which
// is many times faster than reading it as XML.
func (p parts) odsTabs() ([]odsTab, error) {
	r, err := p.open("content.xml")
	if err != nil {
		return nil, err
	}
	const longest = 4 << 10 // of such a tag
	var tabs []odsTab
	hides := map[string]bool{} // styles of tables that are not shown
	style := ""
	buf := make([]byte, 0, 4*sampleSize)
	from := int64(0) // where buf begins
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return nil, err
		}
		done := 0
		for {
			at := nextTabTag(buf, done)
			end := bytes.IndexByte(buf[max(0, at):], '>')
			if at < 0 || end < 0 {
				break
			}
			done = at + end + 1
			tag := buf[at:done]
			value := map[string]string{}
			for _, part := range tagParts.FindAllSubmatch(tag, -1) {
				value[string(part[1])] = html.UnescapeString(string(part[2]) + string(part[3]))
			}
			switch {
			case bytes.HasPrefix(tag, []byte("<style:style")):
				style = value["style:name"]
			case bytes.HasPrefix(tag, []byte("<style:table-p")):
				hides[style] = value["table:display"] == "false"
			case value["table:name"] != "":
				tabs = append(tabs, odsTab{value["table:name"], hides[value["table:style-name"]], from + int64(at)})
			}
		}
		if last {
			return tabs, nil
		}
		// A tag may go on in what is still to be read.
		keep := max(done, len(buf)-longest)
		from += int64(keep)
		buf = append(buf[:0], buf[keep:]...)
	}
}

// nextTabTag finds the next tag, from a place on, that says something of tabs; or -1.
func nextTabTag(buf []byte, from int) int {
	first := -1
	for _, tag := range tabTags {
		until := len(buf)
		if first >= 0 {
			until = min(until, first+len(tag))
		}
		if i := bytes.Index(buf[from:until], tag); i >= 0 && (first < 0 || from+i < first) {
			first = from + i
		}
	}
	return first
}

// begin reads up to where a tab stands.
func (s *odsSource) begin(offset int64) error {
	r, err := s.p.open("content.xml")
	if err != nil {
		return err
	}
	if _, err := io.CopyN(io.Discard, r, offset); err != nil {
		return unexpected(err)
	}
	s.meter = &meter{r: r, left: maxRecord}
	s.xml = newMarkup(s.meter)
	_, err = s.xml.next() // the tab's own tag
	return err
}

// attribute returns an attribute of the tag at hand.
func (m *markup) attribute(name string) string {
	for _, a := range m.attrs {
		if string(a.name) == name {
			return string(a.value)
		}
	}
	return ""
}

// times reads how often the element at hand is to be repeated.
func (m *markup) times(name string) int {
	n, err := strconv.Atoi(m.attribute(name))
	if err != nil || n < 1 {
		return 1
	}
	return n
}

func (s *odsSource) describe(info *Info) {
	info.Format, info.Tab, info.Tabs, info.Read.Records = "ODS", s.tab, s.tabs, s.rows
	info.Hidden = headingsIn(info.Headings, s.hidden)
}

// maxRows is how many rows a spreadsheet has (2^20).
const maxRows = 1 << 20

// read implements source.
func (s *odsSource) read() (record, error) {
	if s.repeat > 0 {
		return s.again(), nil
	}
	s.meter.left = maxRecord
	for {
		kind, err := s.xml.next()
		if err != nil {
			return record{}, s.p.broken(unexpected(err))
		}
		switch name := s.xml.name; {
		case kind == startTag && string(name) == "table-column":
			n := s.xml.times("number-columns-repeated")
			if shown := s.xml.attribute("visibility"); shown == "collapse" || shown == "filter" {
				s.hidden = append(s.hidden, [2]int{s.columns, s.columns + n - 1})
			}
			s.columns += n
		case kind == startTag && string(name) == "table-row":
			if err := s.readRow(); err != nil {
				return record{}, s.p.broken(err)
			}
			if isBlank(s.row.cells) {
				s.next, s.repeat = s.next+s.repeat, 0
				s.meter.left = maxRecord
				continue
			}
			if s.next+s.repeat > maxRows+1 {
				return record{}, s.p.broken(fmt.Errorf("row %d is repeated %d times, beyond the last row a spreadsheet has", s.next, s.repeat))
			}
			return s.again(), nil
		case kind == endTag && string(name) == "table":
			return record{}, s.p.readOut(s.meter.r)
		}
	}
}

// again gives the row that was read once more. Its cells are a copy, as the
// caller may change them.
func (s *odsSource) again() record {
	rec := s.row
	rec.number, rec.cells = s.next, slices.Clone(rec.cells)
	s.open, rec.merged = covered(s.open, s.next)
	s.next, s.repeat, s.rows = s.next+1, s.repeat-1, s.rows+1
	return rec
}

// readRow reads the cells of a row that has been begun.
func (s *odsSource) readRow() error {
	shown := s.xml.attribute("visibility")
	s.row = record{cells: s.row.cells[:0], kinds: s.row.kinds[:0], hidden: shown == "collapse" || shown == "filter"}
	s.repeat = s.xml.times("number-rows-repeated")
	blank := 0 // cells passed over since the last with a value
	for {
		kind, err := s.xml.next()
		if err != nil {
			return unexpected(err)
		}
		name := s.xml.name
		if kind == endTag && string(name) == "table-row" {
			return nil
		}
		if kind != startTag || string(name) != "table-cell" && string(name) != "covered-table-cell" {
			continue
		}
		if blank, err = s.takeCell(blank); err != nil {
			return err
		}
	}
}

// takeCell reads a cell that has been begun, before which so many blank ones stand, and returns how many do now.
func (s *odsSource) takeCell(blank int) (int, error) {
	c := s.described()
	text, kind, err := s.cell(c)
	if err != nil {
		return blank, err
	}
	if text == "" && kind == Plain {
		return blank + c.times, nil
	}
	if len(s.row.cells)+blank+c.times > MaxColumns {
		return blank, fmt.Errorf("row %d has more than the %d columns a sheet may have", s.next, MaxColumns)
	}
	for ; blank > 0; blank-- {
		s.row.cells, s.row.kinds = append(s.row.cells, ""), append(s.row.kinds, Plain)
	}
	if c.wide*c.high > 1 {
		area := merge{len(s.row.cells), len(s.row.cells) + min(c.wide, MaxColumns) - 1, s.next, s.next + min(c.high, maxRows) - 1}
		if s.open = append(s.open, area); s.next <= deepestHeading {
			s.merged = append(s.merged, area)
		}
	}
	for range c.times {
		s.row.cells, s.row.kinds = append(s.row.cells, text), append(s.row.kinds, kind)
	}
	return 0, nil
}

// An odsCell is what a cell's tag says of it.
type odsCell struct {
	covered           bool
	times, wide, high int
	kind, value       string
	faulty            bool // it holds an error
	formula, inTag    bool // the text stands in the tag
}

// described reads the tag of a cell.
func (s *odsSource) described() odsCell {
	c := odsCell{covered: string(s.xml.name) != "table-cell", times: 1, wide: 1, high: 1}
	number := func(text []byte) int {
		n, err := strconv.Atoi(string(text))
		if err != nil || n < 1 {
			return 1
		}
		return n
	}
	for _, a := range s.xml.attrs {
		switch string(a.name) {
		case "number-columns-repeated":
			c.times = number(a.value)
		case "number-columns-spanned":
			c.wide = number(a.value)
		case "number-rows-spanned":
			c.high = number(a.value)
		case "value-type":
			if string(a.prefix) == "calcext" {
				c.faulty = c.faulty || string(a.value) == "error"
			}
			c.kind = string(a.value)
		case "value", "date-value", "boolean-value":
			c.value = string(a.value)
		case "formula":
			c.formula = len(a.value) > 0
		case "string-value":
			c.inTag = true
		}
	}
	return c
}

// cell reads what a cell holds, up to its end.
func (s *odsSource) cell(c odsCell) (string, CellKind, error) {
	element := "table-cell"
	if c.covered {
		element = "covered-table-cell"
	}
	shown, paragraphs, err := s.paragraphs(element)
	if err != nil {
		return "", Plain, err
	}
	if c.faulty {
		return shown, Faulty, nil
	}
	switch c.kind {
	case "float", "percentage", "currency":
		number, err := strconv.ParseFloat(c.value, 64)
		if err != nil {
			return "", Plain, fmt.Errorf("“%s” is stored as a number and is none", c.value)
		}
		if (number == 0 || number == 1) && shown != "" && !strings.ContainsAny(shown, "0123456789") {
			return strings.ToUpper(strconv.FormatBool(number == 1)), Logical, nil // its format is that of yes and no
		}
		return paddedAs(shown, numberText(c.value, number)), Numeric, nil
	case "date":
		return strings.TrimSuffix(strings.Replace(c.value, "T", " ", 1), " 00:00:00"), Dated, nil
	case "boolean":
		return strings.ToUpper(c.value), Logical, nil
	case "time":
		return shown, Dated, nil
	}
	// A formula that came to nothing is saved with a blank paragraph, and one that was
	// never calculated with none.
	if c.formula && paragraphs == 0 && c.kind == "" && !c.inTag {
		return "", Uncalculated, nil
	}
	return shown, Plain, nil
}

// asShown are numbers that are shown as codes: digits with signs between them, and
// perhaps a prefix.
var asShown = regexp.MustCompile(`^([^0-9]*)([0-9][0-9 \-()/]*)$`)

// paddedAs returns what is shown of a number if that is the number itself with
// zeros in front, signs between its digits or a prefix with a letter; else the
// number.
func paddedAs(shown, number string) string {
	parts := asShown.FindStringSubmatch(shown)
	if parts == nil {
		return number
	}
	digits := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, parts[2])
	prefix := strings.Trim(parts[1], " -()/+~#:.,€$£")
	switch {
	case digits != number && (len(digits) <= len(number) || strings.TrimLeft(digits, "0") != strings.TrimLeft(number, "0")):
		return number
	case prefix == "" && strings.Trim(parts[1], " (") != "":
		return number // a sign or a currency
	}
	return shown
}

// paragraphs reads the text of a cell up to its end, and how many paragraphs it has;
// comments on the cell are none of it.
func (s *odsSource) paragraphs(element string) (shown string, count int, err error) {
	text := s.text[:0]
	defer func() { s.text = text }()
	in, aside := 0, 0
	for {
		kind, err := s.xml.next()
		if err != nil {
			return "", 0, unexpected(err)
		}
		name := s.xml.name
		switch kind {
		case startTag:
			switch string(name) {
			case "annotation":
				aside++
			case "p":
				if in++; in == 1 && aside == 0 {
					if count > 0 {
						text = append(text, '\n')
					}
					count++
				}
			case "s":
				if aside == 0 {
					text = append(text, strings.Repeat(" ", min(s.xml.times("c"), 1000))...)
				}
			case "tab":
				text = append(text, '\t')
			case "line-break":
				text = append(text, '\n')
			}
		case characters:
			if in > 0 && aside == 0 {
				text = append(text, s.xml.text...)
			}
		case endTag:
			switch string(name) {
			case "annotation":
				aside--
			case "p":
				in--
			case element:
				return string(text), count, nil
			}
		}
	}
}
