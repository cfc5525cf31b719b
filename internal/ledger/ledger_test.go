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
	"evenledger/internal/membership"
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

// Steps, names of people and sealed passwords come back as they were, and what was
// done with each step; what an older program wrote is read.
func TestStepsAndSecrets(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	l := open(t, path)
	steps := []membership.Step{
		{Do: membership.Refer, Kind: "manager", Name: "7", Row: 3}, {Do: membership.Leave, Kind: "groups", Thing: "g1", Name: "Deck", Was: &[2]string{"boss", ""}},
		{Do: membership.Join, Kind: "groups", Name: "Night watch", Made: true}, {Do: membership.Join, Kind: "courses", Thing: "c1", Name: "Radio", Role: "tutor"},
	}
	manager := account.Change{Field: "manager", Before: account.Of("u1"), After: account.Of("u2"), Names: &[2]string{"Ana", "Tom\x1fKaya"}}
	b := drafted(t, l,
		batch.Entry{Intent: account.Create, Outcome: account.Waiting, Steps: steps, Secret: "sealed"},
		batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u9", Changes: []account.Change{manager}},
		batch.Entry{Outcome: account.Refused})
	require.NoError(t, l.Add(t.Context(), b.ID, []batch.Entry{{Row: batch.UnlistedRow(1), Key: "bo", Intent: account.Suspend, Outcome: account.Waiting}}))
	all := entries(t, l, b.ID, ledger.Filter{})
	require.Len(t, all, 4)
	assert.Equal(t, steps, all[0].Steps)
	assert.Empty(t, all[0].Secret, "it is read only by who asks for it")
	assert.Equal(t, &[2]string{"Ana", "Tom Kaya"}, all[1].Changes[0].Names)
	assert.Equal(t, account.Of("u2"), all[1].Changes[0].After)
	assert.Equal(t, 1, batch.Unlisted(all[3].Row))
	assert.Equal(t, []int{2}, rowsOf(entries(t, l, b.ID, ledger.Filter{Refers: true})))
	none, err := l.WithoutAccount(t.Context(), b.ID, []int{2, 3, 4})
	require.NoError(t, err)
	assert.Equal(t, map[int]bool{4: true}, none, "neither has it an account nor does it get one")
	waiting, err := l.Open(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, 3, waiting)

	made := entries(t, l, b.ID, ledger.Filter{Secrets: true})[0]
	assert.Equal(t, "sealed", made.Secret)
	n, err := l.Intend(t.Context(), b.ID, []batch.Entry{made}, noon)
	require.NoError(t, err)
	made.Did, made.Account = account.Created, "u7"
	made.Settle()
	require.Equal(t, account.Waiting, made.Outcome, "its steps wait")
	require.NoError(t, l.Record(t.Context(), b.ID, []ledger.Result{{Entry: made, Intent: n}}, noon))
	_, intents, err := l.Counts(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, map[account.Intent]int{account.Finish: 1, account.Update: 1, account.Suspend: 1}, intents)
	assert.Equal(t, []int{2}, rowsOf(entries(t, l, b.ID, ledger.Filter{Steps: true})))
	accounts, outcomes, err := l.Accounts(t.Context(), b.ID, []int{2, 3})
	require.NoError(t, err)
	assert.Equal(t, map[int]string{2: "u7", 3: "u9"}, accounts)
	assert.Equal(t, account.Waiting, outcomes[2])

	made.Steps[0].Result, made.Steps[1].Result, made.Steps[2].Result, made.Steps[3].Result = membership.Done, membership.Failed, membership.Done, membership.Done
	made.Steps[2].Thing = "a thing of 2=3"
	made.Settle()
	require.Equal(t, account.Failed, made.Outcome)
	require.NoError(t, l.Record(t.Context(), b.ID, []ledger.Result{{Entry: made}}, noon))
	assert.Equal(t, made.Steps, entries(t, l, b.ID, ledger.Filter{})[0].Steps)
	open2, err := l.InFlight(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Empty(t, open2, "its account's own step stays settled")
	sealed, _, err := l.Secrets(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, sealed)
	require.NoError(t, l.Wipe(t.Context(), b.ID, []int{2}))
	sealed, _, err = l.Secrets(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Zero(t, sealed)
	require.NoError(t, l.Close())

	// As version 1 left it.
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, statement := range []string{"ALTER TABLE entries DROP COLUMN steps", "ALTER TABLE results DROP COLUMN steps", "ALTER TABLE results DROP COLUMN did", "DROP TABLE secrets", "UPDATE results SET outcome = 'created'", "PRAGMA user_version = 1"} {
		_, err = db.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	old := entries(t, open(t, path), b.ID, ledger.Filter{})
	assert.Equal(t, account.Created, old[0].Did)
	assert.Empty(t, old[0].Steps)
}
