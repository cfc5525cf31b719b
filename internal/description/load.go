package description

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/expr"
	"evenledger/internal/yamldoc"
)

// Load reads a description. Mistakes in its file are yamldoc.Problems. Today is the day it is taken to be.
func Load(path, today string) (*Interface, error) {
	data, err := yamldoc.ReadFile(path)
	if err != nil {
		return nil, err
	}
	i, err := Parse(filepath.Base(path), data, today)
	if err == nil && i.Account.Schema != "" && !strings.Contains(i.Account.Schema, "://") && !filepath.IsAbs(i.Account.Schema) {
		i.Account.Schema = filepath.Join(filepath.Dir(path), i.Account.Schema)
	}
	return i, err
}

// Parse reads a description out of the file of that name.
func Parse(name string, data []byte, today string) (*Interface, error) {
	doc, err := yamldoc.Parse(name, data)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(data)
	i := &Interface{Version: hex.EncodeToString(sum[:])}
	r := newReader(i, today)
	r.read(doc.Root())
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return i, nil
}

// Ready readies what templates are compiled over, once all fields are known.
func (i *Interface) ready(today string) {
	var vars []expr.Variable
	for _, f := range i.Account.Fields {
		vars = append(vars, expr.Variable{Name: f.Name, Type: expr.TypeOf(f.Kind)})
	}
	for _, name := range own {
		vars = append(vars, expr.Variable{Name: name, Type: expr.Text})
	}
	i.env = expr.NewEnv(vars, today)
}

// A reader reads a description: first all of it, then what is judged with all fields known.
type reader struct {
	*Interface
	today string
	tests *expr.Env
	maker *maker
	later []func()

	create             Create
	together           Together
	finding            Finding
	read1, remove, pwd Call
	suspend, resume    Call
	jobs               Jobs
	changes            yamldoc.Node
	fields, things     yamldoc.Node
}

func newReader(i *Interface, today string) *reader {
	return &reader{Interface: i, today: today, tests: tests(today)}
}

func (r *reader) read(root yamldoc.Node) {
	given := root.Read(r.keys())
	r.readFields(root)
	r.ready(r.today)
	r.maker = &maker{env: r.env}
	for _, pair := range r.things.Pairs() {
		r.readThings(pair)
	}
	r.readChanges()
	for _, do := range r.later {
		do()
	}
	for at, call := range map[**Call]*Call{&r.Read: &r.read1, &r.Remove: &r.remove, &r.Password: &r.pwd, &r.Suspend: &r.suspend, &r.Resume: &r.resume} {
		if call.Method != "" {
			*at = call
		}
	}
	if r.finding.Method != "" {
		r.Finding = &r.finding
	}
	if r.together.Method != "" {
		r.Together = &r.together
	}
	if r.create.Method != "" {
		r.Create = &r.create
		if !r.create.Body.Is {
			r.create.Body.Is, r.create.Body.Whole = true, true
		}
	}
	if given.Has("jobs") {
		r.Jobs = &r.jobs
	}
	r.fit(root, given)
}

