package sheet

import (
	"bytes"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/unicode/norm"
)

// A Certainty says how sure it is in which encoding a text is.
type Certainty uint8

// How sure an encoding is.
const (
	Told    Certainty = iota // it is UTF-8 or UTF-16, or was named
	Guessed                  // the letters of its words fit one alone
	Doubted                  // they fit another about as well
)

// FindEncoding returns an encoding by one of its names in the WHATWG's list or the IANA's registry, and the name that it goes by.
func FindEncoding(name string) (found encoding.Encoding, as string, err error) {
	if found, err = htmlindex.Get(name); err == nil {
		as, err = htmlindex.Name(found)
		return found, as, err
	}
	if found, err = ianaindex.IANA.Encoding(name); err != nil || found == nil {
		return nil, "", errUnknownEncoding
	}
	as, err = ianaindex.IANA.Name(found)
	return found, as, err
}

// A script is which letters beyond a to z a language writes names with, and how often, of all such letters in its names.
// Rough counts do: what tells encodings apart is whether a letter is usual or as good as never seen.
type script map[rune]float64

// scripts lists the languages, each letter followed by its share in a thousand.
func scripts() map[string]script {
	table := map[string]string{
		"da": "ø500 å250 æ190 é40 ö10", "de": "ü400 ö250 ä200 ß130 é10", "es": "í210 é190 á220 ó160 ñ140 ú70 ü10", "et": "õ250 ä230 ö130 ü200 š60 ž30 é5",
		"fi": "ä690 ö280 å20", "fr": "é440 è110 ç100 ë80 ê50 ô50 ï40 î40 â30 à20 û20 œ10 ù5 ü5", "ga": "á220 é150 í260 ó210 ú150", "hu": "á300 é170 ó130 ö100 ő70 í70 ü60 ú50 ű20",
		"is": "ó160 í120 á150 ð140 ú80 ö110 þ70 é50 ý50 æ60", "it": "è260 é140 à210 ò200 ù130 ì50", "lt": "ė280 š180 ž120 ū110 č80 ų40 ą60 į40 ę40", "lv": "ā260 ī170 ē120 ņ100 š100 ļ60 č50 ū50 ž50 ģ30 ķ30",
		"nl": "ë520 ï240 é130 ö50 è40", "no": "ø480 å300 æ150 é50 ö10", "pl": "ł300 ó120 ń140 ś110 ż100 ę80 ą80 ć60 ź30", "pt": "ã210 ç150 á150 é130 í80 ó80 ê50 â50 ú40 õ40 ô30 à5",
		"ro": "ă310 ş250 ţ220 â120 î90", "cs": "á220 í130 ř120 š100 č100 ě90 ý90 ž70 é50 ů40 ň20 ú15 ď8 ť8 ó5", "sk": "á210 í120 č110 š80 ý80 ž70 ľ50 é50 ú50 ň40 ť35 ô30 ó25 ď20 ä20 ŕ5 ĺ3",
		"hr": "ć310 č210 š210 ž150 đ110", "sv": "ö390 å260 ä290 é50", "tr": "ı250 ş180 ü160 ğ130 ç120 ö110 İ40 â5",
		"ru": "о105 е85 а95 и80 н75 т50 с55 р55 в70 л50 к55 м35 д30 п25 у25 я20 ы10 ь10 г20 з15 б15 ч10 й15 х8 ж8 ш8 ю8 ц3 щ3 э3 ф5 ё2 ъ1", "uk": "о100 а95 н70 и60 і60 в60 к65 р55 е55 т45 с40 л45 м35 у30 д30 п25 я20 ь15 з15 г15 б20 ч15 й15 х10 ж8 ш10 ю10 ц5 щ3 ф3 є5 ї5 ґ1",
		"el": "α105 ο90 ι75 ε60 η45 σ60 ν60 τ50 ρ50 κ50 ς70 λ45 μ35 π35 υ30 γ25 δ25 ω15 χ15 θ15 φ10 β10 ξ5 ζ5 ψ3 ά40 ό35 ί40 έ20 ή20 ύ15 ώ10",
	}
	all := map[string]script{}
	for language, letters := range table {
		s := script{}
		for word := range strings.FieldsSeq(letters) {
			r, size := utf8.DecodeRuneInString(word)
			share := 0.0
			for _, digit := range word[size:] {
				share = share*10 + float64(digit-'0')
			}
			s[r] = share / 1000
		}
		all[language] = s
	}
	return all
}

