// Package codes turns what people write into the standard code: the country
// "Portugal" into PT, "yes" into true, "3 March 2027" into 2027-03-03.
//
// A Reader promises that what it returns without an error is exactly the form
// the standard names, and that a value already in that form comes back as it is.
// It guesses nothing: what can be read in two ways is an error that says so.
package codes

import (
	_ "embed" // the tables
	"errors"
	"fmt"
	"net/mail"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/language"

	"evenledger/internal/account"
	"evenledger/internal/words"
)

//go:generate go run ./generate .

// The tables are made from Debian's iso-codes (LGPL-2.1-or-later data, facts of
// ISO 3166-1 and ISO 639), the Unicode CLDR names (Unicode licence) and the time
// zone database (public domain).
var (
	//go:embed countries.tsv
	countryTable string
	//go:embed languages.tsv
	languageTable string
	//go:embed zones.txt
	zoneTable string
	//go:embed phones.tsv
	phoneTable string // country, calling code (ITU-T E.164), prefix dialled within the country
)

// An Error says why a text could not be read as the kind of value wanted.
type Error struct {
	Code   account.Code // of account.Codes
	Reason string       // completes "“text” …"
	Remedy string       // more particular than the code's own, or empty
}

func (e *Error) Error() string { return e.Reason }

// DateOrder settles dates such as 3/4/2027.
type DateOrder uint8

// The orders; with Unsettled a date that could be either is an error.
const (
	Unsettled DateOrder = iota
	DayFirst
	MonthFirst
)

// A Reader reads values of every kind. It may be used by several goroutines.
// Its tables are readied when first needed, as most sheets need few of them.
type Reader struct {
	Dates   DateOrder
	Settled bool   // Dates was found out from the column: a date in the other order is an error
	Tersely bool   // errors suggest nothing, which spares the time
	Phones  string // country of telephone numbers without a country code; or empty

	countries func() table
	languages func() table
	zones     func() table

	names   func() map[string][]string // of countries: code → name, code of three letters
	tongues func() map[string][]string // likewise of languages
}

// A table finds a code by the key of what people write. A key that stands for
// several codes finds "".
type table struct {
	code  map[string]string
	names []string // what to suggest
}

// NewReader returns a Reader for dates of that order.
func NewReader(dates DateOrder) *Reader {
	return &Reader{
		Dates:     dates,
		countries: sync.OnceValue(func() table { return readTable(countryTable) }),
		languages: sync.OnceValue(func() table { return readTable(languageTable) }),
		zones:     sync.OnceValue(readZones),
		names:     sync.OnceValue(func() map[string][]string { return writtenAs(countryTable) }),
		tongues:   sync.OnceValue(func() map[string][]string { return writtenAs(languageTable) }),
	}
}

func readTable(text string) table {
	t := table{code: make(map[string]string)}
	for line := range strings.Lines(text) {
		cells := strings.Split(strings.TrimSpace(line), "\t")
		code := cells[0]
		t.code[words.Key(code)] = code
		t.names = append(t.names, cells[1])
	}
	for line := range strings.Lines(text) {
		cells := strings.Split(strings.TrimSpace(line), "\t")
		for _, name := range cells[1:] {
			key := words.Key(name)
			if other, taken := t.code[key]; !taken {
				t.code[key] = cells[0]
			} else if other != cells[0] && len(key) > 2 {
				t.code[key] = ""
			}
		}
	}
	return t
}

func readZones() table {
	t := table{code: make(map[string]string)}
	for line := range strings.Lines(zoneTable) {
		name := strings.TrimSpace(line)
		t.code["="+name] = name // exact, as Etc/GMT+1 and Etc/GMT-1 share a key
		t.names = append(t.names, name)
		key := words.Key(name)
		if _, taken := t.code[key]; taken {
			name = ""
		}
		t.code[key] = name
	}
	for _, name := range t.names {
		slash := strings.LastIndexByte(name, '/')
		if slash < 0 || strings.HasPrefix(name, "Etc/") {
			continue
		}
		key := words.Key(name[slash+1:])
		if other, taken := t.code[key]; !taken {
			t.code[key] = name
		} else if other != name && strings.Contains(other, "/") {
			t.code[key] = preferred(other, name)
		}
	}
	return t
}

