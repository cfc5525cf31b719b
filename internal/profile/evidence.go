package profile

import (
	_ "embed" // the list of given names
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"evenledger/internal/account"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

//go:embed given.txt
var givenNames string

// sampleRows is how many rows are held against each other, column by column.
const sampleRows = 300

// Shares of rows that must agree for values to be proof.
const (
	proof    = 0.8 // of values made of those of other columns
	likely   = 0.5 // of given names that are usual ones
	fewest   = 3   // rows
	distinct = 0.5 // of the values of a column of names
)

// evidence is what the cells of the first rows say of their columns beside those of the others.
type evidence struct {
	columns []Column
	cells   [][]string // by row, cleaned
}

// take keeps a row.
func (e *evidence) take(row sheet.Row) {
	if len(e.cells) == sampleRows {
		return
	}
	cells := make([]string, len(row.Cells))
	for i, cell := range row.Cells {
		clean, _ := words.Clean(cell)
		cells[i] = strings.Clone(clean)
	}
	e.cells = append(e.cells, cells)
}

func (e *evidence) cell(row, column int) string {
	if column < 0 || column >= len(e.cells[row]) {
		return ""
	}
	return e.cells[row][column]
}

// agree returns which part of the rows in which columns are filled hold something, and whether there are enough.
func (e *evidence) agree(holds func(row int) bool, filled ...int) (share float64, enough bool) {
	n, agreed := 0, 0
	for row := range e.cells {
		if slices.ContainsFunc(filled, func(column int) bool { return e.cell(row, column) == "" }) {
			continue
		}
		if n++; holds(row) {
			agreed++
		}
	}
	if n < fewest {
		return 0, false
	}
	return float64(agreed) / float64(n), true
}

func (e *evidence) proves(holds func(row int) bool, filled ...int) bool {
	share, enough := e.agree(holds, filled...)
	return enough && share >= proof
}

// with returns the column that is surely a field, or -1.
func (e *evidence) with(field string) int {
	return slices.IndexFunc(e.columns, func(c Column) bool { return c.Field == field && c.Sure && !c.Secret })
}

// open lists the columns that are no field yet, of some kinds.
func (e *evidence) open(kinds ...string) (open []int) {
	for i, c := range e.columns {
		if (c.Field == "" || !c.Sure) && !c.Secret && c.Heading != "" && !sheet.IsOurs(c.Heading) && c.Ties == "" && c.Beside == "" && !c.Action && c.Filled > 0 && slices.Contains(kinds, c.Kind) {
			open = append(open, i)
		}
	}
	return open
}

// settle takes a column for a field, by its values.
func (e *evidence) settle(i int, field, why string) {
	for other := range e.columns {
		if c := &e.columns[other]; other != i && c.Field == field && !c.Sure {
			c.Field, c.Why = "", ""
		}
	}
	c := &e.columns[i]
	c.Field, c.Why, c.Sure = field, why, true
}

// weigh names columns by what their values say beside those of the others, and takes back what they contradict.
func (e *evidence) weigh() {
	e.contradict()
	e.confirm()
	e.names()
	e.nameAlone()
	e.wholeNames()
	e.signIns()
	e.addresses()
	e.managers()
}

// textKinds are the kinds that names may look like.
var textKinds = []string{"text", "country", "language", "yes or no"}

// fits are the kinds of values that a field may have.
func fits(field string) []string {
	f, _ := account.FieldNamed(field)
	switch f.Kind {
	case account.Email:
		return []string{"email"}
	case account.Phone:
		return []string{"phone", "digits", "number", "text"}
	case account.Date:
		return []string{"date"}
	case account.Country:
		return []string{"country", "text", "language"}
	case account.Language:
		return []string{"language", "text", "country"}
	case account.Timezone:
		return []string{"time zone", "text"}
	case account.YesNo:
		return []string{"yes or no", "digits", "text"}
	}
	switch field {
	case "givenName", "familyName", "formattedName", "displayName", "middleName", "nickName", "honorificPrefix":
		return textKinds
	case "title", "department", "division", "organization", "locality", "region", "userType":
		return append(slices.Clone(textKinds), "digits", "number")
	case "employeeNumber", "externalId":
		return []string{"digits", "text", "number", "phone"}
	}
	return nil
}

// contradict takes back what a heading says where the values are of a kind that cannot be.
func (e *evidence) contradict() {
	for i := range e.columns {
		c := &e.columns[i]
		if c.Ties != "" && (slices.Contains([]string{"date", "email", "phone"}, c.Kind) || c.Distinct == c.Filled && c.Filled > 5 && e.hasDigits(i)) {
			c.Ties = "" // each has another: a number of their own, and no name of something
		}
		if c.Field == "userName" && c.Kind == "digits" && !c.exact {
			c.Sure = false
		}
		if c.Field != "" && c.Filled >= someAnswers && (c.isAnswered() || c.Field == "postalCode" && e.hasNoDigits(i)) {
			c.Field, c.Why, c.Sure, c.exact = "", "", false, false
		}
		if c.Field == "" || c.Filled == 0 || c.exact {
			continue
		}
		kinds := fits(c.Field)
		wrong := kinds != nil && !slices.Contains(kinds, c.Kind)
		switch c.Field {
		case "employeeNumber", "externalId", "userName":
			spaced, _ := e.agree(func(row int) bool { return strings.Contains(e.cell(row, i), " ") }, i)
			wrong = wrong || spaced > 1-proof || c.Field != "userName" && c.Kind == "text" && !e.hasDigits(i)
		case "phone", "mobile":
			wrong = wrong || c.Kind == "text" && !e.hasDigits(i)
		case "active":
			wrong = wrong || c.Kind != "yes or no" && !c.isFlag()
		case "streetAddress", "postalCode":
			wrong = wrong || slices.Contains([]string{"email", "date"}, c.Kind) || c.Field == "streetAddress" && slices.Contains([]string{"digits", "number"}, c.Kind)
		}
		if wrong {
			c.Field, c.Why, c.Sure, c.Negated = "", "", false, false
		}
	}
}

// hasNoDigits reports whether nearly no value of a column has digits in it: no postcode of any country is so.
func (e *evidence) hasNoDigits(i int) bool {
	share, _ := e.agree(func(row int) bool { return !strings.ContainsAny(e.cell(row, i), "0123456789") }, i)
	return share >= proof
}

// someAnswers is how many cells must speak against a heading that is known for a field.
const someAnswers = 3

// isAnswered reports whether a column says yes or no where its field can only be something else, whatever its heading. “No” is a
// country and a language as well.
func (c *Column) isAnswered() bool {
	f, _ := account.FieldNamed(c.Field)
	return c.Kind == "yes or no" && !slices.Contains([]account.Kind{account.YesNo, account.Country, account.Language}, f.Kind) && !slices.Contains(fits(c.Field), "yes or no")
}

// isFlag reports whether a column has nothing but noughts and ones.
func (c *Column) isFlag() bool {
	return c.Distinct <= 2 && !slices.ContainsFunc(c.Examples, func(text string) bool { return text != "0" && text != "1" })
}

// hasDigits reports whether nearly all values of a column have digits in them.
func (e *evidence) hasDigits(i int) bool {
	share, enough := e.agree(func(row int) bool { return strings.ContainsAny(e.cell(row, i), "0123456789") }, i)
	return !enough && len(e.cells) == 0 || share >= proof
}

// confirm makes sure what a heading says with a word that is not known, where the values can hardly be anything else.
func (e *evidence) confirm() {
	certain := map[string]string{"phone": "phone", "mobile": "phone", "timezone": "time zone", "country": "country"}
	for i := range e.columns {
		c := &e.columns[i]
		if c.Field != "" && !c.Sure && c.Kind == certain[c.Field] && c.said && e.with(c.Field) < 0 {
			c.Sure = true
		}
		if c.Field == "title" && !c.Sure && c.said && e.with("title") < 0 && e.areJobs(i) {
			c.Sure = true
		}
	}
}

// areJobs reports whether the values of a column called “Title” are people's work and no forms of address or degrees.
func (e *evidence) areJobs(i int) bool {
	share, enough := e.agree(func(row int) bool {
		text := strings.ToLower(e.cell(row, i))
		return len(text) > 5 && !strings.Contains(text, ".")
	}, i)
	return enough && share >= proof
}

// parts are a value's words, as sign-in names have them.
func parts(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool {
		return unicode.IsSpace(r) || r == ',' || r == '.' || r == '_' || r == '-' || r == '\'' || r == '’'
	})
}

