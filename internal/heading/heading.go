// Package heading tells what the headings of sheets mean by the words they are made of, in many languages: a heading that
// nobody listed is understood as one that says the same in other words.
//
// It promises to name a field only where the words say that and nothing else: a word that it does not know, or one that
// speaks of something else (a private address, an emergency contact), keeps it from being sure.
package heading

import (
	_ "embed" // the table of words
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"evenledger/internal/words"
)

//go:embed words.txt
var table string

// A Concept is what a word of a heading says, by its name in the table of words.
type Concept string

// A Meaning is what a heading says.
type Meaning struct {
	Field   string // of an account, as briefs call it; empty: none
	Sure    bool   // the words leave no doubt
	Refers  string // the field by which it names somebody else; empty: it does not say
	Negated bool   // yes means that the field is no
	Ties    string // the memberships it names, as briefs call their kind; or empty
	Beside  string // what it says of memberships beside it: "role" or "section"; or empty
	Action  bool   // it says what is to happen to each row
	Private bool   // it is of people's own life
	Says    map[Concept]bool
	Unknown []string // words that say nothing known
	words   int      // that are no mere fillers
}

// A Reader knows the words of headings.
type Reader struct {
	whole  map[string][]Concept
	begins []beginning // words that begin longer ones, the longest first
}

type beginning struct {
	word string
	says []Concept
	open bool // other endings say the same
}

// NewReader readies the table of words.
func NewReader() *Reader {
	r := &Reader{whole: map[string][]Concept{}}
	begins, open := map[string][]Concept{}, map[string]bool{}
	for line := range strings.Lines(table) {
		name, list, found := strings.Cut(line, ":")
		if !found || strings.HasPrefix(line, "#") {
			continue
		}
		for word := range strings.FieldsSeq(list) {
			word, inflected := strings.CutSuffix(word, "*")
			if word = fold(word); word == "" {
				continue
			}
			r.whole[word] = append(r.whole[word], Concept(name))
			if inflected || utf8.RuneCountInString(word) >= 4 {
				begins[word], open[word] = append(begins[word], Concept(name)), open[word] || inflected
			}
		}
	}
	for word, says := range begins {
		r.begins = append(r.begins, beginning{word, says, open[word]})
	}
	slices.SortFunc(r.begins, func(a, b beginning) int {
		if len(a.word) != len(b.word) {
			return len(b.word) - len(a.word)
		}
		return strings.Compare(a.word, b.word)
	})
	return r
}

// fold makes a word comparable: small letters, without accents.
func fold(word string) string { return words.Key(word) }

// Words are the words of a heading, folded: it is cut at whatever is no letter or digit, where small letters are followed by a capital,
// and between letters and digits.
func Words(heading string) (parts []string) {
	var part []rune
	end := func() {
		if len(part) > 0 {
			parts = append(parts, fold(string(part)))
		}
		part = part[:0]
	}
	runes := []rune(heading)
	for i, r := range runes {
		switch {
		case unicode.Is(unicode.Mn, r):
			part = append(part, r)
			continue
		case r == '#' || r == '№':
			end()
			parts = append(parts, "number")
			continue
		case !unicode.IsLetter(r) && !unicode.IsDigit(r), r == 'º', r == 'ª':
			end()
			continue
		case i > 0 && unicode.IsUpper(r) && unicode.IsLower(runes[i-1]),
			i > 0 && i+1 < len(runes) && unicode.IsUpper(r) && unicode.IsUpper(runes[i-1]) && unicode.IsLower(runes[i+1]),
			i > 0 && unicode.IsDigit(r) != unicode.IsDigit(runes[i-1]) && len(part) > 0:
			end()
		}
		part = append(part, r)
	}
	end()
	return slices.DeleteFunc(parts, func(p string) bool { return p == "" })
}

// linking are the letters that stand between the parts of a compound.
var linking = []string{"", "s", "es", "n", "en", "e", "i", "o", "u", "a"}

// say adds what a word says; a word that is not in the table may be made of several that are.
func (r *Reader) say(word string, m *Meaning) bool {
	if says, known := r.whole[word]; known {
		for _, c := range says {
			m.Says[c] = true
		}
		return true
	}
	if strings.Trim(word, "0123456789") == "" {
		return true
	}
	parts := r.compound(word, 0)
	for _, part := range parts {
		for _, c := range part {
			m.Says[c] = true
		}
	}
	return parts != nil
}

