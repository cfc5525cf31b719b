package expr

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// headings are those of the sheet in these tests, each over its own cell.
type headings []string

func (h headings) Column(heading string) (int, bool) {
	at := slices.Index(h, heading)
	return at, at >= 0
}

func (h headings) Cell(column int) string { return []string{"Confirmed", " ", "Éire"}[column] }

var sheet = headings{"Status", "Base", "Country"}

var variables = []Variable{{"givenName", Text}, {"title", Text}, {"active", Truth}, {"fte", Number}, {"tags", List}, {"urn:x:y", Text}}

func names() (all []string) {
	for _, v := range variables {
		all = append(all, v.Name)
	}
	return all
}

// twice compiles a source both ways.
func twice(t require.TestingT, source string, want Type) (compiled, interpreted *Expr, scope *Scope) {
	env := NewEnv(variables, "2026-11-25")
	compiled, err := env.Compile(source, want)
	require.NoError(t, err, source)
	interpreted = &Expr{Source: source}
	checked, issues := env.library.Compile(source)
	require.NoError(t, issues.Err())
	require.NoError(t, env.interpret(interpreted, checked, false))
	return compiled, interpreted, env.NewScope(names(), sheet)
}

func TestWhatBriefsCommonlyUseIsCompiled(t *testing.T) {
	for source, want := range map[string]string{
		`fold(givenName) + "." + fold(title) + "@x.example"`:                     "zoe.mastersmate@x.example",
		`givenName == "" ? upper(title) : lower(givenName)`:                      "zoë",
		`col["Status"] == "Confirmed" && !(title in ["Cook", "Mate"]) || active`: "true",
		`size(givenName) > 2 && givenName.startsWith("Z") && size(tags) == 2`:    "true",
		`first(givenName, 1) + pad(digits("x12"), 5)`:                            "Z00012",
		`before(title, "'") + after(title, " ")`:                                 "MasterMate",
		`words(title)[1] + replace(title, "Ma", "_") + string(size(title))`:      "Mate_ster's _te13",
		`fte >= 0.5 ? days(today(), 10) : today()`:                               "2026-12-05",
		`tags + [title]`: "deck\npilots\nMaster's Mate",
		`title.matches("^[A-Z].*'s") && title.endsWith("te") && "Base" in col`:    "true",
		`trim(col["Base"]) + title("ana") + initials("Ana Ray") + last("abc", 2)`: "AnaARbc",
		`fte * 2.0 - 1.0 + fte`:                        "2",
		`size(words(title)) - 1 + size(title)`:         "14",
		`active == (fte < 1.0) || "a" < "b" && 2 <= 1`: "false",
	} {
		t.Run(source, func(t *testing.T) {
			kind := Text
			switch {
			case want == "true" || want == "false":
				kind = Truth
			case strings.Contains(want, "\n"):
				kind = List
			case strings.Trim(want, "0123456789") == "":
				kind = Number
			}
			compiled, interpreted, scope := twice(t, source, kind)
			assert.Nil(t, compiled.program, "it is interpreted")
			fill(scope, []string{"Zoë", "Master's Mate", "true", "1", "deck\npilots", ""})
			for _, x := range []*Expr{compiled, interpreted} {
				got, err := x.Text(scope)
				require.NoError(t, err)
				assert.Equal(t, want, got)
			}
		})
	}
}

func fill(scope *Scope, values []string) {
	for i, v := range values {
		scope.Set(i, v)
	}
}

func TestMistakesAreTold(t *testing.T) {
	env := NewEnv(variables, "2026-11-25")
	for source, want := range map[string]Error{
		`fold(givenNam)`:                 {5, "in the expression: there is no field or function “givenNam”", "Did you mean “givenName”?"},
		`fold(tags)`:                     {4, "in the expression: fold cannot be used on list", "Put both sides in the same kind of value: a text in quotes, a number without, true or false without."},
		`title = "Mate"`:                 {6, "in the expression: this cannot be read: look at “= ”", "To compare, write == (two equals signs)."},
		`fte`:                            {-1, "the expression gives a number where a text is wanted", ""},
		`title.matches("(") ? "a" : "b"`: {-1, "in the expression: error parsing regexp: missing closing ): `(`", ""},
	} {
		_, err := env.Compile(source, Text)
		var mistake *Error
		require.ErrorAs(t, err, &mistake, source)
		assert.Equal(t, want, *mistake, source)
	}
	x, err := env.Compile(`givenName + title + col["Status"] + givenName`, Text)
	require.NoError(t, err)
	assert.Equal(t, []string{"givenName", "title"}, x.Names)
	assert.Equal(t, []string{"Status"}, x.Columns)
}

