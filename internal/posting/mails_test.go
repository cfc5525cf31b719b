package posting_test

import (
	"context"
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
	"evenledger/internal/brief"
	"evenledger/internal/clock"
	"evenledger/internal/feed"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/posting"
	"evenledger/internal/reach"
	"evenledger/internal/standin"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
	"evenledger/internal/testserver"
	"evenledger/internal/yamldoc"
)

const welcomes = crew + `  manager: {from: Manager, refers: employeeNumber}
notices:
  welcome:
    on: created
    to: email
    subject: 'Welcome, {givenName}'
    text: {en: 'Sign in as {userName}.', pt: 'Entre como {userName}.'}
    html: '<p>Sign in as {userName}, {familyName}.</p>'
  heads-up:
    on: [created, updated]
    when: title != "Clerk"
    to: manager
    subject: '{displayName}'
    text: '{givenName} {familyName} ({department})'
`

// postOffice takes the mails of a test.
func postOffice(t *testing.T) (*mail.Server, func() []string) {
	dir := t.TempDir()
	box, err := standin.NewMailbox("127.0.0.1:0", dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = box.Close() })
	return mailServer(t, box.Address), func() (got []string) {
		files, err := filepath.Glob(filepath.Join(dir, "*.eml"))
		require.NoError(t, err)
		for _, path := range files {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			got = append(got, string(data))
		}
		return got
	}
}

func mailServer(t *testing.T, at string) *mail.Server {
	doc, err := yamldoc.Parse("e.yaml", fmt.Appendf(nil, "mail: {server: 'smtp://%s', from: office@x.example}\n", at))
	require.NoError(t, err)
	pair := doc.Root().Pairs()[0]
	s := mail.Read(reach.Part{At: pair.At}, pair.Value)
	require.NoError(t, doc.Err())
	return s
}

func (w *world) postMails(b *batch.Batch, server *mail.Server, hold bool) error {
	err := w.poster(b, server, hold).Run(context.Background())
	w.even(b)
	return err
}

func (w *world) poster(b *batch.Batch, server *mail.Server, hold bool) *posting.Post {
	return &posting.Post{Ledger: w.ledger, Worker: worker(), System: w.system, Batch: b, Together: 3, Settle: 20 * time.Millisecond, Vault: w.vaults.Of(b.ID, ""), Clock: w.clock, Mail: server, HoldMails: hold}
}

// mailed counts what became of the batch's mails.
func (w *world) mailed(b *batch.Batch) map[membership.Result]int {
	counts, err := w.ledger.Steps(context.Background(), b.ID, membership.Notify)
	require.NoError(w.t, err)
	all := map[membership.Result]int{}
	for _, c := range counts {
		all[c.Result] += c.N
	}
	return all
}

func draftMails(t *testing.T, csv string) (*world, *batch.Batch) {
	boss := someone("1", "Ana", "Reyes", "Chief")
	w := newWorld(t, boss)
	return w, w.draft(strings.Replace(welcomes, "  manager:", "  displayName: {make: 'givenName + \" \" + familyName'}\n  preferredLanguage: {from: Language}\n  manager:", 1), "No,First,Last,Login,Mail,Position,Department,Manager,Language\n"+csv)
}

// Mails are written with the draft, go out once the account is as wanted, each once, and to
// whom the draft said: to a manager of the same sheet at the address that is decided for them.
func TestMails(t *testing.T) {
	t.Parallel()
	w, b := draftMails(t, "7,Tom,O<b>y,,,Mate,Deck,8,pt-BR\n8,Ana,Reyes,,,Mate,Deck,1,en\n9,Lea,Brandt,,refused@x.example,Clerk,Deck,1,\n10,Bo,Lie,,busy@x.example,Mate,Deck,,\n")
	server, got := postOffice(t)
	var guard *batch.Guard
	require.ErrorAs(t, w.postMails(b, nil, false), &guard)
	assert.Empty(t, w.system.Changes(), "nothing is begun that cannot be ended")
	told := w.entries(b)
	require.Len(t, told[3].Findings, 1, "a mail for whom nobody is named: %v", told[3].Findings)

	require.NoError(t, w.postMails(b, server, false))
	assert.Equal(t, map[membership.Result]int{membership.Done: 5, membership.Failed: 1}, w.mailed(b))
	assert.Equal(t, account.Counts{account.Created: 4}, w.even(b), "the accounts are as wanted, whatever becomes of the mails")
	all := strings.Join(got(), "\n")
	for _, want := range []string{"Entre como tom.oby.", "Sign in as ana.reyes2.", "To: <ana.reyes2@x.example>", "To: <ana.reyes@x.example>", "Sign in as tom.oby, O&lt;b&gt;y."} {
		assert.Contains(t, strings.ReplaceAll(all, "=\r\n", ""), want)
	}
	require.NoError(t, w.postMails(b, server, false))
	assert.Len(t, got(), 5, "and none is sent twice")
	n, err := w.poster(b, server, false).Mails(t.Context(), nil, true)
	require.NoError(t, err)
	assert.Equal(t, 1, n, "a person may have the refused one sent again")
}

