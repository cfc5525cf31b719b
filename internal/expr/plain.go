package expr

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/operators"

	"evenledger/internal/words"
)

// fits reports whether an expression's type serves for what is wanted.
func fits(want Type, t *cel.Type) (inWords string, ok bool) {
	switch want {
	case Truth:
		return "yes or no", t.IsExactType(cel.BoolType)
	case Number:
		return "a number", t.IsExactType(cel.IntType) || t.IsExactType(cel.DoubleType) || t.IsExactType(cel.UintType)
	case Any:
		return "anything", true
	case List:
		return "a list of texts", t.IsExactType(cel.ListType(cel.StringType))
	}
	return "a text", t.IsExactType(cel.StringType)
}

// plainType says a type of the expression language in words.
func plainType(name string) string {
	switch name {
	case "bool":
		return "yes or no"
	case "int", "uint", "double":
		return "number"
	case "string":
		return "text"
	}
	if strings.HasPrefix(name, "list") {
		return "list"
	}
	return name
}

// remedy suggests what was meant by a name the expression language doesn't know.
func (e *Env) remedy(message string) string {
	if name, ok := between(message, "undeclared reference to '", "'"); ok {
		if near := words.Nearest(name, append(slices.Sorted(maps.Keys(e.slot)), functionNames()...)); near != "" {
			return fmt.Sprintf("Did you mean “%s”?", near)
		}
		return fmt.Sprintf("Add a field “%s” to the brief, or read a column with col[\"Heading\"].", name)
	}
	switch {
	case strings.Contains(message, "“") || strings.Contains(message, "”") || strings.Contains(message, "‘") || strings.Contains(message, "’"):
		return "Curly quotes stand here: use straight ones, \"…\"."
	case strings.Contains(message, "token recognition error at: '= "), strings.Contains(message, "token recognition error at: '='"):
		return "To compare, write == (two equals signs)."
	case strings.Contains(message, "found no matching overload"):
		return "Put both sides in the same kind of value: a text in quotes, a number without, true or false without."
	}
	return ""
}

func between(s, before, after string) (string, bool) {
	_, rest, ok := strings.Cut(s, before)
	if !ok {
		return "", false
	}
	inner, _, ok := strings.Cut(rest, after)
	return inner, ok
}

// plain puts a message of the expression language into words.
func plain(message string) string {
	if name, ok := between(message, "undeclared reference to '", "'"); ok {
		return fmt.Sprintf("there is no field or function “%s”", name)
	}
	if call, ok := between(message, "found no matching overload for '", "'"); ok {
		_, types, _ := strings.Cut(message, "applied to '")
		types = strings.Trim(types, "'()")
		var said []string
		for _, t := range strings.Split(types, ", ") {
			said = append(said, plainType(t))
		}
		return fmt.Sprintf("%s cannot be used on %s", plainOperator(call), strings.Join(said, " and "))
	}
	if strings.HasPrefix(message, "Syntax error:") {
		return "this cannot be read" + nearText(message)
	}
	if heading, ok := strings.CutPrefix(message, "no such key: "); ok {
		return fmt.Sprintf("the sheet has no column “%s”", heading)
	}
	return message
}

func nearText(message string) string {
	for _, begin := range []string{"extraneous input '", "mismatched input '", "token recognition error at: '", "no viable alternative at input '"} {
		if text, ok := between(message, begin, "'"); ok {
			if text == "<EOF>" {
				return ": it ends too early"
			}
			return fmt.Sprintf(": look at “%s”", text)
		}
	}
	return ""
}

func plainOperator(name string) string {
	if symbol, ok := operators.FindReverse(name); ok && symbol != "" {
		return symbol
	}
	if name == operators.Conditional {
		return "… ? … : …"
	}
	return name
}
