package brief

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// A Mode says what becomes of what is there when a row names something.
type Mode string

// The modes. Without one, memberships are added and lists of values exact.
const (
	Add   Mode = "add"    // what is there stays
	Exact Mode = "exact"  // afterwards there is just what the row names
	Drop  Mode = "remove" // what the row names is taken away
)

// kinds are the kinds of memberships a brief can name.
var kinds = []string{"groups", "courses", "licences", "roles"}

// Kinds lists the kinds of memberships a brief can name. The slice must not be
// changed.
func Kinds() []string { return kinds }

// Memberships is where memberships of one kind come from and what is done with
// them.
type Memberships struct {
	Column         Field // From, Split and Via of the names; a List
	Kind           string
	Role           string // heading of the column with the role, or empty
	RoleVia        Field  // Via of the roles
	Section        string
	Fallback       []string
	FallbackFor    FallbackFor
	Mode           Mode
	Within         []string // patterns of names, with Exact; none: any
	MakeMissing    bool
	ClearWhenBlank bool
	Untouched      bool // they are passed over

	mentions []Mention // while the brief is read
}

// A Mention is a thing that the brief itself names, and not a sheet: whether there is such a one, only the system can say.
type Mention struct {
	Of   int             // index in Brief.Memberships
	Name string          // perhaps with a role and section in brackets; empty: it is only a role
	Role string          // which some thing of the kind is to have; empty: none
	At   yamldoc.Problem // where, without a message
}

// mention notes a thing that is named.
func (m *Memberships) mention(node yamldoc.Node, role bool) {
	text := node.Text()
	switch {
	case text == "":
	case role:
		m.mentions = append(m.mentions, Mention{Role: text, At: node.Problem()})
	default:
		m.mentions = append(m.mentions, Mention{Name: text, At: node.Problem()})
	}
}

// A Rule gives memberships to rows for which a condition holds.
type Rule struct {
	When  *Expr
	Names map[int][]string // index in Brief.Memberships → names or ids
}

// A Leaving is what goes with suspending an account.
type Leaving struct {
	Set   []account.Change    // fields with the value they get
	Leave map[string][]string // kind → patterns of the names of what is left

	RemoveAfter int // days after which they are removed; 0: never
}

// A Limit is the most of something in one batch: a number, or a share of the
// accounts there are.
type Limit struct {
	Most  int
	Share float64 // in percent; 0: it is a number
	Text  string  // as the brief has it
}

// Allows returns how many the limit allows where there are total accounts.
func (l Limit) Allows(total int) int {
	if l.Share > 0 {
		return int(l.Share*float64(total)/100 + 1e-9) // 29 % of 100 are 29, whatever a float makes of it
	}
	return l.Most
}

// readMemberships reads what the brief says of each kind: one table, or a list of
// them.
func (b *Brief) readMemberships(top *layers, in folders) {
	for _, kind := range kinds {
		for _, node := range top.get(kind).Items() {
			m := Memberships{Kind: kind, Mode: Add, FallbackFor: ForNew}
			f := &m.Column
			f.Kind, f.Name, f.Label = account.Text, kind, strings.TrimSuffix(kind, "s")
			given := node.Read(m.keys(in))
			switch {
			case f.From == "" && len(m.Fallback) == 0 && !(m.Mode == Exact && b.has(top, kind)):
				node.Fail("Give it “from: HEADING”, or “fallback: [NAME]”.", "the %s have no source", kind)
			case len(m.Within) > 0 && m.Mode != Exact:
				given["within"].Fail("Add “mode: exact”, or take it out.", "“within” says what “mode: exact” may take away, and the mode is %s", m.Mode)
			case m.ClearWhenBlank && (m.Mode != Exact || len(m.Fallback) > 0):
				node.Fail("Add “mode: exact”, or take it out; with “fallback” a blank is never left blank.", "“clear_when_blank” can have no effect here")
			case IsFamily(m.Role) != f.Family() && m.Role != "", IsFamily(m.Section) != f.Family() && m.Section != "":
				node.Fail("Write a star in each of them, or in none.", "“%s” and its role or section cannot be paired", f.From)
			}
			for _, mention := range m.mentions {
				mention.Of = len(b.Memberships)
				b.Mentions = append(b.Mentions, mention)
			}
			m.mentions = nil
			b.Memberships = append(b.Memberships, m)
		}
	}
}

// has reports whether a rule of the brief names things of a kind.
func (b *Brief) has(top *layers, kind string) bool {
	return slices.ContainsFunc(top.items("rules"), func(node yamldoc.Node) bool {
		return slices.ContainsFunc(node.Pairs(), func(p yamldoc.Pair) bool { return p.Key == kind })
	})
}

