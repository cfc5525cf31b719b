package readback_test

import (
	"context"
	"errors"
	"iter"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/clock"
	"evenledger/internal/membership"
	"evenledger/internal/readback"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
)

// A page is a ledger with one batch.
type page struct {
	store.Reader
	entries  []batch.Entry
	accounts map[int]string
	err      error
}

func (p *page) Entries(_ context.Context, _ int, filter store.Filter) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		if p.err != nil {
			yield(batch.Entry{}, p.err)
			return
		}
		for _, e := range p.entries {
			if e.Row > filter.After && !yield(e, nil) {
				return
			}
		}
	}
}

func (p *page) Accounts(context.Context, int, []int) (map[int]string, map[int]account.Outcome, error) {
	return p.accounts, nil, nil
}

// A quay is a system with courses, that for so many looks shows nothing of what was done.
type quay struct {
	*memory.System
	members map[string][]account.Membership
	hidden  int
	looks   int
}

func (q *quay) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return q.seen(q.System.Find(ctx, field, values, fields))
}

func (q *quay) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return q.seen(q.System.List(ctx, fields))
}

func (q *quay) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	if q.hidden > 0 {
		q.hidden--
		return account.Account{}, system.ErrGone
	}
	return q.System.Get(ctx, id, fields)
}

func (q *quay) seen(all iter.Seq2[account.Account, error]) iter.Seq2[account.Account, error] {
	q.looks++
	if q.hidden--; q.hidden >= 0 {
		return func(func(account.Account, error) bool) {}
	}
	return all
}

func (q *quay) Members(_ context.Context, _ string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		for _, thing := range things {
			for _, m := range q.members[thing] {
				if !yield(m, nil) {
					return
				}
			}
		}
	}
}

func entry(row int, did account.Outcome, id string, changes ...account.Change) batch.Entry {
	return batch.Entry{Row: row, Key: id, Account: id, Outcome: did, Did: did, Changes: changes}
}

func differs(what, left, found string, of readback.Part, step int) readback.Difference {
	return readback.Difference{What: what, Left: left, Found: found, Of: of, Step: step}
}

// Every row that was carried out is looked at, and no other; what is otherwise is told of the field
// or the course that it is of.
func TestReadBack(t *testing.T) {
	titled := func(title string) account.Account {
		return account.Account{Fields: map[string]account.Value{"userName": account.Of(title), "title": account.Of(title), "active": account.Of("true")}}
	}
	q := &quay{System: memory.New(titled("chief"), titled("clerk"), titled("pilot")), members: map[string][]account.Membership{
		"radio": {{Kind: "courses", Thing: "radio", Account: "m0001", Role: "learner"}, {Kind: "courses", Thing: "radio", Account: "m0002", Role: "learner"}},
	}}
	to := func(field, value string) account.Change {
		return account.Change{Field: field, After: account.Of(value)}
	}
	step := func(do membership.Verb, result membership.Result, role string) membership.Step {
		return membership.Step{Do: do, Kind: "courses", Thing: "radio", Name: "Marine radio", Role: role, Result: result}
	}
	boss := entry(10, account.Updated, "m0003")
	boss.Steps = []membership.Step{{Do: membership.Refer, Kind: "manager", Name: "1007", Row: 2, Result: membership.Done}}
	ledger := &page{accounts: map[int]string{2: "m0001"}, entries: []batch.Entry{
		entry(2, account.Updated, "m0001", to("title", "CHIEF")),
		entry(3, account.Updated, "m0002", to("title", "clerk"), to("active", "true")),
		entry(4, account.Created, "m0099"),
		entry(5, account.Removed, "m0003"),
		entry(6, account.Removed, "m0098"),
		{Row: 7, Outcome: account.Waiting, Account: "m0001", Changes: []account.Change{to("title", "never sent")}},
		{Row: 8, Outcome: account.Failed, Account: "m0001"},
		{Row: 9, Key: "m0003", Did: account.Updated, Outcome: account.Failed, Account: "m0003", Steps: []membership.Step{step(membership.Join, membership.Done, "learner")}},
		boss,
		{Row: 11, Outcome: account.Unchanged, Account: "m0097"},
	}}
	for i, steps := range [][]membership.Step{
		{step(membership.Join, membership.Done, "learner")},
		{step(membership.Join, membership.Done, "teacher"), step(membership.Leave, membership.Done, ""), step(membership.Join, membership.Failed, "skipper")},
	} {
		ledger.entries[i].Steps = steps
	}

	var seen int
	r := &readback.Reading{Ledger: ledger, System: q, Batch: &batch.Batch{ID: 1}, Together: 2, Clock: clock.NewFake(time.Now()), Progress: func(_ string, n int) { seen = n }}
	result, err := r.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, readback.Result{Looked: 7, Failed: 2, Waiting: 1, Rows: []readback.Row{
		{2, "m0001", "m0001", []readback.Difference{differs("title", "CHIEF", "chief", readback.OfField, 0)}},
		{3, "m0002", "m0002", []readback.Difference{
			differs("courses", "in Marine radio (teacher)", "in Marine radio (learner)", readback.OfStep, 0),
			differs("courses", "not in Marine radio", "in Marine radio (learner)", readback.OfStep, 1),
		}},
		{4, "m0099", "m0099", []readback.Difference{differs("account", "created", "it is not there", readback.OfAccount, 0)}},
		{5, "m0003", "m0003", []readback.Difference{differs("account", "removed", "it is there", readback.OfAccount, 0)}},
		{9, "m0003", "m0003", []readback.Difference{differs("courses", "in Marine radio (learner)", "not in it", readback.OfStep, 0)}},
		{10, "m0003", "m0003", []readback.Difference{differs("manager", "1007 (m0001)", "", readback.OfStep, 0)}},
	}}, result)
	assert.False(t, result.Even())
	assert.Equal(t, 7, seen)

	ledger.err = errors.New("the ledger is gone")
	_, err = r.Read(t.Context())
	require.ErrorIs(t, err, ledger.err)
}

// What was done may show late: it is looked for again until the time is over, and no longer.
func TestReadBackWaits(t *testing.T) {
	for _, c := range []struct {
		hidden int
		within time.Duration
		even   bool
	}{{0, 0, true}, {2, 0, false}, {3, time.Minute, true}, {1000, time.Minute, false}} {
		q := &quay{System: memory.New(account.Account{Fields: map[string]account.Value{"userName": account.Of("ana")}}), hidden: c.hidden}
		now := clock.NewFake(time.Now())
		begun := now.Now()
		r := &readback.Reading{Ledger: &page{entries: []batch.Entry{entry(2, account.Created, "m0001")}}, System: q, Batch: &batch.Batch{ID: 1}, Within: c.within, Clock: now}
		result, err := r.Read(t.Context())
		require.NoError(t, err)
		assert.Equal(t, c.even, result.Even(), "%+v", c)
		assert.Equal(t, 1, result.Looked)
		if waited := now.Now().Sub(begun); c.even {
			assert.LessOrEqual(t, waited, c.within)
		} else {
			assert.Equal(t, c.within, waited)
		}
	}
}