// compound takes a word apart into words of the table.
func (r *Reader) compound(word string, depth int) [][]Concept {
	if says, known := r.whole[word]; known && depth > 0 {
		return [][]Concept{says}
	}
	if depth > 3 || len(word) < 2 {
		return nil
	}
	for _, b := range r.begins {
		rest, begins := strings.CutPrefix(word, b.word)
		if !begins || rest == "" {
			continue
		}
		for _, link := range linking {
			tail, linked := strings.CutPrefix(rest, link)
			if !linked {
				continue
			}
			if tail == "" {
				return [][]Concept{b.says}
			}
			if more := r.compound(tail, depth+1); more != nil {
				return append([][]Concept{b.says}, more...)
			}
		}
	}
	for _, b := range r.begins { // another ending of the word
		if rest, begins := strings.CutPrefix(word, b.word); begins && b.open && utf8.RuneCountInString(b.word) >= 5 && utf8.RuneCountInString(rest) <= 3 {
			return [][]Concept{b.says}
		}
	}
	return nil
}

// choice is what is written behind a heading whose cells are yes or no.
var choice = regexp.MustCompile(`(?i)\(?\b(y/n|yes/no|j/n|ja/nein|o/n|oui/non|s/n|t/n)\b\)?`)

// Meaning tells what a heading says.
func (r *Reader) Meaning(heading string) Meaning {
	m := Meaning{Says: map[Concept]bool{}}
	parts := Words(choice.ReplaceAllString(heading, " "))
	if whole := strings.Join(parts, ""); len(parts) > 1 && r.whole[whole] != nil {
		parts = []string{whole}
	}
	for i := 0; i < len(parts); i++ {
		if i+1 < len(parts) { // “E Mail”, “Log in”, “Zip code”
			if says, known := r.whole[parts[i]+parts[i+1]]; known && (len(parts[i]) < 5 || len(parts[i+1]) < 4) {
				for _, c := range says {
					m.Says[c] = true
				}
				i++
				continue
			}
		}
		if !r.say(parts[i], &m) {
			m.Unknown = append(m.Unknown, parts[i])
		}
		if says := r.whole[parts[i]]; !slices.Contains(says, "filler") {
			m.words++
		}
	}
	if len(m.Unknown) > 0 { // in which language, cannot be told: “Approved by” is no town
		for _, part := range parts {
			if says := r.whole[part]; slices.Contains(says, "filler") && slices.Contains(says, "town") {
				delete(m.Says, "town")
			}
		}
	}
	r.settle(&m)
	m.decide()
	return m
}

// settle leaves out what a word says besides, where the words beside it tell which is meant.
func (r *Reader) settle(m *Meaning) {
	for _, rule := range settling() {
		if !rule.fits(m) {
			continue
		}
		for word := range strings.FieldsSeq(rule.drop) {
			delete(m.Says, Concept(word))
		}
		if rule.says != "" {
			m.Says[Concept(rule.says)] = true
		}
		if rule.last {
			return
		}
	}
}

// A rule says what is left out of what the words of a heading say.
type rule struct {
	all, some, none string // what they say: all of these, one of these at least, none of these
	only, least     int    // just so many things, at least so many; 0: any number
	words           int    // of just so many words; 0: of any number; below 0: of more than that, without its sign
	drop            string // what is left out
	says            string // what they say instead
	last            bool   // what follows does not count
}

func (r rule) fits(m *Meaning) bool {
	is := func(word string) bool { return m.Says[Concept(word)] }
	one := func(words string) bool { return slices.ContainsFunc(strings.Fields(words), is) }
	for word := range strings.FieldsSeq(r.all) {
		if !is(word) {
			return false
		}
	}
	switch {
	case r.some != "" && !one(r.some), one(r.none), r.only > 0 && len(m.Says) != r.only, len(m.Says) < r.least, r.words > 0 && m.words != r.words, r.words < 0 && m.words <= -r.words:
		return false
	}
	return true
}

