package ledger_test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/ledger"
	"evenledger/internal/mapping"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func open(t *testing.T, path string) *ledger.Ledger {
	l, err := ledger.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// drafted makes a batch with one entry a row, from row 2 on.
func drafted(t *testing.T, l *ledger.Ledger, entries ...batch.Entry) *batch.Batch {
	b := &batch.Batch{Made: noon, System: "crewdesk", Sheet: "s.csv", Headings: []string{"No"}, Rows: len(entries)}
	require.NoError(t, l.Begin(t.Context(), b))
	spool := l.Spool(t.Context(), b.ID)
	for i := range entries {
		entries[i].Row = i + 2
		require.NoError(t, spool.Add([]string{fmt.Sprint("cell", i)}, &mapping.Wanted{Row: i + 2, Values: []account.Value{account.Of("x"), {}}}))
	}
	require.NoError(t, spool.Flush())
	spooled, err := l.Spooled(t.Context(), b.ID, 0, 100)
	require.NoError(t, err)
	require.Len(t, spooled, len(entries))
	assert.Equal(t, []account.Value{account.Of("x"), {}}, spooled[0].Wanted.Values, "what was wanted comes back as it was")
	require.NoError(t, l.Decide(t.Context(), b.ID, entries))
	b.State = batch.Drafted
	require.NoError(t, l.Save(t.Context(), b))
	return b
}

func entries(t *testing.T, l *ledger.Ledger, id int, filter ledger.Filter) []batch.Entry {
	var all []batch.Entry
	for e, err := range l.Entries(t.Context(), id, filter) {
		require.NoError(t, err)
		all = append(all, e)
	}
	return all
}

func rowsOf(list []batch.Entry) (rows []int) {
	for _, e := range list {
		rows = append(rows, e.Row)
	}
	return rows
}

func TestWhatIsWrittenIsThere(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a %?#.db")
	l := open(t, path)
	want := batch.Entry{
		Key: "1007", Intent: account.Update, Outcome: account.Waiting, Account: "u-1", Version: `W/"3"`,
		Changes:  []account.Change{{Field: "title", Before: account.Of("Clerk"), After: account.Blank()}, {Field: "phone", After: account.Of("=+1")}},
		Known:    map[string]account.Value{"title": account.Of("Clerk")},
		Findings: []account.Finding{{Row: 2, Level: account.Note, Code: "odd-white-space", Message: "m", Remedy: "r"}},
	}
	b := drafted(t, l, want)
	require.NoError(t, l.Close())
	stat, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm(), "it holds people's data")

	l = open(t, path)
	again, err := l.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, b, again)
	want.Row, want.Cells = 2, []string{"cell0"}
	assert.Equal(t, []batch.Entry{want}, entries(t, l, b.ID, ledger.Filter{Cells: true}))
	_, err = l.Batch(t.Context(), 9)
	assert.ErrorIs(t, err, ledger.ErrNoBatch)
}

func TestChangesComeBack(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	value := rapid.Custom(func(t *rapid.T) account.Value {
		if rapid.Bool().Draw(t, "absent") {
			return account.Value{}
		}
		return account.Of(rapid.String().Draw(t, "text"))
	})
	rapid.Check(t, func(rt *rapid.T) {
		want := []account.Change{{Field: "title", Before: value.Draw(rt, "before"), After: value.Draw(rt, "after")}}
		b := drafted(t, l, batch.Entry{Changes: want})
		require.Equal(rt, want, entries(t, l, b.ID, ledger.Filter{})[0].Changes)
	})
}

func TestFilters(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	finding := []account.Finding{account.Find(account.Error, "stale", "x")}
	b := drafted(t, l,
		batch.Entry{Outcome: account.Waiting, Intent: account.Create},
		batch.Entry{Outcome: account.Refused, Findings: finding},
		batch.Entry{Outcome: account.Waiting, Intent: account.Update},
		batch.Entry{Outcome: account.Aside})
	for want, filter := range map[string]ledger.Filter{
		"[2 3 4 5]": {},
		"[2 4]":     {Outcomes: []account.Outcome{account.Waiting}},
		"[2 3 4]":   {Outcomes: []account.Outcome{account.Waiting, account.Refused}},
		"[3 5]":     {Rows: []int{5, 3, 99}},
		"[3]":       {Findings: true},
		"[4 5]":     {After: 3},
		"[2]":       {Limit: 1},
		"[5 4]":     {Limit: 2, Last: true},
		"[4]":       {Outcomes: []account.Outcome{account.Waiting}, After: 2, Limit: 5},
		"[]":        {Outcomes: []account.Outcome{account.Failed}},
	} {
		assert.Equal(t, want, fmt.Sprint(rowsOf(entries(t, l, b.ID, filter))), "%+v", filter)
	}
	counts, waiting, err := l.Counts(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, account.Counts{account.Waiting: 2, account.Refused: 1, account.Aside: 1}, counts)
	assert.Equal(t, map[account.Intent]int{account.Create: 1, account.Update: 1}, waiting)
}

