package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"

	"evenledger/internal/account"
)

// What a checked part of an expression becomes. A nil function: the part is nothing that
// briefs commonly use, and the expression is left to the interpreter.
type (
	texts   func(*Scope) (string, error)
	truths  func(*Scope) (bool, error)
	whole   func(*Scope) (int64, error)
	numbers func(*Scope) (float64, error)
	lists   func(*Scope) ([]string, error)
)

// A compiler turns the checked tree of one expression into functions.
//
// It keeps to what the language says of errors: they come from the part that is worked
// out first, save that the one side of && and || which decides by itself hides the
// other's (the language's definition, section Logical Operators).
type compiler struct {
	env  *Env
	tree *ast.AST
}

// result gives x its function, and reports whether there is one.
func (c *compiler) result(x *Expr) bool {
	root := c.tree.Expr()
	switch t := c.tree.GetType(root.ID()); {
	case t.IsExactType(cel.StringType):
		x.text = c.text(root)
	case t.IsExactType(cel.BoolType):
		x.truth = c.truth(root)
		if truth := x.truth; truth != nil {
			x.text = written(truth, strconv.FormatBool)
		}
	case t.IsExactType(cel.IntType):
		if f := c.whole(root); f != nil {
			x.text = written(f, func(n int64) string { return strconv.FormatInt(n, 10) })
		}
	case t.IsExactType(cel.DoubleType):
		if f := c.number(root); f != nil {
			x.text = written(f, func(n float64) string { return fmt.Sprint(n) })
		}
	case t.IsExactType(cel.ListType(cel.StringType)):
		if f := c.list(root); f != nil {
			x.text = written(f, account.ListOf)
		}
	}
	return x.text != nil
}

// written gives a value its text form.
func written[T any, F ~func(*Scope) (T, error)](value F, as func(T) string) texts {
	return func(s *Scope) (string, error) {
		v, err := value(s)
		if err != nil {
			return "", err
		}
		return as(v), nil
	}
}

// call returns the one form of a function that a call was found to mean, and its
// arguments, of which the first is what a method is called on.
func (c *compiler) call(e ast.Expr) (overload string, args []ast.Expr) {
	if e.Kind() != ast.CallKind {
		return "", nil
	}
	means, ok := c.tree.ReferenceMap()[e.ID()]
	if !ok || len(means.OverloadIDs) != 1 {
		return "", nil
	}
	call := e.AsCall()
	if call.IsMemberFunction() {
		args = append(args, call.Target())
	}
	return means.OverloadIDs[0], append(args, call.Args()...)
}

// is reports whether the checker found a part to be of a type.
func (c *compiler) is(e ast.Expr, t *cel.Type) bool { return c.tree.GetType(e.ID()).IsExactType(t) }

// variable returns the variable of a type that a part is.
func (c *compiler) variable(e ast.Expr, t Type) (at int, ok bool) {
	if e.Kind() != ast.IdentKind {
		return 0, false
	}
	at, ok = c.env.slot[e.AsIdent()]
	return at, ok && c.env.vars[at].Type == t
}

// literal returns the value of a literal of type T.
func literal[T any](e ast.Expr) (value T, ok bool) {
	if e.Kind() != ast.LiteralKind {
		return value, false
	}
	value, ok = e.AsLiteral().(T)
	return value, ok
}

func (c *compiler) text(e ast.Expr) texts {
	if at, ok := c.variable(e, Text); ok {
		return func(s *Scope) (string, error) { return s.texts[at], nil }
	}
	if text, ok := literal[types.String](e); ok {
		return func(*Scope) (string, error) { return string(text), nil }
	}
	overload, args := c.call(e)
	switch overload {
	case overloads.AddString:
		return c.joined(e)
	case overloads.Conditional:
		return choice(c.truth(args[0]), c.text(args[1]), c.text(args[2]))
	case overloads.IndexMap:
		return c.cell(args[0], args[1])
	case overloads.IndexList:
		return indexed(c.list(args[0]), c.whole(args[1]))
	case overloads.IntToString:
		if n := c.whole(args[0]); n != nil {
			return written(n, func(n int64) string { return strconv.FormatInt(n, 10) })
		}
	case overloads.BoolToString:
		if b := c.truth(args[0]); b != nil {
			return written(b, strconv.FormatBool)
		}
	case "today":
		return func(*Scope) (string, error) { return c.env.today, nil }
	}
	for _, f := range functions() {
		if f.overload() == overload {
			return c.applied(f, args)
		}
	}
	return nil
}

