package brief

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"

	"evenledger/internal/account"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// maxText is the longest text an expression may make, in bytes: longer than any
// field of an account, short enough that a row cannot fill the memory.
const maxText = 64 << 10

// What an expression that could grow may cost for one row, in the language's own units (a
// step each, and a tenth of one for each byte of a text that is made); and how many texts
// one may put together that is not watched.
const (
	maxCost  = 1_000_000
	maxJoins = 24
)

// An Expr is a compiled expression of the Common Expression Language.
type Expr struct {
	Source  string
	Fields  []string // names of the fields it uses
	Uses    []int    // the same as indexes of the brief's fields
	Columns []string // headings it reads with col["…"]
	program cel.Program
}

// Text evaluates the expression to the text form of its value.
func (e *Expr) Text(scope *Scope) (string, error) {
	value, err := e.eval(scope)
	if err != nil {
		return "", err
	}
	switch v := value.(type) {
	case types.String:
		return string(v), nil
	case types.Bool, types.Int, types.Uint, types.Double:
		return fmt.Sprint(v.Value()), nil
	case traits.Lister:
		items, err := v.ConvertToNative(reflect.TypeFor[[]string]())
		if err != nil {
			return "", fmt.Errorf("gives a list of something else than texts")
		}
		return account.ListOf(items.([]string)), nil
	}
	return "", fmt.Errorf("gives a %s where a text is wanted", plainType(value.Type().TypeName()))
}

// True evaluates the expression to yes or no.
func (e *Expr) True(scope *Scope) (bool, error) {
	value, err := e.eval(scope)
	if err != nil {
		return false, err
	}
	return value == types.True, nil
}

func (e *Expr) eval(scope *Scope) (ref.Val, error) {
	value, _, err := e.program.Eval(scope)
	switch {
	case err != nil && strings.Contains(err.Error(), "actual cost limit exceeded"):
		return nil, fmt.Errorf("takes more work than a row may")
	case err != nil:
		return nil, fmt.Errorf("%s", plain(err.Error()))
	}
	if text, ok := value.(types.String); ok && len(text) > maxText {
		return nil, fmt.Errorf("gives a text longer than %d bytes", maxText)
	}
	return value, nil
}

// A Scope is what expressions see of one row: the fields read so far and the
// cells. It serves one goroutine.
type Scope struct {
	brief  *Brief
	texts  []string  // by field
	values []ref.Val // by field, made when an expression asks
	column func(heading string) (string, bool)
	cells  ref.Val
}

// NewScope returns a scope in which column finds a cell by its heading.
func (b *Brief) NewScope(column func(heading string) (string, bool)) *Scope {
	n := len(b.Fields)
	return &Scope{brief: b, texts: make([]string, n), values: make([]ref.Val, n), column: column, cells: cells{column}}
}

// Set sets the value of field i; "" is blank.
func (s *Scope) Set(i int, text string) { s.texts[i], s.values[i] = text, nil }

func (s *Scope) value(i int) ref.Val {
	if s.values[i] != nil {
		return s.values[i]
	}
	switch text := s.texts[i]; s.brief.Fields[i].Kind {
	case account.YesNo:
		s.values[i] = types.Bool(text == "true")
	case account.Number:
		n, _ := strconv.ParseFloat(text, 64) // a blank counts as 0
		s.values[i] = types.Double(n)
	case account.List:
		s.values[i] = types.NewStringList(types.DefaultTypeAdapter, account.Items(text))
	default:
		s.values[i] = types.String(text)
	}
	return s.values[i]
}

// ResolveName implements interpreter.Activation.
func (s *Scope) ResolveName(name string) (any, bool) {
	if i, ok := s.brief.index[name]; ok {
		return s.value(i), true
	}
	if name == "col" {
		return s.cells, true
	}
	return nil, false
}

// Parent implements interpreter.Activation.
func (s *Scope) Parent() interpreter.Activation { return nil }

// env compiles the expressions of one brief.
type env struct {
	cel    *cel.Env
	fields []string
}

