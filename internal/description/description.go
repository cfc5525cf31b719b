// Package description has what an application's own web interface looks like: JSON over HTTP, of no
// standard. A description says where things stand in its JSON, which requests there are, and what its
// answers mean.
//
// It promises that a description which was read fits together: each expression compiles, each path and
// template can be filled, and nothing that is needed is missing; and that what it writes into JSON it reads
// back as it was. What is sent when, and what is believed of an answer, is left to others.
package description

import (
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/expr"
	"evenledger/internal/secret"
)

// An Interface is an application's web interface, as it was described. It may be shared.
type Interface struct {
	Name     string
	Version  string // of what was read: the hash of the file
	Account  Account
	Listing  Listing  // of accounts
	Finding  *Finding // nil: accounts are found by listing all
	Read     *Call
	Create   *Create // nil: no account can be made
	Together *Together
	Changes  []Change // in the order in which they are tried
	Suspend  *Call
	Resume   *Call
	Remove   *Call
	Password *Call
	Rules    secret.Rules // for passwords
	Things   []Things
	Answers  Answers
	Jobs     *Jobs // nil: what was taken in cannot be followed

	env *expr.Env
}

// An Account is where the parts of one stand in its JSON.
type Account struct {
	ID       Path
	Made     Path   // when it was made; nil: the application doesn't say
	Version  Path   // nil: it has none in its JSON
	ETag     bool   // its version is that of the answer's header (RFC 9110 section 8.8.3)
	Password Path   // of a new one; nil: it has none there
	Schema   string // where a JSON Schema of it is: a file or an address, with #/path/to/it; empty: nowhere
	Fields   []Field
}

// Field returns the field of a name. Of a list of elements with several parts, a name may have some of them
// (account.WithParts), in any order.
func (a *Account) Field(name string) (*Field, bool) {
	for i := range a.Fields {
		if a.Fields[i].Name == name {
			return &a.Fields[i], true
		}
	}
	base, parts := account.PartsOf(name)
	if parts == nil {
		return nil, false
	}
	for _, f := range a.Fields {
		if of, all := account.PartsOf(f.Name); of == base && !slices.ContainsFunc(parts, func(part string) bool { return !slices.Contains(all, part) }) {
			f.Name, f.Parts = name, parts
			return &f, true
		}
	}
	return nil, false
}

// A Call is one request.
type Call struct {
	Method  string
	Path    Template
	Query   map[string]Template
	Header  map[string]Template
	Body    Body
	Item    Path   // where in its answer what was asked for stands; nil: it is the answer
	Content string // of the body; empty: application/json
}

// String names the request as it was described.
func (c *Call) String() string { return c.Method + " " + c.Path.Source }

// A Listing is a request with many answers, in pages.
type Listing struct {
	Call
	Items  Path // where the list stands; nil: it is the answer
	Cursor Path // where what asks for the next page stands
	Link   bool // the next page's address is in the header Link (RFC 8288)
	Next   Path // the next page's address stands in the answer
	As     string
	By     Paging
	From   int  // the number of the first page, or of the first one of all
	Total  Path // how many there are in all; nil: nobody says
	Size   int  // how many a page has that is not the last; 0: nobody says
}

// A Paging is how the next page is asked for.
type Paging uint8

// The ways.
const (
	OnePage  Paging = iota // all is one answer
	ByCursor               // by what the page before says
	ByPage                 // by its number
	ByOffset               // by how many come before it
	ByLink                 // by its address
)

// A Finding is how accounts are found by a value.
type Finding struct {
	Listing
	Params map[string]string // field → parameter
	Join   string            // what stands between several values in one parameter
	Repeat bool              // the parameter is repeated for several values
	Most   int               // values in one request
}

// A Create is how an account is made.
type Create struct {
	Call
	Key     string // header with a key by which the application knows a request that is sent again
	Located bool   // the new one's address is in the header Location
}

// A Together is how several accounts are made in one request.
type Together struct {
	Call
	Most    int
	As      Path // where the list stands in the body; nil: it is the body
	Results Path // where the results stand, in the order of the accounts
	Status  Path // of a result
	Of      Path // the account in a result; nil: it is the result
}

// A Change is how fields are changed.
type Change struct {
	Call
	Fields []string // that are changed like this; none: all others
	Form   Form
}

// Sends reports whether a field is changed like this.
func (c *Change) Sends(field string) bool {
	if len(c.Fields) > 0 {
		return slices.Contains(c.Fields, field)
	}
	return c.Form != Filled || c.Uses(field)
}