// isIn reports whether a name stands in a folded text, as a whole or by its first word.
func isIn(name, folded string) bool {
	if whole := words.Fold(name); len(whole) > 1 && strings.Contains(folded, strings.ReplaceAll(whole, "-", "")) {
		return true
	}
	for _, part := range parts(name) {
		if one := words.Fold(part); len(one) > 2 && strings.Contains(folded, one) {
			return true
		}
	}
	return false
}

// names finds the columns of given and family names that no heading says, by the addresses and sign-in names made of them, and by
// names that many have.
func (e *evidence) names() {
	given, family := e.with("givenName"), e.with("familyName")
	if given >= 0 && family >= 0 || e.with("formattedName") >= 0 {
		return
	}
	usual := map[string]bool{}
	for name := range strings.FieldsSeq(givenNames) {
		usual[name] = true
	}
	isUsual := func(i int) float64 {
		share, _ := e.agree(func(row int) bool {
			all := parts(e.cell(row, i))
			return len(all) > 0 && usual[words.Fold(all[0])]
		}, i)
		return share
	}
	mail := e.named()
	var candidates []int
	for _, i := range e.open(textKinds...) {
		c := &e.columns[i]
		few, enough := e.agree(func(row int) bool { return isName(e.cell(row, i)) && len(strings.Fields(e.cell(row, i))) <= 3 }, i)
		if !enough || few < 0.95 || float64(c.Distinct) < distinct*float64(min(c.Filled, 60)) {
			continue
		}
		if mail >= 0 && !e.proves(func(row int) bool { return isIn(e.cell(row, i), local(e.cell(row, mail))) }, i, mail) {
			continue
		}
		if mail < 0 && given < 0 && isUsual(i) < likely {
			continue
		}
		candidates = append(candidates, i)
	}
	switch {
	case len(candidates) == 1 && given >= 0 && family < 0 && mail >= 0:
		e.settle(candidates[0], "familyName", "the addresses that are made of it")
	case len(candidates) == 1 && isUsual(candidates[0]) >= likely && given < 0:
		e.settle(candidates[0], "givenName", "its values, which are given names")
	case len(candidates) == 2 && given < 0 && family < 0:
		first, second := candidates[0], candidates[1]
		if isUsual(second) > isUsual(first) {
			first, second = second, first
		}
		if isUsual(first) >= likely && isUsual(first) > 2*isUsual(second) {
			e.settle(first, "givenName", "its values, which are given names")
			e.settle(second, "familyName", "the addresses that are made of it")
		}
	}
}

