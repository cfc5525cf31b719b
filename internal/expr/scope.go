package expr

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"

	"evenledger/internal/account"
)

// Cells are the cells of the row at hand.
type Cells interface {
	// Column returns the index of the column with a heading.
	Column(heading string) (int, bool)
	// Cell returns the cell in a column.
	Cell(column int) string
}

// A Scope is what expressions see of one row: the values set so far and the cells. It
// serves one goroutine.
type Scope struct {
	env    *Env
	order  []int     // the variable that Set counts as the nth
	texts  []string  // by variable
	values []ref.Val // by variable, made when the interpreter asks
	cells  Cells
	column []int // by heading of the Env: its column, or -1
	made   strings.Builder
}

// roomMade is how much room is made at once for texts that are put together. Whoever
// keeps one of them for long clones it, or keeps the others as well.
const roomMade = 4 << 10

// keep returns a text that was put together. Many stand side by side in the memory, as to
// find room for each by itself takes longer than to make it.
func (s *Scope) keep(text []byte) string {
	if s.made.Cap()-s.made.Len() < len(text) {
		s.made.Reset()
		s.made.Grow(max(roomMade, len(text)))
	}
	from := s.made.Len()
	s.made.Write(text)
	return s.made.String()[from:]
}

// NewScope returns a Scope whose Set counts the variables in the order in which names
// has them; a name of no variable counts as well. Nil cells: there are no columns.
func (e *Env) NewScope(names []string, cells Cells) *Scope {
	n := len(e.vars) // behind the last stands what no expression can ask for
	s := &Scope{env: e, texts: make([]string, n+1), values: make([]ref.Val, n+1), cells: cells, column: make([]int, len(e.headings))}
	for _, name := range names {
		at := slices.IndexFunc(e.vars, func(v Variable) bool { return v.Name == name })
		if at < 0 {
			at = n
		}
		s.order = append(s.order, at)
	}
	for i, heading := range e.headings {
		s.column[i] = -1
		if cells == nil {
			continue
		}
		if at, ok := cells.Column(heading); ok {
			s.column[i] = at
		}
	}
	return s
}

// Set sets the value of the nth variable; "" is blank.
func (s *Scope) Set(n int, text string) {
	at := s.order[n]
	s.texts[at], s.values[at] = text, nil
}

// truth, number and list are the value of a variable of that type.
func (s *Scope) truth(at int) bool { return s.texts[at] == "true" }

func (s *Scope) number(at int) float64 {
	n, _ := strconv.ParseFloat(s.texts[at], 64) // a blank counts as 0
	return n
}

func (s *Scope) list(at int) []string { return account.Items(s.texts[at]) }

// ResolveName implements interpreter.Activation.
func (s *Scope) ResolveName(name string) (any, bool) {
	at, ok := s.env.slot[name]
	switch {
	case name == "col":
		return cells{s}, true
	case !ok:
		return nil, false
	case s.values[at] != nil:
		return s.values[at], true
	}
	switch s.env.vars[at].Type {
	case Truth:
		s.values[at] = types.Bool(s.truth(at))
	case Number:
		s.values[at] = types.Double(s.number(at))
	case List:
		s.values[at] = types.NewStringList(types.DefaultTypeAdapter, s.list(at))
	default:
		s.values[at] = types.String(s.texts[at])
	}
	return s.values[at], true
}

// Parent implements interpreter.Activation.
func (s *Scope) Parent() interpreter.Activation { return nil }

// cells is the value of col for the interpreter: a map from headings to the row's cells
// that looks a heading up only when an expression asks for it.
type cells struct{ scope *Scope }

// Find implements traits.Mapper.
func (c cells) Find(key ref.Val) (ref.Val, bool) {
	heading, ok := key.(types.String)
	if !ok {
		return types.MaybeNoSuchOverloadErr(key), false
	}
	text, ok := c.scope.cell(string(heading))
	if !ok {
		return nil, false
	}
	return types.String(text), true
}

// cell returns the cell under a heading.
func (s *Scope) cell(heading string) (text string, ok bool) {
	if s.cells == nil {
		return "", false
	}
	at, ok := s.cells.Column(heading)
	if !ok {
		return "", false
	}
	return s.cells.Cell(at), true
}

// Get implements traits.Indexer.
func (c cells) Get(key ref.Val) ref.Val {
	value, ok := c.Find(key)
	switch {
	case ok:
		return value
	case value != nil:
		return value
	}
	return types.NewErr("no such key: %v", key.Value())
}

// Contains implements traits.Container.
func (c cells) Contains(key ref.Val) ref.Val {
	_, ok := c.Find(key)
	return types.Bool(ok)
}

// Size and Iterator complete traits.Mapper; the cells are not for listing.
func (c cells) Size() ref.Val { return types.WrapErr(errNotCounted) }

var errNotCounted = errors.New("the cells of a row cannot be counted")

// Iterator implements traits.Iterable.
func (c cells) Iterator() traits.Iterator {
	return types.NewStringList(types.DefaultTypeAdapter, nil).Iterator()
}

// ConvertToNative implements ref.Val.
func (c cells) ConvertToNative(want reflect.Type) (any, error) {
	return nil, fmt.Errorf("the cells of a row are no %v", want)
}

// ConvertToType implements ref.Val.
func (c cells) ConvertToType(want ref.Type) ref.Val {
	return types.NewErr("the cells of a row are no %s", want.TypeName())
}

// Equal implements ref.Val.
func (c cells) Equal(ref.Val) ref.Val { return types.False }

// Type implements ref.Val.
func (c cells) Type() ref.Type { return types.MapType }

// Value implements ref.Val.
func (c cells) Value() any { return c }
