package posting

import (
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Whatever changes something in a system is refused to a worker whose work others may have: accounts,
// members, passwords, files and things.
func TestEverythingIsFenced(t *testing.T) {
	reads := []string{"Describe", "List", "Find", "Get", "Count", "Things", "Members"}
	f := reflect.ValueOf(&fenced{nil, func() error { return store.ErrFenced }}) // there is nothing behind it
	of := reflect.TypeFor[system.System]()
	for i := range of.NumMethod() {
		name := of.Method(i).Name
		if slices.Contains(reads, name) {
			continue
		}
		method := f.MethodByName(name)
		in := []reflect.Value{reflect.ValueOf(t.Context())}
		for k := 1; k < method.Type().NumIn(); k++ {
			in = append(in, reflect.Zero(method.Type().In(k)))
		}
		assert.NotPanics(t, func() {
			out := method.Call(in)
			assert.ErrorIs(t, out[len(out)-1].Interface().(error), store.ErrFenced, name)
		}, name)
	}
}
