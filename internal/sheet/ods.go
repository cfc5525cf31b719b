package sheet

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
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
	hidden  [][2]int
	columns int // described so far
	merged  map[int][][2]int
}

func openODS(p parts, options Options) (*Sheet, error) {
	r, err := p.open("content.xml")
	if err != nil {
		return nil, err
	}
	tabs, err := odsTabs(r)
	if err != nil {
		return nil, p.broken(err)
	}
	if len(tabs) == 0 {
		return nil, &Error{Name: p.name, Message: "has no tab with cells", Remedy: saveAgain}
	}
	return pickTab(p.name, tabs, options, func(tab string) (*Sheet, error) {
		r, err := p.open("content.xml")
		if err != nil {
			return nil, err
		}
		source := &odsSource{p: p, meter: &meter{r: r}, tab: tab, tabs: tabs, next: 1, merged: map[int][][2]int{}}
		source.xml = xml.NewDecoder(source.meter)
		if err := source.skipTo(tab); err != nil {
			return nil, p.broken(err)
		}
		return startWorkbook(p.name, source, options)
	})
}

// odsTabs lists the tabs. It looks for their tags in the text of the part, which
// is many times faster than reading it as XML.
func odsTabs(r io.Reader) ([]string, error) {
	const tag = "<table:table "
	const longest = 4 << 10 // of such a tag
	var tabs []string
	buf := make([]byte, 0, sampleSize)
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return nil, err
		}
		for {
			at := bytes.Index(buf, []byte(tag))
			end := -1
			if at >= 0 {
				end = bytes.IndexByte(buf[at:], '>')
			}
			if end < 0 {
				if keep := max(0, len(buf)-len(tag)); at < 0 {
					at = keep
				} else if len(buf)-at > longest {
					at += len(tag)
				}
				buf = append(buf[:0], buf[at:]...)
				break
			}
			var element struct {
				Name string `xml:"name,attr"`
			}
			inner := append(bytes.TrimSuffix(bytes.Clone(buf[at:at+end]), []byte("/")), "/>"...)
			if err := xml.Unmarshal(inner, &element); err == nil && element.Name != "" {
				tabs = append(tabs, element.Name)
			}
			buf = append(buf[:0], buf[at+end:]...)
		}
		if last {
			return tabs, nil
		}
	}
}

// skipTo reads up to the beginning of a tab.
func (s *odsSource) skipTo(tab string) error {
	for {
		s.meter.left = maxRecord
		token, err := s.xml.RawToken()
		if err != nil {
			return unexpected(err)
		}
		if e, ok := token.(xml.StartElement); ok && e.Name.Local == "table" && attribute(e, "name") == tab {
			return nil
		}
	}
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
	info.Format, info.Tab, info.Tabs = "ODS", s.tab, s.tabs
	info.Hidden = headingsIn(info.Headings, s.hidden)
	info.Merged = nil
	for _, span := range s.merged[info.HeadingRow] {
		info.Merged = append(info.Merged, headingsIn(info.Headings, [][2]int{{span[0], span[0]}})...)
	}
}

// maxRows bounds what a row that is repeated can come to.
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
				return record{}, io.EOF
			}
		}
	}
}

// again gives the row that was read once more. Its cells are a copy, as the
// caller may change them.
func (s *odsSource) again() record {
	rec := s.row
	rec.number, rec.cells = s.next, slices.Clone(rec.cells)
	s.next, s.repeat = s.next+1, s.repeat-1
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
			if span := times(token, "number-columns-spanned"); span > 1 && s.next <= 10*headingDepth {
				s.merged[s.next] = append(s.merged[s.next], [2]int{len(s.row.cells), len(s.row.cells) + span - 1})
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
	shown, err := s.paragraphs(e.Name.Local)
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
		return paddedAs(shown, numberText(value["value"], number)), Numeric, nil
	case "date":
		return strings.TrimSuffix(strings.Replace(value["date-value"], "T", " ", 1), " 00:00:00"), Dated, nil
	case "boolean":
		return strings.ToUpper(value["boolean-value"]), Logical, nil
	case "time":
		return shown, Dated, nil
	}
	if value["formula"] != "" && shown == "" && value["value-type"] == "" {
		return "", Uncalculated, nil
	}
	return shown, Plain, nil
}

// paddedAs returns what is shown of a number if that is the number itself with
// zeros in front, or signs between its digits; else the number.
func paddedAs(shown, number string) string {
	if !digitFormat.MatchString(strings.Map(func(r rune) rune {
		if r >= '1' && r <= '9' {
			return '0'
		}
		return r
	}, shown)) {
		return number
	}
	digits := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, shown)
	if len(digits) > len(number) && strings.TrimLeft(digits, "0") == number || digits == number {
		return shown
	}
	return number
}

// paragraphs reads the text of a cell up to its end; comments on the cell are
// none of it.
func (s *odsSource) paragraphs(element string) (string, error) {
	var text strings.Builder
	in, aside, count := 0, 0, 0
	for {
		token, err := s.xml.RawToken()
		if err != nil {
			return "", unexpected(err)
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
				return text.String(), nil
			}
		}
	}
}
