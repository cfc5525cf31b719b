// Package profile tells what the columns of a sheet hold: kinds of value, how
// many differ, and what looks wrong, before anyone says what they mean.
//
// It promises to go through a sheet once in bounded memory, and that no value of
// a column that looks like one of passwords is ever in a Profile.
package profile

import (
	"fmt"
	"hash/maphash"
	"iter"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"evenledger/internal/account"
	"evenledger/internal/attribute"
	"evenledger/internal/codes"
	"evenledger/internal/heading"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// Bounds on what is remembered of one column.
const (
	maxDistinct = 100_000 // values counted exactly
	maxKept     = 3000    // values remembered as they are, to compare their spelling
	maxExamples = 4
	maxShown    = 60 // characters of an example
	maxRows     = 5  // rows named for one oddity
	sure        = 200
)

// A Profile is what was found in a sheet.
type Profile struct {
	Rows    int      `json:"rows"`
	Hidden  int      `json:"hiddenRows,omitempty"`
	Ragged  int      `json:"raggedRows,omitempty"`  // rows with values beyond the last heading
	Merged  int      `json:"mergedCells,omitempty"` // blank cells that are part of a larger one
	Strays  []Stray  `json:"strayRows,omitempty"`   // the first rows that are none of the table's
	Columns []Column `json:"columns"`
}

// A Stray is a row that is none of the table's, or perhaps none.
type Stray struct {
	Row int    `json:"row"`
	Why string `json:"why"`
}

// A Column is what was found in one column.
type Column struct {
	Heading  string   `json:"heading"`
	Field    string   `json:"field,omitempty"` // which it would be; empty: none
	Why      string   `json:"why,omitempty"`   // how that was told
	Sure     bool     `json:"sure"`            // it is called just so, or its values leave no doubt
	Kind     string   `json:"kind"`            // of most values
	Filled   int      `json:"filled"`
	Blank    int      `json:"blank"`
	Distinct int      `json:"distinct"`
	More     bool     `json:"more,omitempty"` // there are more than Distinct
	Shortest int      `json:"shortest"`       // characters
	Longest  int      `json:"longest"`
	Examples []string `json:"examples,omitempty"`
	Secret   bool     `json:"secret,omitempty"` // its values look like passwords and are not shown
	Odd      []Oddity `json:"odd,omitempty"`

	Negated  bool   `json:"negated,omitempty"`     // its yes means no: it says who may not sign in
	Refers   string `json:"refers,omitempty"`      // the field by which it names other people
	Ties     string `json:"memberships,omitempty"` // the kind of memberships that it names
	Beside   string `json:"beside,omitempty"`      // what it says of memberships beside it: role or section
	Action   bool   `json:"action,omitempty"`      // it says what is to happen to each row
	Status   bool   `json:"status,omitempty"`      // it says in words how things stand with people
	Private  bool   `json:"private,omitempty"`     // it is of people's own life
	exact    bool   // its heading is a field's
	said     bool   // its heading is understood by its words
	nameOnly bool   // its heading says “name” and nothing more
}

// An Oddity is something in a column that one should look at.
type Oddity struct {
	Message string `json:"message"`
	Count   int    `json:"count,omitempty"` // of cells
	Rows    []int  `json:"rows,omitempty"`  // the first
}

// Of goes through the rows of a sheet.
func Of(info sheet.Info, rows iter.Seq2[sheet.Row, error], told func(rows int)) (*Profile, error) {
	p := &Profile{}
	known := account.NewHeadings()
	if info.Traits().Attributes {
		known = attribute.Headings()
	}
	columns := make([]*column, len(info.Headings))
	seed, reading := maphash.MakeSeed(), heading.NewReader()
	reader := codes.NewReader(codes.Unsettled)
	reader.Tersely = true
	seen := &evidence{}
	for i, text := range info.Headings {
		columns[i] = &column{Column: Column{Heading: text}, seed: seed, reader: reader, distinct: map[uint64]struct{}{}, spelled: map[string]*spelling{}, memo: map[string]string{}, orders: map[string]*tally{}, kinds: map[string]*tally{}, lengths: map[int]*tally{}}
		columns[i].name(known, reading)
	}
	for i, c := range columns {
		names := func(at int) bool {
			return at >= 0 && at < len(columns) && (columns[at].Field == "userName" || columns[at].Field == "email")
		}
		c.hinted = isCode(c.Heading) && (names(i-1) || names(i+1))
	}
	adding := newAdder(columns)
	defer adding.end()
	at := adding.piece()
	for row, err := range rows {
		if err != nil {
			return nil, err
		}
		if row.Left {
			continue
		}
		p.Rows++
		if row.Hidden {
			p.Hidden++
		}
		if why := row.Aside + row.Doubt; why != "" && len(p.Strays) < 2*maxRows {
			p.Strays = append(p.Strays, Stray{row.Number, why})
		}
		for _, i := range row.Merged {
			if i < len(columns) && (i >= len(row.Cells) || row.Cells[i] == "") {
				p.Merged++
			}
		}
		if row.Aside != "" {
			continue // it says nothing of the columns
		}
		if len(row.Cells) > len(columns) && slices.ContainsFunc(row.Cells[len(columns):], func(s string) bool { return strings.TrimSpace(s) != "" }) {
			p.Ragged++
		}
		seen.take(row)
		if at.take(row); len(at.rows) == pieceSize {
			adding.full <- at
			at = adding.piece()
			if told != nil {
				told(p.Rows)
			}
		}
	}
	adding.full <- at
	adding.end()
	for _, c := range columns {
		p.Columns = append(p.Columns, c.finish())
	}
	seen.columns = p.Columns
	seen.weigh()
	p.guess()
	return p, nil
}

// pieceSize is how many rows are looked at together.
const pieceSize = 1000

// A piece is rows that are looked at together.
type piece struct {
	rows  []sheet.Row
	cells []string // of the rows, one after the other
}

// take copies a row, which is valid only until the next one is read.
func (p *piece) take(row sheet.Row) {
	from := len(p.cells)
	p.cells = append(p.cells, row.Cells...)
	row.Cells, row.Kinds = p.cells[from:len(p.cells):len(p.cells)], slices.Clone(row.Kinds)
	p.rows = append(p.rows, row)
}

// An adder takes pieces in, in their order, while the next is read.
type adder struct {
	full, used chan *piece
	ended      chan struct{}
	end        func() // waits until all is taken in
}

func newAdder(columns []*column) *adder {
	a := &adder{full: make(chan *piece), used: make(chan *piece, 2), ended: make(chan struct{})}
	a.used <- &piece{}
	a.used <- &piece{}
	a.end = sync.OnceFunc(func() {
		close(a.full)
		<-a.ended
	})
	go func() {
		defer close(a.ended)
		for p := range a.full {
			addAll(columns, p.rows)
			a.used <- p
		}
	}()
	return a
}

// piece returns one to be filled.
func (a *adder) piece() *piece {
	p := <-a.used
	p.rows, p.cells = p.rows[:0], p.cells[:0]
	return p
}

// addAll takes rows in, each core a part of the columns.
func addAll(columns []*column, rows []sheet.Row) {
	cores := runtime.GOMAXPROCS(0)
	var group sync.WaitGroup
	for core := range cores {
		group.Go(func() {
			for i := core; i < len(columns); i += cores {
				for n := range rows {
					row, text := &rows[n], ""
					if i < len(row.Cells) {
						text = row.Cells[i]
					}
					columns[i].add(row.Number, text, row.Kind(i))
				}
			}
		})
	}
	group.Wait()
}

// tally counts cells and names the first rows.
type tally struct {
	n       int
	rows    []int
	example string
}

func (t *tally) add(row int, example string) {
	if t.n++; len(t.rows) < maxRows {
		t.rows = append(t.rows, row)
	}
	if t.example == "" {
		t.example = strings.Clone(example)
	}
}

// spelling is how one thing is written, and the others that mean the same.
type spelling struct {
	texts []string
	rows  []int
}

type column struct {
	Column
	seed     maphash.Seed
	reader   *codes.Reader
	distinct map[uint64]struct{}
	again    tally // values that were there before
	spelled  map[string]*spelling
	kept     int
	kinds    map[string]*tally
	memo     map[string]string // kinds of values that come again
	orders   map[string]*tally // of dates that come again
	most     string            // the kind of nearly all so far; empty: none yet
	lengths  map[int]*tally
	number   tally // cells stored as numbers
	lists    tally // values with separators in them

	look   look
	hinted bool // it stands beside what names an account, and is called as what one signs in with

	spaced, mixed, garbled, failed, long, uncounted, secret, dayFirst, monthFirst, either tally
}

// secretHeadings begin or end the headings of columns with passwords, as words.Key has
// them.
var secretHeadings = []string{
	"password", "passwd", "pwd", "passwort", "kennwort", "motdepasse", "contrasena", "senha", "passcode", "pincode", "passphrase", "accesscode",
	"secret", "credential", "credentials", "token", "apikey", "haslo", "heslo", "geslo", "jelszo", "parola", "parole", "parol", "parool", "sifre",
	"wachtwoord", "losenord", "adgangskode", "passord", "lozinka", "salasana", "kodikos",
}

// secretShort are words of such headings that are too short to begin or end others; secretPass are those
// that make “pass” one of them, which may be a card as well.
var (
	secretShort = []string{"pin", "pw", "pwd", "psw", "passw"}
	secretPass  = []string{"login", "logon", "user", "account", "initial", "first", "temp", "temporary", "new", "default", "mail", "email", "wifi"}
)

// headingWords are the words of a heading.
func headingWords(heading string) []string {
	return strings.FieldsFunc(words.NameKey(heading), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// secretByWord reports whether a short word of a heading says that it is of passwords.
func secretByWord(heading string) bool {
	all := headingWords(heading)
	has := func(some []string) bool {
		return slices.ContainsFunc(all, func(word string) bool { return slices.Contains(some, word) })
	}
	return has(secretShort) || has([]string{"pass"}) && (len(all) == 1 || has(secretPass))
}

// secretWords are headings of such columns in scripts without spaces between words.
var secretWords = []string{words.Key("パスワード"), "密码", "密碼", "口令", "비밀번호", "암호"}

// SecretHeading reports whether a heading is that of passwords.
func SecretHeading(heading string) bool {
	key := words.Key(heading)
	if strings.HasPrefix(key, "secretar") { // a secretary
		return false
	}
	return secretByWord(heading) || slices.ContainsFunc(secretHeadings, func(s string) bool { return strings.HasPrefix(key, s) || strings.HasSuffix(key, s) }) ||
		slices.ContainsFunc(secretWords, func(s string) bool { return strings.Contains(key, s) })
}

func (c *column) name(known account.Headings, reading *heading.Reader) {
	key := words.Key(c.Heading)
	c.Secret = SecretHeading(c.Heading)
	if c.Secret || sheet.IsOurs(c.Heading) || key == "" {
		return
	}
	if f, ok := known.Field(c.Heading); ok {
		c.Field, c.Why, c.Sure, c.exact = f.Name, "its heading", true, true
		c.Refers = reading.Meaning(c.Heading).Refers
		return
	}
	m := reading.Meaning(c.Heading)
	c.Negated, c.Refers, c.Ties, c.Beside, c.Action, c.Private = m.Negated, m.Refers, m.Ties, m.Beside, m.Action, m.Private
	c.Status = m.Says["status"] && m.Only("status", "person", "user", "signin", "account", "active")
	c.nameOnly = m.Says["name"] && m.Only("name", "person", "legal")
	if m.Field != "" {
		c.Field, c.Sure, c.said = m.Field, m.Sure, true
		if c.Why = "what its heading says"; c.Sure {
			c.Why = "its heading"
		}
		return
	}
	if len(m.Says) > 0 && len(m.Unknown) == 0 || m.Private || m.Says["other"] || len(key) < 4 {
		return // nearly everything is near to so little
	}
	var headings []string
	for _, f := range account.Fields() {
		headings = append(headings, f.Headings...)
	}
	if near := words.Nearest(c.Heading, headings); near != "" {
		f, _ := known.Field(near)
		c.Field, c.Why = f.Name, fmt.Sprintf("its heading, which is nearly “%s”", near)
	}
}

// isKey reports whether no two rows should share a value of the column.
func (c *column) isKey() bool {
	return slices.Contains([]string{"employeeNumber", "userName", "email", "externalId"}, c.Field)
}

// add takes a cell in.
func (c *column) add(row int, raw string, kind sheet.CellKind) {
	if kind == sheet.Uncalculated {
		c.uncounted.add(row, "")
	}
	text := raw
	if !words.IsPlain(raw) {
		var spaced bool
		if text, spaced = words.Clean(raw); spaced && text != "" {
			c.spaced.add(row, text)
		}
	}
	if text == "" {
		c.Blank++
		return
	}
	c.Filled++
	c.letters(row, text)
	if !c.Secret && LooksSecret(text) {
		c.secret.add(row, "")
	}
	if !c.Secret && c.look.filled < aheadRows {
		c.look.add(text)
	}
	if c.isNew(row, text) && len(c.Examples) < maxExamples {
		c.Examples = append(c.Examples, strings.Clone(words.First(text, maxShown)))
	}
	switch kind {
	case sheet.Faulty:
		c.failed.add(row, text)
		return
	case sheet.Numeric:
		c.number.add(row, text)
	}
	if text[0] == '#' && len(text) < 14 && (strings.HasSuffix(text, "!") || strings.HasSuffix(text, "?") || text == "#N/A") {
		c.failed.add(row, text)
		return
	}
	c.count(row, text, kind)
}

// letters looks at the letters of a value, and at how many there are.
func (c *column) letters(row int, text string) {
	length := len(text)
	if !isASCII(text) {
		length = utf8.RuneCountInString(text)
		if said, garbled := words.Ungarbled(text); garbled {
			c.garbled.add(row, text+"” for “"+said)
		}
		if mixedLetters(text) {
			c.mixed.add(row, text)
		}
	}
	if c.Shortest == 0 || length < c.Shortest {
		c.Shortest = length
	}
	c.Longest = max(c.Longest, length)
}

// isNew counts a value, and reports whether it is the first of its like.
func (c *column) isNew(row int, text string) bool {
	if len(c.distinct) >= maxDistinct && !(c.isKey() && len(c.distinct) < 20*maxDistinct) {
		c.More = true
		return false
	}
	hash := maphash.String(c.seed, text)
	if _, was := c.distinct[hash]; was {
		c.again.add(row, text)
		return false
	}
	c.distinct[hash] = struct{}{}
	if c.kept < maxKept {
		c.kept++
		key := words.Key(text)
		s := c.spelled[key]
		if s == nil {
			s = &spelling{}
			c.spelled[strings.Clone(key)] = s
		}
		if len(s.texts) < maxExamples {
			s.texts, s.rows = append(s.texts, strings.Clone(text)), append(s.rows, row)
		}
	}
	return true
}

// count counts the kind of a value.
func (c *column) count(row int, text string, stored sheet.CellKind) {
	if c.Filled%sure == 0 {
		c.most = c.leading()
	}
	kind := c.kindOfCell(text, stored)
	t := c.kinds[kind]
	if t == nil {
		t = &tally{}
		c.kinds[kind] = t
	}
	t.add(row, text)
	switch kind {
	case "digits":
		t := c.lengths[len(text)]
		if t == nil {
			t = &tally{}
			c.lengths[len(text)] = t
		}
		t.add(row, text)
		if len(text) > 15 && stored == sheet.Numeric {
			c.long.add(row, text)
		}
	case "date":
		if stored != sheet.Dated {
			if t := c.order(text); t != nil {
				t.add(row, text)
			}
		}
	case "number":
		if strings.ContainsAny(text, "eE") {
			c.long.add(row, text)
		}
	}
	if strings.IndexByte(text, ';') >= 0 || strings.IndexByte(text, '|') >= 0 {
		c.lists.add(row, text)
	}
}

// kindOfCell is the kind of a cell's value. Once nearly all are of one kind it is asked for
// first; a column of texts is not asked any more.
func (c *column) kindOfCell(text string, stored sheet.CellKind) string {
	switch {
	case stored == sheet.Dated:
		return "date"
	case stored == sheet.Logical:
		return "yes or no"
	case c.most == "text":
		return "text"
	case c.most != "" && c.most != "date" && c.is(c.most, text):
		return c.most
	}
	kind, known := c.memo[text]
	if !known {
		if kind = c.kindOf(text); len(c.memo) < maxKept {
			c.memo[strings.Clone(text)] = kind
		}
	}
	return kind
}

// order returns the tally of the order in which a date has its day and month; nil: it is
// plain.
func (c *column) order(text string) *tally {
	if t, known := c.orders[text]; known {
		return t
	}
	var t *tally
	switch codes.OrderOf(text) {
	case codes.DayFirst:
		t = &c.dayFirst
	case codes.MonthFirst:
		t = &c.monthFirst
	default:
		if _, err := c.reader.Read(account.Date, text); err != nil {
			t = &c.either
		}
	}
	if len(c.orders) < maxKept {
		c.orders[strings.Clone(text)] = t
	}
	return t
}

// leading returns the kind of at least nineteen in twenty cells so far.
func (c *column) leading() string {
	for kind, t := range c.kinds {
		if 20*t.n >= 19*c.Filled {
			return kind
		}
	}
	return ""
}

// kindsAsked are the kinds in the order in which a value is tried.
var kindsAsked = []string{"digits", "number", "date", "yes or no", "email", "phone", "time zone", "country", "language"}

func (c *column) kindOf(text string) string {
	for _, kind := range kindsAsked {
		if c.is(kind, text) {
			return kind
		}
	}
	return "text"
}

func (c *column) is(kind, text string) bool {
	read := func(kind account.Kind) bool { _, err := c.reader.Read(kind, text); return err == nil }
	first := text[0]
	digit := first >= '0' && first <= '9'
	switch kind {
	case "text":
		return true
	case "digits":
		return digit && strings.Trim(text, "0123456789") == ""
	case "number":
		return (digit || first == '-' || first == '.') && strings.Trim(text, "0123456789.,-+eE") == "" && strings.Trim(text, ".,-+eE") != "" && strings.Count(text, "-") < 2 && strings.Count(text, ".") < 2
	case "date":
		if len(text) < 8 || len(text) > 40 || !strings.ContainsAny(text, "0123456789") || strings.Trim(text, "0123456789 ") == "" {
			return false
		}
		return read(account.Date) || codes.IsAmbiguousDate(text)
	case "yes or no":
		return !digit && len(text) < 10 && len(text) > 1 && read(account.YesNo)
	case "email":
		return strings.IndexByte(text, '@') > 0 && read(account.Email)
	case "phone":
		return (digit || first == '+' || first == '(') && len(text) > 6 && read(account.Phone)
	case "time zone":
		return strings.IndexByte(text, '/') > 0 && read(account.Timezone)
	case "country":
		return !digit && len(text) < 40 && read(account.Country)
	case "language":
		return !digit && len(text) < 30 && read(account.Language)
	}
	return false
}

func isASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// mixedLetters reports a word with letters of more than one of the alphabets
// whose letters look alike.
func mixedLetters(text string) bool {
	latin, other := false, false
	for _, r := range text {
		switch {
		case !unicode.IsLetter(r):
			latin, other = false, false
		case unicode.Is(unicode.Latin, r):
			latin = true
		case unicode.Is(unicode.Cyrillic, r), unicode.Is(unicode.Greek, r):
			other = true
		}
		if latin && other {
			return true
		}
	}
	return false
}

// LooksSecret reports whether a value looks like a password: no spaces, and
// letters of both kinds, digits and signs that names and codes don't have.
func LooksSecret(text string) bool {
	if len(text) < 8 || len(text) > 64 || strings.IndexByte(text, ' ') >= 0 {
		return false
	}
	var upper, lower, digit, sign bool
	for _, r := range text {
		switch {
		case r >= 'A' && r <= 'Z':
			upper = true
		case r >= 'a' && r <= 'z':
			lower = true
		case r >= '0' && r <= '9':
			digit = true
		case strings.ContainsRune(signs, r):
			sign = true
		}
	}
	return upper && lower && digit && sign
}

// Concealed returns a text without the words in it that look like passwords, and
// without what stands behind the name of one.
func Concealed(text string) string {
	if name, _, found := strings.Cut(text, ":"); found && len(name) < 60 && SecretHeading(name[strings.LastIndexByte(name, '.')+1:]) {
		return name + ": (not shown)"
	}
	if len(text) < 8 || !strings.ContainsAny(text, signs) {
		return text
	}
	concealed := text
	for word := range strings.FieldsSeq(text) {
		if LooksSecret(strings.Trim(word, `.,;:"“”()`)) {
			concealed = strings.ReplaceAll(concealed, word, "(not shown)")
		}
	}
	return concealed
}

// signs are in passwords and not in names and codes.
const signs = "!#$%^&*?~<>{}[]"

// finish sums a column up.
func (c *column) finish() Column {
	c.Distinct = len(c.distinct)
	asked := c.Filled - c.failed.n
	c.Kind = "blank"
	if asked > 0 {
		c.Kind = "text"
	}
	best := 0
	for _, kind := range append(slices.Clone(kindsAsked), "text") {
		if t := c.kinds[kind]; t != nil && t.n > best {
			best = t.n
			if 5*t.n >= 4*asked {
				c.Kind = kind
			}
		}
	}
	// Two-letter words are countries and languages alike.
	if c.Kind == "text" && c.kinds["country"] != nil && c.kinds["language"] != nil && c.kinds["country"].n+c.kinds["language"].n == asked {
		c.Kind = "language"
	}
	// A heading that is only nearly right is no proof against the values.
	if f, ok := account.FieldNamed(c.Field); ok && !c.exact && f.Kind == account.Text && slices.Contains([]string{"date", "email", "yes or no", "phone"}, c.Kind) {
		c.Field, c.Why = "", ""
	}
	if 2*c.secret.n > c.Filled || !c.exact && c.look.secret(c.hinted) {
		c.Secret, c.Field, c.Why = true, "", ""
	}
	if c.Field == "title" && c.isAddress() {
		c.Field, c.Why = "honorificPrefix", "its values, which are forms of address"
	}
	c.oddities(asked)
	if c.Secret || c.secret.n > 0 {
		// One such value is enough not to show any.
		c.Examples = nil
		for i := range c.Odd {
			c.Odd[i].Message, _, _ = strings.Cut(c.Odd[i].Message, ": “")
		}
	}
	return c.Column
}

func (c *column) odd(t *tally, format string, args ...any) {
	if t.n > 0 {
		c.Odd = append(c.Odd, Oddity{fmt.Sprintf(format, args...), t.n, t.rows})
	}
}

func (c *column) oddities(asked int) {
	c.odd(&c.failed, "an error of the spreadsheet program: “%s”", c.failed.example)
	c.odd(&c.uncounted, "a formula without its value")
	c.odd(&c.long, "a number that has lost its last digits: “%s”", c.long.example)
	c.odd(&c.garbled, "letters read in the wrong encoding: “%s”", c.garbled.example)
	c.odd(&c.mixed, "letters of different alphabets in one word: “%s”", c.mixed.example)
	c.odd(&c.spaced, "white space or characters without width around or in the value")
	c.otherKinds()
	if c.Kind == "date" {
		switch {
		case c.dayFirst.n > 0 && c.monthFirst.n > 0:
			c.odd(&c.either, "day or month could be first, and the others go both ways: “%s”", c.either.example)
		case c.either.n > 0 && c.dayFirst.n+c.monthFirst.n == 0:
			c.odd(&c.either, "day or month could be first: “%s”", c.either.example)
		}
	}
	if c.Kind == "digits" {
		c.shorter(asked)
	}
	if unique := c.isKey() || c.Distinct >= 20 && 50*c.again.n <= c.Filled && c.Kind != "text" && c.Kind != "date" && c.Kind != "country"; unique && !c.More {
		c.odd(&c.again, "stands in another row already, in what looks like a key: “%s”", c.again.example)
	}
	if c.Distinct <= maxKept && !c.More {
		c.nearly()
	}
}

// otherKinds tells values that are of another kind than the others.
func (c *column) otherKinds() {
	if slices.Contains([]string{"text", "blank", "language", "country"}, c.Kind) {
		return // which may be anything
	}
	others := tally{}
	for kind, t := range c.kinds {
		if kind == c.Kind || kind == "digits" && (c.Kind == "phone" || c.Kind == "number") {
			continue
		}
		for _, row := range t.rows {
			others.add(row, t.example)
		}
		others.n += t.n - len(t.rows)
	}
	slices.Sort(others.rows)
	c.odd(&others, "not of the kind %s as the others are: “%s”", c.Kind, words.First(others.example, maxShown))
}

// shorter tells keys of which zeros in front may be lost: nearly all others are longer.
func (c *column) shorter(asked int) {
	common, all := false, 0
	lengths := slices.Sorted(maps.Keys(c.lengths))
	for _, t := range c.lengths {
		common = common || 5*t.n >= 4*asked
		all += t.n
	}
	if n := len(lengths); !common && n > 1 && lengths[n-1] > 3 && all == asked && c.Distinct == asked && !c.More {
		uneven := tally{n: all - c.lengths[lengths[n-1]].n, example: c.lengths[lengths[0]].example, rows: c.lengths[lengths[0]].rows}
		c.odd(&uneven, "digits of uneven length, %d to %d: if these are keys, zeros in front may be lost: “%s”", lengths[0], lengths[n-1], uneven.example)
	}
	for length, t := range c.lengths {
		if 5*t.n < 4*asked {
			continue
		}
		short := tally{}
		for other, u := range c.lengths {
			if other < length {
				short.n += u.n
				short.rows = append(short.rows, u.rows...)
				short.example = u.example
			}
		}
		slices.Sort(short.rows)
		short.rows = short.rows[:min(len(short.rows), maxRows)]
		c.odd(&short, "shorter than the %d digits of the others, so zeros in front may be lost: “%s”", length, short.example)
	}
}

// nearly tells of values that differ in capitals, accents or punctuation only.
func (c *column) nearly() {
	var same []*spelling
	for key, s := range c.spelled {
		if len(s.texts) > 1 && key != "" {
			same = append(same, s)
		}
	}
	slices.SortFunc(same, func(a, b *spelling) int { return a.rows[0] - b.rows[0] })
	for i, s := range same {
		if i == 3 {
			c.Odd = append(c.Odd, Oddity{Message: fmt.Sprintf("%d more values are written in several ways", len(same)-i)})
			break
		}
		c.Odd = append(c.Odd, Oddity{Message: "the same is written in several ways: “" + strings.Join(s.texts, "”, “") + "”", Rows: s.rows})
	}
}

// addresses are the forms of address that stand in columns called “Title”.
var addresses = strings.Fields("mr mrs ms miss mx dr prof sir madam herr frau hr fr m mme mlle sr sra srta dna dhr mevr mw pan pani sig sigra")

// isAddress reports whether nearly all values of a column are forms of address.
func (c *column) isAddress() bool {
	n := 0
	for key, s := range c.spelled {
		if !slices.Contains(addresses, key) {
			return false
		}
		n += len(s.texts)
	}
	return n > 0 && !c.More
}

// halves are headings that mean one part of a name beside a column with the other, and
// perhaps the whole name without.
var halves = map[string]string{"nom": "givenName", "nome": "familyName", "nombre": "familyName"}

// guess names the field of columns whose heading says nothing, by their values.
func (p *Profile) guess() {
	p.doubtHalves()
	p.guessByKind()
	p.guessKey()
	p.settleTwice()
}

// doubtHalves takes back that a heading says all where it may be that of half a name.
func (p *Profile) doubtHalves() {
	for i, c := range p.Columns {
		if other := halves[words.Key(c.Heading)]; other != "" && c.Sure && !slices.ContainsFunc(p.Columns, func(o Column) bool { return o.Field == other }) {
			p.Columns[i].Sure, p.Columns[i].Why = false, "its heading, if it is not the whole name"
		}
	}
}

// guessByKind guesses by values that are of one kind in one column alone.
func (p *Profile) guessByKind() {
	for kind, field := range map[string]string{"email": "email", "time zone": "timezone", "country": "country"} {
		if slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Field == field }) {
			continue
		}
		at := -1
		for i, c := range p.Columns {
			if c.Kind == kind && c.Field == "" && !c.Secret && c.Filled > 1 && !sheet.IsOurs(c.Heading) {
				if at >= 0 {
					at = -2 // which of them is meant cannot be told
					break
				}
				at = i
			}
		}
		if at >= 0 {
			p.Columns[at].Field, p.Columns[at].Why = field, "its values"
		}
	}
}

// guessKey guesses which column has the key, if no heading says so.
func (p *Profile) guessKey() {
	if slices.ContainsFunc(p.Columns, func(c Column) bool {
		return slices.Contains([]string{"employeeNumber", "externalId", "userName"}, c.Field)
	}) {
		return
	}
	for i, c := range p.Columns {
		if c.Field == "" && c.looksLikeKey() {
			p.Columns[i].Field, p.Columns[i].Why = "employeeNumber", "its values, which look like a key"
			return
		}
	}
}

func (c *Column) looksLikeKey() bool {
	few := 5
	if slices.Contains([]string{"no", "nr", "num", "number", "id", "nummer", "numero"}, words.Key(c.Heading)) {
		few = 2 // the heading speaks for it too
	}
	return c.Kind == "digits" && !c.Secret && !c.More && c.Blank == 0 && c.Filled >= few && 20*c.Distinct >= 19*c.Filled && c.Longest < 16
}

// settleTwice settles which of two columns for one field counts: the first with the very
// heading.
func (p *Profile) settleTwice() {
	taken := map[string]int{}
	for i, c := range p.Columns {
		if c.Field == "" {
			continue
		}
		first, twice := taken[c.Field]
		switch {
		case !twice:
			taken[c.Field] = i
		case c.exact && !p.Columns[first].exact || c.Sure && !p.Columns[first].Sure:
			p.Columns[first].Field, p.Columns[first].Why, p.Columns[first].Sure = "", "", false
			taken[c.Field] = i
		default:
			p.Columns[i].Field, p.Columns[i].Why, p.Columns[i].Sure = "", "", false
		}
	}
}
