package sqlite_test

import (
	"database/sql"
	"encoding/json"
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
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func open(t *testing.T, path string) store.Store {
	l, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// drafted makes a batch with one entry a row, from row 2 on.
func drafted(t *testing.T, l store.Store, entries ...batch.Entry) *batch.Batch {
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

func entries(t *testing.T, l store.Store, id int, filter store.Filter) []batch.Entry {
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
		Findings: []account.Finding{{Row: 2, Level: account.Note, Code: account.OddWhiteSpace, Message: "m", Remedy: "r"}},
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
	assert.Equal(t, []batch.Entry{want}, entries(t, l, b.ID, store.Filter{Cells: true}))
	_, err = l.Batch(t.Context(), 9)
	assert.ErrorIs(t, err, store.ErrNoBatch)
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
		require.Equal(rt, want, entries(t, l, b.ID, store.Filter{})[0].Changes)
	})
}

func TestFilters(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	finding := []account.Finding{account.Find(account.Error, account.Stale, "x")}
	b := drafted(t, l,
		batch.Entry{Outcome: account.Waiting, Intent: account.Create},
		batch.Entry{Outcome: account.Refused, Findings: finding},
		batch.Entry{Outcome: account.Waiting, Intent: account.Update},
		batch.Entry{Outcome: account.Aside})
	for want, filter := range map[string]store.Filter{
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
func TestClaimsAndResults(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	ctx := t.Context()
	b := drafted(t, l, batch.Entry{Outcome: account.Waiting, Intent: account.Create}, batch.Entry{Outcome: account.Waiting, Intent: account.Create}, batch.Entry{Outcome: account.Waiting, Intent: account.Update})
	all := entries(t, l, b.ID, store.Filter{})
	first, _, err := l.Claim(ctx, b.ID, "a", all[:2], noon, time.Minute)
	require.NoError(t, err)
	flying := func() string {
		open, err := l.InFlight(ctx, b.ID, "a", noon)
		require.NoError(t, err)
		text := ""
		for _, f := range open {
			text += fmt.Sprintf("%d@%d ", f.Entry.Row, f.Claim)
		}
		return text
	}
	assert.Equal(t, "2@1 3@1 ", flying())
	done := all[0]
	done.Outcome, done.Account = account.Created, "u-9"
	require.NoError(t, l.Settle(ctx, b.ID, []store.Result{{Entry: done, Claim: first}}, noon.Add(time.Second)))
	assert.Equal(t, "3@1 ", flying())
	require.NoError(t, l.Settle(ctx, b.ID, []store.Result{{Entry: all[1], Claim: first}}, noon)) // had no effect
	assert.Empty(t, flying())
	second, _, err := l.Claim(ctx, b.ID, "a", all[1:], noon.Add(time.Minute), time.Minute)
	require.NoError(t, err)
	assert.Equal(t, "3@2 4@2 ", flying())
	failed := all[1]
	failed.Outcome, failed.Findings = account.Failed, []account.Finding{account.Find(account.Error, account.Unclear, "“quoted” \\ text")}
	require.NoError(t, l.Settle(ctx, b.ID, []store.Result{{Entry: failed, Claim: second}}, noon.Add(2*time.Minute)))
	now := entries(t, l, b.ID, store.Filter{})
	assert.Equal(t, []account.Outcome{account.Created, account.Failed, account.Waiting}, []account.Outcome{now[0].Outcome, now[1].Outcome, now[2].Outcome})
	assert.Equal(t, "u-9", now[0].Account)
	assert.Equal(t, failed.Findings, now[1].Findings)
	steps, err := l.Attempts(ctx, b.ID, 3)
	require.NoError(t, err)
	require.Len(t, steps, 2)
	assert.Equal(t, account.Failed, steps[1].Result)
	assert.True(t, steps[0].Ended.IsZero() && steps[1].Ended.Equal(noon.Add(2*time.Minute)))
	require.NoError(t, l.Settle(ctx, b.ID, nil, noon), "nothing to note is no fault")
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
	assert.ErrorIs(t, err, store.ErrNoBatch)
	require.NoError(t, l.Sweep(t.Context()))
	b := drafted(t, l, batch.Entry{Outcome: account.Aside})
	assert.Equal(t, 1, b.ID)
	dropped := &batch.Batch{Made: noon}
	require.NoError(t, l.Begin(t.Context(), dropped))
	require.NoError(t, l.Discard(t.Context(), dropped.ID))
	require.NoError(t, l.Discard(t.Context(), 99))
	all, err = l.Batches(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1)
	assert.Len(t, entries(t, l, b.ID, store.Filter{}), 1)
}

func TestLocksAndVersions(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	one, two := open(t, path), open(t, path)
	unlock, err := one.Lock("post")
	require.NoError(t, err)
	_, err = two.Lock("post")
	assert.ErrorIs(t, err, store.ErrBusy)
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
	_, err = sqlite.Open(t.Context(), path)
	assert.ErrorContains(t, err, "newer evenledger")
	junk := filepath.Join(t.TempDir(), "junk.db")
	require.NoError(t, os.WriteFile(junk, []byte("this is no database, however long one looks at it"), 0o600))
	_, err = sqlite.Open(t.Context(), junk)
	assert.ErrorContains(t, err, "not a database")
	_, err = sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "no", "folder", "l.db"))
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
	all := entries(t, l, b.ID, store.Filter{})
	require.Len(t, all, 4)
	assert.Equal(t, steps, all[0].Steps)
	assert.Empty(t, all[0].Secret, "it is read only by who asks for it")
	assert.Equal(t, &[2]string{"Ana", "Tom Kaya"}, all[1].Changes[0].Names)
	assert.Equal(t, account.Of("u2"), all[1].Changes[0].After)
	assert.Equal(t, 1, batch.Unlisted(all[3].Row))
	assert.Equal(t, []int{2}, rowsOf(entries(t, l, b.ID, store.Filter{Does: membership.Refer})))
	none, err := l.WithoutAccount(t.Context(), b.ID, []int{2, 3, 4})
	require.NoError(t, err)
	assert.Equal(t, map[int]bool{4: true}, none, "neither has it an account nor does it get one")
	waiting, err := l.Open(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, 3, waiting)

	made := entries(t, l, b.ID, store.Filter{Secrets: true})[0]
	assert.Equal(t, "sealed", made.Secret)
	n, _, err := l.Claim(t.Context(), b.ID, "a", []batch.Entry{made}, noon, time.Minute)
	require.NoError(t, err)
	made.Did, made.Account = account.Created, "u7"
	made.Settle()
	require.Equal(t, account.Waiting, made.Outcome, "its steps wait")
	require.NoError(t, l.Settle(t.Context(), b.ID, []store.Result{{Entry: made, Claim: n}}, noon))
	_, intents, err := l.Counts(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, map[account.Intent]int{account.Finish: 1, account.Update: 1, account.Suspend: 1}, intents)
	assert.Equal(t, []int{2}, rowsOf(entries(t, l, b.ID, store.Filter{Steps: true})))
	accounts, outcomes, err := l.Accounts(t.Context(), b.ID, []int{2, 3})
	require.NoError(t, err)
	assert.Equal(t, map[int]string{2: "u7", 3: "u9"}, accounts)
	assert.Equal(t, account.Waiting, outcomes[2])

	made.Steps[0].Result, made.Steps[1].Result, made.Steps[2].Result, made.Steps[3].Result = membership.Done, membership.Failed, membership.Done, membership.Done
	made.Steps[2].Thing = "a thing of 2=3"
	made.Settle()
	require.Equal(t, account.Failed, made.Outcome)
	require.NoError(t, l.Settle(t.Context(), b.ID, []store.Result{{Entry: made}}, noon))
	assert.Equal(t, made.Steps, entries(t, l, b.ID, store.Filter{})[0].Steps)
	open2, err := l.InFlight(t.Context(), b.ID, "a", noon)
	require.NoError(t, err)
	assert.Empty(t, open2, "its account's own step stays settled")
	sealed, _, _, err := l.Secrets(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, sealed)
	require.NoError(t, l.Wipe(t.Context(), b.ID, []int{2}))
	sealed, _, _, err = l.Secrets(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Zero(t, sealed)
	require.NoError(t, l.Close())

	// As version 1 left it.
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, statement := range append(backTo3(), "ALTER TABLE entries DROP COLUMN steps", "ALTER TABLE results DROP COLUMN steps", "ALTER TABLE results DROP COLUMN did", "DROP TABLE secrets", "UPDATE results SET outcome = 'created'", "PRAGMA user_version = 1") {
		_, err = db.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	old := entries(t, open(t, path), b.ID, store.Filter{})
	assert.Equal(t, account.Created, old[0].Did)
	assert.Empty(t, old[0].Steps)
}

// backTo3 makes of the tables those of version 3, without what was in steps and claims.
func backTo3() []string {
	return []string{
		"DROP TABLE runs", "DROP TABLE outgoing", "DROP TABLE steps", "DROP TABLE attempts", "DROP TABLE claims", "ALTER TABLE results RENAME COLUMN claim TO intent",
		"ALTER TABLE entries ADD COLUMN steps TEXT NOT NULL DEFAULT '[]'", "ALTER TABLE results ADD COLUMN steps TEXT NOT NULL DEFAULT ''",
		"CREATE TABLE intents (n INTEGER PRIMARY KEY, batch INTEGER NOT NULL, rows TEXT NOT NULL, sent TEXT NOT NULL) STRICT",
		"CREATE INDEX intents_by_batch ON intents (batch)",
	}
}

// What version 3 had in one text are rows by now: steps with their results, and what was
// about to be sent.
func TestStepsOfVersion3(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	l := open(t, path)
	b := drafted(t, l, batch.Entry{Intent: account.Create, Outcome: account.Waiting}, batch.Entry{Intent: account.Create, Outcome: account.Waiting}, batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u9"})
	require.NoError(t, l.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, statement := range append(backTo3(),
		`UPDATE entries SET steps = '[{"do":"refer","kind":"manager","name":"7","row":3},{"do":"join","kind":"groups","name":"Night watch","made":true},{"do":"join","kind":"courses","thing":"c1","name":"Radio","role":"tutor","was":["guest","B"]}]' WHERE row = 2`,
		"INSERT INTO intents VALUES (1, 1, '[2,3]', '2026-11-23T12:00:00Z'), (2, 1, '[4]', '2026-11-23T12:00:05Z')",
		"INSERT INTO results (batch, row, intent, outcome, account, version, findings, ended, did, steps) VALUES (1, 2, 1, 'waiting', 'u7', '', '[]', '2026-11-23T12:00:01Z', 'created', 'df. 1=a\x1fthing')",
		"PRAGMA user_version = 3") {
		_, err = db.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	l = open(t, path)
	all := entries(t, l, b.ID, store.Filter{})
	assert.Equal(t, []membership.Step{
		{Do: membership.Refer, Kind: "manager", Name: "7", Row: 3, Result: membership.Done}, {Do: membership.Join, Kind: "groups", Thing: "a thing", Name: "Night watch", Made: true, Result: membership.Failed},
		{Do: membership.Join, Kind: "courses", Thing: "c1", Name: "Radio", Role: "tutor", Was: &[2]string{"guest", "B"}},
	}, all[0].Steps)
	assert.Equal(t, account.Created, all[0].Did)
	open, err := l.InFlight(t.Context(), b.ID, "a", noon.Add(24*time.Hour))
	require.NoError(t, err)
	require.Len(t, open, 2, "what was about to be sent and has no result")
	assert.Equal(t, []int{3, 4}, []int{open[0].Entry.Row, open[1].Entry.Row})
	assert.Equal(t, "12:00:05", open[1].Sent.Format(time.TimeOnly))
}

// Two workers never get the same entry while a lease runs; what one left behind when it
// died the other finds when its lease is over, and looks it up.
func TestWorkers(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	ctx := t.Context()
	waiting := batch.Entry{Outcome: account.Waiting, Intent: account.Create}
	b := drafted(t, l, waiting, waiting, waiting, waiting)
	all := entries(t, l, b.ID, store.Filter{})
	first, got, err := l.Claim(ctx, b.ID, "ana", all[:3], noon, time.Minute)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 3, 4}, rowsOf(got))
	_, got, err = l.Claim(ctx, b.ID, "tom", all, noon.Add(time.Second), time.Minute)
	require.NoError(t, err)
	assert.Equal(t, []int{5}, rowsOf(got), "the others are ana's")
	done := all[0]
	done.Outcome, done.Account = account.Created, "u1"
	require.NoError(t, l.Settle(ctx, b.ID, []store.Result{{Entry: done, Claim: first}}, noon.Add(2*time.Second)))
	flying := func(worker store.Worker, at time.Time) (rows []int) {
		open, err := l.InFlight(ctx, b.ID, worker, at)
		require.NoError(t, err)
		for _, f := range open {
			rows = append(rows, f.Entry.Row)
		}
		return rows
	}
	assert.Equal(t, []int{3, 4}, flying("ana", noon.Add(3*time.Second)))
	assert.Equal(t, []int{5}, flying("tom", noon.Add(3*time.Second)), "a living worker's are not looked up")
	assert.Equal(t, []int{3, 4, 5}, flying("tom", noon.Add(time.Minute+time.Nanosecond)), "a dead one's are")
	_, got, err = l.Claim(ctx, b.ID, "tom", all[1:3], noon.Add(2*time.Minute), time.Minute)
	require.NoError(t, err)
	assert.Equal(t, []int{3, 4}, rowsOf(got))
	assert.Equal(t, []int{3, 4, 5}, flying("tom", noon.Add(2*time.Minute)))
	require.NoError(t, l.TakeOver(ctx, b.ID, "mei"))
	assert.Equal(t, []int{3, 4, 5}, flying("mei", noon.Add(2*time.Minute)))
	attempts, err := l.Attempts(ctx, b.ID, 3)
	require.NoError(t, err)
	assert.Len(t, attempts, 2)
}

// A ledger of version 2 kept batches under the names of the program's own fields.
func TestOldLedgersAreRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	l := open(t, path)
	b := drafted(t, l, batch.Entry{Outcome: account.Aside})
	b.Match, b.Sum, b.Held, b.HeadingRow = []string{"userName"}, "abc", []string{"too many"}, 3
	require.NoError(t, l.Save(t.Context(), b))
	want, err := l.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	require.NoError(t, l.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	old, err := json.Marshal(want) // as version 2 wrote it
	require.NoError(t, err)
	require.Contains(t, string(old), `"HeadingRow":3`)
	_, err = db.Exec("UPDATE batches SET about = ?", string(old))
	require.NoError(t, err)
	for _, statement := range append(backTo3(), "PRAGMA user_version = 2") {
		_, err = db.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	_, err = sqlite.OpenToRead(t.Context(), path)
	require.ErrorIs(t, err, store.ErrOld)
	l = open(t, path)
	got, err := l.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	var text string
	db, err = sql.Open("sqlite", path)
	require.NoError(t, err)
	require.NoError(t, db.QueryRow("SELECT about FROM batches").Scan(&text))
	require.NoError(t, db.Close())
	assert.Contains(t, text, `"headingRow":3`)
	assert.NotContains(t, text, "HeadingRow")
}

// A sheet that comes slowly holds nobody up: until its rows are written together, others
// write.
func TestRowsComeSlowly(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	l, other := open(t, path), open(t, path)
	posting := drafted(t, l, batch.Entry{Intent: account.Create, Outcome: account.Waiting})
	slow := &batch.Batch{Made: noon}
	require.NoError(t, l.Begin(t.Context(), slow))
	spool := l.Spool(t.Context(), slow.ID)
	require.NoError(t, spool.Add([]string{"x"}, &mapping.Wanted{Row: 2}))
	begun := time.Now()
	_, _, err := other.Claim(t.Context(), posting.ID, "a", entries(t, other, posting.ID, store.Filter{}), noon, time.Minute)
	require.NoError(t, err)
	assert.Less(t, time.Since(begun), 5*time.Second)
	require.NoError(t, spool.Flush())
	spooled, err := l.Spooled(t.Context(), slow.ID, 0, 10)
	require.NoError(t, err)
	assert.Len(t, spooled, 1)
}

// A ledger can be looked at where nothing may be written, copied while it is in use, and
// says whether it is sound; one that others may read is refused.
func TestLookingAfterIt(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "l.db")
	l := open(t, path)
	b := drafted(t, l, batch.Entry{Outcome: account.Aside}, batch.Entry{Outcome: account.Refused})
	many := make([]int, 40000)
	for i := range many {
		many[i] = i
	}
	assert.Len(t, entries(t, l, b.ID, store.Filter{Rows: many}), 2, "however many rows are named")
	size, err := l.Copy(t.Context(), filepath.Join(dir, "copy.db"))
	require.NoError(t, err)
	assert.Positive(t, size)
	_, err = l.Copy(t.Context(), path)
	require.Error(t, err, "nothing is written over")
	require.NoError(t, l.Close())

	copied, err := sqlite.OpenToRead(t.Context(), filepath.Join(dir, "copy.db"))
	require.NoError(t, err)
	sound, err := copied.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.Soundness{Batches: 1, Entries: 2, Problems: []string{}}, sound)
	require.Error(t, copied.Save(t.Context(), b), "it is for reading")
	require.NoError(t, copied.Close())

	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("DELETE FROM entries WHERE row = 2")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	l = open(t, path)
	sound, err = l.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"batch 1 has 2 rows in, and 1 entries with 1 outcomes"}, sound.Problems)
	require.NoError(t, l.Close())

	require.NoError(t, os.Chmod(path, 0o640))
	_, err = sqlite.Open(t.Context(), path)
	assert.ErrorContains(t, err, "may be read by others (mode 0640)")
	_, err = sqlite.OpenToRead(t.Context(), path)
	assert.ErrorContains(t, err, "chmod 600")
	broken := filepath.Join(dir, "broken.db")
	data, err := os.ReadFile(filepath.Join(dir, "copy.db"))
	require.NoError(t, err)
	copy(data[100:], make([]byte, 4000))
	require.NoError(t, os.WriteFile(broken, data, 0o600))
	_, err = sqlite.Open(t.Context(), broken)
	assert.True(t, sqlite.IsDamaged(err), "%v", err)
}

// What batches made of late, and what they may have made, is known to the next draft; what
// was removed again is not.
func TestWhatWasMadeOfLate(t *testing.T) {
	l := open(t, filepath.Join(t.TempDir(), "l.db"))
	create := func(name string) batch.Entry {
		return batch.Entry{Intent: account.Create, Outcome: account.Waiting, Changes: []account.Change{{Field: "userName", After: account.Of(name)}}}
	}
	b := drafted(t, l, create("made"), create("open"), create("removed"), create("not sent"))
	b.Posted = noon
	require.NoError(t, l.Save(t.Context(), b))
	list := entries(t, l, b.ID, store.Filter{})
	intent, _, err := l.Claim(t.Context(), b.ID, "a", list[:3], noon, time.Minute)
	require.NoError(t, err)
	for _, i := range []int{0, 2} {
		list[i].Did, list[i].Outcome, list[i].Account = account.Created, account.Created, fmt.Sprint("id", i)
		require.NoError(t, l.Settle(t.Context(), b.ID, []store.Result{{Entry: list[i], Claim: intent}}, noon))
	}
	undo := drafted(t, l, batch.Entry{Intent: account.Remove, Outcome: account.Waiting, Account: "id2"})
	undo.Posted = noon
	require.NoError(t, l.Save(t.Context(), undo))
	gone := entries(t, l, undo.ID, store.Filter{})
	gone[0].Did, gone[0].Outcome = account.Removed, account.Removed
	require.NoError(t, l.Settle(t.Context(), undo.ID, []store.Result{{Entry: gone[0]}}, noon))
	known := func(since time.Time) (told []string) {
		require.NoError(t, l.MadeSince(t.Context(), "crewdesk", since, func(id int, e *batch.Entry, at time.Time) {
			told = append(told, fmt.Sprintf("%d %s %s", id, e.Changes[0].After.Text(), e.Account))
		}))
		return told
	}
	assert.Equal(t, []string{"1 open ", "1 made id0"}, known(noon.Add(-time.Minute)))
	assert.Equal(t, []string{"1 open "}, known(noon.Add(time.Minute)), "what is open stays so")
}
