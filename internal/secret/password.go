package secret

import (
	"crypto/rand"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A Recipe says how passwords are made.
type Recipe struct {
	Length   int
	Alphabet string
	Words    int    // this many words with hyphens between; 0: characters
	Pattern  string // each # a digit, each * a letter; empty: none
}

// tries is how often a password is made anew until it keeps the system's rules.
const tries = 200

// made passwords are sealed together with those that take their place if a system refuses them: the text begins with this mark, which
// stands between them as well, and which no password holds.
const made = "\x00"

// Refusals is how often a password that was made may be refused and another take its place.
const Refusals = 2

// Several are passwords that are sealed as one.
func Several(passwords []string) string { return made + strings.Join(passwords, made) }

// Choose returns of what was sealed the password that counts once so many were refused, and whether another is left after it.
func Choose(text string, refused int) (password string, more bool) {
	rest, several := strings.CutPrefix(text, made)
	if !several {
		return text, false
	}
	all := strings.Split(rest, made)
	at := min(refused, len(all)-1)
	return all[at], at+1 < len(all)
}

// shortestWord is from how many letters on servers look for words of a person in their password.
const shortestWord = 3

// MakeFor makes a password that keeps a system's rules, and holds no word of these values, which are its person's own: many
// servers refuse one that does. broken says which rule the recipe's passwords break, if hardly one keeps them.
func (r Recipe) MakeFor(rules Rules, own []string) (password, broken string, err error) {
	var words []string
	for _, value := range own {
		for _, word := range strings.FieldsFunc(strings.ToLower(value), func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }) {
			if utf8.RuneCountInString(word) >= shortestWord {
				words = append(words, word)
			}
		}
	}
	kept := ""
	for range tries {
		if password, err = r.Make(); err != nil {
			return "", "", err
		}
		if broken = rules.Breaks(password); broken != "" {
			continue
		}
		kept = password
		if lower := strings.ToLower(password); !slices.ContainsFunc(words, func(word string) bool { return strings.Contains(lower, word) }) {
			break
		}
	}
	if kept != "" { // with a word of theirs if the recipe has it
		broken = ""
	}
	return kept, broken, nil
}

// Make makes a password.
func (r Recipe) Make() (string, error) {
	switch {
	case r.Pattern != "":
		return fill(r.Pattern)
	case r.Words > 0:
		return spoken(r.Words)
	}
	letters := []rune(r.Alphabet)
	for {
		password := make([]rune, r.Length)
		for i := range password {
			n, err := below(len(letters))
			if err != nil {
				return "", err
			}
			password[i] = letters[n]
		}
		// Most systems want a small letter, a capital and a digit; where the alphabet
		// has them, so does the password.
		if text := string(password); kinds(text) == kinds(r.Alphabet) || r.Length < 3 {
			return text, nil
		}
	}
}

// kinds is which kinds of characters there are, as bits.
func kinds(text string) (bits int) {
	for _, c := range text {
		switch {
		case unicode.IsLower(c):
			bits |= 1
		case unicode.IsUpper(c):
			bits |= 2
		case unicode.IsDigit(c):
			bits |= 4
		}
	}
	return bits
}

func below(n int) (int, error) {
	got, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
	if err != nil {
		return 0, err
	}
	return int(got.Int64()), nil
}

// drawn is what a sign of a pattern is drawn from; it is read only.
var drawn = map[rune]string{'#': "0123456789", '*': "abcdefghijkmnpqrstuvwxyz"}

func fill(pattern string) (string, error) {
	var out strings.Builder
	for _, c := range pattern {
		from := drawn[c]
		if from == "" {
			out.WriteRune(c)
			continue
		}
		n, err := below(len(from))
		if err != nil {
			return "", err
		}
		out.WriteByte(from[n])
	}
	return out.String(), nil
}

// What spoken words are made of.
const (
	consonants = "bdfgklmnprstvz"
	vowels     = "aeiou"
	syllables  = 3 // in a word
)

// spoken makes words of syllables that can be said and spelt in many languages,
// with a digit behind the last: each has ten syllables' worth of choice twice.
func spoken(words int) (string, error) {
	var out strings.Builder
	for w := range words {
		if w > 0 {
			out.WriteByte('-')
		}
		for s := range syllables {
			c, err := below(len(consonants))
			if err != nil {
				return "", err
			}
			v, err := below(len(vowels))
			if err != nil {
				return "", err
			}
			syllable := consonants[c:c+1] + vowels[v:v+1]
			if w == 0 && s == 0 {
				syllable = strings.ToUpper(syllable[:1]) + syllable[1:]
			}
			out.WriteString(syllable)
		}
	}
	n, err := below(10)
	if err != nil {
		return "", err
	}
	out.WriteByte(byte('0' + n))
	return out.String(), nil
}

// Rules are what a system wants of passwords; the zero Rules want nothing.
type Rules struct {
	Shortest int  // characters
	Longest  int  // 0: any
	Kinds    int  // of small letters, capitals, digits and others
	Weak     bool // given passwords may be such as can be guessed, which is told each time
}

// And returns the rules of both.
func (r Rules) And(other Rules) Rules {
	r.Shortest, r.Kinds, r.Weak = max(r.Shortest, other.Shortest), max(r.Kinds, other.Kinds), r.Weak || other.Weak
	if other.Longest > 0 && (r.Longest == 0 || other.Longest < r.Longest) {
		r.Longest = other.Longest
	}
	return r
}

// Breaks says which rule a password breaks; empty: none.
func (r Rules) Breaks(password string) string {
	has := 0
	for bits := kinds(password); bits > 0; bits >>= 1 {
		has += bits & 1
	}
	if strings.ContainsFunc(password, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }) {
		has++
	}
	switch n := utf8.RuneCountInString(password); {
	case n < r.Shortest:
		return fmt.Sprintf("it has %d characters, and the system wants %d", n, r.Shortest)
	case r.Longest > 0 && n > r.Longest:
		return fmt.Sprintf("it has %d characters, and the system takes %d at most", n, r.Longest)
	case has < r.Kinds:
		return fmt.Sprintf("the system wants %d of small letters, capitals, digits and other characters", r.Kinds)
	}
	return ""
}
