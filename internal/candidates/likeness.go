// Package candidates compares people's names and addresses as people write them, and finds
// of many the few that somebody may be: whatever the capitals and accents, in either order,
// with initials, familiar forms, a letter mistaken, or a name left out.
//
// It promises to say how sure and why, and never that it is sure: who is who, a person
// decides, on a sheet that the package writes and reads back. An answer counts only for the row that it was given
// for: a row whose names are others by then has none. Memory holds the names of everyone who was added.
package candidates

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"evenledger/internal/words"
)

// A Person is what is known of somebody.
type Person struct {
	Names []string // given name, family name and others, each as it is written
	Email string
	Login string            // name for signing in
	Other map[string]string // further values in which two people seldom agree, by what they are
}

// A Candidate is somebody whom another may be.
type Candidate struct {
	ID   string
	Sure int    // of 100, never 100
	Why  string // in words
}

// An Index holds everyone who may be meant.
type Index struct {
	forms  map[string][]int
	people []entry
	by     map[string][]int32 // by what two people have in common
}

type entry struct {
	id string
	Person
	tokens []string
	given  int // of these, those of the given name, which stand first; 0: nobody says which they are
}

func newEntry(id string, p Person) entry {
	e := entry{id: id, Person: p, tokens: tokens(p.Names)}
	if len(p.Names) > 1 {
		if e.given = len(tokens(p.Names[:1])); e.given == len(e.tokens) {
			e.given = 0
		}
	}
	return e
}

// NewIndex returns an empty index.
func NewIndex() *Index { return &Index{forms: forms(), by: map[string][]int32{}} }

// Add takes somebody in.
func (x *Index) Add(id string, p Person) {
	at := int32(len(x.people))
	e := newEntry(id, p)
	x.people = append(x.people, e)
	for _, key := range x.keys(&e) {
		x.by[key] = append(x.by[key], at)
	}
}

// mostAlike bounds how many have so common a thing in common that it alone is no reason to
// look at them closely.
const mostAlike = 400

// least is how sure one must be for somebody to be told.
const least = 40

// Best returns the few that somebody may be, the most likely first.
func (x *Index) Best(p Person, most int) (best []Candidate) {
	e := newEntry("", p)
	common := map[int32]int{}
	for _, key := range x.keys(&e) {
		of := x.by[key]
		if len(of) > mostAlike {
			continue
		}
		for _, at := range of {
			common[at]++
		}
	}
	if len(common) == 0 { // everything of theirs is common; together it may not be
		x.together(&e, common)
	}
	for _, at := range slices.Sorted(maps.Keys(common)) {
		if c := x.compare(&e, &x.people[at]); c.Sure >= least {
			best = append(best, c)
		}
	}
	slices.SortStableFunc(best, func(a, b Candidate) int { return cmp.Compare(b.Sure, a.Sure) })
	if len(best) > 1 && best[0].Sure-best[1].Sure < 5 {
		best[0].Why += "; another is as likely"
	}
	return best[:min(len(best), most)]
}

// together finds who has two of several common things.
func (x *Index) together(e *entry, common map[int32]int) {
	seen := map[int32]int{}
	for _, key := range x.keys(e) {
		for _, at := range x.by[key] {
			if seen[at]++; seen[at] == 2 && len(common) < 4*mostAlike {
				common[at] = 2
			}
		}
	}
}

// keys are what two people have in common who may be one.
func (x *Index) keys(e *entry) []string {
	seen := map[string]bool{}
	add := func(kind, text string) {
		if text != "" {
			seen[kind+text] = true
		}
	}
	for _, t := range e.tokens {
		add("n", t)
		for _, form := range x.forms[t] {
			add("f", fmt.Sprint(form))
		}
		if len(t) >= 5 { // a letter mistaken: what is left without one of them is the same
			for i := range len(t) {
				add("d", t[:i]+t[i+1:])
			}
			add("d", t)
		}
		if umlauts := plainUmlauts(t); umlauts != t {
			add("n", umlauts)
		}
	}
	add("e", fold(e.Email))
	local, _, _ := strings.Cut(strings.ToLower(e.Email), "@")
	for _, name := range []string{local, e.Login} {
		key := fold(name)
		add("l", key)
		for _, t := range loginWords(name) {
			if len(t) > 2 {
				add("n", t)
			}
		}
	}
	// A login is often an initial with the family name, or the other way about.
	for i, t := range e.tokens {
		for j, other := range e.tokens {
			if i != j && len(t) > 1 && len(other) > 1 {
				add("l", other[:1]+t)
				add("l", t+other[:1])
			}
		}
	}
	for what, value := range e.Other {
		add("o"+what+"=", fold(value))
	}
	return slices.Collect(maps.Keys(seen))
}