// applied is the text that a function of ours makes.
func (c *compiler) applied(f function, args []ast.Expr) texts {
	first := c.text(args[0])
	if first == nil {
		return nil
	}
	switch {
	case f.one != nil:
		return written(first, f.one)
	case f.counted != nil:
		return both(first, c.whole(args[1]), func(s string, n int64) (string, error) { return f.counted(s, count(n)), nil })
	case f.split != nil:
		return both(first, c.text(args[1]), func(s, sep string) (string, error) { return f.split(s, sep), nil })
	case f.day != nil:
		return both(first, c.whole(args[1]), f.day)
	case f.three != nil:
		old, replacement := c.text(args[1]), c.text(args[2])
		if old == nil || replacement == nil {
			return nil
		}
		return func(s *Scope) (string, error) {
			var in [3]string
			for i, part := range [...]texts{first, old, replacement} {
				var err error
				if in[i], err = part(s); err != nil {
					return "", err
				}
			}
			return f.three(in[0], in[1], in[2])
		}
	}
	return nil
}

// both works two parts out, the first of them first, and what they make together.
func both[A, B, R any, F ~func(*Scope) (A, error), G ~func(*Scope) (B, error)](a F, b G, make func(A, B) (R, error)) func(*Scope) (R, error) {
	if a == nil || b == nil {
		return nil
	}
	return func(s *Scope) (result R, err error) {
		x, err := a(s)
		if err != nil {
			return result, err
		}
		y, err := b(s)
		if err != nil {
			return result, err
		}
		return make(x, y)
	}
}

// choice is one of two parts.
func choice[T any, F ~func(*Scope) (T, error)](condition truths, yes, no F) F {
	if condition == nil || yes == nil || no == nil {
		return nil
	}
	return func(s *Scope) (T, error) {
		is, err := condition(s)
		switch {
		case err != nil:
			var none T
			return none, err
		case is:
			return yes(s)
		}
		return no(s)
	}
}

// joined is texts put together: however many, in one go.
func (c *compiler) joined(e ast.Expr) texts {
	parts := c.gather(nil, e)
	if parts == nil {
		return nil
	}
	return func(s *Scope) (string, error) {
		var room [128]byte // for nearly every text, so that only the whole of it is made
		all := room[:0]
		for _, part := range parts {
			text, err := part(s)
			if err != nil {
				return "", err
			}
			all = append(all, text...)
		}
		return s.keep(all), nil
	}
}

// gather adds what a sum puts together to parts, from left to right.
func (c *compiler) gather(parts []texts, e ast.Expr) []texts {
	if overload, args := c.call(e); overload == overloads.AddString {
		left := c.gather(parts, args[0])
		if left == nil {
			return nil
		}
		return c.gather(left, args[1])
	}
	part := c.text(e)
	if part == nil {
		return nil
	}
	return append(parts, part)
}

// cell is a cell of the row.
func (c *compiler) cell(of, key ast.Expr) texts {
	if of.Kind() != ast.IdentKind || of.AsIdent() != "col" {
		return nil
	}
	heading, fixed := literal[types.String](key)
	if !fixed {
		return both(c.text(key), func(s *Scope) (*Scope, error) { return s, nil }, func(heading string, s *Scope) (string, error) {
			text, ok := s.cell(heading)
			if !ok {
				return "", noColumn(heading)
			}
			return text, nil
		})
	}
	at := slices.Index(c.env.headings, string(heading))
	if at < 0 {
		at, c.env.headings = len(c.env.headings), append(c.env.headings, string(heading))
	}
	return func(s *Scope) (string, error) {
		column := s.column[at]
		if column < 0 {
			return "", noColumn(string(heading))
		}
		return s.cells.Cell(column), nil
	}
}

func noColumn(heading string) error { return errors.New(plain("no such key: " + heading)) }

func indexed(list lists, at whole) texts {
	return both(list, at, func(list []string, at int64) (string, error) {
		if at < 0 || at >= int64(len(list)) {
			return "", fmt.Errorf("index out of bounds: %d", at)
		}
		return list[at], nil
	})
}