// Sends reports whether a new account is made with a field.
func (c *Create) Sends(field string) bool { return c.Body.Whole || c.Uses(field) }

// A Form is what the body of a change is.
type Form uint8

// The forms.
const (
	Merge  Form = iota // what changes (RFC 7396)
	Patch              // operations (RFC 6902)
	Whole              // the account as it is to be
	Filled             // a template
)

// Things are those of one kind that accounts are tied to.
type Things struct {
	Kind      string
	Listing   Listing
	ID, Name  Path
	Seats     Path
	Sections  Path // a list of those of a thing; nil: nobody says
	Members   *Members
	OnAccount *OnAccount // instead: where they stand in an account
	Join      *Call
	Leave     *Call
	Change    *Call // gives a member another role or section; nil: leaving and joining
	Make      *Call
	Unmake    *Call
	Roles     *Roles
	Section   bool // a membership has one
}

// Members is how the members of a thing are listed, or all ties of a kind.
type Members struct {
	Listing
	Account, Thing, Role, Section, Tie Path // in one; nil: there is none
}

// An OnAccount is where the memberships of an account stand in it.
type OnAccount struct {
	At                   Path
	Thing, Role, Section Path // in an element; Thing nil: it is the element
}

// Element is a membership as an account has it in its list.
func (on *OnAccount) Element(thing, role, section string) any {
	if on.Thing == nil {
		return thing
	}
	element := map[string]any{}
	on.Thing.Put(element, thing)
	for at, text := range map[*Path]string{&on.Role: role, &on.Section: section} {
		if *at != nil && text != "" {
			at.Put(element, text)
		}
	}
	return element
}

// Roles are those of a membership.
type Roles struct {
	Words   map[string]string // role → as the application writes it
	Listing *Listing          // instead: they are listed
	ID      Path
	Name    Path
	Default string // of who is given none; empty: it is sent without one
}

// Answers say what an answer means, where its status does not.
type Answers struct {
	Done, Failed, Gone, Taken, Changed, Wait, Unclear *Test
	Message, Field                                    Path
}

// Jobs are how something is followed that was taken in and is carried out later.
type Jobs struct {
	Located bool // its address is in the header Location
	At      Path // or stands in the answer
	Done    *Test
	Failed  *Test
	Taken   *Test
	Item    Path // where what it made stands
	Message Path
}

// Seen reports whether who may sign in is shown.
func (i *Interface) Seen() bool { _, has := i.Account.Field(active); return has }

// active is the field that says whether somebody may sign in.
const active = "active"

// OfKind returns the things of a kind.
func (i *Interface) OfKind(kind string) (*Things, bool) {
	at := slices.IndexFunc(i.Things, func(t Things) bool { return t.Kind == kind })
	if at < 0 {
		return nil, false
	}
	return &i.Things[at], true
}

// Add adds a field of the application's own that stands at a path.
func (i *Interface) Add(path string) (*Field, error) {
	if f, has := i.Account.Field(path); has {
		return f, nil
	}
	at, err := ParsePath(path)
	if err != nil {
		return nil, err
	}
	i.Account.Fields = append(i.Account.Fields, Field{Name: path, At: at})
	return &i.Account.Fields[len(i.Account.Fields)-1], nil
}

// Scope is what the templates of one request are filled with.
type Scope struct {
	of     *Interface
	scope  *expr.Scope // nil: no expression was met yet
	values map[string]string
	isNew  bool
}

// own are the names that templates know besides the account's fields.
var own = [...]string{"id", "thing", "account", "role", "section", "tie", "name", "password"}

// Scope returns a Scope with values, by the names of fields and those of the templates' own.
func (i *Interface) Scope(values map[string]string) *Scope { return &Scope{of: i, values: values} }

// ready is what expressions are worked out over; most requests have none.
func (s *Scope) ready() *expr.Scope {
	if s.scope != nil {
		return s.scope
	}
	names := append(s.of.Account.Names(), own[:]...)
	s.scope = s.of.env.NewScope(names, nil)
	for n, name := range names {
		s.scope.Set(n, s.values[name])
	}
	return s.scope
}

// Values are an account's as templates see them.
func Values(a *account.Account) map[string]string {
	values := map[string]string{"id": a.ID, "account": a.ID, "password": a.Password}
	for name, v := range a.Fields {
		values[name] = v.Text()
	}
	return values
}

// Names lists the names of the fields.
func (a *Account) Names() (names []string) {
	for _, f := range a.Fields {
		names = append(names, f.Name)
	}
	return names
}

func join(paths []string) string { return strings.Join(paths, ", ") }
