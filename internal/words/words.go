// Package words knows how people write: stray white space, accents, letters of
// other alphabets, headings in any capitals, and words that are nearly right.
//
// Its functions are pure and total: any string goes in, valid UTF-8 comes out,
// and plain ASCII input takes a fast path without allocation where the result
// equals the input. What a word means (a country, a date) is left to package
// codes.
package words

import (
	"bytes"
	"fmt"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/norm"
)

// Clean trims white space, no-break spaces and zero-width characters from both
// ends of s, turns inner no-break spaces into plain ones, drops inner zero-width
// spaces and byte order marks, and composes letters with their accents (NFC).
// It reports whether white space or invisible characters were changed; composing
// alone does not count, as nobody can see it.
func Clean(s string) (clean string, changed bool) {
	if IsPlain(s) || isTidy(s) {
		return s, false
	}
	clean = strings.TrimFunc(strings.ToValidUTF8(s, "\uFFFD"), isBlank)
	if strings.ContainsFunc(clean, isOddSpace) {
		clean = strings.Map(func(r rune) rune {
			switch {
			case isVanishing(r):
				return -1
			case isOddSpace(r):
				return ' '
			}
			return r
		}, clean)
	}
	changed = clean != s
	if !norm.NFC.IsNormalString(clean) {
		clean = norm.NFC.String(clean)
	}
	return clean, changed
}

// IsPlain reports whether s is printable ASCII without a space at either end:
// text that Clean, OneLine and ControlCharacter have nothing to say about.
func IsPlain(s string) bool {
	if s == "" {
		return true
	}
	if s[0] == ' ' || s[len(s)-1] == ' ' {
		return false
	}
	i := 0
	for ; i+8 <= len(s); i += 8 { // eight at a time, as every cell comes through here
		const each = 0x0101010101010101
		b := s[i : i+8]
		x := uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16 | uint64(b[3])<<24 | uint64(b[4])<<32 | uint64(b[5])<<40 | uint64(b[6])<<48 | uint64(b[7])<<56
		if (x|(x-each*' ')|(x+each))&(each*0x80) != 0 {
			return false
		}
	}
	for ; i < len(s); i++ {
		if s[i] < ' ' || s[i] > '~' {
			return false
		}
	}
	return true
}

// isTidy reports whether s is letters and signs below the first accent that stands by
// itself (U+0300), so that none could be composed, without a space at either end or one
// that is not plain: nearly every name that is not of plain ASCII.
func isTidy(s string) bool {
	if s == "" || s[0] == ' ' || s[len(s)-1] == ' ' {
		return false
	}
	for _, r := range s {
		if r < ' ' || r >= 0x7f && r <= 0xa0 || r == 0xad || r >= 0x300 {
			return false
		}
	}
	return true
}

// isBlank reports whether r shows as nothing at the edge of a cell.
func isBlank(r rune) bool {
	return unicode.IsSpace(r) || isOddSpace(r) ||
		r == '\u200c' || r == '\u200d' || r == '\u200e' || r == '\u200f'
}

// isVanishing lists characters that take no room wherever they stand. The
// joiners U+200C and U+200D are not among them: Persian and Indic spelling
// needs them inside a word.
func isVanishing(r rune) bool {
	return r == '\u200b' || r == '\ufeff' || r == '\u2060' || r == '\u00ad'
}

func isOddSpace(r rune) bool {
	return isVanishing(r) || r == '\u00a0' || r == '\u202f' || r == '\u2007'
}

// OneLine replaces runs of line breaks and tabs in s, with the spaces around
// them, by one space. It reports whether there were any.
func OneLine(s string) (line string, changed bool) {
	if !strings.ContainsAny(s, "\r\n\t") {
		return s, false
	}
	return strings.Join(strings.Fields(s), " "), true
}

// Steers reports whether a character is not shown, and decides how others are: it steers a terminal, or turns the
// direction of writing round (Unicode Standard Annex 9), so that a text reads as another than it is.
func Steers(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069'
}

