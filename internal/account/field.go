// Package account holds the words every other room shares: an account and its
// fields, what a row comes to, the changes made, and the findings told on the
// way. It promises plain values without behaviour of their own beyond comparing
// and printing, and imports nothing of the program but words.
package account

import (
	_ "embed"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/unicode/norm"

	"evenledger/internal/words"
)

// A Kind is the kind of value a field holds; it decides how a cell is read and
// how two values are compared.
type Kind uint8

// The kinds of value, with what they are written as once they are read.
const (
	Text     Kind = iota // any text, trimmed
	Login                // a sign-in name: no white space, no control characters
	Email                // an address of RFC 5321, without display name
	Phone                // digits with an optional plus sign
	Date                 // year-month-day of RFC 3339
	YesNo                // true or false
	Country              // ISO 3166-1 alpha-2, upper case
	Language             // BCP 47 tag
	Locale               // BCP 47 tag, with a region where one was written
	Timezone             // name in the IANA time zone database
	Number               // decimal number with a point
	List                 // several texts, each on a line of its own
	Person               // another account, by the system's identifier
	Place                // where in a tree: names with slashes between; “/” is the top
)

var kindNames = [...]string{"text", "login", "email", "phone", "date", "yesno", "country", "language", "locale", "timezone", "number", "list", "person", "place"}

func (k Kind) String() string { return kindNames[k] }

// InWords says what a value of the kind is.
func (k Kind) InWords() string {
	return [...]string{"text", "sign-in name", "email address", "telephone number", "date", "yes or no", "country", "language", "language and region", "time zone", "number", "several texts", "another account", "place in a tree"}[k]
}

// MarshalText writes the kind as a brief does.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// Example is a value of the kind as a person would write it; of a text there is
// none.
func (k Kind) Example() string {
	return [...]string{"", "ana.reyes", "ana.reyes@brindlesound.example", "+44 7700 900102", "2027-03-04", "yes", "Portugal", "Portuguese", "pt-PT", "Europe/Lisbon", "7", "deck; pilots", "ana.reyes", "Deck/Crew A"}[k]
}

// KindNames lists the kinds as a brief writes them, in order.
func KindNames() []string { return kindNames[:] }

// ParseKind returns the kind of that name.
func ParseKind(name string) (Kind, bool) {
	for i, known := range kindNames {
		if known == name {
			return Kind(i), true
		}
	}
	return Text, false
}

// A Field is one thing an account has, under the name briefs use for it.
type Field struct {
	Name     string   // leaf name of the SCIM attribute, such as familyName
	Label    string   // in words, such as "family name"
	Kind     Kind     // kind of value
	AnyCase  bool     // capitals make no difference (RFC 7643 "caseExact": false on a key)
	Headings []string // what people write above such a column
	Rule     Rule     // when a system takes two values for one, where that is otherwise than here
	example  string   // a value as a person would write it; empty: one of its kind
}

//go:embed catalogue.txt
var catalogueText string

// catalogue is read only.
var catalogue = readCatalogue(catalogueText)

// readCatalogue reads the fields out of the text of catalogue.txt, which says what stands where.
func readCatalogue(text string) (fields []Field) {
	for line := range strings.Lines(text) {
		said, beneath := strings.CutPrefix(strings.TrimRight(line, "\n"), "\t")
		switch {
		case said == "" || strings.HasPrefix(said, "#"):
		case !beneath:
			named, label, _ := strings.Cut(said, ": ")
			words := append(strings.Fields(named), "", "")
			f := Field{Name: words[0], Label: label, AnyCase: words[2] == "any-case"}
			f.Kind, _ = ParseKind(words[1])
			switch {
			case words[2] == "by-letter":
				f.Rule = ByLetter
			case f.Kind == Place:
				f.Rule = AnyCase
			}
			fields = append(fields, f)
		default:
			f := &fields[len(fields)-1]
			if example, is := strings.CutPrefix(said, "= "); is {
				f.example = example
			} else {
				f.Headings = append(f.Headings, said)
			}
		}
	}
	return fields
}

// Fields lists the catalogue in its order. The slice must not be changed.
func Fields() []Field { return catalogue }

// ID is the name of the field that is an account's identifier in its system. It finds
// accounts and is never sent; no heading that people write means it.
const ID = "id"

// Local is the field that says whether a host keeps an account in files of its own, and not
// only a directory that it asks.
const Local = "local"

// FieldNamed returns the catalogue's field of that exact name.
func FieldNamed(name string) (Field, bool) {
	if name == ID {
		return Field{Name: ID, Label: "account's id", Kind: Text}, true
	}
	for i := range catalogue {
		if catalogue[i].Name == name {
			return catalogue[i], true
		}
	}
	return Field{}, false
}

// FieldNames lists the names of the catalogue in its order.
func FieldNames() []string {
	names := make([]string, len(catalogue))
	for i := range catalogue {
		names[i] = catalogue[i].Name
	}
	return names
}

// Headings recognises the field a column's heading means.
type Headings struct{ byKey map[string]int }

// NewHeadings readies the catalogue's headings for look-up.
func NewHeadings() Headings {
	byKey := make(map[string]int, 8*len(catalogue))
	for i := range catalogue {
		byKey[words.Key(catalogue[i].Name)] = i
		for _, heading := range catalogue[i].Headings {
			byKey[words.Key(heading)] = i
		}
	}
	return Headings{byKey}
}

