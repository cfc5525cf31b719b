// Package brief reads the file that says what a kind of sheet means and what is
// to be done with it.
//
// A Brief that loads is ready for use: its keys are known, its expressions are
// compiled and type-checked, its fields stand in an order in which each can be
// made from those before it. Whatever is wrong is told at once, with line and
// column. A Brief is never changed after loading and may be shared.
package brief

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	pathpkg "path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/expr"
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

	Suspend Policy = "suspend" // gone: suspend the account
)

// Uniqueness says what happens when two accounts would share a field's value.
type Uniqueness string

// The kinds of uniqueness.
const (
	Shared       Uniqueness = ""        // it may be shared
	UniqueRefuse Uniqueness = "refuse"  // the row is refused
	UniqueInUnit Uniqueness = "in-unit" // where somebody of the same unit has the value, a number is put behind it
	UniqueNumber Uniqueness = "number"  // a new account gets another value: a further formula's, or the next free number behind it
)

// FallbackFor says which accounts get a fallback.
type FallbackFor string

// The accounts that get a fallback.
const (
	ForNew   FallbackFor = "new"   // those that are made
	ForEmpty FallbackFor = "empty" // and those for which the system has nothing in the field
	ForAll   FallbackFor = "all"   // every one that a row comes to
)

// Serves reports whether a known account gets the fallback, which has before now.
func (f FallbackFor) Serves(before account.Value) bool {
	return f == ForAll || f == ForEmpty && !before.Filled()
}

// A Brief is what the file says.
type Brief struct {
	Name    string
	System  string
	BasedOn []string // names of the briefs it takes defaults from, nearest first
	Source
	Policies
	Guards

	Match       []string
	Like        []string // fields that are compared as people write them where no key finds an account; none: they are not
	Only        []*Expr  // rows for which one does not hold are set aside
	Fields      []Field  // each after those its Make uses
	Checks      []Check
	Mentions    []Mention // things that the brief itself names
	Memberships []Memberships
	Rules       []Rule
	Password    Password
	Reown       *Reown // files are given to new numbers; nil: they are not
	Retire      bool   // accounts of the rows are taken out of the system's own files, where a directory serves them

	Notices   []*Notice
	FollowUps []*FollowUp
	Begin     []*FollowUp // what is done before a batch as a whole
	End       []*FollowUp // and after it
	ReportTo  []string    // addresses that get the report of each batch
	TrialRun  string      // what each batch of it is a trial of; empty: it is none

	mayPassword bool   // of the text at hand: the password may stand in it
	later       string // of the text at hand: what stands in it that only the post knows; empty: nothing
	index       map[string]int
	today       string
	env         *expr.Env // of its expressions
}

// A Source says how the sheet is read, where it does not say so itself.
type Source struct {
	Feed       string    // that brings the sheet where none is named
	Tab        string    // of a workbook; empty: look for it
	Tabs       []string  // read as one sheet
	HeadingRow int       // from 1; 0: look for it
	ListEnd    sheet.End // of the list; zero: look for what stands below it
	Columns    []string  // what the columns of a sheet without headings are called; nil: it has some
	Encoding   string    // of the sheet's text; empty: look
	Blanks     []string  // what is written in a cell that is blank
	Dates      codes.DateOrder
	Phones     string // country of telephone numbers written without its code, ISO 3166-1; or empty
}

// Policies say what is done with people who are new, known or gone.
type Policies struct {
	New        Policy
	NewSaid    bool // the brief itself says what is done with new people
	Known      Policy
	KnownSaid  bool             // the brief itself says what is done with people who are there
	Gone       Policy           // what is done with accounts in Scope that no row lists; "" or Suspend
	Scope      *Brief           // a condition on accounts; nil: none
	MayRemove  bool             // rows may ask for their account to be removed
	Suspending Leaving          // what goes with suspending
	Resuming   []account.Change // fields that are set with resuming
}

// Guards are what keeps a batch from being posted, or a row from being done.
type Guards struct {
	Limits     map[account.Intent]Limit
	Refused    *Limit   // of rows that may be refused for the others to be posted; nil: any
	Fewer      *Limit   // by which rows may be fewer than the last time; nil: any
	Protect    []string // patterns of the names of accounts that are not changed
	SignedFrom int      // changes from which on a second person has to sign a batch; 0: none has to
}

// A Reown is where files are given to the new numbers of accounts.
type Reown struct {
	Folders []string // full paths
	Across  bool     // also on other devices beneath them
}

