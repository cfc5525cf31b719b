package brief

import (
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/attribute"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// NoKey is the error that no column was recognised that finds an account.
type NoKey struct{}

func (*NoKey) Error() string {
	return "no column was recognised that finds an account (user name, staff number or email address)"
}

// Suggest makes the brief that a sheet's headings amount to when there is none:
// every recognised heading maps itself, and the keys among them find accounts.
// A sheet in which no key is recognised gives a NoKey.
func Suggest(headings []string, system string, options Options) (*Brief, error) {
	known := account.NewHeadings()
	if options.Attributes {
		known = attribute.Headings()
	}
	b := &Brief{Name: "", System: system, Policies: Policies{New: Create, Known: Update}, today: options.Today, index: map[string]int{}}
	var fields []fieldSource
	for _, heading := range headings {
		if heading == sheet.AccountHeading {
			id, _ := account.FieldNamed(account.ID) // it is one
			fields = append(fields, fieldSource{field: Field{Field: id, From: heading, Send: true, KeyOnly: true}})
		}
		if b.suggestMemberships(heading) {
			continue
		}
		field, ok := known.Field(heading)
		if !ok {
			field, ok = own(heading, system, options)
		}
		if !ok || sheet.IsOurs(heading) || slices.ContainsFunc(fields, func(f fieldSource) bool { return f.field.Name == field.Name }) {
			continue
		}
		f := Field{Field: field, From: heading, Send: true}
		switch field.Kind {
		case account.List:
			f.Split = sheet.ListSeparator
		case account.Person:
			f.Refers = "userName"
		}
		if slices.Contains(keys, field.Name) {
			f.Unique = UniqueRefuse
			b.Match = append(b.Match, field.Name)
		}
		fields = append(fields, fieldSource{field: f})
	}
	slices.SortStableFunc(b.Match, func(x, y string) int { return slices.Index(keys, x) - slices.Index(keys, y) })
	if slices.Contains(headings, sheet.AccountHeading) {
		b.Match = append([]string{account.ID}, b.Match...)
	}
	if len(b.Match) == 0 {
		return nil, &NoKey{}
	}
	b.order(fields)
	for i, f := range b.Fields {
		b.index[f.Name] = i
	}
	if b.bringsOnlyMemberships() {
		b.New = Refuse // a list of members is no list of people to be taken on
	}
	b.env = newEnv(b.Fields, b.today)
	return b, b.also(options.Only)
}

// All is what the heading of a column begins with that lists every membership of
// its kind, as an export has it: handed back in, what is not listed is left.
const All = "All "

// suggestMemberships recognises the columns that name memberships by themselves:
// “Groups”, whose groups are joined, and “All groups”, which lists every one.
func (b *Brief) suggestMemberships(heading string) bool {
	for _, kind := range kinds {
		mode := Add
		switch words.Key(heading) {
		case words.Key(All + kind):
			mode = Exact
		case kind:
		case strings.TrimSuffix(kind, "s"):
			if kind == "roles" {
				continue // “Role” is what a person's work is called as well
			}
		default:
			continue
		}
		b.Memberships = append(b.Memberships, Memberships{Kind: kind, Mode: mode, Column: Field{Field: account.Field{Name: kind, Label: kind}, From: heading, Split: sheet.ListSeparator}})
		return true
	}
	return false
}

// Condition makes a brief of nothing but a condition on fields, which is to be
// evaluated in a Scope of it.
func Condition(fields []account.Field, condition, today string) (*Brief, error) {
	b := &Brief{today: today, index: map[string]int{}}
	for i, f := range fields {
		b.Fields, b.index[f.Name] = append(b.Fields, Field{Field: f}), i
	}
	b.env = newEnv(b.Fields, b.today)
	return b, b.also(condition)
}

// own recognises a heading that is a system's own field: its alias, or its name in
// full.
func own(heading, system string, options Options) (account.Field, bool) {
	name := ""
	if options.isOwn(system, heading) {
		name = heading
	} else if options.Aliases != nil {
		for _, alias := range options.Aliases(system) {
			if words.Key(alias) == words.Key(heading) {
				name = alias
			}
		}
	}
	for full, kind := range options.Kinds { // the system's own, by the last part of their names
		if _, known := account.FieldNamed(full); name == "" && !known && kind != account.Person && words.Key(full) == words.Key(heading) {
			name = full
		}
	}
	return account.Field{Name: name, Label: name, Kind: options.Kinds[name]}, name != ""
}

// keys are the fields that find an account without a brief, best first.
var keys = []string{"employeeNumber", "userName", "email", "externalId"}