// What is held waits for a person's word; what was on its way when a post was killed is never
// sent again without one.
func TestMailsHeldAndCutShort(t *testing.T) {
	t.Parallel()
	w, b := draftMails(t, "7,Tom,Kaya,,,Clerk,Deck,1,\n8,Mia,Lund,,,Clerk,Deck,1,\n")
	server, got := postOffice(t)
	require.NoError(t, w.postMails(b, server, true))
	assert.Equal(t, map[membership.Result]int{membership.Held: 2}, w.mailed(b))
	assert.Equal(t, batch.Posted, b.State)
	b.State = batch.Reversed
	require.NoError(t, w.ledger.Save(t.Context(), b))
	var guard *batch.Guard
	_, err := w.poster(b, server, false).Mails(t.Context(), nil, false)
	require.ErrorAs(t, err, &guard)
	b.State = batch.Posted
	require.NoError(t, w.ledger.Save(t.Context(), b))
	n, err := w.poster(b, server, false).Mails(t.Context(), []int{2}, false)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Len(t, got(), 1)

	// A post was killed with the other on its way.
	e := w.entries(b)[1]
	e.Outcome, e.Steps[0].Result = account.Waiting, membership.Sending
	killed := worker()
	_, err = w.ledger.Lease(b.ID, killed).Join(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.ledger.Lease(b.ID, killed).Settle(t.Context(), []store.Result{{Entry: e}}, w.clock.Now()))
	_, err = w.ledger.Lease(b.ID, killed).Leave(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.postMails(b, server, false))
	assert.Len(t, got(), 1)
	assert.Equal(t, map[membership.Result]int{membership.Done: 1, membership.Unclear: 1}, w.mailed(b))
	assert.Contains(t, w.entries(b)[1].Findings[0].Message, "nobody can say whether it came to its end")
	n, err = w.poster(b, server, false).Mails(t.Context(), nil, false)
	require.NoError(t, err)
	assert.Zero(t, n)
	n, err = w.poster(b, server, false).Mails(t.Context(), nil, true)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Len(t, got(), 2)
}