// A Field is where a field's value comes from and what it must be. Sources are
// tried in order: the cell, the expression, the fallback.
type Field struct {
	account.Field
	From           string            // heading of the column
	Split          string            // what stands between the values of a cell; empty: a cell is one value
	Make           *Expr             // how to make it
	Fallback       account.Value     // what a blank becomes, or a column that isn't there
	FallbackFor    FallbackFor       // for which accounts it does
	Via            map[string]string // words.NameKey of what is written → value
	ViaExact       map[string]string // the same by what the brief has, to spare the key
	ViaWords       []string          // what may be written, as the brief has it
	ViaOpen        bool              // what is not in Via is read as it is
	Required       bool
	OneOf          map[string]string // words.NameKey of each value that is allowed → the value; nil: any
	OneOfWords     []string          // those values, as the brief has them
	Digits         int               // that the value has: what has fewer lost zeros before them; 0: any
	ClearWhenBlank bool
	Unique         Uniqueness
	When           *Expr   // holds for rows in which the field counts; in others the sheet says nothing of it; nil: all
	FallsAt        string  // the cells that get the fallback: atBlank, atAbsent; empty: both
	Others         []*Expr // with UniqueNumber: what to try, in turn, when the value is taken
	Number         bool    // with UniqueNumber: a number is put behind the last of them
	Send           bool    // false: only expressions use it
	KeyOnly        bool    // it finds accounts and is not changed
	Refers         string  // the value is this field of another account, which is meant
	Next           Range   // from which new accounts get a number that is free; zero: none
	Again          bool    // with Next: also numbers that somebody had before
	Renumber       bool    // with Next: also accounts that are there, whose number is not of it or is another elsewhere
	MakeMissing    bool    // of a place that does not exist: it is made first
	Among          string  // the value is the name or id of a thing of this kind, such as units
	Mode           Mode    // of a list: what becomes of the values that are there
	Parts          []Part  // of each value of a list; none: each is one text
	Line           int     // in the brief
}

// What becomes of a cell that a table does not have.
const (
	asItIs  = "as it is"
	refused = "refuse"
)

// A Part is one part of each value of a list, such as the issuer of a sign-in.
type Part struct {
	Name  string // of the system
	From  string // heading of its column, with a star for a number as with a field
	Fixed string // the same in all values, instead of a column
}

// A Check is a condition of the brief's own.
type Check struct {
	That  *Expr
	Say   string
	Level account.Level
}

// Family reports whether the field takes its values from every column whose
// heading is that of From with something for its star, such as “Training *”.
func (f *Field) Family() bool { return IsFamily(f.From) }

// IsFamily reports whether a heading has a star, wherever it stands.
func IsFamily(heading string) bool { return strings.Contains(heading, "*") }

// Field returns the index of a field in Fields, or -1.
func (b *Brief) Field(name string) int {
	if i, ok := b.index[name]; ok {
		return i
	}
	return -1
}

// Names reports whether rows name things of a kind, or leave them.
func (b *Brief) Names(kind string) bool {
	return b.Ties(kind) || slices.ContainsFunc(b.Fields, func(f Field) bool { return f.Among == kind })
}

// Ties reports whether rows join or leave things of a kind.
func (b *Brief) Ties(kind string) bool {
	return len(b.Suspending.Leave[kind]) > 0 || slices.ContainsFunc(b.Memberships, func(m Memberships) bool { return m.Kind == kind })
}

// NamesThings reports whether rows name things of any kind, or leave them.
func (b *Brief) NamesThings() bool {
	return len(b.Memberships)+len(b.Suspending.Leave) > 0 || slices.ContainsFunc(b.Fields, func(f Field) bool { return f.Among != "" })
}

// OnlyMemberships reports whether rows bring nothing but memberships to accounts
// that there are, so that several may come to the same account.
func (b *Brief) OnlyMemberships() bool {
	return b.New != Create && b.bringsOnlyMemberships()
}

func (b *Brief) bringsOnlyMemberships() bool {
	return len(b.Memberships) > 0 && b.Intent() < 0 &&
		!slices.ContainsFunc(b.Fields, func(f Field) bool { return f.Send && !slices.Contains(b.Match, f.Name) }) &&
		!slices.ContainsFunc(b.Memberships, func(m Memberships) bool { return m.Mode == Exact })
}

// Fit has a brief that nobody has used yet compare values as the system does, and put
// together what the system has instead of fields that it lacks. Fitting it once more does
// nothing.
func (b *Brief) Fit(schema *account.Schema) {
	for _, c := range schema.Composed {
		b.compose(schema, c)
	}
	for i := range b.Fields {
		if attribute, has := schema.Attribute(b.Fields[i].Name); has {
			b.Fields[i].Rule = attribute.Rule
		}
	}
}

// compose puts a field together of others, which are not sent.
func (b *Brief) compose(schema *account.Schema, c account.Composed) {
	sent := func(name string) bool { i := b.Field(name); return i >= 0 && b.Fields[i].Send }
	for _, of := range c.Of {
		if b.Field(c.Field) >= 0 || slices.ContainsFunc(of, func(name string) bool { return !sent(name) }) {
			continue
		}
		compiled, err := b.env.Compile("trim("+strings.Join(of, ` + " " + `)+")", expr.Text)
		if err != nil {
			continue // they are of kinds that cannot be put together
		}
		e := &Expr{Expr: compiled}
		for _, name := range e.Names {
			e.Uses = append(e.Uses, b.Field(name))
		}
		b.index[c.Field] = len(b.Fields)
		b.Fields = append(b.Fields, Field{Field: schema.Field(c.Field), Make: e, Send: true})
	}
	for _, of := range c.Of {
		for _, name := range of {
			if _, has := schema.Attribute(name); !has && sent(name) && !slices.Contains(b.Match, name) {
				b.Fields[b.Field(name)].Send = false
			}
		}
	}
}

