package ldap

import (
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
)

// An attributeType is what a directory says of an attribute (RFC 4512 section 4.1.2).
type attributeType struct {
	names    []string
	about    string
	super    string
	equality string
	syntax   string // an OID
	length   int    // at most; 0: not said
	single   bool
	kept     bool // by the server
}

// An objectClass is what a directory says of a class (RFC 4512 section 4.1.1).
type objectClass struct {
	names     []string
	supers    []string
	auxiliary bool
	also      []string // auxiliary classes that its entries have (RFC 4512 section 4.1.6)
	must, may []string
}

// A subschema is what the entries of a directory may hold, by name in small letters.
type subschema struct {
	types   map[string]*attributeType
	classes map[string]*objectClass
}

// readSubschema reads the values of a subschema subentry. Those that are not understood
// are left out: servers have some of their own.
func readSubschema(types, classes, rules []string) *subschema {
	s := &subschema{types: map[string]*attributeType{}, classes: map[string]*objectClass{}}
	for _, text := range types {
		t := readType(text)
		for _, name := range t.names {
			s.types[strings.ToLower(name)] = t
		}
	}
	for _, text := range classes {
		o := readClass(text)
		for _, name := range o.names {
			s.classes[strings.ToLower(name)] = o
		}
	}
	for _, text := range rules {
		r := readClass(text)
		for _, name := range r.names {
			if o := s.classes[strings.ToLower(name)]; o != nil {
				o.also, o.must, o.may = append(o.also, r.also...), append(o.must, r.must...), append(o.may, r.may...)
				break
			}
		}
	}
	return s
}

