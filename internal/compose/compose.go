// Package compose writes a first brief for a sheet: what its columns seem to
// mean, how a sign-in name can be made, what the system wants and the sheet
// lacks.
//
// It promises a brief that loads if a column is a sure key, and says what is missing
// if none is; that what is not sure stands in it as a comment; and that no column of
// the sheet is left unmentioned.
package compose

import (
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/heading"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// A Source is what a brief is written from.
type Source struct {
	Name    string // of the brief
	System  string // as evenledger.yaml names it; may be empty
	Info    sheet.Info
	Profile *profile.Profile
	Schema  *account.Schema // nil: not known
	Today   string          // year-month-day
	Keyless bool            // no column is a sure key

	reader *heading.Reader
}

// field is a line under “fields”.
type field struct {
	name    string
	keys    []string // of the flow mapping
	comment string
	perhaps bool // it is not sure, and stands as a comment
}

// Brief writes the brief.
func (s *Source) Brief() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	memberships, named := s.memberships()
	if i := s.actionColumn(); i >= 0 {
		named[s.Profile.Columns[i].Heading] = true
	}
	fields, unused := s.fields(named)
	match := s.Match(named)

	line("# A first brief for %s, written on %s from what its columns seem to be.", comment(s.Info.Name), s.Today)
	line("# Look at each line: what was guessed says so. Then: evenledger check SHEET -b %s", yamldoc.Scalar(s.Name))
	line("brief: %s", yamldoc.Scalar(s.Name))
	if s.System != "" {
		line("system: %s", yamldoc.Scalar(s.System))
	} else {
		line("# system: NAME          the system of evenledger.yaml whose accounts are meant")
	}
	if len(s.Info.Tabs) > 1 {
		line("sheet: {tab: %s}", yamldoc.Scalar(s.Info.Tab))
	}
	s.dates(line)
	s.phones(line)
	s.only(line)
	s.intent(line)
	if len(match) > 0 {
		line("match: [%s]", strings.Join(match, ", "))
	} else {
		line("# match: [employeeNumber]   to be completed: no column is a sure key. One is needed that each")
		line("#   person has alone, such as a staff number, a sign-in name or an address of their own.%s", s.nearlyKeys())
	}
	line("new: create             # create, skip or refuse")
	line("known: update           # update, fill, skip or refuse")
	line("")
	line("fields:")
	for _, f := range fields {
		text := "  " + map[bool]string{true: "# "}[f.perhaps] + f.name + ": {" + strings.Join(f.keys, ", ") + "}"
		if f.comment != "" {
			text += strings.Repeat(" ", max(1, 56-len(text))) + "# " + f.comment
		}
		line("%s", text)
	}
	if len(memberships) > 0 {
		line("\n# Others that are there stay; “mode: exact” would leave just those named.")
		for _, text := range memberships {
			line("%s", text)
		}
	}
	if len(unused) > 0 {
		line("\n# Columns that are not used:")
		for _, text := range unused {
			line("#   %s", text)
		}
	}
	if lacking := s.lacking(fields); len(lacking) > 0 {
		line("\n# The system wants these of a new account, and nothing gives them yet:")
		for _, a := range lacking {
			line("#   %s: {from: …}%s", a.Field, map[bool]string{true: "   one of " + comment(strings.Join(a.Allowed, ", ")), false: ""}[len(a.Allowed) > 0])
		}
	}
	return b.String()
}

// column returns the column that is surely a field.
func (s *Source) column(name string) (profile.Column, bool) {
	for _, c := range s.Profile.Columns {
		if c.Field == name && c.Sure && !c.Secret {
			return c, true
		}
	}
	return profile.Column{}, false
}

func (s *Source) has(name string) bool { _, ok := s.column(name); return ok }

// takes reports whether the system takes a field, as far as is known.
func (s *Source) takes(name string) bool {
	if s.Schema == nil {
		return true
	}
	a, ok := s.Schema.Attribute(name)
	return ok && !a.ReadOnly
}

// keys are the fields that find an account.
var keys = []string{"employeeNumber", "externalId", "userName", "email"}

