package files

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/layout"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
)

// An app is an application, as its newest export shows it.
type app struct {
	system.Base
	*connection
	layout *layout.Layout
	clock  clock.Clock
	work   system.Work

	mu   sync.Mutex
	read *export // nil: nobody asked yet
}

// An export is what one shows.
type export struct {
	path     string
	when     time.Time // zero: there is none
	shown    layout.Shown
	key      account.Field
	fields   []string // that are shown
	accounts []record
	index    map[string]int                  // index of accounts, by the key of their identifier
	ties     map[string]map[string][]string  // kind → thing → identifiers of its members
	of       map[string][]account.Membership // identifier → memberships, in the order in which they stand
	by       map[string]map[string][]int     // field → key of its value → indexes of accounts
}

// clockSkew is by how much the clock of whoever writes an export may be ahead.
const clockSkew = 2 * time.Minute

// export reads the newest one, once.
func (a *app) export(ctx context.Context) (*export, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.read != nil {
		return a.read, nil
	}
	path, at, done, err := a.newest(ctx)
	if err != nil {
		return nil, err
	}
	if ahead := at.Sub(a.clock.Now()); ahead > clockSkew {
		err := &system.Unavailable{Message: fmt.Sprintf("the export of %s is dated %s, which is yet to come, so that nobody can say what it is newer than", a.name, at.Local().Format("2 Jan 2006 15:04")), Remedy: "See that the clocks here and there are right, and export the accounts in the application anew."}
		return nil, errors.Join(err, done())
	}
	x, err := a.load(ctx, path, at)
	if err = errors.Join(err, done()); err == nil {
		a.read = x
	}
	return x, err
}

func (a *app) load(ctx context.Context, path string, at time.Time) (*export, error) {
	x := &export{path: path, when: at, key: account.Field{Name: a.layout.Key}, index: map[string]int{}, ties: map[string]map[string][]string{}, of: map[string][]account.Membership{}, by: map[string]map[string][]int{}}
	if f, known := account.FieldNamed(a.layout.Key); known {
		x.key = f
	}
	if path == "" {
		return x, nil
	}
	var err error
	x.shown, err = a.layout.ReadExport(path, func(f layout.Found) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		x.index[x.key.Key(f.Account.ID)] = len(x.accounts)
		x.accounts = append(x.accounts, x.record(&f.Account))
		for _, tie := range f.Ties {
			if x.ties[tie.Kind] == nil {
				x.ties[tie.Kind] = map[string][]string{}
			}
			x.ties[tie.Kind][tie.Thing] = append(x.ties[tie.Kind][tie.Thing], tie.Account)
		}
		if len(f.Ties) > 0 {
			x.of[f.Account.ID] = f.Ties
		}
		return nil
	})
	if err != nil {
		remedy := "Export the accounts in the application once more, whole."
		var told *sheet.Error
		if errors.As(err, &told) && told.Remedy != "" {
			remedy = told.Remedy
		}
		return nil, &system.Unavailable{Message: fmt.Sprintf("the export of %s cannot be used: %s", a.name, err), Remedy: remedy, Err: err}
	}
	return x, nil
}

// A record is an account with the values of the export's fields, in their order: a map for each would take several times the room.
type record struct {
	id     string
	values []string
}

// record keeps an account.
func (x *export) record(a *account.Account) record {
	if x.fields == nil {
		x.fields = a.FieldNames()
	}
	r := record{a.ID, make([]string, len(x.fields))}
	for i, field := range x.fields {
		r.values[i] = a.Fields[field].Text()
	}
	return r
}

// at returns the account of an index.
func (x *export) at(i int) account.Account {
	a := account.Account{ID: x.accounts[i].id, Fields: make(map[string]account.Value, len(x.fields))}
	for n, field := range x.fields {
		a.Fields[field] = account.ValueOr(x.accounts[i].values[n])
	}
	return a
}

// account returns one by its identifier.
func (x *export) account(id string) (account.Account, bool) {
	i, there := x.index[x.key.Key(id)]
	if !there {
		return account.Account{}, false
	}
	return x.at(i), true
}

// Describe implements system.System.
func (a *app) Describe(ctx context.Context) (*system.Description, error) {
	x, err := a.export(ctx)
	if err != nil {
		return nil, err
	}
	if age := a.clock.Now().Sub(x.when); a.fresh > 0 && !x.when.IsZero() && age > a.fresh {
		return nil, &system.Unavailable{Message: fmt.Sprintf("the newest export of %s is of %s, %s ago, and evenledger.yaml wants it no older than %s", a.name, x.when.Local().Format("2 Jan 15:04"), days(age), days(a.fresh)), Remedy: "Export the accounts in the application anew, and save them at " + a.accounts + "."}
	}
	s := &account.Schema{Naming: a.layout.Key}
	for i := range a.layout.Columns {
		if c := &a.layout.Columns[i]; c.Fill == layout.Field {
			s.Attributes = append(s.Attributes, a.attribute(x, c))
		}
	}
	if _, has := a.layout.Column("active"); has && (x.path == "" || x.shown.Fields["active"]) {
		s.Suspension = account.Suspension{Field: "active", On: "true", Off: "false"}
	} else if x.shown.Fields["active"] && a.layout.Does(account.Suspend) {
		s.Attributes = append(s.Attributes, account.Attribute{Field: "active", Path: "the action", Kind: account.YesNo})
		s.Suspension = account.Suspension{Field: "active", On: "true", Off: "false"}
	}
	about := &system.Description{Schema: s, Rules: secret.Rules{}, Can: system.Abilities{Finds: 1000, Around: len(x.accounts), Removes: a.layout.Does(account.Remove), Renews: a.layout.HoldsPasswords(), Unkeyed: !a.layout.HoldsPasswords()}}
	if x.path != "" {
		name := filepath.Base(x.path)
		if strings.HasPrefix(a.accounts, ofFeed) {
			name = a.accounts
		}
		about.AsOf = fmt.Sprintf("in the export %s of %s, %s ago", name, x.when.Local().Format("2 Jan 15:04"), days(a.clock.Now().Sub(x.when)))
	} else {
		about.AsOf = "nowhere, as there is no export: every row is taken for a new account's"
	}
	for _, kind := range a.layout.Kinds() {
		about.Can.Ties = 1 << 20
		k := account.ThingKind{Name: kind, Roles: a.layout.HasPart(kind, layout.Role), Sections: a.layout.HasPart(kind, layout.Section)}
		k.Any = a.layout.Open(kind) || x.path == "" && len(a.layout.Known(kind)) == 0
		if x.path != "" && !x.shown.Kinds[kind] {
			k.Blind = "the export has no column with them"
		}
		about.Kinds = append(about.Kinds, k)
	}
	slices.SortFunc(about.Kinds, func(a, b account.ThingKind) int { return strings.Compare(a.Name, b.Name) })
	return about, nil
}