// Leave has a brief that nobody has used yet pass over what a system does not have of the
// fields and kinds of memberships that it gives, and returns their names. It is an error if no
// key is left that finds an account.
func (b *Brief) Leave(schema *account.Schema, kinds []string) (left []string, err error) {
	for i := range b.Fields {
		f := &b.Fields[i]
		if _, has := schema.Attribute(f.Name); !has && f.Send && f.Name != account.ID {
			f.Send = false
			left = append(left, f.Name)
		}
	}
	b.Match = slices.DeleteFunc(b.Match, func(name string) bool { return slices.Contains(left, name) })
	like := slices.ContainsFunc(b.Like, func(name string) bool { _, has := schema.Attribute(name); return has })
	if len(b.Match) == 0 && !like {
		return left, fmt.Errorf("it has none of the fields that find an account")
	}
	for i := range b.Memberships {
		if m := &b.Memberships[i]; !slices.Contains(kinds, m.Kind) && !m.Untouched {
			m.Untouched = true
			left = append(left, m.Kind)
		}
	}
	return left, nil
}

// Intent returns the index of the field that carries a row's own intent, or -1.
func (b *Brief) Intent() int { return b.Field(intentField) }

// Compare makes of a brief that nobody has used yet one to compare a sheet with
// its system: whatever differs comes up, and no guard or policy keeps it back.
func (b *Brief) Compare() {
	// The column with passwords stays known, so that they are kept nowhere.
	b.Begin, b.End = nil, nil
	b.Notices, b.FollowUps, b.ReportTo, b.Refused, b.Fewer = nil, nil, nil, nil, nil
	b.New, b.Known, b.Limits, b.Protect, b.Password = Create, Update, nil, nil, Password{From: b.Password.From}
	if b.Scope != nil {
		b.Gone = Suspend
	}
}

// Touch leaves of a brief that nobody has used yet just these fields and kinds of
// memberships. The keys go on finding accounts, and there have to be some: nothing
// is created.
func (b *Brief) Touch(names []string) error {
	for _, name := range names {
		if b.Field(name) < 0 && !slices.ContainsFunc(b.Memberships, func(m Memberships) bool { return m.Kind == name }) {
			return fmt.Errorf("nothing in the sheet or brief gives “%s”", name)
		}
	}
	for i := range b.Fields {
		f := &b.Fields[i]
		if slices.Contains(names, f.Name) {
			continue
		}
		if f.KeyOnly = slices.Contains(b.Match, f.Name); !f.KeyOnly {
			f.Send = false
		}
	}
	for i := range b.Memberships {
		if !slices.Contains(names, b.Memberships[i].Kind) {
			b.Memberships[i].Untouched = true
		}
	}
	b.New, b.Gone = Refuse, ""
	return nil
}

// Numbered returns the index of the field that gets numbers, or -1.
func (b *Brief) Numbered() int {
	return slices.IndexFunc(b.Fields, func(f Field) bool { return f.Unique == UniqueNumber })
}

// Options are what loading a brief needs to know.
type Options struct {
	Today   string                       // year-month-day that today() gives
	Only    string                       // a further condition, as with the brief's “only”
	Dir     string                       // the folder from which the brief names other files
	Root    string                       // the workspace's, in which they may lie as well; may be empty
	Aliases func(system string) []string // the short names of a system's own fields
	Kinds   map[string]account.Kind      // kinds of those, where known
	// IsOwn reports whether a name is plainly one that a system calls a field of its own,
	// without asking it; nil: none is.
	IsOwn func(system, field string) bool
	// Own returns what the system itself calls fields, with their kinds. It is asked
	// only for a name that nothing else knows; nil, or no answer: such a name is a mistake.
	Own        func(system string) map[string]account.Kind
	Systems    []string // names a brief may use under "system"; nil: any
	Attributes bool     // Suggest: headings are a directory's own names
	For        string   // the system whose accounts are meant, whatever the brief says; empty: as it says
}

func (o Options) isOwn(system, field string) bool { return o.IsOwn != nil && o.IsOwn(system, field) }

// Load reads the brief at path. Mistakes in it are yamldoc.Problems.
func Load(path string, options Options) (*Brief, error) {
	data, err := yamldoc.ReadFile(path)
	if err != nil {
		return nil, err
	}
	options.Dir = filepath.Dir(path)
	return Parse(filepath.Base(path), data, options)
}