// preferred settles a town that several zone names end in, as with the old
// spellings America/Louisville and America/Kentucky/Louisville.
func preferred(a, b string) string {
	switch {
	case strings.Count(a, "/") > strings.Count(b, "/"):
		return a
	case strings.Count(b, "/") > strings.Count(a, "/"):
		return b
	}
	return ""
}

// A Form is how a code is written.
type Form string

// The forms.
const (
	Alpha2 Form = "alpha-2" // of a country (ISO 3166-1)
	Alpha3 Form = "alpha-3" // likewise
	Name   Form = "name"    // of a country or language, in English
)

// Write writes a country or language in a form; empty: it is none, or has no such form.
func (r *Reader) Write(kind account.Kind, code string, form Form) string {
	written := r.names
	if kind == account.Language {
		written = r.tongues
	}
	cells := written()[code]
	switch {
	case cells == nil:
		return ""
	case form == Name:
		return cells[0]
	case form == Alpha3 && kind == account.Country:
		return cells[1]
	}
	return code
}

// writtenAs has the name and the code of three letters of each code of a table.
func writtenAs(text string) map[string][]string {
	all := map[string][]string{}
	for line := range strings.Lines(text) {
		cells := strings.Split(strings.TrimSpace(line), "\t")
		all[cells[0]] = append(cells[1:min(3, len(cells))], "")
	}
	return all
}

// Read reads text, already trimmed, as a value of the kind; none is the blank of every kind.
// The error is always an *Error.
func (r *Reader) Read(kind account.Kind, text string) (string, error) {
	if text == "" {
		return "", nil
	}
	switch kind {
	case account.Login:
		return login(text)
	case account.Email:
		return email(text)
	case account.Phone:
		return r.phone(text)
	case account.Date:
		return r.date(text)
	case account.YesNo:
		return yesNo(text)
	case account.Country:
		return r.country(text)
	case account.Language:
		return r.language(text)
	case account.Locale:
		return r.language(text)
	case account.Timezone:
		return r.timezone(text)
	case account.Number:
		return number(text)
	case account.Place:
		return place(text), nil
	}
	return text, nil
}

// place writes a place without slashes at its ends or two together, and without blanks around them; the top is one. A slash behind a
// backslash is a part of a name.
func place(text string) string {
	var parts []string
	from := 0
	end := func(to int) {
		if part := strings.TrimSpace(text[from:to]); part != "" {
			parts = append(parts, part)
		}
		from = to + 1
	}
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '/':
			end(i)
		}
	}
	if end(len(text)); len(parts) == 0 {
		return "/"
	}
	return strings.Join(parts, "/")
}

func (r *Reader) country(text string) (string, error) {
	if !isName(text) && !isPlainCode(text) {
		return "", &Error{Code: account.NotACountry, Reason: "is not a country"}
	}
	return r.lookUp(r.countries(), text, account.NotACountry, "is not a country")
}

func (r *Reader) lookUp(t table, text string, code account.Code, reason string) (string, error) {
	found, known := t.code[words.Key(text)]
	if found != "" {
		return found, nil
	}
	e := &Error{Code: code, Reason: reason}
	if known {
		e.Reason = "could mean more than one thing"
	} else if r.Tersely {
		return "", e
	} else if near := words.Nearest(text, t.names); near != "" {
		e.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
	} else if holding := t.holding(text); len(holding) > 0 {
		e.Remedy = fmt.Sprintf("Did you mean “%s”?", strings.Join(holding, "” or “"))
	}
	return "", e
}

