package yamldoc

// A Key is one key that a table of a file may have: a loader accepts just these, and the
// JSON Schema for editors is made of them.
type Key struct {
	Name   string
	About  string // a sentence or two for whoever writes it
	Form   Form
	OneOf  []string // the words it takes
	Nested []Key    // of the table it holds
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