// EscapeJSON escapes in JSON the characters that steer, and the marks of direction, which JSON lets stand as they are.
func EscapeJSON(text []byte) []byte {
	is := func(r rune) bool {
		return r >= 0x7f && Steers(r) || r == '\u061c' || r == '\u200e' || r == '\u200f'
	}
	if !bytes.ContainsFunc(text, is) {
		return text
	}
	var out bytes.Buffer
	for _, r := range string(text) {
		if is(r) {
			fmt.Fprintf(&out, "\\u%04x", r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.Bytes()
}

// ControlCharacter returns the first control character in s other than a tab or
// a line break, or a character that turns the direction of writing round.
func ControlCharacter(s string) (r rune, found bool) {
	for _, r := range s {
		switch {
		case r == '\t' || r == '\n' || r == '\r':
		case Steers(r), r == utf8.RuneError:
			return r, true
		}
	}
	return 0, false
}

// Ungarbled returns what s said before UTF-8 was read as Windows-1252, which
// makes "Ã¼" of "ü"; ok is false if s does not look like that.
func Ungarbled(s string) (said string, ok bool) {
	if !looksGarbled(s) {
		return "", false
	}
	raw := make([]byte, 0, len(s))
	for _, r := range s {
		b, known := charmap.Windows1252.EncodeRune(r)
		if !known && r < 0x100 {
			b, known = byte(r), true // the five bytes that Windows-1252 leaves open
		}
		if !known {
			return "", false
		}
		raw = append(raw, b)
	}
	if !utf8.Valid(raw) {
		return "", false
	}
	return string(raw), string(raw) != s
}

// SignInWord returns a sign beyond ASCII that stands right beside a letter: "£ukasz"
// has one, and no name does.
func SignInWord(s string) (sign rune, found bool) {
	letter, last := false, rune(0)
	for _, r := range s {
		isSign := r >= 0xa1 && r <= 0xbf && r != 'ª' && r != 'º' && r != '·' || r == '×' || r == '÷' || r >= 0x80 && r < 0xa0 || strings.ContainsRune("€‚ƒ„…†‡ˆ‰‹•˜™›", r)
		switch {
		case isSign && letter:
			return r, true
		case last != 0 && unicode.IsLetter(r):
			return last, true
		}
		letter = unicode.IsLetter(r)
		last = 0
		if isSign {
			last = r
		}
	}
	return 0, false
}

// looksGarbled reports whether a letter that begins a character of UTF-8, read as
// Windows-1252, is followed by one that goes on with it. Hardly any word has that.
func looksGarbled(s string) bool {
	lead := false
	for _, r := range s {
		if lead && (r >= 0x80 && r <= 0xbf || r > 0xff && strings.ContainsRune("€‚ƒ„…†‡ˆ‰Š‹ŒŽ‘’“”•–—˜™š›œžŸ", r)) {
			return true
		}
		lead = r >= 0xc2 && r <= 0xf4
	}
	return false
}

// Key reduces a heading, or another name people type, to what has to agree for
// two of them to be the same: letters without accents in lower case, and digits.
// "Staff no.", "STAFF NO" and "staff_no" all become "staffno".
func Key(s string) string {
	return squeeze(s, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) })
}

// NameKey reduces the name of a thing to what has to agree for two people to mean the
// same by it: everything but capitals, accents and how much space stands between
// words. Punctuation counts: "C++" is not "C", nor "Radio 1.1" "Radio 11".
func NameKey(s string) string {
	if !isASCII(s) {
		s = strings.Map(func(r rune) rune {
			switch {
			case unicode.Is(unicode.Mn, r):
				return -1
			case isVanishing(r):
				return -1
			}
			return r
		}, norm.NFD.String(s))
	}
	return strings.Join(strings.Fields(strings.ToLower(s)), " ")
}

// Fold makes of a name the letters a login is built from: no accents, lower
// case, other alphabets in Latin letters, and nothing but a-z, 0-9 and inner
// hyphens. "Zoë Ångström" becomes "zoeangstrom", "Jean-Luc" "jean-luc".
func Fold(s string) string {
	folded := squeeze(s, func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-'
	})
	return strings.Trim(folded, "-")
}

// squeeze lower-cases s, takes accents off, writes other letters in Latin ones
// where that is usual, and keeps what keep allows.
func squeeze(s string, keep func(rune) bool) string {
	if isSqueezed(s, keep) {
		return s
	}
	var buf [64]byte
	out := buf[:0]
	if isASCII(s) {
		for i := 0; i < len(s); i++ {
			c := s[i]
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			if keep(rune(c)) {
				out = append(out, c)
			}
		}
		return string(out)
	}
	if isEuropean(s) {
		letters := plainLetters()
		for _, r := range s {
			if letter := letters[r]; letter.spelled != "" {
				out = append(out, letter.spelled...)
			} else if keep(letter.base) {
				out = utf8.AppendRune(out, letter.base)
			}
		}
		return string(out)
	}
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "") // what follows broken bytes would not be taken apart
	}
	var apart [128]byte
	letters := norm.NFD.AppendString(apart[:0], s)
	for len(letters) > 0 {
		r, size := utf8.DecodeRune(letters)
		letters = letters[size:]
		if r >= 0x300 && unicode.Is(unicode.Mn, r) {
			continue
		}
		r = unicode.ToLower(r)
		if latin, ok := latinFor(r); ok {
			out = append(out, latin...)
			continue
		}
		if keep(r) {
			out = utf8.AppendRune(out, r)
		}
	}
	return string(out)
}

// isSqueezed reports whether nothing is to be done to a text, as with most.
func isSqueezed(s string, keep func(rune) bool) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c >= utf8.RuneSelf || c >= 'A' && c <= 'Z' || !keep(rune(c)) {
			return false
		}
	}
	return true
}

// endEuropean is the first character behind those most names of Europe are written in,
// each letter with its accents in one (Latin-1, Latin Extended-A and -B).
const endEuropean = 0x250

// isEuropean reports whether all of s is below endEuropean, and whole.
func isEuropean(s string) bool {
	for _, r := range s {
		if r >= endEuropean { // as utf8.RuneError is
			return false
		}
	}
	return true
}

