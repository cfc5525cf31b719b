package system_test

import (
	"context"
	"fmt"
	"iter"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/reach"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
	"evenledger/internal/yamldoc"
)

// The kind of system that CONTRIBUTING.md shows, word for word, and what it leaves out.

func Kind() system.Kind {
	return system.Kind{
		Name: "register",
		Settings: func(reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
			c := &connection{}
			return []yamldoc.Key{ // each knows where its value goes; a mistake: node.Fail(what to do, what is wrong)
				{Name: "url", Form: yamldoc.Text, About: "Where the register is.", Put: yamldoc.Into(&c.url, yamldoc.Node.Text)},
			}, func(yamldoc.Given) system.Connection { return c }
		},
	}
}

type connection struct{ url string }

func (c *connection) Address() string { return c.url }
func (c *connection) Open(work system.Work) (system.System, error) {
	return &register{connection: c}, nil
}

type register struct {
	system.Base // says no to what it lacks
	*connection
	people []account.Account
}

func (r *register) Describe(ctx context.Context) (*system.Description, error) {
	return &system.Description{
		Schema: &account.Schema{Naming: "userName", Attributes: []account.Attribute{{Field: "userName", Required: true, Unique: true}}},
		Can:    system.Abilities{Finds: 1}, // each ability says what becomes of the work without it
	}, nil
}

// Apply carries out orders. A kind that takes one at a time has Each see to the rest.
func (r *register) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	return system.Each(orders, func(o system.Order) (account.Account, error) {
		switch o.Does {
		case system.Creates:
			return r.create(ctx, may, o.Wanted)
		case system.Changes:
			return r.change(ctx, may, o.Known, o.Changes)
		}
		return account.Account{}, system.ErrCannot
	})
}

func (r *register) create(ctx context.Context, may system.Permit, wanted account.Account) (account.Account, error) {
	if err := may.Err(); err != nil {
		return account.Account{}, err
	}
	wanted.ID = fmt.Sprint(len(r.people) + 1)
	r.people = append(r.people, wanted)
	return wanted, nil
}

func (r *register) change(context.Context, system.Permit, account.Account, []account.Change) (account.Account, error) {
	return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: "nobody is renamed at sea"}
}

func (r *register) List(context.Context, []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		for _, a := range r.people {
			if !yield(a, nil) {
				return
			}
		}
	}
}

func (r *register) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return r.List(ctx, fields) // and perhaps others
}

func (r *register) Get(_ context.Context, id string, _ []string) (account.Account, error) {
	for _, a := range r.people {
		if a.ID == id {
			return a, nil
		}
	}
	return account.Account{}, system.ErrGone
}

func TestRegister(t *testing.T) {
	_, connect := Kind().Settings(reach.Part{})
	s, err := connect(yamldoc.Given{}).Open(system.Work{})
	require.NoError(t, err)
	ana, err := systemtest.Create(t.Context(), nil, s, account.Account{Fields: map[string]account.Value{"userName": account.Of("ana")}}, nil)
	require.NoError(t, err)
	// Several orders: a no to one says nothing of the next, and what it cannot do is refused as that.
	results, err := s.Apply(t.Context(), nil, []system.Order{{Does: system.Changes, Known: ana}, {Does: system.Creates}, {Does: system.Removes, Known: ana}}, nil)
	require.NoError(t, err)
	assert.ErrorAs(t, results[0].Err, new(*system.Refusal))
	assert.Equal(t, "2", results[1].Account.ID)
	assert.ErrorIs(t, results[2].Err, system.ErrCannot)
	// Of the first, nothing was done: that is no error of one account.
	_, err = s.Apply(t.Context(), func() error { return context.DeadlineExceeded }, []system.Order{{Does: system.Creates}}, nil)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	_, err = s.Count(t.Context())
	assert.ErrorIs(t, err, system.ErrCannot)

	guide, err := os.ReadFile("../../CONTRIBUTING.md")
	require.NoError(t, err)
	_, shown, found := strings.Cut(string(guide), "package register\n")
	require.True(t, found)
	shown, _, _ = strings.Cut(shown, "// List, Find and Get follow.")
	here, err := os.ReadFile("register_test.go")
	require.NoError(t, err)
	flat := func(text string) string { return strings.Join(strings.Fields(text), " ") }
	for line := range strings.Lines(shown) {
		assert.Contains(t, flat(string(here)), flat(line), "CONTRIBUTING.md shows what is not so")
	}
}