// What is held is looked at again before it goes: nobody is written to who is suspended or gone by now, who
// has another address, or whom a later batch has written to.
func TestMailsHeldMeanwhile(t *testing.T) {
	t.Parallel()
	w, b := draftMails(t, "7,Tom,Kaya,,tom@x.example,Clerk,Deck,,\n8,Mia,Lund,,mia@x.example,Clerk,Deck,,\n9,Zoë,Ash,,zoe@x.example,Clerk,Deck,,\n10,Bo,Lie,,bo@x.example,Clerk,Deck,,\n11,Kai,Mo,,kai@x.example,Clerk,Deck,,\n13,Eve,Ito,,eve@x.example,Clerk,Deck,,\n")
	server, got := postOffice(t)
	require.NoError(t, w.postMails(b, server, true))
	accounts := map[string]account.Account{}
	for a, err := range w.system.List(t.Context(), []string{"givenName", "email", "active"}) {
		require.NoError(t, err)
		accounts[a.Field("givenName").Text()] = a
	}
	change := func(who, field, after string) {
		_, err := system.Change(t.Context(), nil, w.system, accounts[who], []account.Change{{Field: field, Before: accounts[who].Field(field), After: account.Of(after)}}, nil)
		require.NoError(t, err)
	}
	change("Tom", "active", "false")
	require.NoError(t, systemtest.Remove(t.Context(), nil, w.system, accounts["Mia"]))
	change("Zoë", "email", "ash@x.example")
	change("Eve", "email", "")
	entries := w.entries(b)
	next := w.draft(strings.Replace(welcomes, "  manager:", "  displayName: {make: 'givenName + \" \" + familyName'}\n  preferredLanguage: {from: Language}\n  manager:", 1), "No,First,Last,Login,Mail,Position,Department,Manager,Language\n12,Ida,Berg,,ida@x.example,Clerk,Deck,,\n")
	sent := w.entries(next)[0]
	sent.Account, sent.Outcome, sent.Did = entries[3].Account, account.Created, account.Created
	sent.Steps = slices.Clone(entries[3].Steps)
	sent.Steps[0].Result = membership.Done
	other := worker()
	_, err := w.ledger.Lease(next.ID, other).Join(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.ledger.Lease(next.ID, other).Settle(t.Context(), []store.Result{{Entry: sent}}, w.clock.Now()))
	_, err = w.ledger.Lease(next.ID, other).Leave(t.Context())
	require.NoError(t, err)

	n, err := w.poster(b, server, false).Mails(t.Context(), nil, false)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	require.Len(t, got(), 1)
	assert.Contains(t, got()[0], "To: <kai@x.example>")
	assert.Equal(t, map[membership.Result]int{membership.Held: 5, membership.Done: 1}, w.mailed(b))
	assert.Equal(t, account.Counts{account.Created: 6}, w.even(b))
	for i, why := range map[int]string{0: "is suspended now", 1: "is not there any more", 2: "address is ash@x.example now", 3: fmt.Sprintf("batch %d has sent this mail", next.ID), 5: "has no address any more"} {
		e := w.entries(b)[i]
		require.Len(t, e.Findings, 1)
		assert.Equal(t, account.NoticeLeftOut, e.Findings[0].Code)
		assert.Contains(t, e.Findings[0].Message, why)
	}

	accounts["Tom"], err = w.system.Get(t.Context(), accounts["Tom"].ID, []string{"active"})
	require.NoError(t, err)
	change("Tom", "active", "true")
	n, err = w.poster(b, server, false).Mails(t.Context(), nil, false)
	require.NoError(t, err)
	assert.Equal(t, 1, n, "who is let back in is written to")
	assert.Empty(t, w.entries(b)[0].Findings)
}

// Whoever posts a batch while its held mails are sent waits for that: nobody gets a mail twice.
func TestMailsAreSentByOne(t *testing.T) {
	t.Parallel()
	var rows strings.Builder
	const people = 45
	for i := range people {
		fmt.Fprintf(&rows, "%d,P%d,Kaya,,,Clerk,Deck,,\n", 100+i, i)
	}
	w, b := draftMails(t, rows.String())
	server, got := postOffice(t)
	require.NoError(t, w.postMails(b, server, true))
	assert.Empty(t, got())
	server.Rate = 15
	another := func() *posting.Post {
		own, err := w.ledger.Batch(t.Context(), b.ID)
		require.NoError(t, err)
		p := w.poster(own, server, false)
		p.Clock = clock.Real()
		return p
	}
	var all sync.WaitGroup
	all.Go(func() {
		n, err := another().Mails(t.Context(), nil, false)
		assert.NoError(t, err)
		assert.Equal(t, people, n)
	})
	testserver.Soon(t, func() bool { return len(got()) > 2 })
	var guard *batch.Guard
	_, err := another().Mails(t.Context(), nil, false)
	require.ErrorAs(t, err, &guard, "another is at it")
	require.NoError(t, another().Run(t.Context()))
	all.Wait()
	assert.Len(t, got(), people)
	assert.Equal(t, map[membership.Result]int{membership.Done: people}, w.mailed(b))
}

// A mail server that is not there leaves the mails to a later post, and the accounts as they
// are; of an account that was not made nobody is told.
func TestMailsLater(t *testing.T) {
	t.Parallel()
	w, b := draftMails(t, "7,Tom,Kaya,,,Clerk,Deck,1,\n8,Mia,Lund,,,Clerk,Deck,1,\n")
	w.system.Before = func(_ string, a account.Account) error {
		if a.Field("givenName").Text() == "Mia" {
			return &system.Refusal{Code: account.SystemRefused, Message: "no room"}
		}
		return nil
	}
	var down *reach.Unavailable
	require.ErrorAs(t, w.postMails(b, mailServer(t, "127.0.0.1:1"), false), &down)
	assert.Equal(t, 1, w.system.Changes())
	server, got := postOffice(t)
	require.NoError(t, w.postMails(b, server, false))
	assert.Len(t, got(), 1)
	assert.Equal(t, account.Counts{account.Created: 1, account.Failed: 1}, w.even(b))
	assert.Equal(t, map[membership.Result]int{membership.Done: 1, membership.Unsent: 1}, w.mailed(b))
}

