package posting_test

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"iter"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/clock"
	"evenledger/internal/drafting"
	"evenledger/internal/feed"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/posting"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

// The tests here take a sheet all the way, with the system in memory.

const crew = `match: [employeeNumber, userName]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  familyName: {from: Last}
  userName: {from: Login, make: 'fold(givenName) + "." + fold(familyName)', unique: number}
  email: {from: Mail, make: 'userName + "@x.example"', unique: refuse}
  title: {from: Position, clear_when_blank: true}
  department: {from: Department}
`

const columns = "No,First,Last,Login,Mail,Position,Department\n"

func someone(number, first, last, title string) account.Account {
	login := strings.ToLower(first + "." + last)
	fields := map[string]account.Value{"givenName": account.Of(first), "familyName": account.Of(last), "userName": account.Of(login), "email": account.Of(login + "@x.example")}
	for name, text := range map[string]string{"employeeNumber": number, "title": title} {
		if text != "" {
			fields[name] = account.Of(text)
		}
	}
	return account.Account{Fields: fields}
}

// worker is a process that is at a batch.
func worker() store.Worker {
	return store.Worker{Name: rand.Text(), Who: "a test", Term: time.Minute}
}

// everything is a part with all rows.
var everything = store.Part{High: math.MaxInt32}

type world struct {
	begin, end []batch.Whole  // of the drafts that it makes
	delivery   *feed.Delivery // that they are made of; nil: of none
	t          require.TestingT
	ledger     store.Store
	system     *memory.System
	target     system.System // drafted for, if it is another than system
	vaults     *secret.Vaults
	clock      *clock.Fake

	secrets string                  // as in batch.Batch
	own     map[string]account.Kind // the system's own fields
}

func newWorld(t *testing.T, accounts ...account.Account) *world {
	l, err := sqlite.Open(t.Context(), filepath.Join(t.TempDir(), "ledger.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	return &world{t: t, ledger: l, system: memory.New(accounts...), vaults: secret.NewVaults(filepath.Join(t.TempDir(), "keys")), clock: clock.NewFake(time.Now())}
}

// anew begins anew with another system, so much later that what was made before is old.
func (w *world) anew(t require.TestingT, accounts ...account.Account) {
	w.t, w.system = t, memory.New(accounts...)
	require.NoError(t, w.clock.Wait(context.Background(), 48*time.Hour))
}

func (w *world) draft(briefText, csv string) *batch.Batch {
	b, err := brief.Parse("b.yaml", []byte(briefText), brief.Options{Today: "2026-11-23", Own: func(string) map[string]account.Kind { return w.own }})
	require.NoError(w.t, err)
	return w.draftBy(b, csv)
}

func (w *world) draftBy(b *brief.Brief, csv string) *batch.Batch {
	s, err := sheet.Read("s.csv", strings.NewReader(csv), sheet.Options{})
	require.NoError(w.t, err)
	target := w.target
	if target == nil {
		target = w.system
	}
	d := &drafting.Draft{Vaults: w.vaults, Worker: worker(), Ledger: w.ledger, System: target, Sheet: s, Rows: s.Rows(), Mapper: mapping.New(b, s.Info()), Batch: batch.Batch{Draft: batch.Draft{Made: w.clock.Now(), System: "memory", Secrets: w.secrets, Begin: w.begin, End: w.end, Source: batch.Source{Delivery: w.delivery}}}}
	made, err := d.Make(context.Background())
	require.NoError(w.t, err)
	w.even(made.Batch)
	return made.Batch
}

func (w *world) post(ctx context.Context, b *batch.Batch, trial int) error {
	err := (&posting.Post{Ledger: w.ledger, Worker: worker(), System: w.system, Batch: b, Together: 3, Settle: 20 * time.Millisecond, Trial: trial, Vault: w.vaults.Of(b.ID, ""), Clock: w.clock}).Run(ctx)
	w.even(b)
	return err
}

// even sees that the rows in are the sum of the outcomes.
func (w *world) even(b *batch.Batch) account.Counts {
	counts, _, err := w.ledger.Counts(context.Background(), b.ID)
	require.NoError(w.t, err)
	require.Equal(w.t, b.Rows+b.Unlisted, counts.Total(), "the batch is not even: %v", counts)
	return counts
}

func (w *world) entries(b *batch.Batch) []batch.Entry {
	var all []batch.Entry
	for e, err := range w.ledger.Entries(context.Background(), b.ID, store.Filter{}) {
		require.NoError(w.t, err)
		all = append(all, e)
	}
	return all
}

// told says what an entry came to: its outcome or intent, the code of its first
// error, and its changes.
func told(e batch.Entry) string {
	text := string(e.Outcome)
	if e.Outcome.Waits() {
		text = "to " + string(e.Intent)
	}
	for _, f := range e.Findings {
		if f.Level == account.Error {
			return text + " " + string(f.Code)
		}
	}
	for _, c := range e.Changes {
		if e.Intent == account.Update {
			text += fmt.Sprintf(" %s:%s→%s", c.Field, c.Before.Text(), c.After.Text())
		} else if c.Field == "userName" {
			text += " " + c.After.Text()
		}
	}
	return text
}

func TestDecide(t *testing.T) {
	t.Parallel()
	ana, tom := someone("7", "Ana", "Reyes", "Clerk"), someone("8", "Tom", "Kaya", "")
	nobody := someone("", "Mei", "Lin", "Pilot") // has no number yet
	double := someone("9", "Two", "Faces", "")
	twin := someone("9", "Twin", "Faces", "")
	for name, c := range map[string]struct {
		brief string
		rows  string
		want  []string
	}{
		"new":                       {crew, "1,Zoë,Ångström,,,,\n", []string{"to create zoe.angstrom"}},
		"nothing to change":         {crew, "7,Ana,Reyes,,,Clerk,\n", []string{"unchanged"}},
		"update":                    {crew, "7,Ana,Reyes,,,Chief,Deck\n", []string{"to update title:Clerk→Chief department:→Deck"}},
		"a blank that clears":       {crew, "7,Ana,Reyes,,,,\n", []string{"to update title:Clerk→"}},
		"a sign-in name stays":      {crew, "7,Ana,Soto,,,Clerk,\n", []string{"to update familyName:Reyes→Soto"}},
		"by the second key":         {crew, ",Mei,Lin,,,Pilot,\n", []string{"unchanged"}},
		"number filled in":          {crew, "20,Mei,Lin,,,Pilot,\n", []string{"to update employeeNumber:→20"}},
		"namesake gets a number":    {crew, "1,Ana,Reyes,,,,\n2,Ana,Reyes,,,,\n", []string{"to create ana.reyes2", "to create ana.reyes3"}},
		"namesake and the known":    {crew, "1,Ana,Reyes,,,,\n7,Ana,Reyes,,,Clerk,\n2,Ana,Reyes,,,,\n", []string{"to create ana.reyes2", "unchanged", "to create ana.reyes3"}},
		"key of two accounts":       {crew, "9,Two,Faces,,,,\n", []string{"refused two-accounts"}},
		"keys of two people":        {strings.Replace(crew, ", unique: number", "", 1), "7,Tom,Kaya,,,,\n", []string{"refused two-things"}},
		"another person's name":     {strings.Replace(crew, ", unique: number", "", 1), "1,Ana,Reyes,,,,\n", []string{"refused different-person"}},
		"no key":                    {strings.Replace(crew, ", userName]", "]", 1), ",Ana,Reyes,,,Clerk,\n", []string{"refused no-key"}},
		"address taken":             {crew, "1,New,Person,,Ana.Reyes@x.example,,\n", []string{"refused taken-value"}},
		"address of another":        {crew, "8,Tom,Kaya,,ana.reyes@x.example,,\n", []string{"refused taken-value"}},
		"two rows, one account":     {crew, "8,Tom,Kaya,,,,\n,Tom,Kaya,tom.kaya,other@x.example,,\n", []string{"refused same-account", "refused same-account"}},
		"required and missing":      {"match: [employeeNumber]\nfields:\n  employeeNumber: {from: No}\n  userName: {from: Login}\n", "1,,,,,,\n7,,,,,,\n", []string{"refused blank-required", "unchanged"}},
		"fallback on a new account": {strings.Replace(crew, "department: {from: Department}", "department: {from: Nowhere, fallback: Deck}", 1), "7,Ana,Reyes,,,Clerk,\n", []string{"unchanged"}},
		"new: skip":                 {crew + "new: skip\n", "1,Zoë,Ångström,,,,\n", []string{"aside"}},
		"new: refuse":               {crew + "new: refuse\n", "1,Zoë,Ångström,,,,\n", []string{"refused new-refused"}},
		"known: skip":               {crew + "known: skip\n", "7,Ana,Soto,,,,\n", []string{"aside"}},
		"known: refuse":             {crew + "known: refuse\n", "7,Ana,Soto,,,,\n", []string{"refused known-refused"}},
		"known: fill":               {crew + "known: fill\n", "7,Ana,Soto,,,Chief,Deck\n", []string{"to update department:→Deck"}},
		"capitals of a key":         {crew, ",Tom,Kaya,TOM.KAYA,,,\n", []string{"unchanged"}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, ana, tom, nobody, double, twin)
			b := w.draft(c.brief, columns+c.rows)
			var got []string
			for _, e := range w.entries(b) {
				got = append(got, told(e))
			}
			assert.Equal(t, c.want, got)
			assert.Zero(t, w.system.Changes(), "a draft changes nothing")
		})
	}
}

