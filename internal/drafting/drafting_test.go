package drafting_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"iter"
	mathrand "math/rand/v2"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
)

// A desk is a ledger and a system that sheets are drafted for.
type desk struct {
	t      *testing.T
	ledger store.Store
	system system.System
	made   *drafting.Made // of the last draft
}

func newDesk(t *testing.T, accounts ...account.Account) *desk {
	l, err := sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "ledger.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	return &desk{t: t, ledger: l, system: memory.New(accounts...)}
}

// ready readies a draft.
func (d *desk) ready(briefText, csv string) *drafting.Draft {
	b, err := brief.Parse("b.yaml", []byte(briefText), brief.Options{Today: "2027-03-01"})
	require.NoError(d.t, err)
	s, err := sheet.Read("s.csv", strings.NewReader(csv), sheet.Options{})
	require.NoError(d.t, err)
	return &drafting.Draft{
		Vaults: secret.NewVaults(filepath.Join(d.t.TempDir(), "keys")), Worker: store.Worker{Name: rand.Text(), Who: "a test", Term: time.Minute}, Ledger: d.ledger, System: d.system, Sheet: s, Rows: s.Rows(),
		Mapper: mapping.New(b, s.Info()), Batch: batch.Batch{Draft: batch.Draft{Made: time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC), System: "memory", Source: batch.Source{Sheet: "s.csv"}}},
	}
}

func (d *desk) draft(briefText, csv string) (*batch.Batch, map[int]batch.Entry, error) {
	made, err := d.ready(briefText, csv).Make(d.t.Context())
	if err != nil {
		return nil, nil, err
	}
	d.made = made
	entries := map[int]batch.Entry{}
	for e, err := range d.ledger.Entries(d.t.Context(), made.Batch.ID, store.Filter{Steps: false, Cells: true}) {
		require.NoError(d.t, err)
		require.NotContains(d.t, entries, e.Row, "a row has one entry")
		entries[e.Row] = e
	}
	counts, _, err := d.ledger.Counts(d.t.Context(), made.Batch.ID)
	require.NoError(d.t, err)
	require.Equal(d.t, made.Batch.Rows+made.Batch.Unlisted, counts.Total(), "rows in are the sum of the outcomes")
	require.Len(d.t, entries, counts.Total())
	return made.Batch, entries, nil
}

func person(login, name, title string, active bool) account.Account {
	fields := map[string]account.Value{"userName": account.Of(login), "displayName": account.Of(name), "active": account.Of(fmt.Sprint(active))}
	if title != "" {
		fields["title"] = account.Of(title)
	}
	return account.Account{Fields: fields}
}

const crewBrief = "match: [userName]\nfields:\n  userName: {from: Login, required: true}\n  displayName: {from: Name}\n  title: {from: Rank}\n  manager: {from: Boss, refers: userName}\n"

