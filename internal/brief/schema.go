package brief

import (
	"encoding/json"

	"evenledger/internal/account"
	"evenledger/internal/yamldoc"
)

// key is a key of the brief's file.
type key = yamldoc.Key

// Forms that only briefs have.
const (
	expression  yamldoc.Form = "expression"
	unique      yamldoc.Form = "unique"
	matching    yamldoc.Form = "matching"
	reowning    yamldoc.Form = "reowning"
	limit       yamldoc.Form = "limit"
	occasion    yamldoc.Form = "occasion"
	wording     yamldoc.Form = "wording"
	around      yamldoc.Form = "around"
	memberships yamldoc.Form = "memberships"
	fallback    yamldoc.Form = "fallback"
)

// The tables are read only.
var (
	sheetKeys = []key{
		{Name: "feed", Form: yamldoc.Text, About: "The feed of evenledger.yaml that brings the sheet where none is named."},
		{Name: "tab", Form: yamldoc.Text, About: "The tab of a workbook, or the list of a JSON file, when it is not the one that fits the brief best."},
		{Name: "tabs", Form: yamldoc.Texts, About: "The tabs of a workbook that are read as one sheet, one below the other: all, for those that are shown and have the same headings, or their names."},
		{Name: "encoding", Form: yamldoc.Text, About: "The encoding of its text, such as windows-1250 or shift_jis, when it is not UTF-8."},
		{Name: "blank_words", Form: yamldoc.Texts, About: "What is written in cells that are to count as blank, such as N/A or -."},
		{Name: "columns", Form: yamldoc.Texts, About: "What the columns are called, of a sheet that has no headings, in their order; whatever stands between cells, a colon as well, is found by their number."},
		{Name: "heading_row", Form: yamldoc.Whole, About: "The row of the headings, from 1, when it cannot be found by looking."},
		{Name: "ends", Form: yamldoc.Text, About: "Where the list ends, if something else stands below it: its last row, such as 57; blank for the first blank row; never if every row is one of the list; or what stands in the first cell of the row below it, such as Totals."},
	}
	checkKeys = []key{
		{Name: "that", Form: expression, About: "What must hold for the row."},
		{Name: "say", Form: yamldoc.Text, About: "What is wrong when it does not hold."},
		{Name: "level", OneOf: []string{"error", "warning", "note"}, About: "How grave it is; an error refuses the row. Without it: error."},
	}
	fieldKeys = []key{
		{Name: "from", Form: yamldoc.Text, About: "The heading of the column; capitals, spacing, accents and punctuation make no difference. With a star for a number or a word, such as “Training *” or “phones.*.value”, every such column gives a value."},
		{Name: "split", Form: yamldoc.Text, About: "What stands between several values of one cell, such as “;”; a backslash stands before one that is part of a value. The field is then a list."},
		{Name: "make", Form: expression, About: "How to make the value when there is no column, or its cell is blank."},
		{Name: "fallback", Form: fallback, About: "The value that a new account gets when the cell is blank or the column isn't there."},
		{Name: "fallback_for", OneOf: servedAccounts, About: "Which accounts get the fallback: new ones, also known ones for which the system has nothing in the field (empty), or all. Without it: new."},
		{Name: "via", Form: yamldoc.Table, About: "What is written in the cell and the value it stands for. Anything else is an error, unless “else” says otherwise."},
		{Name: "else", OneOf: []string{asItIs, refused}, About: "What becomes of a cell that the table does not have: it is read as it is, or refused. Without it: refuse."},
		{Name: "via_sheet", Form: yamldoc.Text, About: "A sheet beside the brief with such a table: its first column is what is written, its second the value."},
		{Name: "as", OneOf: account.KindNames(), About: "The kind of value, where the field itself is any text."},
		{Name: "required", Form: yamldoc.Bool, About: "Whether a row without a value is refused."},
		{Name: "digits", Form: yamldoc.Whole, About: "How many digits the value has: one with fewer gets the zeros before it that a spreadsheet program took away, and any other is refused."},
		{Name: "one_of", Form: yamldoc.Texts, About: "The values that are allowed; capitals, spacing and accents make no difference, and what is sent is written as here. Anything else is refused."},
		{Name: "clear_when_blank", Form: yamldoc.Bool, About: "Whether a blank cell empties the field. Without it a blank leaves the field as it is."},
		{Name: "unique", Form: unique, About: "What happens when two accounts would share the value: refuse the row, give a new account's value the next free number (number), or one behind a value that somebody of the same unit has (in-unit), or try the formulas of a list in turn, of which “number” may be the last."},
		{Name: "send", Form: yamldoc.Bool, About: "false keeps the field for expressions and sends it nowhere."},
		{Name: "refers", Form: yamldoc.Text, About: "The value is another account's value of this field, such as employeeNumber, and that account is meant. It may be one that the same sheet creates."},
		{Name: "parts", Form: yamldoc.Table, About: "The parts of each value of a list that has several, such as the type and value of a sign-in: the system's name of the part and the heading of its column, with a star for a number or a word, or = and a text that is the same in all."},
		{Name: "among", Form: yamldoc.Text, About: "The value is the name or id of a thing of this kind in the system, such as units; a row that names none is refused."},
		{Name: "next", Form: yamldoc.Text, About: "A range such as 20000-29999: a new account gets the lowest number of it that no row and no account of the system has, unless its cell gives one."},
		{Name: "again", Form: yamldoc.Bool, About: "With next: numbers that somebody had before may be given again. Without it none is that the ledger knows of."},
		{Name: "renumber", Form: yamldoc.Bool, About: "With next: accounts that are there get a number of the range as well, if theirs is not of it, or is not the same in all systems of a set."},
		{Name: "make_missing", Form: yamldoc.Bool, About: "With unit: whether a place in the directory that does not exist is made first. Without it the row is refused."},
		{Name: "mode", OneOf: modes, About: "What becomes of the values that a field with several has already: add keeps them, exact leaves just the row's, remove takes the row's away. Without it: exact."},
	}
	membershipKeys = []key{
		{Name: "from", Form: yamldoc.Text, About: "The heading of the column with the names or ids. With a star for a number or a word, such as “Training *”, every such column names one."},
		{Name: "split", Form: yamldoc.Text, About: "What stands between several names in one cell, such as “;”."},
		{Name: "role", Form: yamldoc.Text, About: "The heading of the column with the role, paired by what stands for the star, where there is one."},
		{Name: "section", Form: yamldoc.Text, About: "The heading of the column with the section, likewise."},
		{Name: "fallback", Form: yamldoc.Texts, About: "What a new account gets when the cell is blank or the column isn't there."},
		{Name: "fallback_for", OneOf: servedAccounts, About: "Which accounts get the fallback: new ones, also known ones that have nothing of the kind (empty), or all. Without it: new."},
		{Name: "via", Form: yamldoc.Table, About: "What is written in the cell and the name it stands for."},
		{Name: "else", OneOf: []string{asItIs, refused}, About: "What becomes of a cell that the table does not have: it is read as it is, or refused. Without it: refuse."},
		{Name: "role_via", Form: yamldoc.Table, About: "What is written as the role and the role it stands for. Anything else is an error."},
		{Name: "via_sheet", Form: yamldoc.Text, About: "A sheet beside the brief with such a table."},
		{Name: "mode", OneOf: modes, About: "add keeps the memberships that are there, exact leaves just the row's, remove takes the row's away. Without it: add."},
		{Name: "within", Form: yamldoc.Texts, About: "With exact: only memberships of things with such a name, in which a star stands for anything, are taken away."},
		{Name: "make_missing", Form: yamldoc.Bool, About: "Whether a thing that does not exist is made first. Without it the row is refused."},
		{Name: "clear_when_blank", Form: yamldoc.Bool, About: "With exact: whether a blank cell takes all memberships within away. Without it a blank leaves them."},
	}
	ruleKeys = []key{
		{Name: "when", Form: expression, About: "The rows for which the rule holds."},
		{Name: "groups", Form: yamldoc.Texts, About: "The groups such rows join."},
		{Name: "courses", Form: yamldoc.Texts, About: "The courses they are enrolled in."},
		{Name: "licences", Form: yamldoc.Texts, About: "The licences they get a seat of."},
		{Name: "roles", Form: yamldoc.Texts, About: "The roles they get."},
	}
	intentKeys = []key{
		{Name: "from", Form: yamldoc.Text, About: "The heading of the column that says what is to happen to the row's account."},
		{Name: "via", Form: yamldoc.Table, About: "What is written there, and what it means: create, update, suspend, resume, remove, or aside to leave the row out. A blank follows “new” and “known”."},
		{Name: "make", Form: expression, About: "An expression that gives one of these words, instead of a column."},
		{Name: "fallback", OneOf: intentWords, About: "What a blank means, instead."},
	}
	suspendKeys = []key{
		{Name: "set", Form: yamldoc.Table, About: "Fields that are set besides, such as one that hides the account from a directory listing."},
		{Name: "then", Form: yamldoc.Text, About: "What becomes of those whom batches of this brief suspended: “remove after 30 days” drafts their removal when the brief is used again, with allow_remove and a limit on it."},
		{Name: "leave", Form: yamldoc.Table, About: "Memberships that are taken away: a kind, such as licences or groups, and the pattern of their names."},
	}
	resumeKeys = []key{
		{Name: "set", Form: yamldoc.Table, About: "Fields that are set besides."},
	}
	limitKeys = []key{
		{Name: "create", Form: limit, About: "The most accounts that one batch may create: a number, or a share of the accounts there are, such as 5%."},
		{Name: "update", Form: limit, About: "The most it may update."},
		{Name: "suspend", Form: limit, About: "The most it may suspend."},
		{Name: "resume", Form: limit, About: "The most it may let back in."},
		{Name: "remove", Form: limit, About: "The most it may remove."},
		{Name: "refused", Form: limit, About: "The most rows that may be refused for the others to be posted: a number, or a share of the rows."},
		{Name: "fewer", Form: limit, About: "By what share the rows may be fewer than the last time, such as 20%: a list that came half is held back."},
	}
	passwordKeys = []key{
		{Name: "new", OneOf: []string{"generate", "given", "none"}, About: "Where a new account's password comes from: made by the program, given in the sheet, or none."},
		{Name: "known", OneOf: []string{"generate", "given", "keep"}, About: "Whether an account that is there gets another password: one made by the program, or the one that its row gives, if it gives one. Without it: keep."},
		{Name: "from", Form: yamldoc.Text, About: "With given: the heading of the column."},
		{Name: "when_blank", OneOf: []string{"refuse", "generate"}, About: "With new: given: what is done with a new person's row that gives none. Without it: refuse."},
		{Name: "length", Form: yamldoc.Whole, About: "With generate: how many characters. Without it: 16."},
		{Name: "alphabet", Form: yamldoc.Text, About: "With generate: the characters to choose from. Without it: letters and digits that cannot be mistaken for each other."},
		{Name: "words", Form: yamldoc.Whole, About: "With generate: this many short words with hyphens between, instead of characters."},
		{Name: "make", Form: expression, About: "With generate: a pattern in which each # becomes a random digit and each * a random letter."},
		{Name: "change_at_sign_in", Form: yamldoc.Bool, About: "Whether the person has to choose another at the first sign-in."},
	}
	noticeKeys = []key{
		{Name: "on", Form: occasion, About: "What was done with the account: created, updated, suspended, resumed or removed; one or several."},
		{Name: "when", Form: expression, About: "Only rows for which this holds."},
		{Name: "to", Form: yamldoc.Text, About: "A field with an address, such as email, a person, such as manager, an address, or an expression in braces."},
		{Name: "language", Form: yamldoc.Text, About: "The field that says in which language somebody is written to. Without it: preferredLanguage."},
		{Name: "subject", Form: wording, About: "The subject, with expressions in braces."},
		{Name: "text", Form: wording, About: "The text, with expressions in braces; file: PATH of it; or either under each language."},
		{Name: "with_password", Form: yamldoc.Bool, About: "Whether the password stands in it, at {password}; it is opened when the mail is sent, and wiped after."},
		{Name: "html", Form: wording, About: "The same as a page, for mail programs that show one."},
	}
	followUpKeys = []key{
		{Name: "on", Form: occasion, About: "What was done with the account: created, updated, suspended, resumed or removed; one or several."},
		{Name: "when", Form: expression, About: "Only rows for which this holds."},
		{Name: "feed", Form: yamldoc.Text, About: "The feed of evenledger.yaml whose database or web address is meant."},
		{Name: "statement", Form: yamldoc.Text, About: "One statement for a database. Its parameters, such as :userName, are fields of the brief, and :id the account's id; they are bound, never written into it."},
		{Name: "body", Form: yamldoc.Table, About: "What a call of a web address sends as JSON: texts with expressions in braces, by name."},
	}
	reownKeys = []key{
		{Name: "in", Form: yamldoc.Texts, About: "The folders."},
		{Name: "other_devices", Form: yamldoc.Bool, About: "Whether other devices beneath them are gone into as well."},
	}
	briefKeys = []key{
		{Name: "brief", Form: yamldoc.Text, About: "The name of the brief."},
		{Name: "based_on", Form: yamldoc.Text, About: "A brief of the same folder whose keys count where this one has none; fields and checks come together."},
		{Name: "system", Form: yamldoc.Text, About: "The system of evenledger.yaml whose accounts are meant."},
		{Name: "sheet", Nested: sheetKeys, About: "How to read the sheet."},
		{Name: "dates", OneOf: []string{"day-first", "month-first"}, About: "How dates such as 3/4/2027 are meant."},
		{Name: "phones", Form: yamldoc.Text, About: "The country whose telephone numbers are written without its code, such as GB."},
		{Name: "only", Form: expression, About: "Rows for which it does not hold are set aside, and counted."},
		{Name: "for", About: "What is otherwise for one system: under its name, keys of a brief that count for it before those here; its fields replace those of their names."},
		{Name: "match", Form: matching, About: "The fields that find an account, tried in order. It may end in {like: [FIELDS]}: where no key finds an account, those are compared as people write names and addresses, for a person to say who is meant (“evenledger candidates”)."},
		{Name: "new", OneOf: []string{"create", "skip", "refuse"}, About: "What is done with a row that finds no account. Without it: create."},
		{Name: "known", OneOf: []string{"update", "fill", "skip", "refuse"}, About: "What is done with a row that finds an account: change what differs, fill only what is empty, set aside, refuse. Without it: update."},
		{Name: "fields", About: "The account's fields, and where each comes from."},
		{Name: "checks", About: "Conditions of your own."},
		{Name: "groups", Form: memberships, About: "The groups the account is a member of."},
		{Name: "courses", Form: memberships, About: "The courses the account is enrolled in."},
		{Name: "licences", Form: memberships, About: "The licences the account has a seat of."},
		{Name: "roles", Form: memberships, About: "The roles the account has."},
		{Name: "rules", About: "Memberships that follow from conditions."},
		{Name: "intent", Nested: intentKeys, About: "A column that says for each row what is to happen to its account. It counts for more than “new” and “known”."},
		{Name: "suspend", Nested: suspendKeys, About: "What goes with suspending an account, besides that it may no longer sign in."},
		{Name: "resume", Nested: resumeKeys, About: "What goes with resuming one."},
		{Name: "allow_remove", Form: yamldoc.Bool, About: "Whether rows may ask for their account to be removed, with all that is in it."},
		{Name: "gone", OneOf: []string{"keep", "suspend"}, About: "What is done with accounts within “scope” that the sheet no longer lists. Without it: keep."},
		{Name: "scope", Form: expression, About: "The accounts that the sheet is to list, by a condition on their fields, such as department == \"Deck\"."},
		{Name: "limits", Nested: limitKeys, About: "The most that one batch may do; one that would do more is drafted and not posted."},
		{Name: "protect", Form: yamldoc.Texts, About: "User names, addresses or ids of accounts that no row may change; a star stands for anything."},
		{Name: "notices", About: "Mails about what was done with an account, each under a name of its own."},
		{Name: "follow_ups", About: "What is done elsewhere about what was done with an account, each under a name of its own."},
		{Name: "begin", Form: around, About: "What is done elsewhere before a batch as a whole: a list of {feed, statement} or {feed, body}. :batch is its number, :today the day."},
		{Name: "end", Form: around, About: "What is done elsewhere when all of a batch is posted."},
		{Name: "countersign", Form: yamldoc.Text, About: "When a second person has to sign a batch before it is posted: always, or over 50 (changes)."},
		{Name: "trial_run", Form: yamldoc.Text, About: "Marks each batch of the brief as a trial of this name, as draft --trial-run does: for briefs that only ever make test people."},
		{Name: "reown", Form: reowning, About: "Folders of a host, such as [/home, /srv], in which files are given to the new numbers of accounts: one walk for all, on the device of each folder alone; {in: […], other_devices: true} goes on beneath."},
		{Name: "retire", Form: yamldoc.Bool, About: "Takes the accounts of the rows out of a host's own files, where a directory serves them by then. Home folders and memberships stay."},
		{Name: "report_to", Form: yamldoc.Texts, About: "The addresses that get the report of each batch by mail."},
		{Name: "password", Nested: passwordKeys, About: "The passwords of new accounts, and other ones for accounts that are there."},
	}
	modes          = []string{"add", "exact", "remove"}
	servedAccounts = []string{string(ForNew), string(ForEmpty), string(ForAll)}
)