// TestGrowthIsBounded has expressions that would make one row fill the memory or the day.
func TestGrowthIsBounded(t *testing.T) {
	for source, told := range map[string]string{
		`pad(pad("x", 60000) + pad("x", 60000), 65000)`: "longer than 65536 bytes",
		`replace(pad("", 60000), "0", "0123456789")`:    "longer than 65536 bytes",
		`tags.all(a, tags.all(b, tags.all(c, tags.all(d, tags.all(e, tags.all(f, tags.all(g, tags.all(h, size(a) >= 0)))))))) ? "y" : "n"`: "more work than a row may",
	} {
		env := NewEnv(variables, "2026-11-25")
		x, err := env.Compile(source, Text)
		require.NoError(t, err)
		scope := env.NewScope(names(), sheet)
		fill(scope, []string{"", "", "", "", strings.Repeat("a\n", 40) + "b"})
		_, err = x.Text(scope)
		assert.ErrorContains(t, err, told)
	}
}

// grammar draws expressions of a type, of those that are compiled and of others.
type grammar struct{ t *rapid.T }

func (g grammar) pick(label string, of ...string) string {
	return rapid.SampledFrom(of).Draw(g.t, label)
}

func (g grammar) text(depth int) string {
	if depth == 0 {
		return g.pick("text", `givenName`, `title`, `""`, `"a"`, `"Zoë"`, `col["Status"]`, `col["Base"]`, `col["Nowhere"]`, `today()`, `"2026-01-31"`, `"x y-z"`)
	}
	switch g.pick("text of", "+", "one", "counted", "split", "?", "replace", "days", "index", "col", "string", "other", "truth") {
	case "+":
		return "(" + g.text(depth-1) + " + " + g.text(depth-1) + ")"
	case "one":
		return g.pick("one", "fold", "lower", "upper", "title", "initials", "trim", "digits") + "(" + g.text(depth-1) + ")"
	case "counted":
		return g.pick("counted", "first", "last", "pad") + "(" + g.text(depth-1) + ", " + g.whole(depth-1) + ")"
	case "split":
		return g.pick("split", "before", "after") + "(" + g.text(depth-1) + ", " + g.text(depth-1) + ")"
	case "?":
		return "(" + g.truth(depth-1) + " ? " + g.text(depth-1) + " : " + g.text(depth-1) + ")"
	case "replace":
		return "replace(" + g.text(depth-1) + ", " + g.text(depth-1) + ", " + g.text(depth-1) + ")"
	case "days":
		return "days(" + g.text(depth-1) + ", " + g.whole(depth-1) + ")"
	case "index":
		return g.list(depth-1) + "[" + g.whole(depth-1) + "]"
	case "col":
		return "col[" + g.text(depth-1) + "]"
	case "string":
		return "string(" + g.whole(depth-1) + ")"
	case "other":
		return `string(int(size(` + g.text(depth-1) + `)) * 2)`
	}
	return "string(" + g.truth(depth-1) + ")"
}

func (g grammar) truth(depth int) string {
	if depth == 0 {
		return g.pick("truth", "active", "true", "false", `"Base" in col`, `col["Nowhere"] == ""`)
	}
	switch g.pick("truth of", "&&", "||", "!", "?", "text", "whole", "number", "list", "in", "method", "matches", "col") {
	case "&&", "||":
		return "(" + g.truth(depth-1) + " " + g.pick("decided", "&&", "||") + " " + g.truth(depth-1) + ")"
	case "!":
		return "!(" + g.truth(depth-1) + ")"
	case "?":
		return "(" + g.truth(depth-1) + " ? " + g.truth(depth-1) + " : " + g.truth(depth-1) + ")"
	case "text":
		return "(" + g.text(depth-1) + g.pick("order", " == ", " != ", " < ", " <= ", " > ", " >= ") + g.text(depth-1) + ")"
	case "whole":
		return "(" + g.whole(depth-1) + g.pick("order", " == ", " != ", " < ", " <= ", " > ", " >= ") + g.whole(depth-1) + ")"
	case "number":
		return "(" + g.number(depth-1) + g.pick("order", " == ", " != ", " < ", " <= ", " > ", " >= ") + g.number(depth-1) + ")"
	case "list":
		return "(" + g.list(depth-1) + g.pick("order", " == ", " != ") + g.list(depth-1) + ")"
	case "in":
		return "(" + g.text(depth-1) + " in " + g.list(depth-1) + ")"
	case "method":
		return g.text(depth-1) + "." + g.pick("method", "startsWith", "endsWith", "contains") + "(" + g.text(depth-1) + ")"
	case "matches":
		return g.text(depth-1) + `.matches(` + g.pick("pattern", `"^[A-Z]"`, `"o.?$"`, `"(a|b)+"`) + `)`
	}
	return "(" + g.text(depth-1) + " in col)"
}