func (c *compiler) truth(e ast.Expr) truths {
	if at, ok := c.variable(e, Truth); ok {
		return func(s *Scope) (bool, error) { return s.truth(at), nil }
	}
	if is, ok := literal[types.Bool](e); ok {
		return func(*Scope) (bool, error) { return bool(is), nil }
	}
	overload, args := c.call(e)
	switch overload {
	case overloads.LogicalAnd:
		return c.decided(args, false)
	case overloads.LogicalOr:
		return c.decided(args, true)
	case overloads.LogicalNot:
		if is := c.truth(args[0]); is != nil {
			return func(s *Scope) (bool, error) { is, err := is(s); return !is && err == nil, err }
		}
	case overloads.Conditional:
		return choice(c.truth(args[0]), c.truth(args[1]), c.truth(args[2]))
	case overloads.Equals:
		return c.equal(args, true)
	case overloads.NotEquals:
		return c.equal(args, false)
	case overloads.InList:
		return c.in(args[0], args[1])
	case overloads.InMap:
		if of := args[1]; of.Kind() == ast.IdentKind && of.AsIdent() == "col" {
			return both(c.text(args[0]), func(s *Scope) (*Scope, error) { return s, nil }, func(heading string, s *Scope) (bool, error) {
				_, ok := s.cell(heading)
				return ok, nil
			})
		}
	case overloads.StartsWithString:
		return both(c.text(args[0]), c.text(args[1]), sure(strings.HasPrefix))
	case overloads.EndsWithString:
		return both(c.text(args[0]), c.text(args[1]), sure(strings.HasSuffix))
	case overloads.ContainsString:
		return both(c.text(args[0]), c.text(args[1]), sure(strings.Contains))
	case overloads.Matches, overloads.MatchesString:
		return c.matches(args[0], args[1])
	}
	return c.ordered(overload, args)
}

// sure makes of a test that cannot fail one that could.
func sure[A, B any](test func(A, B) bool) func(A, B) (bool, error) {
	return func(a A, b B) (bool, error) { return test(a, b), nil }
}

// decided is && or ||: by is the value of one side that decides for both.
func (c *compiler) decided(args []ast.Expr, by bool) truths {
	sides := make([]truths, len(args))
	for i, arg := range args {
		if sides[i] = c.truth(arg); sides[i] == nil {
			return nil
		}
	}
	return func(s *Scope) (bool, error) {
		var first error
		for _, side := range sides {
			switch is, err := side(s); {
			case err != nil && first == nil:
				first = err
			case err == nil && is == by:
				return by, nil
			}
		}
		return first == nil && !by, first
	}
}

// equal is == or !=; same is the value of those that are equal.
func (c *compiler) equal(args []ast.Expr, same bool) truths {
	a, b := args[0], args[1]
	switch {
	case c.is(a, cel.StringType) && c.is(b, cel.StringType):
		return both(c.text(a), c.text(b), sure(func(a, b string) bool { return (a == b) == same }))
	case c.is(a, cel.BoolType) && c.is(b, cel.BoolType):
		return both(c.truth(a), c.truth(b), sure(func(a, b bool) bool { return (a == b) == same }))
	case c.is(a, cel.IntType) && c.is(b, cel.IntType):
		return both(c.whole(a), c.whole(b), sure(func(a, b int64) bool { return (a == b) == same }))
	case c.is(a, cel.DoubleType) && c.is(b, cel.DoubleType):
		return both(c.number(a), c.number(b), sure(func(a, b float64) bool { return (a == b) == same }))
	case c.isList(a) && c.isList(b):
		return both(c.list(a), c.list(b), sure(func(a, b []string) bool { return slices.Equal(a, b) == same }))
	}
	return nil
}

func (c *compiler) isList(e ast.Expr) bool { return c.is(e, cel.ListType(cel.StringType)) }

// in is whether a text is in a list.
func (c *compiler) in(item, list ast.Expr) truths {
	if !c.isList(list) {
		return nil
	}
	return both(c.text(item), c.list(list), sure(func(item string, list []string) bool { return slices.Contains(list, item) }))
}

// matches is a pattern of RFC 9485's kind that stands in the expression itself. One that
// is made, or wrong, is left to the interpreter.
func (c *compiler) matches(text, pattern ast.Expr) truths {
	source, fixed := literal[types.String](pattern)
	value := c.text(text)
	if !fixed || value == nil {
		return nil
	}
	compiled, err := regexp.Compile(string(source))
	if err != nil {
		return nil
	}
	return func(s *Scope) (bool, error) {
		text, err := value(s)
		return err == nil && compiled.MatchString(text), err
	}
}

// ordered is a comparison by order.
func (c *compiler) ordered(overload string, args []ast.Expr) truths {
	switch overload {
	case overloads.LessString, overloads.LessEqualsString, overloads.GreaterString, overloads.GreaterEqualsString:
		return compared(c.text(args[0]), c.text(args[1]), orders[string](overload))
	case overloads.LessInt64, overloads.LessEqualsInt64, overloads.GreaterInt64, overloads.GreaterEqualsInt64:
		return compared(c.whole(args[0]), c.whole(args[1]), orders[int64](overload))
	case overloads.LessDouble, overloads.LessEqualsDouble, overloads.GreaterDouble, overloads.GreaterEqualsDouble:
		return compared(c.number(args[0]), c.number(args[1]), orders[float64](overload))
	}
	return nil
}

func compared[T any, F ~func(*Scope) (T, error)](a, b F, test func(a, b T) bool) truths {
	return both(a, b, sure(test))
}