// fit sees that a description goes together.
func (r *reader) fit(root yamldoc.Node, given yamldoc.Given) {
	at := func(key string) yamldoc.Node {
		if node, has := given[key]; has {
			return node
		}
		return root
	}
	if r.Account.ID == nil {
		at("account").Fail("Add “id: …”: the path at which its JSON has it.", "nothing says where an account's identifier stands")
	}
	if len(r.Account.Fields) == 0 {
		at("account").Fail("Add “fields: {userName: …}”.", "nothing says where an account's fields stand")
	}
	if r.Listing.Method == "" {
		at("list").Fail("Add “list: {get: …, items: …}”.", "nothing says how all accounts are listed")
	}
	if r.Read == nil {
		at("read").Fail("Add “read: {get: \".../{id}\"}”.", "nothing says how one account is read")
	}
	if _, has := r.Account.Field(active); !has && (r.Suspend != nil || r.Resume != nil) {
		at("suspend").Fail("Add “active” to the fields: where its JSON says whether somebody may sign in.", "accounts are suspended, and nothing shows which are")
	}
	if (r.Suspend == nil) != (r.Resume == nil) {
		at("suspend").Fail("Describe both.", "one of suspend and resume is described, and the other is not: what is done could not be undone")
	}
	for name, call := range map[string]*Call{"read": r.Read, "suspend": r.Suspend, "resume": r.Resume, "remove": r.Remove, "password": r.Password} {
		if call != nil && !call.Uses("id") && !r.usesUnique(call) {
			at(name).Fail("Let {id} stand in its path or body.", "%s does not say which account is meant", name)
		}
	}
	if r.Password != nil && !r.Password.Uses("password") {
		at("password").Fail("Let {password} stand in its body.", "the request for a password has none in it")
	}
	if f := r.Finding; f != nil {
		for field := range f.Params {
			if _, has := r.Account.Field(field); !has {
				at("find").Fail(yamldoc.DidYouMean(field, r.Account.Names()), "accounts are found by “%s”, and no such field is described", field)
			}
		}
		if len(f.Params) == 0 {
			at("find").Fail("Add “by: {FIELD: PARAMETER}”.", "nothing says by which fields accounts are found")
		}
		if f.Most > 1 && f.Join == "" && !f.Repeat {
			at("find").Fail("Add “join: \",\"” or “repeat: true”.", "nothing says how several values stand in one request")
		}
	}
	if r.Together != nil && r.Create == nil {
		at("create_together").Fail("Describe “create” as well: one that is left over is made by itself.", "accounts are only made together")
	}
	if r.Jobs != nil && (r.jobs.Done == nil || !r.jobs.Located && r.jobs.At == nil) {
		at("jobs").Fail("Such as: jobs: {located: true, done: 'body.state == \"done\"', failed: 'body.state == \"failed\"'}", "nothing says where something that was taken in is asked for, or when it is done")
	}
}

// usesUnique reports whether a field that no two accounts share says which account a request is about.
func (r *reader) usesUnique(call *Call) bool {
	return slices.ContainsFunc(r.Account.Fields, func(f Field) bool { return f.Unique && call.Uses(f.Name) })
}

// Uses reports whether a name stands in an expression of the request.
func (c *Call) Uses(name string) bool {
	if c.Path.Uses(name) || c.Body.uses(name) {
		return true
	}
	for _, all := range []map[string]Template{c.Query, c.Header} {
		for _, t := range all {
			if t.Uses(name) {
				return true
			}
		}
	}
	return false
}

// readFields reads the account's fields.
func (r *reader) readFields(root yamldoc.Node) {
	for _, pair := range r.fields.Pairs() {
		f := Field{Name: pair.Key}
		known, is := account.FieldNamed(f.Name)
		if f.Kind = known.Kind; is {
			f.Unique = f.Name == "userName"
		}
		if f.Name == account.ID || slices.Contains(own[:], f.Name) {
			pair.At.Fail("Name it otherwise.", "“%s” is no field: requests use the name for something else", f.Name)
		}
		if pair.Value.IsText() {
			r.path(&f.At)(pair.Value)
		} else {
			r.readField(pair, &f)
		}
		if slices.ContainsFunc(r.Account.Fields, func(o Field) bool { return o.Where == nil && f.Where == nil && slices.Equal(o.At, f.At) }) && f.At != nil {
			pair.At.Fail("Keep one of them.", "two fields stand at %s", f.At)
		}
		r.Account.Fields = append(r.Account.Fields, f)
	}
}

func (r *reader) readField(pair yamldoc.Pair, f *Field) {
	var list yamldoc.Node
	pair.Value.Read(r.fieldKeys(f, &list))
	switch {
	case f.At == nil:
		pair.At.Fail("Add “at: PATH”, or “list: PATH” with “where” and “value”, or with “parts”.", "nothing says where %s stands", f.Name)
	case f.Where != nil && f.Value == nil:
		pair.At.Fail("Add “value: PATH”.", "nothing says where in an element of %s the value of %s stands", f.At, f.Name)
	case f.Where != nil && f.Parts != nil:
		pair.At.Fail("Keep one of them.", "%s is one element of a list (where), or all of it (parts)", f.Name)
	case f.Kind == account.Place:
		pair.At.Fail("Keep it as a text under another name.", "“%s” is a place in a tree, which such an application does not have", f.Name)
	}
	if _, known := account.FieldNamed(f.Name); !known && f.Kind == account.Text { // as it is written tells of one of its own
		f.Kind = map[Written]account.Kind{AsTime: account.Date, AsSecond: account.Date, AsNumber: account.Number, AsTruth: account.YesNo}[f.As]
	}
	if f.Parts != nil {
		f.Name, f.Kind = account.WithParts(f.Name, f.Parts), account.List
	} else if list.Exists() && f.Where == nil {
		f.Kind = account.List
	}
	for word := range f.Words {
		if f.Kind == account.YesNo && word != "true" && word != "false" {
			pair.At.Fail("Write true: … and false: ….", "%s is yes or no, and “%s” is neither", f.Name, word)
		}
	}
}