// compare says how likely two are one.
func (x *Index) compare(a, b *entry) Candidate {
	var why []string
	doubt := 1.0 // that they are not
	say := func(strength float64, text string) {
		if strength > 0 {
			doubt *= 1 - min(strength, 0.97)
			why = append(why, text)
		}
	}
	name, told := x.names(a, b)
	if name >= 0.5 {
		say(0.9*name, told)
	}
	localA, domainA, _ := strings.Cut(strings.ToLower(a.Email), "@")
	localB, domainB, _ := strings.Cut(strings.ToLower(b.Email), "@")
	switch {
	case localA == "":
	case localA == localB && domainA == domainB:
		say(0.95, "the same address")
	case localB != "" && fold(localA) == fold(localB) && len(localA) > 3:
		say(0.7, "the same address at another place")
	case b.Login != "" && fold(localA) == fold(b.Login) && len(localA) > 3:
		say(0.7, "the address begins as the account is called")
	}
	if a.Login != "" && fold(a.Login) == fold(b.Login) {
		say(0.75, "called the same")
	} else if name < 0.5 {
		// Of some systems the login is all that is known of a name.
		if part := loginLike(a.tokens, cmp.Or(b.Login, localB)); part > 0 {
			say(part, fmt.Sprintf("“%s” is made of the name", cmp.Or(b.Login, localB)))
		}
	}
	for _, what := range slices.Sorted(maps.Keys(a.Other)) {
		if v := fold(a.Other[what]); v != "" && v == fold(b.Other[what]) {
			say(0.3, "the same "+what)
		}
	}
	return Candidate{b.id, min(99, int((1-doubt)*100+0.5)), strings.Join(why, "; ")}
}

// givenCounts is how much a given name counts beside a family name: that changes when people marry, and brothers and
// sisters share it.
const givenCounts = 1.6

// names says how alike two names are, of 1, and in what.
func (x *Index) names(of, to *entry) (alike float64, told string) {
	a, b, given := spelt(of.tokens, to.tokens), spelt(to.tokens, of.tokens), of.given
	if len(a) == 0 || len(b) == 0 {
		return 0, ""
	}
	if len(a) > len(b) {
		a, b, given = b, a, to.given
	}
	used := make([]bool, len(b))
	var notes []string
	sum, most, moved, whole, found, exact := 0.0, 0.0, false, 0, 0, 0
	for i, t := range a {
		weight := 1.0
		if i < given {
			weight = givenCounts / float64(given)
		}
		most += weight
		best, at, note := 0.0, -1, ""
		for j, other := range b {
			if used[j] {
				continue
			}
			if s, said := x.token(t, other); s > best {
				best, at, note = s, j, said
			}
		}
		if at < 0 {
			continue
		}
		used[at] = true
		if found++; best == 1 {
			exact++
		}
		if sum += weight * best; note != "" {
			notes = append(notes, note)
		}
		if best >= 0.8 && len(t) > 1 {
			whole++
		}
		moved = moved || len(a) == len(b) && at != i && best == 1
	}
	alike = sum / most
	if whole == 0 || found == 1 && exact == 0 && len(a) > 1 { // initials alone are nobody's name, nor is a form of one part of it
		alike = min(alike, 0.4)
	}
	if len(a) == 1 { // a single name is a half of one
		alike *= 0.6
	} else if extra := len(b) - len(a); extra > 0 {
		alike *= 1 - 0.06*float64(min(extra, 3))
		notes = append(notes, "a part of the name is left out")
	}
	switch {
	case moved:
		notes = append([]string{"the names the other way about"}, notes...)
	case len(notes) == 0:
		notes = []string{"the same name"}
	}
	return alike, strings.Join(notes, ", ")
}