// SystemNamed returns which system or set the brief at path says that it is for; empty: it
// does not say. Nothing else of it is read.
func SystemNamed(path string) (string, error) {
	data, err := yamldoc.ReadFile(path)
	if err != nil {
		return "", err
	}
	top := &layers{}
	if err := top.read(&Brief{}, filepath.Base(path), data, filepath.Dir(path)); err != nil {
		return "", err
	}
	return top.get("system").Text(), nil
}

// Parse reads a brief; file is what messages call it.
func Parse(file string, data []byte, options Options) (*Brief, error) {
	b := &Brief{Name: strings.TrimSuffix(file, filepath.Ext(file)), Policies: Policies{New: Create, Known: Update}, today: options.Today, index: map[string]int{}}
	top := &layers{}
	if err := top.read(b, file, data, options.Dir); err != nil {
		return nil, err
	}
	if node := top.tops[0]["brief"]; node.Exists() {
		b.Name = node.Text()
	}
	b.readSystem(top.get("system"), options)
	if options.For != "" {
		b.System = options.For
	}
	top.suit(b.System, options.Systems)
	yamldoc.Take(top.pairs("sheet", yamldoc.Names(b.sheetKeys())...), b.sheetKeys())
	top.put(b.keys())
	fields := b.readFields(top.pairs("fields"), top.root, options)
	if b.Retire {
		if !b.NewSaid {
			b.New = Refuse // who is not there cannot be retired
		}
		fields = append(fields, fieldSource{at: top.get("retire"), field: Field{Field: account.Field{Name: account.Local, Label: "kept in the host's own files", Kind: account.YesNo}, Fallback: account.Of("false"), FallbackFor: ForAll, Send: true}})
	}
	if node := top.get("intent"); node.Exists() {
		fields = append(fields, b.readIntent(node))
	}
	b.readMatch(top.get("match"), top.root)
	b.readMemberships(top, folders{options.Dir, options.Root})
	b.readPassword(top.pairs("password", yamldoc.Names(b.Password.keys())...), top.get("password"))
	b.compileAll(top.get("only"), fields, top.items("checks"))
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.field.Name
	}
	b.alikeFields(names, top.get("match"))
	b.readRules(top.items("rules"))
	b.readGuards(top, options)
	b.readNotices(top.pairs("notices"), folders{options.Dir, options.Root})
	b.readFollowUps(top.pairs("follow_ups"))
	b.Begin, b.End = b.readAround(top.get("begin")), b.readAround(top.get("end"))
	b.uses()
	b.checkPattern()
	if err := top.err(); err != nil {
		return nil, err
	}
	return b, b.also(options.Only)
}

// also compiles a condition that was given beside the brief.
func (b *Brief) also(only string) error {
	if only == "" {
		return nil
	}
	quoted, err := json.Marshal(only) // which is YAML as well
	if err != nil {
		return err
	}
	doc, err := yamldoc.Parse("--only", quoted)
	if err != nil {
		return err
	}
	if e := b.compile(doc.Root(), account.YesNo); e != nil {
		for _, name := range e.Names {
			e.Uses = append(e.Uses, b.Field(name))
		}
		b.Only = append(b.Only, e)
	}
	var problems yamldoc.Problems
	if !errors.As(doc.Err(), &problems) {
		return nil
	}
	for i := range problems {
		problems[i].Column = max(1, problems[i].Column-1) // the quote is not the person's
	}
	return problems
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

func (b *Brief) readPhones(node yamldoc.Node) {
	region, err := codes.NewReader(codes.Unsettled).Read(account.Country, node.Text())
	if err == nil {
		err = codes.KnowsPhones(region)
	}
	if err != nil {
		node.Fail("Write the two-letter code of a country.", "“%s” %s", node.Text(), err)
	}
	b.Phones = region
}

// oneTab reports a brief that names one tab as well as several.
func (b *Brief) oneTab(node yamldoc.Node) {
	if b.Tab != "" && len(b.Tabs) > 0 {
		node.Fail("Keep “tab” for one, or “tabs” for several.", "the brief names both a tab and several")
	}
}

// fieldSource is a field of the file whose expression is still to be compiled.
type fieldSource struct {
	field Field
	at    yamldoc.Node
	make  yamldoc.Node
	when  yamldoc.Node
	other []yamldoc.Node // further formulas

	// Where the file says it, for what is seen once the kind of the field is known.
	fallback, served, via, viaSheet, oneOf, clear yamldoc.Node
}

func (b *Brief) readFields(pairs []yamldoc.Pair, root yamldoc.Node, options Options) []fieldSource {
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
		source := readField(pair, folders{options.Dir, options.Root})
		known, inCatalogue := account.FieldNamed(pair.Key)
		switch {
		case len(source.field.Parts) > 0:
			var names []string
			for _, part := range source.field.Parts {
				names = append(names, part.Name)
			}
			known = account.Field{Name: account.WithParts(pair.Key, names), Label: pair.Key, Kind: account.List}
		case inCatalogue:
			known.Kind = max(known.Kind, source.field.Kind) // "as" may only narrow a text
			if known.Kind == account.Person && source.field.Refers == "" {
				source.field.Refers = "userName"
			}
		case slices.Contains(aliases, pair.Key) || options.isOwn(b.System, pair.Key) || !source.field.Send:
			known = account.Field{Name: pair.Key, Label: pair.Key, Kind: source.field.Kind}
		case options.Own != nil && has(options.Own(b.System), pair.Key):
			known = account.Field{Name: pair.Key, Label: pair.Key, Kind: max(options.Own(b.System)[pair.Key], source.field.Kind)}
		default:
			remedy := "Use a field of the catalogue, an alias of evenledger.yaml, the system's name of it (“evenledger fields” lists them), or “send: false” if only expressions use it."
			if near := words.Nearest(pair.Key, append(account.FieldNames(), aliases...)); near != "" {
				remedy = fmt.Sprintf("Did you mean “%s”?", near)
			} else if field, ok := account.NewHeadings().Field(pair.Key); ok {
				remedy = fmt.Sprintf("Did you mean “%s”?", field.Name)
			}
			pair.At.Fail(remedy, "there is no field “%s”", pair.Key)
			continue
		}
		if source.field.Field = known; known.Name == account.ID {
			source.field.KeyOnly = true
		}
		checkFallback(&source, pair)
		fields = append(fields, source)
	}
	return fields
}

