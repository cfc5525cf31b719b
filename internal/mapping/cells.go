package mapping

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// read reads the cell of field i to the standard form of its kind.
func (w *Worker) read(i int, f *brief.Field) (account.Value, state) {
	if w.from[i] >= len(w.cells) {
		return account.Value{}, fine
	}
	return w.value(i, f, w.from[i], w.cell(w.from[i]))
}

// value reads a text out of a column as a value of field i.
func (w *Worker) value(i int, f *brief.Field, column int, text string) (account.Value, state) {
	heading := w.headings[column]
	if f.Split != "" {
		text = strings.TrimSpace(text) // the spaces after separators are nothing to tell
	}
	if w.kinds != nil || len(text) > 4 || text != "" && text[0] == '#' {
		if w.spoiled(column, f, heading, text) {
			return account.Value{}, faulty
		}
	}
	if !words.IsPlain(text) {
		var sound bool
		if text, sound = w.tidy(f, heading, text); !sound {
			return account.Value{}, faulty
		}
	}
	if text == "" || w.blanks[text] {
		return account.ValueOr(f.ViaExact[""]), fine // a table may say what a blank stands for
	}
	meant := false
	if first := text[0]; first == '=' || first == '"' || first == '\'' {
		inner := w.unwrapped(f, heading, text)
		text, meant = inner, inner != text
	}
	if len(text) > maxValue {
		w.find(account.Error, account.TooLong, heading, f.Name, fmt.Sprintf("the cell is %d bytes long, and a field takes at most %d", len(text), maxValue))
		return account.Value{}, faulty
	}
	if f.Via != nil {
		if value, s, known := w.via(f, heading, text); known {
			return value, s
		}
	}
	switch {
	case !meant && isPlaceholder(text) && !(f.Kind == account.Place && text == "/"):
		w.find(account.Error, account.Placeholder, heading, f.Name, fmt.Sprintf("“%s” stands for something that is not known, and would be taken for a value", show(text)))
		return account.Value{}, faulty
	case f.Digits > 0:
		if strings.Trim(text, "0123456789") != "" || len(text) > f.Digits {
			w.find(account.Error, account.NotANumber, heading, f.Name, fmt.Sprintf("“%s” is no number of %d digits", show(text), f.Digits))
			return account.Value{}, faulty
		}
		return account.Of(strings.Repeat("0", f.Digits-len(text)) + text), fine
	case f.Kind == account.Text || f.Kind == account.Person:
		return account.Of(text), fine
	case f.Kind == account.Number && thousands.MatchString(text) && w.kind(column) == sheet.Plain:
		w.find(account.Error, account.NotANumber, heading, f.Name, fmt.Sprintf("“%s” could be %s or %s", text, strings.Replace(text, ".", "", 1), strings.TrimRight(text, "0")+"0"))
		last(w.wants).Remedy = "Write it without a point, or with other than three digits behind it."
		return account.Value{}, faulty
	}
	return w.standard(i, heading, text)
}

// via looks a cell's value up in the brief's table for the field.
// What it does not have and that is read as it is is not known.
func (w *Worker) via(f *brief.Field, heading, text string) (value account.Value, s state, known bool) {
	through, ok := f.ViaExact[text]
	if !ok {
		through, ok = f.Via[words.NameKey(text)]
	}
	switch {
	case !ok && f.ViaOpen:
		return value, fine, false
	case !ok:
		w.find(account.Error, account.ViaUnlisted, heading, f.Name, fmt.Sprintf("“%s” is not in the brief's table for %s", show(text), f.Name))
		if near := words.Nearest(text, f.ViaWords); near != "" {
			last(w.wants).Remedy = fmt.Sprintf("Did you mean “%s”? Else add it to the table.", near)
		}
		return value, faulty, true
	case through == "":
		return value, fine, true
	}
	return account.Of(through), fine, true
}

// thousands is a number whose point may stand before decimals or after thousands.
var thousands = regexp.MustCompile(`^[+-]?[1-9][0-9]{0,2}\.[0-9]{3}$`)

// placeholders say that nothing is known; they are read only.
var placeholders = map[string]bool{
	"n/a": true, "#n/a": true, "n.a.": true, "n.a": true, "n/d": true, "n.d.": true, "k.a.": true, "k. a.": true, "s/o": true, `\n`: true,
	"<null>": true, "(null)": true, "[null]": true, "nil": true, "nan": true, "none": true, "(none)": true, "(blank)": true, "(leer)": true,
	"undefined": true, "tbc": true, "tbd": true, "tba": true, "unknown": true, "xxx": true, "null": true,
}

