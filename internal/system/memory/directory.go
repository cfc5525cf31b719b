package memory

import (
	"context"
	"iter"
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// unit is the field that says where in the tree an account stands: a path such as
// “Deck/Crew A”; blank: at the top.
const unit = "unit"

// NewDirectory returns an empty System like a directory. Its accounts are called by their
// user name and their unit, which have to be among units, and are called otherwise when
// either changes: what refers to them follows. Capitals make no difference where it has a
// rule that says so; an account is suspended by a mark that others lack; groups have a
// member always, and are changed whole or not at all.
func NewDirectory(units ...string) *System {
	schema := &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "lock", Off: "locked"}, Attributes: []account.Attribute{
		{Field: "userName", Path: "uid", Kind: account.Login, Required: true, Unique: true, Rule: account.AnyCase},
		{Field: "givenName", Path: "givenName", Rule: account.AnyCase},
		{Field: "familyName", Path: "sn", Rule: account.AnyCase},
		{Field: "displayName", Path: "displayName", Rule: account.AnyCase},
		{Field: "email", Path: "mail", Kind: account.Email, Unique: true, Rule: account.AnyCase},
		{Field: "phone", Path: "telephoneNumber", Kind: account.Phone},
		{Field: "employeeNumber", Path: "employeeNumber", Unique: true, Rule: account.ByLetter},
		{Field: "title", Path: "title", Rule: account.AnyCase},
		{Field: "manager", Path: "manager", Kind: account.Person, Rule: account.DN},
		{Field: "lock", Path: "lock"},
		{Field: "uidNumber", Path: "uidNumber", Kind: account.Number},
		{Field: unit, Path: "ou", Kind: account.Place},
	}}
	s := &System{accounts: map[string]account.Account{}, tree: &tree{units: units, groups: map[string]*group{}}}
	s.about = system.Description{Schema: schema, Kinds: []account.ThingKind{{Name: "groups", Filled: true}, {Name: "units", Place: unit}},
		Can: system.Abilities{Finds: 20, Page: 50, Moves: true, Removes: true, Renews: true, Ties: 100, Makes: true, Unmakes: true}}
	return s
}

// A tree is where the accounts of a directory stand, and its groups.
type tree struct {
	units  []string
	groups map[string]*group // by the key of their identifiers
}

type group struct {
	id, name string
	members  map[string]string // key of an account's identifier → the identifier
}

// name is what an account is called.
func (t *tree) name(fields map[string]account.Value) string {
	name := "uid=" + escaped(fields["userName"].Text())
	parts := strings.Split(strings.Trim(fields[unit].Text(), "/"), "/")
	for _, part := range slices.Backward(parts) {
		if part != "" {
			name += ",ou=" + escaped(part)
		}
	}
	return name + ",dc=sound"
}