func TestPost(t *testing.T) {
	t.Parallel()
	w := newWorld(t, someone("7", "Ana", "Reyes", "Clerk"))
	sheetText := columns + "7,Ana,Reyes,,,Chief,\n1,Zoë,Ångström,,,,\n2,Tom,Kaya,,,Bosun,\n"
	b := w.draft(crew, sheetText)
	require.NoError(t, w.post(t.Context(), b, 1))
	assert.Equal(t, 1, w.system.Changes(), "a trial of one")
	assert.Equal(t, batch.Stopped, b.State)
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, batch.Posted, b.State)
	assert.Equal(t, account.Counts{account.Created: 2, account.Updated: 1}, w.even(b))
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, 3, w.system.Changes(), "posting again does nothing")
	all := w.system.Accounts()
	assert.Equal(t, "Chief", all["ana.reyes"].Field("title").Text())
	assert.Equal(t, "2", all["tom.kaya"].Field("employeeNumber").Text())
	assert.Equal(t, account.Counts{account.Unchanged: 3}, w.even(w.draft(crew, sheetText)), "the same sheet again finds nothing to do")
}

func TestStale(t *testing.T) {
	t.Parallel()
	w := newWorld(t, someone("7", "Ana", "Reyes", "Clerk"), someone("8", "Tom", "Kaya", ""))
	b := w.draft(crew, columns+"7,Ana,Reyes,,,Chief,\n8,Tom,Kaya,,,Bosun,\n1,Zoë,Ångström,,,,\n")
	w.system.Set("ana.reyes", map[string]account.Value{"department": account.Of("Office")})
	_, err := systemtest.Create(t.Context(), nil, w.system, someone("1", "Zora", "Other", ""), nil)
	require.NoError(t, err)
	require.NoError(t, w.post(t.Context(), b, 0))
	entries := w.entries(b)
	assert.Equal(t, "refused stale", told(entries[0]))
	assert.Equal(t, account.Updated, entries[1].Outcome)
	assert.Equal(t, "refused stale", told(entries[2]), "somebody made the account in the meantime")
	assert.Equal(t, "Clerk", w.system.Accounts()["ana.reyes"].Field("title").Text())
}

func TestRefusalsAreTold(t *testing.T) {
	t.Parallel()
	w := newWorld(t, someone("7", "Ana", "Reyes", ""))
	b := w.draft(crew, columns+"1,Zoë,Ångström,,,,\n7,Ana,Reyes,,,Chief,\n2,Tom,Kaya,,,,\n")
	w.system.Before = func(action string, a account.Account) error {
		switch {
		case action == "change":
			return system.ErrGone
		case a.Field("givenName").Text() == "Zoë":
			return &system.Refusal{Code: account.SystemRefused, Message: "not today"}
		}
		return nil
	}
	require.NoError(t, w.post(t.Context(), b, 0))
	entries := w.entries(b)
	assert.Equal(t, "failed system-refused", told(entries[0]))
	assert.Equal(t, "failed account-gone", told(entries[1]))
	assert.Equal(t, account.Created, entries[2].Outcome)
}