// readRules reads the rules. What a rule gives is added to what the columns give
// of its kind, and follows their mode.
func (b *Brief) readRules(nodes []yamldoc.Node) {
	for _, node := range nodes {
		rule := Rule{Names: map[int][]string{}}
		node.Read(b.ruleKeys(&rule))
		if rule.When == nil || len(rule.Names) == 0 {
			node.Fail("Write {when: EXPRESSION, groups: [NAME]}.", "a rule needs “when” and what it gives")
			continue
		}
		b.Rules = append(b.Rules, rule)
	}
}

// gives notes what a rule gives of a kind.
func (b *Brief) gives(rule *Rule, kind string, names yamldoc.Node) {
	i := slices.IndexFunc(b.Memberships, func(m Memberships) bool { return m.Kind == kind && m.Mode != Drop })
	if i < 0 {
		i = len(b.Memberships)
		b.Memberships = append(b.Memberships, Memberships{Kind: kind, Mode: Add, Column: Field{Field: account.Field{Name: kind, Label: strings.TrimSuffix(kind, "s")}}})
	}
	rule.Names[i] = names.Texts()
	for _, item := range names.Items() {
		if item.Text() != "" {
			b.Mentions = append(b.Mentions, Mention{Of: i, Name: item.Text(), At: item.Problem()})
		}
	}
}

// intentField is the name of the field that carries a row's intent.
const intentField = "intent"

// intentWords are what a row's intent may be.
var intentWords = []string{string(account.Create), string(account.Update), string(account.Suspend), string(account.Resume), string(account.Remove), string(account.Aside)}

// IntentWords lists what a row's intent may be. The slice must not be changed.
func IntentWords() []string { return intentWords }

// readIntent reads the column with the rows' own intents.
func (b *Brief) readIntent(node yamldoc.Node) fieldSource {
	source := fieldSource{field: Field{Field: account.Field{Name: intentField, Label: "intent"}, FallbackFor: ForNew}, at: node}
	source.field.Line, _ = node.Position()
	node.Read(source.intentKeys())
	if f := &source.field; f.From == "" && !source.make.Exists() && !f.Fallback.Present() {
		node.Fail("Give it “from: HEADING”, “make: EXPRESSION” or “fallback: VALUE”.", "the field %s has no source", intentField)
	}
	return source
}

// readGuards reads what goes with suspending, and what holds a batch back.
func (b *Brief) readGuards(top *layers, options Options) {
	b.Suspending.Leave = map[string][]string{}
	var then yamldoc.Node
	yamldoc.Take(top.pairs("suspend", yamldoc.Names(b.suspendKeys(nil))...), b.suspendKeys(&then))
	yamldoc.Take(top.pairs("resume", yamldoc.Names(b.resumeKeys())...), b.resumeKeys())
	b.Limits = map[account.Intent]Limit{}
	yamldoc.Take(top.pairs("limits", yamldoc.Names(b.limitKeys())...), b.limitKeys())
	if then.Exists() {
		b.readThen(then)
	}
	scope, gone := top.get("scope"), top.get("gone")
	if scope.Exists() {
		var err error
		if b.Scope, err = Condition(account.Fields(), scope.Text(), options.Today); err != nil {
			scope.Fail("Use the fields of an account, such as department == \"Deck\".", "in the expression: %s", strings.TrimPrefix(strings.ReplaceAll(firstProblem(err), "\n", " "), "in the expression: "))
		}
	}
	if gone.Exists() && gone.OneOf("keep", string(Suspend)) == string(Suspend) {
		b.Gone = Suspend
		if len(b.Match) == 0 {
			gone.Fail("Match by a key that the sheet itself has.", "“gone” says what is done with accounts that the sheet does not list, and without a key nobody can say which those are")
		}
		if _, limited := b.Limits[account.Suspend]; !limited || b.Scope == nil {
			gone.Fail("Add “scope: CONDITION”, which says whose accounts the sheet lists, and “limits: {suspend: 5%}”.", "“gone: suspend” needs both “scope” and a limit on suspending: else a sheet that came half could lock everyone out")
		}
	}
}

// readThen reads what becomes of suspended accounts after a while.
func (b *Brief) readThen(node yamldoc.Node) {
	found := regexp.MustCompile(`^remove after ([1-9][0-9]{0,3}) days?$`).FindStringSubmatch(strings.Join(strings.Fields(node.Text()), " "))
	if found == nil {
		node.Fail("Write “remove after 30 days”.", "“%s” is nothing that becomes of suspended accounts", node.Text())
		return
	}
	b.Suspending.RemoveAfter, _ = strconv.Atoi(found[1])
	if _, limited := b.Limits[account.Remove]; !b.MayRemove || !limited {
		node.Fail("Add “allow_remove: true” and “limits: {remove: 5}”.", "“then” needs both “allow_remove” and a limit on removing: what is removed cannot be brought back")
	}
}