func (a *app) attribute(x *export, c *layout.Column) account.Attribute {
	at := account.Attribute{Field: c.Field, Path: c.Heading, Kind: c.Kind, Required: c.Required, Immutable: c.Fixed || c.Field == a.layout.Key, Unique: c.Field == a.layout.Key, Longest: c.Longest, Multi: c.Kind == account.List, Exact: true}
	at.Unseen = x.path != "" && !x.shown.Fields[c.Field]
	for _, written := range c.OneOf {
		value := c.Standard(written)
		at.Allowed = append(at.Allowed, value)
		if at.Also == nil {
			at.Also = map[string]string{}
		}
		at.Also[strings.ToLower(written)] = value
	}
	at.Refuses = func(value string) string {
		if len(c.OneOf) > 0 && !slices.Contains(at.Allowed, value) {
			return "" // which there are is told beside it
		}
		_, why := a.layout.Written(c, value)
		return why
	}
	return at
}

func days(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return "less than 2 minutes"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// List implements system.System.
func (a *app) List(ctx context.Context, _ []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		x, err := a.export(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		for i := range x.accounts {
			if !yield(x.at(i), nil) {
				return
			}
		}
	}
}

// Find implements system.System.
func (a *app) Find(ctx context.Context, field string, values, _ []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		x, err := a.export(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		if field == system.ByID {
			field = a.layout.Key
		}
		f, known := account.FieldNamed(field)
		if !known {
			f = account.Field{Name: field}
		}
		index := a.index(x, f)
		for _, value := range values {
			for _, i := range index[f.Key(value)] {
				if !yield(x.at(i), nil) {
					return
				}
			}
		}
	}
}

// index has the accounts by the values of a field.
func (a *app) index(x *export, f account.Field) map[string][]int {
	a.mu.Lock()
	defer a.mu.Unlock()
	if has := x.by[f.Name]; has != nil {
		return has
	}
	index := map[string][]int{}
	if at := slices.Index(x.fields, f.Name); at >= 0 {
		for i := range x.accounts {
			if value := x.accounts[i].values[at]; value != "" {
				key := f.Key(value)
				index[key] = append(index[key], i)
			}
		}
	}
	x.by[f.Name] = index
	return index
}

// Get implements system.System.
func (a *app) Get(ctx context.Context, id string, _ []string) (account.Account, error) {
	x, err := a.export(ctx)
	if err != nil {
		return account.Account{}, err
	}
	one, there := x.account(id)
	if !there {
		return account.Account{}, system.ErrGone
	}
	return one, nil
}

// Apply implements system.System: orders go in files.
func (a *app) Apply(context.Context, system.Permit, []system.Order, []string) ([]system.Result, error) {
	return nil, system.ErrCannot
}

// Things implements system.System.
func (a *app) Things(ctx context.Context, kind string, _ bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		x, err := a.export(ctx)
		if err != nil {
			yield(account.Thing{}, err)
			return
		}
		names := map[string]bool{}
		for _, name := range a.layout.Known(kind) {
			names[name] = true
		}
		for name := range x.ties[kind] {
			names[name] = true
		}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			if !yield(account.Thing{ID: name, Name: name, Members: len(x.ties[kind][name]), Seats: -1, Roles: a.layout.Roles(kind)}, nil) {
				return
			}
		}
	}
}

// Members implements system.System.
func (a *app) Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		x, err := a.export(ctx)
		if err != nil {
			yield(account.Membership{}, err)
			return
		}
		if things == nil {
			things = slices.Sorted(maps.Keys(x.ties[kind]))
		}
		for _, thing := range things {
			for _, id := range x.ties[kind][thing] {
				i := slices.IndexFunc(x.of[id], func(m account.Membership) bool { return m.Kind == kind && m.Thing == thing })
				if !yield(x.of[id][i], nil) {
					return
				}
			}
		}
	}
}

// Layout implements system.Hander.
func (a *app) Layout() string { return a.layout.Version }

// HoldsPasswords implements system.Hander.
func (a *app) HoldsPasswords() bool { return a.layout.HoldsPasswords() }

// Whole implements system.Hander.
func (a *app) Whole() bool { return a.layout.Whole }

// Exported implements system.Hander.
func (a *app) Exported(ctx context.Context) (time.Time, error) {
	x, err := a.export(ctx)
	if err != nil {
		return time.Time{}, err
	}
	return x.when, nil
}

// Failures implements system.Hander.
func (a *app) Failures(path string) ([]system.Failure, error) {
	read, err := a.layout.ReadResults(path)
	var all []system.Failure
	for _, f := range read {
		all = append(all, system.Failure(f))
	}
	return all, err
}
