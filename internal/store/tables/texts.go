package tables

import (
	"encoding/json"
	"errors"
	"strings"
	"unicode/utf8"

	"evenledger/internal/account"
)

// Changes stand in the tables as one flat list of texts, three for each (field,
// before, after), as lists of texts are read many times faster than objects. A
// value is marked with "=", and what is absent is "-"; "@" begins the two names of
// accounts that are referred to.
func changesText(changes []account.Change) string {
	flat := make([]string, 0, 3*len(changes))
	for _, c := range changes {
		before, after := mark(c.Before), mark(c.After)
		if c.Whole != "" { // JSON has no such separator in it
			before = "*" + c.Whole + "\x1f" + before
		}
		if c.Names != nil {
			after = "@" + nameless.Replace(c.Names[0]) + "\x1f" + nameless.Replace(c.Names[1]) + "\x1f" + after
		}
		flat = append(flat, c.Field, before, after)
	}
	return textsText(flat)
}

// textsText writes a list of texts as JSON; most need nothing escaped.
func textsText(texts []string) string {
	if len(texts) == 0 {
		return "[]"
	}
	size := 1
	for _, text := range texts {
		if size += len(text) + 3; !isBare(text) {
			return jsonText(texts)
		}
	}
	out := make([]byte, 0, size)
	for i, text := range texts {
		if out = append(out, ",\""...); i == 0 {
			out[0] = '['
		}
		out = append(append(out, text...), '"')
	}
	return string(append(out, ']'))
}

// isBare reports whether a text stands in JSON as it is.
func isBare(text string) bool {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			return isBareUTF8(text[i:])
		}
	}
	return true
}

func isBareUTF8(text string) bool {
	return utf8.ValidString(text) && !strings.ContainsFunc(text, func(r rune) bool {
		return r < ' ' || r == '"' || r == '\\' || r == '<' || r == '>' || r == '&' || r == '\u2028' || r == '\u2029' || r == 0x7f
	})
}

// nameless takes out of a name what separates it from what follows.
var nameless = strings.NewReplacer("\x1f", " ")

func mark(v account.Value) string {
	if !v.Present() {
		return "-"
	}
	return "=" + v.Text()
}

func readChanges(text string) ([]account.Change, error) {
	flat, err := readTexts(text)
	if err != nil {
		return nil, err
	}
	if len(flat)%3 != 0 {
		return nil, errors.New("the ledger's list of changes is broken")
	}
	changes := make([]account.Change, 0, len(flat)/3)
	for i := 0; i < len(flat); i += 3 {
		c := account.Change{Field: flat[i]}
		before, after := flat[i+1], flat[i+2]
		if strings.HasPrefix(before, "*") {
			c.Whole, before, _ = strings.Cut(before[1:], "\x1f")
		}
		c.Before = unmark(before)
		if strings.HasPrefix(after, "@") {
			if parts := strings.SplitN(after[1:], "\x1f", 3); len(parts) == 3 {
				c.Names, after = &[2]string{parts[0], parts[1]}, parts[2]
			}
		}
		c.After = unmark(after)
		changes = append(changes, c)
	}
	return changes, nil
}

// readTexts reads a list of texts. Where nothing is escaped, each ends where it seems to.
func readTexts(text string) (texts []string, err error) {
	const start, between, end = `["`, `","`, `"]`
	if strings.HasPrefix(text, start) && strings.HasSuffix(text, end) && len(text) > len(start+end) && strings.IndexByte(text, '\\') < 0 {
		return strings.Split(text[len(start):len(text)-len(end)], between), nil
	}
	return texts, read(text, &texts)
}

func unmark(text string) account.Value {
	if text, ok := strings.CutPrefix(text, "="); ok {
		return account.Of(text)
	}
	return account.Value{}
}

func read(text string, into any) error {
	if text == "" || text == "[]" || text == "{}" || text == "null" {
		return nil
	}
	return json.Unmarshal([]byte(text), into)
}

// jsonText writes a value as it stands in the tables; nothing is "[]".
func jsonText(value any) string {
	data, err := json.Marshal(value)
	if err != nil || string(data) == "null" {
		return "[]"
	}
	return string(data)
}