// readChanges reads how fields are changed: one way, or several with the fields of each.
func (r *reader) readChanges() {
	nodes := r.changes.Items()
	r.Changes = make([]Change, len(nodes))
	for n, node := range nodes {
		c, body := &r.Changes[n], yamldoc.Node{}
		node.Read(append(r.call(&c.Call, nil, "id"), r.changeKeys(c, &body)...))
		r.later = append(r.later, func() {
			switch body.IfText() {
			case "", "merge":
				c.Form = Merge
			case "patch":
				c.Form = Patch
			case "whole":
				c.Form = Whole
			default:
				c.Form, c.Body = Filled, Body{Is: true, tree: r.maker.tree(body, []string{"id"}), form: c.Body.form}
			}
			if !c.Uses("id") && !r.usesUnique(&c.Call) {
				node.Fail("Let {id} stand in its path or body.", "change does not say which account is meant")
			}
			for _, name := range c.Fields {
				if _, has := r.Account.Field(name); !has {
					node.Fail(yamldoc.DidYouMean(name, r.Account.Names()), "“%s” is changed like this, and no such field is described", name)
				} else if c.Form == Filled && !c.Uses(name) {
					node.Fail("Let {"+name+"} stand in it.", "“%s” is changed like this, and does not stand in what is sent", name)
				}
			}
			if n < len(r.Changes)-1 && len(c.Fields) == 0 {
				node.Fail("Add “fields: […]”, or put it last.", "all fields are changed like this, so that what follows is never asked for")
			}
		})
	}
}

// path reads a path.
func (r *reader) path(at *Path) func(yamldoc.Node) {
	return func(n yamldoc.Node) {
		p, err := ParsePath(n.Text())
		if err != nil {
			n.Fail("Such as name.first; a name with a point in it stands in quotes.", "“%s”: %s", n.Text(), err)
		}
		*at = p
	}
}

// list reads the path of a list; a point alone is the answer itself.
func (r *reader) list(at *Path) func(yamldoc.Node) {
	return func(n yamldoc.Node) {
		if n.Text() != "." {
			r.path(at)(n)
		}
	}
}

// test reads an expression over an answer.
func (r *reader) test(at **Test) func(yamldoc.Node) {
	return func(n yamldoc.Node) {
		made, err := r.tests.Compile(n.Text(), expr.Truth)
		var mistake *expr.Error
		switch {
		case errors.As(err, &mistake):
			n.FailAt(max(mistake.Offset, 0), mistake.Remedy, "%s", mistake.Message)
		case err != nil:
			n.Fail("", "the expression cannot be readied: %v", err)
		default:
			*at = &Test{made}
		}
	}
}

// readThings reads a kind of things.
func (r *reader) readThings(pair yamldoc.Pair) {
	t := &Things{Kind: pair.Key}
	var members Members
	var on OnAccount
	var roles Roles
	var listed Listing
	join, leave, change, make, unmake := new(Call), new(Call), new(Call), new(Call), new(Call)
	given := pair.Value.Read(r.thingKeys(t, &members, &on, &roles, &listed, [5]*Call{join, leave, change, make, unmake}))
	if given.Has("members") {
		t.Members = &members
	}
	if given.Has("on_account") {
		t.OnAccount = &on
	}
	if given.Has("roles") {
		t.Roles = &roles
		if listed.Method != "" {
			roles.Listing = &listed
		}
	}
	for call, at := range map[*Call]**Call{join: &t.Join, leave: &t.Leave, change: &t.Change, make: &t.Make, unmake: &t.Unmake} {
		if call.Method != "" {
			*at = call
		}
	}
	t.Section = members.Section != nil || on.Section != nil
	r.later = append(r.later, func() { // once its templates are read
		fitThings(pair, t)
		r.Things = append(r.Things, *t)
	})
}