// An answer that is lost, before or after the request was carried out, leads to
// the same end as one that arrives.
func TestUnclearAnswers(t *testing.T) {
	t.Parallel()
	for name, lose := range map[string]func(*memory.System, func() error){
		"before": func(s *memory.System, fail func() error) {
			s.Before = func(string, account.Account) error { return fail() }
		},
		"after": func(s *memory.System, fail func() error) {
			s.After = func(string, account.Account) error { return fail() }
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, someone("7", "Ana", "Reyes", "Clerk"))
			b := w.draft(crew, columns+"7,Ana,Reyes,,,Chief,\n1,Zoë,Ångström,,,,\n2,Tom,Kaya,,,,\n3,Mei,Lin,,,,\n")
			var mu sync.Mutex
			lost := 0
			lose(w.system, func() error {
				mu.Lock()
				defer mu.Unlock()
				if lost++; lost <= 2 {
					return &system.Unclear{Err: errors.New("the line went dead")}
				}
				return nil
			})
			require.NoError(t, w.post(t.Context(), b, 0))
			assert.Equal(t, account.Counts{account.Created: 3, account.Updated: 1}, w.even(b))
			assert.Equal(t, 4, w.system.Changes(), "nothing was done twice")
		})
	}
	w := newWorld(t)
	b := w.draft(crew, columns+"1,Zoë,Ångström,,,,\n")
	w.system.Before = func(string, account.Account) error { return &system.Unclear{Err: errors.New("always")} }
	var open *system.Unclear
	require.ErrorAs(t, w.post(t.Context(), b, 0), &open)
	assert.Equal(t, "to create zoe.angstrom", told(w.entries(b)[0]), "what is not clear is neither done nor failed")
	assert.Equal(t, account.NotClearYet, w.entries(b)[0].Findings[0].Code)
	w.system.Before = nil
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, account.Counts{account.Created: 1}, w.even(b))
	assert.Empty(t, w.entries(b)[0].Findings, "what was not clear is so by now")

	// What was taken in, to be made later, is sent once, however often it is looked for.
	w = newWorld(t)
	b = w.draft(crew, columns+"1,Zoë,Ångström,,,,\n2,Tom,Kaya,,,,\n")
	var sent atomic.Int32
	w.system.Before = func(action string, a account.Account) error {
		if action != "create" {
			return nil
		}
		sent.Add(1)
		return &system.Unclear{Err: errors.New("later"), TakenIn: true}
	}
	for range 3 {
		require.NoError(t, w.post(t.Context(), b, 0))
		assert.Equal(t, account.Counts{account.HandedOver: 2}, w.even(b))
	}
	assert.Equal(t, int32(2), sent.Load())
	assert.Equal(t, account.TakenIn, w.entries(b)[0].Findings[0].Code)
	w.system.Before = nil
	made := account.Account{Fields: map[string]account.Value{}}
	for _, c := range w.entries(b)[0].Changes {
		made.Fields[c.Field] = c.After
	}
	_, err := systemtest.Create(t.Context(), nil, w.system, made, nil)
	require.NoError(t, err)
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, account.Counts{account.Created: 1, account.HandedOver: 1}, w.even(b))
	assert.Equal(t, []string{"created zoe.angstrom", "handed over tom.kaya"}, []string{told(w.entries(b)[0]), told(w.entries(b)[1])})
	assert.Empty(t, w.entries(b)[0].Findings)
}

// asking is a system that takes accounts in to make them later, and says by itself what became of them.
type asking struct {
	*memory.System
	asked  int
	answer func() (account.Account, error)
}

func (a *asking) Apply(context.Context, system.Permit, []system.Order, []string) ([]system.Result, error) {
	return nil, &system.Unclear{Err: errors.New("later"), TakenIn: true, Ask: "/jobs/1"}
}

func (a *asking) Ask(context.Context, string, []string) (account.Account, error) {
	a.asked++
	return a.answer()
}

// What was taken in is asked about by each post until the system says what became of it; of what it has forgotten, the account is
// looked for, however long after the request it was made.
func TestAskedAfter(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		made   string // the title of an account that is there by then; empty: none
		answer func(made account.Account) (account.Account, error)
		want   string
		tells  string // of the row
		asked  int    // by two posts
	}{
		"not yet": {"", func(account.Account) (account.Account, error) {
			return account.Account{}, &system.Unclear{TakenIn: true, Err: errors.New("later")}
		}, "handed over zoe.angstrom", "to make it later; it is not sent again", 2},
		"it was made": {"Mate", func(a account.Account) (account.Account, error) { return a, nil }, "created zoe.angstrom", "", 1},
		"it came to nothing": {"", func(account.Account) (account.Account, error) {
			return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: "no berth"}
		}, "failed system-refused", "no berth", 1},
		"forgotten, and made":   {"Mate", func(account.Account) (account.Account, error) { return account.Account{}, system.ErrGone }, "created zoe.angstrom", "", 1},
		"forgotten, and nobody": {"", func(account.Account) (account.Account, error) { return account.Account{}, system.ErrGone }, "handed over zoe.angstrom", "knows nothing of it any more", 1},
		"another says it is": {"Mate", func(a account.Account) (account.Account, error) {
			a.ID, a.Fields = "77", map[string]account.Value{"employeeNumber": account.Of("77")}
			return a, nil
		}, "created zoe.angstrom", "", 1},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			s := &asking{System: w.system}
			w.target = s
			b := w.draft(crew, columns+"1,Zoë,Ångström,,,Mate,\n")
			post := func() batch.Entry {
				require.NoError(t, (&posting.Post{Ledger: w.ledger, Worker: worker(), System: s, Batch: b, Settle: 10 * time.Millisecond, Timeout: time.Second, Clock: w.clock}).Run(t.Context()))
				w.even(b)
				return w.entries(b)[0]
			}
			require.Equal(t, "handed over zoe.angstrom", told(post()))
			require.NoError(t, w.clock.Wait(t.Context(), time.Hour))
			var made account.Account
			if c.made != "" {
				made.Fields = map[string]account.Value{}
				for _, change := range w.entries(b)[0].Changes {
					made.Fields[change.Field] = change.After
				}
				var err error
				made, err = systemtest.Create(t.Context(), nil, w.system, made, nil)
				require.NoError(t, err)
			}
			s.answer = func() (account.Account, error) { return c.answer(made) }
			post()
			e := post()
			text := ""
			for _, f := range e.Findings {
				text += f.Message
			}
			assert.Equal(t, []any{c.want, c.asked}, []any{told(e), s.asked}, text)
			assert.Contains(t, text, c.tells)
			if c.tells == "" {
				assert.Empty(t, text)
			}
			assert.Equal(t, map[bool]int{true: 1}[c.made != ""], w.system.Changes())
		})
	}
}