// Whatever is in a sheet, every row is decided once and as the rules say, no account is meant by two rows, and nothing
// in the system is touched.
func TestAnySheet(t *testing.T) {
	seed := mathrand.Uint64()
	t.Logf("seed %d", seed)
	r := mathrand.New(mathrand.NewPCG(seed, 1))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	for range 40 {
		d := newDesk(t, person("ana", "Ana Reyes", "Mate", true), person("bo", "Bo Lin", "", true), person("kai", "Kai Tove", "Cook", false))
		logins, rows := map[string]int{}, 1+r.IntN(12)
		text := "Login,Name,Rank,Boss\n"
		for i := range rows {
			login := pick("ana", "bo", "kai", "Mei", "tom", "", "zoë x", "new"+fmt.Sprint(i))
			logins[strings.ToLower(login)]++
			text += fmt.Sprintf("%s,%s,%s,%s\n", login, pick("Ana Reyes", "Mei Ōta", "N. N."), pick("", "Mate", "Bosun"), pick("", "", "ana", "tom", "nobody"))
		}
		b, entries, err := d.draft(crewBrief, text)
		require.NoError(t, err, text)
		assert.Equal(t, rows, b.Rows)
		meant := map[string]int{}
		for row, e := range entries {
			login := strings.ToLower(e.Cells[0])
			switch {
			case login == "" && strings.Join(e.Cells, "") == "":
			case login == "", strings.Contains(login, " "):
				assert.True(t, e.Outcome.IsBad(), "row %d of\n%s", row, text)
			case !e.Outcome.IsBad():
				assert.Equal(t, 1, logins[login], "row %d of\n%s", row, text)
			}
			if e.Outcome.Waits() {
				assert.False(t, account.HasError(e.Findings), "row %d of\n%s", row, text)
				assert.Equal(t, e.Intent == account.Create, e.Account == "", "row %d of\n%s", row, text)
			}
			if e.Account != "" && !e.Outcome.IsBad() {
				meant[e.Account]++
				assert.Equal(t, 1, meant[e.Account], "row %d of\n%s", row, text)
			}
			if e.Outcome == account.Unchanged {
				assert.Empty(t, e.Changes)
			}
		}
		n := 0
		for a, err := range d.system.List(t.Context(), []string{"userName", "title"}) {
			require.NoError(t, err)
			assert.Contains(t, []string{"ana", "bo", "kai"}, a.Field("userName").Text())
			n++
		}
		assert.Equal(t, 3, n, "a draft changes nothing")
	}
}

// Where nobody has what accounts are found by, everybody would seem to be new: it is told.
func TestNobodyHasTheKey(t *testing.T) {
	d := newDesk(t, person("ana", "Ana Reyes", "Mate", true), person("bo", "Bo Lin", "", true))
	const text = "match: [employeeNumber, userName]\ngone: suspend\nscope: title == \"Mate\"\nlimits: {suspend: 5}\nfields:\n  userName: {from: Login}\n  employeeNumber: {from: No}\n  title: {from: Rank}\n"
	_, _, err := d.draft(text, "Login,No,Rank\nana,7,Mate\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"employeeNumber"}, d.made.Keyless)
	_, _, err = newDesk(t).draft(text, "Login,No,Rank\nana,7,Mate\n")
	require.NoError(t, err, "where nobody is there, nothing is told")
}

// What cannot be carried out is no batch: nothing of it is left in the ledger.
func TestNothingIsLeftOfWhatBreaksOff(t *testing.T) {
	d := newDesk(t)
	s, err := sheet.Read("s.csv", strings.NewReader("Login,Name\nana,Ana\n"), sheet.Options{})
	require.NoError(t, err)
	b, err := brief.Parse("b.yaml", []byte(crewBrief), brief.Options{Today: "2027-03-01"})
	require.NoError(t, err)
	over, stop := context.WithCancel(t.Context())
	stop()
	_, err = (&drafting.Draft{Vaults: secret.NewVaults(t.TempDir()), Worker: store.Worker{Name: "w", Who: "a test", Term: time.Minute}, Ledger: d.ledger, System: d.system, Sheet: s, Rows: s.Rows(), Mapper: mapping.New(b, s.Info()),
		Batch: batch.Batch{Draft: batch.Draft{Made: time.Now(), System: "memory"}}}).Make(over)
	require.ErrorIs(t, err, context.Canceled)
	all, err := d.ledger.Batches(t.Context())
	require.NoError(t, err)
	for _, left := range all {
		assert.Equal(t, batch.Unmade, left.State)
	}
}

// A limit holds a batch back, and says by how much; a row that says what is to happen counts for more than the policy.
func TestLimitsAndIntents(t *testing.T) {
	d := newDesk(t, person("ana", "Ana Reyes", "Mate", true), person("bo", "Bo Lin", "", true), person("kai", "Kai Tove", "Cook", false))
	text := "Login,Do\nana,leaver\nbo,leaver\nkai,back\nmei,\n"
	briefText := "match: [userName]\nfields:\n  userName: {from: Login}\nintent: {from: Do, via: {leaver: suspend, back: resume}}\nlimits: {suspend: 1}\n"
	b, entries, err := d.draft(briefText, text)
	require.NoError(t, err)
	require.Len(t, b.Held, 1)
	assert.Contains(t, b.Held[0], "2")
	assert.Equal(t, []account.Intent{account.Suspend, account.Suspend, account.Resume, account.Create}, []account.Intent{entries[2].Intent, entries[3].Intent, entries[4].Intent, entries[5].Intent})
	b, _, err = d.draft(strings.Replace(briefText, "suspend: 1", "suspend: 2", 1), text)
	require.NoError(t, err)
	assert.Empty(t, b.Held)
	assert.NotEmpty(t, b.Seal, "what was drafted is sealed")
}

// finding is a system that is asked for accounts by their keys, so many in a request, and says what it was asked.
type finding struct {
	system.System
	mu    sync.Mutex
	asked map[string]int // value → how often
	most  int            // values in one request
}

func (f *finding) Describe(ctx context.Context) (*system.Description, error) {
	about, err := f.System.Describe(ctx)
	if err != nil {
		return nil, err
	}
	finds := *about
	finds.Can.Finds, finds.Can.Page, finds.Can.Around = 40, 1, 1_000_000
	return &finds, nil
}

func (f *finding) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.most = max(f.most, len(values))
	for _, value := range values {
		f.asked[value]++
	}
	return f.System.Find(ctx, field, values, fields)
}