func newEnv(fields []fieldSource, today string) (*env, error) {
	e := &env{}
	options := []cel.EnvOption{cel.Variable("col", cel.MapType(cel.StringType, cel.StringType))}
	for _, source := range fields {
		name := source.field.Name
		if !isIdentifier(name) {
			continue // a full attribute name: no expression can say it
		}
		kind := cel.StringType
		switch source.field.Kind {
		case account.YesNo:
			kind = cel.BoolType
		case account.Number:
			kind = cel.DoubleType
		case account.List:
			kind = cel.ListType(cel.StringType)
		}
		options = append(options, cel.Variable(name, kind))
		e.fields = append(e.fields, name)
	}
	var err error
	e.cel, err = cel.NewEnv(append(options, functions(today)...)...)
	return e, err
}

func isIdentifier(name string) bool {
	for i, c := range name {
		if !(c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return name != "" && name != "col"
}

// compile compiles the expression at node, which is to give a value of the
// kind. Mistakes are reported at node; then the result is nil.
func (e *env) compile(node yamldoc.Node, kind account.Kind) *Expr {
	source := node.Text()
	if source == "" {
		if node.IsText() {
			node.Fail("", "the expression is empty")
		}
		return nil
	}
	compiled, issues := e.cel.Compile(source)
	if issues.Err() != nil {
		for _, issue := range issues.Errors()[:1] { // what follows the first is mostly its echo
			offset := 0
			if issue.Location.Line() == 1 {
				offset = issue.Location.Column()
			}
			node.FailAt(offset, e.remedy(issue.Message), "in the expression: %s", plain(issue.Message))
		}
		return nil
	}
	if want, ok := fits(kind, compiled.OutputType()); !ok {
		node.Fail("", "the expression gives a %s where %s is wanted", plainType(compiled.OutputType().String()), want)
		return nil
	}
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize)}
	if grows(compiled.NativeRep().Expr()) {
		options = append(options, cel.CostLimit(maxCost))
	}
	program, err := e.cel.Program(compiled, options...)
	if err != nil {
		node.Fail("", "in the expression: %s", plain(err.Error()))
		return nil
	}
	x := &Expr{Source: source, program: program}
	ast.PreOrderVisit(compiled.NativeRep().Expr(), ast.NewExprVisitor(func(part ast.Expr) {
		switch part.Kind() {
		case ast.IdentKind:
			if name := part.AsIdent(); slices.Contains(e.fields, name) && !slices.Contains(x.Fields, name) {
				x.Fields = append(x.Fields, name)
			}
		case ast.CallKind:
			if heading, ok := columnIndex(part.AsCall()); ok {
				x.Columns = append(x.Columns, heading)
			}
		}
	}))
	return x
}

// grows reports whether an expression could do far more than its length says: by going
// through lists, or by putting text after text. Keeping count costs half the speed, so
// others are spared it.
func grows(e ast.Expr) bool {
	loops, joins := 0, 0
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(part ast.Expr) {
		switch part.Kind() {
		case ast.ComprehensionKind:
			loops++
		case ast.CallKind:
			if name := part.AsCall().FunctionName(); name == operators.Add || name == "replace" {
				joins++
			}
		}
	}))
	return loops > 0 || joins > maxJoins
}

// columnIndex recognises col["heading"].
func columnIndex(call ast.CallExpr) (string, bool) {
	args := call.Args()
	if call.FunctionName() != operators.Index || len(args) != 2 || args[0].Kind() != ast.IdentKind || args[0].AsIdent() != "col" || args[1].Kind() != ast.LiteralKind {
		return "", false
	}
	heading, ok := args[1].AsLiteral().(types.String)
	return string(heading), ok
}

