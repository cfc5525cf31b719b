package sheet

import (
	"bufio"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"evenledger/internal/words"
)

// LDIF is the format of a directory's entries.
const LDIF = "LDIF"

var ldifStart = regexp.MustCompile(`(?i)^(#[^\n]*\r?\n|[ \t]*\r?\n| [^\n]*\n)*(version: *\d+ *\r?\n|dn:)`)

// isLDIF reports whether a text begins as the interchange format of directories does
// (RFC 2849).
func isLDIF(start []byte) bool { return ldifStart.Match(start) }

// An ldifSource reads entries of a directory (RFC 2849). An attribute is a column, called as the
// file calls it, “dn” the first; several values stand in one cell with semicolons between. The
// number of a row is the line on which its entry begins. Changes of entries, and entries that are
// plainly no person's, are rows that are set aside.
type ldifSource struct {
	name    string
	in      *bufio.Reader
	text    *textReader
	line    int
	ahead   string // a line that was read too far
	has     bool
	column  map[string]int // by the name in small letters
	pending []ldifEntry
	count   int
	ended   bool
	cells   []string
}

type ldifEntry struct {
	line   int
	names  []string // in order
	values map[string][]string
}

func newLDIF(name string, text *textReader, decoded *bufio.Reader, info *Info) (*ldifSource, error) {
	s := &ldifSource{name: name, in: decoded, text: text, column: map[string]int{}}
	info.Format = LDIF
	held := 0
	for len(s.pending) < jsonAhead && held < jsonBytes {
		e, err := s.entry()
		if errors.Is(err, io.EOF) {
			s.ended = true
			break
		}
		if err != nil {
			return nil, err
		}
		for _, n := range e.names {
			key := strings.ToLower(n)
			if _, known := s.column[key]; !known {
				s.column[key] = len(info.Headings)
				info.Headings = append(info.Headings, n)
			}
			for _, v := range e.values[key] {
				held += len(v)
			}
		}
		if len(info.Headings) > MaxColumns {
			return nil, &Error{Name: name, Message: fmt.Sprintf("has more than the %d attributes that a sheet may have columns", MaxColumns), Remedy: "Export the attributes that are needed."}
		}
		s.pending = append(s.pending, e)
	}
	if len(s.pending) == 0 {
		return nil, &Error{Name: name, Message: "has no entries", Remedy: "Export it again."}
	}
	return s, nil
}

func (s *ldifSource) describe(info *Info) {
	s.text.describe(info)
	info.Read.Records = s.count - len(s.pending)
}

func (s *ldifSource) fail(line int, format string, args ...any) error {
	return &Error{s.name, line, fmt.Sprintf(format, args...), "Export the file again, or correct the line in an editor."}
}

// logical returns the next line with those that go on with it; "" is a blank one.
func (s *ldifSource) logical() (text string, at int, err error) {
	for {
		if text, err = s.physical(); err != nil {
			return "", s.line, err
		}
		at = s.line
		remark := strings.HasPrefix(text, "#")
		for {
			next, err := s.physical()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return "", at, err
			}
			if !strings.HasPrefix(next, " ") || text == "" {
				s.ahead, s.has = next, true
				s.line--
				break
			}
			if text += next[1:]; len(text) > maxRecord {
				return "", at, s.fail(at, "the value is over %d MiB long", maxRecord>>20)
			}
		}
		if !remark {
			return text, at, nil
		}
	}
}

// physical returns the next line of the file.
func (s *ldifSource) physical() (string, error) {
	if s.has {
		s.has = false
		s.line++
		return s.ahead, nil
	}
	text, err := readLine(s.in)
	switch {
	case errors.Is(err, io.EOF) && text == "":
		return "", io.EOF
	case errors.Is(err, errTooLong):
		return "", s.fail(s.line+1, "the line is over %d MiB long", maxRecord>>20)
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return "", s.fail(s.line+1, "the file cannot be read on: %s", err)
	}
	s.line++
	return strings.TrimRight(text, "\r\n"), nil
}

