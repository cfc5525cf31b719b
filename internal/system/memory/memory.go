// Package memory is a system that lives in the program's memory. It keeps to every
// promise of system.System, and serves the tests of the rooms above: New is one whose
// accounts have identifiers for ever, NewDirectory is a tree in which they are called by
// their place.
package memory

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strconv"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// A System holds accounts in memory. What names them is unique.
type System struct {
	system.Base

	// Before, if set, is called before each change of an account is carried out;
	// what it returns is the request's error. After likewise, when it is done.
	Before, After func(action string, a account.Account) error

	about    system.Description
	tree     *tree // nil: identifiers are numbers
	mu       sync.Mutex
	accounts map[string]account.Account // by the key of their identifiers
	next     int
	changes  int
}

// New returns a System with the given accounts, which takes the whole catalogue.
func New(accounts ...account.Account) *System {
	schema := &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "active", On: "true", Off: "false"}}
	for _, f := range account.Fields() {
		if slices.Contains([]string{"unit", "uidNumber", "gidNumber", "homeDirectory", "loginShell", "gecos", "expires"}, f.Name) {
			continue // they are of trees and hosts alone
		}
		key := f.Name == schema.Naming
		schema.Attributes = append(schema.Attributes, account.Attribute{Field: f.Name, Path: f.Name, Kind: f.Kind, Required: key, Unique: key})
	}
	s := &System{accounts: map[string]account.Account{}, about: system.Description{Schema: schema, Can: system.Abilities{Removes: true, Renews: true}}}
	for _, a := range accounts {
		s.put(a)
	}
	return s
}

// put keeps an account under its identifier, which it gets if it has none.
func (s *System) put(a account.Account) account.Account {
	if a.ID == "" {
		s.next++
		a.ID = fmt.Sprintf("m%04d", s.next)
		if s.tree != nil {
			a.ID = s.tree.name(a.Fields)
		}
	}
	version, _ := strconv.Atoi(a.Version)
	a.Version = strconv.Itoa(version + 1)
	a.Fields = maps.Clone(a.Fields)
	maps.DeleteFunc(a.Fields, func(_ string, v account.Value) bool { return !v.Filled() })
	s.accounts[s.key(a.ID)] = a
	return s.shown(a)
}

// key is what must agree for two identifiers to be one.
func (s *System) key(id string) string {
	if s.tree == nil {
		return id
	}
	return account.Field{Rule: account.DN}.Key(id)
}

// shown is an account as the system answers with it.
func (s *System) shown(a account.Account) account.Account {
	a.Fields = maps.Clone(a.Fields)
	if !s.about.Can.Versions && s.tree != nil {
		a.Version = ""
	}
	return a
}

// Changes returns how many changes were carried out.
func (s *System) Changes() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.changes
}

// Accounts returns all accounts by what names them.
func (s *System) Accounts() map[string]account.Account {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := map[string]account.Account{}
	for _, a := range s.accounts {
		all[a.Field(s.about.Naming).Text()] = s.shown(a)
	}
	return all
}

// Set changes fields of the account of that name behind everyone's back.
func (s *System) Set(name string, fields map[string]account.Value) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.accounts {
		if a.Field(s.about.Naming).Text() == name {
			maps.Copy(a.Fields, fields)
			s.put(a)
			return
		}
	}
}

// Describe implements system.System.
func (s *System) Describe(context.Context) (*system.Description, error) {
	about := s.about
	return &about, nil
}

// List implements system.System.
func (s *System) List(_ context.Context, _ []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		s.mu.Lock()
		all := make([]account.Account, 0, len(s.accounts))
		for _, id := range slices.Sorted(maps.Keys(s.accounts)) {
			all = append(all, s.shown(s.accounts[id]))
		}
		s.mu.Unlock()
		for _, a := range all {
			if !yield(a, nil) {
				return
			}
		}
	}
}

// Find implements system.System.
func (s *System) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	rule := s.about.Field(field)
	if field == system.ByID && s.tree != nil {
		rule.Rule = account.DN
	}
	wanted := map[string]bool{}
	for _, v := range values {
		wanted[rule.Key(v)] = true
	}
	return func(yield func(account.Account, error) bool) {
		for a, err := range s.List(ctx, fields) {
			if wanted[rule.Key(a.Field(field).Text())] && !yield(a, err) {
				return
			}
		}
	}
}

// Get implements system.System.
func (s *System) Get(_ context.Context, id string, _ []string) (account.Account, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, ok := s.accounts[s.key(id)]
	if !ok {
		return account.Account{}, system.ErrGone
	}
	return s.shown(a), nil
}

// Apply implements system.System.
func (s *System) Apply(ctx context.Context, may system.Permit, orders []system.Order, _ []string) ([]system.Result, error) {
	return system.Each(orders, func(o system.Order) (now account.Account, err error) {
		switch o.Does {
		case system.Creates:
			return s.create(ctx, may, o.Wanted)
		case system.Changes:
			return s.changeAccount(ctx, may, o.Known, o.Changes)
		case system.Removes:
			return now, s.remove(ctx, may, o.Known)
		case system.Renews:
			return now, s.setPassword(ctx, may, o.Known, o.Wanted.Password, o.Changes)
		}
		return now, system.ErrCannot
	})
}

