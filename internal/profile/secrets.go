package profile

import (
	"iter"
	"slices"
	"strings"
	"unicode"

	"evenledger/internal/account"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// aheadRows is how many rows are looked at to see which columns hold passwords.
const aheadRows = 500

// Secrets tells which columns of a sheet hold passwords: each as a whole, by its heading or by the look
// of its cells. Rows are read as far as is needed. Columns whose heading is that of a field of accounts
// are what they are called.
func Secrets(headings []string, rows iter.Seq2[sheet.Row, error]) (secret []bool, err error) {
	known := account.NewHeadings()
	secret, looks := make([]bool, len(headings)), make([]look, len(headings))
	signs := make([]bool, len(headings)) // columns that name an account
	for i, heading := range headings {
		secret[i] = SecretHeading(heading)
		f, is := known.Field(heading)
		signs[i] = is && (f.Name == "userName" || f.Name == "email")
		looks[i].known = is || sheet.IsOurs(heading)
	}
	n := 0
	for row, err := range rows {
		if err != nil {
			return secret, err
		}
		if row.Aside != "" {
			continue
		}
		for i := range min(len(headings), len(row.Cells)) {
			if !secret[i] && !looks[i].known {
				looks[i].add(row.Cells[i])
			}
		}
		if n++; n == aheadRows {
			break
		}
	}
	for i, heading := range headings {
		beside := i > 0 && signs[i-1] || i+1 < len(signs) && signs[i+1]
		secret[i] = secret[i] || !looks[i].known && looks[i].secret(beside && isCode(heading))
	}
	return secret, nil
}

// isCode reports whether a heading is that of something which is handed to a person, a password perhaps.
func isCode(heading string) bool {
	return slices.ContainsFunc(headingWords(heading), func(word string) bool { return word == "code" || word == "key" || word == "login" })
}

// A look sums up how the cells of a column look.
type look struct {
	known    bool
	filled   int
	mixed    int             // of more than one kind of characters, and no plain number, word or date
	lower    int             // of those, with small letters
	strong   int             // of those, that look like nothing else by themselves
	distinct map[string]bool // values
	shapes   map[string]bool // which kinds of characters follow each other
}

func (l *look) add(cell string) {
	text, _ := words.Clean(cell)
	if text == "" {
		return
	}
	if l.distinct == nil {
		l.distinct, l.shapes = map[string]bool{}, map[string]bool{}
	}
	l.filled++
	l.distinct[text] = true
	shape, kinds, lower := shapeOf(text)
	l.shapes[shape] = true
	if len(text) < 5 || len(text) > 64 || strings.ContainsAny(text, " \t\n@") || kinds < 2 || shape == "d-d-d" || shape == "d.d.d" || shape == "d/d/d" {
		return
	}
	l.mixed++
	if lower {
		l.lower++
	}
	if LooksSecret(text) {
		l.strong++
	}
}

// shapeOf writes one sign for each run of characters of a kind: a small letter, A capital, d digit, and
// any other as it is. It returns how many of letters, digits and signs there are, but for what stands in
// names and dates.
func shapeOf(text string) (shape string, kinds int, lower bool) {
	var out strings.Builder
	var last rune
	has := map[rune]bool{}
	for _, r := range text {
		kind := r
		switch {
		case unicode.IsLower(r):
			kind, lower = 'a', true
		case unicode.IsUpper(r):
			kind = 'A'
		case unicode.IsDigit(r):
			kind = 'd'
		}
		if kind != last {
			out.WriteRune(kind)
		}
		if last = kind; kind == 'a' || kind == 'A' {
			has['a'] = true
		} else if kind == 'd' || strings.ContainsRune(signs, r) {
			has[kind] = true
		}
	}
	return out.String(), len(has), lower
}

// secret reports whether the cells are passwords, as far as their look tells: nearly all of them mixed,
// hardly two the same, and of many shapes, where codes of an organisation have one. With hinted, so
// says the heading where the column stands.
func (l *look) secret(hinted bool) bool {
	if l.filled == 0 {
		return false
	}
	most := func(n int) bool { return 5*n >= 4*l.filled }
	unlike := 10*len(l.distinct) >= 9*l.filled
	switch {
	case 2*l.strong > l.filled:
		return true
	case hinted:
		return unlike && most(l.mixed)
	case l.filled < 3:
		return false
	}
	return unlike && most(l.mixed) && most(l.lower) && 5*len(l.shapes) >= 2*l.filled
}