// An intent without a result is in flight until a result of that intent, or of a
// later one, is noted.
func TestIntentsAndResults(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	ctx := t.Context()
	b := drafted(t, l, batch.Entry{Outcome: account.Waiting, Intent: account.Create}, batch.Entry{Outcome: account.Waiting, Intent: account.Create}, batch.Entry{Outcome: account.Waiting, Intent: account.Update})
	all := entries(t, l, b.ID, ledger.Filter{})
	first, err := l.Intend(ctx, b.ID, all[:2], noon)
	require.NoError(t, err)
	flying := func() string {
		open, err := l.InFlight(ctx, b.ID)
		require.NoError(t, err)
		text := ""
		for _, f := range open {
			text += fmt.Sprintf("%d@%d ", f.Entry.Row, f.Intent)
		}
		return text
	}
	assert.Equal(t, "2@1 3@1 ", flying())
	done := all[0]
	done.Outcome, done.Account = account.Created, "u-9"
	require.NoError(t, l.Record(ctx, b.ID, []ledger.Result{{Entry: done, Intent: first}}, noon.Add(time.Second)))
	assert.Equal(t, "3@1 ", flying())
	require.NoError(t, l.Record(ctx, b.ID, []ledger.Result{{Entry: all[1], Intent: first}}, noon)) // had no effect
	assert.Empty(t, flying())
	second, err := l.Intend(ctx, b.ID, all[1:], noon.Add(time.Minute))
	require.NoError(t, err)
	assert.Equal(t, "3@2 4@2 ", flying())
	failed := all[1]
	failed.Outcome, failed.Findings = account.Failed, []account.Finding{account.Find(account.Error, "unclear", "“quoted” \\ text")}
	require.NoError(t, l.Record(ctx, b.ID, []ledger.Result{{Entry: failed, Intent: second}}, noon.Add(2*time.Minute)))
	now := entries(t, l, b.ID, ledger.Filter{})
	assert.Equal(t, []account.Outcome{account.Created, account.Failed, account.Waiting}, []account.Outcome{now[0].Outcome, now[1].Outcome, now[2].Outcome})
	assert.Equal(t, "u-9", now[0].Account)
	assert.Equal(t, failed.Findings, now[1].Findings)
	steps, err := l.Steps(ctx, b.ID, 3)
	require.NoError(t, err)
	require.Len(t, steps, 2)
	assert.Equal(t, account.Failed, steps[1].Result)
	assert.True(t, steps[0].Ended.IsZero() && steps[1].Ended.Equal(noon.Add(2*time.Minute)))
	require.NoError(t, l.Record(ctx, b.ID, nil, noon), "nothing to note is no fault")
}

// A draft that was cut short leaves nothing behind, and takes no number.
func TestUnfinishedDrafts(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	l := open(t, path)
	half := &batch.Batch{Made: noon}
	require.NoError(t, l.Begin(t.Context(), half))
	spool := l.Spool(t.Context(), half.ID)
	require.NoError(t, spool.Add([]string{"x"}, &mapping.Wanted{Row: 2}))
	require.NoError(t, spool.Abandon())
	spool = l.Spool(t.Context(), half.ID)
	require.NoError(t, spool.Add([]string{"x"}, &mapping.Wanted{Row: 2}))
	require.NoError(t, spool.Flush())
	all, err := l.Batches(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = l.Batch(t.Context(), half.ID)
	assert.ErrorIs(t, err, ledger.ErrNoBatch)
	b := drafted(t, l, batch.Entry{Outcome: account.Aside})
	assert.Equal(t, 1, b.ID)
	dropped := &batch.Batch{Made: noon}
	require.NoError(t, l.Begin(t.Context(), dropped))
	require.NoError(t, l.Discard(t.Context(), dropped.ID))
	require.NoError(t, l.Discard(t.Context(), 99))
	all, err = l.Batches(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1)
	assert.Len(t, entries(t, l, b.ID, ledger.Filter{}), 1)
}

func TestLocksAndVersions(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	one, two := open(t, path), open(t, path)
	unlock, err := one.Lock("post")
	require.NoError(t, err)
	_, err = two.Lock("post")
	assert.ErrorIs(t, err, ledger.ErrBusy)
	other, err := two.Lock("draft")
	require.NoError(t, err, "drafting may go on while a batch is posted")
	require.NoError(t, other())
	require.NoError(t, unlock())
	unlock, err = two.Lock("post")
	require.NoError(t, err)
	require.NoError(t, unlock())

	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 7")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = ledger.Open(t.Context(), path)
	assert.ErrorContains(t, err, "newer evenledger")
	junk := filepath.Join(t.TempDir(), "junk.db")
	require.NoError(t, os.WriteFile(junk, []byte("this is no database, however long one looks at it"), 0o600))
	_, err = ledger.Open(t.Context(), junk)
	assert.ErrorContains(t, err, "not a database")
	_, err = ledger.Open(t.Context(), filepath.Join(t.TempDir(), "no", "folder", "l.db"))
	assert.Error(t, err)
}