// settling are the rules, in their order.
func settling() []rule {
	return []rule{
		{least: 2, drop: "filler"},
		{all: "given network", words: 1, drop: "network"},
		{all: "given", some: "group signin account", drop: "given alone half"},       // “AD”, which is a name in Turkish
		{all: "private", some: "department unit division cost job", drop: "private"}, // the home department
		{all: "contact work", drop: "contact"},
		{all: "street", some: "town postcode region country", drop: "street address"},
		{all: "street location", drop: "location"},
		{all: "person private", some: "mail phone mobile address", drop: "person"}, // “personal”: of the staff, or somebody's own
		{all: "person private", drop: "private"},
		{all: "name given", some: "user signin", drop: "given alone"},                     // where the word for both is one
		{all: "alone name given", none: "family", words: -1, drop: "given", says: "full"}, // “Nom et prénom”
		{all: "alone name family", none: "given", words: -1, drop: "family", says: "full"},
		{drop: "alone"},
		{all: "given name", none: "family", drop: "name"},
		{none: "cost", drop: "centre"},
		{all: "mobile postcode", drop: "postcode"},
		{all: "given first name", drop: "first"},
		{all: "given first", only: 2, drop: "first"},
		{all: "family", some: "last first", drop: "last first"},
		{all: "street address mail", drop: "street"},
		{all: "street address", drop: "address"},
		{all: "post number", drop: "number", says: "postcode"},
		{all: "postcode", drop: "post mail"},
		{all: "post mail", drop: "post"},
		{all: "signin number person", none: "user", drop: "signin"}, // “identifiant”, which a sign-in name is as well
		{some: "active blocked leaver", drop: "work"},
		{all: "postcode number", drop: "number"},
		{all: "timezone", drop: "zone time region"},
		{all: "zone time", drop: "zone time region", says: "timezone"},
		{all: "work company", only: 2, drop: "work"},
		{all: "work company name", drop: "work"},
		{all: "work company", drop: "company"},
		{all: "number", some: "phone mobile", drop: "number"},
		{all: "mobile", drop: "phone"},
		{all: "number person payroll", drop: "payroll"},
		{all: "country region", drop: "region"},
		{all: "cost", drop: "centre job number town department"},
		{all: "job number", none: "person", only: 2, last: true},
		{all: "manager", drop: "work start person house active"},
	}
}

// has reports whether a heading says all of some things.
func (m *Meaning) has(all ...Concept) bool {
	for _, c := range all {
		if !m.Says[c] {
			return false
		}
	}
	return true
}

// A pattern is what has to be said for a field to be meant, and what may be said besides.
type pattern struct {
	field string
	needs []Concept
	may   []Concept
	sure  bool
}

// patterns are tried in their order; the first that fits decides.
func patterns() []pattern {
	list := func(text string) []Concept {
		var all []Concept
		for word := range strings.FieldsSeq(text) {
			all = append(all, Concept(word))
		}
		return all
	}
	var all []pattern
	add := func(field, needs, may string, sure bool) {
		all = append(all, pattern{field, list(needs), list(may), sure})
	}
	add("formattedName", "given family", "name full person legal user", true)
	add("formattedName", "full name", "person legal user", true)
	add("formattedName", "full person", "legal", true)
	add("formattedName", "person name", "full legal", true)
	add("displayName", "display name", "user person", true)
	add("nickName", "preferred name", "given first person", true)
	add("nickName", "preferred given", "first person", true)
	add("middleName", "middle given", "name", true)
	add("middleName", "middle name", "given", true)
	add("givenName", "given", "name person legal first", true)
	add("givenName", "first name", "person legal user", true)
	add("familyName", "family", "name person legal first user", true)
	add("familyName", "last name", "person legal user", true)
	add("userName", "signin name", "user person work company external account network", true)
	add("userName", "user name", "signin work company external account network", true)
	add("userName", "account name", "signin work company network", true)
	add("userName", "signin number", "user person work company network", true)
	add("userName", "user number", "signin work company network", true)
	add("userName", "signin", "user work company account network", true)
	add("userName", "user", "work company account network", true)
	add("userName", "account", "work company network", false)
	add("userName", "network number", "signin person", true)
	add("email", "mail", "address work company person user", true)
	add("mobile", "mobile", "work company person", true)
	add("phone", "phone", "work company person", true)
	add("employeeNumber", "person number", "company payroll work", true)
	add("employeeNumber", "payroll number", "company work", true)
	add("externalId", "external number", "person", true)
	add("userType", "contract type", "person work number", true)
	add("userType", "person type", "contract work job user number", true)
	add("userType", "contract", "person", false)
	add("preferredLanguage", "language", "preferred number person user", true)
	add("timezone", "timezone", "work user", true)
	add("country", "country", "work number name address location", true)
	add("postalCode", "postcode", "work address", true)
	add("streetAddress", "street", "work house number name", true)
	add("streetAddress", "address", "work house number", true)
	add("locality", "town", "work name address location", true)
	add("region", "region", "work name address", true)
	add("locality", "location", "work name", false)
	add("costCenter", "cost", "name centre", true)
	add("department", "department", "name work company unit", true)
	add("department", "unit", "name company", false)
	add("division", "division", "name work company", true)
	add("organization", "company", "name entity legal", true)
	add("organization", "entity", "name legal", true)
	add("title", "role work", "name person", true)
	add("title", "title", "name work person", false)
	add("title", "job title", "name person work", true)
	add("title", "job role", "name person work", true)
	add("title", "job", "name person work", true)
	add("title", "person title", "name work", false)
	add("title", "work title", "name", true)
	add("honorificPrefix", "salutation", "title person name", true)
	return all
}