// And adds what fields are called elsewhere, by field, where nothing else is written so, and takes away a word
// that means something else there.
func (h Headings) And(names map[string]string, not string) Headings {
	for i := range catalogue {
		if key := words.Key(names[catalogue[i].Name]); key != "" {
			if _, taken := h.byKey[key]; !taken {
				h.byKey[key] = i
			}
		}
	}
	delete(h.byKey, words.Key(not))
	return h
}

// Field returns the field that heading means, whatever its capitals, spacing,
// accents and punctuation.
func (h Headings) Field(heading string) (Field, bool) {
	i, ok := h.byKey[words.Key(heading)]
	if !ok {
		return Field{}, false
	}
	return catalogue[i], true
}

// Example is a value of the field as a person would write it.
func (f Field) Example() string {
	if f.example != "" {
		return f.example
	}
	return f.Kind.Example()
}

// Numbered is a value that another person has, with a number that tells theirs apart: behind it, and in an address before the @, as what
// stands behind that is somebody else's domain.
func Numbered(value string, n int) string {
	if at := strings.LastIndexByte(value, '@'); at > 0 {
		return value[:at] + strconv.Itoa(n) + value[at:]
	}
	return value + strconv.Itoa(n)
}

// Unnumbered is what a value was before Numbered, if it has a number.
func Unnumbered(value string) string {
	if at := strings.LastIndexByte(value, '@'); at > 0 {
		return strings.TrimRight(value[:at], "0123456789") + value[at:]
	}
	return strings.TrimRight(value, "0123456789")
}

// Same reports whether two values of the field mean the same to a person, so that there
// is nothing to change. That a system takes two for one is not enough: a surname gets its
// capitals corrected.
func (f Field) Same(a, b string) bool {
	if a == b {
		return true
	}
	if f.Rule == DN {
		return a != "" && f.Key(a) == f.Key(b)
	}
	if f.Kind == Phone { // systems write the same number in many ways
		return a != "" && digits(a) == digits(b)
	}
	if f.Kind == List || strings.Contains(a, "\n") && !f.isCatalogued() { // several values: their order says nothing
		x, y := Items(a), Items(b)
		slices.Sort(x)
		slices.Sort(y)
		return slices.Equal(x, y)
	}
	if a, b = norm.NFC.String(a), norm.NFC.String(b); a == b {
		return true // systems may keep letters and their accents apart
	}
	return f.AnyCase && f.Rule != ByLetter && strings.EqualFold(a, b)
}

// isCatalogued reports whether the field is of the catalogue: the others may have several values, one a line.
func (f Field) isCatalogued() bool {
	_, is := FieldNamed(f.Name)
	return is
}

// One reports whether a system takes two values for one, or they mean the same: of two
// accounts with them, nobody could say that they are different people's.
func (f Field) One(a, b string) bool {
	return f.Same(a, b) || a != "" && b != "" && f.Key(a) == f.Key(b)
}

// WithParts names a field whose values each have several parts, such as the issuer
// and the subject of a sign-in: the system's attribute with the parts in braces.
// An item of such a List has its parts in this order, with a tab between.
func WithParts(name string, parts []string) string {
	return name + "{" + strings.Join(parts, ",") + "}"
}

// PartsOf takes apart what WithParts made; other names have no parts.
func PartsOf(name string) (base string, parts []string) {
	base, inner, ok := strings.Cut(strings.TrimSuffix(name, "}"), "{")
	if !ok {
		return name, nil
	}
	return base, strings.Split(inner, ",")
}

// Items returns the items of a List.
func Items(list string) []string {
	if list == "" {
		return nil
	}
	return strings.Split(list, "\n")
}

// ListOf makes a List of items.
func ListOf(items []string) string { return strings.Join(items, "\n") }

func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r == '+' {
			return r
		}
		return -1
	}, s)
}

// Key returns what must agree for two values of the field to collide. Letters and
// their accents are composed.
func (f Field) Key(value string) string {
	if !words.IsPlain(value) {
		value = norm.NFC.String(value)
	}
	switch {
	case f.Rule == ByLetter:
		return value
	case f.Rule == AnyCase:
		return strings.ToLower(strings.Join(strings.Fields(value), " "))
	case f.Rule == DN:
		return nameKey(value)
	case f.AnyCase:
		return strings.ToLower(value)
	}
	return value
}

// nameKey is what must agree for two distinguished names to be one: their parts, whatever
// their capitals and the spaces around commas and equals signs (RFC 4514).
func nameKey(name string) string {
	var key strings.Builder
	escaped := false
	for part := range strings.SplitSeq(strings.ToLower(name), ",") {
		if key.Len() > 0 {
			key.WriteByte(',')
		}
		if escaped {
			key.WriteString(part)
		} else {
			attribute, value, _ := strings.Cut(part, "=")
			key.WriteString(strings.TrimSpace(attribute) + "=" + strings.Join(strings.Fields(value), " "))
		}
		behind := len(part) - len(strings.TrimRight(part, `\`))
		escaped = behind%2 == 1 // the comma belongs to the value
	}
	return key.String()
}