// holding lists the names in which a text is one of the words, if they are a few.
func (t table) holding(text string) (names []string) {
	key := words.NameKey(text)
	for _, name := range t.names {
		if strings.Contains(" "+words.NameKey(strings.NewReplacer(",", " ", "(", " ", ")", " ").Replace(name))+" ", " "+key+" ") {
			names = append(names, name)
		}
	}
	if len(names) > 3 {
		return nil
	}
	return names
}

// isPlainCode reports whether a text is letters and digits only, as codes are.
func isPlainCode(text string) bool {
	return !strings.ContainsFunc(text, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) })
}

// isName reports whether a text may be the name of something: letters, with what
// stands in names between them. What has a slash or a currency, or digits among
// signs, is something else, whatever its letters say without them.
func isName(text string) bool {
	letters := 0
	for _, c := range text {
		switch {
		case unicode.IsLetter(c):
			letters++
		case unicode.Is(unicode.Mn, c), strings.ContainsRune(" -'’ʼ.:,()&–", c):
		default:
			return false
		}
	}
	return letters > 1
}

func (r *Reader) language(text string) (string, error) {
	if !isName(text) && !isPlainCode(strings.NewReplacer("-", "", "_", "").Replace(text)) {
		return "", &Error{Code: account.NotALanguage, Reason: "is not a language"}
	}
	// Names first: "Danish" would otherwise be taken for a tag of six letters.
	if len(text) > 3 {
		if found := r.languages().code[words.Key(text)]; found != "" {
			return found, nil
		}
	}
	tag, err := language.Parse(strings.ReplaceAll(text, "_", "-"))
	if err == nil && tag != language.Und {
		return tag.String(), nil
	}
	if tag := r.spoken(text); tag != "" {
		return tag, nil
	}
	return r.lookUp(r.languages(), text, account.NotALanguage, "is not a language")
}

func login(text string) (string, error) {
	for _, c := range text {
		if c > ' ' && c < '\x7f' {
			continue // nearly every one
		}
		if unicode.IsSpace(c) || unicode.IsControl(c) || !unicode.IsPrint(c) {
			return "", &Error{Code: account.NotSignInName, Reason: "holds white space or characters that cannot be typed"}
		}
	}
	// What a formula makes of a name that has no letters it knows.
	if text[0] == '.' || text[len(text)-1] == '.' {
		return "", &Error{Code: account.NotSignInName, Reason: "begins or ends with a point", Remedy: "If it is made from a name that cannot be written in Latin letters, give the sheet a column for the sign-in name."}
	}
	return text, nil
}

// email accepts one bare address (RFC 5321 section 4.1.2, without quoted local
// parts, comments and address literals, which no directory takes).
func email(text string) (string, error) {
	if isOrdinary(text) {
		return text, nil
	}
	fault := func(reason string) (string, error) {
		return "", &Error{Code: account.NotAnEmail, Reason: reason}
	}
	at := strings.LastIndexByte(text, '@')
	switch {
	case at < 0:
		return fault("has no @")
	case at == 0:
		return fault("has nothing before the @")
	case len(text) > 254 || at > 64:
		return fault("is longer than an address can be")
	case strings.ContainsAny(text, " \t,;<>()\"[]"):
		return fault("is more than a single bare address")
	}
	domain := text[at+1:]
	if !strings.Contains(domain, ".") {
		return fault("has no domain with a point after the @")
	}
	for label := range strings.SplitSeq(domain, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return fault("has no valid domain after the @")
		}
		for _, c := range label {
			if c >= 'a' && c <= 'z' || c == '-' {
				continue
			}
			if !unicode.IsLetter(c) && !unicode.IsDigit(c) {
				return fault("has no valid domain after the @")
			}
		}
	}
	parsed, err := mail.ParseAddress(text)
	if err != nil || parsed.Address != text {
		return fault("is not an email address")
	}
	return text, nil
}