// perhaps are headings that mean a field in some sheets and something else in others.
var perhaps = map[string]string{
	"role": "title", "rol": "title", "rolle": "title", "funcion": "title", "name": "formattedName", "naam": "formattedName", "nazwa": "formattedName", "staff": "formattedName",
	"service": "department", "servicio": "department", "area": "department", "sector": "department", "unit": "department", "orgunit": "department",
	"location": "locality", "standort": "locality", "site": "locality", "lieu": "locality", "lugar": "locality", "lokalizacja": "locality", "locatie": "locality",
	"id": "employeeNumber", "no": "employeeNumber", "nr": "employeeNumber", "number": "employeeNumber", "code": "employeeNumber",
}

func (s *Source) fields(named map[string]bool) (fields []field, unused []string) {
	dates := 0
	names := s.names(named)
	for i, c := range s.Profile.Columns {
		about := comment(c.Heading)
		if guess := perhaps[words.Key(c.Heading)]; c.Field == "" && guess != "" && !s.has(guess) {
			c.Field, c.Why = guess, "its heading, which can mean something else"
		}
		if c.Heading != "" && (sheet.IsOurs(c.Heading) || isUsed(named, c.Heading)) {
			continue
		}
		if s.isUnit(c) {
			c.Field, c.Sure = "unit", true
		}
		if _, ok := s.flag(c); ok && c.Field == "" && c.Status && !s.has("active") {
			c.Field, c.Sure = "active", true
		}
		switch {
		case c.Heading == "" && c.Filled > 0:
			unused = append(unused, fmt.Sprintf("column %s, which has no heading", sheet.ColumnName(i)))
			continue
		case c.Heading == "":
			continue
		case c.Secret:
			unused = append(unused, about+": looks like passwords")
			continue
		case names.from[c.Heading]:
			continue
		case c.Field == "" && c.Kind == "date" && !s.taken(i):
			dates++
			fields = append(fields, dateField(c.Heading, dates, fields))
			continue
		case c.Field == "" || s.taken(i):
			unused = append(unused, about+": "+summed(c))
			continue
		case !s.takes(c.Field):
			unused = append(unused, fmt.Sprintf("%s: would be %s, which the system does not take", about, c.Field))
			continue
		}
		fields = append(fields, s.field(c))
	}
	fields = append(fields, names.fields...)
	if f, ok := s.signIn(); ok {
		fields = append(fields, f)
	}
	return fields, unused
}

// dateField is the field for the nth column of dates, which has a name that no other has.
func dateField(heading string, n int, others []field) field {
	name := camel(heading)
	if name == "" || n > 1 && slices.ContainsFunc(others, func(f field) bool { return f.name == name }) {
		name = fmt.Sprintf("date%d", n)
	}
	return field{name: name, keys: []string{"from: " + yamldoc.Scalar(heading), "as: date", "send: false"}, comment: "for checks only; sent nowhere"}
}

// summed says of which kind the values of a column are, and how many there are. A brief is read by
// others: nothing of a person's stands in it.
func summed(c profile.Column) string {
	if c.Filled == 0 {
		return "blank in every row"
	}
	more := ""
	if c.More {
		more = " and more"
	}
	return fmt.Sprintf("%s, %d filled, %d%s different", c.Kind, c.Filled, c.Distinct, more)
}

// field is the field that a column gives.
func (s *Source) field(c profile.Column) field {
	f := field{name: c.Field, keys: []string{"from: " + yamldoc.Scalar(c.Heading)}}
	if !c.Sure {
		f.perhaps, f.comment = true, "perhaps, by "+comment(c.Why)
	}
	if wanted := s.wants(c.Field) || c.Field == "employeeNumber" || c.Field == "givenName" || c.Field == "familyName"; wanted && (c.Blank*20 <= c.Filled || s.madeFrom(c.Field)) {
		f.keys = append(f.keys, "required: true")
	}
	if slices.Contains(keys, c.Field) {
		f.keys = append(f.keys, "unique: refuse")
	}
	if via, ok := s.flag(c); ok {
		f.keys = append(f.keys, "via: {"+via+"}")
	} else if c.Negated {
		f.perhaps, f.comment = true, "perhaps: its heading says the opposite, so its yes has to mean no: via: {…}"
	}
	if known, ok := account.FieldNamed(c.Field); ok && known.Kind == account.Person {
		refers, sure := s.refers(c)
		f.keys = append(f.keys, "refers: "+refers)
		f.comment = "the field by which the sheet names people; they may be in the sheet too"
		f.perhaps = f.perhaps || !sure
	}
	return f
}

// names are fields that are made of columns with names in another form.
type names struct {
	fields []field
	from   map[string]bool // headings of the columns they are made of
}