// isName reports whether a text is written as names are.
func isName(text string) bool {
	r, _ := utf8.DecodeRuneInString(text)
	return !unicode.IsLower(r) && !strings.ContainsAny(text, "0123456789@/,;_")
}

// nameAlone settles what a column is that is called “Name” and nothing more: the family name beside a column of given names, else the
// whole name where its values have several words.
func (e *evidence) nameAlone() {
	for i := range e.columns {
		c := &e.columns[i]
		if !c.nameOnly || c.Field != "" && c.Sure || c.Secret || !slices.Contains(textKinds, c.Kind) {
			continue
		}
		several := e.proves(func(row int) bool { return len(strings.Fields(e.cell(row, i))) > 1 }, i)
		given, mail := e.with("givenName"), e.named()
		switch {
		case given >= 0 && e.with("familyName") < 0 && !several && (mail < 0 || mail == i || e.proves(func(row int) bool { return isIn(e.cell(row, i), local(e.cell(row, mail))) }, i, mail)):
			e.settle(i, "familyName", "its heading beside that of given names")
		case given < 0 && e.with("familyName") < 0 && e.with("formattedName") < 0 && several && float64(c.Distinct) >= distinct*float64(min(c.Filled, sampleRows)):
			e.settle(i, "formattedName", "its heading, and values of several words")
		}
	}
}

// named is a column whose values are made of people's names: their addresses or sign-in names; or -1.
func (e *evidence) named() int {
	for _, field := range []string{"email", "userName"} {
		if i := e.with(field); i >= 0 {
			return i
		}
	}
	if open := e.open("email"); len(open) == 1 {
		return open[0]
	}
	return -1
}

// local is what stands before the @ of an address, folded, without what stands between its words.
func local(address string) string {
	before, _, _ := strings.Cut(address, "@")
	return strings.ReplaceAll(words.Fold(before), "-", "")
}

// wholeNames finds the column in which both parts of the name stand.
func (e *evidence) wholeNames() {
	given, family := e.with("givenName"), e.with("familyName")
	if given < 0 || family < 0 {
		return
	}
	for _, i := range e.open(textKinds...) {
		whole := func(row int) bool {
			text := words.NameKey(strings.ReplaceAll(e.cell(row, i), ",", " "))
			return text == words.NameKey(e.cell(row, given)+" "+e.cell(row, family)) || text == words.NameKey(e.cell(row, family)+" "+e.cell(row, given))
		}
		if e.proves(whole, i, given, family) {
			field := "formattedName"
			if e.with(field) >= 0 {
				field = "displayName"
			}
			if e.with(field) < 0 {
				e.settle(i, field, "its values, which are made of both names")
			}
		}
	}
}