// A plainLetter is what becomes of a character: a letter without its accents, or the
// usual spelling.
type plainLetter struct {
	base    rune
	spelled string
}

// plainLetters works the characters below endEuropean out when first needed, as taking
// each apart anew is most of the work.
var plainLetters = sync.OnceValue(func() *[endEuropean]plainLetter {
	var letters [endEuropean]plainLetter
	for r := range rune(endEuropean) {
		base, _ := utf8.DecodeRuneInString(norm.NFD.String(string(r)))
		base = unicode.ToLower(base)
		spelled, _ := latinFor(base)
		letters[r] = plainLetter{base, spelled}
	}
	return &letters
})

func isASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// latinFor gives the usual Latin spelling of a lower-case letter that has no
// decomposition into a Latin one: Nordic and German letters, Greek (ISO 843
// simplified) and Cyrillic (as passports of its countries mostly have it).
func latinFor(r rune) (string, bool) {
	switch r {
	case 'ł':
		return "l", true
	case 'ø':
		return "o", true
	case 'đ', 'ð':
		return "d", true
	case 'ß':
		return "ss", true
	case 'æ':
		return "ae", true
	case 'œ':
		return "oe", true
	case 'þ':
		return "th", true
	case 'ı':
		return "i", true
	case 'ħ':
		return "h", true
	case 'ŋ':
		return "ng", true
	case 'ς':
		return "s", true
	}
	switch {
	case r >= 'α' && r <= 'ω':
		greek := [...]string{"a", "v", "g", "d", "e", "z", "i", "th", "i", "k", "l", "m", "n", "x", "o", "p", "r", "s", "s", "t", "y", "f", "ch", "ps", "o"}
		return greek[r-'α'], true
	case r >= 'а' && r <= 'я':
		cyrillic := [...]string{"a", "b", "v", "g", "d", "e", "zh", "z", "i", "i", "k", "l", "m", "n", "o", "p", "r", "s", "t", "u", "f", "kh", "ts", "ch", "sh", "shch", "", "y", "", "e", "iu", "ia"}
		return cyrillic[r-'а'], true
	}
	switch r {
	case 'і':
		return "i", true
	case 'є':
		return "ie", true
	case 'ґ':
		return "g", true
	case 'ј':
		return "j", true
	case 'љ':
		return "lj", true
	case 'њ':
		return "nj", true
	case 'ћ':
		return "c", true
	case 'ђ':
		return "dj", true
	case 'џ':
		return "dz", true
	}
	return "", false
}

// Initials returns the first letter of each word of a name, in upper case.
func Initials(name string) string {
	var out strings.Builder
	for _, word := range Words(name) {
		r, _ := utf8.DecodeRuneInString(word)
		out.WriteRune(unicode.ToUpper(r))
	}
	return out.String()
}

// Words cuts a name at white space and hyphens.
func Words(name string) []string {
	return strings.FieldsFunc(name, func(r rune) bool { return unicode.IsSpace(r) || r == '-' })
}

// Title writes a name that came in all capitals or all small letters with a
// capital at each word, after a hyphen and after an apostrophe: "o'neill" becomes
// "O'Neill", "JEAN-LUC" "Jean-Luc". A name that already has both kinds of letter
// is the person's own spelling ("McKay", "van der Berg") and stays.
func Title(name string) string {
	if name != strings.ToUpper(name) && name != strings.ToLower(name) {
		return name
	}
	var out strings.Builder
	start := true
	for _, r := range name {
		if start {
			out.WriteRune(unicode.ToTitle(r))
		} else {
			out.WriteRune(unicode.ToLower(r))
		}
		start = unicode.IsSpace(r) || r == '-' || r == '\'' || r == '’'
	}
	return out.String()
}

// First returns the first n characters of s, or all of it if it is shorter.
func First(s string, n int) string {
	for i := range s {
		if n <= 0 {
			return s[:i]
		}
		n--
	}
	return s
}

// Last returns the last n characters of s, or all of it if it is shorter.
func Last(s string, n int) string {
	drop := utf8.RuneCountInString(s) - max(n, 0)
	for i := range s {
		if drop <= 0 {
			return s[i:]
		}
		drop--
	}
	return ""
}

// Nearest returns the candidate that a person most likely meant by word, or ""
// when none is near: at most one letter in four may differ.
func Nearest(word string, candidates []string) string {
	key := Key(word)
	best, bestDistance := "", min(max(1, len(key)/4), len(key)-1)+1
	for _, candidate := range candidates {
		other := Key(candidate)
		if other == key && key != "" {
			return candidate
		}
		if d := Distance(key, other, bestDistance); d < bestDistance {
			best, bestDistance = candidate, d
		}
	}
	return best
}

// Distance counts the single-letter insertions, deletions, replacements and
// swaps of neighbours between a and b, giving up at limit.
func Distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, last := make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now := make([]int, len(b)+1)
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last = last, now
	}
	return min(last[len(b)], limit)
}
