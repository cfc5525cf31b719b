package app_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/clock"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

// A harbour is a kind of system of these tests alone: nothing but its line in the table
// tells the rooms above that there is one.
type harbour struct{ *memory.System }

func (h harbour) kind() system.Kind {
	return system.Kind{
		Name: "harbour",
		Settings: func(reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
			c := connection{harbour: h}
			return []yamldoc.Key{{Name: "quay", Form: yamldoc.Text, About: "Which quay.", Put: yamldoc.Into(&c.quay, yamldoc.Node.Text)}}, func(yamldoc.Given) system.Connection { return c }
		},
		IsOwn: func(field string) bool { return field == "unit" },
	}
}

type connection struct {
	harbour
	quay string
}

func (c connection) Address() string                         { return "harbour:" + c.quay }
func (c connection) Open(system.Work) (system.System, error) { return c.System, nil }

func open(t *testing.T, h harbour, files map[string]string) (*app.App, string) {
	dir := t.TempDir()
	files["evenledger.yaml"] = "systems:\n  north: {kind: harbour, quay: north, protect: [root]}\n"
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	return &app.App{Kinds: workspace.Kinds{Systems: []system.Kind{h.kind()}}, Dir: dir, By: "mvance", Clock: clock.NewFake(time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)), Mask: secret.NewMask(), Remark: t.Logf,
		Trace: nil}, dir
}

const berths = `match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  userName: {from: Login}
  unit: {from: Unit}
`

// A sheet is drafted for a kind of system that no other room has heard of.
func TestAnotherKindOfSystem(t *testing.T) {
	h := harbour{memory.NewDirectory("Deck")}
	a, dir := open(t, h, map[string]string{"briefs/berths.yaml": berths, "crew.csv": "No,Login,Unit\n1,zoe,Deck\n2,tom,\n3,,Deck\n"})
	j, err := a.Open(t.Context(), filepath.Join(dir, "crew.csv"), app.Request{Brief: "berths", Rows: "2-4"})
	require.NoError(t, err)
	defer j.Sheet.Close()
	l, err := sqlite.Open(t.Context(), j.Workspace.Ledger.Path)
	require.NoError(t, err)
	defer l.Close()
	d, err := a.Drafter(t.Context(), l, j)
	require.NoError(t, err)
	made, err := d.Make(t.Context())
	require.NoError(t, err)
	b := made.Batch
	assert.Equal(t, []any{"north", "harbour:north", "mvance", "berths", 3, []string{"root"}, account.Suspension{Field: "lock", Off: "locked"}},
		[]any{b.System, b.URL, b.By, b.Brief, b.Rows, b.Protect, b.Mark})
	counts, _, err := l.Counts(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, account.Counts{account.Waiting: 2, account.Refused: 1}, counts)
	assert.Equal(t, []string{"root"}, made.Unprotecting)

	again, err := a.Open(t.Context(), filepath.Join(dir, "crew.csv"), app.Request{Brief: "berths"})
	require.NoError(t, err)
	defer again.Sheet.Close()
	found, err := again.Row(t.Context(), 4)
	require.NoError(t, err)
	assert.Equal(t, "3", found.Wanted.Values[0].Text())

	target, err := app.SystemOf(j.Workspace, &batch.Batch{Draft: batch.Draft{System: "north"}})
	require.NoError(t, err)
	assert.Equal(t, "harbour:north", target.URL())
	var mistake *account.Mistake
	_, err = app.SystemOf(j.Workspace, &batch.Batch{Draft: batch.Draft{System: "south"}})
	require.ErrorAs(t, err, &mistake)
	b.State = batch.Withdrawing // a process that died in the middle of it
	require.NoError(t, l.Save(t.Context(), b))
	require.NoError(t, app.Withdraw(t.Context(), j.Workspace, l, b))
	assert.Equal(t, batch.Withdrawn, b.State)
	require.ErrorAs(t, app.Withdraw(t.Context(), j.Workspace, l, b), &mistake, "once is enough")
}

func TestMistakesAreTold(t *testing.T) {
	h := harbour{memory.NewDirectory("Deck")}
	a, dir := open(t, h, map[string]string{"briefs/berths.yaml": berths, "briefs/odd.yaml": berths + "  phone: {from: Nowhere, required: true}\n", "crew.csv": "No,Login,Unit\n1,zoe,Deck\n", "plain.csv": "Shoe size\n44\n"})
	for name, c := range map[string]struct {
		sheet   string
		request app.Request
		want    string
	}{
		"no such rows":     {"crew.csv", app.Request{Brief: "berths", Rows: "x"}, "--rows"},
		"no such encoding": {"crew.csv", app.Request{Brief: "berths", Encoding: "morse"}, "no encoding"},
		"no such policy":   {"crew.csv", app.Request{Brief: "berths", New: "perhaps"}, "--new"},
		"no such brief":    {"crew.csv", app.Request{Brief: "berht"}, "there is no brief “berht”"},
		"no such system":   {"crew.csv", app.Request{Brief: "berths", System: "south"}, "no system “south”"},
		"no key":           {"plain.csv", app.Request{}, "plain.csv"},
		"does not fit":     {"crew.csv", app.Request{Brief: "odd"}, "does not fit"},
	} {
		_, err := a.Open(t.Context(), filepath.Join(dir, c.sheet), c.request)
		var mistake *account.Mistake
		require.ErrorAs(t, err, &mistake, name)
		assert.Contains(t, mistake.Message, c.want, name)
	}
}

