package brief

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// cells is the value of col: a map from headings to the row's cells that looks
// a heading up only when an expression asks for it.
type cells struct {
	column func(heading string) (string, bool)
}

// Find implements traits.Mapper.
func (c cells) Find(key ref.Val) (ref.Val, bool) {
	heading, ok := key.(types.String)
	if !ok {
		return types.MaybeNoSuchOverloadErr(key), false
	}
	cell, ok := c.column(string(heading))
	if !ok {
		return nil, false
	}
	return types.String(cell), true
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
func (c cells) Size() ref.Val { return types.NewErr("the cells of a row cannot be counted") }

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
