// Package expr works out the expressions of briefs: those of the Common Expression
// Language over the fields and cells of one row.
//
// An expression is parsed and type-checked by the language's own library. What briefs
// commonly use is then turned into functions of Go over the row's values; the rest is
// left to the library's interpreter. Both promise the same values and the same errors.
// How much a row may make an expression do is bounded. What a field means, and what
// becomes of a row whose expression fails, is left to the rooms above.
package expr

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"evenledger/internal/account"
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

// A Type is the type of a variable, or of what an expression is to give.
type Type uint8

// The types.
const (
	Text   Type = iota
	Truth       // yes or no
	Number      // a number with a point; as a result any number
	List        // of texts
	Any         // a piece of JSON, as a variable for TrueOf; as a result whatever there is
)

// A Variable is a name that expressions may use.
type Variable struct {
	Name string
	Type Type
}

// An Env compiles expressions over the same variables. Once all are compiled it may be
// shared.
type Env struct {
	vars     []Variable
	slot     map[string]int // name → index in vars; of those that an expression can say
	headings []string       // that expressions read with col["…"]
	today    string
	library  *cel.Env // nil: nothing was compiled yet
}

// TypeOf is what expressions take a value of a kind for.
func TypeOf(kind account.Kind) Type {
	switch kind {
	case account.YesNo:
		return Truth
	case account.Number:
		return Number
	case account.List:
		return List
	}
	return Text
}

// NewEnv returns an Env with variables. Those with names that no expression can say have
// values all the same. Today is the day it is taken to be, as year-month-day.
func NewEnv(vars []Variable, today string) *Env {
	e := &Env{vars: vars, slot: map[string]int{}, today: today}
	for i, v := range vars {
		if isIdentifier(v.Name) {
			e.slot[v.Name] = i
		}
	}
	return e
}

// ready readies the library, which takes longer than many a command without expressions.
func (e *Env) ready() (err error) {
	if e.library != nil {
		return nil
	}
	options := append(declarations(e.today), cel.Variable("col", cel.MapType(cel.StringType, cel.StringType)))
	for _, v := range e.vars {
		if isIdentifier(v.Name) {
			options = append(options, cel.Variable(v.Name, v.Type.cel()))
		}
	}
	e.library, err = cel.NewEnv(options...)
	return err
}

func (t Type) cel() *cel.Type {
	return [...]*cel.Type{Text: cel.StringType, Truth: cel.BoolType, Number: cel.DoubleType, List: cel.ListType(cel.StringType), Any: cel.DynType}[t]
}

// isIdentifier reports whether an expression can say a name. A full attribute name is
// none.
func isIdentifier(name string) bool {
	for i, c := range name {
		if !(c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return name != "" && name != "col"
}

// An Error is a mistake in an expression.
type Error struct {
	Offset  int // where in the source, in characters; -1: the whole of it
	Message string
	Remedy  string // empty: there is none to tell
}

func (e *Error) Error() string { return e.Message }

// An Expr is a compiled expression. It may be shared.
type Expr struct {
	Source  string
	Names   []string // of the variables it uses
	Columns []string // headings it reads with col["…"]

	text    func(*Scope) (string, error) // nil: it gives no text, or is interpreted
	truth   func(*Scope) (bool, error)   // likewise
	program cel.Program                  // nil: it is not interpreted
}

// Compile compiles an expression that is to give a value of a type. Mistakes are *Error.
func (e *Env) Compile(source string, want Type) (*Expr, error) {
	if err := e.ready(); err != nil {
		return nil, err
	}
	compiled, issues := e.library.Compile(source)
	if issues.Err() != nil {
		first := issues.Errors()[0] // what follows is mostly its echo
		offset := 0
		if first.Location.Line() == 1 {
			offset = first.Location.Column()
		}
		return nil, &Error{offset, "in the expression: " + plain(first.Message), e.remedy(first.Message)}
	}
	if wanted, ok := fits(want, compiled.OutputType()); !ok {
		return nil, &Error{-1, fmt.Sprintf("the expression gives a %s where %s is wanted", plainType(compiled.OutputType().String()), wanted), ""}
	}
	x := &Expr{Source: source}
	tree := compiled.NativeRep()
	ast.PreOrderVisit(tree.Expr(), ast.NewExprVisitor(func(part ast.Expr) {
		switch part.Kind() {
		case ast.IdentKind:
			name := part.AsIdent()
			if _, known := e.slot[name]; known && !slices.Contains(x.Names, name) {
				x.Names = append(x.Names, name)
			}
		case ast.CallKind:
			if heading, ok := columnIndex(part.AsCall()); ok {
				x.Columns = append(x.Columns, heading)
			}
		}
	}))
	watched := grows(tree.Expr())
	if !watched && (&compiler{e, tree}).result(x) {
		return x, nil
	}
	return x, e.interpret(x, compiled, watched)
}

// interpret leaves an expression to the library's interpreter.
func (e *Env) interpret(x *Expr, compiled *cel.Ast, watched bool) error {
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize)}
	if watched {
		options = append(options, cel.CostLimit(maxCost))
	}
	program, err := e.library.Program(compiled, options...)
	if err != nil {
		return &Error{-1, "in the expression: " + plain(err.Error()), ""}
	}
	x.program = program
	return nil
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

// Text works the expression out to the text form of its value.
func (x *Expr) Text(scope *Scope) (text string, err error) {
	if x.program == nil {
		text, err = x.text(scope)
	} else {
		text, err = x.interpreted(scope)
	}
	if len(text) > maxText {
		return "", fmt.Errorf("gives a text longer than %d bytes", maxText)
	}
	return text, err
}

// interpreted is what the interpreter makes of the expression.
func (x *Expr) interpreted(scope *Scope) (string, error) {
	value, err := x.eval(scope)
	if err != nil {
		return "", err
	}
	switch v := value.(type) {
	case types.String:
		return string(v), nil
	case types.Bool:
		return strconv.FormatBool(bool(v)), nil
	case types.Int, types.Uint, types.Double:
		return fmt.Sprint(v.Value()), nil
	case traits.Lister:
		items, err := v.ConvertToNative(reflect.TypeFor[[]string]())
		if err != nil {
			return "", errors.New("gives a list of something else than texts")
		}
		return account.ListOf(items.([]string)), nil
	}
	return "", fmt.Errorf("gives a %s where a text is wanted", plainType(value.Type().TypeName()))
}

// True works the expression out to yes or no.
func (x *Expr) True(scope *Scope) (bool, error) {
	if x.program == nil {
		return x.truth(scope)
	}
	value, err := x.eval(scope)
	return value == types.True, err
}

// TrueOf works out to yes or no an expression over variables of type Any, by name: texts, numbers, truths, and
// lists and maps of them.
func (x *Expr) TrueOf(values map[string]any) (bool, error) {
	if x.program == nil {
		return x.truth(nil)
	}
	value, err := x.eval(values)
	return value == types.True, err
}

func (x *Expr) eval(scope any) (ref.Val, error) {
	value, _, err := x.program.Eval(scope)
	switch {
	case err != nil && strings.Contains(err.Error(), "actual cost limit exceeded"):
		return nil, errors.New("takes more work than a row may")
	case err != nil:
		return nil, errors.New(plain(err.Error()))
	}
	return value, nil
}