// entry reads the next entry.
func (s *ldifSource) entry() (e ldifEntry, err error) {
	e.values = map[string][]string{}
	for {
		text, at, err := s.logical()
		switch {
		case errors.Is(err, io.EOF) && len(e.names) > 0, err == nil && text == "" && len(e.names) > 0:
			s.count++
			return e, nil
		case err != nil:
			return e, err
		case text == "", text == "-":
			continue
		}
		name, value, err := s.value(text, at)
		if err != nil {
			return e, err
		}
		key := strings.ToLower(name)
		switch {
		case key == "version" && s.count == 0 && len(e.names) == 0:
			continue
		case len(e.names) == 0 && key != "dn":
			return e, s.fail(at, "an entry begins with “dn:”, and this line with “%s”", words.First(name, 40))
		case len(e.names) == 0:
			e.line = at
		case key == "dn":
			return e, s.fail(at, "a blank line has to stand between two entries")
		}
		if e.values[key] == nil {
			e.names = append(e.names, name)
		}
		e.values[key] = append(e.values[key], value)
	}
}

// value takes a line apart. What is no text stands for itself; another file is not read.
func (s *ldifSource) value(text string, at int) (name, value string, err error) {
	name, rest, ok := strings.Cut(text, ":")
	if !ok || name == "" || strings.ContainsAny(name, " \t") {
		return "", "", s.fail(at, "“%s” is no line of LDIF: it has an attribute, a colon and a value", words.First(text, 40))
	}
	switch {
	case strings.HasPrefix(rest, ":"):
		data, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest[1:]))
		if err != nil {
			return "", "", s.fail(at, "the value of %s is to be in base64, and is not", name)
		}
		if !utf8.Valid(data) || slices.Contains(data, 0) {
			return name, fmt.Sprintf("(binary, %d bytes)", len(data)), nil
		}
		return name, string(data), nil
	case strings.HasPrefix(rest, "<"):
		return name, fmt.Sprintf("(in another file: %s)", strings.TrimSpace(rest[1:])), nil
	}
	return name, strings.TrimLeft(rest, " "), nil
}

// nobodysClasses are object classes of entries that are no person's, where none of a person's
// stands beside them.
var (
	nobodysClasses = []string{"organizationalunit", "organization", "domain", "dcobject", "groupofnames", "groupofuniquenames", "posixgroup", "group", "container", "country", "locality", "builtindomain", "computer", "device", "organizationalrole"}
	personClasses  = []string{"person", "organizationalperson", "inetorgperson", "posixaccount", "shadowaccount", "account", "user"}
)

// read implements source.
func (s *ldifSource) read() (record, error) {
	var e ldifEntry
	if len(s.pending) > 0 {
		e, s.pending = s.pending[0], s.pending[1:]
	} else if s.ended {
		return record{}, io.EOF
	} else {
		var err error
		if e, err = s.entry(); err != nil {
			return record{}, err
		}
	}
	rec := record{number: e.line, line: e.line, certain: s.text.certain}
	s.cells = append(s.cells[:0], make([]string, len(s.column))...)
	for _, name := range e.names {
		values := e.values[strings.ToLower(name)]
		cell := values[0]
		if len(values) > 1 {
			cell = JoinItems(values)
		}
		if at, known := s.column[strings.ToLower(name)]; known {
			s.cells[at] = cell
		} else {
			s.cells = append(s.cells, name+": "+cell)
		}
	}
	rec.cells = s.cells
	has := func(classes []string) (which string) {
		for _, class := range e.values["objectclass"] {
			if slices.Contains(classes, strings.ToLower(class)) {
				return class
			}
		}
		return ""
	}
	change := e.values["changetype"]
	switch {
	case len(change) > 0 && !strings.EqualFold(change[0], "add"):
		rec.aside = fmt.Sprintf("it is a change of an entry (%s), and no entry", change[0])
	case has(nobodysClasses) != "" && (has(personClasses) == "" || has([]string{"computer"}) != ""):
		rec.aside = fmt.Sprintf("an entry of the class %s, and no person's", has(nobodysClasses))
	}
	return rec, nil
}

