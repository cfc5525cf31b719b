package system_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
)

// counted is a system in memory that finds by filter, a few values at a time, and
// counts what it is asked.
type counted struct {
	*memory.System
	size, pages int
	fails       error

	mu            sync.Mutex
	finds, listed int
}

func (c *counted) Describe(ctx context.Context) (*system.Description, error) {
	about, err := c.System.Describe(ctx)
	about.Can.Finds, about.Can.Page, about.Can.Counts = c.size, 7, true
	return about, err
}

func (c *counted) Count(context.Context) (int, error) { return c.pages * 7, nil }

func (c *counted) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	c.mu.Lock()
	c.finds++
	c.mu.Unlock()
	if c.fails != nil {
		return func(yield func(account.Account, error) bool) { yield(account.Account{}, c.fails) }
	}
	return c.System.Find(ctx, field, values, fields)
}

func (c *counted) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	c.listed++
	return c.System.List(ctx, fields)
}

func crew(n int) (accounts []account.Account, names []string) {
	for i := range n {
		name := fmt.Sprint("crew", i)
		names = append(names, name)
		accounts = append(accounts, account.Account{Fields: map[string]account.Value{"userName": account.Of(name)}})
	}
	return accounts, names
}

func TestFetch(t *testing.T) {
	accounts, names := crew(100)
	dead := errors.New("the line went dead")
	for name, c := range map[string]struct {
		system        *counted
		ask           int
		finds, listed int
		err           error
	}{
		"few are found":           {&counted{size: 10, pages: 50}, 15, 2, 0, nil},
		"many are found":          {&counted{size: 10, pages: 50}, 90, 9, 0, nil},
		"many are listed":         {&counted{size: 10, pages: 5}, 90, 0, 1, nil},
		"as many requests: found": {&counted{size: 10, pages: 9}, 90, 9, 0, nil},
		"cannot find: listed":     {&counted{size: 10, pages: 50, fails: system.ErrCannotFind}, 5, 1, 1, nil},
		"never finds: listed":     {&counted{size: 0, pages: 50}, 5, 0, 1, nil},
		"trouble is told":         {&counted{size: 10, pages: 50, fails: dead}, 5, 1, 0, dead},
	} {
		t.Run(name, func(t *testing.T) {
			s := c.system
			s.System = memory.New(accounts...)
			found := map[string]bool{}
			way, err := system.Fetch(t.Context(), s, map[string][]string{"userName": names[:c.ask]}, nil, 3, func(a account.Account) { found[a.Field("userName").Text()] = true })
			if c.err != nil {
				require.ErrorIs(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, []int{c.finds, c.listed}, []int{s.finds, s.listed})
			assert.Equal(t, c.listed > 0, way.Listed)
			for _, name := range names[:c.ask] {
				assert.True(t, found[name], name)
			}
		})
	}
}

func TestNotKept(t *testing.T) {
	of := account.Of
	now := account.Account{Fields: map[string]account.Value{"userName": of("ana"), "email": of("ANA@x.example"), "title": of("Mate"), "phone": of("+44 20 7946 0018")}}
	var sent []account.Change
	for name, text := range map[string]string{"userName": "ana", "email": "ana@x.example", "title": "Bosun", "phone": "+442079460018", "country": "PT", "locality": ""} {
		sent = append(sent, account.Change{Field: name, After: of(text)})
	}
	findings := system.NotKept(&account.Schema{}, sent, now)
	var told []string
	for _, f := range findings {
		assert.Equal(t, account.Warning, f.Level)
		told = append(told, f.Field)
	}
	slices.Sort(told)
	assert.Equal(t, []string{"country", "title"}, told)
}