// words takes a description apart: words, quoted texts (with the quote in front, so that
// they are no keywords), parentheses and dollar signs.
func tokens(text string) (all []string) {
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
		case c == '(' || c == ')' || c == '$':
			all = append(all, text[i:i+1])
			i++
		case c == '\'':
			end := strings.IndexByte(text[i+1:], '\'')
			if end < 0 {
				return all
			}
			all = append(all, "'"+strings.NewReplacer(`\27`, "'", `\5C`, `\`, `\5c`, `\`).Replace(text[i+1:i+1+end]))
			i += end + 2
		default:
			end := strings.IndexAny(text[i:], " \t\r\n()$'")
			if end < 0 {
				end = len(text) - i
			}
			all = append(all, text[i:i+end])
			i += end
		}
	}
	return all
}

// described reads a description and hands over each keyword with what stands behind it.
// What comes first, the OID, is handed over under the keyword “”.
func described(text string, each func(keyword string, values []string)) {
	all := tokens(text)
	if len(all) < 3 || all[0] != "(" {
		return
	}
	each("", all[1:2])
	for i := 2; i < len(all)-1; {
		keyword := all[i]
		i++
		var values []string
		switch {
		case slices.Contains([]string{"SINGLE-VALUE", "COLLECTIVE", "NO-USER-MODIFICATION", "OBSOLETE", "ABSTRACT", "STRUCTURAL", "AUXILIARY"}, keyword):
		case all[i] == "(":
			for i++; i < len(all) && all[i] != ")"; i++ {
				if all[i] != "$" {
					values = append(values, strings.TrimPrefix(all[i], "'"))
				}
			}
			i++
		default:
			values = []string{strings.TrimPrefix(all[i], "'")}
			i++
		}
		each(keyword, values)
	}
}

func first(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return values[0]
}

func readType(text string) *attributeType {
	t := &attributeType{}
	described(text, func(keyword string, values []string) {
		switch keyword {
		case "", "NAME":
			t.names = append(t.names, values...)
		case "DESC":
			t.about = first(values)
		case "SUP":
			t.super = first(values)
		case "EQUALITY":
			t.equality = first(values)
		case "SYNTAX":
			oid, length, _ := strings.Cut(first(values), "{")
			t.syntax = oid
			t.length, _ = strconv.Atoi(strings.TrimSuffix(length, "}"))
		case "SINGLE-VALUE":
			t.single = true
		case "NO-USER-MODIFICATION":
			t.kept = true
		case "USAGE":
			t.kept = t.kept || first(values) != "userApplications"
		}
	})
	return t
}

func readClass(text string) *objectClass {
	o := &objectClass{}
	described(text, func(keyword string, values []string) {
		switch keyword {
		case "", "NAME":
			o.names = append(o.names, values...)
		case "SUP":
			o.supers = values
		case "AUXILIARY":
			o.auxiliary = true
		case "AUX":
			o.also = values
		case "MUST":
			o.must = values
		case "MAY":
			o.may = values
		}
	})
	return o
}

// attribute returns what is said of an attribute, with what it has from those it is a kind
// of; nil: nothing.
func (s *subschema) attribute(name string) *attributeType {
	t := s.types[strings.ToLower(name)]
	if t == nil {
		return nil
	}
	whole := *t
	for depth, super := 0, t.super; super != "" && depth < 10; depth++ {
		above := s.types[strings.ToLower(super)]
		if above == nil {
			break
		}
		if whole.syntax == "" {
			whole.syntax, whole.length = above.syntax, above.length
		}
		if whole.equality == "" {
			whole.equality = above.equality
		}
		super = above.super
	}
	return &whole
}

// canonical is the first name of an attribute, by which it is called here.
func (s *subschema) canonical(name string) string {
	if t := s.types[strings.ToLower(name)]; t != nil && len(t.names) > 1 {
		return t.names[1] // the OID is before it
	}
	return name
}

// allows returns the attributes that entries of these classes must have and may have.
func (s *subschema) allows(classes []string) (must, may []string) {
	seen := map[string]bool{}
	var walk func(name string)
	walk = func(name string) {
		o := s.classes[strings.ToLower(name)]
		if o == nil || seen[strings.ToLower(name)] {
			return
		}
		seen[strings.ToLower(name)] = true
		for _, other := range slices.Concat(o.supers, o.also) {
			walk(other)
		}
		for _, a := range o.must {
			must = append(must, s.canonical(a))
		}
		for _, a := range o.may {
			may = append(may, s.canonical(a))
		}
	}
	for _, class := range classes {
		walk(class)
	}
	slices.Sort(must)
	slices.Sort(may)
	return slices.Compact(must), slices.Compact(may)
}

// The syntaxes of RFC 4517 that are not read as text.
const (
	syntaxBoolean  = "1.3.6.1.4.1.1466.115.121.1.7"
	syntaxDN       = "1.3.6.1.4.1.1466.115.121.1.12"
	syntaxTime     = "1.3.6.1.4.1.1466.115.121.1.24"
	syntaxInteger  = "1.3.6.1.4.1.1466.115.121.1.27"
	syntaxOctets   = "1.3.6.1.4.1.1466.115.121.1.40"
	syntaxJPEG     = "1.3.6.1.4.1.1466.115.121.1.28"
	syntaxBinary   = "1.3.6.1.4.1.1466.115.121.1.5"
	syntaxCert     = "1.3.6.1.4.1.1466.115.121.1.8"
	syntaxPhone    = "1.3.6.1.4.1.1466.115.121.1.50"
	syntaxLarge    = "1.2.840.113556.1.4.906" // a large integer, of AD-style directories
	syntaxSecurity = "1.2.840.113556.1.4.907"
)

// isText reports whether values of the attribute can be read and written in a sheet.
func (t *attributeType) isText() bool {
	return !slices.Contains([]string{syntaxOctets, syntaxJPEG, syntaxBinary, syntaxCert, syntaxSecurity}, t.syntax)
}

// kind is the kind of values of an attribute that is not of the catalogue.
func (t *attributeType) kind() account.Kind {
	switch t.syntax {
	case syntaxBoolean:
		return account.YesNo
	case syntaxDN:
		return account.Person
	case syntaxInteger, syntaxLarge:
		return account.Number
	}
	if !t.single {
		return account.List
	}
	switch t.syntax {
	case syntaxTime:
		return account.Date
	case syntaxPhone:
		return account.Phone
	}
	return account.Text
}

// rule says when the directory takes two values for one. Some do not say, and mean that
// capitals make no difference.
func (t *attributeType) rule() account.Rule {
	if t.equality == "" && t.kind() != account.Number && t.kind() != account.YesNo {
		return account.AnyCase
	}
	switch lower := strings.ToLower(t.equality); {
	case strings.HasPrefix(lower, "caseignore"):
		return account.AnyCase
	case strings.HasPrefix(lower, "caseexact"), strings.HasPrefix(lower, "octetstring"), strings.HasPrefix(lower, "integer"), strings.HasPrefix(lower, "numericstring"):
		return account.ByLetter
	}
	return ""
}