// signIns finds the column of sign-in names: made of people's names or of their addresses, in one word, each another.
func (e *evidence) signIns() {
	if e.with("userName") >= 0 {
		return
	}
	given, family, mail := e.with("givenName"), e.with("familyName"), e.with("email")
	found := -1
	for _, i := range e.open("text", "country", "language") {
		c := &e.columns[i]
		if c.Private || c.Distinct < c.Filled || c.Filled < fewest || c.More {
			continue
		}
		oneWord := e.proves(func(row int) bool { return !strings.ContainsAny(e.cell(row, i), " ,;:/@") }, i)
		made := mail >= 0 && e.proves(func(row int) bool { return local(e.cell(row, mail)) == local(e.cell(row, i)) }, i, mail) && i != mail
		if given >= 0 && family >= 0 {
			made = made || e.proves(func(row int) bool { return isMadeOf(local(e.cell(row, i)), e.cell(row, given), e.cell(row, family)) }, i, given, family)
		}
		if oneWord && made {
			if found >= 0 {
				return // which of them is meant, nobody can say
			}
			found = i
		}
	}
	if found >= 0 {
		e.settle(found, "userName", "its values, which are made of people's names")
	}
}

// isMadeOf reports whether a sign-in name is made of the parts of a name, as organisations make them.
func isMadeOf(login, given, family string) bool {
	login = strings.TrimRight(login, "0123456789")
	g, f := strings.ReplaceAll(words.Fold(given), "-", ""), strings.ReplaceAll(words.Fold(family), "-", "")
	if len(g) < 1 || len(f) < 2 || len(login) < 3 {
		return false
	}
	g1, _, _ := strings.Cut(words.Fold(first(given)), "-")
	for _, one := range []string{g, g1} {
		for n := 1; n <= len(one); n++ {
			for m := 1; m <= len(f); m++ {
				if (n > 1 || m > 2) && (login == one[:n]+f[:m] || login == f[:m]+one[:n]) {
					return true
				}
			}
		}
	}
	return false
}

func first(text string) string {
	if all := strings.Fields(text); len(all) > 0 {
		return all[0]
	}
	return text
}

// addresses finds the column of work addresses among several: that whose addresses are made of names or sign-in names and are of one
// domain.
func (e *evidence) addresses() {
	if e.with("email") >= 0 {
		return
	}
	open := slices.DeleteFunc(e.open("email"), func(i int) bool { return e.columns[i].Private || e.columns[i].Field == "manager" })
	found := -1
	for _, i := range open {
		domains := map[string]int{}
		for row := range e.cells {
			if _, domain, isOne := strings.Cut(e.cell(row, i), "@"); isOne {
				domains[strings.ToLower(domain)]++
			}
		}
		c := &e.columns[i]
		if len(domains) > 2 || c.Distinct < c.Filled || c.Filled < fewest {
			continue
		}
		if found >= 0 {
			return
		}
		found = i
	}
	if found >= 0 {
		e.settle(found, "email", "its values, addresses of one organisation and each another")
	}
}

// managers finds by what field a column names people's managers: that in which its values stand.
func (e *evidence) managers() {
	for i := range e.columns {
		c := &e.columns[i]
		if c.Field != "manager" || c.Refers != "" {
			continue
		}
		for _, field := range []string{"employeeNumber", "userName", "email", "externalId"} {
			key := e.with(field)
			if key < 0 || key == i {
				continue
			}
			there := map[string]bool{}
			for row := range e.cells {
				there[strings.ToLower(e.cell(row, key))] = true
			}
			if share, enough := e.agree(func(row int) bool { return there[strings.ToLower(e.cell(row, i))] }, i); enough && share >= likely {
				c.Refers = field
				break
			}
		}
	}
	// Of several columns about them the first counts that says by which field.
	if at := slices.IndexFunc(e.columns, func(c Column) bool { return c.Field == "manager" && c.Refers != "" }); at >= 0 {
		for i := range e.columns {
			if c := &e.columns[i]; c.Field == "manager" && i != at {
				c.Field, c.Why, c.Sure = "", "", false
			}
		}
	}
}
