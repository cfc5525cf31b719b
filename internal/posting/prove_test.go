package posting_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
	"evenledger/internal/posting"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

// A liar answers well, whatever it does.
type liar struct {
	*memory.System
	lies   func(action string, a account.Account) bool // what is answered is not done
	bends  func(a account.Account) account.Account     // of what is answered; nil: it is not bent
	after  func(action string)                         // is called when something was done; nil: nothing is
	atOnce int
	mu     sync.Mutex
	hidden int // looks that show nobody
}

// hides reports whether one look shows nobody.
func (l *liar) hides() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.hidden--
	return l.hidden >= 0
}

func (l *liar) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	if l.hides() {
		return account.Account{}, system.ErrGone
	}
	return l.System.Get(ctx, id, fields)
}

func (l *liar) Describe(ctx context.Context) (*system.Description, error) {
	about, err := l.System.Describe(ctx)
	if err == nil && l.atOnce > 0 {
		copied := *about
		copied.Can.AtOnce, copied.Can.Together, copied.Can.Finds, copied.Can.Page, copied.Can.Counts = l.atOnce, []system.Verb{system.Creates}, 5, 10, true
		about = &copied
	}
	return about, err
}

func (l *liar) done(action string, a account.Account) (account.Account, error) {
	if l.after != nil {
		l.after(action)
	}
	if l.bends != nil {
		a = l.bends(a)
	}
	return a, nil
}

func (l *liar) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	results := make([]system.Result, len(orders))
	for i, o := range orders {
		results[i].Account, results[i].Err = l.carryOut(ctx, o, fields)
	}
	return results, nil
}

func (l *liar) carryOut(ctx context.Context, o system.Order, fields []string) (account.Account, error) {
	about := o.Known
	if o.Does == system.Creates {
		about = o.Wanted
	}
	if l.lies != nil && l.lies(string(o.Does), about) {
		if o.Does == system.Creates {
			about = account.Account{ID: "x-" + o.Wanted.Field("userName").Text(), Fields: o.Wanted.Fields}
		}
		for _, c := range o.Changes {
			about.Fields[c.Field] = c.After
		}
		return about, nil
	}
	results, err := l.System.Apply(ctx, nil, []system.Order{o}, fields)
	switch {
	case err != nil:
		return account.Account{}, err
	case results[0].Err != nil, o.Does != system.Creates && o.Does != system.Changes:
		return account.Account{}, results[0].Err
	}
	return l.done(string(o.Does), results[0].Account)
}

func (l *liar) Tie(ctx context.Context, may system.Permit, kind, thing string, ties []system.Tie) error {
	kept := slices.DeleteFunc(slices.Clone(ties), func(t system.Tie) bool { return l.lies != nil && l.lies("tie", account.Account{ID: t.Account}) })
	if len(kept) == 0 {
		return nil
	}
	return l.System.Tie(ctx, may, kind, thing, kept)
}

func (l *liar) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	if l.hides() {
		return func(func(account.Account, error) bool) {}
	}
	return l.System.List(ctx, fields)
}

func (l *liar) Count(context.Context) (int, error) { return len(l.Accounts()), nil }

func (w *world) postWith(s system.System, b *batch.Batch, more func(*posting.Post)) error {
	p := &posting.Post{Ledger: w.ledger, Worker: worker(), System: s, Batch: b, Together: 2, Settle: 20 * time.Millisecond, Vault: w.vaults.Of(b.ID, ""), Clock: w.clock}
	if more != nil {
		more(p)
	}
	err := p.Run(context.Background())
	w.even(b)
	return err
}

// codes are those of the errors of each row, with its proof.
func (w *world) proofs(b *batch.Batch) (all []string) {
	for _, e := range w.entries(b) {
		text := fmt.Sprintf("%s %s", e.Outcome, e.Proof)
		for _, f := range e.Findings {
			text += " " + string(f.Code)
		}
		all = append(all, text)
	}
	return all
}