// unlisted is a system that cannot be searched any more.
type unlisted struct {
	*memory.System
	err error
}

func (u *unlisted) List(context.Context, []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) { yield(account.Account{}, u.err) }
}

// Trouble before anything is sent is told, and leaves everything waiting.
func TestLookUpFails(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := w.draft(crew, columns+"1,Zoë,Ångström,,,,\n2,Tom,Kaya,,,,\n")
	post := &posting.Post{Ledger: w.ledger, Worker: worker(), System: &unlisted{w.system, &system.Unavailable{Message: "turned away"}}, Batch: b, Together: 2, Clock: w.clock}
	var gone *system.Unavailable
	require.ErrorAs(t, post.Run(t.Context()), &gone)
	assert.Equal(t, account.Counts{account.Waiting: 2}, w.even(b))
	assert.Zero(t, w.system.Changes())
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, 2, w.system.Changes())
}

// A create whose answer was lost stays open when the next try is turned away, and
// its account is known as ours when the post goes on.
func TestUnclearThenUnavailable(t *testing.T) {
	t.Parallel()
	for name, carriedOut := range map[string]bool{"carried out": true, "not carried out": false} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			b := w.draft(crew, columns+"1,Zoë,Ångström,,,,\n")
			calls := 0
			w.system.Before = func(string, account.Account) error {
				if calls++; calls == 1 {
					return &system.Unclear{Err: errors.New("the line went dead")}
				}
				return &system.Unavailable{Message: "turned away"}
			}
			require.Error(t, w.post(t.Context(), b, 0))
			open, err := w.ledger.InFlight(t.Context(), b.ID, everything)
			require.NoError(t, err)
			require.Len(t, open, 1, "it is open what became of the first request")
			w.system.Before = nil
			if carriedOut { // and seen only now
				_, err := systemtest.Create(t.Context(), nil, w.system, account.Account{Fields: map[string]account.Value{"employeeNumber": account.Of("1"), "givenName": account.Of("Zoë"), "familyName": account.Of("Ångström"), "userName": account.Of("zoe.angstrom"), "email": account.Of("zoe.angstrom@x.example")}}, nil)
				require.NoError(t, err)
			}
			require.NoError(t, w.post(t.Context(), b, 0))
			assert.Equal(t, 1, w.even(b)[account.Created])
			assert.Equal(t, 1, w.system.Changes(), "nobody is there twice")
		})
	}
}

func TestUnavailableStops(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := w.draft(crew, columns+"1,Zoë,Ångström,,,,\n2,Tom,Kaya,,,,\n3,Mei,Lin,,,,\n4,Ana,Reyes,,,,\n")
	var calls int
	w.system.Before = func(string, account.Account) error {
		if calls++; calls > 1 {
			return &system.Unavailable{Message: "turned away"}
		}
		return nil
	}
	post := &posting.Post{Ledger: w.ledger, Worker: worker(), System: w.system, Batch: b, Together: 1, Clock: w.clock}
	var gone *system.Unavailable
	require.ErrorAs(t, post.Run(t.Context()), &gone)
	assert.Equal(t, account.Counts{account.Created: 1, account.Waiting: 3}, w.even(b))
	assert.Equal(t, batch.Stopped, b.State)
	w.system.Before = nil
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, 4, w.system.Changes())
}

// A post that dies at any call, with its requests carried out or not, is gone on
// with as if it had never died.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	rapid.Check(t, func(rt *rapid.T) {
		rows := rapid.IntRange(1, 12).Draw(rt, "rows")
		killAt := rapid.IntRange(1, rows).Draw(rt, "kill at")
		done := rapid.Bool().Draw(rt, "carried out before the kill")
		w.anew(rt, someone("100", "Ana", "Reyes", "Clerk"))
		var csv strings.Builder
		csv.WriteString(columns + "100,Ana,Reyes,,,Chief,\n")
		for i := range rows - 1 {
			fmt.Fprintf(&csv, "%d,Crew%d,Person,,,,\n", i, i)
		}
		b := w.draft(crew, csv.String())
		var mu sync.Mutex
		calls := 0
		die := func(string, account.Account) error {
			mu.Lock()
			defer mu.Unlock()
			if calls++; calls >= killAt {
				return &system.Unclear{Err: errors.New("killed")}
			}
			return nil
		}
		if done {
			w.system.After = die
		} else {
			w.system.Before = die
		}
		// A killed process notes nothing more: its context is over and the system
		// cannot even be read, so every open step stays open.
		ctx, cancel := context.WithCancel(context.Background())
		dead := &deadAfter{System: w.system, dead: func() bool { mu.Lock(); defer mu.Unlock(); return calls >= killAt }}
		err := (&posting.Post{Ledger: w.ledger, Worker: worker(), System: dead, Batch: b, Together: 2, Clock: w.clock}).Run(ctx)
		cancel()
		require.Error(rt, err)
		w.even(b)
		w.system.Before, w.system.After = nil, nil
		require.NoError(rt, w.post(context.Background(), b, 0))
		counts := w.even(b)
		require.Equal(rt, rows-1, counts[account.Created])
		require.Equal(rt, 1, counts[account.Updated])
		require.Len(rt, w.system.Accounts(), rows, "nobody is there twice")
		require.Equal(rt, rows, w.system.Changes(), "nothing was done twice")
	})
}

// deadAfter answers no more reads once it is dead.
type deadAfter struct {
	*memory.System
	dead func() bool
}

func (d *deadAfter) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	if d.dead() {
		return account.Account{}, errors.New("killed")
	}
	return d.System.Get(ctx, id, fields)
}

