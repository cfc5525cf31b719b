package yamldoc

import "slices"

// A Key is one key that a table of a file may have: a loader accepts just these, the
// JSON Schema for editors is made of them, and each knows where its value goes.
type Key struct {
	Name   string
	About  string // a sentence or two for whoever writes it
	Form   Form
	OneOf  []string   // the words it takes; another is reported, and put nowhere
	Nested []Key      // of the table it holds
	Put    func(Node) // puts its value where it goes; nil: it was read before, or Nested puts it
}

// Into puts a value, as read reads it, into a variable.
func Into[T any](at *T, read func(Node) T) func(Node) {
	return func(n Node) { *at = read(n) }
}

// Word puts one of the words that a key takes into a variable.
func Word[T ~string](at *T) func(Node) {
	return func(n Node) { *at = T(n.Text()) }
}

// Given is where the keys stand that a table has.
type Given map[string]Node

// Has reports whether a table has a key.
func (g Given) Has(key string) bool {
	_, has := g[key]
	return has
}

// Read reads a table that may have these keys, and puts each value where it goes.
func (n Node) Read(keys []Key) Given { return Take(n.Pairs(Names(keys)...), keys) }

// Take puts the value of each pair where its key says, in the order of the file.
func Take(pairs []Pair, keys []Key) Given {
	given := make(Given, len(pairs))
	for _, pair := range pairs {
		i := slices.IndexFunc(keys, func(k Key) bool { return k.Name == pair.Key })
		if i < 0 {
			continue
		}
		given[pair.Key] = pair.At
		key := keys[i]
		if key.OneOf != nil && pair.Value.OneOf(key.OneOf...) == "" {
			continue
		}
		switch {
		case key.Put != nil:
			key.Put(pair.Value)
		case key.Nested != nil:
			pair.Value.Read(key.Nested)
		}
	}
	return given
}

// A Form is what a key takes.
type Form string

// The forms. Others are the loader's own, which says what they are in the schema.
const (
	Text  Form = "text"
	Bool  Form = "bool"
	Whole Form = "whole" // a number from 1
	Texts Form = "texts" // one or several
	Table Form = "table" // any keys, with a plain value each
)

// Names lists the names of keys.
func Names(keys []Key) []string {
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = k.Name
	}
	return names
}

// An Object is a piece of a JSON Schema (draft 2020-12).
type Object = map[string]any

// Schema returns the schema of a table with these keys. What forms of the loader's own
// are, own says.
func Schema(keys []Key, own map[Form]Object) Object {
	properties := Object{}
	for _, k := range keys {
		property := Object{"type": "string"}
		switch {
		case k.Nested != nil:
			property = Schema(k.Nested, own)
		case k.OneOf != nil:
			property = Object{"enum": k.OneOf}
		case own[k.Form] != nil:
			property = Object{}
			for name, value := range own[k.Form] {
				property[name] = value
			}
		case k.Form == Bool:
			property = Object{"type": "boolean"}
		case k.Form == Whole:
			property = Object{"type": "integer", "minimum": 1}
		case k.Form == Texts:
			property = Object{"type": []string{"array", "string"}, "items": Object{"type": "string"}, "minItems": 1}
		case k.Form == Table:
			property = Object{"type": "object", "additionalProperties": Object{"type": []string{"string", "number", "boolean"}}}
		}
		property["description"] = k.About
		properties[k.Name] = property
	}
	return Object{"type": "object", "properties": properties, "additionalProperties": false}
}
