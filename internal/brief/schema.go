package brief

import (
	"encoding/json"

	"evenledger/internal/account"
)

// A key is one key of the brief's file: the loader accepts just these, and the
// JSON Schema is made of them.
type key struct {
	name   string
	about  string
	form   string // "text", "bool", "whole", "expression", "word", "texts", "table" or ""
	oneOf  []string
	nested []key
}

// The tables are read only.
var (
	sheetKeys = []key{
		{name: "tab", form: "text", about: "The tab of a workbook, when it is not the first with known headings."},
		{name: "heading_row", form: "whole", about: "The row of the headings, from 1, when it cannot be found by looking."},
	}
	checkKeys = []key{
		{name: "that", form: "expression", about: "What must hold for the row."},
		{name: "say", form: "text", about: "What is wrong when it does not hold."},
		{name: "level", oneOf: []string{"error", "warning", "note"}, about: "How grave it is; an error refuses the row. Without it: error."},
	}
	fieldKeys = []key{
		{name: "from", form: "text", about: "The heading of the column; capitals, spacing, accents and punctuation make no difference. With a star for a number, such as “Course *”, every such column gives a value."},
		{name: "split", form: "text", about: "What stands between several values of one cell, such as “;”. The field is then a list."},
		{name: "make", form: "expression", about: "How to make the value when there is no column, or its cell is blank."},
		{name: "fallback", form: "text", about: "The value a blank becomes; on a new account also that of a column which isn't there."},
		{name: "via", form: "table", about: "What is written in the cell and the value it stands for. Anything else is an error."},
		{name: "via_sheet", form: "text", about: "A sheet beside the brief with such a table: its first column is what is written, its second the value."},
		{name: "as", oneOf: account.KindNames(), about: "The kind of value, where the field itself is any text."},
		{name: "required", form: "bool", about: "Whether a row without a value is refused."},
		{name: "clear_when_blank", form: "bool", about: "Whether a blank cell empties the field. Without it a blank leaves the field as it is."},
		{name: "unique", form: "unique", about: "What happens when two accounts would share the value: refuse the row, give a new account's value the next free number, or try the formulas of a list in turn, of which “number” may be the last."},
		{name: "send", form: "bool", about: "false keeps the field for expressions and sends it nowhere."},
	}
	briefKeys = []key{
		{name: "brief", form: "text", about: "The name of the brief."},
		{name: "based_on", form: "text", about: "A brief of the same folder whose keys count where this one has none; fields and checks come together."},
		{name: "system", form: "text", about: "The system of evenledger.yaml whose accounts are meant."},
		{name: "sheet", nested: sheetKeys, about: "How to read the sheet."},
		{name: "dates", oneOf: []string{"day-first", "month-first"}, about: "How dates such as 3/4/2027 are meant."},
		{name: "phones", form: "text", about: "The country whose telephone numbers are written without its code, such as GB."},
		{name: "only", form: "expression", about: "Rows for which it does not hold are set aside, and counted."},
		{name: "match", form: "texts", about: "The fields that find an account, tried in order."},
		{name: "new", oneOf: []string{"create", "skip", "refuse"}, about: "What is done with a row that finds no account. Without it: create."},
		{name: "known", oneOf: []string{"update", "fill", "skip", "refuse"}, about: "What is done with a row that finds an account: change what differs, fill only what is empty, set aside, refuse. Without it: update."},
		{name: "fields", about: "The account's fields, and where each comes from."},
		{name: "checks", about: "Conditions of your own."},
	}
)

func keyNames(keys []key) []string {
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = k.name
	}
	return names
}

type object = map[string]any

// Schema returns the JSON Schema (draft 2020-12) of a brief, for editors.
func Schema() ([]byte, error) {
	top := schemaOf(briefKeys)
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["title"] = "A brief of Even Ledger"
	top["anyOf"] = []object{{"required": []string{"match", "fields"}}, {"required": []string{"based_on"}}}
	properties := top["properties"].(object)
	field := schemaOf(fieldKeys)
	known := object{}
	for _, f := range account.Fields() {
		known[f.Name] = object{"$ref": "#/$defs/field", "description": "The " + f.Label + " (" + f.Kind.String() + ")."}
	}
	properties["fields"] = object{"type": "object", "minProperties": 1, "properties": known, "additionalProperties": object{"$ref": "#/$defs/field"}, "description": about(briefKeys, "fields")}
	check := schemaOf(checkKeys)
	check["required"] = []string{"that", "say"}
	properties["checks"] = object{"type": "array", "items": check, "description": about(briefKeys, "checks")}
	top["$defs"] = object{"field": field}
	return json.MarshalIndent(top, "", "  ")
}

func about(keys []key, name string) string {
	for _, k := range keys {
		if k.name == name {
			return k.about
		}
	}
	return ""
}

func schemaOf(keys []key) object {
	properties := object{}
	for _, k := range keys {
		property := object{"description": k.about}
		switch {
		case k.nested != nil:
			property = schemaOf(k.nested)
			property["description"] = k.about
		case k.oneOf != nil:
			property["enum"] = k.oneOf
		case k.form == "bool":
			property["type"] = "boolean"
		case k.form == "whole":
			property["type"], property["minimum"] = "integer", 1
		case k.form == "texts":
			property["type"], property["items"], property["minItems"] = []string{"array", "string"}, object{"type": "string"}, 1
		case k.form == "table":
			property["type"], property["additionalProperties"] = "object", object{"type": []string{"string", "number", "boolean"}}
		case k.form == "unique":
			property["anyOf"] = []object{{"enum": []string{"refuse", "number"}}, {"type": "array", "items": object{"type": "string"}, "minItems": 1}}
		case k.form == "text" && k.name == "fallback":
			property["type"] = []string{"string", "number", "boolean", "array"}
		default:
			property["type"] = "string"
		}
		properties[k.name] = property
	}
	return object{"type": "object", "properties": properties, "additionalProperties": false}
}