func (d *deadAfter) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	if d.dead() {
		return func(yield func(account.Account, error) bool) { yield(account.Account{}, errors.New("killed")) }
	}
	return d.System.List(ctx, fields)
}

func TestStopEndsCleanly(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var csv strings.Builder
	csv.WriteString(columns)
	for i := range 300 {
		fmt.Fprintf(&csv, "%d,Crew%d,Person,,,,\n", i, i)
	}
	b := w.draft(crew, csv.String())
	ctx, cancel := context.WithCancel(t.Context())
	w.system.Before = func(string, account.Account) error {
		if w.system.Changes() == 40 {
			cancel()
		}
		return nil
	}
	require.ErrorIs(t, w.post(ctx, b, 0), context.Canceled)
	counts := w.even(b)
	assert.Equal(t, w.system.Changes(), counts[account.Created], "what was sent is noted")
	open, err := w.ledger.InFlight(t.Context(), b.ID, everything)
	require.NoError(t, err)
	assert.Empty(t, open, "nothing is left open")
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, 300, w.system.Changes())
}

// For any sheet: a draft is even, posting carries out just what it said, and the
// same sheet again has nothing left to do.
func TestAlwaysEven(t *testing.T) {
	t.Parallel()
	number := rapid.SampledFrom([]string{"", "1", "2", "3", "7", "8", "x"})
	name := rapid.SampledFrom([]string{"", "Ana", "Tom", "Zoë", "Mei"})
	row := rapid.Custom(func(t *rapid.T) string {
		return strings.Join([]string{number.Draw(t, "no"), name.Draw(t, "first"), name.Draw(t, "last"), "", rapid.SampledFrom([]string{"", "a@x.example", "bad"}).Draw(t, "mail"), rapid.SampledFrom([]string{"", "Bosun"}).Draw(t, "title"), ""}, ",")
	})
	policies := rapid.SampledFrom([]string{"", "new: skip\n", "known: fill\n", "known: refuse\n", "known: skip\nnew: refuse\n"})
	w := newWorld(t)
	rapid.Check(t, func(rt *rapid.T) {
		w.anew(rt, someone("7", "Ana", "Tom", "Clerk"), someone("8", "Tom", "Mei", ""))
		briefText := crew + policies.Draw(rt, "policies")
		csv := columns + strings.Join(rapid.SliceOfN(row, 1, 12).Draw(rt, "rows"), "\n") + "\n"
		b := w.draft(briefText, csv)
		require.NoError(rt, w.post(context.Background(), b, 0))
		for _, e := range w.entries(b) {
			require.NotEqual(rt, account.Waiting, e.Outcome)
			require.NotEqual(rt, account.Failed, e.Outcome, "what a draft lets pass, this system takes: %v", e.Findings)
			require.Equal(rt, e.Outcome == account.Refused, account.HasError(e.Findings))
		}
		before := w.system.Changes()
		again := w.draft(briefText, csv)
		require.NoError(rt, w.post(context.Background(), again, 0))
		if !strings.Contains(briefText, "refuse") {
			require.Equal(rt, before, w.system.Changes(), "post after post is all unchanged: %v", slices.Collect(func(yield func(string) bool) {
				for _, e := range w.entries(again) {
					if !yield(told(e)) {
						return
					}
				}
			}))
		}
	})
}

// A sign-in name that an account has is not given again: what is tried next is
// looked up as well, and numbers go behind the last of it.
func TestOtherNames(t *testing.T) {
	t.Parallel()
	const text = `match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  familyName: {from: Last}
  userName:
    make: 'lower(givenName) + "." + lower(familyName)'
    unique: ['first(lower(givenName), 1) + "." + lower(familyName)', 'first(lower(givenName), 1) + lower(familyName)', number]
`
	named := func(number, userName string) account.Account {
		return account.Account{Fields: map[string]account.Value{"employeeNumber": account.Of(number), "userName": account.Of(userName)}}
	}
	w := newWorld(t, named("90", "ana.reyes"), named("91", "areyes"), named("92", "areyes2"))
	b := w.draft(text, "No,First,Last\n1,Ana,Reyes\n2,Alf,Reyes\n3,Ana,Reyes\n4,Ann,Reyes\n5,Ana,Reyes\n90,Ana,Reyes\n")
	var got []string
	for _, e := range w.entries(b) {
		got = append(got, told(e))
	}
	// Which of the rows are new is known only once the accounts were looked up.
	assert.Equal(t, []string{"to create a.reyes", "to create alf.reyes", "to create areyes3", "to create ann.reyes", "to create areyes4"}, got[:5])
	require.NoError(t, w.post(context.Background(), b, 0))
	assert.Equal(t, 5, w.even(b)[account.Created])
	again := w.draft(text, "No,First,Last\n1,Ana,Reyes\n3,Ana,Reyes\n5,Ana,Reyes\n")
	assert.Equal(t, 3, w.even(again)[account.Unchanged], "a name once given stays")
}

// bulk is a system that makes many accounts at once.
type bulk struct {
	*memory.System
	most   int
	whole  func(try int) (carriedOut bool, err error)         // of a request; nil: fine
	single func(userName string) (carriedOut bool, err error) // of one of its accounts; nil: fine
	tries  int
	sizes  []int
	mu     sync.Mutex
}

func (b *bulk) Describe(ctx context.Context) (*system.Description, error) {
	about, err := b.System.Describe(ctx)
	about.Can.AtOnce, about.Can.Together, about.Can.Finds = b.most, []system.Verb{system.Creates, system.Changes, system.Removes, system.Renews}, 20
	return about, err
}

func (b *bulk) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if len(orders) == 1 {
		return b.System.Apply(ctx, may, orders, fields)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.tries++
	b.sizes = append(b.sizes, len(orders))
	carriedOut, err := true, error(nil)
	if b.whole != nil {
		carriedOut, err = b.whole(b.tries)
	}
	results := make([]system.Result, len(orders))
	for i, o := range orders {
		one, oneErr := carriedOut, error(nil)
		if b.single != nil && carriedOut {
			one, oneErr = b.single(cmp.Or(o.Wanted.Field("userName").Text(), o.Known.Field("userName").Text(), o.Known.ID))
		}
		if one {
			came, err := b.System.Apply(ctx, may, orders[i:i+1], fields)
			if results[i].Err = err; err == nil {
				results[i] = came[0]
			}
		}
		if oneErr != nil {
			results[i] = system.Result{Err: oneErr}
		}
	}
	if err != nil {
		return nil, err
	}
	return results, nil
}