// A candidate is an encoding that a text without a name for one may be in: how likely before any word was
// seen, and the languages that are written in it.
type candidate struct {
	name      string
	likely    float64
	languages string
}

const (
	western = "fr de es pt da no sv fi is it nl ga"
	central = "pl cs sk hu hr ro de"
)

func candidates() []candidate {
	return []candidate{
		{"windows-1252", 1, western}, {"windows-1250", 0.5, central}, {"windows-1254", 0.3, "tr"}, {"windows-1257", 0.06, "lt lv et"},
		{"windows-1251", 0.3, "ru uk"}, {"windows-1253", 0.15, "el"}, {"iso-8859-2", 0.1, central}, {"macintosh", 0.05, western}, {"IBM850", 0.08, western}, {"IBM852", 0.03, central},
		{"koi8-r", 0.03, "ru"}, {"koi8-u", 0.02, "uk"}, {"ibm866", 0.03, "ru"}, {"gbk", 0.1, "han"}, {"shift_jis", 0.1, "kana"}, {"euc-kr", 0.1, "hangul"},
	}
}

// Chances of what is seldom seen in names.
const (
	strange    = 1.0 / 3000 // a letter that the language does not have
	seldom     = 0.1        // a sign of two bytes that most do without
	impossible = 1e-7       // a sign within a word
	wrongCase  = 0.02       // a capital behind a small letter
	mixed      = 1e-4       // a letter of another alphabet beside one from a to z
	crowded    = 0.15       // a vowel between vowels, a consonant between consonants

	doubtful = 10   // times as likely as the next reading an encoding has to be
	farther  = 1000 // the same, where one of them has two bytes a letter
)

// mostWords is how many different words are weighed.
const mostWords = 400

// A reading is a text as one encoding has it.
type reading struct {
	name  string
	codec encoding.Encoding
	wide  bool // two bytes a letter
	score float64
	words []string
}

// readings weighs in which encodings words can be that are no UTF-8, the likeliest first. Two that read all of them alike are one.
func readings(raw [][]byte) []reading {
	all := scripts()
	var found []reading
	for _, c := range candidates() {
		codec, _, err := FindEncoding(c.name)
		if err != nil {
			continue
		}
		r := reading{name: c.name, codec: codec, wide: isEastern(c.languages), score: math.Log(c.likely)}
		for _, word := range raw {
			text, err := codec.NewDecoder().String(string(word))
			if err != nil {
				text = "\uFFFD"
			}
			r.words = append(r.words, text)
			r.score += math.Log(chance(text, word, c.languages, all))
		}
		if same := slices.IndexFunc(found, func(had reading) bool { return slices.Equal(had.words, r.words) }); same < 0 {
			found = append(found, r)
		} else if r.score > found[same].score {
			found[same] = r
		}
	}
	slices.SortStableFunc(found, func(a, b reading) int {
		switch {
		case a.score > b.score:
			return -1
		case a.score < b.score:
			return 1
		}
		return 0
	})
	return found
}

// isInDoubt reports whether the likeliest of readings is not much likelier than the next.
func isInDoubt(found []reading) bool {
	if len(found) < 2 {
		return false
	}
	least := math.Log(doubtful)
	if found[0].wide || found[1].wide {
		least = math.Log(farther)
	}
	return found[0].score-found[1].score < least
}

// chance is how likely a word is among the names of some languages.
func chance(word string, raw []byte, languages string, all map[string]script) float64 {
	if isEastern(languages) {
		return eastern(word, raw, languages)
	}
	runes := []rune(norm.NFC.String(word))
	total, n := 1e-300, 0.0
	for language := range strings.FieldsSeq(languages) {
		p, letters := 1.0, all[language]
		for i, r := range runes {
			if r < utf8.RuneSelf {
				continue
			}
			share, usual := letters[unicode.ToLower(r)]
			if r == 'İ' {
				share, usual = letters[r]
			}
			switch {
			case !unicode.IsLetter(r):
				p *= impossible
			case !usual:
				p *= strange
			default:
				p *= share
			}
			p *= around(runes, i)
		}
		total, n = total+p, n+1
	}
	return total / n
}

