package expr

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"evenledger/internal/words"
)

// A function is one that expressions may use beyond the language's own. Just one of its
// forms is there; both ways of working an expression out call it.
type function struct {
	name    string
	one     func(string) string
	counted func(string, int) string
	split   func(s, sep string) string
	several func(string) []string
	day     func(date string, days int64) (string, error)
	three   func(s, old, replacement string) (string, error)
}

// functions lists them; today stands beside them, as it takes nothing.
func functions() []function {
	return []function{
		{name: "fold", one: words.Fold},
		{name: "lower", one: strings.ToLower},
		{name: "upper", one: strings.ToUpper},
		{name: "title", one: words.Title},
		{name: "initials", one: words.Initials},
		{name: "trim", one: func(s string) string { clean, _ := words.Clean(s); return clean }},
		{name: "digits", one: digits},
		{name: "first", counted: words.First},
		{name: "last", counted: words.Last},
		{name: "pad", counted: pad},
		{name: "before", split: func(s, sep string) string { b, _, _ := strings.Cut(s, sep); return b }},
		{name: "after", split: func(s, sep string) string { _, a, _ := strings.Cut(s, sep); return a }},
		{name: "words", several: words.Words},
		{name: "days", day: days},
		{name: "replace", three: replace},
	}
}

func functionNames() []string {
	names := []string{"today", "size", "startsWith", "endsWith", "contains", "matches"}
	for _, f := range functions() {
		names = append(names, f.name)
	}
	return names
}

func pad(s string, n int) string {
	missing := n - utf8.RuneCountInString(s)
	const zeros = "0000000000000000"
	switch {
	case missing <= 0:
		return s
	case missing <= len(zeros):
		return zeros[:missing] + s
	}
	return strings.Repeat("0", missing) + s
}

func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, s)
}

func days(date string, n int64) (string, error) {
	day, err := time.Parse(time.DateOnly, date)
	if err != nil || n > 1e6 || n < -1e6 {
		return "", fmt.Errorf("days: “%s” is not a date", date)
	}
	return day.AddDate(0, 0, int(n)).Format(time.DateOnly), nil
}

func replace(s, old, replacement string) (string, error) {
	if len(s)+(strings.Count(s, old)+1)*len(replacement) > maxText {
		return "", fmt.Errorf("replace would make a text longer than %d bytes", maxText)
	}
	return strings.ReplaceAll(s, old, replacement), nil
}

// count is a number of characters as an expression gives it.
func count(n int64) int { return int(min(max(n, 0), maxText)) }

// declarations makes the functions known to the language's library.
func declarations(today string) []cel.EnvOption {
	options := []cel.EnvOption{cel.Function("today", cel.Overload("today", nil, cel.StringType, cel.FunctionBinding(func(...ref.Val) ref.Val {
		return types.String(today)
	})))}
	for _, f := range functions() {
		options = append(options, f.declare())
	}
	return options
}

func (f function) declare() cel.EnvOption {
	text, number := cel.StringType, cel.IntType
	str := func(v ref.Val) string { return string(v.(types.String)) }
	told := func(s string, err error) ref.Val {
		if err != nil {
			return types.WrapErr(err)
		}
		return types.String(s)
	}
	args, result, bound := []*cel.Type{text}, text, cel.UnaryBinding(nil)
	switch {
	case f.one != nil:
		bound = cel.UnaryBinding(func(v ref.Val) ref.Val { return types.String(f.one(str(v))) })
	case f.several != nil:
		result = cel.ListType(text)
		bound = cel.UnaryBinding(func(v ref.Val) ref.Val {
			return types.NewStringList(types.DefaultTypeAdapter, f.several(str(v)))
		})
	case f.counted != nil:
		args = []*cel.Type{text, number}
		bound = cel.BinaryBinding(func(v, n ref.Val) ref.Val { return types.String(f.counted(str(v), count(int64(n.(types.Int))))) })
	case f.split != nil:
		args = []*cel.Type{text, text}
		bound = cel.BinaryBinding(func(v, sep ref.Val) ref.Val { return types.String(f.split(str(v), str(sep))) })
	case f.day != nil:
		args = []*cel.Type{text, number}
		bound = cel.BinaryBinding(func(v, n ref.Val) ref.Val { return told(f.day(str(v), int64(n.(types.Int)))) })
	case f.three != nil:
		args = []*cel.Type{text, text, text}
		bound = cel.FunctionBinding(func(v ...ref.Val) ref.Val { return told(f.three(str(v[0]), str(v[1]), str(v[2]))) })
	}
	return cel.Function(f.name, cel.Overload(f.overload(), args, result, bound))
}

// overload names the function's one form in a checked tree.
func (f function) overload() string { return "brief_" + f.name }
