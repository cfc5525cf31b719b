// Package memory is a system that lives in the program's memory. It keeps to
// every promise of system.System, and serves the tests of the rooms above.
package memory

import (
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

// A System holds accounts in memory. User names are unique.
type System struct {
	// Before, if set, is called before each change of an account is carried out;
	// what it returns is the request's error. After likewise, when it is done.
	Before, After func(action string, a account.Account) error

	mu       sync.Mutex
	accounts map[string]account.Account
	next     int
	changes  int
}

// New returns a System with the given accounts.
func New(accounts ...account.Account) *System {
	s := &System{accounts: map[string]account.Account{}}
	for _, a := range accounts {
		s.put(a)
	}
	return s
}

func (s *System) put(a account.Account) account.Account {
	if a.ID == "" {
		s.next++
		a.ID = fmt.Sprintf("m%04d", s.next)
	}
	version, _ := strconv.Atoi(a.Version)
	a.Version = strconv.Itoa(version + 1)
	a.Fields = maps.Clone(a.Fields)
	maps.DeleteFunc(a.Fields, func(_ string, v account.Value) bool { return !v.Filled() })
	s.accounts[a.ID] = a
	return clone(a)
}

func clone(a account.Account) account.Account {
	a.Fields = maps.Clone(a.Fields)
	return a
}

// Changes returns how many changes were carried out.
func (s *System) Changes() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.changes
}

// Accounts returns all accounts by user name.
func (s *System) Accounts() map[string]account.Account {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := map[string]account.Account{}
	for _, a := range s.accounts {
		all[a.Field("userName").Text()] = clone(a)
	}
	return all
}

// Set changes fields of the account with that user name behind everyone's back.
func (s *System) Set(userName string, fields map[string]account.Value) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.accounts {
		if a.Field("userName").Text() == userName {
			maps.Copy(a.Fields, fields)
			s.put(a)
			return
		}
	}
}

// Describe implements system.System: the whole catalogue, user name required.
func (s *System) Describe(context.Context) (*account.Schema, error) {
	schema := &account.Schema{}
	for _, f := range account.Fields() {
		key := f.Name == "userName"
		schema.Attributes = append(schema.Attributes, account.Attribute{Field: f.Name, Path: f.SCIM, Required: key, Unique: key})
	}
	return schema, nil
}

// List implements system.System.
func (s *System) List(_ context.Context, _ []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		s.mu.Lock()
		all := make([]account.Account, 0, len(s.accounts))
		for _, id := range slices.Sorted(maps.Keys(s.accounts)) {
			all = append(all, clone(s.accounts[id]))
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
	return func(yield func(account.Account, error) bool) {
		for a, err := range s.List(ctx, fields) {
			if slices.Contains(values, a.Field(field).Text()) && !yield(a, err) {
				return
			}
		}
	}
}

// Get implements system.System.
func (s *System) Get(_ context.Context, id string, _ []string) (account.Account, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, ok := s.accounts[id]
	if !ok {
		return account.Account{}, system.ErrGone
	}
	return clone(a), nil
}

// Create implements system.System.
func (s *System) Create(_ context.Context, wanted account.Account, _ []string) (account.Account, error) {
	return s.carryOut("create", wanted, func() (account.Account, error) {
		for name := range wanted.Fields {
			if err := inCatalogue(name); err != nil {
				return account.Account{}, err
			}
		}
		for _, a := range s.accounts {
			if a.Field("userName") == wanted.Field("userName") {
				return account.Account{}, &system.Refusal{Code: "taken-value", Field: "userName", Message: "the user name is taken"}
			}
		}
		return s.put(account.Account{Fields: wanted.Fields}), nil
	})
}

// Change implements system.System.
func (s *System) Change(_ context.Context, known account.Account, changes []account.Change, _ []string) (account.Account, error) {
	return s.carryOut("change", known, func() (account.Account, error) {
		a, ok := s.accounts[known.ID]
		if !ok {
			return account.Account{}, system.ErrGone
		}
		if known.Version != "" && known.Version != a.Version {
			return account.Account{}, system.ErrChanged
		}
		a = clone(a)
		for _, change := range changes {
			if err := inCatalogue(change.Field); err != nil {
				return account.Account{}, err
			}
			a.Fields[change.Field] = change.After
		}
		return s.put(a), nil
	})
}

// inCatalogue refuses a field that is not of the catalogue.
func inCatalogue(field string) error {
	if _, ok := account.FieldNamed(field); !ok {
		return &system.Refusal{Code: "unknown-field", Field: field, Message: "the system has no field " + field}
	}
	return nil
}

func (s *System) carryOut(action string, a account.Account, do func() (account.Account, error)) (account.Account, error) {
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