// isPlaceholder reports whether a cell says that nothing is known.
func isPlaceholder(text string) bool {
	first := text[0] | 0x20 // in small letters
	if first >= 'a' && first <= 'z' || text[0] >= '0' && text[0] <= '9' {
		if !beginsPlaceholder(first, text) {
			return false // nearly every cell
		}
	}
	if len(text) <= 10 && placeholders[strings.ToLower(text)] {
		return text != "Null" && text != "Nil" && text != "Nan" // which are names
	}
	if last := text[len(text)-1]; last >= '0' && last <= '9' || last|0x20 >= 'a' && last|0x20 <= 'z' {
		return false
	}
	return (text[0] < '0' || text[0] >= utf8.RuneSelf || text[0] == '?' || text[0] == '_') && strings.Trim(text, "-–—.?*_/ ") == ""
}

// beginsPlaceholder reports whether the first two letters may be those of a placeholder;
// it saves looking at the rest.
func beginsPlaceholder(first byte, text string) bool {
	if len(text) < 3 || len(text) > 10 {
		return false
	}
	second := text[1] | 0x20
	switch first {
	case 'n':
		return strings.IndexByte("/.iaou", second) >= 0
	case 'k':
		return second == '.'
	case 's':
		return second == '/'
	case 'u':
		return second == 'n'
	case 't':
		return second == 'b'
	case 'x':
		return second == 'x'
	}
	return false
}

// wrapped are ways to keep a spreadsheet program from taking a text for a number:
// ="00101", the text in quotes, or an apostrophe before digits.
var wrapped = regexp.MustCompile(`^(?:=?"([^"]*)"|'([^']*)'|'([0-9][^']*))$`)

// unwrapped takes such wrapping off.
func (w *Worker) unwrapped(f *brief.Field, heading, text string) string {
	parts := wrapped.FindStringSubmatch(text)
	if parts == nil || w.exact {
		return text
	}
	inner, _ := words.Clean(parts[1] + parts[2] + parts[3])
	if inner == "" {
		return text
	}
	w.find(account.Note, account.Unwrapped, heading, f.Name, fmt.Sprintf("“%s” is read as “%s”", show(text), show(inner)))
	return inner
}

// list reads the cells of field i as several values: those of a family of columns,
// or of one cell in which they are split.
func (w *Worker) list(i int, f *brief.Field) (account.Value, state) {
	columns := w.family[i]
	if columns == nil {
		columns = []int{w.from[i]}
	}
	var items []string
	for _, column := range columns {
		if column >= len(w.cells) {
			continue
		}
		for _, part := range w.itemsIn(f, column) {
			value, state := w.value(i, f, column, part)
			if state == faulty {
				return account.Value{}, faulty
			}
			if value.Filled() && !slices.Contains(items, value.Text()) {
				items = append(items, value.Text())
			}
		}
	}
	if len(items) == 0 {
		return account.Value{}, fine
	}
	return account.Of(account.ListOf(items)), fine
}

// cell is the text of a cell that holds one value.
func (w *Worker) cell(column int) string {
	if w.kind(column) == sheet.Listed {
		if items := sheet.SplitItems(w.cells[column]); len(items) == 1 {
			return items[0]
		}
	}
	return w.cells[column]
}

// itemsIn are the values in a cell of a field that may have several.
func (w *Worker) itemsIn(f *brief.Field, column int) []string {
	switch {
	case f.Split == "":
		return []string{w.cell(column)}
	case w.kind(column) == sheet.Listed:
		return sheet.SplitItems(w.cells[column])
	}
	return split(w.cells[column], f)
}

// errorCells are what spreadsheet programs show for a formula that failed; a
// sheet saved as text has just that.
var errorCells = []string{"#N/A", "#REF!", "#VALUE!", "#DIV/0!", "#NAME?", "#NULL!", "#NUM!", "#SPILL!", "#CALC!", "#GETTING_DATA", "#ERROR!"}

// longNumber and shortDate are how spreadsheet programs write, in a text file,
// numbers too long for the column and codes that they took for dates.
var (
	longNumber = regexp.MustCompile(`^-?[0-9]([.,][0-9]+)?[eE]\+[0-9]+$`)
	shortDate  = regexp.MustCompile(`^(?i:[0-9]{1,2}-(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)|(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)-[0-9]{2})$`)
)

// sureDigits is how many digits of a number spreadsheet programs keep.
const sureDigits = 15

// longestCode is the longest of the codes that spreadsheet programs take for dates.
const longestCode = 7

// spoiled tells of a cell whose value a spreadsheet program did not keep.
func (w *Worker) spoiled(column int, f *brief.Field, heading, text string) bool {
	kind := w.kind(column)
	switch {
	case kind == sheet.Faulty, text != "" && text[0] == '#' && slices.Contains(errorCells, text):
		w.find(account.Error, account.ErrorCell, heading, f.Name, fmt.Sprintf("the cell holds the error %s", show(text)))
		return true
	case kind == sheet.Uncalculated:
		w.find(account.Error, account.NotCalculated, heading, f.Name, "the cell holds a formula without its value")
		return true
	case f.Kind == account.Number || text == "":
		return false
	case kind == sheet.Numeric && len(text) > sureDigits && len(strings.Trim(text, "-0.")) > 0 && !strings.ContainsAny(text, ". /()"):
		w.find(account.Error, account.LostDigits, heading, f.Name, fmt.Sprintf("%s is stored as a number, of which only the first %d digits are kept", show(text), sureDigits))
		return true
	case kind == sheet.Plain && text[0] <= '9' && strings.IndexByte(text, '+') > 0 && longNumber.MatchString(text):
		w.find(account.Error, account.LostDigits, heading, f.Name, fmt.Sprintf("“%s” is a longer number that was written short, and its other digits are lost", show(text)))
		return true
	}
	if kind == sheet.Plain && len(text) > longestCode {
		return false // as with most cells
	}
	return w.misdated(kind, f, heading, text)
}