type object = yamldoc.Object

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
	properties["for"] = object{"type": "object", "additionalProperties": object{"$ref": "#"}, "description": about(briefKeys, "for")}
	check := schemaOf(checkKeys)
	check["required"] = []string{"that", "say"}
	rule := schemaOf(ruleKeys)
	rule["required"] = []string{"when"}
	properties["rules"] = object{"type": "array", "items": rule, "description": about(briefKeys, "rules")}
	properties["checks"] = object{"type": "array", "items": check, "description": about(briefKeys, "checks")}
	notice := schemaOf(noticeKeys)
	notice["required"] = []string{"on", "to", "subject", "text"}
	properties["notices"] = object{"type": "object", "additionalProperties": notice, "description": about(briefKeys, "notices")}
	followUp := schemaOf(followUpKeys)
	followUp["required"] = []string{"on", "feed"}
	properties["follow_ups"] = object{"type": "object", "additionalProperties": followUp, "description": about(briefKeys, "follow_ups")}
	top["$defs"] = object{"field": field, "memberships": schemaOf(membershipKeys)}
	return json.MarshalIndent(top, "", "  ")
}

func about(keys []key, name string) string {
	for _, k := range keys {
		if k.Name == name {
			return k.About
		}
	}
	return ""
}

func schemaOf(keys []key) object {
	one := object{"$ref": "#/$defs/memberships"}
	return yamldoc.Schema(keys, map[yamldoc.Form]object{
		occasion: {"anyOf": []object{{"enum": occasionWords}, {"type": "array", "items": object{"enum": occasionWords}, "minItems": 1}}},
		around:   {"type": "array", "items": object{"type": "object", "required": []string{"feed"}, "properties": object{"feed": object{"type": "string"}, "statement": object{"type": "string"}, "body": object{"type": "object"}}, "additionalProperties": false}},
		wording:  {"anyOf": []object{{"type": "string"}, {"type": "object", "additionalProperties": object{"type": []string{"string", "object"}}}}},
		reowning: {"anyOf": []object{{"type": "string"}, {"type": "array", "items": object{"type": "string"}, "minItems": 1}, yamldoc.Schema(reownKeys, nil)}},
		matching: {"anyOf": []object{{"type": "string"}, {"type": "array", "minItems": 1, "items": object{"anyOf": []object{{"type": "string"}, {"type": "object", "required": []string{"like"}, "additionalProperties": false,
			"properties": object{"like": object{"type": []string{"array", "string"}, "items": object{"type": "string"}}}}}}}}},
		limit:       {"type": []string{"integer", "string"}, "pattern": "^[0-9]+(\\.[0-9]+)?%?$"},
		memberships: {"anyOf": []object{one, {"type": "array", "items": one, "minItems": 1}}},
		unique:      {"anyOf": []object{{"enum": []string{"refuse", "number", "in-unit"}}, {"type": "array", "items": object{"type": "string"}, "minItems": 1}}},
		fallback:    {"type": []string{"string", "number", "boolean", "array"}},
	})
}