// Whatever becomes of the requests that make, change and remove many accounts, each is made, changed or removed
// once, and each row knows it.
func TestInBulk(t *testing.T) {
	t.Parallel()
	lost := &system.Unclear{Err: errors.New("the connection broke")}
	of7 := func(done bool, came error) func(string) (bool, error) {
		return func(name string) (bool, error) {
			if !strings.HasSuffix(name, "7") {
				return true, nil
			}
			return done, came
		}
	}
	for name, c := range map[string]struct {
		whole  func(int) (bool, error)
		single func(string) (bool, error)
		failed int
		err    string
	}{
		"fine":                      {},
		"answers lost, carried out": {whole: func(try int) (bool, error) { return true, lost }},
		"answers lost, not done":    {whole: func(try int) (bool, error) { return false, lost }},
		"not like this": {whole: func(try int) (bool, error) {
			return false, &system.Refusal{Code: account.SystemRefused, Message: "too many operations"}
		}},
		"some are refused":              {single: of7(false, &system.Refusal{Code: account.TakenValue, Message: "taken"}), failed: 3},
		"some stay open, done":          {single: of7(true, lost)},
		"some stay open, not done":      {single: of7(false, lost)},
		"some were changed meanwhile":   {single: of7(false, system.ErrChanged)},
		"of some the system was not up": {single: of7(false, &system.Unavailable{Message: "not now"})},
		"turned away":                   {whole: func(try int) (bool, error) { return false, &system.Unavailable{Message: "turned away"} }, err: "turned away"},
	} {
		for _, mixed := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, mixed %v", name, mixed), func(t *testing.T) {
				var there []account.Account
				var csv strings.Builder
				csv.WriteString("Staff no,Login,Position,Do\n")
				for i := range 30 {
					does, row := "", account.Account{Fields: map[string]account.Value{"employeeNumber": account.Of(fmt.Sprint(i + 1)), "userName": account.Of(fmt.Sprintf("u%d", i+1)), "title": account.Of("Mate")}}
					if mixed && i < 20 { // 10 are changed, 10 removed, and 10 made
						there = append(there, row)
					}
					if mixed && i%3 == 1 && i < 20 {
						does = "away"
					}
					fmt.Fprintf(&csv, "%d,u%d,Bosun,%s\n", i+1, i+1, does)
				}
				w := newWorld(t, there...)
				began := w.system.Changes()
				b := w.draft("match: [employeeNumber, userName]\nfields:\n  employeeNumber: {from: Staff no}\n  userName: {from: Login}\n  title: {from: Position}\nintent: {from: Do, via: {away: remove}}\nallow_remove: true\n", csv.String())
				s := &bulk{System: w.system, most: 8, whole: c.whole, single: c.single}
				post := func() error {
					return (&posting.Post{Ledger: w.ledger, Worker: worker(), System: s, Batch: b, Together: 2, Settle: 10 * time.Millisecond, Clock: w.clock}).Run(context.Background())
				}
				err := post()
				if c.err != "" {
					require.ErrorContains(t, err, c.err)
					assert.Equal(t, 30, w.even(b)[account.Waiting], "nothing was done")
					s.whole = nil
					err = post()
				}
				require.NoError(t, err)
				counts := w.even(b)
				done := counts[account.Created] + counts[account.Updated] + counts[account.Removed]
				assert.Equal(t, 30-c.failed, done, counts)
				assert.Equal(t, c.failed, counts[account.Failed])
				assert.Equal(t, 30-c.failed, w.system.Changes()-began, "nothing was done twice")
				assert.LessOrEqual(t, slices.Max(s.sizes), 8)
				if name == "fine" {
					n := 0
					for _, size := range s.sizes {
						n += size
					}
					assert.Equal(t, 30, n, "all went together, and none one by one")
				}
				ids := map[string]bool{}
				for _, e := range w.entries(b) {
					now, gone := w.system.Get(t.Context(), e.Account, nil)
					switch e.Outcome {
					case account.Created, account.Updated:
						assert.False(t, ids[e.Account])
						ids[e.Account] = true
						assert.Equal(t, "Bosun", now.Field("title").Text())
					case account.Removed:
						assert.ErrorIs(t, gone, system.ErrGone)
					}
				}
			})
		}
	}
}

// lagging is a system whose search shows accounts as they once were, until a post changes the first.
type lagging struct {
	*bulk
	once  map[string]account.Account
	until int // changes
}

func (l *lagging) Describe(ctx context.Context) (*system.Description, error) {
	about, err := l.bulk.Describe(ctx)
	about.Can.Versions = true
	return about, err
}

func (l *lagging) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		for a, err := range l.System.Find(ctx, field, values, fields) {
			if was, known := l.once[a.ID]; known && field == system.ByID && l.System.Changes() == l.until {
				a = was
			}
			if !yield(a, err) {
				return
			}
		}
	}
}

// What a search shows of another version than was drafted is looked at itself: neither is a row refused for what is long past, nor
// is somebody's change passed over that the search does not show yet.
func TestSearchLags(t *testing.T) {
	t.Parallel()
	for name, since := range map[string]bool{"it shows what was before the draft": false, "it does not show what came after it": true} {
		t.Run(name, func(t *testing.T) {
			var there []account.Account
			rows := columns
			for i := range 6 {
				there = append(there, someone(fmt.Sprint(i+1), "Ana", fmt.Sprint("Reyes", i+1), "Clerk"))
				rows += fmt.Sprintf("%d,Ana,Reyes%d,,,Chief,\n", i+1, i+1)
			}
			w := newWorld(t, there...)
			all := func() map[string]account.Account {
				accounts := map[string]account.Account{}
				for a, err := range w.system.List(t.Context(), nil) {
					require.NoError(t, err)
					accounts[a.ID] = a
				}
				return accounts
			}
			change := func(to string) {
				for _, a := range all() {
					_, err := system.Change(t.Context(), nil, w.system, a, []account.Change{{Field: "title", Before: a.Field("title"), After: account.Of(to)}}, nil)
					require.NoError(t, err)
				}
			}
			l := &lagging{bulk: &bulk{System: w.system, most: 8}, once: all()}
			if !since {
				change("Mate")
			}
			b := w.draft(crew, rows)
			if since {
				change("Mate")
			}
			l.until = w.system.Changes()
			require.NoError(t, w.postWith(l, b, func(p *posting.Post) {}))
			want := account.Counts{account.Updated: 6}
			if since {
				want = account.Counts{account.Refused: 6}
			}
			assert.Equal(t, want, w.even(b))
		})
	}
}

