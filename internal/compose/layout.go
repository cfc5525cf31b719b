package compose

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/heading"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// sampled is how many rows of an application's file are looked at.
const sampled = 500

// A sampleColumn is a column of a file as the application writes it.
type sampleColumn struct {
	heading string
	values  []string // different ones, not blank, the first few
	more    bool     // there are others
	longest int
	most    int // of a family: how many columns it has
}

// numberedHeading is one of a family of columns.
var numberedHeading = regexp.MustCompile(`^(.*\D)(\d+)(\D*)$`)

// Layout writes a first layout of the form that a file of an application has.
func Layout(path, today string) (string, error) {
	reader := heading.NewReader()
	s, err := sheet.Open(path, nil, sheet.Options{AnyTab: true, End: sheet.End{Never: true}, Recognise: func(text string) bool {
		m := reader.Meaning(text)
		return m.Field != "" || m.Ties != "" || m.Action
	}})
	if err != nil {
		return "", err
	}
	defer s.Close()
	info := s.Info()
	columns := sampleColumns(info.Headings)
	n := 0
	for row, err := range s.Rows() {
		if err != nil {
			return "", err
		}
		if n++; n > sampled {
			break
		}
		for i, at := range columns.of {
			if i < len(row.Cells) {
				columns.all[at].see(strings.TrimSpace(row.Cells[i]))
			}
		}
	}
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	name := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	line("# A first layout of what the application takes, written on %s from %s.", today, comment(filepath.Base(path)))
	line("# Look at each line: what was guessed says so. Then: evenledger layout check FILE")
	line("layout: %s", yamldoc.Scalar(name))
	line("file: %s", fileForm(path, info))
	if len(info.Above) > 0 {
		line("above:")
		separator := map[string]string{"semicolon": ";", "tab": "\t", "pipe": "|"}[info.Separator]
		for _, cells := range info.Above {
			line("  - %s", yamldoc.Scalar(strings.TrimRight(strings.Join(cells, orComma(separator)), orComma(separator))))
		}
	}
	line("columns:")
	taken := map[string]bool{}
	for _, c := range columns.all {
		text, said := c.fill(reader, taken)
		if said != "" {
			said = "   # " + said
		}
		line("  - {heading: %s, %s}%s", yamldoc.Scalar(c.heading), text, said)
	}
	line("# limits: {rows: 1000}          # at most so many rows a file")
	line("# blank: clears                 # a blank cell empties what the application has; without it: it keeps that")
	line("# all_or_nothing: true          # one bad row, and it takes none of the file")
	line("# results: {key: {HEADING: userName}, message: HEADING}   # its list of what it did not take")
	return b.String(), nil
}

func orComma(separator string) string {
	if separator == "" {
		return ","
	}
	return separator
}

