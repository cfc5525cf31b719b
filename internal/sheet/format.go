package sheet

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A numberFormat is what the format of a cell says about its number (ISO/IEC
// 29500-1 section 18.8.31).
type numberFormat struct {
	date     bool
	sections []formatSection // where it shows more than the number has
}

// A formatSection is how numbers are shown for which its condition holds.
type formatSection struct {
	compare string // "<", "<=", "=", "<>", ">=", ">"; empty: any
	than    float64
	pattern string // "0" a digit that is always shown, "#" one that is if there is one
	literal []bool // of pattern: the character stands for itself
}

// formatToken is one piece of a section's code.
var formatToken = regexp.MustCompile(`"[^"]*"|\\.|_.|\*.|\[[^\]]*\]|.`)

var formatCondition = regexp.MustCompile(`^\[(<=|>=|<>|<|>|=)\s*(-?[0-9.]+)\]$`)

// parseFormat reads the code of a number format.
func parseFormat(code string) numberFormat {
	var sections []formatSection
	keeps := false // something is shown that the number does not have
	for i, text := range splitSections(code) {
		section, bare, plain := parseSection(text)
		if i == 0 && !plain {
			if strings.HasPrefix(bare, "general") || strings.Contains(bare, "[h") || strings.Contains(bare, "[m") || strings.Contains(bare, "[s") {
				return numberFormat{} // a duration stays the number it is
			}
			if strings.ContainsAny(bare, "ymdhs") {
				return numberFormat{date: true}
			}
		}
		if !plain {
			section.pattern = ""
		}
		keeps = keeps || section.shows()
		sections = append(sections, section)
	}
	if !keeps {
		return numberFormat{}
	}
	return numberFormat{sections: sections}
}

// splitSections cuts a code at the semicolons that stand for themselves.
func splitSections(code string) []string {
	sections := []string{""}
	for _, token := range formatToken.FindAllString(code, -1) {
		if token == ";" {
			sections = append(sections, "")
			continue
		}
		sections[len(sections)-1] += token
	}
	return sections
}

// parseSection reads one section. bare is what is left of it without texts and
// colours; plain reports that it shows nothing but digits and texts.
func parseSection(text string) (s formatSection, bare string, plain bool) {
	plain = true
	var pattern []byte
	add := func(literal string) {
		for i := range len(literal) {
			pattern, s.literal = append(pattern, literal[i]), append(s.literal, true)
		}
	}
	for _, token := range formatToken.FindAllString(text, -1) {
		switch first := token[0]; {
		case first == '"':
			add(strings.Trim(token, `"`))
		case first == '\\' && len(token) > 1:
			add(token[1:])
		case first == '_' && len(token) > 1, first == '*' && len(token) > 1:
		case first == '[' && len(token) > 1:
			if c := formatCondition.FindStringSubmatch(token); c != nil {
				s.compare = c[1]
				s.than, _ = strconv.ParseFloat(c[2], 64) // no number is no condition that holds
			} else if inner := strings.ToLower(token); strings.Trim(inner, "[hms]") == "" {
				bare, plain = bare+inner, false
			}
		case first == '0' || first == '#' || first == '?':
			digit := token
			if first == '?' {
				digit = "#"
			}
			pattern, s.literal = append(pattern, digit[0]), append(s.literal, false)
			bare += token
		case strings.Contains(" -()/+", token):
			add(token)
			bare += token
		default:
			bare, plain = bare+strings.ToLower(token), false
		}
	}
	s.pattern = string(pattern)
	return s, bare, plain
}

// shows reports whether a section shows zeros in front or a prefix with a letter,
// which make a code of a number; what stands behind it alone, such as a unit, does
// not.
func (s formatSection) shows() bool {
	zeros, prefix := s.parts()
	return zeros > 1 || prefix || s.plus()
}

// shortestPhone is from how many digits on a plus before them is that of a telephone number, and no sign.
const shortestPhone = 7

// plus reports whether a plus is written before the digits.
func (s formatSection) plus() bool {
	first := slices.Index(s.literal, false)
	return first > 0 && strings.Contains(s.pattern[:first], "+")
}

// parts returns how many digits a section has that are always shown, and whether a
// text stands before its digits.
func (s formatSection) parts() (zeros int, prefixed bool) {
	digits, prefix := 0, ""
	for i := range len(s.pattern) {
		switch {
		case s.literal[i] && digits == 0:
			prefix += s.pattern[i : i+1]
		case !s.literal[i]:
			if digits++; s.pattern[i] == '0' {
				zeros++
			}
		}
	}
	return zeros, digits > 0 && strings.Trim(prefix, " -()/+~#:.,€$£") != ""
}

// shown writes a whole number as the spreadsheet program shows it, if that is more
// than the number: with zeros in front, or a prefix.
func (f numberFormat) shown(text string, number float64) string {
	if len(f.sections) == 0 || !isDigits(text) {
		return text
	}
	at := 0
	if f.sections[0].compare != "" {
		for at = 0; at < len(f.sections) && !f.sections[at].holds(number); at++ {
		}
	} else if number == 0 && len(f.sections) > 2 {
		at = 2
	}
	if at >= len(f.sections) || !f.sections[at].shows() {
		return text
	}
	section := f.sections[at]
	if zeros, prefixed := section.parts(); !prefixed && !(section.plus() && len(text) >= shortestPhone) && (zeros < 2 || len(text) > zeros) {
		return text // it has all its digits
	}
	return section.fill(text)
}

func (s formatSection) holds(number float64) bool {
	switch s.compare {
	case "<":
		return number < s.than
	case "<=":
		return number <= s.than
	case "=":
		return number == s.than
	case "<>":
		return number != s.than
	case ">=":
		return number >= s.than
	case ">":
		return number > s.than
	}
	return true
}

// fill puts digits into the pattern, from the right; those for which there is no
// place stand before its first.
func (s formatSection) fill(digits string) string {
	out, first := "", -1
	for i := range len(s.pattern) {
		if !s.literal[i] {
			first = i
			break
		}
	}
	for i := len(s.pattern) - 1; i >= 0; i-- {
		switch {
		case s.literal[i]:
			out = s.pattern[i:i+1] + out
		case i == first:
			if digits == "" && s.pattern[i] == '0' {
				digits = "0"
			}
			out, digits = digits+out, ""
		case digits != "":
			out, digits = digits[len(digits)-1:]+out, digits[:len(digits)-1]
		case s.pattern[i] == '0':
			out = "0" + out
		}
	}
	return out
}