// isOrdinary spares nearly every address the rest: letters without accents, digits and a
// few signs, in parts of which none begins or ends with another sign than it may.
func isOrdinary(text string) bool {
	at, part, points := -1, 0, 0 // where the @ and the part at hand begin
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
		case c == '.' && i > part:
			part = i + 1
			if at >= 0 {
				points++
				if text[i-1] == '-' {
					return false
				}
			}
		case c == '@' && at < 0 && i > part:
			at, part = i, i+1
		case c == '-' && (at < 0 || i > part), (c == '_' || c == '+') && at < 0:
		default:
			return false
		}
		if at >= 0 && i-part > 62 {
			return false
		}
	}
	return at > 0 && at <= 64 && points > 0 && part < len(text) && len(text) <= 254 && text[len(text)-1] != '-'
}

// KnowsPhones returns an error if nothing is known of a country's numbers.
func KnowsPhones(country string) error {
	if _, _, ok := dialling(country); !ok {
		return &Error{Code: account.NotACountry, Reason: "is no country whose telephone numbers are known"}
	}
	return nil
}

// dialling returns a country's calling code and the prefix dialled within it.
func dialling(country string) (code, prefix string, ok bool) {
	_, line, found := strings.Cut("\n"+phoneTable, "\n"+country+"\t")
	if !found {
		return "", "", false
	}
	line, _, _ = strings.Cut(line, "\n")
	code, prefix, _ = strings.Cut(line, "\t")
	return code, strings.TrimPrefix(prefix, "-"), true
}

// international writes digits as ITU-T E.164 does, if the country is known. A number
// that begins neither as one of the country does nor as one from abroad has perhaps
// lost its plus sign: nobody can say what it is.
func (r *Reader) international(digits string) (string, error) {
	rest, international := strings.CutPrefix(digits, "+")
	if !international {
		rest, international = strings.CutPrefix(digits, "00")
	}
	lost := func() (string, error) {
		return "", &Error{Code: account.NotAPhone, Reason: "begins neither with + nor as a number within a country does", Remedy: "If it has lost its plus sign, write +" + digits + "."}
	}
	switch {
	case international && (rest == "" || rest[0] == '0'):
		return "", &Error{Code: account.NotAPhone, Reason: "has a country code that begins with 0"}
	case digits[0] == '+':
		return digits, nil
	case international:
		return "+" + rest, nil
	case r.Phones == "" && digits[0] != '0' && len(digits) > 10:
		return lost()
	case r.Phones == "":
		return digits, nil
	}
	code, prefix, _ := dialling(r.Phones) // the brief was checked for it
	switch {
	case prefix != "" && len(prefix) == 1 && prefix != "1" && !strings.HasPrefix(digits, prefix):
		return lost()
	case prefix == "" && strings.HasPrefix(digits, code) && len(digits) > map[bool]int{true: 11, false: 9}[r.Phones == "IT"]:
		return lost() // Italian numbers may begin as their country's code does
	}
	return "+" + code + strings.TrimPrefix(digits, prefix), nil
}

func (r *Reader) phone(text string) (string, error) {
	if len(text) > 4 && strings.EqualFold(text[:4], "tel:") { // RFC 3966, as some systems keep them
		text = text[4:]
	}
	if strings.HasPrefix(text, "+") || strings.HasPrefix(text, "00") {
		text = strings.Replace(text, "(0)", "", 1) // +44 (0)20 … is dialled +44 20 …
	}
	var room [32]byte
	out, digits := room[:0], 0
	for i, c := range text {
		switch {
		case c >= '0' && c <= '9':
			digits++
			out = append(out, byte(c))
		case c == '+' && i == 0:
			out = append(out, '+')
		case strings.ContainsRune(" -./()\u00a0\u2010\u2011\u2013", c):
		default:
			return "", &Error{Code: account.NotAPhone, Reason: fmt.Sprintf("holds “%c”, which is in no telephone number", c)}
		}
	}
	if digits < 5 || digits > 15 {
		return "", &Error{Code: account.NotAPhone, Reason: fmt.Sprintf("has %d digits", digits)}
	}
	if len(out) == len(text) {
		return r.international(text)
	}
	return r.international(string(out))
}

