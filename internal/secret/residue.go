package secret

import (
	"strings"
	"unicode"

	"github.com/trustelem/zxcvbn/scoring"

	"evenledger/internal/words"
)

// enoughOfTheRest is how many guesses what is left of a password has to withstand when all was taken
// out of it that anyone knows who knows the person.
const enoughOfTheRest = 1e6

// restWeak reports whether little is left of a password without what is known of the person and their
// organisation, years, repeats and rows of keys.
func (j *Judge) restWeak(password string, about []string) bool {
	text := flat(password)
	out := make([]bool, len(text)) // taken out
	takeWords(text, out, about)
	takeRepeats(text, out)
	takeRows(text, out)
	var rest strings.Builder
	taken := false
	for i := range len(text) {
		if out[i] {
			taken = true
		} else {
			rest.WriteByte(text[i])
		}
	}
	if !taken {
		return false
	}
	left := rest.String()
	return scoring.MostGuessableMatchSequence(left, j.matches(left, nil), false).Guesses < enoughOfTheRest
}

// flat writes a text in small letters of the Latin alphabet, digits and one sign for anything else.
func flat(text string) string {
	var out strings.Builder
	for _, r := range text {
		switch lower := unicode.ToLower(r); {
		case lower < 0x80:
			out.WriteRune(lower)
		default:
			if folded := words.Fold(string(r)); folded != "" {
				out.WriteString(folded)
			} else {
				out.WriteByte('?')
			}
		}
	}
	return out.String()
}

// signs are what people write for letters, both ways of them that are of use here.
var signs = [...]*strings.Replacer{
	strings.NewReplacer(),
	strings.NewReplacer("4", "a", "@", "a", "8", "b", "3", "e", "6", "g", "9", "g", "1", "i", "!", "i", "|", "i", "0", "o", "$", "s", "5", "s", "7", "t", "+", "t", "2", "z"),
	strings.NewReplacer("4", "a", "@", "a", "8", "b", "3", "e", "1", "l", "!", "l", "|", "l", "0", "o", "$", "s", "5", "s", "7", "t", "+", "t"),
}

// Least lengths of what is known of a person: a whole word, and a part of one.
const (
	leastWord = 3
	leastPart = 4
)

// takeWords takes out what is known of the person: whole words, the longest parts of longer ones, the
// words of a text written without spaces, all of it forwards and backwards, and with signs for letters.
func takeWords(text string, out []bool, about []string) {
	var known []string
	for _, one := range about {
		whole := ""
		for part := range strings.FieldsFuncSeq(flat(one), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if whole += part; len(part) >= leastWord {
				known = append(known, part, reversed(part))
			}
		}
		if len(whole) >= leastWord {
			known = append(known, whole, reversed(whole))
		}
	}
	for _, letters := range signs {
		as := letters.Replace(text)
		for from := 0; from < len(as); from++ {
			longest := 0
			for _, word := range known {
				n := common(as[from:], word)
				if n == len(word) || n >= leastPart {
					longest = max(longest, n)
				}
				// A part of a word may begin anywhere in it.
				for at := 1; at+leastPart <= len(word); at++ {
					if n := common(as[from:], word[at:]); n >= leastPart {
						longest = max(longest, n)
					}
				}
			}
			for i := range longest {
				out[from+i] = true
			}
			if longest > 0 {
				from += longest - 1
			}
		}
	}
}

// common is how many bytes two texts begin with alike.
func common(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

// takeRepeats takes out what is written twice or more, with a sign or two between at most.
func takeRepeats(text string, out []bool) {
	for from := range len(text) {
		for width := len(text) - from; width >= 1; width-- {
			base, times, end := text[from:from+width], 1, from+width
			for gap := 0; gap <= 2 && end+gap+width <= len(text); gap++ {
				if strings.IndexFunc(text[end:end+gap], func(r rune) bool { return unicode.IsLetter(r) }) >= 0 {
					break
				}
				if strings.HasPrefix(text[end+gap:], base) {
					times, end, gap = times+1, end+gap+width, -1
				}
			}
			if width >= leastWord && times >= 2 || times >= leastWord {
				for i := from; i < end; i++ {
					out[i] = true
				}
				break
			}
		}
	}
}

// takeRows takes out years, rows of keys, and letters or digits that follow each other.
func takeRows(text string, out []bool) {
	for _, m := range rows(text, text) {
		for i := m.I; i <= m.J; i++ {
			out[i] = true
		}
	}
	for at := 0; at+4 <= len(text); at++ {
		if year := text[at : at+4]; year >= "1900" && year <= "2099" && strings.Trim(year, "0123456789") == "" {
			for i := range 4 {
				out[at+i] = true
			}
		}
	}
}