func TestCompare(t *testing.T) {
	entries := []batch.Entry{
		{Row: 2, Outcome: account.Unchanged}, {Row: 3, Outcome: account.Waiting, Intent: account.Create}, {Row: 4, Outcome: account.Waiting, Intent: account.Update},
		{Row: 5, Outcome: account.Refused, Findings: []account.Finding{account.Find(account.Error, account.NoKey, "x"), account.Find(account.Note, account.Unwrapped, "y")}},
		{Row: 6, Outcome: account.Aside}, {Row: batch.UnlistedRow(1), Outcome: account.Waiting, Intent: account.Suspend},
	}
	counts, refusals, err := app.Compare(func(yield func(batch.Entry, error) bool) {
		for _, e := range entries {
			if !yield(e, nil) {
				return
			}
		}
	})
	require.NoError(t, err)
	assert.Equal(t, app.States{app.Even: 1, app.Missing: 1, app.Differs: 1, app.Untold: 1, app.Aside: 1, app.Unlisted: 1}, counts)
	assert.False(t, counts.Even())
	assert.True(t, app.States{app.Even: 3, app.Aside: 1, app.Missing: 0}.Even())
	assert.Len(t, refusals, 1)
}

// Passwords leave once, and are kept nowhere after.
func TestSettlePasswords(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	w := &workspace.Workspace{Dir: dir, Ledger: workspace.Ledger{Path: filepath.Join(dir, "ledger.db")}}
	l, err := sqlite.Open(ctx, w.Ledger.Path)
	require.NoError(t, err)
	defer l.Close()
	w1 := store.Worker{Name: "w1", Term: time.Minute}
	b := &batch.Batch{Draft: batch.Draft{Made: time.Now(), Secrets: "generate"}}
	require.NoError(t, l.Begin(ctx, w1, b))
	sealed, err := app.Vaults(w, l).Of(b.ID, "").Seal(2, "Quay-41-Lantern")
	require.NoError(t, err)
	e := batch.Entry{Row: 2, Intent: account.Create, Outcome: account.Waiting, Secret: sealed, Changes: []account.Change{{Field: "userName", After: account.Of("zoe")}, {Field: "givenName", After: account.Of("Zoë")}}}
	require.NoError(t, l.Drafting(b.ID).Add(ctx, []batch.Entry{e}))
	require.NoError(t, l.Drafting(b.ID).Decide(ctx, []batch.Entry{e}))
	e.Did, e.Outcome = account.Created, account.Created
	require.NoError(t, l.Lease(b.ID, w1).Settle(ctx, []store.Result{{Entry: e}}, time.Now()))
	b.State = batch.Stopped
	require.NoError(t, l.Save(ctx, b))
	path := filepath.Join(dir, "words.csv")
	ana, tom := &app.App{By: "ana", Clock: clock.Real()}, &app.App{By: "tom", Clock: clock.Real()}
	settled, err := ana.SettlePasswords(ctx, w, l, b, secret.Envelope{}, "")
	require.NoError(t, err)
	assert.Equal(t, app.Settled{Kept: 1}, settled, "nobody gave an envelope")
	_, err = ana.SettlePasswords(ctx, w, l, b, secret.InClear(), filepath.Join(dir, "no", "folder", "words.csv"))
	require.Error(t, err)
	assert.Nil(t, b.Handout, "nothing was handed out")
	// Several want them at once: one gets the file, and the others hear who.
	results := make([]app.Settled, 4)
	var all sync.WaitGroup
	for i := range results {
		all.Go(func() {
			who, mine := []*app.App{ana, tom}[i%2], *b
			at := path
			if i > 0 {
				at = fmt.Sprintf("%s-%d", path, i)
			}
			var err error
			results[i], err = who.SettlePasswords(ctx, w, l, &mine, secret.InClear(), at)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	got := 0
	for i, s := range results {
		if got += s.Handed; s.Handed == 1 {
			path = map[bool]string{true: path, false: fmt.Sprintf("%s-%d", path, i)}[i == 0]
			continue
		}
		assert.Contains(t, s.Elsewhere(), "1 generated passwords were handed out by ")
	}
	require.Equal(t, 1, got)
	files, err := filepath.Glob(filepath.Join(dir, "words*"))
	require.NoError(t, err)
	assert.Len(t, files, 1)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data), "Quay-41-Lantern")
	// Who was killed when they were forgotten here, and before that was noted, has the only file.
	now, err := l.Batch(ctx, b.ID)
	require.NoError(t, err)
	now.Handout.Done = false
	require.NoError(t, l.Save(ctx, now))
	settled, err = tom.SettlePasswords(ctx, w, l, now, secret.InClear(), filepath.Join(dir, "late.csv"))
	require.NoError(t, err)
	assert.Zero(t, settled.Handed)
	assert.Contains(t, settled.Elsewhere(), "began to hand 1 generated passwords out at")
	assert.Contains(t, settled.Elsewhere(), "in a file of theirs, and nowhere else")
	assert.NoFileExists(t, filepath.Join(dir, "late.csv"))
	kept, err := l.Passwords(b.ID).Count(ctx)
	require.NoError(t, err)
	assert.Zero(t, kept)
	again, err := app.Vaults(w, l).Of(b.ID, "").Open(2, sealed)
	require.NoError(t, err, "the batch is not through: others of its rows may want their passwords")
	assert.Equal(t, "Quay-41-Lantern", again)
	b, err = l.Batch(ctx, b.ID)
	require.NoError(t, err)
	b.State = batch.Posted
	require.NoError(t, l.Save(ctx, b))
	_, err = ana.SettlePasswords(ctx, w, l, b, secret.Envelope{}, "")
	require.NoError(t, err)
	_, err = app.Vaults(w, l).Of(b.ID, "").Open(2, sealed)
	assert.Error(t, err, "what somebody kept of it can be opened by nobody")
}