func yesNo(text string) (string, error) {
	if isPlainCode(text) { // “-1” and “\N” are something else
		switch words.Key(text) {
		case "yes", "y", "true", "t", "1", "on", "active", "enabled", "x",
			"ja", "j", "oui", "si", "sim", "tak", "kylla", "nai", "da", "ano", "igen", "jah", "taip", "evet", "ya",
			"wahr", "vrai", "verdadero", "verdadeiro", "vero", "waar", "prawda", "sand", "sant", "pravda", "igaz",
			"aktiv", "aktiva", "actif", "activo", "activa", "ativo", "ativa", "attivo", "attiva", "actief", "aktywny", "aktywna", "aktivni", "etkin",
			"はい", "是", "예", "نعم", "כן":
			return "true", nil
		case "no", "n", "false", "f", "0", "off", "inactive", "disabled",
			"nein", "non", "nao", "nie", "nej", "nei", "ei", "oxi", "ochi", "net", "ne", "nem", "nee", "hayir", "tidak",
			"falsch", "faux", "falso", "onwaar", "falsz", "falsk", "nepravda", "hamis",
			"inaktiv", "inaktiva", "inactif", "inactivo", "inactiva", "inativo", "inativa", "inattivo", "inattiva", "inactief", "nieaktywny", "nieaktywna", "gesperrt",
			"いいえ", "否", "아니오", "لا", "לא":
			return "false", nil
		}
	}
	switch text {
	case "✓", "✔":
		return "true", nil
	case "✗", "✘":
		return "false", nil
	}
	return "", &Error{Code: account.NotYesOrNo, Reason: "is neither yes nor no"}
}

func number(text string) (string, error) {
	seen, point := 0, false
	for i, c := range text {
		switch {
		case c >= '0' && c <= '9':
			seen++
		case (c == '-' || c == '+') && i == 0:
		case c == '.' && !point:
			point = true
		default:
			return "", &Error{Code: account.NotANumber, Reason: "is not a number"}
		}
	}
	if seen == 0 || seen > 18 {
		return "", &Error{Code: account.NotANumber, Reason: "is not a number"}
	}
	return strings.TrimPrefix(text, "+"), nil
}

// errDate is what a date that fits no layout gives.
var errDate = errors.New("not a date")

func (r *Reader) date(text string) (string, error) {
	day, err := r.parseDate(text)
	if err == nil {
		return day.Format(time.DateOnly), nil
	}
	var told *Error
	if errors.As(err, &told) {
		return "", told
	}
	return "", &Error{Code: account.NotADate, Reason: "is not a date"}
}

