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

// places are nodes that are read once all the others are.
type places struct{ key, each, columns yamldoc.Node }

func (l *Layout) keys(at *places) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "layout", Form: yamldoc.Text, About: "What the files are called, for people.", Put: yamldoc.Into(&l.Name, yamldoc.Node.Text)},
		{Name: "file", Nested: l.File.keys(), About: "The form of a file."},
		{Name: "above", Form: yamldoc.Texts, About: "Lines that stand above the headings, word for word.", Put: yamldoc.Into(&l.Above, yamldoc.Node.Texts)},
		{Name: "columns", Form: columnsForm, About: "The columns, in the order of the application's file.", Put: func(n yamldoc.Node) { at.columns = n }},
		{Name: "key", Form: yamldoc.Text, About: "The field by which the application knows an account. Without it: userName, employeeNumber or email, the first that there is.", Put: func(n yamldoc.Node) { at.key = n }},
		{Name: "each", Form: yamldoc.Text, About: "A file of its own for each value of this field, or for each action (“action”).", Put: func(n yamldoc.Node) { at.each = n }},
		{Name: "limits", Nested: []yamldoc.Key{
			{Name: "rows", Form: yamldoc.Whole, About: "At most so many people in a file.", Put: func(n yamldoc.Node) { l.Rows = n.Whole(1, 10_000_000) }},
			{Name: "bytes", Form: yamldoc.Text, About: "At most so large a file, such as 20MB.", Put: yamldoc.Into(&l.Bytes, yamldoc.Node.Size)},
		}, About: "How much a file may hold; what is more goes into further ones."},
		{Name: "blank", OneOf: []string{"keeps", "clears"}, About: "What a blank cell does in the application: it leaves what is there (keeps), or empties it (clears). Without it: keeps.", Put: func(n yamldoc.Node) { l.Clears = n.Text() == "clears" }},
		{Name: "memberships", OneOf: []string{"all", "more"}, About: "What the memberships in a file are: all that there are afterwards, or those that come to what is there. Without it: all.", Put: func(n yamldoc.Node) { l.Adds = n.Text() == "more" }},
		{Name: "all_or_nothing", Form: yamldoc.Bool, About: "true: with one bad row in a file the application takes none of it.", Put: yamldoc.Into(&l.Whole, yamldoc.Node.Bool)},
		{Name: "export", Nested: []yamldoc.Key{
			{Name: "columns", Form: yamldoc.Table, About: "Headings of its exports that are otherwise than those of its files: HEADING: FIELD.", Put: yamldoc.Into(&l.Export.Columns, yamldoc.Node.Table)},
			{Name: "words", Form: wordsForm, About: "Words of its exports that are otherwise: FIELD: {VALUE: WORD}.", Put: yamldoc.Into(&l.Export.Words, readWords)},
		}, About: "Where the application's exports are otherwise than its files."},
		{Name: "results", Nested: l.Results.keys(), About: "The application's list of what it did not take.", Put: l.Results.read},
	}
}

func (f *File) keys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "format", OneOf: formatNames(), About: "Without it: csv.", Put: yamldoc.Into(&f.Format, yamldoc.Node.Text)},
		{Name: "separator", Form: yamldoc.Text, About: "Of CSV: one character, or comma, semicolon, tab, pipe. Without it: comma.", Put: yamldoc.Into(&f.Separator, readSeparator)},
		{Name: "encoding", Form: yamldoc.Text, About: "Without it: utf-8.", Put: f.readEncoding},
		{Name: "mark", Form: yamldoc.Bool, About: "true: a byte order mark stands at the beginning.", Put: yamldoc.Into(&f.Mark, yamldoc.Node.Bool)},
		{Name: "line_end", OneOf: []string{"crlf", "lf"}, About: "Without it: crlf.", Put: func(n yamldoc.Node) { f.LineEnd = map[string]string{"crlf": "\r\n", "lf": "\n"}[n.Text()] }},
		{Name: "quote", OneOf: []string{string(QuoteNeeded), string(QuoteAlways), string(QuoteNever)}, About: "Which cells of CSV stand in quotes. never: the application knows none, and a value with a separator in it is refused. Without it: needed.", Put: yamldoc.Word(&f.Quote)},
		{Name: "name", Form: yamldoc.Text, About: "What a file is called, with {batch} and {part}, and {each} and {date} if you like.", Put: yamldoc.Into(&f.Name, yamldoc.Node.Text)},
	}
}

// said is what a column says that is only judged with all of it.
type said struct {
	make, date, as yamldoc.Node
	fills          int // by how many things the column is filled
}