func has(kinds map[string]account.Kind, name string) bool {
	_, is := kinds[name]
	return is
}

func readField(pair yamldoc.Pair, in folders) fieldSource {
	source := fieldSource{field: Field{Send: true, FallbackFor: ForNew}, at: pair.At}
	source.field.Line, _ = pair.At.Position()
	f := &source.field
	pair.Value.Read(source.keys(in))
	if f.Family() {
		f.Kind = account.List
	}
	if f.Mode != "" && f.Kind != account.List {
		pair.At.Fail("Add “split”, or take “mode” out.", "“mode” is for a field with several values, and %s has one", pair.Key)
	}
	if len(f.Parts) > 0 && !slices.ContainsFunc(f.Parts, func(part Part) bool { return part.From != "" }) {
		pair.At.Fail("Give at least one part the heading of a column.", "the parts of %s have no column", pair.Key)
	}
	switch {
	case f.FallsAt != "" && !f.Fallback.Present():
		pair.At.Fail("Add “fallback: VALUE”, or take it out.", "“fallback_when” says where a fallback counts, and the field %s has none", pair.Key)
	case source.served.Exists() && !f.Fallback.Present():
		source.served.Fail("Add “fallback: VALUE”, or take it out.", "“fallback_for” says who gets a fallback, and there is none")
	case pair.Key == "active" && f.FallbackFor == ForAll && !strings.EqualFold(f.Fallback.Text(), "false"):
		source.served.Fail("Leave “fallback_for” out, and let a column or an intent say who may sign in again.", "a blank cell would let people back in who are suspended")
	case len(f.Parts) > 0 && f.OneOf != nil:
		pair.At.Fail("Take it out, and write a check instead.", "with “parts”, the field %s takes no “one_of”", pair.Key)
	case len(f.Parts) > 0 && (f.From != "" || f.Split != "" || source.make.Exists() || f.Fallback.Present()):
		pair.At.Fail("Take them out.", "with “parts”, the field %s takes no “from”, “split”, “make” or “fallback”", pair.Key)
	case f.Next.High > 0 && (f.Split != "" || len(f.Parts) > 0 || source.make.Exists() || f.Fallback.Present() || f.Unique == UniqueNumber):
		pair.At.Fail("Keep “next”, and “from” for rows that give a number.", "with “next”, the field %s takes no “make”, “fallback”, “split” or “unique: number”", pair.Key)
	case f.Again && f.Next.High == 0:
		pair.At.Fail("Add “next: 20000-29999”, or take it out.", "“again” is about numbers of a range, and the field %s has none", pair.Key)
	case f.Renumber && f.Next.High == 0:
		pair.At.Fail("Add “next: 20000-29999”, or take it out.", "“renumber” gives numbers of a range, and the field %s has none", pair.Key)
	case len(f.Parts) == 0 && f.From == "" && !source.make.Exists() && !f.Fallback.Present() && f.Next.High == 0:
		pair.At.Fail("Give it “from: HEADING”, “make: EXPRESSION” or “fallback: VALUE”.", "the field %s has no source", pair.Key)
	case f.ClearWhenBlank && (f.Fallback.Present() || source.make.Exists() || f.Required || f.From == ""):
		source.clear.Fail("Take it out, or “fallback”, “make” and “required”.", "“clear_when_blank” can have no effect here: a blank cell is never left blank")
	}
	return source
}

// readParts reads the parts of each value of a list.
func (f *Field) readParts(node yamldoc.Node) {
	f.Kind = account.List
	for _, pair := range node.Pairs() {
		part := Part{Name: pair.Key, From: pair.Value.Text()}
		if fixed, is := strings.CutPrefix(part.From, "="); is {
			part.From, part.Fixed = "", fixed
		}
		f.Parts = append(f.Parts, part)
	}
}

