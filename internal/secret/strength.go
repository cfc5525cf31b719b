package secret

import (
	"math"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn/frequency"
	"github.com/trustelem/zxcvbn/match"
	"github.com/trustelem/zxcvbn/scoring"
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

// A Judge judges passwords that people give. It may be used by several goroutines.
//
// How many guesses one takes is scored as zxcvbn does, with its lists of passwords,
// words and names. What of them is in a password is found here, as the package that
// finds it there readies its lists at the start of every program that links it.
type Judge struct {
	Rules Rules
	ranks func() map[string]int // word → how early it is tried
}

// NewJudge returns a Judge. Its lists are readied when first needed.
func NewJudge(rules Rules) *Judge {
	return &Judge{rules, sync.OnceValue(func() map[string]int {
		ranks := map[string]int{}
		for _, list := range frequency.FrequencyLists {
			for i, word := range list {
				if has := ranks[word]; has == 0 || i+1 < has {
					ranks[word] = i + 1
				}
			}
		}
		return ranks
	})}
}

// Judge says why a given password will not do, and what is to be told of one that
// will; about are things that anyone can know of the person: names, numbers, the
// organisation.
func (j *Judge) Judge(password string, about []string) (refused, told string) {
	if broken := j.Rules.Breaks(password); broken != "" {
		return "the password is not one the system takes: " + broken, ""
	}
	weak := j.Weak(password, about)
	switch {
	case weak == "":
		return "", ""
	case j.Rules.Weak:
		return "", "the password can be guessed: " + weak
	}
	return "the password can be guessed: " + weak, ""
}

// Weak says why a password can be guessed; empty: it cannot.
func (j *Judge) Weak(password string, about []string) string {
	return j.weak(password, about, enoughGuesses)
}

func (j *Judge) weak(password string, about []string, enough float64) string {
	switch n := utf8.RuneCountInString(password); {
	case n < 8:
		return "it has fewer than 8 characters"
	case strings.TrimSpace(password) != password:
		return "it begins or ends with white space, which is easily lost"
	}
	lower := strings.ToLower(password)
	known := map[string]int{}
	for _, text := range about {
		for part := range strings.FieldsFuncSeq(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if utf8.RuneCountInString(part) < 3 {
				continue
			}
			// What has little but the person's own words in it is no choice at all.
			if 2*len(part) >= len(lower) && strings.Contains(lower, part) {
				return "it holds a name or number of the person"
			}
			known[part] = len(known) + 1
		}
	}
	if len(password) > longestJudged {
		password = strings.ToValidUTF8(password[:longestJudged], "")
	}
	if scoring.MostGuessableMatchSequence(password, j.matches(password, known), false).Guesses < enough {
		return "it is among those tried first: common words and names, years, rows of keys or few different characters"
	}
	if j.restWeak(password, about) {
		return "little is left of it without names and words of the person and the organisation, years, repeats and rows of keys"
	}
	return ""
}

// matches finds what in a password does not take a guess for each character.
func (j *Judge) matches(password string, known map[string]int) []*match.Match {
	lower := strings.ToLower(password)
	if len(lower) != len(password) {
		lower = password // a letter whose small one is longer: places would not agree
	}
	all := j.inLists(password, lower, known, nil)
	all = append(all, j.inLists(password, reversed(lower), known, nil)...)
	for _, i := range []string{"i", "l"} { // a 1 stands for either
		signs := map[string]string{"4": "a", "@": "a", "8": "b", "(": "c", "3": "e", "6": "g", "9": "g", "1": i, "!": "i", "|": i, "0": "o", "$": "s", "5": "s", "7": "t", "+": "t", "%": "x", "2": "z"}
		all = append(all, j.inLists(password, strings.Map(func(r rune) rune {
			if letter := signs[string(r)]; letter != "" {
				return rune(letter[0])
			}
			return r
		}, lower), known, signs)...)
	}
	all = append(all, rows(password, lower)...)
	all = append(all, j.repeats(password, known)...)
	for at := 0; at+4 <= len(password); at++ {
		if year := password[at : at+4]; year >= "1900" && year <= "2099" && strings.Trim(year, "0123456789") == "" {
			all = append(all, &match.Match{Pattern: "regex", RegexName: "recent_year", I: at, J: at + 3, Token: year})
		}
	}
	match.Sort(all)
	return all
}

func reversed(text string) string {
	out := make([]byte, len(text))
	for i := range len(text) {
		out[len(text)-1-i] = text[i]
	}
	return string(out)
}

// inLists finds the words of the lists, and what is known, in the text that a password
// becomes: itself, backwards, or with letters for the signs that stand for them.
func (j *Judge) inLists(password, text string, known map[string]int, signs map[string]string) (all []*match.Match) {
	ranks := j.ranks()
	backwards := signs == nil && text != strings.ToLower(password)
	for from := range len(text) {
		for to := from + 1; to <= len(text); to++ {
			word := text[from:to]
			rank := known[word]
			if common := ranks[word]; rank == 0 || common > 0 && common < rank {
				rank = common
			}
			first, last := from, to-1
			if backwards {
				first, last = len(text)-to, len(text)-1-from
			}
			token := password[first : last+1]
			if rank == 0 || signs != nil && strings.EqualFold(token, word) {
				continue
			}
			m := &match.Match{Pattern: "dictionary", I: first, J: last, Token: token, MatchedWord: word, Rank: rank, Reversed: backwards, L33t: signs != nil}
			if signs != nil {
				m.Sub = map[string]string{}
				for i := range len(token) {
					if letter := signs[token[i:i+1]]; letter != "" {
						m.Sub[token[i:i+1]] = letter
					}
				}
			}
			all = append(all, m)
		}
	}
	return all
}

// keys are the rows of keyboards.
var keys = [...]string{"qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "zxcvbnm", "yxcvbnm", "1234567890", "1qaz2wsx3edc4rfv5tgb6yhn7ujm"}

// rows finds rows of keys, and letters or digits that follow each other.
func rows(password, lower string) (all []*match.Match) {
	for from := range len(lower) {
		for to := len(lower); to >= from+3; to-- {
			part := lower[from:to]
			for _, row := range keys {
				if strings.Contains(row, part) || strings.Contains(reversed(row), part) {
					all = append(all, &match.Match{Pattern: "spatial", Graph: "qwerty", I: from, J: to - 1, Token: password[from:to], Turns: 1})
				}
			}
			if step := int(part[1]) - int(part[0]); (step == 1 || step == -1) && follows(part, step) {
				all = append(all, &match.Match{Pattern: "sequence", I: from, J: to - 1, Token: password[from:to], Ascending: step > 0})
			}
		}
	}
	return all
}

func follows(text string, step int) bool {
	for i := 1; i < len(text); i++ {
		if int(text[i])-int(text[i-1]) != step {
			return false
		}
	}
	return true
}

// repeats finds what is written several times.
func (j *Judge) repeats(password string, known map[string]int) (all []*match.Match) {
	for from := range len(password) {
		for width := 1; from+2*width <= len(password); width++ {
			base, times := password[from:from+width], 1
			for at := from + width; strings.HasPrefix(password[at:], base); at += width {
				times++
			}
			if times < 2 || times*width < 3 || !utf8.ValidString(base) {
				continue
			}
			guesses := float64(len(base) * 11)
			if width > 1 {
				guesses = scoring.MostGuessableMatchSequence(base, j.inLists(base, strings.ToLower(base), known, nil), false).Guesses
			}
			all = append(all, &match.Match{Pattern: "repeat", I: from, J: from + times*width - 1, Token: password[from : from+times*width], BaseToken: base, BaseGuesses: guesses, RepeatCount: times})
		}
	}
	return all
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
