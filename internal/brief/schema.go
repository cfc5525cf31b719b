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
		{name: "tab", form: "text", about: "The tab of a workbook, or the list of a JSON file, when it is not the one that fits the brief best."},
		{name: "encoding", form: "text", about: "The encoding of its text, such as windows-1250 or shift_jis, when it is not UTF-8."},
		{name: "blank_words", form: "texts", about: "What is written in cells that are to count as blank, such as N/A or -."},
		{name: "heading_row", form: "whole", about: "The row of the headings, from 1, when it cannot be found by looking."},
	}
	checkKeys = []key{
		{name: "that", form: "expression", about: "What must hold for the row."},
		{name: "say", form: "text", about: "What is wrong when it does not hold."},
		{name: "level", oneOf: []string{"error", "warning", "note"}, about: "How grave it is; an error refuses the row. Without it: error."},
	}
	fieldKeys = []key{
		{name: "from", form: "text", about: "The heading of the column; capitals, spacing, accents and punctuation make no difference. With a star for a number or a word, such as “Training *” or “phones.*.value”, every such column gives a value."},
		{name: "split", form: "text", about: "What stands between several values of one cell, such as “;”. The field is then a list."},
		{name: "make", form: "expression", about: "How to make the value when there is no column, or its cell is blank."},
		{name: "fallback", form: "text", about: "The value that a new account gets when the cell is blank or the column isn't there."},
		{name: "fallback_for", oneOf: servedAccounts, about: "Which accounts get the fallback: new ones, also known ones for which the system has nothing in the field (empty), or all. Without it: new."},
		{name: "via", form: "table", about: "What is written in the cell and the value it stands for. Anything else is an error."},
		{name: "via_sheet", form: "text", about: "A sheet beside the brief with such a table: its first column is what is written, its second the value."},
		{name: "as", oneOf: account.KindNames(), about: "The kind of value, where the field itself is any text."},
		{name: "required", form: "bool", about: "Whether a row without a value is refused."},
		{name: "clear_when_blank", form: "bool", about: "Whether a blank cell empties the field. Without it a blank leaves the field as it is."},
		{name: "unique", form: "unique", about: "What happens when two accounts would share the value: refuse the row, give a new account's value the next free number, or try the formulas of a list in turn, of which “number” may be the last."},
		{name: "send", form: "bool", about: "false keeps the field for expressions and sends it nowhere."},
		{name: "refers", form: "text", about: "The value is another account's value of this field, such as employeeNumber, and that account is meant. It may be one that the same sheet creates."},
		{name: "parts", form: "table", about: "The parts of each value of a list that has several, such as the type and value of a sign-in: the system's name of the part and the heading of its column, with a star for a number or a word, or = and a text that is the same in all."},
		{name: "among", form: "text", about: "The value is the name or id of a thing of this kind in the system, such as units; a row that names none is refused."},
		{name: "mode", oneOf: modes, about: "What becomes of the values that a field with several has already: add keeps them, exact leaves just the row's, remove takes the row's away. Without it: exact."},
	}
	membershipKeys = []key{
		{name: "from", form: "text", about: "The heading of the column with the names or ids. With a star for a number or a word, such as “Training *”, every such column names one."},
		{name: "split", form: "text", about: "What stands between several names in one cell, such as “;”."},
		{name: "role", form: "text", about: "The heading of the column with the role, paired by what stands for the star, where there is one."},
		{name: "section", form: "text", about: "The heading of the column with the section, likewise."},
		{name: "fallback", form: "texts", about: "What a new account gets when the cell is blank or the column isn't there."},
		{name: "fallback_for", oneOf: servedAccounts, about: "Which accounts get the fallback: new ones, also known ones that have nothing of the kind (empty), or all. Without it: new."},
		{name: "via", form: "table", about: "What is written in the cell and the name it stands for."},
		{name: "via_sheet", form: "text", about: "A sheet beside the brief with such a table."},
		{name: "mode", oneOf: modes, about: "add keeps the memberships that are there, exact leaves just the row's, remove takes the row's away. Without it: add."},
		{name: "within", form: "texts", about: "With exact: only memberships of things with such a name, in which a star stands for anything, are taken away."},
		{name: "make_missing", form: "bool", about: "Whether a thing that does not exist is made first. Without it the row is refused."},
		{name: "clear_when_blank", form: "bool", about: "With exact: whether a blank cell takes all memberships within away. Without it a blank leaves them."},
	}
	ruleKeys = []key{
		{name: "when", form: "expression", about: "The rows for which the rule holds."},
		{name: "groups", form: "texts", about: "The groups such rows join."},
		{name: "courses", form: "texts", about: "The courses they are enrolled in."},
		{name: "licences", form: "texts", about: "The licences they get a seat of."},
		{name: "roles", form: "texts", about: "The roles they get."},
	}
	intentKeys = []key{
		{name: "from", form: "text", about: "The heading of the column that says what is to happen to the row's account."},
		{name: "via", form: "table", about: "What is written there, and what it means: create, update, suspend, resume, remove, or aside to leave the row out. A blank follows “new” and “known”."},
		{name: "make", form: "expression", about: "An expression that gives one of these words, instead of a column."},
		{name: "fallback", oneOf: intentWords, about: "What a blank means, instead."},
	}
	suspendKeys = []key{
		{name: "set", form: "table", about: "Fields that are set besides, such as one that hides the account from a directory listing."},
		{name: "leave", form: "table", about: "Memberships that are taken away: a kind, such as licences or groups, and the pattern of their names."},
	}
	resumeKeys = []key{
		{name: "set", form: "table", about: "Fields that are set besides."},
	}
	limitKeys = []key{
		{name: "create", form: "limit", about: "The most accounts that one batch may create: a number, or a share of the accounts there are, such as 5%."},
		{name: "update", form: "limit", about: "The most it may update."},
		{name: "suspend", form: "limit", about: "The most it may suspend."},
		{name: "resume", form: "limit", about: "The most it may let back in."},
		{name: "remove", form: "limit", about: "The most it may remove."},
	}
	passwordKeys = []key{
		{name: "new", oneOf: []string{"generate", "given", "none"}, about: "Where a new account's password comes from: made by the program, given in the sheet, or none."},
		{name: "from", form: "text", about: "With given: the heading of the column."},
		{name: "when_blank", oneOf: []string{"refuse", "generate"}, about: "With given: what is done with a new person's row that gives none. Without it: refuse."},
		{name: "length", form: "whole", about: "With generate: how many characters. Without it: 16."},
		{name: "alphabet", form: "text", about: "With generate: the characters to choose from. Without it: letters and digits that cannot be mistaken for each other."},
		{name: "words", form: "whole", about: "With generate: this many short words with hyphens between, instead of characters."},
		{name: "make", form: "expression", about: "With generate: a pattern in which each # becomes a random digit and each * a random letter."},
		{name: "change_at_sign_in", form: "bool", about: "Whether the person has to choose another at the first sign-in."},
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
		{name: "groups", form: "memberships", about: "The groups the account is a member of."},
		{name: "courses", form: "memberships", about: "The courses the account is enrolled in."},
		{name: "licences", form: "memberships", about: "The licences the account has a seat of."},
		{name: "roles", form: "memberships", about: "The roles the account has."},
		{name: "rules", about: "Memberships that follow from conditions."},
		{name: "intent", nested: intentKeys, about: "A column that says for each row what is to happen to its account. It counts for more than “new” and “known”."},
		{name: "suspend", nested: suspendKeys, about: "What goes with suspending an account, besides that it may no longer sign in."},
		{name: "resume", nested: resumeKeys, about: "What goes with resuming one."},
		{name: "allow_remove", form: "bool", about: "Whether rows may ask for their account to be removed, with all that is in it."},
		{name: "gone", oneOf: []string{"keep", "suspend"}, about: "What is done with accounts within “scope” that the sheet no longer lists. Without it: keep."},
		{name: "scope", form: "expression", about: "The accounts that the sheet is to list, by a condition on their fields, such as department == \"Deck\"."},
		{name: "limits", nested: limitKeys, about: "The most that one batch may do; one that would do more is drafted and not posted."},
		{name: "protect", form: "texts", about: "User names, addresses or ids of accounts that no row may change; a star stands for anything."},
		{name: "password", nested: passwordKeys, about: "The passwords of new accounts."},
	}
	modes          = []string{"add", "exact", "remove"}
	servedAccounts = []string{string(ForNew), string(ForEmpty), string(ForAll)}
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
	rule := schemaOf(ruleKeys)
	rule["required"] = []string{"when"}
	properties["rules"] = object{"type": "array", "items": rule, "description": about(briefKeys, "rules")}
	properties["checks"] = object{"type": "array", "items": check, "description": about(briefKeys, "checks")}
	top["$defs"] = object{"field": field, "memberships": schemaOf(membershipKeys)}
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
		case k.form == "limit":
			property["type"], property["pattern"] = []string{"integer", "string"}, "^[0-9]+(\\.[0-9]+)?%?$"
		case k.form == "memberships":
			property["anyOf"] = []object{{"$ref": "#/$defs/memberships"}, {"type": "array", "items": object{"$ref": "#/$defs/memberships"}, "minItems": 1}}
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
