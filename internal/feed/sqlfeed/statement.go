package sqlfeed

import (
	"fmt"
	"slices"
	"strings"
)

// A Statement is SQL with parameters by name, such as :since. Values are always bound, never
// written into it.
type Statement struct {
	parts []string // the text between the parameters
	names []string // of the parameters, in the order in which they stand
	words []string // outside of texts, quoted names and comments, in capitals; a semicolon is one
	odd   string   // why an engine may read it otherwise; empty: it will not
}

// Parse reads a statement. Colons in texts, quoted names and comments, and those of casts
// (::date), are left alone; a backslash escapes in texts only if that is so in the engine.
func Parse(text string, backslash bool) (*Statement, error) {
	s := &Statement{}
	from := 0
	for i := 0; i < len(text); {
		rest := text[i:]
		switch c := text[i]; {
		case c == '\'' || c == '"' || c == '`':
			end := closes(rest, c, backslash && c != '`')
			if end < 0 {
				return nil, fmt.Errorf("the %c at position %d is never closed", c, i+1)
			}
			i += end
		case strings.HasPrefix(rest, "--") || c == '#' && backslash:
			i += untilAfter(rest, "\n", len(rest))
		case strings.HasPrefix(rest, "/*"):
			if strings.HasPrefix(rest, "/*!") || strings.HasPrefix(rest, "/*M!") {
				s.odd = "it has a comment that some engines carry out (/*!)"
			}
			end := untilAfter(rest, "*/", -1)
			if end < 0 {
				return nil, fmt.Errorf("the comment at position %d is never closed", i+1)
			}
			i += end
		case c == '$' && !backslash && (i == 0 || !isWord(text[i-1])):
			i += dollars(rest)
		case strings.HasPrefix(rest, "::"), strings.HasPrefix(rest, ":="):
			i += 2
		case c == ':' && len(rest) > 1 && isWord(rest[1]) && !('0' <= rest[1] && rest[1] <= '9'):
			end := 1
			for end < len(rest) && (isWord(rest[end]) || rest[end] == '.') {
				end++
			}
			s.parts, s.names = append(s.parts, text[from:i]), append(s.names, rest[1:end])
			i += end
			from = i
		case isWord(c):
			end := 1
			for end < len(rest) && isWord(rest[end]) {
				end++
			}
			s.words = append(s.words, strings.ToUpper(rest[:end]))
			i += end
		default:
			if c == ';' {
				s.words = append(s.words, ";")
			}
			i++
		}
	}
	s.parts = append(s.parts, text[from:])
	if strings.TrimSpace(strings.TrimRight(strings.TrimSpace(text), ";")) == "" {
		return nil, fmt.Errorf("there is no statement")
	}
	return s, nil
}

// reading are the words that a query begins with, and writing those that change something wherever they
// stand in one.
var (
	reading = []string{"SELECT", "WITH", "VALUES", "TABLE"}
	writing = []string{"INSERT", "UPDATE", "DELETE", "MERGE", "REPLACE", "TRUNCATE", "DROP", "CREATE", "ALTER", "GRANT", "REVOKE", "CALL", "EXECUTE", "INTO", "LOCK", "COPY", "HANDLER", "RENAME", "ATTACH", "PRAGMA", "VACUUM"}
)

// calls are those that are functions as well, or names of columns that nobody quotes.
var calls = []string{"REPLACE", "TRUNCATE", "LOCK", "COPY", "UPDATE", "DELETE", "INSERT", "CALL", "RENAME", "HANDLER"}

// Writes says why a statement is no query that only reads; empty: it is one. Not every engine holds
// back what writes in a transaction that may only read.
func (s *Statement) Writes() string {
	words := s.words
	for len(words) > 0 && words[len(words)-1] == ";" {
		words = words[:len(words)-1]
	}
	switch {
	case s.odd != "":
		return s.odd
	case len(words) == 0 || !slices.Contains(reading, words[0]):
		return fmt.Sprintf("it begins with %s, and is no query", strings.Join(words[:min(1, len(words))], ""))
	case slices.Contains(words, ";"):
		return "it is more than one statement"
	}
	for i, word := range words {
		if !slices.Contains(writing, word) || slices.Contains(calls, word) && !s.begins(words, i) {
			continue
		}
		return fmt.Sprintf("it has %s in it, which does not only read", word)
	}
	return ""
}

// begins reports whether a word that may be a function or a name as well begins a part that writes: of
// UPDATE … SET, INSERT INTO and DELETE FROM, or behind the AS of a WITH.
func (s *Statement) begins(words []string, i int) bool {
	next := ""
	if i+1 < len(words) {
		next = words[i+1]
	}
	switch words[i] {
	case "INSERT", "REPLACE":
		return next == "INTO" || i > 0 && words[i-1] == "AS"
	case "DELETE":
		return next == "FROM"
	case "UPDATE":
		return i > 0 && words[i-1] == "FOR" || slices.Contains(words[i:], "SET")
	}
	return false
}

// closes returns where a quoted text ends; doubled quotes are in it.
func closes(text string, quote byte, backslash bool) int {
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && backslash:
			i++
		case text[i] == quote && i+1 < len(text) && text[i+1] == quote:
			i++
		case text[i] == quote:
			return i + 1
		}
	}
	return -1
}

func untilAfter(text, what string, none int) int {
	if i := strings.Index(text, what); i >= 0 {
		return i + len(what)
	}
	return none
}

// dollars returns how long a text in dollar quotes is, as PostgreSQL has them; 1 if it is none.
func dollars(text string) int {
	end := strings.IndexByte(text[1:], '$') + 1
	if end == 0 || strings.ContainsFunc(text[1:end], func(r rune) bool { return r > 0x7f || !isWord(byte(r)) }) {
		return 1
	}
	tag := text[:end+1]
	if close := strings.Index(text[len(tag):], tag); close >= 0 {
		return close + 2*len(tag)
	}
	return 1
}

func isWord(c byte) bool {
	return c == '_' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9'
}

// Names lists the parameters, each once.
func (s *Statement) Names() []string {
	names := slices.Clone(s.names)
	slices.Sort(names)
	return slices.Compact(names)
}

// For writes the statement for an engine, and the values in the order in which it binds them.
func (s *Statement) For(scheme string, values map[string]any) (text string, args []any) {
	var out strings.Builder
	at := map[string]int{}
	for i, name := range s.names {
		out.WriteString(s.parts[i])
		if scheme != postgres {
			out.WriteByte('?')
			args = append(args, values[name])
			continue
		}
		if at[name] == 0 {
			args = append(args, values[name])
			at[name] = len(args)
		}
		fmt.Fprintf(&out, "$%d", at[name])
	}
	out.WriteString(s.parts[len(s.parts)-1])
	return out.String(), args
}