// Where accounts are found by their keys, each key of a long sheet is asked for once, wherever it stands, and as it is written with its
// accents apart as well.
func TestFindsWhomALongSheetMeans(t *testing.T) {
	const rows = 2600
	var sheet strings.Builder
	sheet.WriteString("Login,Name\n")
	for i := range rows {
		fmt.Fprintf(&sheet, "crew.%d,Somebody\n", i)
	}
	sheet.WriteString("crew.3,Twice\nzoë,Somebody\n")
	d := newDesk(t, person("crew.7", "Ana", "", true), person("crew.1500", "Bo", "", true), person(fmt.Sprint("crew.", rows-1), "Kai", "", true), person("zoë", "Zoë", "", true), person("nobody.1", "Mei", "", true))
	at := &finding{System: d.system, asked: map[string]int{}}
	d.system = at
	b, entries, err := d.draft("match: [userName]\nfields:\n  userName: {from: Login}\n  displayName: {from: Name}\n", sheet.String())
	require.NoError(t, err)
	assert.False(t, d.made.Way.Listed)
	assert.Equal(t, 40, at.most, "requests are full, whatever is read at a time")
	assert.Len(t, at.asked, rows+2)
	for value, n := range at.asked {
		assert.Equal(t, 1, n, value)
	}
	counts := map[account.Intent]int{}
	for _, e := range entries {
		counts[e.Intent]++
	}
	assert.Equal(t, map[account.Intent]int{account.Update: 4, account.Create: rows - 4, account.None: 2}, counts)
	assert.Equal(t, account.Refused, entries[5].Outcome, "two rows of one key")
	assert.Equal(t, rows+2, b.Rows)
}

// A slow system takes longer than a lease lasts.
type slow struct{ system.System }

func (s slow) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		select {
		case <-time.After(300 * time.Millisecond):
			s.System.List(ctx, fields)(yield)
		case <-ctx.Done():
			yield(account.Account{}, context.Cause(ctx))
		}
	}
}

// The batches of a set are one worker's, which is heard of for all of them however long that takes.
func TestSeveralAreHeardOf(t *testing.T) {
	d := newDesk(t, person("ana", "Ana", "", true))
	var drafts []*drafting.Draft
	for range 3 {
		draft := d.ready(crewBrief, "Login,Name\nana,Ana\nbo,Bo\n")
		draft.System, draft.Worker.Term, draft.Batch.Set = slow{d.system}, 150*time.Millisecond, "quays"
		drafts = append(drafts, draft)
	}
	made, errs := drafting.MakeAll(t.Context(), drafts, nil)
	require.NoError(t, errors.Join(errs...))
	for _, m := range made {
		assert.Equal(t, 1, m.Batch.Beside)
	}
}