// What was answered and is not so is settled by what is there.
func TestProof(t *testing.T) {
	t.Parallel()
	const rows = "1,Ana,Reyes,,,Chief,\n7,Tom,Kaya,,,Mate,\n"
	made := func(action string, a account.Account) bool { return action == "create" }
	for name, c := range map[string]struct {
		system func(*liar)
		want   []string
		open   bool // the first post leaves something open
		again  []string
		none   bool
	}{
		"all is so":       {want: []string{"updated proven", "created proven"}},
		"nothing is read": {want: []string{"updated ", "created "}, none: true},
		"the account is not there": {system: func(l *liar) { l.lies = made }, open: true,
			want: []string{"updated proven", "waiting unseen not-clear-yet"}, again: []string{"updated proven", "failed otherwise not-proven"}},
		"the change is not there": {system: func(l *liar) { l.lies = func(action string, _ account.Account) bool { return action == "change" } },
			want: []string{"failed otherwise not-proven", "created proven"}},
		"the answer shows it otherwise than it is": {system: func(l *liar) {
			l.bends = func(a account.Account) account.Account {
				a.Fields = map[string]account.Value{"userName": a.Field("userName"), "employeeNumber": a.Field("employeeNumber"), "title": account.Of("Nobody")}
				return a
			}
		}, want: []string{"updated proven", "created proven"}},
		"somebody removes it at once": {system: func(l *liar) {
			l.after = func(action string) {
				for _, a := range l.Accounts() {
					if action == "change" && a.Field("userName").Text() == "ana.reyes" {
						_ = systemtest.Remove(context.Background(), nil, l.System, a)
					}
				}
			}
		}, want: []string{"failed otherwise account-gone", "created proven"}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, someone("1", "Ana", "Reyes", "Clerk"))
			b := w.draft(crew, columns+rows)
			l := &liar{System: w.system}
			if c.system != nil {
				c.system(l)
			}
			err := w.postWith(l, b, func(p *posting.Post) { p.Unproven = c.none })
			var open *system.Unclear
			assert.Equal(t, c.open, errors.As(err, &open), "%v", err)
			assert.Equal(t, c.want, w.proofs(b))
			proven := 0
			for _, text := range c.want {
				if strings.Contains(text, " proven") {
					proven++
				}
			}
			assert.Equal(t, []int{2, proven}, []int{b.Reading.Of, b.Reading.Proven})
			assert.Equal(t, c.none, b.Reading.Left)
			assert.Equal(t, map[bool]batch.State{true: batch.Stopped, false: batch.Posted}[c.open], b.State)
			if c.again != nil { // a second post looks again, and then it is enough
				require.NoError(t, w.postWith(l, b, nil))
				assert.Equal(t, c.again, w.proofs(b))
				assert.Equal(t, batch.Posted, b.State)
			}
		})
	}
}

// What the system shows late is looked at again until its time is over.
func TestProofOfWhatShowsLate(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := w.draft(crew, columns+"7,Tom,Kaya,,,Mate,\n")
	l := &liar{System: w.system}
	l.after = func(string) { l.hidden = 6 }
	require.NoError(t, w.postWith(l, b, func(p *posting.Post) { p.Settle = time.Minute }))
	assert.Equal(t, []string{"created proven"}, w.proofs(b))
	assert.LessOrEqual(t, l.hidden, 0)
}

// Who may not sign in is shut out once more when found open; who stays open is failed, and told first.
func TestProofOfWhoMayNotSignIn(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		opens int // times that the system lets them in again
		want  []string
	}{"once": {1, []string{"suspended proven", "created proven"}}, "always": {100, []string{"failed otherwise may-sign-in", "failed otherwise may-sign-in"}}} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, someone("1", "Ana", "Reyes", "Clerk"))
			b := w.draft(crew+"  active: {from: Signs in}\n", strings.TrimSpace(columns)+",Signs in\n1,Ana,Reyes,,,,,no\n7,Tom,Kaya,,,Mate,,no\n")
			opened := map[string]int{}
			l := &liar{System: w.system}
			l.after = func(string) {
				for _, a := range w.system.Accounts() {
					if a.Field("active").Text() == "false" && opened[a.ID] < c.opens {
						opened[a.ID]++
						_, err := system.Change(context.Background(), nil, w.system, a, []account.Change{{Field: "active", Before: account.Of("false"), After: account.Of("true")}}, nil)
						require.NoError(t, err)
					}
				}
			}
			require.NoError(t, w.postWith(l, b, nil))
			assert.Equal(t, c.want, w.proofs(b))
			assert.Equal(t, strings.Count(strings.Join(c.want, " "), "may-sign-in"), b.Reading.MayEnter)
		})
	}
}