// spelt are the parts of a name, with initials that stand together (JR Smith) each for itself where the other name has such
// parts.
func spelt(parts, other []string) []string {
	for i, t := range parts {
		if n := len(t); n < 2 || n > 3 || n >= len(other) || slices.Contains(other, t) || initials(other[:n]) != t {
			continue
		}
		return slices.Concat(parts[:i], strings.Split(t, ""), parts[i+1:])
	}
	return parts
}

// initials are the first letters of parts of a name.
func initials(parts []string) (all string) {
	for _, t := range parts {
		r, _ := utf8.DecodeRuneInString(t)
		all += string(r)
	}
	return all
}

// token says how alike two parts of names are.
func (x *Index) token(a, b string) (alike float64, told string) {
	switch {
	case a == b:
		return 1, ""
	case plainUmlauts(a) == plainUmlauts(b):
		return 0.97, ""
	case len(a) == 1 && strings.HasPrefix(b, a), len(b) == 1 && strings.HasPrefix(a, b):
		return 0.6, "an initial for a name"
	}
	for _, form := range x.forms[a] {
		if slices.Contains(x.forms[b], form) {
			return 0.9, fmt.Sprintf("“%s” and “%s” are forms of one name", a, b)
		}
	}
	if undoubled(a) == undoubled(b) {
		return 0.9, fmt.Sprintf("“%s” and “%s” are written with one letter or two", a, b)
	}
	if n := min(len(a), len(b)); n >= 5 && words.Distance(a, b, 2) < 2 {
		return 0.85, fmt.Sprintf("“%s” and “%s” differ by a letter", a, b)
	} else if n >= 3 && (strings.HasPrefix(a, b) || strings.HasPrefix(b, a)) {
		return 0.7, fmt.Sprintf("“%s” begins as “%s”", a, b)
	}
	return 0, ""
}

// undoubled is a text with each letter that stands twice once: Anna, Ana.
func undoubled(t string) string { return string(slices.Compact([]byte(t))) }

// loginLike says how well a login fits a name: its parts, or an initial and a part.
func loginLike(tokens []string, login string) float64 {
	key := strings.TrimRight(fold(login), "0123456789")
	if len(key) < 4 {
		return 0
	}
	for i, t := range tokens {
		for j, other := range tokens {
			if i == j || len(t) < 2 || other == "" {
				continue
			}
			switch key {
			case t + other:
				return 0.8
			case other[:1] + t, t + other[:1]:
				return 0.65
			}
		}
	}
	return 0
}

// loginWords are the parts of a login between dots and the like.
func loginWords(login string) (parts []string) {
	for _, part := range strings.FieldsFunc(login, func(r rune) bool { return r == '.' || r == '_' || r == '-' || r == '+' }) {
		parts = append(parts, fold(strings.TrimRight(part, "0123456789")))
	}
	return parts
}

// isParticle reports whether a word stands within names and is left out as often as not.
func isParticle(word string) bool {
	switch word {
	case "de", "da", "do", "dos", "das", "del", "della", "di", "du", "van", "von", "der", "den", "ter", "zu", "la", "le", "el", "al", "bin", "ibn", "y", "e", "mr", "mrs", "ms", "dr", "prof", "jr":
		return true
	}
	return false
}

// tokens are the parts of names that are compared, each once.
func tokens(names []string) (all []string) {
	for _, name := range names {
		for _, word := range strings.FieldsFunc(name, func(r rune) bool { return strings.ContainsRune(" \t\u00a0,;.-–'’()\"“”", r) }) {
			if t := fold(word); t != "" && !isParticle(t) && !slices.Contains(all, t) {
				all = append(all, t)
			}
		}
	}
	return all
}

// fold is a text in the letters that are compared; of scripts that have no Latin letters of
// their own, as it is.
func fold(text string) string {
	if folded := words.Fold(text); folded != "" || !utf8.ValidString(text) {
		return strings.ReplaceAll(folded, "-", "")
	}
	return words.Key(text)
}

// plainUmlauts writes letters that stand for one with two dots as that one without: “mueller”
// and “muller” are one name.
func plainUmlauts(t string) string {
	return strings.NewReplacer("ae", "a", "oe", "o", "ue", "u", "aa", "a", "ss", "s", "ij", "y").Replace(t)
}