// escaped writes a value as it stands in a distinguished name (RFC 4514 section 2.4).
func escaped(value string) string {
	return strings.NewReplacer(`\`, `\\`, ",", `\,`, "=", `\=`).Replace(value)
}

func (t *tree) moves(field string) bool { return field == "userName" || field == unit }

func (t *tree) fits(a account.Account) error {
	at := strings.Trim(a.Field(unit).Text(), "/")
	if at != "" && !slices.ContainsFunc(t.units, func(unit string) bool { return strings.EqualFold(unit, at) }) {
		return &system.Refusal{Code: account.UnknownThing, Field: unit, Message: "there is no unit “" + at + "”"}
	}
	if !a.Field("userName").Filled() {
		return &system.Refusal{Code: account.BlankRequired, Field: "userName", Message: "an account has to be called something"}
	}
	return nil
}

// follow has what refers to an account refer to it by its new identifier.
func (s *System) follow(before, after string) {
	for key, a := range s.accounts {
		if s.key(a.Field("manager").Text()) == s.key(before) {
			a.Fields = maps.Clone(a.Fields)
			a.Fields["manager"] = account.Of(after)
			s.accounts[key] = a
		}
	}
	for _, g := range s.tree.groups {
		if _, in := g.members[s.key(before)]; in {
			delete(g.members, s.key(before))
			g.members[s.key(after)] = after
		}
	}
}

// Things implements system.System.
func (s *System) Things(_ context.Context, kind string, _ bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		if s.tree == nil || kind != "groups" && kind != "units" {
			yield(account.Thing{}, system.ErrCannot)
			return
		}
		for _, t := range s.things(kind) {
			if !yield(t, nil) {
				return
			}
		}
	}
}

func (s *System) things(kind string) (all []account.Thing) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if kind == "units" {
		for _, path := range s.tree.units {
			all = append(all, account.Thing{ID: path, Name: path, Members: -1, Seats: -1})
		}
		return all
	}
	for _, key := range slices.Sorted(maps.Keys(s.tree.groups)) {
		g := s.tree.groups[key]
		all = append(all, account.Thing{ID: g.id, Name: g.name, Members: len(g.members), Seats: -1})
	}
	return all
}

// Members implements system.System.
func (s *System) Members(_ context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		if s.tree == nil || kind != "groups" && kind != "units" {
			yield(account.Membership{}, system.ErrCannot)
			return
		}
		s.mu.Lock()
		var all []account.Membership
		for _, a := range s.accounts {
			if at := strings.Trim(a.Field(unit).Text(), "/"); kind == "units" && (things == nil || slices.Contains(things, at)) {
				all = append(all, account.Membership{Kind: kind, Thing: at, Account: a.ID})
			}
		}
		for _, g := range s.tree.groups {
			for _, id := range g.members {
				if kind == "groups" && (things == nil || slices.Contains(things, g.id)) {
					all = append(all, account.Membership{Kind: kind, Thing: g.id, Account: id})
				}
			}
		}
		s.mu.Unlock()
		for _, m := range all {
			if !yield(m, nil) {
				return
			}
		}
	}
}

// Tie implements system.System.
func (s *System) Tie(ctx context.Context, may system.Permit, kind, thing string, ties []system.Tie) error {
	_, err := s.carryOut(ctx, may, "tie", account.Account{ID: thing}, func() (account.Account, error) {
		if s.tree == nil || kind != "groups" {
			return account.Account{}, system.ErrCannot
		}
		g := s.tree.groups[s.key(thing)]
		if g == nil {
			return account.Account{}, system.ErrGone
		}
		members := maps.Clone(g.members)
		for _, t := range ties {
			key := s.key(t.Account)
			switch _, in := members[key]; {
			case in && !t.Leave && !t.Was:
				return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: t.Account + " is a member already"}
			case !in && t.Leave:
				return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: t.Account + " is no member"}
			case t.Leave:
				delete(members, key)
			default:
				members[key] = t.Account
			}
		}
		if len(members) == 0 {
			return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: "a group has a member always, and this one would have none"}
		}
		g.members = members
		return account.Account{ID: thing}, nil
	})
	return err
}

// MakeThing implements system.System.
func (s *System) MakeThing(ctx context.Context, may system.Permit, kind, name string, first []system.Tie) (account.Thing, error) {
	if s.tree != nil && kind == "units" {
		return s.makeUnit(ctx, may, name)
	}
	g := &group{id: "cn=" + escaped(name) + ",dc=sound", name: name, members: map[string]string{}}
	_, err := s.carryOut(ctx, may, "make", account.Account{ID: g.id}, func() (account.Account, error) {
		switch {
		case s.tree == nil || kind != "groups":
			return account.Account{}, system.ErrCannot
		case s.tree.groups[s.key(g.id)] != nil:
			return account.Account{}, &system.Refusal{Code: account.TakenValue, Message: "there is a group of that name"}
		case len(first) == 0:
			return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: "a group has a member always, and this one would have none"}
		}
		for _, t := range first {
			g.members[s.key(t.Account)] = t.Account
		}
		s.tree.groups[s.key(g.id)] = g
		return account.Account{ID: g.id}, nil
	})
	return account.Thing{ID: g.id, Name: name, Members: len(g.members), Seats: -1}, err
}

// RemoveThing implements system.System.
func (s *System) RemoveThing(ctx context.Context, may system.Permit, kind, thing string) error {
	_, err := s.carryOut(ctx, may, "unmake", account.Account{ID: thing}, func() (account.Account, error) {
		switch {
		case s.tree != nil && kind == "units":
			return account.Account{}, s.tree.drop(thing, s.accounts)
		case s.tree == nil || kind != "groups":
			return account.Account{}, system.ErrCannot
		case s.tree.groups[s.key(thing)] == nil:
			return account.Account{}, system.ErrGone
		}
		delete(s.tree.groups, s.key(thing))
		return account.Account{ID: thing}, nil
	})
	return err
}

func (s *System) makeUnit(ctx context.Context, may system.Permit, path string) (account.Thing, error) {
	_, err := s.carryOut(ctx, may, "make", account.Account{ID: path}, func() (account.Account, error) {
		above, _, deeper := cutLast(path)
		if deeper && !slices.Contains(s.tree.units, above) {
			return account.Account{}, &system.Refusal{Code: account.UnknownThing, Message: "there is no unit “" + above + "”"}
		}
		s.tree.units = append(s.tree.units, path)
		return account.Account{ID: path}, nil
	})
	return account.Thing{ID: path, Name: path, Members: 0, Seats: -1}, err
}

// drop takes a unit away in which nothing stands.
func (t *tree) drop(path string, accounts map[string]account.Account) error {
	i := slices.Index(t.units, path)
	if i < 0 {
		return system.ErrGone
	}
	full := slices.ContainsFunc(t.units, func(other string) bool { return strings.HasPrefix(other, path+"/") })
	for _, a := range accounts {
		full = full || strings.EqualFold(strings.Trim(a.Field(unit).Text(), "/"), path)
	}
	if full {
		return &system.Refusal{Code: account.SystemRefused, Message: "something stands in it"}
	}
	t.units = slices.Delete(t.units, i, i+1)
	return nil
}

func cutLast(path string) (above, last string, deeper bool) {
	i := strings.LastIndex(path, "/")
	if i < 0 {
		return "", path, false
	}
	return path[:i], path[i+1:], true
}
