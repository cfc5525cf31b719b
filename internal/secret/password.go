package secret

import (
	"crypto/rand"
	"fmt"
	"math"
	"math/big"
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

func fill(pattern string) (string, error) {
	var out strings.Builder
	for _, c := range pattern {
		from := map[rune]string{'#': "0123456789", '*': "abcdefghijkmnpqrstuvwxyz"}[c]
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

// spoken makes words of syllables that can be said and spelt in many languages,
// with a digit behind the last: each has ten syllables' worth of choice twice.
func spoken(words int) (string, error) {
	const first, second = "bdfgklmnprstvz", "aeiou"
	var out strings.Builder
	for w := range words {
		if w > 0 {
			out.WriteByte('-')
		}
		for s := range 3 {
			c, err := below(len(first))
			if err != nil {
				return "", err
			}
			v, err := below(len(second))
			if err != nil {
				return "", err
			}
			syllable := first[c:c+1] + second[v:v+1]
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
	Shortest int // characters
	Longest  int // 0: any
	Kinds    int // of small letters, capitals, digits and others
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

// enough is how many bits of choice a password that people keep should have.
const enough = 40

// Weak says why a password can be guessed; empty: it cannot. about are things that
// anyone can know of the person.
func Weak(password string, about []string) string {
	lower := strings.ToLower(password)
	switch n := utf8.RuneCountInString(password); {
	case n < 8:
		return "it has fewer than 8 characters"
	case strings.TrimSpace(password) != password:
		return "it begins or ends with white space, which is easily lost"
	}
	for _, known := range about {
		for part := range strings.FieldsFuncSeq(strings.ToLower(known), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if utf8.RuneCountInString(part) > 2 && strings.Contains(lower, part) {
				return "it holds a name or number of the person"
			}
		}
	}
	if bits(lower) < enough {
		return "it is too simple: common words, rows of keys or few different characters"
	}
	return ""
}

// bits estimates how many guesses a password takes, as a power of two: each
// character counts by the kinds there are, and nothing where it follows from those
// before it or is part of a word that everybody tries.
func bits(lower string) float64 {
	for _, word := range []string{"password", "passwort", "motdepasse", "welcome", "willkommen", "letmein", "qwerty", "qwertz", "azerty", "summer", "winter", "spring", "autumn", "secret", "admin", "login", "hello", "monkey", "dragon", "ferry"} {
		lower = strings.ReplaceAll(lower, word, word[:1])
	}
	pool := 0
	for kind, size := range map[int]int{1: 26, 2: 26, 4: 10} {
		if kinds(lower)&kind != 0 {
			pool += size
		}
	}
	if strings.ContainsFunc(lower, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }) {
		pool += 20
	}
	chars, counted := []rune(lower), 0.0
	for i, c := range chars {
		if i > 0 && (c == chars[i-1] || c == chars[i-1]+1 || c == chars[i-1]-1) {
			counted += 0.2
			continue
		}
		counted++
	}
	return counted * math.Log2(float64(max(pool, 2)))
}