func (g grammar) whole(depth int) string {
	if depth == 0 {
		return g.pick("whole", "0", "1", "3", "-1", "9223372036854775807", "-9223372036854775808", "size(tags)", "size(title)")
	}
	switch g.pick("whole of", "+", "-", "size", "sizes", "?") {
	case "+":
		return "(" + g.whole(depth-1) + " + " + g.whole(depth-1) + ")"
	case "-":
		return "(" + g.whole(depth-1) + " - " + g.whole(depth-1) + ")"
	case "size":
		return g.pick("size", "size(", "0 + size(") + g.text(depth-1) + ")"
	case "sizes":
		return g.list(depth-1) + ".size()"
	}
	return "(" + g.truth(depth-1) + " ? " + g.whole(depth-1) + " : " + g.whole(depth-1) + ")"
}

func (g grammar) number(depth int) string {
	if depth == 0 {
		return g.pick("number", "fte", "0.5", "-1.0", "1e308")
	}
	return "(" + g.number(depth-1) + g.pick("sum", " + ", " - ", " * ") + g.number(depth-1) + ")"
}

func (g grammar) list(depth int) string {
	if depth == 0 {
		return g.pick("list", "tags", `["a", "Zoë"]`, `[title]`, `words(title)`)
	}
	switch g.pick("list of", "+", "[]", "words", "?") {
	case "+":
		return "(" + g.list(depth-1) + " + " + g.list(depth-1) + ")"
	case "[]":
		return "[" + g.text(depth-1) + ", " + g.text(depth-1) + "]"
	case "words":
		return "words(" + g.text(depth-1) + ")"
	}
	return "(" + g.truth(depth-1) + " ? " + g.list(depth-1) + " : " + g.list(depth-1) + ")"
}

// bothAgree draws an expression and a row, and holds the two ways against each other.
func bothAgree(t *rapid.T) {
	g := grammar{t}
	depth := rapid.IntRange(0, 3).Draw(t, "depth")
	kind := rapid.SampledFrom([]Type{Text, Truth, Number, List}).Draw(t, "type")
	source := map[Type]func(int) string{Text: g.text, Truth: g.truth, Number: g.number, List: g.list}[kind](depth)
	compiled, interpreted, scope := twice(t, source, kind)
	word := rapid.OneOf(rapid.SampledFrom([]string{"", "Zoë", "Ana-Lu", "o'Neill", "2026-02-28", "Status", "\xff"}), rapid.String())
	fill(scope, []string{word.Draw(t, "givenName"), word.Draw(t, "title"), rapid.SampledFrom([]string{"true", "false", ""}).Draw(t, "active"),
		rapid.SampledFrom([]string{"", "0.5", "-3", "1e300"}).Draw(t, "fte"), rapid.SampledFrom([]string{"", "a", "Zoë\na\n"}).Draw(t, "tags")})
	got, gotErr := compiled.Text(scope)
	want, wantErr := interpreted.Text(scope)
	require.Equal(t, want, got, source)
	require.Equal(t, fmt.Sprint(wantErr), fmt.Sprint(gotErr), source)
	if kind == Truth {
		is, err := compiled.True(scope)
		require.Equal(t, []any{want == "true", fmt.Sprint(wantErr)}, []any{is, fmt.Sprint(err)}, source)
	}
}

func TestBothWaysAgree(t *testing.T) { rapid.Check(t, bothAgree) }

func FuzzBothWaysAgree(f *testing.F) { f.Fuzz(rapid.MakeFuzz(bothAgree)) }