// decide settles which field, if any, is meant.
func (m *Meaning) decide() {
	switch {
	case m.has("password"):
		return
	case m.has("other"), m.has("birth"):
		return
	}
	m.Private = m.has("private")
	sure := len(m.Unknown) == 0
	switch {
	case m.has("date"), m.has("start"), m.has("end"):
		return
	case m.has("manager"):
		m.manager(sure)
		return
	case m.Private:
		return
	case m.memberships():
		return
	case m.has("action") && m.only("action", "type", "status", "person", "number", "row"):
		m.Action = true
		return
	case m.has("blocked") || m.has("leaver"):
		if m.only("blocked", "leaver", "signin", "account", "network", "user", "person", "status", "active") {
			m.Field, m.Sure, m.Negated = "active", sure, true
		}
		return
	case m.has("active"):
		if m.only("active", "signin", "account", "network", "user", "person", "status") {
			m.Field, m.Sure = "active", sure
		}
		return
	}
	for _, p := range patterns() {
		if m.has(p.needs...) && m.only(append(slices.Clone(p.needs), append(p.may, "half")...)...) {
			m.Field, m.Sure = p.field, p.sure && sure && !(p.field == "formattedName" && m.has("half", "person"))
			return
		}
	}
}

// Only reports whether a heading says nothing but some things.
func (m *Meaning) Only(some ...Concept) bool {
	return len(m.Says) > 0 && len(m.Unknown) == 0 && m.only(some...)
}

// only reports whether a heading says nothing but some things.
func (m *Meaning) only(some ...Concept) bool {
	for c := range m.Says {
		if c != "half" && c != "filler" && !slices.Contains(some, c) {
			return false
		}
	}
	return true
}

// manager settles by what somebody's manager is named.
func (m *Meaning) manager(sure bool) {
	refers := ""
	switch {
	case m.has("mail"):
		refers = "email"
	case m.has("signin"), m.has("user"), m.has("account"):
		refers = "userName"
	case m.has("number"):
		refers = "employeeNumber"
	}
	if m.only("manager", "mail", "address", "number", "signin", "account", "user", "name", "full", "job") && !(m.has("job") && len(m.Says) > 1) {
		m.Field, m.Refers, m.Sure = "manager", refers, sure
	}
}

// memberships settles which kind of memberships is named, or what is said of them.
func (m *Meaning) memberships() bool {
	for _, kind := range []struct{ says, ties string }{{"course", "courses"}, {"licence", "licences"}, {"group", "groups"}, {"cohort", "groups"}} {
		c := Concept(kind.says)
		if !m.has(c) {
			continue
		}
		switch {
		case m.has("section") && m.only(c, "section", "name", "number"):
			m.Beside = "section"
		case (m.has("role") || m.has("job")) && m.only(c, "role", "name", "job"):
			m.Beside = "role"
		case m.only(c, "name", "title", "user", "signin", "account", "network", "type", "cohort", "work") && len(m.Unknown) == 0, kind.ties != "licences" && m.only(c, "name", "number", "cohort") && len(m.Unknown) == 0:
			m.Ties = kind.ties
		}
		return true
	}
	if m.has("section") && m.only("section", "name", "number") {
		m.Beside = "section"
		return true
	}
	if m.has("role") && m.only("role", "name") {
		m.Beside = "role"
		return false
	}
	return false
}