// oneTable reports a field with a second table.
func (f *Field) oneTable(node yamldoc.Node) {
	if f.Via != nil {
		node.Fail("Keep one of them.", "“via” and “via_sheet” cannot both be given")
	}
}

// startTable notes what is written in the cells that a table has; what it stands for is read once the kind of the
// field is known.
func (f *Field) startTable(node yamldoc.Node) {
	f.Via, f.ViaExact = map[string]string{}, map[string]string{}
	for _, v := range node.Pairs() {
		f.ViaWords = append(f.ViaWords, v.Key)
	}
}

// readVia reads a table of texts.
func (f *Field) readVia(node yamldoc.Node) {
	f.startTable(node)
	for _, v := range node.Pairs() {
		f.Via[words.NameKey(v.Key)], f.ViaExact[v.Key] = v.Value.Text(), v.Value.Text()
	}
}

// Cells that get a fallback.
const (
	atBlank  = "blank"
	atAbsent = "absent"
)

// Falls reports whether the field gets its fallback where the sheet has a column for it, and no value, or no column.
func (f *Field) Falls(hasColumn bool) bool {
	return f.Fallback.Present() && (f.FallsAt == "" || (f.FallsAt == atBlank) == hasColumn)
}

// A Range is whole numbers from Low to High.
type Range struct{ Low, High int }

// widest is how many numbers a range may have.
const widest = 10_000_000

// readRange reads a range such as 20000-29999.
func readRange(node yamldoc.Node) Range {
	low, high, ok := strings.Cut(node.Text(), "-")
	from, err := strconv.Atoi(strings.TrimSpace(low))
	to, errTo := strconv.Atoi(strings.TrimSpace(high))
	if !ok || err != nil || errTo != nil || from < 1 || to < from || to-from >= widest {
		node.Fail("Write it as 20000-29999, of at most ten million numbers.", "“%s” is not a range of numbers", node.Text())
		return Range{}
	}
	return Range{from, to}
}

// readUnique reads “refuse”, “number”, or the formulas to try in turn, of which
// “number” may be the last.
func (source *fieldSource) readUnique(node yamldoc.Node) {
	f := &source.field
	items := node.Items()
	if len(items) == 0 || len(items) == 1 && !node.IsList() {
		f.Unique = Uniqueness(node.OneOf(string(UniqueRefuse), string(UniqueNumber), string(UniqueInUnit)))
		f.Number = f.Unique == UniqueNumber
		return
	}
	f.Unique = UniqueNumber
	for i, item := range items {
		switch {
		case item.Text() != string(UniqueNumber):
			source.other = append(source.other, item)
		case i < len(items)-1:
			item.Fail("Let it be the last of the list.", "after “number” nothing more is tried, as a number is always free")
		default:
			f.Number = true
		}
	}
}

// folders are those in which files may lie that a brief names.
type folders struct {
	dir  string // the brief's own
	root string // the workspace's; empty: none
}

// file returns the path of a plain file that a brief names. One that came from elsewhere
// is to read nothing but what lies beside it, or in the workspace.
func (in folders) file(name string) (string, error) {
	path := filepath.Join(in.dir, name)
	real, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		return path, nil // that is told where it is opened
	}
	if err != nil {
		return "", err
	}
	inside := func(folder string) bool {
		folder, err := filepath.EvalSymlinks(folder)
		if err == nil {
			folder, err = filepath.Abs(folder)
		}
		real, absErr := filepath.Abs(real)
		at, relErr := filepath.Rel(folder, real)
		return errors.Join(err, absErr, relErr) == nil && filepath.IsLocal(at)
	}
	if filepath.IsAbs(name) || !inside(in.dir) && (in.root == "" || !inside(in.root)) {
		return "", fmt.Errorf("%s does not lie beside the brief, nor in the workspace", name)
	}
	if stat, err := os.Stat(real); err != nil || !stat.Mode().IsRegular() {
		return "", fmt.Errorf("%s is not a plain file", name)
	}
	return path, nil
}

// readTable reads a “via” table from a sheet of two columns beside the brief:
// what is written, and the value it stands for.
func readTable(f *Field, node yamldoc.Node, in folders) {
	name := node.Text()
	if name == "" {
		return
	}
	if f.oneTable(node); f.Via != nil {
		return
	}
	f.Via, f.ViaExact = map[string]string{}, map[string]string{}
	path, err := in.file(name)
	if err != nil {
		node.Fail("Put the table beside the brief.", "%s", err)
		return
	}
	table, err := sheet.Open(path, nil, sheet.Options{HeadingRow: 1})
	if err != nil {
		node.Fail("Name a sheet of two columns beside the brief.", "%s", err)
		return
	}
	defer table.Close()
	if len(table.Info().Headings) < 2 {
		node.Fail("Its first column is what is written, its second the value.", "%s has fewer than two columns", name)
	}
	for row, err := range table.Rows() {
		if err != nil {
			node.Fail("", "%s", err)
			return
		}
		if len(row.Cells) < 2 {
			node.Fail("Fill the second column in.", "%s, row %d has no second cell", name, row.Number)
			return
		}
		from, _ := words.Clean(row.Cells[0])
		to, _ := words.Clean(row.Cells[1])
		if earlier, taken := f.Via[words.NameKey(from)]; taken && earlier != to {
			node.Fail("Keep one of the rows.", "%s, row %d says that “%s” stands for “%s”, and a row above that it stands for “%s”", name, row.Number, from, to, earlier)
			return
		}
		f.ViaWords = append(f.ViaWords, from)
		f.Via[words.NameKey(from)], f.ViaExact[from] = to, to
	}
}

