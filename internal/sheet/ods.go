package sheet

import (
	"bytes"
	"encoding/xml"
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
	xml   *xml.Decoder
	meter *meter
	tab   string
	tabs  []string

	next    int // number of the next row
	repeat  int // times the row in cells is still to be given
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
	tableTag = regexp.MustCompile(`<(?:table:table|style:style|style:table-properties) [^>]*>`)
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
		for _, at := range tableTag.FindAllIndex(buf, -1) {
			done = at[1]
			tag := buf[at[0]:at[1]]
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
				tabs = append(tabs, odsTab{value["table:name"], hides[value["table:style-name"]], from + int64(at[0])})
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
	s.xml = xml.NewDecoder(s.meter)
	_, err = s.xml.RawToken() // the tab's own tag
	return err
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// times reads how often an element is to be repeated.
func times(e xml.StartElement, name string) int {
	n, err := strconv.Atoi(attribute(e, name))
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
		token, err := s.xml.RawToken()
		if err != nil {
			return record{}, s.p.broken(unexpected(err))
		}
		switch token := token.(type) {
		case xml.StartElement:
			switch token.Name.Local {
			case "table-column":
				n := times(token, "number-columns-repeated")
				if shown := attribute(token, "visibility"); shown == "collapse" || shown == "filter" {
					s.hidden = append(s.hidden, [2]int{s.columns, s.columns + n - 1})
				}
				s.columns += n
			case "table-row":
				if err := s.readRow(token); err != nil {
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
			}
		case xml.EndElement:
			if token.Name.Local == "table" {
				return record{}, s.p.readOut(s.meter.r)
			}
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
func (s *odsSource) readRow(e xml.StartElement) error {
	shown := attribute(e, "visibility")
	s.row = record{cells: s.row.cells[:0], kinds: s.row.kinds[:0], hidden: shown == "collapse" || shown == "filter"}
	s.repeat = times(e, "number-rows-repeated")
	blank := 0 // cells passed over since the last with a value
	for {
		token, err := s.xml.RawToken()
		if err != nil {
			return unexpected(err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			if name := token.Name.Local; name != "table-cell" && name != "covered-table-cell" {
				continue
			}
			n := times(token, "number-columns-repeated")
			text, kind, err := s.cell(token)
			if err != nil {
				return err
			}
			if text == "" && kind == Plain {
				blank += n
				continue
			}
			if len(s.row.cells)+blank+n > MaxColumns {
				return fmt.Errorf("row %d has more than the %d columns a sheet may have", s.next, MaxColumns)
			}
			for ; blank > 0; blank-- {
				s.row.cells, s.row.kinds = append(s.row.cells, ""), append(s.row.kinds, Plain)
			}
			if wide, high := times(token, "number-columns-spanned"), times(token, "number-rows-spanned"); wide*high > 1 {
				area := merge{len(s.row.cells), len(s.row.cells) + min(wide, MaxColumns) - 1, s.next, s.next + min(high, maxRows) - 1}
				if s.open = append(s.open, area); s.next <= deepestHeading {
					s.merged = append(s.merged, area)
				}
			}
			for range n {
				s.row.cells, s.row.kinds = append(s.row.cells, text), append(s.row.kinds, kind)
			}
		case xml.EndElement:
			if token.Name.Local == "table-row" {
				return nil
			}
		}
	}
}

// cell reads a cell that has been begun.
func (s *odsSource) cell(e xml.StartElement) (string, CellKind, error) {
	shown, paragraphs, err := s.paragraphs(e.Name.Local)
	if err != nil {
		return "", Plain, err
	}
	value := map[string]string{}
	for _, a := range e.Attr {
		if a.Name.Space == "calcext" && a.Name.Local == "value-type" && a.Value == "error" {
			return shown, Faulty, nil
		}
		value[a.Name.Local] = a.Value
	}
	switch value["value-type"] {
	case "float", "percentage", "currency":
		number, err := strconv.ParseFloat(value["value"], 64)
		if err != nil {
			return "", Plain, fmt.Errorf("“%s” is stored as a number and is none", value["value"])
		}
		if (number == 0 || number == 1) && shown != "" && !strings.ContainsAny(shown, "0123456789") {
			return strings.ToUpper(strconv.FormatBool(number == 1)), Logical, nil // its format is that of yes and no
		}
		return paddedAs(shown, numberText(value["value"], number)), Numeric, nil
	case "date":
		return strings.TrimSuffix(strings.Replace(value["date-value"], "T", " ", 1), " 00:00:00"), Dated, nil
	case "boolean":
		return strings.ToUpper(value["boolean-value"]), Logical, nil
	case "time":
		return shown, Dated, nil
	}
	// A formula that came to nothing is saved with a blank paragraph, and one that was
	// never calculated with none.
	if _, has := value["string-value"]; value["formula"] != "" && paragraphs == 0 && value["value-type"] == "" && !has {
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
	var text strings.Builder
	in, aside := 0, 0
	for {
		token, err := s.xml.RawToken()
		if err != nil {
			return "", 0, unexpected(err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			switch token.Name.Local {
			case "annotation":
				aside++
			case "p":
				if in++; in == 1 && aside == 0 {
					if count > 0 {
						text.WriteByte('\n')
					}
					count++
				}
			case "s":
				if aside == 0 {
					text.WriteString(strings.Repeat(" ", min(times(token, "c"), 1000)))
				}
			case "tab":
				text.WriteByte('\t')
			case "line-break":
				text.WriteByte('\n')
			}
		case xml.CharData:
			if in > 0 && aside == 0 {
				text.Write(token)
			}
		case xml.EndElement:
			switch token.Name.Local {
			case "annotation":
				aside--
			case "p":
				in--
			case element:
				return text.String(), count, nil
			}
		}
	}
}