// fitThings sees that what is said of a kind of things goes together.
func fitThings(pair yamldoc.Pair, t *Things) {
	var members Members
	var on OnAccount
	if t.Members != nil {
		members = *t.Members
	}
	if t.OnAccount != nil {
		on = *t.OnAccount
	}
	switch {
	case !slices.Contains([]string{"groups", "courses", "licences", "roles"}, t.Kind):
		pair.At.Fail(yamldoc.DidYouMean(t.Kind, []string{"groups", "courses", "licences", "roles"}), "there is no kind of things “%s”", t.Kind)
	case t.Listing.Method == "" || t.ID == nil || t.Name == nil:
		pair.At.Fail("Add “list: {get: …, items: …}”, “id: …” and “name: …”.", "nothing says how %s are listed, or where their identifiers and names stand", t.Kind)
	case t.Members != nil && t.OnAccount != nil:
		pair.At.Fail("Keep one of them.", "who is in which of the %s stands in two places", t.Kind)
	case t.Members != nil && members.Account == nil:
		pair.At.Fail("Add “account: PATH” to members.", "nothing says where in a member of the %s its account stands", t.Kind)
	case t.Members != nil && members.Thing == nil && !members.Uses("thing"):
		pair.At.Fail("Let {thing} stand in its path or query, or add “thing: PATH”.", "nothing says of which of the %s members are listed", t.Kind)
	case (t.Join == nil) != (t.Leave == nil):
		pair.At.Fail("Describe both.", "one of join and leave is described for %s, and the other is not: what is done could not be undone", t.Kind)
	case t.Leave != nil && t.Leave.Uses("tie") && members.Tie == nil:
		pair.At.Fail("Add “tie: PATH” to members: where a tie's own identifier stands.", "leaving %s names the tie, and nothing says where that is found", t.Kind)
	case t.Join == nil && t.OnAccount == nil:
		pair.At.Fail("Describe “join” and “leave”.", "nothing says how an account comes into one of the %s, or out of it", t.Kind)
	case t.Roles != nil && t.Roles.Words == nil && (t.Roles.Listing == nil || t.Roles.ID == nil || t.Roles.Name == nil):
		pair.At.Fail("Add “words: {ROLE: WORD}” or “list: …” with “id” and “name”.", "nothing says which roles there are in %s", t.Kind)
	case t.Roles != nil && members.Role == nil && on.Role == nil:
		pair.At.Fail("Add “role: PATH” to members.", "nothing says where a member's role stands in %s", t.Kind)
	}
}

// schemas are the forms of the description's own.
const (
	fieldsForm  yamldoc.Form = "fields"
	changesForm yamldoc.Form = "changes"
	thingsForm  yamldoc.Form = "things"
	anyForm     yamldoc.Form = "any"
	numberForm  yamldoc.Form = "number from 0"
)

// Schema is a JSON Schema (draft 2020-12) of descriptions, for editors.
func Schema() ([]byte, error) {
	r := newReader(&Interface{}, "2026-01-01")
	own := map[yamldoc.Form]yamldoc.Object{
		anyForm:    {},
		numberForm: {"type": "integer", "minimum": 0},
	}
	field := yamldoc.Schema(r.fieldKeys(&Field{}, new(yamldoc.Node)), own)
	own[fieldsForm] = yamldoc.Object{"type": "object", "additionalProperties": yamldoc.Object{"anyOf": []any{yamldoc.Object{"type": "string"}, field}}}
	change := yamldoc.Schema(append(r.call(&Call{}, nil), r.changeKeys(&Change{}, new(yamldoc.Node))...), own)
	own[changesForm] = yamldoc.Object{"anyOf": []any{change, yamldoc.Object{"type": "array", "items": change}}}
	var calls [5]*Call
	for n := range calls {
		calls[n] = new(Call)
	}
	own[thingsForm] = yamldoc.Object{"type": "object", "additionalProperties": yamldoc.Schema(r.thingKeys(&Things{}, &Members{}, &OnAccount{}, &Roles{}, &Listing{}, calls), own)}
	top := yamldoc.Schema(r.keys(), own)
	top["$schema"], top["title"] = "https://json-schema.org/draft/2020-12/schema", "A description of Even Ledger"
	top["required"] = []string{"account", "list", "read"}
	return json.MarshalIndent(top, "", "  ")
}