// What follows the accounts' own steps goes together as well: references to accounts of the same sheet, and other passwords.
func TestStepsInBulk(t *testing.T) {
	t.Parallel()
	lost := &system.Unclear{Err: errors.New("the connection broke")}
	for name, c := range map[string]struct {
		whole  func(int) (bool, error)
		single func(string) (bool, error)
	}{
		"fine":                      {},
		"answers lost, carried out": {whole: func(try int) (bool, error) { return true, lost }},
		"answers lost, not done":    {whole: func(try int) (bool, error) { return false, lost }},
		"not like this":             {whole: func(try int) (bool, error) { return false, &system.Refusal{Message: "too many operations"} }},
		"some stay open, done":      {single: func(id string) (bool, error) { return true, map[bool]error{true: lost}[strings.HasSuffix(id, "7")] }},
		"some stay open, not done": {single: func(id string) (bool, error) {
			return !strings.HasSuffix(id, "7"), map[bool]error{true: lost}[strings.HasSuffix(id, "7")]
		}},
		"some were changed meanwhile": {single: func(id string) (bool, error) {
			return !strings.HasSuffix(id, "7"), map[bool]error{true: system.ErrChanged}[strings.HasSuffix(id, "7")]
		}},
	} {
		t.Run(name, func(t *testing.T) {
			var there []account.Account
			rows := "No,First,Last,Login,Mail,Position,Department,Boss,Key\n"
			for i := range 20 { // 10 are there and get another password, 10 are made; all but the first have the first as manager
				given, boss := "", ""
				if i < 10 {
					there = append(there, someone(fmt.Sprint(i+1), "Ana", fmt.Sprint("Reyes", i+1), ""))
					given = "gulls-over-quay-41"
				}
				if i > 10 {
					boss = "11"
				}
				rows += fmt.Sprintf("%d,Ana,Reyes%d,,,,,%s,%s\n", i+1, i+1, boss, given)
			}
			w := newWorld(t, there...)
			w.secrets = "given"
			began := w.system.Changes()
			b := w.draft(crew+"  manager: {from: Boss, refers: employeeNumber}\npassword: {known: given, from: Key}\n", rows)
			s := &bulk{System: w.system, most: 8}
			post := func(n int) error {
				return w.postWith(s, b, func(p *posting.Post) { p.Trial, p.Settle = n, 10*time.Millisecond })
			}
			s.whole, s.single = c.whole, c.single
			require.NoError(t, post(0))
			counts := w.even(b)
			assert.Equal(t, []int{10, 10}, []int{counts[account.Created], counts[account.Updated]}, counts)
			for _, e := range w.entries(b) {
				for _, step := range e.Steps {
					assert.Contains(t, []membership.Result{membership.Done, membership.Already}, step.Result, "%d %v", e.Row, e.Findings)
				}
				if e.Row > 12 {
					now, err := w.system.Get(t.Context(), e.Account, nil)
					require.NoError(t, err)
					assert.NotEmpty(t, now.Field("manager").Text())
				}
			}
			if name == "fine" {
				assert.Equal(t, 10+9+10, w.system.Changes()-began)
				n := 0
				for _, size := range s.sizes {
					n += size
				}
				assert.Equal(t, 10+8+10, n, "all but the ninth reference went together: %v", s.sizes)
			}
		})
	}
}

// Where the system goes away while one row of a request that was answered is seen to, what was answered of the others is not lost.
func TestAnsweredTogetherThenAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.secrets = "generate"
	b := w.draft(crew+"password: {new: generate}\n", columns+"7,Tom,Kaya,,,,\n8,Mia,Lund,,,,\n9,Lea,Brandt,,,,\n")
	away := true
	s := &bulk{System: w.system, most: 8, single: func(name string) (bool, error) {
		return name != "tom.kaya", map[bool]error{true: &system.Refusal{Code: account.SystemRefused, Field: "password", Message: "not that one"}}[name == "tom.kaya"]
	}}
	w.system.Before = func(string, account.Account) error {
		if away && len(s.sizes) > 0 && w.system.Changes() == 2 {
			return &system.Unavailable{Message: "it went away"}
		}
		return nil
	}
	post := func() error { return w.postWith(s, b, func(p *posting.Post) { p.HandsOut = true }) }
	require.ErrorContains(t, post(), "it went away")
	assert.Equal(t, account.Counts{account.Created: 2, account.Waiting: 1}, w.even(b))
	away = false
	require.NoError(t, post())
	assert.Equal(t, account.Counts{account.Created: 3}, w.even(b))
	assert.Equal(t, 3, w.system.Changes(), "nothing was done twice")
}

// A given password is kept, sealed, no longer than its account waits to be made.
func TestGivenPasswordsGo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.secrets = "given"
	b := w.draft(crew+"password: {new: given, from: Department}\n", columns+"1,Ana,Reyes,,,,gulls-over-quay-41\n2,Tom,Kaya,,,,masts-under-moon-52\n")
	kept := func() int {
		kept, err := w.ledger.Passwords(b.ID).Count(t.Context())
		require.NoError(t, err)
		return kept.Given
	}
	require.Equal(t, 2, kept())
	require.NoError(t, w.post(t.Context(), b, 1))
	assert.Equal(t, 1, kept())
	w.system.After = func(string, account.Account) error { return &system.Unclear{Err: errors.New("the line went dead")} }
	require.NoError(t, w.post(t.Context(), b, 0), "its account is there, though the answer was lost")
	assert.Zero(t, kept())
	assert.Equal(t, account.Counts{account.Created: 2}, w.even(b))
}