// What follows elsewhere is done once, with what the draft said and the new account's id; what
// was refused there fails its row, holds its mail back, and is done again on a word, alone.
func TestFollowUps(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b, err := brief.Parse("b.yaml", []byte(crew+`follow_ups:
  berth: {on: created, when: title == "Mate", feed: rota, statement: "insert into berths values (:employeeNumber, :id)"}
  badge: {on: created, feed: gate, body: {who: '{givenName} {familyName}'}}
notices:
  welcome: {on: created, to: email, subject: x, text: y}
`), brief.Options{Today: "2026-11-23", Own: func(string) map[string]account.Kind { return nil }})
	require.NoError(t, err)
	b.FollowUps[0].Parameters = []string{"employeeNumber"}
	made := w.draftBy(b, columns+"7,Tom,Kaya,,,Mate,Deck\n8,Mia,Lund,,,Clerk,Deck\n9,Bo,Lie,,,Mate,Deck\n")
	var mu sync.Mutex
	var done []string
	answers := map[string]error{"Mia Lund": &feed.Refused{Message: "no badge"}, "9": fmt.Errorf("%w: it broke off", feed.ErrUnclear)}
	post := func() error {
		server, _ := postOffice(t)
		p := w.poster(made, server, false)
		p.Do = func(_ context.Context, at string, order feed.Order) error {
			mu.Lock()
			defer mu.Unlock()
			who := order.Body["who"] + order.Values["employeeNumber"]
			if order.Statement != "" {
				assert.NotEmpty(t, order.Values["id"], "the account's id is known by now")
			}
			if err := answers[who]; err != nil {
				return err
			}
			done = append(done, at+" "+who)
			return nil
		}
		err := p.Run(context.Background())
		w.even(made)
		return err
	}
	require.NoError(t, post())
	slices.Sort(done)
	assert.Equal(t, []string{"gate Bo Lie", "gate Tom Kaya", "rota 7"}, done)
	assert.Equal(t, account.Counts{account.Created: 2, account.Failed: 1}, w.even(made))
	assert.Equal(t, map[membership.Result]int{membership.Done: 1, membership.Unsent: 2}, w.mailed(made), "nobody is welcomed before all is done")
	require.NoError(t, post())
	assert.Len(t, done, 3, "what has a clear answer is not done again by itself, nor what has none")

	answers = nil
	n, err := w.poster(made, nil, false).Again(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	require.NoError(t, post())
	slices.Sort(done)
	assert.Equal(t, []string{"gate Bo Lie", "gate Mia Lund", "gate Tom Kaya", "rota 7", "rota 9"}, done)
	assert.Equal(t, account.Counts{account.Created: 3}, w.even(made))
	assert.Equal(t, map[membership.Result]int{membership.Done: 3}, w.mailed(made))
	assert.Equal(t, 3, w.system.Changes(), "and the accounts are left alone")

	// The place as a whole is not there: it waits.
	later := w.draftBy(b, columns+"10,Ida,Holm,,,Mate,Deck\n")
	server, _ := postOffice(t)
	p := w.poster(later, server, false)
	p.Do = func(context.Context, string, feed.Order) error {
		return &reach.Unavailable{Message: "the rota is away"}
	}
	var down *reach.Unavailable
	require.ErrorAs(t, p.Run(context.Background()), &down)
	assert.Equal(t, account.Counts{account.Waiting: 1}, w.even(later))
	p.Do = func(context.Context, string, feed.Order) error { return nil }
	require.NoError(t, p.Run(context.Background()))
	assert.Equal(t, account.Counts{account.Created: 1}, w.even(later))
}

// A password stands in the mail that is to tell it, and nowhere else: not in the ledger, not in the
// draft; it is kept as long as the mail is, and wiped when it was sent.
func TestMailsWithPassword(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.secrets = "generate"
	b := w.draft(crew+`password: {new: generate}
notices:
  welcome: {on: created, to: email, with_password: true, subject: 'For {givenName}', text: 'Your password: {password}', html: '<b>{password}</b>{familyName}'}
`, columns+"7,Tom,{password}`\ue000password\ue001,,tom@x.example,,\n8,Mia,Lund,,refused@x.example,,\n")
	for _, e := range w.entries(b) {
		assert.True(t, e.Steps[0].Tells)
	}
	server, got := postOffice(t)
	require.NoError(t, w.postMails(b, server, true), "nobody has to hand them out: the mails do")
	kept, err := w.ledger.Passwords(b.ID).Count(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.PasswordCounts{Mailed: 2}, kept, "kept for the mails that are held")
	n, err := w.poster(b, server, false).Mails(t.Context(), nil, false)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	require.Len(t, got(), 1)
	assert.Regexp(t, `Your password: [a-zA-Z2-9]{16}`, strings.ReplaceAll(got()[0], "=\r\n", ""))
	assert.NotContains(t, got()[0], "password\ue001")
	kept, err = w.ledger.Passwords(b.ID).Count(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.PasswordCounts{Got: 1}, kept, "that of the refused mail is to be handed out otherwise")
}

// What is done elsewhere before a batch stands between it and its first request, and what is done
// after it is done when all is posted, each once.
func TestAroundABatch(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	whole := func(statement string) []batch.Whole {
		return []batch.Whole{{Feed: "rota", Order: feed.Order{Statement: statement, Values: map[string]string{"today": "2026-11-23"}}}}
	}
	w.begin, w.end = whole("lock"), whole("unlock")
	b := w.draft(crew, columns+"7,Tom,Kaya,,,Mate,Deck\n")
	var done []string
	answers := map[string]error{"lock": &feed.Refused{Message: "somebody else has it"}}
	post := func() error {
		p := w.poster(b, nil, false)
		p.Do = func(_ context.Context, _ string, order feed.Order) error {
			if err := answers[order.Statement]; err != nil {
				return err
			}
			done = append(done, fmt.Sprint(order.Statement, " ", order.Values["batch"], " ", w.system.Changes()))
			return nil
		}
		return p.Run(context.Background())
	}
	for range 2 {
		require.ErrorContains(t, post(), "was refused")
		assert.Zero(t, w.system.Changes(), "nothing is begun, nor asked for again by itself")
	}
	answers = map[string]error{"unlock": fmt.Errorf("%w: it broke off", feed.ErrUnclear)}
	n, err := w.poster(b, nil, false).Again(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	require.ErrorContains(t, post(), "may have been done or not")
	assert.Equal(t, account.Counts{account.Created: 1}, w.even(b))
	assert.True(t, b.WaitsAround())
	answers = nil
	_, err = w.poster(b, nil, false).Again(t.Context())
	require.NoError(t, err)
	require.NoError(t, post())
	require.NoError(t, post())
	assert.Equal(t, []string{"lock 1 0", "unlock 1 1"}, done)
	assert.Equal(t, batch.Posted, b.State)
}

// picky is a system that refuses so many passwords of each account.
type picky struct {
	system.System
	refuses int
	mu      sync.Mutex
	met     map[string][]string // user name → passwords that came
}

func (p *picky) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if orders[0].Does != system.Creates {
		return p.System.Apply(ctx, may, orders, fields)
	}
	wanted := orders[0].Wanted
	name := wanted.Field("userName").Text()
	p.mu.Lock()
	p.met[name] = append(p.met[name], wanted.Password)
	refused := len(p.met[name]) <= p.refuses
	p.mu.Unlock()
	if refused {
		return nil, &system.Refusal{Code: account.SystemRefused, Field: "password", Message: "not that one"}
	}
	return p.System.Apply(ctx, may, orders, fields)
}

// A password that was made and is refused is made anew, twice, and the one that was taken is handed out.
func TestPasswordsRemade(t *testing.T) {
	t.Parallel()
	for refuses, want := range map[int]account.Counts{0: {account.Created: 2}, 1: {account.Created: 2}, 2: {account.Created: 2}, 3: {account.Failed: 2}} {
		w := newWorld(t)
		w.secrets = "generate"
		b := w.draft(crew+"password: {new: generate}\n", columns+"7,Tom,Kaya,,,,\n8,Mia,Lund,,,,\n")
		s := &picky{System: w.system, refuses: refuses, met: map[string][]string{}}
		require.NoError(t, w.postWith(s, b, func(p *posting.Post) { p.HandsOut = true }))
		counts := w.even(b)
		assert.Equal(t, want, counts)
		for e, err := range w.ledger.Entries(t.Context(), b.ID, store.Filter{Secrets: true}) {
			require.NoError(t, err)
			came := s.met[e.Left()["userName"].Text()]
			assert.Len(t, came, min(refuses+1, 3))
			assert.Len(t, slices.Compact(slices.Sorted(slices.Values(came))), len(came), "each is another")
			if refuses < 3 {
				opened, err := w.vaults.Of(b.ID, "").Open(e.Row, e.Secret)
				require.NoError(t, err)
				password, _ := e.Password(opened)
				assert.Equal(t, came[len(came)-1], password)
			}
		}
	}
}
