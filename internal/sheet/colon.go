package sheet

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
)

// The user database's own files have no headings; their columns are those of passwd(5) and
// group(5). What stands where a password was in old times is not taken in.
var (
	passwdColumns = []string{"userName", "x", "uidNumber", "gidNumber", "gecos", "homeDirectory", "loginShell"}
	groupColumns  = []string{"userName", "groups", "group number"}

	passwdLine = regexp.MustCompile(`^[^:\s]+:[^:]*:\d+:\d+:[^:]*:[^:]*:[^:]*$`)
	groupLine  = regexp.MustCompile(`^[^:\s]+:[^:]*:\d+:[^:\s]*$`)
	shadowLine = regexp.MustCompile(`^[^:\s]+:([!*]*|[!*]*\$[^:]+|[!*]*[A-Za-z0-9./]{13}):\d*:-?\d*:-?\d*:-?\d*:-?\d*:-?\d*:\d*$`)
)

// Numbers of accounts: those below the first are the system's by every custom, those below the
// second by most, and nobody's is the last.
const (
	firstDoubtful = 500
	firstPersonal = 1000
	nobodys       = 65534
)

// userFile recognises a file of the user database by its first lines: all have to fit.
func userFile(start []byte) string {
	kind := ""
	lines := strings.Split(string(start), "\n")
	if len(start) == sampleSize/2 {
		lines = lines[:len(lines)-1] // which is cut
	}
	for _, line := range lines {
		line = strings.TrimSuffix(line, "\r")
		is := ""
		switch {
		case line == "", strings.HasPrefix(line, "#"), strings.HasPrefix(line, "+"), strings.HasPrefix(line, "-"):
			continue
		case passwdLine.MatchString(line):
			is = "passwd"
		case shadowLine.MatchString(line):
			is = "shadow"
		case groupLine.MatchString(line):
			is = "group"
		}
		if is == "" || kind != "" && is != kind {
			return ""
		}
		kind = is
	}
	return kind
}

// A userSource reads a file such as /etc/passwd, a row a line, or /etc/group, a row for each
// member of each group.
type userSource struct {
	name    string
	kind    string
	in      *bufio.Reader
	text    *textReader
	line    int
	records int
	blank   int
	waiting []record // of one line
}

func newUserFile(name, kind string, text *textReader, decoded *bufio.Reader, info *Info) (*userSource, error) {
	if kind == "shadow" {
		return nil, &Error{Name: name, Message: "is a file of password hashes (shadow), which are not read", Remedy: "Name the passwd file of the same host."}
	}
	info.Headings = passwdColumns
	if kind == "group" {
		info.Headings = groupColumns
	}
	return &userSource{name: name, kind: kind, in: decoded, text: text}, nil
}

func (s *userSource) describe(info *Info) {
	info.Format = s.kind
	s.text.describe(info)
	info.Read.Records, info.Read.Blank = s.records, info.Read.Blank+s.blank
}

// read implements source.
func (s *userSource) read() (record, error) {
	for {
		if len(s.waiting) > 0 {
			rec := s.waiting[0]
			s.waiting = s.waiting[1:]
			return rec, nil
		}
		text, err := readLine(s.in)
		switch {
		case errors.Is(err, io.EOF) && text == "":
			return record{}, io.EOF
		case errors.Is(err, errTooLong):
			return record{}, &Error{s.name, s.line + 1, fmt.Sprintf("the line is over %d MiB long", maxRecord>>20), "Look at the line in an editor."}
		case err != nil && !errors.Is(err, io.EOF):
			return record{}, &Error{s.name, s.line + 1, "the file cannot be read on: " + err.Error(), "The file is cut short or damaged: fetch it again."}
		}
		s.line++
		if text = strings.TrimRight(text, "\r\n"); strings.TrimSpace(text) == "" {
			s.records, s.blank = s.records+1, s.blank+1
			continue
		}
		if s.kind == "group" {
			err = s.members(text)
		} else {
			err = s.account(text)
		}
		if err != nil {
			return record{}, err
		}
	}
}

// add has a row wait.
func (s *userSource) add(number int, aside, doubt string, cells ...string) {
	s.records++
	s.waiting = append(s.waiting, record{number: number, line: s.line, cells: cells, aside: aside, doubt: doubt, certain: s.text.certain})
}

// account takes in a line of /etc/passwd.
func (s *userSource) account(text string) error {
	if strings.HasPrefix(text, "#") || strings.HasPrefix(text, "+") || strings.HasPrefix(text, "-") {
		s.add(s.line, "the line is a remark, or names another source of accounts", "", text)
		return nil
	}
	cells := strings.Split(text, ":")
	uid, err := strconv.Atoi(cells[min(2, len(cells)-1)])
	if len(cells) != len(passwdColumns) || err != nil {
		return &Error{s.name, s.line, "is no line of a passwd file: it has seven parts with colons between, the third a number", "Correct the line. If the file is another kind of list, name its columns: “sheet: {columns: […]}” in a brief."}
	}
	cells[1] = "x"
	aside, doubt := "", ""
	switch {
	case uid < firstDoubtful || uid == nobodys:
		aside = fmt.Sprintf("a system's own account, by its number %d", uid)
	case uid < firstPersonal:
		doubt = fmt.Sprintf("the number %d is rather a system's own account's than a person's; if it is a person's, name the columns in a brief: “sheet: {columns: [%s]}”", uid, strings.Join(passwdColumns, ", "))
	}
	s.add(s.line, aside, doubt, cells...)
	return nil
}

// members takes in a line of /etc/group. Rows are numbered through the file, as a line has
// several.
func (s *userSource) members(text string) error {
	if strings.HasPrefix(text, "#") || strings.HasPrefix(text, "+") || strings.HasPrefix(text, "-") {
		s.add(s.records+1, "the line is a remark, or names another source of groups", "", text)
		return nil
	}
	parts := strings.Split(text, ":")
	if len(parts) != 4 {
		return &Error{s.name, s.line, "is no line of a group file: it has four parts with colons between", "Correct the line. If the file is another kind of list, name its columns: “sheet: {columns: […]}” in a brief."}
	}
	none := true
	for member := range strings.SplitSeq(parts[3], ",") {
		if member = strings.TrimSpace(member); member != "" {
			none = false
			s.add(s.records+1, "", "", member, parts[0], parts[2])
		}
	}
	if none {
		s.add(s.records+1, "the file names nobody in the group", "", "", parts[0], parts[2])
	}
	return nil
}