// isMixed reports whether letters of different alphabets stand in a word.
func isMixed(word string) bool {
	return strings.ContainsFunc(word, isPlainLetter) && strings.ContainsFunc(word, func(r rune) bool { return unicode.IsLetter(r) && !unicode.Is(unicode.Latin, r) })
}

// around weighs a letter by those beside it.
func around(word []rune, i int) float64 {
	p := 1.0
	if !unicode.Is(unicode.Latin, word[i]) && (i > 0 && isPlainLetter(word[i-1]) || i+1 < len(word) && isPlainLetter(word[i+1])) {
		p = mixed
	}
	if i > 0 && unicode.IsUpper(word[i]) && unicode.IsLower(word[i-1]) || i > 0 && i+1 < len(word) && unicode.IsLower(word[i]) && unicode.IsUpper(word[i-1]) && unicode.IsUpper(word[i+1]) {
		p *= wrongCase
	}
	if i > 0 && i+1 < len(word) && isVowel(word[i]) == isVowel(word[i-1]) && isVowel(word[i]) == isVowel(word[i+1]) {
		p *= crowded
	}
	return p
}

func isVowel(r rune) bool {
	r = unicode.ToLower(r)
	if base, _ := utf8.DecodeRuneInString(norm.NFD.String(string(r))); base != utf8.RuneError {
		r = base
	}
	return strings.ContainsRune("aeiouyøæœıаеиоуыэюяіїєαεηιουω", r)
}

func isEastern(languages string) bool {
	return languages == "han" || languages == "kana" || languages == "hangul"
}

// eastern is how likely a word is in an encoding of two bytes a letter: each sign is one of many. What those who
// wrote the standards put first, and in rows of bytes with the highest bit, is usual.
func eastern(word string, raw []byte, kind string) float64 {
	p, runes := 1.0, []rune(word)
	for i, r := range runes {
		switch {
		case r < utf8.RuneSelf:
			continue
		case unicode.Is(unicode.Han, r) && kind != "hangul":
			p /= 3000
		case (unicode.Is(unicode.Hiragana, r) || unicode.Is(unicode.Katakana, r)) && kind == "kana" && r < 0xFF00:
			p /= 100
		case unicode.Is(unicode.Hangul, r) && kind == "hangul":
			p /= 1200
		default:
			p *= impossible
		}
		p *= around(runes, i)
	}
	for i := 0; i < len(raw); i++ {
		if raw[i] < utf8.RuneSelf {
			continue
		}
		switch lead := raw[i]; {
		case kind == "han" && lead > 0xD7, kind == "hangul" && lead > 0xC8, kind == "kana" && lead > 0x97:
			p *= seldom
		case i+1 == len(raw), kind != "kana" && (lead < 0xB0 || raw[i+1] < 0xA1):
			p *= seldom * seldom
		}
		i++
	}
	if len(raw) < 2 {
		return p * impossible
	}
	return max(p, 1e-300)
}

// strangeWords are the different words of a text that have letters beyond ASCII, with the lines they stand in.
func strangeWords(data []byte, line int) (words [][]byte, lines []int) {
	had := map[string]bool{}
	for text := range bytes.Lines(data) {
		if len(words) < mostWords && !isASCII(text) {
			for _, word := range bytes.FieldsFunc(text, func(r rune) bool { return r < utf8.RuneSelf && !isPlainLetter(r) }) {
				if !isASCII(word) && len(word) <= 40 && len(words) < mostWords && !had[string(word)] {
					had[string(word)] = true
					words, lines = append(words, word), append(lines, line)
				}
			}
		}
		if bytes.HasSuffix(text, []byte("\n")) {
			line++
		}
	}
	return words, lines
}