// fits reports whether an expression's type serves for a kind of value.
func fits(kind account.Kind, t *cel.Type) (want string, ok bool) {
	switch kind {
	case account.YesNo:
		return "yes or no", t.IsExactType(cel.BoolType)
	case account.Number:
		return "a number", t.IsExactType(cel.IntType) || t.IsExactType(cel.DoubleType) || t.IsExactType(cel.UintType)
	}
	if kind == account.List {
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
func (e *env) remedy(message string) string {
	if name, ok := between(message, "undeclared reference to '", "'"); ok {
		if near := words.Nearest(name, append(slices.Clone(e.fields), functionNames()...)); near != "" {
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

func functionNames() []string {
	return []string{"fold", "lower", "upper", "trim", "title", "first", "last", "words", "initials", "before", "after", "replace", "digits", "pad", "today", "days", "size", "startsWith", "endsWith", "contains", "matches"}
}

// functions are the functions that briefs may use beyond the language's own.
func functions(today string) []cel.EnvOption {
	text, number := cel.StringType, cel.IntType
	one := func(name string, f func(string) string) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_text", []*cel.Type{text}, text, cel.UnaryBinding(func(v ref.Val) ref.Val {
			return types.String(f(string(v.(types.String))))
		})))
	}
	counted := func(name string, f func(string, int) string) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_text_number", []*cel.Type{text, number}, text, cel.BinaryBinding(func(v, n ref.Val) ref.Val {
			return types.String(f(string(v.(types.String)), int(min(max(n.(types.Int), 0), maxText))))
		})))
	}
	split := func(name string, f func(s, sep string) string) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_text_text", []*cel.Type{text, text}, text, cel.BinaryBinding(func(v, sep ref.Val) ref.Val {
			return types.String(f(string(v.(types.String)), string(sep.(types.String))))
		})))
	}
	return []cel.EnvOption{
		one("fold", words.Fold),
		one("lower", strings.ToLower),
		one("upper", strings.ToUpper),
		one("title", words.Title),
		one("initials", words.Initials),
		one("trim", func(s string) string { clean, _ := words.Clean(s); return clean }),
		one("digits", func(s string) string {
			return strings.Map(func(r rune) rune {
				if r < '0' || r > '9' {
					return -1
				}
				return r
			}, s)
		}),
		counted("first", words.First),
		counted("last", words.Last),
		counted("pad", func(s string, n int) string {
			return strings.Repeat("0", max(0, n-utf8.RuneCountInString(s))) + s
		}),
		split("before", func(s, sep string) string { b, _, _ := strings.Cut(s, sep); return b }),
		split("after", func(s, sep string) string { _, a, _ := strings.Cut(s, sep); return a }),
		cel.Function("words", cel.Overload("words_text", []*cel.Type{text}, cel.ListType(text), cel.UnaryBinding(func(v ref.Val) ref.Val {
			return types.NewStringList(types.DefaultTypeAdapter, words.Words(string(v.(types.String))))
		}))),
		cel.Function("replace", cel.Overload("replace_text_text_text", []*cel.Type{text, text, text}, text, cel.FunctionBinding(func(args ...ref.Val) ref.Val {
			s, old, replacement := string(args[0].(types.String)), string(args[1].(types.String)), string(args[2].(types.String))
			if len(s)+(strings.Count(s, old)+1)*len(replacement) > maxText {
				return types.NewErr("replace would make a text longer than %d bytes", maxText)
			}
			return types.String(strings.ReplaceAll(s, old, replacement))
		}))),
		cel.Function("today", cel.Overload("today", nil, text, cel.FunctionBinding(func(...ref.Val) ref.Val {
			return types.String(today)
		}))),
		cel.Function("days", cel.Overload("days_text_number", []*cel.Type{text, number}, text, cel.BinaryBinding(func(date, n ref.Val) ref.Val {
			day, err := time.Parse(time.DateOnly, string(date.(types.String)))
			if err != nil || n.(types.Int) > 1e6 || n.(types.Int) < -1e6 {
				return types.NewErr("days: “%s” is not a date", date.Value())
			}
			return types.String(day.AddDate(0, 0, int(n.(types.Int))).Format(time.DateOnly))
		}))),
	}
}