// fileForm says how the file is written.
func fileForm(path string, info sheet.Info) string {
	switch is := info.Traits(); {
	case is.Beside:
		return "{format: " + is.Short + "}"
	case is.Named:
		return "{format: jsonl}"
	}
	parts := []string{"format: csv"}
	if info.Separator != "" && info.Separator != "comma" {
		parts = append(parts, "separator: "+info.Separator)
	}
	if info.Encoding != "" && info.Encoding != "UTF-8" && info.Encoding != "US-ASCII" {
		parts = append(parts, "encoding: "+yamldoc.Scalar(info.Encoding))
	}
	begins := make([]byte, 64<<10)
	if file, err := os.Open(path); err == nil {
		n, _ := file.Read(begins)
		begins = begins[:n]
		_ = file.Close()
	}
	if bytes.HasPrefix(begins, []byte("\uFEFF")) {
		parts = append(parts, "mark: true")
	}
	if !bytes.Contains(begins, []byte("\r\n")) {
		parts = append(parts, "line_end: lf")
	}
	if lines := bytes.Split(bytes.TrimPrefix(begins, []byte("\uFEFF")), []byte("\n")); len(lines) > 0 && bytes.HasPrefix(lines[0], []byte(`"`)) {
		parts = append(parts, "quote: always")
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// samples are the columns of a file, families as one.
type samples struct {
	all []*sampleColumn
	of  []int // column of the file → index in all
}

func sampleColumns(headings []string) (s samples) {
	families := map[string]int{}
	for _, h := range headings {
		if m := numberedHeading.FindStringSubmatch(h); m != nil {
			key := words.Key(m[1]) + "\x1f" + words.Key(m[3])
			if at, has := families[key]; has {
				s.all[at].most++
				s.of = append(s.of, at)
				continue
			}
			if slices.ContainsFunc(headings, func(other string) bool { return other == m[1]+plusOne(m[2])+m[3] }) {
				families[key] = len(s.all)
				s.of = append(s.of, len(s.all))
				s.all = append(s.all, &sampleColumn{heading: m[1] + "*" + m[3], most: 1})
				continue
			}
		}
		s.of = append(s.of, len(s.all))
		s.all = append(s.all, &sampleColumn{heading: h})
	}
	return s
}

func plusOne(number string) string {
	n, err := strconv.Atoi(number)
	if err != nil {
		return ""
	}
	return strconv.Itoa(n + 1)
}

// see takes a cell in.
func (c *sampleColumn) see(cell string) {
	c.longest = max(c.longest, len([]rune(cell)))
	switch {
	case cell == "" || slices.Contains(c.values, cell):
	case len(c.values) == 12:
		c.more = true
	default:
		c.values = append(c.values, cell)
	}
}

// fill says what fills a column, and what was guessed of it.
func (c *sampleColumn) fill(reader *heading.Reader, taken map[string]bool) (text, said string) {
	m := reader.Meaning(strings.ReplaceAll(c.heading, "*", ""))
	once := func(what string) bool {
		first := !taken[what]
		taken[what] = true
		return first
	}
	family := ""
	if c.most > 0 {
		family = fmt.Sprintf(", most: %d", c.most)
	}
	switch {
	case m.Action && once("action"):
		return "action: {create: " + yamldoc.Scalar(word(c.values, 0, "New")) + ", update: " + yamldoc.Scalar(word(c.values, 1, "Change")) + "}", "guessed: the application's words for what is to be done"
	case m.Ties != "" && m.Beside != "" && once(m.Ties+m.Beside):
		return m.Ties + ": " + m.Beside + split(c), ""
	case m.Ties != "" && once(m.Ties):
		return m.Ties + ": thing" + family + split(c), ""
	case m.Field == "" && c.most > 0 && taken["courses"] && once("coursesrole"):
		return "courses: role", "guessed: the role in the course beside it"
	case strings.Contains(words.Key(c.heading), "password") && once("password"):
		return "password: true", ""
	case m.Field != "" && once(m.Field):
		return c.field(m)
	}
	own := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, words.Fold(c.heading))
	if own == "" || own[0] <= '9' || !once(own) {
		return `make: '""'`, "nothing fills it: say what does"
	}
	if form := formOf(c.values); form != "" {
		return "field: " + own + ", date: " + form, "a field of the application's own"
	}
	return "field: " + own, "a field of the application's own"
}

// field says which field fills a column, and how its values are written.
func (c *sampleColumn) field(m heading.Meaning) (text, said string) {
	text = "field: " + m.Field
	f, _ := account.FieldNamed(m.Field)
	switch {
	case f.Kind == account.YesNo && len(c.values) > 0 && !c.more:
		var parts []string
		reader := codes.NewReader(codes.Unsettled)
		for _, v := range c.values {
			is, err := reader.Read(account.YesNo, v)
			if err != nil {
				continue
			}
			if m.Negated {
				is = map[string]string{"true": "false", "false": "true"}[is]
			}
			parts = append(parts, is+": "+yamldoc.Scalar(v))
		}
		if len(parts) > 0 {
			text += ", words: {" + strings.Join(parts, ", ") + "}"
		}
		said = "look whether both words are right"
	case f.Kind == account.YesNo && m.Negated:
		text, said = text+`, words: {true: "no", false: "yes"}`, "guessed: how yes and no are written"
	case f.Kind == account.YesNo:
		text, said = text+`, words: {true: "yes", false: "no"}`, "guessed: how yes and no are written"
	case f.Kind == account.Date:
		if form := formOf(c.values); form != "" {
			text += ", date: " + form
		}
	case !m.Sure:
		said = "guessed"
	}
	return text, said
}

// formOf is how dates are written, as far as that is sure.
func formOf(values []string) string {
	for _, of := range []struct{ form, pattern string }{{"YYYY-MM-DD", `^\d{4}-\d\d-\d\d$`}, {"DD.MM.YYYY", `^\d\d\.\d\d\.\d{4}$`}, {"DD/MM/YYYY", `^(1[3-9]|2\d|3[01])/\d\d/\d{4}$`}} {
		if slices.ContainsFunc(values, regexp.MustCompile(of.pattern).MatchString) {
			return of.form
		}
	}
	return ""
}

// split says what stands between several values in one cell.
func split(c *sampleColumn) string {
	if c.most > 0 {
		return ""
	}
	for _, separator := range []string{";", "|", ","} {
		if slices.ContainsFunc(c.values, func(v string) bool { return strings.Contains(v, separator) }) {
			return ", split: " + yamldoc.Scalar(separator)
		}
	}
	return ""
}

// word is the nth of some, or another.
func word(values []string, n int, other string) string {
	if n < len(values) {
		return values[n]
	}
	return other
}