// Members that are dropped, and removals that are none, are told; steps that find things as they are to
// be are no doing of the batch, and undoing leaves them alone.
func TestProofOfSteps(t *testing.T) {
	t.Parallel()
	w := newDirectory(t)
	w.all(t, aCrew)
	b := w.draft(aboard, aboardColumns+"1,zoe,,,,,night;day;deck,\n2,tom,,,,,night;day,\n3,ana,,,,,,away\n")
	tom := w.watch(t, "night")[0]
	require.NoError(t, w.system.Tie(t.Context(), nil, "groups", "cn=day,dc=sound", []system.Tie{{Account: tom}})) // somebody did it meanwhile
	l := &liar{System: w.system, lies: func(action string, a account.Account) bool { return action == "remove" }}
	require.NoError(t, w.postWith(l, b, nil))
	assert.Equal(t, []string{"updated proven", "unchanged proven", "failed otherwise removes-data not-proven"}, w.proofs(b))
	undo, err := (&drafting.Reversal{Ledger: w.ledger, Worker: worker(), System: w.system, Of: b, Together: 2, Batch: batch.Batch{Draft: batch.Draft{System: "memory"}}}).Make(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.postWith(w.system, undo, nil))
	assert.Contains(t, w.watch(t, "day"), tom, "the batch did not put him in")
	assert.Empty(t, w.watch(t, "deck"), "and this it made")

	w = newDirectory(t)
	w.all(t, aCrew)
	b = w.draft(aboard, aboardColumns+"2,tom,,,,,night;day,\n3,ana,,,,,day,\n")
	l = &liar{System: w.system, lies: func(action string, a account.Account) bool {
		return action == "tie" && strings.HasPrefix(a.ID, "uid=ana")
	}}
	require.NoError(t, w.postWith(l, b, nil))
	assert.Equal(t, []string{"updated proven", "failed otherwise not-proven"}, w.proofs(b))
	assert.Equal(t, membership.Unclear, w.entries(b)[1].Steps[0].Result, "undoing takes her out, whatever is shown")

	w = newDirectory(t)
	w.all(t, aCrew)
	b = w.draft(aboard, aboardColumns+"2,tom,,,,,night;day,\n3,ana,,,,,day,\n")
	lost := false
	l = &liar{System: w.system, lies: func(action string, a account.Account) bool {
		first := action == "tie" && !lost
		lost = lost || action == "tie"
		return first
	}}
	require.NoError(t, w.postWith(l, b, nil))
	assert.Equal(t, []string{"updated proven", "updated proven"}, w.proofs(b), "what was lost once is sent once more")
}

// Where reading all back would take more than its part of the requests, answers that showed an account whole
// stand for most; where one of those that are read shows that they do not hold, none does.
func TestProofByAnswers(t *testing.T) {
	t.Parallel()
	const people = 400
	var rows strings.Builder
	for i := range people {
		fmt.Fprintf(&rows, "%d,P%d,Reyes,,,Mate,\n", i, i)
	}
	for name, lies := range map[string]func(string, account.Account) bool{
		"they hold": nil,
		"one does not": func(action string, a account.Account) bool {
			return action == "create" && a.Field("employeeNumber").Text() == "0"
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			l := &liar{System: w.system, lies: lies, atOnce: 50}
			w.target = l
			b := w.draft(crew, columns+rows.String())
			err := w.postWith(l, b, nil)
			if lies == nil {
				require.NoError(t, err)
				assert.Equal(t, people, b.Reading.Proven)
				assert.Greater(t, b.Reading.Answered, people/2)
				assert.Less(t, b.Reading.Answered, people)
				return
			}
			var open *system.Unclear
			require.ErrorAs(t, err, &open)
			assert.Equal(t, []int{people - 1, 0}, []int{b.Reading.Proven, b.Reading.Answered}, "then all are read")
		})
	}
}

// Follow-ups and mails wait for the proof: hundreds go out when it holds, and none about who is otherwise.
func TestWhatGoesOutWaitsForTheProof(t *testing.T) {
	t.Parallel()
	const people = 300
	var rows strings.Builder
	for i := range people {
		fmt.Fprintf(&rows, "%d,P%d,Reyes,,,Mate,\n", i, i)
	}
	w := newWorld(t)
	b := w.draft(crew+"notices:\n  welcome: {on: created, to: email, subject: Welcome, text: Aboard}\nfollow_ups:\n  berth: {on: created, feed: rota, statement: \"insert into berths values (:employeeNumber)\"}\n", columns+rows.String())
	l := &liar{System: w.system}
	l.after = func(string) {
		for _, a := range w.system.Accounts() {
			if n := a.Field("employeeNumber").Text(); n == "7" || n == "70" {
				_ = systemtest.Remove(context.Background(), nil, w.system, a)
			}
		}
	}
	server, got := postOffice(t)
	var mu sync.Mutex
	done, most := map[string]int{}, 0
	err := w.postWith(l, b, func(p *posting.Post) {
		p.Mail, p.Together = server, 3
		p.Do = func(_ context.Context, _ string, order feed.Order) error {
			mu.Lock()
			defer mu.Unlock()
			done[order.Key]++
			counts, err := w.ledger.Steps(context.Background(), b.ID, membership.Follow)
			assert.NoError(t, err)
			for _, c := range counts {
				if c.Result == membership.Sending {
					most = max(most, c.N)
				}
			}
			return nil
		}
	})
	var open *system.Unclear
	require.ErrorAs(t, err, &open)
	assert.Len(t, done, people-2, "each once, and not about who is not there")
	assert.LessOrEqual(t, most, 3, "no more are noted as begun than are done at once")
	assert.Len(t, got(), people-2)
	require.NoError(t, w.postWith(l, b, func(p *posting.Post) { p.Mail = server }))
	assert.Equal(t, account.Counts{account.Created: people - 2, account.Failed: 2}, w.even(b))
	assert.Len(t, got(), people-2)
}