// An account that is there gets another password as a step of its own, which is sent again
// where the answer was lost, and never after a clear one.
func TestOtherPasswords(t *testing.T) {
	t.Parallel()
	const rows = columns + "7,Ana,Reyes,,,Chief,gulls-over-quay-41\n8,Tom,Kaya,,,,\n9,Lea,Brandt,,,,short\n"
	lost := &system.Unclear{Err: errors.New("the line went dead")}
	for name, test := range map[string]struct {
		before, after func(n int) error
		posts         int
		told          string // of Ana
		changes       int
	}{
		"done":                         {nil, nil, 1, "updated", 2},
		"the answer was lost once":     {nil, func(n int) error { return map[bool]error{true: lost}[n == 1] }, 1, "updated", 3},
		"no answer":                    {func(int) error { return lost }, nil, 1, "to update", 1},
		"no answer in two posts":       {func(int) error { return lost }, nil, 2, "failed unclear", 1},
		"no answer, and posted again":  {func(n int) error { return map[bool]error{true: lost}[n <= 3] }, nil, 2, "updated", 2},
		"refused":                      {func(int) error { return &system.Refusal{Code: account.SystemRefused, Message: "too plain"} }, nil, 2, "failed system-refused", 1},
		"changed by another meanwhile": {func(n int) error { return map[bool]error{true: system.ErrChanged}[n == 1] }, nil, 1, "updated", 2},
		"gone":                         {func(int) error { return system.ErrGone }, nil, 1, "failed account-gone", 1},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, someone("7", "Ana", "Reyes", "Clerk"), someone("8", "Tom", "Kaya", ""), someone("9", "Lea", "Brandt", ""))
			w.secrets = "given"
			b := w.draft(strings.Replace(crew, "department: {from: Department}", "", 1)+"password: {known: given, from: Department}\n", rows)
			assert.Equal(t, account.Counts{account.Waiting: 1, account.Unchanged: 1, account.Refused: 1}, w.even(b), "a blank cell leaves the password as it is: %v", w.entries(b)[0].Findings)
			var begun, done int
			count := func(n *int, then func(int) error) func(string, account.Account) error {
				return func(action string, _ account.Account) error {
					if action != "password" || then == nil {
						return nil
					}
					*n++
					return then(*n)
				}
			}
			w.system.Before, w.system.After = count(&begun, test.before), count(&done, test.after)
			for range test.posts {
				_ = w.post(t.Context(), b, 0)
			}
			assert.Equal(t, test.told, strings.Replace(told(w.entries(b)[0]), " title:Clerk→Chief", "", 1))
			assert.Equal(t, test.changes, w.system.Changes())
			kept, err := w.ledger.Passwords(b.ID).Count(t.Context())
			require.NoError(t, err)
			assert.Equal(t, test.told == "to update", kept.Given == 1, "kept as long as it waits")
		})
	}
}

// late is a system that for a while doesn't list what was made.
type late struct {
	*memory.System
	listings int // that don't show it
}

func (l *late) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	if l.listings--; l.listings >= 0 {
		return func(func(account.Account, error) bool) {}
	}
	return l.System.List(ctx, fields)
}

// An account that an earlier request of the batch made is its own, also where it shows only
// after it was looked for.
func TestOwnAccountsThatShowLate(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := w.draft(crew, columns+"1,Zoë,Ångström,,,,\n")
	s := &late{w.system, 1000}
	post := func() error {
		return (&posting.Post{Ledger: w.ledger, Worker: worker(), System: s, Batch: b, Settle: 10 * time.Millisecond, Timeout: time.Second, Clock: w.clock}).Run(t.Context())
	}
	w.system.After = func(string, account.Account) error { return &system.Unclear{Err: errors.New("the line went dead")} }
	require.Error(t, post())
	require.Equal(t, 1, w.system.Changes())
	require.Equal(t, account.Counts{account.Waiting: 1}, w.even(b))
	s.listings = 1 // when the post looks for what is open, but not just before it sends
	require.NoError(t, post())
	assert.Equal(t, account.Counts{account.Created: 1}, w.even(b))
	assert.Equal(t, 1, w.system.Changes(), "and is not made again")
}

// A change whose answer was lost, and of which something else came than was sent, is not told
// as refused: something was sent.
func TestChangedToSomethingElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t, someone("7", "Ana", "Reyes", "Clerk"))
	b := w.draft(crew, columns+"7,Ana,Reyes,,,Chief,\n")
	w.system.After = func(string, account.Account) error {
		w.system.Set("ana.reyes", map[string]account.Value{"title": account.Of("CHIEF CLERK")})
		return &system.Unclear{Err: errors.New("the line went dead")}
	}
	require.NoError(t, w.post(t.Context(), b, 0))
	e := w.entries(b)[0]
	assert.Equal(t, "failed unclear", told(e))
	assert.Contains(t, e.Findings[0].Message, "neither as it was nor as it was to be")
}

// Of batches that were made of one delivery and are posted at the same moment, one takes it.
func TestOneOfADelivery(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.delivery = &feed.Delivery{Feed: "office", Sum: "abc"}
	var rivals []*batch.Batch
	for range 4 {
		rivals = append(rivals, w.draft(crew, columns+"1,Zoë,Ångström,,,,\n"))
	}
	taken := errors.New("taken")
	free := func(ctx context.Context, of *batch.Batch) error {
		all, err := w.ledger.Batches(ctx)
		for _, b := range all {
			if b.ID != of.ID && b.Took() {
				err = errors.Join(err, taken)
			}
		}
		time.Sleep(30 * time.Millisecond) // the others look meanwhile
		return err
	}
	errs := make([]error, len(rivals))
	var all sync.WaitGroup
	for i, b := range rivals {
		all.Go(func() {
			errs[i] = (&posting.Post{Ledger: w.ledger, Worker: worker(), System: w.system, Batch: b, Together: 3, Free: free, Clock: w.clock}).Run(t.Context())
		})
	}
	all.Wait()
	posted := 0
	for i, b := range rivals {
		if errs[i] == nil {
			posted++
			assert.Equal(t, account.Counts{account.Created: 1}, w.even(b))
		} else {
			assert.ErrorIs(t, errs[i], taken)
			assert.Equal(t, account.Counts{account.Waiting: 1}, w.even(b))
		}
	}
	assert.Equal(t, 1, posted, errs)
	assert.Equal(t, 1, w.system.Changes())
}