// checkFallback sees that a fallback, the values of a via table and those of “one_of” are of
// the field's kind, and the former among the latter.
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
	for _, text := range f.OneOfWords {
		value := read(text, source.oneOf)
		f.OneOf[words.NameKey(value)] = value
	}
	if source.fallback.Exists() {
		f.Fallback = account.Of(read(f.Fallback.Text(), source.fallback))
	}
	for _, v := range source.via.Pairs() {
		value := read(v.Value.Text(), v.Value)
		if pair.Key == "active" && v.Key == "" && value == "true" {
			v.At.Fail("Take it out, and let a column or an intent say who may sign in again.", "a blank cell would let people back in who are suspended")
		}
		f.Via[words.NameKey(v.Key)], f.ViaExact[v.Key] = value, value
	}
	if source.viaSheet.Exists() {
		for _, from := range f.ViaWords {
			value := read(f.ViaExact[from], source.viaSheet)
			f.Via[words.NameKey(from)], f.ViaExact[from] = value, value
		}
	}
	if f.OneOf != nil {
		inBrief := append(slices.Sorted(maps.Values(f.ViaExact)), account.Items(f.Fallback.Text())...)
		for _, value := range inBrief {
			if _, allowed := f.OneOf[words.NameKey(value)]; !allowed && value != "" {
				pair.At.Fail("Add it to “one_of”, or give another.", "%s would become “%s”, which “one_of” does not allow", pair.Key, value)
			}
		}
	}
}

func (b *Brief) readMatch(node, root yamldoc.Node) {
	items := node.Items()
	for i, item := range items {
		if item.IsText() || !node.IsList() {
			if text := item.Text(); text != "" {
				b.Match = append(b.Match, text)
			}
			continue
		}
		for _, pair := range item.Pairs("like") {
			if b.Like = pair.Value.Texts(); i < len(items)-1 {
				pair.At.Fail("Let it be the last of the list.", "“like” is for rows that no key finds")
			}
		}
	}
	if len(b.Match)+len(b.Like) == 0 && root.Exists() {
		root.Fail("Add “match: [employeeNumber]” or another key that is in the sheet.", "the brief does not say which field finds an account")
	}
}

// compileAll orders the fields and compiles every expression.
func (b *Brief) compileAll(only yamldoc.Node, fields []fieldSource, checks []yamldoc.Node) {
	plain := make([]Field, len(fields))
	for i, f := range fields {
		plain[i] = f.field
	}
	b.env = newEnv(plain, b.today)
	names := make([]string, len(fields))
	for i := range fields {
		f := &fields[i]
		names[i] = f.field.Name
		if f.make.Exists() {
			f.field.Make = b.compile(f.make, f.field.Kind)
		}
		if f.when.Exists() {
			f.field.When = b.compile(f.when, account.YesNo)
		}
		for _, node := range f.other {
			if e := b.compile(node, f.field.Kind); e != nil {
				f.field.Others = append(f.field.Others, e)
			}
		}
	}
	b.order(fields)
	for i, f := range b.Fields {
		b.index[f.Name] = i
	}
	oneNumbered(fields)
	b.matchesNobodyElse(fields)
	if b.Password.make.Exists() {
		b.Password.Make = b.compile(b.Password.make, account.Text)
	}
	if only.Exists() {
		if e := b.compile(only, account.YesNo); e != nil {
			b.Only = append(b.Only, e)
		}
	}
	for _, node := range checks {
		b.readCheck(node)
	}
	b.matchesFields(fields, names, only)
}

// nameFields are those that people share with their namesakes.
var nameFields = []string{"givenName", "familyName", "middleName", "formattedName", "displayName", "nickName", "honorificPrefix", "honorificSuffix"}

// matchesNobodyElse reports keys that are made of names, where there is no other: they would take a namesake for the person. Behind
// another key they do no harm, as whom that key says to be somebody else is refused.
func (b *Brief) matchesNobodyElse(fields []fieldSource) {
	if slices.ContainsFunc(b.Match, func(name string) bool { i := b.Field(name); return i < 0 || !b.isOfNames(i, 0) }) {
		return
	}
	for _, f := range fields {
		if i := b.Field(f.field.Name); i >= 0 && slices.Contains(b.Match, f.field.Name) && b.isOfNames(i, 0) {
			f.at.Fail("Match by a staff number or another value that the sheet itself has. If there is none: “match: [{like: [givenName, familyName]}]”, and “evenledger candidates” lets a person decide.", "accounts would be found by “%s”, which the brief makes of people's names: a namesake would be taken for the person", f.field.Name)
		}
	}
}

