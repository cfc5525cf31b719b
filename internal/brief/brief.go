// Package brief reads the file that says what a kind of sheet means and what is
// to be done with it.
//
// A Brief that loads is ready for use: its keys are known, its expressions are
// compiled and type-checked, its fields stand in an order in which each can be
// made from those before it. Whatever is wrong is told at once, with line and
// column. A Brief is never changed after loading and may be shared.
package brief

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// A Policy says what is done with a row whose account exists, or doesn't.
type Policy string

// The policies. Create and Update are the usual ones of new and known.
const (
	Create Policy = "create" // new: make the account
	Update Policy = "update" // known: change what differs
	Fill   Policy = "fill"   // known: change only what is empty in the system
	Skip   Policy = "skip"   // set the row aside
	Refuse Policy = "refuse" // refuse the row
)

// Uniqueness says what happens when two accounts would share a field's value.
type Uniqueness string

// The kinds of uniqueness.
const (
	Shared       Uniqueness = ""       // it may be shared
	UniqueRefuse Uniqueness = "refuse" // the row is refused
	UniqueNumber Uniqueness = "number" // a new account's value gets the next free number
)

// A Brief is what the file says.
type Brief struct {
	Name       string
	System     string
	HeadingRow int // from 1; 0: look for it
	Dates      codes.DateOrder
	Only       *Expr // rows for which it does not hold are set aside
	Match      []string
	New        Policy
	Known      Policy
	Fields     []Field // each after those its Make uses
	Checks     []Check
	Text       string // the file as it was read

	index map[string]int
	today string
}

// A Field is where a field's value comes from and what it must be. Sources are
// tried in order: the cell, the expression, the fallback.
type Field struct {
	account.Field
	From           string            // heading of the column
	Make           *Expr             // how to make it
	Fallback       account.Value     // what a blank becomes
	Via            map[string]string // words.Key of what is written → value
	ViaExact       map[string]string // the same by what the brief has, to spare the key
	ViaWords       []string          // what may be written, as the brief has it
	Required       bool
	ClearWhenBlank bool
	Unique         Uniqueness
	Send           bool // false: only expressions use it
	Line           int  // in the brief
}

// A Check is a condition of the brief's own.
type Check struct {
	That  *Expr
	Say   string
	Level account.Level
}

// Field returns the index of a field in Fields, or -1.
func (b *Brief) Field(name string) int {
	if i, ok := b.index[name]; ok {
		return i
	}
	return -1
}

// Numbered returns the index of the field that gets numbers, or -1.
func (b *Brief) Numbered() int {
	return slices.IndexFunc(b.Fields, func(f Field) bool { return f.Unique == UniqueNumber })
}

// Options are what loading a brief needs to know.
type Options struct {
	Today   string                       // year-month-day that today() gives
	Aliases func(system string) []string // the short names of a system's own fields
	Kinds   map[string]account.Kind      // kinds of those, where known
	Systems []string                     // names a brief may use under "system"; nil: any
}

// Load reads the brief at path. Mistakes in it are yamldoc.Problems.
func Load(path string, options Options) (*Brief, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(filepath.Base(path), data, options)
}

// Parse reads a brief; file is what messages call it.
func Parse(file string, data []byte, options Options) (*Brief, error) {
	doc, err := yamldoc.Parse(file, data)
	if err != nil {
		return nil, err
	}
	b := &Brief{Name: strings.TrimSuffix(file, filepath.Ext(file)), New: Create, Known: Update, Text: string(data), today: options.Today, index: map[string]int{}}
	root := doc.Root()
	top := map[string]yamldoc.Node{}
	for _, pair := range root.Pairs(keyNames(briefKeys)...) {
		top[pair.Key] = pair.Value
	}
	if !root.Exists() {
		root.Fail("Begin with “evenledger brief schema” or an example under docs.", "the brief is empty")
		return nil, doc.Err()
	}
	if node := top["brief"]; node.Exists() {
		b.Name = node.Text()
	}
	b.readSystem(top["system"], options)
	b.readSheet(top["sheet"])
	switch top["dates"].OneOf("day-first", "month-first") {
	case "day-first":
		b.Dates = codes.DayFirst
	case "month-first":
		b.Dates = codes.MonthFirst
	}
	if node := top["new"]; node.Exists() {
		b.New = Policy(node.OneOf(string(Create), string(Skip), string(Refuse)))
	}
	if node := top["known"]; node.Exists() {
		b.Known = Policy(node.OneOf(string(Update), string(Fill), string(Skip), string(Refuse)))
	}
	fields := b.readFields(top["fields"], root, options)
	b.readMatch(top["match"], root)
	b.compile(top["only"], fields, top["checks"])
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return b, nil
}