func (c *Column) keys(said *said) []yamldoc.Key {
	fill := func(by Fill, put func(yamldoc.Node)) func(yamldoc.Node) {
		return func(n yamldoc.Node) {
			c.Fill = by
			said.fills++
			put(n)
		}
	}
	tie := func(things string) func(yamldoc.Node) {
		return fill(Tie, func(n yamldoc.Node) {
			c.Things, c.Part = things, map[string]Part{"thing": Thing, "role": Role, "section": Section}[n.Text()]
		})
	}
	part := []string{"true", "thing", "role", "section"} // true is the thing, too
	return []yamldoc.Key{
		{Name: "heading", Form: yamldoc.Text, About: "As the application wants it. Of several columns for courses or groups: with a star where their numbers stand.", Put: yamldoc.Into(&c.Heading, yamldoc.Node.Text)},
		{Name: "field", Form: yamldoc.Text, About: "The account's field that fills it: one that “evenledger fields” lists, or a name of the application's own.", Put: fill(Field, func(n yamldoc.Node) {
			if c.Field = n.Text(); c.Field == account.ID {
				n.Fail("Name the field by which the application knows an account, such as userName.", "no file has the account's id")
			}
			f, _ := account.FieldNamed(c.Field)
			c.Kind = f.Kind
		})},
		{Name: "action", Form: yamldoc.Table, About: "What is to be done, in the application's words: {create: …, update: …, suspend: …, resume: …, remove: …}. What is left out it cannot do.", Put: fill(Action, c.readActions)},
		{Name: "password", Form: yamldoc.Bool, About: "true: the password stands here.", Put: fill(Password, func(n yamldoc.Node) {
			if !n.Bool() {
				n.Fail("Write true, or leave the column out.", "a column is for passwords or is not there")
			}
		})},
		{Name: "make", Form: yamldoc.Text, About: "An expression of the account's fields; a text of its own in quotes.", Put: fill(Made, func(n yamldoc.Node) { said.make = n })},
		{Name: "groups", OneOf: part, About: "Groups: the group itself (thing), or its role or section.", Put: tie("groups")},
		{Name: "courses", OneOf: part, About: "Courses: the course itself (thing), the role in it, or the section.", Put: tie("courses")},
		{Name: "licences", OneOf: part, About: "Licences.", Put: tie("licences")},
		{Name: "roles", OneOf: part, About: "Roles.", Put: tie("roles")},
		{Name: "kind", OneOf: account.KindNames(), About: "Of a field of the application's own: the kind of its values.", Put: func(n yamldoc.Node) {
			kind, known := account.ParseKind(n.Text())
			if c.Kind = kind; !known || kind == account.Place {
				n.Fail(yamldoc.DidYouMean(n.Text(), account.KindNames()), "there is no kind of value “%s”", n.Text())
			}
		}},
		{Name: "words", Form: yamldoc.Table, About: "How values are written: {true: Y, false: N}.", Put: yamldoc.Into(&c.Words, yamldoc.Node.Table)},
		{Name: "required", Form: yamldoc.Bool, About: "true: it has to be filled in every row.", Put: yamldoc.Into(&c.Required, yamldoc.Node.Bool)},
		{Name: "longest", Form: yamldoc.Whole, About: "At most so many characters.", Put: func(n yamldoc.Node) { c.Longest = n.Whole(1, 100_000) }},
		{Name: "one_of", Form: yamldoc.Texts, About: "The values that the application takes, as it writes them.", Put: yamldoc.Into(&c.OneOf, yamldoc.Node.Texts)},
		{Name: "pattern", Form: yamldoc.Text, About: "A regular expression for the whole cell.", Put: c.readPattern},
		{Name: "date", Form: yamldoc.Text, About: "How dates are written, such as DD/MM/YYYY.", Put: func(n yamldoc.Node) { said.date, c.Date = n, dateForm(n) }},
		{Name: "as", OneOf: []string{string(codes.Alpha2), string(codes.Alpha3), string(codes.Name)}, About: "How countries are written: by two letters, by three, or by their name in English; languages by name.", Put: func(n yamldoc.Node) { said.as, c.As = n, codes.Form(n.Text()) }},
		{Name: "makes", Form: yamldoc.Bool, About: "true, of groups and the like: the application makes those that are named and that it does not have.", Put: yamldoc.Into(&c.Makes, yamldoc.Node.Bool)},
		{Name: "fixed", Form: yamldoc.Bool, About: "true: no file can change it once the account is there.", Put: yamldoc.Into(&c.Fixed, yamldoc.Node.Bool)},
		{Name: "one_line", Form: yamldoc.Bool, About: "true: it takes no line breaks.", Put: yamldoc.Into(&c.OneLine, yamldoc.Node.Bool)},
		{Name: "split", Form: yamldoc.Text, About: "What stands between several values in one cell.", Put: func(n yamldoc.Node) {
			if c.Split = n.Text(); c.Split == "" {
				n.Fail("Such as: split: \",\"", "nothing stands between the values")
			}
		}},
		{Name: "most", Form: yamldoc.Whole, About: "At most so many: columns of a family, or values in a cell.", Put: func(n yamldoc.Node) { c.Most = n.Whole(1, 1000) }},
	}
}

func (r *Results) keys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "key", Form: yamldoc.Table, About: "Beneath which heading of the list which field stands: {HEADING: FIELD}.", Put: func(n yamldoc.Node) {
			for _, k := range n.Pairs() {
				r.Keys = append(r.Keys, ResultKey{k.Key, k.Value.Text()})
			}
		}},
		{Name: "line", Form: yamldoc.Text, About: "The heading of the line's number.", Put: yamldoc.Into(&r.Line, yamldoc.Node.Text)},
		{Name: "first_line", Form: numberForm, About: "The number that the first line beneath the headings has there. Without it: that of the line in the file.", Put: func(n yamldoc.Node) { r.Counts = n.Whole(0, 1000) }},
		{Name: "message", Form: yamldoc.Text, About: "The heading of the application's reason.", Put: yamldoc.Into(&r.Message, yamldoc.Node.Text)},
	}
}

// Schema is a JSON Schema (draft 2020-12) of layouts, for editors.
func Schema() ([]byte, error) {
	table := yamldoc.Object{"type": "object", "additionalProperties": yamldoc.Object{"type": []string{"string", "number", "boolean"}}}
	own := map[yamldoc.Form]yamldoc.Object{
		columnsForm: {"type": "array", "minItems": 1, "items": yamldoc.Schema(new(Column).keys(nil), nil)},
		numberForm:  {"type": "integer", "minimum": 0},
		wordsForm:   {"type": "object", "additionalProperties": table},
	}
	top := yamldoc.Schema(new(Layout).keys(nil), own)
	top["$schema"], top["title"] = "https://json-schema.org/draft/2020-12/schema", "A layout of Even Ledger"
	top["required"] = []string{"columns"}
	return json.MarshalIndent(top, "", "  ")
}
