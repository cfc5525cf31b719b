package sheet

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// An xlsxSource reads a tab of an Office Open XML workbook (ISO/IEC 29500)
// row by row. The texts that cells share are held in memory, one byte a byte.
type xlsxSource struct {
	p       parts
	xml     *markup
	meter   *meter
	shared  *texts
	formats []numberFormat // by the cell's style
	epoch   time.Time      // day 0 of its dates
	stale   bool           // formulas are calculated only when the workbook is opened
	tab     string
	tabs    []string
	part    string // of the tab

	rows   int // read so far
	last   int // number of the row read last
	cells  []string
	kinds  []CellKind
	raw    []byte   // what is stored of the cell at hand
	hidden [][2]int // columns from, to
	merged merges
}

// openXLSX opens the tab that the options mean.
func openXLSX(p parts, options Options) (*Sheet, error) {
	var book struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Calculation struct {
			OnLoad string `xml:"fullCalcOnLoad,attr"`
		} `xml:"calcPr"`
		Sheets []struct {
			Name  string     `xml:"name,attr"`
			State string     `xml:"state,attr"`
			Attrs []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
	}
	var relations struct {
		List []struct {
			ID     string `xml:"Id,attr"`
			Type   string `xml:"Type,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := p.unmarshal("xl/workbook.xml", &book); err != nil {
		return nil, err
	}
	if err := p.unmarshal("xl/_rels/workbook.xml.rels", &relations); err != nil {
		return nil, err
	}
	formats, err := p.numberFormats()
	if err != nil {
		return nil, err
	}
	epoch := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if book.Properties.Date1904 == "1" || book.Properties.Date1904 == "true" {
		epoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	target, sharedPart, charts := map[string]string{}, "", map[string]bool{}
	for _, r := range relations.List {
		at := r.Target
		if !path.IsAbs(at) {
			at = path.Join("xl", at)
		}
		target[r.ID] = strings.TrimLeft(at, "/")
		switch path.Base(r.Type) {
		case "sharedStrings":
			sharedPart = target[r.ID]
		case "chartsheet", "dialogsheet": // which have no cells
			charts[target[r.ID]] = true
		}
	}
	var tabs []tab
	var names []string
	shared := &texts{}
	for _, listed := range book.Sheets {
		part := ""
		for _, a := range listed.Attrs {
			if a.Name.Local == "id" && target[a.Value] != "" {
				part = target[a.Value]
			}
		}
		if part == "" || p.find(part) == nil || charts[part] {
			continue
		}
		names = append(names, listed.Name)
		tabs = append(tabs, tab{listed.Name, listed.State != "" && listed.State != "visible", func() (*Sheet, error) {
			source := &xlsxSource{p: p, shared: shared, formats: formats, epoch: epoch, stale: truth(book.Calculation.OnLoad), tab: listed.Name, tabs: names, part: part}
			return source.start(options)
		}})
	}
	if len(tabs) == 0 {
		return nil, &Error{Name: p.name, Message: "has no tab with cells", Remedy: saveAgain}
	}
	if sharedPart != "" && p.find(sharedPart) != nil {
		if shared, err = p.sharedTexts(sharedPart); err != nil {
			return nil, err
		}
	}
	return pickTab(p.name, tabs, options)
}

// start opens the tab and finds its headings.
func (s *xlsxSource) start(options Options) (*Sheet, error) {
	var err error
	if s.merged, err = s.findMerged(); err != nil {
		return nil, err
	}
	r, err := s.p.open(s.part)
	if err != nil {
		return nil, err
	}
	s.meter = &meter{r: r}
	s.xml = newMarkup(s.meter)
	opened, err := startWorkbook(s.p.name, s, options)
	if err == nil {
		opened.info.Merged = s.merged.headings(opened.info.Headings, opened.info.HeadingRow)
	}
	return opened, err
}

// startWorkbook finds the headings of a tab.
func startWorkbook(name string, source source, options Options) (*Sheet, error) {
	s := &Sheet{info: Info{Name: name}, source: source, below: below{end: options.End}, close: func() error { return nil }}
	return s, s.findHeadings(options)
}

func (p parts) unmarshal(part string, into any) error {
	data, err := p.small(part)
	if err != nil {
		return err
	}
	if err := xml.Unmarshal(data, into); err != nil {
		return p.broken(err)
	}
	return nil
}

// maxShared bounds the texts that the cells of a workbook share.
const maxShared = 512 << 20

func (p parts) sharedTexts(part string) (*texts, error) {
	r, err := p.open(part)
	if err != nil {
		return nil, err
	}
	t := &texts{}
	m, text := newMarkup(&meter{r: r, left: maxShared}), []byte(nil)
	for {
		kind, err := m.next()
		if err != nil {
			return nil, p.brokenTexts(unexpected(err))
		}
		if kind == endTag && string(m.name) == "sst" {
			return t, t.end()
		}
		if kind == startTag && string(m.name) == "si" {
			if text, err = readText(m, "si", text[:0]); err != nil {
				return nil, p.brokenTexts(err)
			}
			if err := t.add(text); err != nil {
				return nil, &Error{Name: p.name, Message: "the texts in its cells cannot be laid aside: " + err.Error(), Remedy: "Make room in the folder for temporary files, or save the tab as CSV UTF-8, which is read row by row."}
			}
		}
	}
}

func (p parts) brokenTexts(err error) error {
	if errors.Is(err, errTooLong) {
		return &Error{Name: p.name, Message: fmt.Sprintf("the texts in its cells take over %d MiB", maxShared>>20), Remedy: "Save the tab as CSV UTF-8, which is read row by row."}
	}
	return p.broken(err)
}

// readText appends the text of an element that has been begun: that of its t
// elements but those that tell the pronunciation.
func readText(m *markup, element string, to []byte) ([]byte, error) {
	in, skip, from := false, 0, len(to)
	for {
		kind, err := m.next()
		if err != nil {
			return to, unexpected(err)
		}
		switch name := m.name; {
		case kind == characters && in && skip == 0:
			to = append(to, m.text...)
		case kind == characters:
		case string(name) == "t":
			in = kind == startTag
		case string(name) == "rPh" && kind == startTag:
			skip++
		case string(name) == "rPh":
			skip--
		case kind == endTag && string(name) == element:
			return unescaped(to, from), nil
		}
	}
}

func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

var escape = regexp.MustCompile(`_x[0-9A-Fa-f]{4}_`)

// unescaped puts the characters back that XML cannot hold, which are written
// _xHHHH_, in what stands from a place on.
func unescaped(data []byte, from int) []byte {
	if !bytes.Contains(data[from:], []byte("_x")) {
		return data
	}
	text := escape.ReplaceAllStringFunc(string(data[from:]), func(code string) string {
		n, _ := strconv.ParseUint(code[2:6], 16, 16) // the expression saw to it
		return string(rune(n))
	})
	return append(data[:from], text...)
}

func (s *xlsxSource) describe(info *Info) {
	info.Format, info.Tab, info.Tabs, info.Read.Records = "XLSX", s.tab, s.tabs, s.rows
	info.Hidden = headingsIn(info.Headings, s.hidden)
}

// headingsIn lists the headings in ranges of columns.
func headingsIn(headings []string, ranges [][2]int) []string {
	var in []string
	for _, r := range ranges {
		for i := r[0]; i <= r[1] && i < len(headings); i++ {
			if headings[i] != "" {
				in = append(in, headings[i])
			}
		}
	}
	return in
}

// read implements source.
func (s *xlsxSource) read() (record, error) {
	s.meter.left = maxRecord
	for {
		kind, err := s.xml.next()
		if err != nil {
			return record{}, s.p.broken(unexpected(err))
		}
		switch name := s.xml.name; {
		case kind == characters:
		case kind == startTag && string(name) == "row":
			s.rows++
			return s.row()
		case kind == startTag && string(name) == "col":
			s.column()
		case kind == endTag && string(name) == "sheetData":
			return record{}, s.p.readOut(s.meter.r)
		}
	}
}

// column notes columns that are hidden.
func (s *xlsxSource) column() {
	from, to, hidden := 0, 0, false
	for _, a := range s.xml.attrs {
		switch string(a.name) {
		case "min":
			from, _ = strconv.Atoi(string(a.value)) // what is no number is no column
		case "max":
			to, _ = strconv.Atoi(string(a.value))
		case "hidden":
			hidden = truth(string(a.value))
		}
	}
	if hidden && from > 0 {
		s.hidden = append(s.hidden, [2]int{from - 1, to - 1})
	}
}

func truth(text string) bool { return text == "1" || text == "true" }

// row reads the cells of a row that has been begun.
func (s *xlsxSource) row() (record, error) {
	rec := record{number: s.last + 1}
	for _, a := range s.xml.attrs {
		switch string(a.name) {
		case "r":
			n, err := strconv.Atoi(string(a.value))
			switch {
			case err != nil || n <= s.last:
				return rec, s.p.broken(fmt.Errorf("a row “%s” stands below row %d", a.value, s.last))
			case n > maxRows:
				return rec, s.p.broken(fmt.Errorf("row %d is beyond the last a spreadsheet has, %d", n, maxRows))
			}
			rec.number = n
		case "hidden":
			rec.hidden = truth(string(a.value))
		}
	}
	if rec.number > maxRows {
		return rec, s.p.broken(fmt.Errorf("row %d is beyond the last a spreadsheet has, %d", rec.number, maxRows))
	}
	s.last, rec.merged = rec.number, s.merged.in(rec.number)
	s.cells, s.kinds = s.cells[:0], s.kinds[:0]
	plain := true
	for {
		kind, err := s.xml.next()
		if err != nil {
			return rec, s.p.broken(unexpected(err))
		}
		switch name := s.xml.name; {
		case kind == startTag && string(name) == "c":
			if err := s.cell(); err != nil {
				return rec, s.p.broken(err)
			}
			plain = plain && s.kinds[len(s.kinds)-1] == Plain
		case kind == endTag && string(name) == "row":
			if rec.cells = s.cells; !plain {
				rec.kinds = s.kinds
			}
			return rec, nil
		}
	}
}

// stored are the kinds in which a cell's value can be stored (ISO/IEC 29500-1 section 18.18.11).
type stored uint8

const (
	asNumber stored = iota
	asShared
	asText
	asInline
	asTruth
	asError
	asDate
)

func storedAs(kind []byte) stored {
	switch string(kind) {
	case "s":
		return asShared
	case "str":
		return asText
	case "inlineStr":
		return asInline
	case "b":
		return asTruth
	case "e":
		return asError
	case "d":
		return asDate
	}
	return asNumber
}

// cell reads a cell that has been begun into cells and kinds.
func (s *xlsxSource) cell() error {
	kind, style, column := asNumber, 0, len(s.cells)
	for _, a := range s.xml.attrs {
		switch string(a.name) {
		case "r":
			at, ok := columnNumber(a.value)
			if !ok || at < len(s.cells) {
				return fmt.Errorf("the cell “%s” stands out of its order", a.value)
			}
			column = at
		case "t":
			kind = storedAs(a.value)
		case "s":
			style, _ = strconv.Atoi(string(a.value)) // without a style it is the first
		}
	}
	if column >= 1<<14 {
		return fmt.Errorf("column %d is beyond the last a spreadsheet has", column+1)
	}
	for len(s.cells) < column {
		s.cells, s.kinds = append(s.cells, ""), append(s.kinds, Plain)
	}
	s.raw = s.raw[:0]
	formula := false
	for {
		token, err := s.xml.next()
		if err != nil {
			return unexpected(err)
		}
		name := s.xml.name
		switch {
		case token == startTag && string(name) == "v":
			s.raw = s.raw[:0]
			err = s.chars()
		case token == startTag && string(name) == "is":
			s.raw, err = readText(s.xml, "is", s.raw[:0])
		case token == startTag && string(name) == "f":
			formula = true
		case token == startTag && string(name) == "extLst": // what stands in an extension is no value
			err = s.skip("extLst")
		case token == endTag && string(name) == "c":
			text, kind, err := s.value(kind, style)
			if formula && (len(s.raw) == 0 && kind != Plain || s.stale && (len(s.raw) == 0 || string(s.raw) == "0")) {
				kind = Uncalculated
			}
			s.cells, s.kinds = append(s.cells, text), append(s.kinds, kind)
			return err
		}
		if err != nil {
			return err
		}
	}
}

// skip reads up to the end of an element that has been begun.
func (s *xlsxSource) skip(element string) error {
	for depth := 1; depth > 0; {
		kind, err := s.xml.next()
		if err != nil {
			return unexpected(err)
		}
		switch {
		case kind == startTag && string(s.xml.name) == element:
			depth++
		case kind == endTag && string(s.xml.name) == element:
			depth--
		}
	}
	return nil
}

// chars reads the characters up to the end of the element that has been begun.
func (s *xlsxSource) chars() error {
	for {
		kind, err := s.xml.next()
		if err != nil {
			return unexpected(err)
		}
		switch kind {
		case characters:
			s.raw = append(s.raw, s.xml.text...)
		case endTag:
			return nil
		}
	}
}

// value makes of what is stored what a person sees.
func (s *xlsxSource) value(kind stored, style int) (string, CellKind, error) {
	switch kind {
	case asShared:
		i, ok := wholeNumber(s.raw)
		if !ok {
			return "", Plain, fmt.Errorf("a cell refers to the text %q, which is not there", s.raw)
		}
		text, ok, err := s.shared.get(i)
		if !ok {
			err = errors.Join(err, fmt.Errorf("a cell refers to the text %q, which is not there", s.raw))
		}
		return text, Plain, err
	case asText:
		return string(unescaped(s.raw, 0)), Plain, nil
	case asInline:
		return string(s.raw), Plain, nil
	case asTruth:
		switch {
		case len(s.raw) == 0:
			return "", Logical, nil
		case truth(string(s.raw)):
			return "TRUE", Logical, nil
		}
		return "FALSE", Logical, nil
	case asError:
		return string(s.raw), Faulty, nil
	case asDate:
		return strings.Replace(strings.TrimSuffix(string(s.raw), "Z"), "T", " ", 1), Dated, nil
	}
	if len(s.raw) == 0 {
		return "", Numeric, nil
	}
	var format numberFormat
	if style >= 0 && style < len(s.formats) {
		format = s.formats[style]
	}
	raw := string(s.raw)
	number, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return "", Plain, fmt.Errorf("“%s” is stored as a number and is none", raw)
	}
	if format.date {
		if text, ok := dateText(s.epoch, number); ok {
			return text, Dated, nil
		}
	}
	return format.shown(numberText(raw, number), number), Numeric, nil
}

// wholeNumber reads digits.
func wholeNumber(digits []byte) (n int, ok bool) {
	for _, c := range digits {
		if c < '0' || c > '9' || n > 1<<40 {
			return 0, false
		}
		n = n*10 + int(c-'0')
	}
	return n, len(digits) > 0
}

// numberText writes a number without exponent and without the digits that are
// only there because computers count in twos.
func numberText(raw string, number float64) string {
	if isDigits(raw) {
		return raw
	}
	if math.IsInf(number, 0) || math.IsNaN(number) {
		return raw
	}
	if rounded, err := strconv.ParseFloat(strconv.FormatFloat(number, 'g', 15, 64), 64); err == nil {
		number = rounded
	}
	return strconv.FormatFloat(number, 'f', -1, 64)
}

func isDigits(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// dateText writes the day that a number of days stands for, with the time if
// there is one.
func dateText(epoch time.Time, days float64) (string, bool) {
	if days < 0 || days > 2958466 { // the end of the year 9999
		return "", false
	}
	whole := math.Floor(days)
	seconds := math.Round((days - whole) * 86400)
	if epoch.Year() == 1899 && whole < 60 && whole > 0 {
		whole++ // these workbooks have a 29 February 1900
	}
	at := epoch.AddDate(0, 0, int(whole)).Add(time.Duration(seconds) * time.Second)
	switch {
	case days < 1:
		return at.Format("15:04:05"), true
	case seconds == 0:
		return at.Format(time.DateOnly), true
	}
	return at.Format(time.DateTime), true
}

// columnNumber reads the column of a reference such as "AB12", from 0.
func columnNumber(reference []byte) (int, bool) {
	n := 0
	for i := 0; i < len(reference); i++ {
		c := reference[i]
		if c < 'A' || c > 'Z' {
			return n - 1, i > 0 && c >= '0' && c <= '9'
		}
		if n = n*26 + int(c-'A') + 1; n > 1<<20 {
			return 0, false
		}
	}
	return 0, false
}

// ColumnName writes a column, from 0, as a spreadsheet program names it.
func ColumnName(column int) string {
	name := ""
	for column++; column > 0; column = (column - 1) / 26 {
		name = string(rune('A'+(column-1)%26)) + name
	}
	return name
}

func (p parts) numberFormats() ([]numberFormat, error) {
	if p.find("xl/styles.xml") == nil {
		return nil, nil
	}
	var styles struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := p.unmarshal("xl/styles.xml", &styles); err != nil {
		return nil, err
	}
	own := map[int]numberFormat{}
	for _, f := range styles.Formats {
		own[f.ID] = parseFormat(f.Code)
	}
	formats := make([]numberFormat, len(styles.Cells))
	for i, cell := range styles.Cells {
		f, ok := own[cell.Format]
		if id := cell.Format; !ok {
			// Those that need no code (ISO/IEC 29500-1 section 18.8.30).
			f.date = id >= 14 && id <= 22 || id >= 27 && id <= 36 || id >= 45 && id <= 47 || id >= 50 && id <= 58
		}
		formats[i] = f
	}
	return formats, nil
}