func (b *Brief) readSystem(node yamldoc.Node, options Options) {
	b.System = node.Text()
	if b.System != "" && options.Systems != nil && !slices.Contains(options.Systems, b.System) {
		remedy := "Name it in evenledger.yaml under “systems”."
		if near := words.Nearest(b.System, options.Systems); near != "" {
			remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		node.Fail(remedy, "evenledger.yaml has no system “%s”", b.System)
	}
}

func (b *Brief) readSheet(node yamldoc.Node) {
	for _, pair := range node.Pairs(keyNames(sheetKeys)...) {
		if pair.Key == "heading_row" {
			b.HeadingRow = pair.Value.Whole(1, 1000)
		}
	}
}

// fieldSource is a field of the file whose expression is still to be compiled.
type fieldSource struct {
	field Field
	at    yamldoc.Node
	make  yamldoc.Node
}

func (b *Brief) readFields(node, root yamldoc.Node, options Options) []fieldSource {
	pairs := node.Pairs()
	if len(pairs) == 0 {
		root.Fail("Add “fields:” with one line a field.", "the brief maps no fields")
		return nil
	}
	var aliases []string
	if options.Aliases != nil {
		aliases = options.Aliases(b.System)
	}
	var fields []fieldSource
	for _, pair := range pairs {
		source := readField(pair)
		known, inCatalogue := account.FieldNamed(pair.Key)
		switch {
		case inCatalogue:
			known.Kind = max(known.Kind, source.field.Kind) // "as" may only narrow a text
		case slices.Contains(aliases, pair.Key) || strings.Contains(pair.Key, ":") || !source.field.Send:
			known = account.Field{Name: pair.Key, Label: pair.Key, Kind: source.field.Kind}
		default:
			remedy := "Use a field of the catalogue, an alias of evenledger.yaml, the system's full name of it, or “send: false” if only expressions use it."
			if near := words.Nearest(pair.Key, append(account.FieldNames(), aliases...)); near != "" {
				remedy = fmt.Sprintf("Did you mean “%s”?", near)
			} else if field, ok := account.NewHeadings().Field(pair.Key); ok {
				remedy = fmt.Sprintf("Did you mean “%s”?", field.Name)
			}
			pair.At.Fail(remedy, "there is no field “%s”", pair.Key)
			continue
		}
		source.field.Field = known
		checkFallback(&source, pair)
		fields = append(fields, source)
	}
	return fields
}

func readField(pair yamldoc.Pair) fieldSource {
	source := fieldSource{field: Field{Send: true}, at: pair.At}
	source.field.Line, _ = pair.At.Position()
	f := &source.field
	var clear yamldoc.Node
	for _, p := range pair.Value.Pairs(keyNames(fieldKeys)...) {
		switch p.Key {
		case "from":
			f.From = p.Value.Text()
		case "make":
			source.make = p.Value
		case "fallback":
			f.Fallback = account.Of(p.Value.Text())
		case "via":
			f.Via, f.ViaExact = map[string]string{}, map[string]string{}
			for _, v := range p.Value.Pairs() {
				f.ViaWords = append(f.ViaWords, v.Key)
			}
		case "required":
			f.Required = p.Value.Bool()
		case "clear_when_blank":
			clear, f.ClearWhenBlank = p.Value, p.Value.Bool()
		case "unique":
			f.Unique = Uniqueness(p.Value.OneOf(string(UniqueRefuse), string(UniqueNumber)))
		case "as":
			if name := p.Value.OneOf(account.KindNames()...); name != "" {
				f.Kind, _ = account.ParseKind(name)
			}
		case "send":
			f.Send = p.Value.Bool()
		}
	}
	switch {
	case f.From == "" && !source.make.Exists() && !f.Fallback.Present():
		pair.At.Fail("Give it “from: HEADING”, “make: EXPRESSION” or “fallback: VALUE”.", "the field %s has no source", pair.Key)
	case f.ClearWhenBlank && (f.Fallback.Present() || source.make.Exists() || f.Required || f.From == ""):
		clear.Fail("Take it out, or “fallback”, “make” and “required”.", "“clear_when_blank” can have no effect here: a blank cell is never left blank")
	}
	return source
}

// checkFallback sees that a fallback and the values of a via table are of the
// field's kind.
func checkFallback(source *fieldSource, pair yamldoc.Pair) {
	f := &source.field
	reader := codes.NewReader(codes.Unsettled)
	read := func(text string, at yamldoc.Node) string {
		if text == "" {
			return ""
		}
		value, err := reader.Read(f.Kind, text)
		if err != nil {
			at.Fail("", "“%s” cannot be a value of %s: it %s", text, pair.Key, err)
		}
		return value
	}
	for _, p := range pair.Value.Pairs() {
		switch p.Key {
		case "fallback":
			f.Fallback = account.Of(read(f.Fallback.Text(), p.Value))
		case "via":
			for _, v := range p.Value.Pairs() {
				value := read(v.Value.Text(), v.Value)
				f.Via[words.Key(v.Key)], f.ViaExact[v.Key] = value, value
			}
		}
	}
}

func (b *Brief) readMatch(node, root yamldoc.Node) {
	for _, item := range node.Items() {
		name := item.Text()
		if name == "" {
			continue
		}
		b.Match = append(b.Match, name)
	}
	if len(b.Match) == 0 && root.Exists() {
		root.Fail("Add “match: [employeeNumber]” or another key that is in the sheet.", "the brief does not say which field finds an account")
	}
}

// compile orders the fields and compiles every expression.
func (b *Brief) compile(only yamldoc.Node, fields []fieldSource, checks yamldoc.Node) {
	env, err := newEnv(fields, b.today)
	if err != nil {
		only.Fail("", "the brief's expressions cannot be readied: %v", err)
		return
	}
	names := make([]string, len(fields))
	for i := range fields {
		f := &fields[i]
		names[i] = f.field.Name
		if f.make.Exists() {
			f.field.Make = env.compile(f.make, f.field.Kind)
		}
	}
	b.order(fields)
	for i, f := range b.Fields {
		b.index[f.Name] = i
	}
	numbered := 0
	for _, f := range fields {
		if f.field.Unique == UniqueNumber {
			if numbered++; numbered > 1 {
				f.at.Fail("Use “unique: refuse” for the others.", "only one field of a brief can have “unique: number”")
			}
			if f.field.Kind != account.Text && f.field.Kind != account.Login {
				f.at.Fail("Use “unique: refuse”.", "“unique: number” cannot put a number behind a value of kind %s", f.field.Kind)
			}
		}
	}
	if only.Exists() {
		b.Only = env.compile(only, account.YesNo)
	}
	for _, node := range checks.Items() {
		check := Check{Level: account.Error}
		var that yamldoc.Node
		for _, p := range node.Pairs(keyNames(checkKeys)...) {
			switch p.Key {
			case "that":
				that = p.Value
			case "say":
				check.Say = p.Value.Text()
			case "level":
				check.Level = account.Level(p.Value.OneOf(string(account.Error), string(account.Warning), string(account.Note)))
			}
		}
		if !that.Exists() || check.Say == "" {
			node.Fail("Write {that: EXPRESSION, say: what is wrong when it does not hold}.", "a check needs both “that” and “say”")
			continue
		}
		if check.That = env.compile(that, account.YesNo); check.That != nil {
			b.Checks = append(b.Checks, check)
		}
	}
	for _, name := range b.Match {
		if i := b.Field(name); i >= 0 && !b.Fields[i].Send {
			fields[slices.Index(names, name)].at.Fail("Match on a field that the system has.", "“match” names %s, which is not sent to the system", name)
		}
		if !slices.Contains(names, name) {
			at := only
			if len(fields) > 0 {
				at = fields[0].at
			}
			at.Fail("Add the field, or match on one of: "+strings.Join(names, ", ")+".", "“match” names %s, which is not among the fields", name)
		}
	}
	for _, e := range b.Expressions() {
		for _, name := range e.Fields {
			e.Uses = append(e.Uses, b.Field(name))
		}
	}
}

// order puts the fields so that each stands after those its expression uses,
// and otherwise as the file has them. A circle is reported.
func (b *Brief) order(fields []fieldSource) {
	byName := map[string]*fieldSource{}
	for i := range fields {
		byName[fields[i].field.Name] = &fields[i]
	}
	const visiting, done = 1, 2
	state := map[string]int{}
	var path []string
	var visit func(f *fieldSource)
	visit = func(f *fieldSource) {
		name := f.field.Name
		switch state[name] {
		case done:
			return
		case visiting:
			circle := append(slices.Clone(path[slices.Index(path, name):]), name)
			f.make.Fail("Make one of them from a column, or from something else.", "fields are made from each other in a circle: %s", strings.Join(circle, " ← "))
			return
		}
		state[name] = visiting
		path = append(path, name)
		if f.field.Make != nil {
			for _, used := range f.field.Make.Fields {
				visit(byName[used])
			}
		}
		path = path[:len(path)-1]
		state[name] = done
		b.Fields = append(b.Fields, f.field)
	}
	for i := range fields {
		visit(&fields[i])
	}
}

// Suggest makes the brief that a sheet's headings amount to when there is none:
// every recognised heading maps itself, and the keys among them find accounts.
// A sheet in which no key is recognised gives an error.
func Suggest(headings []string, system, today string) (*Brief, error) {
	known := account.NewHeadings()
	b := &Brief{Name: "", System: system, New: Create, Known: Update, today: today, index: map[string]int{}}
	var fields []fieldSource
	for _, heading := range headings {
		field, ok := known.Field(heading)
		if !ok || sheet.IsOurs(heading) || slices.ContainsFunc(fields, func(f fieldSource) bool { return f.field.Name == field.Name }) {
			continue
		}
		f := Field{Field: field, From: heading, Send: true}
		if slices.Contains(keys, field.Name) {
			f.Unique = UniqueRefuse
			b.Match = append(b.Match, field.Name)
		}
		fields = append(fields, fieldSource{field: f})
	}
	slices.SortStableFunc(b.Match, func(x, y string) int { return slices.Index(keys, x) - slices.Index(keys, y) })
	if len(b.Match) == 0 {
		return nil, fmt.Errorf("no column was recognised that finds an account (user name, staff number or email address)")
	}
	b.order(fields)
	for i, f := range b.Fields {
		b.index[f.Name] = i
	}
	return b, nil
}

// keys are the fields that find an account without a brief, best first.
var keys = []string{"employeeNumber", "userName", "email", "externalId"}

// Expressions lists every expression of the brief.
func (b *Brief) Expressions() []*Expr {
	var all []*Expr
	if b.Only != nil {
		all = append(all, b.Only)
	}
	for _, f := range b.Fields {
		if f.Make != nil {
			all = append(all, f.Make)
		}
	}
	for _, c := range b.Checks {
		all = append(all, c.That)
	}
	return all
}