func firstProblem(err error) string {
	if problems, ok := err.(yamldoc.Problems); ok && len(problems) > 0 {
		return problems[0].Message
	}
	return err.Error()
}

func readSet(node yamldoc.Node) []account.Change {
	var set []account.Change
	for _, p := range node.Pairs() {
		set = append(set, account.Change{Field: p.Key, After: account.Of(p.Value.Text())})
	}
	return set
}

func readLimit(node yamldoc.Node) Limit {
	text := strings.TrimSpace(node.Text())
	number, percent := strings.CutSuffix(text, "%")
	n, err := strconv.ParseFloat(number, 64)
	if err != nil || !(n >= 0 && n <= 1e9) || percent && n > 100 || !percent && n != float64(int(n)) {
		node.Fail("Write a number, or a share such as 5%.", "“%s” is not a limit", text)
		return Limit{}
	}
	if percent {
		return Limit{Share: max(n, 1e-9), Text: text}
	}
	return Limit{Most: int(n), Text: text}
}

// A Password is where passwords come from.
type Password struct {
	New      string // of new accounts: "generate", "given", or "" for none
	Known    string // of accounts that are there: likewise; "" leaves them as they are
	From     string // heading of the column, with given
	Blank    bool   // with new accounts and given: one is generated where none is
	Length   int
	Alphabet string
	Words    int // 0: characters
	Make     *Expr
	Change   bool // another has to be chosen at the first sign-in

	make yamldoc.Node
}

// Generates reports whether passwords are made for some rows or all.
func (p *Password) Generates() bool { return p.New == "generate" || p.Blank || p.Known == "generate" }

// Given reports whether rows may give passwords.
func (p *Password) Given() bool { return p.New == "given" || p.Known == "given" }

// Renews reports whether a row that gives this password, sealed or not, has the account
// that is there get another.
func (p *Password) Renews(given string) bool {
	return p.Known == "generate" || p.Known == "given" && given != ""
}

// Recipe is how a password is made; pattern is what Make gave.
func (p *Password) Recipe(pattern string) secret.Recipe {
	return secret.Recipe{Length: p.Length, Alphabet: p.Alphabet, Words: p.Words, Pattern: pattern}
}

// legible are letters and digits that cannot be mistaken for each other.
const legible = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"

// unless is a word, or nothing where it is that which says so.
func unless(node yamldoc.Node, none string) string {
	if word := node.Text(); word != none {
		return word
	}
	return ""
}

func (b *Brief) readPassword(pairs []yamldoc.Pair, node yamldoc.Node) {
	p := &b.Password
	p.Length, p.Alphabet = 16, legible
	at := yamldoc.Take(pairs, p.keys())
	if !node.Exists() {
		return
	}
	if p.Given() && p.From == "" {
		node.Fail("Add “from: HEADING”.", "the given passwords have no column")
	}
	if !p.Given() && p.From != "" {
		node.Fail("Add “new: given” or “known: given”, or take “from” out.", "a column with passwords is named, and they are not to be given")
	}
	if p.New != "given" && p.Blank {
		at["when_blank"].Fail("Add “new: given”, or take it out.", "“when_blank” is for passwords that are given, and they are not")
	}
	ways := []string{"make", "words", "length", "alphabet"}
	for _, key := range ways {
		if node, said := at[key]; said && !p.Generates() {
			node.Fail("Take it out, or write “new: generate” or “known: generate”, or “when_blank: generate” beside “new: given”.", "“%s” says how passwords are made, and none is made", key)
		}
	}
	for i, key := range ways[:2] {
		for _, other := range ways[i+1:] {
			if _, both := at[other]; both && at[key].Exists() {
				at[other].Fail("Keep one of them.", "“%s” and “%s” cannot both say how passwords are made", key, other)
			}
		}
	}
	if !p.Generates() || p.make.Exists() || p.Length == 0 {
		return
	}
	if bits := p.Recipe("").Bits(); bits < secret.Enough {
		node.Fail("Make them longer, or leave “length” and “alphabet” out.", "passwords made like this can be guessed: there are 2^%.0f of them, and 2^%d is the least", bits, secret.Enough)
	}
}

// checkPattern sees that the pattern of passwords, if it is the same for all rows,
// leaves enough to chance.
func (b *Brief) checkPattern() {
	p := &b.Password
	if p.Make == nil || len(p.Make.Names)+len(p.Make.Columns) > 0 {
		return
	}
	pattern, err := p.Make.Text(b.NewScope(nil))
	if err != nil {
		p.make.Fail("Write a pattern such as 'Qx-####-****-####-****'.", "the pattern of the password %s", err)
	} else if bits := p.Recipe(pattern).Bits(); bits < secret.Enough {
		p.make.Fail("Put more # (a digit) and * (a letter) into it.", "passwords made like “%s” can be guessed: there are 2^%.0f of them, and 2^%d is the least", pattern, bits, secret.Enough)
	}
}