// names finds a surname in two columns, and whole names written “Surname, First”.
func (s *Source) names(named map[string]bool) names {
	n := names{from: map[string]bool{}}
	var first, second string
	for _, c := range s.Profile.Columns {
		switch words.Key(c.Heading) {
		case "primerapellido", "apellidopaterno":
			first = c.Heading
		case "segundoapellido", "apellidomaterno":
			second = c.Heading
		}
	}
	if first != "" && second != "" && s.takes("familyName") {
		n.from[first], n.from[second] = true, true
		n.fields = append(n.fields, field{name: "familyName", keys: []string{fmt.Sprintf("make: 'col[%s] + \" \" + col[%s]'", yamldoc.Quoted(first), yamldoc.Quoted(second))}, comment: "of both columns"})
	}
	c, ok := s.column("formattedName")
	if !ok || isUsed(named, c.Heading) || s.has("givenName") || s.has("familyName") || !s.takes("givenName") || !s.takes("familyName") || strings.Contains(c.Heading, "'") {
		return n
	}
	if len(c.Examples) == 0 || slices.ContainsFunc(c.Examples, func(text string) bool { return strings.Count(text, ",") != 1 }) {
		return n
	}
	n.from[c.Heading] = true
	n.fields = append(n.fields,
		field{name: "familyName", keys: []string{fmt.Sprintf("make: 'before(col[%s], \",\")'", yamldoc.Quoted(c.Heading))}, comment: "what stands before the comma"},
		field{name: "givenName", keys: []string{fmt.Sprintf("make: 'after(col[%s], \",\")'", yamldoc.Quoted(c.Heading))}, comment: "and behind it"})
	return n
}

// refers guesses by which field a column names other people: the key whose column
// has values of the same kind. It is not sure where the values are names.
func (s *Source) refers(c profile.Column) (name string, sure bool) {
	if c.Refers != "" {
		return c.Refers, s.takes(c.Refers)
	}
	for _, name := range keys {
		if key, ok := s.column(name); ok && key.Kind == c.Kind && !slices.ContainsFunc(c.Examples, func(text string) bool { return strings.Contains(text, " ") }) {
			return name, true
		}
	}
	if c.Kind == "email" {
		return "email", true
	}
	return "userName", false
}

// taken reports whether a column of the same heading stands to the left.
func (s *Source) taken(i int) bool {
	key := words.Key(s.Profile.Columns[i].Heading)
	return slices.ContainsFunc(s.Profile.Columns[:i], func(c profile.Column) bool { return words.Key(c.Heading) == key })
}

// wants reports whether the system wants a field of a new account.
func (s *Source) wants(name string) bool {
	if s.Schema == nil {
		return false
	}
	a, ok := s.Schema.Attribute(name)
	return ok && a.Required
}

// signIn makes a sign-in name where no column has one.
func (s *Source) signIn() (field, bool) {
	if s.has("userName") || !s.takes("userName") {
		return field{}, false
	}
	made := func(name string) bool {
		return s.has(name) || slices.ContainsFunc(s.names(nil).fields, func(f field) bool { return f.name == name })
	}
	formula := ""
	switch {
	case made("givenName") && made("familyName"):
		formula = `fold(givenName) + "." + fold(familyName)`
	case s.has("email"):
		formula = `before(email, "@")`
	case s.has("formattedName"):
		formula = `fold(replace(formattedName, " ", "-"))`
	case s.has("displayName"):
		formula = `fold(replace(displayName, " ", "-"))`
	case s.has("employeeNumber"):
		formula = "lower(employeeNumber)"
	default:
		return field{}, false
	}
	return field{name: "userName", keys: []string{"make: '" + formula + "'", "unique: number"}, comment: "made, as no column has it; of two the second gets a 2 behind"}, true
}

// madeFrom reports whether the sign-in name is made from a field, which a row
// then cannot do without.
func (s *Source) madeFrom(name string) bool {
	f, made := s.signIn()
	return made && strings.Contains(f.keys[0], name)
}

// Match picks the fields that find an account, surest first: those with a column of
// their own in which no two rows agree and hardly one is blank. A name that is made, or
// a surname, would take one person for another.
func (s *Source) Match(named map[string]bool) (match []string) {
	for _, name := range keys {
		if c, ok := s.column(name); ok && s.takes(name) && !isUsed(named, c.Heading) && s.isKey(c) {
			match = append(match, name)
		}
	}
	return match[:min(2, len(match))]
}

