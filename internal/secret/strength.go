package secret

import (
	"math"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
)

// Enough is how much of a made password has to be left to chance, in bits.
const Enough = 40

// The guesses that a password has to withstand: one that a person keeps and types
// into an application, and one that opens a file which anybody may try for long.
const (
	enoughGuesses     = 1e8
	enoughOfAnOpening = 1e10
)

// longestJudged bounds what the estimator looks at; what is longer is judged by its
// beginning.
const longestJudged = 64

// Weak says why a password can be guessed; empty: it cannot. about are things that
// anyone can know of the person: names, numbers, the organisation.
func Weak(password string, about []string) string {
	return weak(password, about, enoughGuesses)
}

func weak(password string, about []string, enough float64) string {
	switch n := utf8.RuneCountInString(password); {
	case n < 8:
		return "it has fewer than 8 characters"
	case strings.TrimSpace(password) != password:
		return "it begins or ends with white space, which is easily lost"
	}
	lower := strings.ToLower(password)
	var known []string
	for _, text := range about {
		for part := range strings.FieldsFuncSeq(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if utf8.RuneCountInString(part) < 3 {
				continue
			}
			// What has nothing but the person's own words in it is no choice at all.
			if 2*len(part) >= len(lower) && strings.Contains(lower, part) {
				return "it holds a name or number of the person"
			}
			known = append(known, part)
		}
	}
	if len(password) > longestJudged {
		password = strings.ToValidUTF8(password[:longestJudged], "")
	}
	if zxcvbn.PasswordStrength(password, known).Guesses < enough {
		return "it is among those tried first: common words and names, years, rows of keys or few different characters"
	}
	return ""
}

// Bits is how much of a password made by the recipe is left to chance.
func (r Recipe) Bits() float64 {
	switch {
	case r.Pattern != "":
		bits := 0.0
		for _, c := range r.Pattern {
			bits += math.Log2(float64(max(1, len(drawn[c]))))
		}
		return bits
	case r.Words > 0:
		return float64(r.Words*syllables)*math.Log2(float64(len(consonants)*len(vowels))) + math.Log2(10)
	}
	distinct := map[rune]bool{}
	for _, c := range r.Alphabet {
		distinct[c] = true
	}
	return float64(r.Length) * math.Log2(float64(max(1, len(distinct))))
}