// isOfNames reports whether a field is made of nothing but names.
func (b *Brief) isOfNames(i, depth int) bool {
	f := &b.Fields[i]
	if f.From != "" || f.Make == nil || depth > len(b.Fields) || len(f.Make.Names) == 0 || strings.Contains(f.Make.Source, "col[") {
		return false
	}
	return !slices.ContainsFunc(f.Make.Names, func(used string) bool {
		at := b.Field(used)
		return !slices.Contains(nameFields, used) && (at < 0 || !b.isOfNames(at, depth+1))
	})
}

// oneNumbered reports fields that cannot get a number behind their values.
func oneNumbered(fields []fieldSource) {
	numbered := 0
	for _, f := range fields {
		if f.field.Unique != UniqueNumber && f.field.Unique != UniqueInUnit {
			continue
		}
		if f.field.Unique == UniqueNumber {
			numbered++
		}
		if numbered > 1 && f.field.Unique == UniqueNumber {
			f.at.Fail("Use “unique: refuse” for the others.", "only one field of a brief can have “unique: number”")
		}
		if f.field.Kind != account.Text && f.field.Kind != account.Login && !(f.field.Kind == account.Email && f.field.Unique == UniqueNumber) {
			f.at.Fail("Use “unique: refuse”.", "“unique: %s” cannot put a number behind a value of kind %s", f.field.Unique, f.field.Kind)
		}
	}
}

func (b *Brief) readCheck(node yamldoc.Node) {
	check := Check{Level: account.Error}
	var that yamldoc.Node
	node.Read(check.keys(&that))
	if !that.Exists() || check.Say == "" {
		node.Fail("Write {that: EXPRESSION, say: what is wrong when it does not hold}.", "a check needs both “that” and “say”")
		return
	}
	if check.That = b.compile(that, account.YesNo); check.That != nil {
		b.Checks = append(b.Checks, check)
	}
}

func (b *Brief) readReown(node yamldoc.Node) {
	b.Reown = &Reown{}
	folders := node
	if !node.IsList() && !node.IsText() {
		node.Read(b.Reown.keys(&folders))
	}
	for _, item := range folders.Items() {
		path := item.Text()
		if b.Reown.Folders = append(b.Reown.Folders, path); !strings.HasPrefix(path, "/") || strings.ContainsAny(path, "\x00\n") || path != pathpkg.Clean(path) {
			item.Fail("Write it in full, such as /home.", "“%s” is no full path of a folder", path)
		}
	}
	if len(b.Reown.Folders) == 0 {
		node.Fail("Write it as “reown: [/home, /srv]”.", "“reown” names no folder")
	}
}

// alikeFields reports fields to be compared that the brief does not give.
func (b *Brief) alikeFields(names []string, at yamldoc.Node) {
	for _, name := range b.Like {
		if !slices.Contains(names, name) {
			at.Fail("Add the field, with “send: false” if the system is not to have it, or compare: "+strings.Join(names, ", ")+".", "“like” names %s, which is not among the fields", name)
		}
	}
}

// matchesFields reports keys that are no fields of the brief, or that the system hasn't.
func (b *Brief) matchesFields(fields []fieldSource, names []string, only yamldoc.Node) {
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
}

// uses notes for every expression where the fields it uses stand.
func (b *Brief) uses() {
	for _, e := range b.Expressions() {
		for _, name := range e.Names {
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
			cmp.Or(f.make, f.when).Fail("Make one of them from a column, or from something else.", "fields are made from each other in a circle: %s", strings.Join(circle, " ← "))
			return
		}
		state[name] = visiting
		path = append(path, name)
		if f.field.Make != nil {
			for _, used := range f.field.Make.Names {
				visit(byName[used])
			}
		}
		for _, other := range f.field.Others {
			for _, used := range other.Names {
				visit(byName[used])
			}
		}
		if f.field.When != nil {
			for _, used := range f.field.When.Names {
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

// Expressions lists every expression of the brief.
func (b *Brief) Expressions() []*Expr {
	var all []*Expr
	all = append(all, b.Only...)
	for _, f := range b.Fields {
		if f.Make != nil {
			all = append(all, f.Make)
		}
		all = append(all, f.Others...)
		if f.When != nil {
			all = append(all, f.When)
		}
	}
	for _, c := range b.Checks {
		all = append(all, c.That)
	}
	for _, r := range b.Rules {
		all = append(all, r.When)
	}
	if b.Password.Make != nil {
		all = append(all, b.Password.Make)
	}
	for _, n := range b.Notices {
		all = append(all, n.expressions()...)
	}
	for _, f := range b.FollowUps {
		all = append(all, f.expressions()...)
	}
	return all
}