// An ldifWriter writes entries of a directory (RFC 2849). A heading is taken for an attribute;
// what cannot be one's name is a remark above the entry. Without a column “dn” an entry is called
// by what is in the column “uid”.
type ldifWriter struct {
	w         *bufio.Writer
	headings  []string
	left      int                         // rows before the entries, with the headings
	attribute func(heading string) string // nil: it is the heading
}

var attributeName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]*(;[A-Za-z0-9-]+)*$`)

// Write implements Writer.
func (l *ldifWriter) Write(cells []string, _ ...Mark) error {
	if l.left--; l.left >= 0 {
		if l.headings = slices.Clone(cells); l.left == 0 {
			for i, heading := range l.headings {
				if l.attribute != nil {
					l.headings[i] = l.attribute(heading)
				}
			}
			_, err := l.w.WriteString("version: 1\n")
			return err
		}
		return nil
	}
	dn, named := "", ""
	for i, cell := range cells {
		switch {
		case i >= len(l.headings):
		case strings.EqualFold(l.headings[i], "dn"):
			dn = cell
		case strings.EqualFold(l.headings[i], "uid"), strings.EqualFold(l.headings[i], "userName"):
			named = "uid=" + escapeDN(cell)
		}
	}
	if dn == "" {
		dn = named
	}
	var out strings.Builder
	out.WriteString("\n")
	var lines strings.Builder
	for i, cell := range cells {
		if i >= len(l.headings) || cell == "" || strings.EqualFold(l.headings[i], "dn") {
			continue
		}
		if !attributeName.MatchString(l.headings[i]) {
			out.WriteString("# " + oneLine(l.headings[i]) + ": " + oneLine(cell) + "\n")
			continue
		}
		items := []string{cell}
		if strings.EqualFold(l.headings[i], "objectClass") { // the one that always has several
			items = SplitItems(cell)
		}
		for _, item := range items {
			ldifLine(&lines, l.headings[i], item)
		}
	}
	ldifLine(&out, "dn", dn)
	out.WriteString(lines.String())
	_, err := l.w.WriteString(out.String())
	return err
}

// Close implements Writer.
func (l *ldifWriter) Close() error { return l.w.Flush() }

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// ldifLine writes a value, in base64 where it is not plain, over several lines where it is long.
func ldifLine(out *strings.Builder, name, value string) {
	line := name + ": " + value
	plain := !slices.ContainsFunc([]byte(value), func(b byte) bool { return b == 0 || b == '\n' || b == '\r' || b > 126 })
	if !plain || strings.HasPrefix(value, " ") || strings.HasPrefix(value, ":") || strings.HasPrefix(value, "<") || strings.HasSuffix(value, " ") {
		line = name + ":: " + base64.StdEncoding.EncodeToString([]byte(value))
	}
	for at, width := 0, 76; at < len(line); width = 75 {
		end := min(len(line), at+width)
		if at > 0 {
			out.WriteByte(' ')
		}
		out.WriteString(line[at:end] + "\n")
		at = end
	}
}

// escapeDN writes a value as it stands in a distinguished name (RFC 4514 section 2.4).
func escapeDN(value string) string {
	value = strings.NewReplacer(`\`, `\\`, ",", `\,`, "+", `\+`, `"`, `\"`, "<", `\<`, ">", `\>`, ";", `\;`, "=", `\=`, "\x00", `\00`).Replace(value)
	if strings.HasPrefix(value, " ") || strings.HasPrefix(value, "#") {
		value = `\` + value
	}
	if strings.HasSuffix(value, " ") {
		value = value[:len(value)-1] + `\ `
	}
	return value
}

// SplitItems takes apart what JoinItems joined.
func SplitItems(cell string) (items []string) {
	var item strings.Builder
	for i := 0; i < len(cell); i++ {
		switch {
		case cell[i] == '\\' && i+1 < len(cell):
			i++
			item.WriteByte(cell[i])
		case strings.HasPrefix(cell[i:], ListSeparator):
			items = append(items, strings.TrimSpace(item.String()))
			item.Reset()
		default:
			item.WriteByte(cell[i])
		}
	}
	return append(items, strings.TrimSpace(item.String()))
}
