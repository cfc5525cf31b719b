package posting_test

import (
	"context"
	"fmt"
	"iter"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/posting"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

// A slow system takes its time for each account, and counts how accounts are asked for.
type slow struct {
	*memory.System
	clock        *clock.Fake
	lists, finds atomic.Int32
}

func (s *slow) Describe(ctx context.Context) (*system.Description, error) {
	about, err := s.System.Describe(ctx)
	if err == nil {
		copied := *about
		copied.Can.Finds, copied.Can.Page, copied.Can.Counts = 10, 100, true
		about = &copied
	}
	return about, err
}

func (s *slow) Count(context.Context) (int, error) { return len(s.Accounts()), nil }

func (s *slow) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	s.lists.Add(1)
	return s.System.List(ctx, fields)
}

func (s *slow) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	s.finds.Add(1)
	return s.System.Find(ctx, field, values, fields)
}

func (s *slow) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if err := s.clock.Wait(ctx, 10*time.Millisecond); err != nil {
		return nil, err
	}
	return s.System.Apply(ctx, may, orders, fields)
}

// A long post looks at all accounts once in a while, and not anew for every few of its rows; what
// somebody made in the meantime is found all the same, by whichever key.
func TestGlance(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const rows = 2600
	var text strings.Builder
	for i := range rows {
		number := fmt.Sprint(i)
		if i == 2400 {
			number = "" // it is known by its name alone
		}
		fmt.Fprintf(&text, "%s,P%d,Reyes,,,,\n", number, i)
	}
	b := w.draft(crew, columns+text.String())
	for _, made := range []account.Account{someone("2500", "Another", "Person", ""), someone("", "P2400", "Reyes", ""), someone("", "P3", "Reyes", "")} {
		_, err := systemtest.Create(t.Context(), nil, w.system, made, nil)
		require.NoError(t, err)
	}
	s := &slow{System: w.system, clock: w.clock}
	require.NoError(t, (&posting.Post{Ledger: w.ledger, Worker: worker(), System: s, Batch: b, Together: 3, Settle: time.Millisecond, Clock: w.clock}).Run(t.Context()))
	counts := w.even(b)
	assert.Equal(t, rows-3, counts[account.Created])
	entries := w.entries(b)
	for _, i := range []int{3, 2400, 2500} {
		assert.Equal(t, "refused stale", told(entries[i]), "row %d", i+2)
	}
	assert.EqualValues(t, 3, s.lists.Load(), "for the first thousand rows, for the rest, and for the proof")
	assert.LessOrEqual(t, s.finds.Load(), int32(10))
}