func (s *Source) isKey(c profile.Column) bool {
	return c.Filled > 0 && c.Blank*10 <= c.Filled && (c.More || c.Distinct == c.Filled)
}

// nearlyKeys says why columns that might be keys are none.
func (s *Source) nearlyKeys() string {
	for _, name := range keys {
		if c, ok := s.column(name); ok && c.Distinct < c.Filled {
			return fmt.Sprintf(" “%s” has values that stand in several rows.", comment(c.Heading))
		} else if ok && !s.isKey(c) {
			return fmt.Sprintf(" “%s” is blank in %d of %d rows.", comment(c.Heading), c.Blank, c.Blank+c.Filled)
		}
	}
	return ""
}

func (s *Source) dates(line func(string, ...any)) {
	for _, c := range s.Profile.Columns {
		if c.Kind != "date" || c.Secret {
			continue
		}
		for _, example := range c.Examples {
			switch codes.OrderOf(example) {
			case codes.DayFirst:
				line("dates: day-first        # as “%s” has a first number above 12", comment(c.Heading))
				return
			case codes.MonthFirst:
				line("dates: month-first      # as “%s” has a second number above 12", comment(c.Heading))
				return
			}
		}
		if slices.ContainsFunc(c.Examples, codes.IsAmbiguousDate) {
			line("# dates: day-first      or month-first: those of “%s” can be either", comment(c.Heading))
			return
		}
	}
}

func (s *Source) phones(line func(string, ...any)) {
	for _, name := range []string{"phone", "mobile"} {
		c, ok := s.column(name)
		if ok && !c.Secret && slices.ContainsFunc(c.Examples, func(text string) bool { return !strings.HasPrefix(text, "+") && !strings.HasPrefix(text, "00") }) {
			line("# phones: GB            the country of numbers written without a country code")
			return
		}
	}
}

// only suggests a condition where a column has few words that say how far along
// a row is.
func (s *Source) only(line func(string, ...any)) {
	for _, c := range s.Profile.Columns {
		if key := words.Key(c.Heading); !c.Secret && c.Field == "" && c.Distinct > 1 && c.Distinct <= 6 && 2*c.Distinct <= c.Filled && len(c.Examples) > 0 && (strings.Contains(key, "status") || strings.Contains(key, "state") || strings.Contains(key, "stage")) {
			expression := "col[" + yamldoc.Quoted(c.Heading) + "] == " + yamldoc.Quoted(c.Examples[0])
			line("# only: %s   to leave the other rows aside", comment(expression))
			return
		}
	}
}

func (s *Source) lacking(fields []field) []account.Attribute {
	if s.Schema == nil {
		return nil
	}
	var lacking []account.Attribute
	for _, a := range s.Schema.Attributes {
		if a.Required && !a.ReadOnly && !slices.ContainsFunc(fields, func(f field) bool { return !f.perhaps && s.Schema.Full(f.name) == a.Field }) {
			lacking = append(lacking, a)
		}
	}
	return lacking
}

// comment makes a text out of a sheet safe in a comment.
func comment(text string) string {
	text = strings.Map(func(r rune) rune {
		if words.Steers(r) || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, text)
	return words.First(text, 120)
}

// reserved are words of the expression language.
var reserved = strings.Fields("col as break const continue else false for function if import in let loop namespace null package return true var void while")

// camel makes a field's name of a heading: "Start date" becomes startDate, "Entrée" entree.
func camel(text string) string {
	var b strings.Builder
	for _, word := range heading.Words(text) {
		word = strings.ReplaceAll(words.Fold(word), "-", "")
		if word == "" || b.Len() == 0 && word[0] >= '0' && word[0] <= '9' {
			continue
		}
		if b.Len() > 0 {
			word = strings.ToUpper(word[:1]) + word[1:]
		}
		b.WriteString(word)
	}
	if _, taken := account.FieldNamed(b.String()); taken || slices.Contains(reserved, b.String()) {
		return ""
	}
	return b.String()
}

// NameOf makes a brief's name of a sheet's.
func NameOf(sheet string) string {
	base, _, _ := strings.Cut(sheet, ".")
	name := strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r >= '0' && r <= '9' {
			return r
		}
		if folded := words.Fold(string(r)); len(folded) == 1 {
			return rune(folded[0])
		}
		return '-'
	}, base)
	if name = strings.Trim(name, "-"); name == "" {
		return "sheet"
	}
	return name
}