func (r *Reader) parseDate(text string) (time.Time, error) {
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return inRange(day)
	}
	// A time of day behind the date is what exports of databases have.
	if len(text) > 10 && text[4] == '-' && (text[10] == 'T' || text[10] == ' ') {
		for _, layout := range []string{time.RFC3339Nano, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05"} {
			if day, err := time.Parse(layout, text); err == nil {
				return inRange(day)
			}
		}
	}
	parts := strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune("/.- ,", c) })
	if len(parts) == 4 && month(parts[0]) == 0 && month(parts[1]) == 0 && month(parts[2]) != 0 {
		parts = parts[1:] // Monday, 3 March 2027
	}
	if len(parts) != 3 {
		return time.Time{}, errDate
	}
	if m := month(parts[1]); m != 0 { // 3 March 2027
		return build(parts[2], m, strings.TrimRight(parts[0], "stndrh"))
	}
	if m := month(parts[0]); m != 0 { // March 3rd, 2027
		return build(parts[2], m, strings.TrimRight(parts[1], "stndrh"))
	}
	for _, part := range parts { // an address such as “3 Pier Road” is none
		if strings.Trim(part, "0123456789") != "" {
			return time.Time{}, errDate
		}
	}
	first, second := small(parts[0]), small(parts[1])
	switch {
	case len(parts[0]) == 4: // 2027/03/04
		return build(parts[0], time.Month(second), parts[2])
	case len(parts[2]) != 4:
		return time.Time{}, &Error{Code: account.NotADate, Reason: "has no year of four digits"}
	case r.Settled && (first > 12 && r.Dates == MonthFirst || second > 12 && r.Dates == DayFirst):
		return time.Time{}, &Error{Code: account.MixedDates, Reason: "has day and month the other way round than other dates of the column"}
	case r.Settled && r.Dates == MonthFirst && strings.Contains(text, ".") && first != second:
		return time.Time{}, &Error{Code: account.AmbiguousDate, Reason: "has points, as dates with the day first have, and others of the column have the month first"}
	case first > 12 || first == second:
		return build(parts[2], time.Month(second), parts[0])
	case second > 12:
		return build(parts[2], time.Month(first), parts[1])
	case r.Dates == DayFirst || strings.Contains(text, "."): // points stand only in day-first countries
		return build(parts[2], time.Month(second), parts[0])
	case r.Dates == MonthFirst:
		return build(parts[2], time.Month(first), parts[1])
	}
	return time.Time{}, &Error{Code: account.AmbiguousDate, Reason: "could be day/month or month/day"}
}

// InBothOrders reports whether a date has another day when its day and month are
// swapped.
func InBothOrders(day string) bool {
	return len(day) >= 10 && day[8:10] <= "12" && day[8:10] != day[5:7]
}

// OrderOf tells in which order a date has its day and month, or Unsettled if it
// could be either or says it in another way.
func OrderOf(text string) DateOrder {
	dayFirst, monthFirst := Reader{Dates: DayFirst, Settled: true}, Reader{Dates: MonthFirst, Settled: true}
	var told *Error
	if _, err := dayFirst.parseDate(text); errors.As(err, &told) && told.Code == account.MixedDates {
		return MonthFirst
	}
	if _, err := monthFirst.parseDate(text); errors.As(err, &told) && told.Code == account.MixedDates {
		return DayFirst
	}
	return Unsettled
}

// IsAmbiguousDate reports whether text is a date whose day and month could be
// either way round.
func IsAmbiguousDate(text string) bool {
	var told *Error
	r := Reader{}
	_, err := r.parseDate(text)
	return errors.As(err, &told) && told.Code == account.AmbiguousDate
}

func small(digits string) int {
	n := 0
	for _, c := range digits {
		if c < '0' || c > '9' || n > 99 {
			return 0
		}
		n = 10*n + int(c-'0')
	}
	return n
}

func build(year string, month time.Month, day string) (time.Time, error) {
	y, d := 0, small(day)
	if len(year) == 4 {
		y = small(year[:2])*100 + small(year[2:])
	}
	if y == 0 || month < 1 || month > 12 || d == 0 {
		return time.Time{}, errDate
	}
	built := time.Date(y, month, d, 0, 0, 0, 0, time.UTC)
	if built.Day() != d {
		return time.Time{}, &Error{Code: account.NotADate, Reason: "is a day that month does not have"}
	}
	return inRange(built)
}

func inRange(day time.Time) (time.Time, error) {
	if day.Year() < 1900 || day.Year() > 2200 {
		return time.Time{}, &Error{Code: account.NotADate, Reason: fmt.Sprintf("lies in the year %d", day.Year())}
	}
	return day, nil
}

// month reads the English name of a month, or its first three letters.
func month(word string) time.Month {
	if utf8.RuneCountInString(word) < 3 {
		return 0
	}
	word = strings.ToLower(strings.TrimSuffix(word, "."))
	for m := time.January; m <= time.December; m++ {
		name := strings.ToLower(m.String())
		if word == name || word == name[:3] || word == "sept" && m == time.September {
			return m
		}
	}
	return 0
}
