package brief

import (
	"errors"

	"evenledger/internal/account"
	"evenledger/internal/expr"
	"evenledger/internal/yamldoc"
)

// An Expr is an expression of a brief.
type Expr struct {
	*expr.Expr
	Uses []int // indexes of the brief's fields that it uses
}

// NewScope returns what the brief's expressions see of one row: its fields, set by their
// index, and its cells; nil: there are none.
func (b *Brief) NewScope(cells expr.Cells) *expr.Scope {
	names := make([]string, len(b.Fields))
	for i, f := range b.Fields {
		names[i] = f.Name
	}
	return b.env.NewScope(names, cells)
}

func newEnv(fields []Field, today string) *expr.Env {
	vars := make([]expr.Variable, len(fields))
	for i, f := range fields {
		vars[i] = expr.Variable{Name: f.Name, Type: expr.TypeOf(f.Kind)}
	}
	return expr.NewEnv(vars, today)
}

// compile compiles the expression at node, which is to give a value of the
// kind. Mistakes are reported at node; then the result is nil.
func (b *Brief) compile(node yamldoc.Node, kind account.Kind) *Expr {
	source := node.Text()
	if source == "" {
		if node.IsText() {
			node.Fail("", "the expression is empty")
		}
		return nil
	}
	compiled, err := b.env.Compile(source, expr.TypeOf(kind))
	var mistake *expr.Error
	switch {
	case errors.As(err, &mistake):
		node.FailAt(mistake.Offset, mistake.Remedy, "%s", mistake.Message)
		return nil
	case err != nil:
		node.Fail("", "the expression cannot be readied: %v", err)
		return nil
	}
	return &Expr{Expr: compiled}
}
