package sqlite_test

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
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
	return store.Worker{Name: name, Who: name + " on a test", Term: time.Minute}
}

// drafted makes a batch with one entry a row, from row 2 on.
func drafted(t *testing.T, l store.Store, entries ...batch.Entry) *batch.Batch {
	b := &batch.Batch{Draft: batch.Draft{Made: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), System: "crewdesk", Source: batch.Source{Rows: len(entries)}}}
	require.NoError(t, l.Begin(t.Context(), worker("drafter"), b))
	for i := range entries {
		entries[i].Row = i + 2
	}
	require.NoError(t, l.Drafting(b.ID).Add(t.Context(), entries))
	require.NoError(t, l.Drafting(b.ID).Seal(t.Context(), b))
	b.State = batch.Drafted
	require.NoError(t, l.Save(t.Context(), b))
	_, err := l.Lease(b.ID, worker("drafter")).Leave(t.Context())
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

// old has a ledger say that its tables are of another version.
func old(t *testing.T, path string, version int) {
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", version))
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

func TestVersions(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	require.NoError(t, open(t, path).Close())
	old(t, path, 99)
	_, err := sqlite.Open(t.Context(), path)
	require.ErrorContains(t, err, "newer evenledger")
	_, err = sqlite.OpenToRead(t.Context(), path)
	require.ErrorIs(t, err, store.ErrOld)
	old(t, path, 7)
	_, err = sqlite.Open(t.Context(), path)
	require.ErrorContains(t, err, "has tables of version 7, which this evenledger cannot bring to")
	junk := filepath.Join(t.TempDir(), "junk.db")
	require.NoError(t, os.WriteFile(junk, []byte("this is no database, however long one looks at it"), 0o600))
	_, err = sqlite.Open(t.Context(), junk)
	assert.ErrorContains(t, err, "not a database")
	_, err = sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "no", "folder", "l.db"))
	assert.Error(t, err)
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
	size, err := l.Upkeep().Copy(t.Context(), filepath.Join(dir, "copy.db"))
	require.NoError(t, err)
	assert.Positive(t, size)
	_, err = l.Upkeep().Copy(t.Context(), path)
	require.Error(t, err, "nothing is written over")
	require.NoError(t, l.Close())

	copied, err := sqlite.OpenToRead(t.Context(), filepath.Join(dir, "copy.db"))
	require.NoError(t, err)
	sound, err := copied.Upkeep().Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.Soundness{Batches: 1, Entries: 2, Problems: []string{}}, sound)
	require.Error(t, copied.Save(t.Context(), b), "it is for reading")
	ended, stop := context.WithCancel(t.Context())
	stop()
	_, err = l.Upkeep().Copy(ended, filepath.Join(dir, "cut.db"))
	require.Error(t, err)
	half, err := filepath.Glob(filepath.Join(dir, "*c[ou][tp]*"))
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(dir, "copy.db")}, slices.DeleteFunc(half, func(name string) bool { return strings.HasPrefix(filepath.Base(name), "copy.db-") }), "what is not whole has no name")
	require.NoError(t, copied.Close())

	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("DELETE FROM entries WHERE row = 2")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	l = open(t, path)
	sound, err = l.Upkeep().Check(t.Context())
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
	_, err := l.Lease(b.ID, worker("ana")).Join(t.Context())
	require.NoError(t, err)
	assert.NoFileExists(t, orphan)
	other := open(t, path)
	_, err = other.Lease(b.ID, worker("tom")).Join(t.Context())
	require.NoError(t, err)
	assert.FileExists(t, path+".worker-ana.lock")
	for name, at := range map[string]store.Store{"ana": l, "tom": other} {
		_, err = at.Lease(b.ID, worker(name)).Leave(t.Context())
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
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
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

// Each link of a history holds the hash of the one before it, as docs/team.md says how.
func TestLinksHoldEachOther(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	l := open(t, path)
	b := drafted(t, l, batch.Entry{Outcome: account.Aside})
	for range 3 {
		require.NoError(t, l.Save(t.Context(), b))
	}
	require.NoError(t, l.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.Query("SELECT chain, n, at, what, body, hash FROM history ORDER BY chain DESC, n") // the draft's first
	require.NoError(t, err)
	defer rows.Close()
	before, seal, links := "", "", 0
	for rows.Next() {
		var chain, n, at, what, body, hash string
		require.NoError(t, rows.Scan(&chain, &n, &at, &what, &body, &hash))
		if chain == "batch" && n == "0" {
			before, seal = seal, ""
		}
		h := sha256.New()
		for _, text := range []string{before, chain, n, at, what, body} {
			require.NoError(t, binary.Write(h, binary.BigEndian, uint64(len(text))))
			h.Write([]byte(text))
		}
		assert.Equal(t, hash, hex.EncodeToString(h.Sum(nil)), "%s %s", chain, n)
		before, links = hash, links+1
		if chain == "draft" {
			seal = hash
		}
	}
	require.NoError(t, rows.Err())
	assert.Equal(t, b.Seal, func() string {
		var seal string
		require.NoError(t, db.QueryRow("SELECT hash FROM history WHERE chain = 'draft' ORDER BY n DESC LIMIT 1").Scan(&seal))
		return seal
	}())
	assert.Equal(t, 6, links)
}