// orders is the test that a comparison's form stands for.
func orders[T string | int64 | float64](overload string) func(a, b T) bool {
	switch {
	case strings.HasPrefix(overload, "less_equals"):
		return func(a, b T) bool { return a <= b }
	case strings.HasPrefix(overload, "less"):
		return func(a, b T) bool { return a < b }
	case strings.HasPrefix(overload, "greater_equals"):
		return func(a, b T) bool { return a >= b }
	}
	return func(a, b T) bool { return a > b }
}

func (c *compiler) whole(e ast.Expr) whole {
	if n, ok := literal[types.Int](e); ok {
		return func(*Scope) (int64, error) { return int64(n), nil }
	}
	overload, args := c.call(e)
	switch overload {
	case overloads.SizeString, overloads.SizeStringInst:
		if text := c.text(args[0]); text != nil {
			return func(s *Scope) (int64, error) { text, err := text(s); return int64(utf8.RuneCountInString(text)), err }
		}
	case overloads.SizeList, overloads.SizeListInst:
		if !c.isList(args[0]) {
			return nil
		}
		if list := c.list(args[0]); list != nil {
			return func(s *Scope) (int64, error) { list, err := list(s); return int64(len(list)), err }
		}
	case overloads.Conditional:
		return choice(c.truth(args[0]), c.whole(args[1]), c.whole(args[2]))
	case overloads.AddInt64:
		return both(c.whole(args[0]), c.whole(args[1]), func(a, b int64) (int64, error) {
			if sum := a + b; (sum > a) == (b > 0) {
				return sum, nil
			}
			return 0, errOverflow
		})
	case overloads.SubtractInt64:
		return both(c.whole(args[0]), c.whole(args[1]), func(a, b int64) (int64, error) {
			if difference := a - b; (difference < a) == (b > 0) {
				return difference, nil
			}
			return 0, errOverflow
		})
	}
	return nil
}

var errOverflow = errors.New("integer overflow")

func (c *compiler) number(e ast.Expr) numbers {
	if at, ok := c.variable(e, Number); ok {
		return func(s *Scope) (float64, error) { return s.number(at), nil }
	}
	if n, ok := literal[types.Double](e); ok {
		return func(*Scope) (float64, error) { return float64(n), nil }
	}
	overload, args := c.call(e)
	switch overload {
	case overloads.AddDouble:
		return both(c.number(args[0]), c.number(args[1]), func(a, b float64) (float64, error) { return a + b, nil })
	case overloads.SubtractDouble:
		return both(c.number(args[0]), c.number(args[1]), func(a, b float64) (float64, error) { return a - b, nil })
	case overloads.MultiplyDouble:
		return both(c.number(args[0]), c.number(args[1]), func(a, b float64) (float64, error) { return a * b, nil })
	case overloads.Conditional:
		return choice(c.truth(args[0]), c.number(args[1]), c.number(args[2]))
	}
	return nil
}

func (c *compiler) list(e ast.Expr) lists {
	if at, ok := c.variable(e, List); ok {
		return func(s *Scope) ([]string, error) { return s.list(at), nil }
	}
	if e.Kind() == ast.ListKind {
		return c.listed(e.AsList())
	}
	overload, args := c.call(e)
	switch overload {
	case overloads.AddList:
		return both(c.list(args[0]), c.list(args[1]), func(a, b []string) ([]string, error) { return slices.Concat(a, b), nil })
	case overloads.Conditional:
		return choice(c.truth(args[0]), c.list(args[1]), c.list(args[2]))
	}
	for _, f := range functions() {
		if f.overload() == overload && f.several != nil {
			if text := c.text(args[0]); text != nil {
				return func(s *Scope) ([]string, error) {
					text, err := text(s)
					if err != nil {
						return nil, err
					}
					return f.several(text), nil
				}
			}
		}
	}
	return nil
}

// listed is a list whose items stand in the expression. One of literals alone is made
// once, and must not be changed.
func (c *compiler) listed(l ast.ListExpr) lists {
	var fixed []string
	items := make([]texts, l.Size())
	for i, item := range l.Elements() {
		if l.IsOptional(int32(i)) || !c.is(item, cel.StringType) {
			return nil
		}
		if items[i] = c.text(item); items[i] == nil {
			return nil
		}
		if text, ok := literal[types.String](item); ok {
			fixed = append(fixed, string(text))
		}
	}
	if len(fixed) == len(items) {
		return func(*Scope) ([]string, error) { return fixed, nil }
	}
	return func(s *Scope) ([]string, error) {
		all := make([]string, len(items))
		for i, item := range items {
			var err error
			if all[i], err = item(s); err != nil {
				return nil, err
			}
		}
		return all, nil
	}
}