func (s *System) create(ctx context.Context, may system.Permit, wanted account.Account) (account.Account, error) {
	return s.carryOut(ctx, may, "create", wanted, func() (account.Account, error) {
		if err := s.fits(account.Account{Fields: wanted.Fields}, slices.Collect(maps.Keys(wanted.Fields))); err != nil {
			return account.Account{}, err
		}
		return s.put(account.Account{Fields: wanted.Fields}), nil
	})
}

// changeAccount changes an account. In a tree it takes a request to move it, and
// another for the rest.
func (s *System) changeAccount(ctx context.Context, may system.Permit, known account.Account, changes []account.Change) (account.Account, error) {
	if s.tree == nil {
		return s.change(ctx, may, "change", known, changes)
	}
	var moves, others []account.Change
	for _, c := range changes {
		if s.tree.moves(c.Field) {
			moves = append(moves, c)
		} else {
			others = append(others, c)
		}
	}
	if len(moves) == 0 || len(others) == 0 {
		return s.change(ctx, may, "change", known, changes)
	}
	now, err := s.change(ctx, may, "move", known, moves)
	if err != nil {
		return now, err
	}
	known.ID = now.ID
	after, err := s.change(ctx, may, "change", known, others)
	if err != nil {
		return account.Account{}, &system.Partial{Now: now, Done: moves, Err: err}
	}
	return after, nil
}

func (s *System) change(ctx context.Context, may system.Permit, action string, known account.Account, changes []account.Change) (account.Account, error) {
	return s.carryOut(ctx, may, action, known, func() (account.Account, error) {
		a, ok := s.accounts[s.key(known.ID)]
		if !ok {
			return account.Account{}, system.ErrGone
		}
		if known.Version != "" && known.Version != a.Version {
			return account.Account{}, system.ErrChanged
		}
		before := a.ID
		a.Fields = maps.Clone(a.Fields)
		var fields []string
		for _, c := range changes {
			fields = append(fields, c.Field)
			a.Fields[c.Field] = c.After
		}
		if err := s.fits(a, fields); err != nil {
			return account.Account{}, err
		}
		if s.tree != nil {
			a.ID = s.tree.name(a.Fields)
		}
		delete(s.accounts, s.key(before))
		after := s.put(a)
		if s.tree != nil && s.key(before) != s.key(a.ID) {
			s.follow(before, a.ID)
		}
		return after, nil
	})
}

// setPassword keeps none, as nobody signs in here; that one was set is a change as others are.
func (s *System) setPassword(ctx context.Context, may system.Permit, known account.Account, password string, also []account.Change) error {
	if len(password) < shortest {
		return &system.Refusal{Code: account.SystemRefused, Field: "password", Message: fmt.Sprintf("the password is shorter than %d characters", shortest)}
	}
	_, err := s.change(ctx, may, "password", known, also)
	return err
}

// shortest is how many characters a password has to have.
const shortest = 8

func (s *System) remove(ctx context.Context, may system.Permit, known account.Account) error {
	_, err := s.carryOut(ctx, may, "remove", known, func() (account.Account, error) {
		a, ok := s.accounts[s.key(known.ID)]
		if !ok {
			return account.Account{}, system.ErrGone
		}
		delete(s.accounts, s.key(known.ID))
		return a, nil
	})
	return err
}

// fits refuses what the system doesn't take: fields that it lacks, and values that another
// account has.
func (s *System) fits(a account.Account, fields []string) error {
	for _, name := range fields {
		attribute, has := s.about.Attribute(name)
		if !has {
			return &system.Refusal{Code: account.UnknownField, Field: name, Message: "the system has no field " + name}
		}
		rule := s.about.Field(name)
		for _, other := range s.accounts {
			if attribute.Unique && other.ID != a.ID && a.Field(name).Filled() && rule.Key(other.Field(name).Text()) == rule.Key(a.Field(name).Text()) {
				return &system.Refusal{Code: account.TakenValue, Field: name, Message: fmt.Sprintf("the %s is taken", rule.Label)}
			}
		}
	}
	if s.tree != nil {
		return s.tree.fits(a)
	}
	return nil
}

func (s *System) carryOut(ctx context.Context, may system.Permit, action string, a account.Account, do func() (account.Account, error)) (account.Account, error) {
	if err := cmp.Or(ctx.Err(), may.Err()); err != nil {
		return account.Account{}, err
	}
	if s.Before != nil {
		if err := s.Before(action, a); err != nil {
			return account.Account{}, err
		}
	}
	s.mu.Lock()
	done, err := do()
	if err == nil {
		s.changes++
	}
	s.mu.Unlock()
	if err == nil && s.After != nil {
		if err := s.After(action, done); err != nil {
			return account.Account{}, err
		}
	}
	return done, err
}