// misdated refuses what a spreadsheet program took for a date and was none, or for another
// date than it was.
func (w *Worker) misdated(kind sheet.CellKind, f *brief.Field, heading, text string) bool {
	switch {
	case kind == sheet.Dated && f.Kind == account.Date && w.swapped[w.brief.Field(f.Name)] != "" && codes.InBothOrders(text):
		w.find(account.Error, account.SwappedDate, heading, f.Name, fmt.Sprintf("%s is perhaps %s-%s-%s: the program that opened the sheet could not take %s for a date, so it has the day and month the other way round", text[:10], text[:4], text[8:10], text[5:7], w.swapped[w.brief.Field(f.Name)]))
		return true
	case kind == sheet.Dated && f.Kind != account.Date && f.Via == nil:
		w.find(account.Error, account.BecameADate, heading, f.Name, fmt.Sprintf("the cell holds the date %s, and the %s is no date", show(text), f.Label))
		return true
	case kind == sheet.Plain && len(text) <= longestCode && f.Kind == account.Text && f.Via == nil && strings.IndexByte(text, '-') > 0 && shortDate.MatchString(text):
		w.find(account.Warning, account.BecameADate, heading, f.Name, fmt.Sprintf("“%s” looks like a code that was taken for a date", show(text)))
	}
	return false
}

// kind is how a cell of the row is stored.
func (w *Worker) kind(column int) sheet.CellKind {
	if column < len(w.kinds) {
		return w.kinds[column]
	}
	return sheet.Plain
}

// tidy takes away what cannot be seen around and in a cell's text. It is not
// sound if it holds what nobody could have typed.
func (w *Worker) tidy(f *brief.Field, heading, text string) (tidy string, sound bool) {
	tidy, spaced := words.Clean(text)
	if r, bad := words.ControlCharacter(tidy); bad {
		w.find(account.Error, account.BrokenText, heading, f.Name, fmt.Sprintf("“%s” holds the character U+%04X, which cannot be seen", show(tidy), r))
		return "", false
	}
	if w.certain != sheet.Told {
		if sign, found := words.SignInWord(tidy); found {
			w.find(account.Error, account.GarbledText, heading, f.Name, fmt.Sprintf("“%s” has “%c” within a word: the sheet is in another encoding than was guessed", show(tidy), sign))
			last(w.wants).Remedy = "Say in which encoding the sheet was saved: --encoding, or “sheet: {encoding: …}” in the brief."
			return "", false
		}
	}
	if w.certain == sheet.Doubted && strings.ContainsFunc(tidy, func(r rune) bool { return r >= utf8.RuneSelf }) {
		w.find(account.Error, account.DoubtedEncoding, heading, f.Name, fmt.Sprintf("“%s” may be written otherwise: nothing says in which encoding the sheet is, and its words fit two", show(tidy)))
	}
	if said, garbled := words.Ungarbled(tidy); garbled {
		w.find(account.Warning, account.GarbledText, heading, f.Name, fmt.Sprintf("“%s” looks like “%s”, read in the wrong encoding", show(tidy), show(said)))
	}
	if f.Name != "streetAddress" {
		line, broken := words.OneLine(tidy)
		tidy, spaced = line, spaced || broken
	}
	if spaced && tidy != "" {
		w.find(account.Note, account.OddWhiteSpace, heading, f.Name, fmt.Sprintf("white space or characters without width were taken away around “%s”", show(tidy)))
	}
	return tidy, true
}

// standard reads text as a value of the field's kind.
func (w *Worker) standard(i int, heading, text string) (account.Value, state) {
	f := &w.brief.Fields[i]
	if f.Kind == account.Text {
		return account.Of(text), fine
	}
	memo := w.memo[i]
	if value, ok := memo[text]; ok {
		return account.Of(value), fine
	}
	value, err := w.readers[i].Read(f.Kind, text)
	if err == nil {
		if memo != nil && len(memo) < memoSize {
			memo[strings.Clone(text)] = value // the text would keep its whole row
		}
		return account.Of(value), fine
	}
	code := account.NotAllowedValue
	var told *codes.Error
	if errors.As(err, &told) {
		code = told.Code
	}
	w.find(account.Error, code, heading, f.Name, fmt.Sprintf("“%s” %s", show(text), err))
	if told != nil && told.Remedy != "" {
		last(w.wants).Remedy = told.Remedy
	}
	return account.Value{}, faulty
}
