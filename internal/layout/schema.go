package layout

import (
	"encoding/json"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/yamldoc"
)

// forms are those of the layout's own.
const (
	columnsForm yamldoc.Form = "columns"
	numberForm  yamldoc.Form = "number from 0"
	wordsForm   yamldoc.Form = "words of fields"
)

func keys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "layout", Form: yamldoc.Text, About: "What the files are called, for people."},
		{Name: "file", Nested: fileKeys(), About: "The form of a file."},
		{Name: "above", Form: yamldoc.Texts, About: "Lines that stand above the headings, word for word."},
		{Name: "columns", Form: columnsForm, About: "The columns, in the order of the application's file."},
		{Name: "key", Form: yamldoc.Text, About: "The field by which the application knows an account. Without it: userName, employeeNumber or email, the first that there is."},
		{Name: "each", Form: yamldoc.Text, About: "A file of its own for each value of this field, or for each action (“action”)."},
		{Name: "limits", Nested: []yamldoc.Key{{Name: "rows", Form: yamldoc.Whole, About: "At most so many people in a file."}, {Name: "bytes", Form: yamldoc.Text, About: "At most so large a file, such as 20MB."}}, About: "How much a file may hold; what is more goes into further ones."},
		{Name: "blank", OneOf: []string{"keeps", "clears"}, About: "What a blank cell does in the application: it leaves what is there (keeps), or empties it (clears). Without it: keeps."},
		{Name: "memberships", OneOf: []string{"all", "more"}, About: "What the memberships in a file are: all that there are afterwards, or those that come to what is there. Without it: all."},
		{Name: "all_or_nothing", Form: yamldoc.Bool, About: "true: with one bad row in a file the application takes none of it."},
		{Name: "export", Nested: []yamldoc.Key{{Name: "columns", Form: yamldoc.Table, About: "Headings of its exports that are otherwise than those of its files: HEADING: FIELD."}, {Name: "words", Form: wordsForm, About: "Words of its exports that are otherwise: FIELD: {VALUE: WORD}."}}, About: "Where the application's exports are otherwise than its files."},
		{Name: "results", Nested: resultKeys(), About: "The application's list of what it did not take."},
	}
}

func fileKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "format", OneOf: []string{formatCSV, formatXLSX, formatLines}, About: "Without it: csv."},
		{Name: "separator", Form: yamldoc.Text, About: "Of CSV: one character, or comma, semicolon, tab, pipe. Without it: comma."},
		{Name: "encoding", Form: yamldoc.Text, About: "Without it: utf-8."},
		{Name: "mark", Form: yamldoc.Bool, About: "true: a byte order mark stands at the beginning."},
		{Name: "line_end", OneOf: []string{"crlf", "lf"}, About: "Without it: crlf."},
		{Name: "quote", OneOf: []string{string(QuoteNeeded), string(QuoteAlways), string(QuoteNever)}, About: "Which cells of CSV stand in quotes. never: the application knows none, and a value with a separator in it is refused. Without it: needed."},
		{Name: "name", Form: yamldoc.Text, About: "What a file is called, with {batch} and {part}, and {each} and {date} if you like."},
	}
}

func columnKeys() []yamldoc.Key {
	part := []string{"true", "thing", "role", "section"} // true is the thing, too
	return []yamldoc.Key{
		{Name: "heading", Form: yamldoc.Text, About: "As the application wants it. Of several columns for courses or groups: with a star where their numbers stand."},
		{Name: "field", Form: yamldoc.Text, About: "The account's field that fills it: one that “evenledger fields” lists, or a name of the application's own."},
		{Name: "action", Form: yamldoc.Table, About: "What is to be done, in the application's words: {create: …, update: …, suspend: …, resume: …, remove: …}. What is left out it cannot do."},
		{Name: "password", Form: yamldoc.Bool, About: "true: the password stands here."},
		{Name: "make", Form: yamldoc.Text, About: "An expression of the account's fields; a text of its own in quotes."},
		{Name: "groups", OneOf: part, About: "Groups: the group itself (thing), or its role or section."},
		{Name: "courses", OneOf: part, About: "Courses: the course itself (thing), the role in it, or the section."},
		{Name: "licences", OneOf: part, About: "Licences."},
		{Name: "roles", OneOf: part, About: "Roles."},
		{Name: "kind", OneOf: account.KindNames(), About: "Of a field of the application's own: the kind of its values."},
		{Name: "words", Form: yamldoc.Table, About: "How values are written: {true: Y, false: N}."},
		{Name: "required", Form: yamldoc.Bool, About: "true: it has to be filled in every row."},
		{Name: "longest", Form: yamldoc.Whole, About: "At most so many characters."},
		{Name: "one_of", Form: yamldoc.Texts, About: "The values that the application takes, as it writes them."},
		{Name: "pattern", Form: yamldoc.Text, About: "A regular expression for the whole cell."},
		{Name: "date", Form: yamldoc.Text, About: "How dates are written, such as DD/MM/YYYY."},
		{Name: "as", OneOf: []string{string(codes.Alpha2), string(codes.Alpha3), string(codes.Name)}, About: "How countries are written: by two letters, by three, or by their name in English; languages by name."},
		{Name: "makes", Form: yamldoc.Bool, About: "true, of groups and the like: the application makes those that are named and that it does not have."},
		{Name: "fixed", Form: yamldoc.Bool, About: "true: no file can change it once the account is there."},
		{Name: "one_line", Form: yamldoc.Bool, About: "true: it takes no line breaks."},
		{Name: "split", Form: yamldoc.Text, About: "What stands between several values in one cell."},
		{Name: "most", Form: yamldoc.Whole, About: "At most so many: columns of a family, or values in a cell."},
	}
}

func resultKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "key", Form: yamldoc.Table, About: "Beneath which heading of the list which field stands: {HEADING: FIELD}."},
		{Name: "line", Form: yamldoc.Text, About: "The heading of the line's number."},
		{Name: "first_line", Form: numberForm, About: "The number that the first line beneath the headings has there. Without it: that of the line in the file."},
		{Name: "message", Form: yamldoc.Text, About: "The heading of the application's reason."},
	}
}

// Schema is a JSON Schema (draft 2020-12) of layouts, for editors.
func Schema() ([]byte, error) {
	table := yamldoc.Object{"type": "object", "additionalProperties": yamldoc.Object{"type": []string{"string", "number", "boolean"}}}
	own := map[yamldoc.Form]yamldoc.Object{
		columnsForm: {"type": "array", "minItems": 1, "items": yamldoc.Schema(columnKeys(), nil)},
		numberForm:  {"type": "integer", "minimum": 0},
		wordsForm:   {"type": "object", "additionalProperties": table},
	}
	top := yamldoc.Schema(keys(), own)
	top["$schema"], top["title"] = "https://json-schema.org/draft/2020-12/schema", "A layout of Even Ledger"
	top["required"] = []string{"columns"}
	return json.MarshalIndent(top, "", "  ")
}
