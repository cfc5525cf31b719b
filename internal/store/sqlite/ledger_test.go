package sqlite_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
)

func open(t *testing.T, path string) store.Store {
	l, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

func worker(name string) store.Worker {
	return store.Worker{Name: name, Who: name + " on a test", Lease: time.Minute}
}

// drafted makes a batch with one entry a row, from row 2 on.
func drafted(t *testing.T, l store.Store, entries ...batch.Entry) *batch.Batch {
	b := &batch.Batch{Made: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), System: "crewdesk", Rows: len(entries)}
	require.NoError(t, l.Begin(t.Context(), worker("drafter"), b))
	for i := range entries {
		entries[i].Row = i + 2
	}
	require.NoError(t, l.Add(t.Context(), b.ID, entries))
	require.NoError(t, l.Seal(t.Context(), b))
	b.State = batch.Drafted
	require.NoError(t, l.Save(t.Context(), b))
	_, err := l.Leave(t.Context(), b.ID, worker("drafter"))
	require.NoError(t, err)
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

func TestVersions(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	require.NoError(t, open(t, path).Close())
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

// backTo3 makes of the tables those of version 3, without what was in steps and claims.
func backTo3() []string {
	return []string{
		"DROP TABLE meta", "DROP TABLE workers", "DROP TABLE parts", "DROP TABLE history", "DROP TABLE signatures", "DROP TABLE keys", "ALTER TABLE batches DROP COLUMN revision", "ALTER TABLE batches DROP COLUMN counts", "DROP TABLE runs", "DROP TABLE outgoing", "DROP TABLE steps", "DROP TABLE attempts", "DROP TABLE claims", "ALTER TABLE results RENAME COLUMN claim TO intent",
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
	open, err := l.InFlight(t.Context(), b.ID, store.Part{High: 100})
	require.NoError(t, err)
	require.Len(t, open, 2, "what was about to be sent and has no result")
	assert.Equal(t, []int{3, 4}, []int{open[0].Entry.Row, open[1].Entry.Row})
	assert.Equal(t, "12:00:05", open[1].Sent.Format(time.TimeOnly))
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
	want.Revision = 0 // version 2 counted none
	assert.Equal(t, want, got)
	var text string
	db, err = sql.Open("sqlite", path)
	require.NoError(t, err)
	require.NoError(t, db.QueryRow("SELECT about FROM batches").Scan(&text))
	require.NoError(t, db.Close())
	assert.Contains(t, text, `"headingRow":3`)
	assert.NotContains(t, text, "HeadingRow")
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
	assert.Equal(t, []string{"batch 1: row 2 was taken out since it was drafted", "batch 1 has 2 rows in, and 1 entries with 1 outcomes"}, sound.Problems)
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

// What a worker left that was killed as it entered is gone when the next enters; what a living one
// holds stays.
func TestTidy(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l [of 2026].db")
	l := open(t, path)
	b := drafted(t, l, batch.Entry{Outcome: account.Waiting, Intent: account.Create})
	orphan := path + ".worker-DEAD.lock"
	require.NoError(t, os.WriteFile(orphan, nil, 0o600))
	_, err := l.Join(t.Context(), b.ID, worker("ana"))
	require.NoError(t, err)
	assert.NoFileExists(t, orphan)
	other := open(t, path)
	_, err = other.Join(t.Context(), b.ID, worker("tom"))
	require.NoError(t, err)
	assert.FileExists(t, path+".worker-ana.lock")
	for name, at := range map[string]store.Store{"ana": l, "tom": other} {
		_, err = at.Leave(t.Context(), b.ID, worker(name))
		require.NoError(t, err)
	}
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	for _, file := range left {
		assert.NotContains(t, file.Name(), ".worker-")
	}
}

// Many who look for the first time at once get in each other's way no more than one after the other.
func TestManyReadersAtOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	b := drafted(t, open(t, path), batch.Entry{Outcome: account.Aside})
	for range 20 {
		l := open(t, path)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		var all sync.WaitGroup
		for range 16 {
			all.Go(func() {
				for _, err := range l.Entries(ctx, b.ID, store.Filter{Cells: true}) {
					assert.NoError(t, err)
				}
			})
		}
		all.Wait()
		cancel()
	}
}
