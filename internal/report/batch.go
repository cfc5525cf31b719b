package report

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// A Ledger is what is read of one to tell what batches came to.
type Ledger interface {
	store.Reader
	Steps(ctx context.Context, id int, does membership.Verb) ([]store.StepCount, error)
	Passwords(id int) store.Passwords
}

// Came is what a batch came to.
type Came struct {
	Counts  account.Counts
	Waiting map[account.Intent]int // what is intended with those that wait
	Even    bool                   // every row is accounted for
}

// ToDo is how many entries wait.
func (c Came) ToDo() int { return total(c.Waiting) }

// total is how many entries wait.
func total(waiting map[account.Intent]int) int {
	n := 0
	for _, of := range waiting {
		n += of
	}
	return n
}

// shown is how many entries stand at the head and at the foot of a batch.
const shown = 3

// mostShut is how many people are named who may not sign in.
const mostShut = 10

// Batch writes what a batch came to: title, account, findings, first and last
// entries. With told, only the findings of entries for which it holds.
func (p *Page) Batch(ctx context.Context, l Ledger, b *batch.Batch, more []account.Finding, told func(batch.Entry) bool) (Came, error) {
	counts, waiting, err := l.Counts(ctx, b.ID)
	came := Came{Counts: counts, Waiting: waiting}
	if err != nil {
		return came, err
	}
	if counts.Elsewhere() > 0 {
		p.Outcomes = len(account.HandedOver)
	}
	p.Title(b)
	p.Read(b.Read)
	came.Even = p.Account(In(b), Sides(b, counts, waiting)) && ReadEven(b)
	p.Proof(b)
	if err := p.Outgoing(ctx, l, b); err != nil {
		return came, err
	}
	if err := p.shut(ctx, l, []*batch.Batch{b}); err != nil {
		return came, err
	}
	if !b.Posted.IsZero() && len(b.Unmakes) > 0 {
		p.Makes(b)
	} else if counts.Waiting() > 0 {
		if err := p.before(ctx, l, b); err != nil {
			return came, err
		}
	}
	causes := &Causes{}
	causes.AddAll(more)
	if err := causes.AddEntries(l.Entries(ctx, b.ID, store.Filter{Findings: true}), told); err != nil {
		return came, err
	}
	p.Findings(causes)
	if err := p.gravest(ctx, l, b, waiting); err != nil {
		return came, err
	}
	if err := p.ends(ctx, l, b); err != nil {
		return came, err
	}
	return came, nil
}

// before tells what one should know of what is still to be done: what becomes of passwords, the seats, and things
// that are made first.
func (p *Page) before(ctx context.Context, l Ledger, b *batch.Batch) error {
	if err := p.passwords(ctx, l, b); err != nil {
		return err
	}
	p.Renames(b.Renames)
	p.Seats(b.Seats)
	p.Makes(b)
	return nil
}

// shut names the new people who may not sign in, each once for all the systems of a set.
func (p *Page) shut(ctx context.Context, l Ledger, batches []*batch.Batch) error {
	for _, of := range []struct {
		came account.Outcome
		says string
	}{{account.Waiting, "to create"}, {account.Created, "created"}} {
		all, in, named := 0, map[int]int{}, []batch.Entry{} // in: in how many systems a row's person may not
		for _, b := range batches {
			counts, waiting, err := l.Counts(ctx, b.ID)
			if err != nil {
				return err
			}
			if b.Mark.Field == "" || b.Reverses == 0 && !slices.Contains(b.Fields, b.Mark.Field) {
				continue // nothing is said of it
			}
			all = max(all, map[bool]int{true: waiting[account.Create], false: counts[account.Created]}[of.came.Waits()])
			shut := account.Change{Field: b.Mark.Field, After: account.Of(b.Mark.Off)}
			for e, err := range l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{of.came}, Gives: &shut}) {
				if err != nil {
					return err
				}
				if e.Intent != account.Create || of.came.Waits() && e.Did != "" || e.Left()[b.Mark.Field].Text() != b.Mark.Off {
					continue
				}
				if in[e.Row]++; in[e.Row] == 1 && len(named) < mostShut {
					named = append(named, e)
				}
			}
		}
		if len(in) == 0 {
			continue
		}
		p.Line("")
		p.Line("Of the %s %s, %s may not sign in:", Number(all), of.says, Number(len(in)))
		for _, e := range named {
			p.EntryLine(e)
			if n := in[e.Row]; n < len(batches) {
				p.Line("            %s", p.Dim(fmt.Sprintf("in %d of the %d systems", n, len(batches))))
			}
		}
		if more := len(in) - len(named); more > 0 {
			p.Line("  %s", p.Dim(fmt.Sprintf("… and %d more", more)))
		}
	}
	return nil
}

// passwords tells what becomes of passwords.
func (p *Page) passwords(ctx context.Context, l Ledger, b *batch.Batch) error {
	if b.Secrets == "" {
		return nil
	}
	kept, err := l.Passwords(b.ID).Count(ctx)
	if err != nil {
		return err
	}
	var parts []string
	for _, of := range []struct {
		n    int
		says string
	}{{kept.Waiting, "made, and handed out by the post that sets them: --credentials FILE --to KEY"}, {kept.Given, "given by the sheet"}, {kept.Mailed, "told in a mail"}} {
		if of.n > 0 {
			parts = append(parts, Number(of.n)+" "+of.says)
		}
	}
	if len(parts) > 0 {
		p.Line("")
		p.Text(p.Plain, "Passwords: "+strings.Join(parts, "; ")+".")
	}
	return nil
}

// gravest lists every account that is to be removed, suspended or let back in: none
// of them should come as a surprise.
func (p *Page) gravest(ctx context.Context, l Ledger, b *batch.Batch, waiting map[account.Intent]int) error {
	for _, of := range []struct {
		intent account.Intent
		title  string
	}{{account.Remove, "To be removed, with all that is in them"}, {account.Suspend, "To be suspended"}, {account.Resume, "To be let back in"}} {
		if waiting[of.intent] == 0 {
			continue
		}
		p.Line("")
		p.Line("%s", p.Bold(of.title))
		for e, err := range l.Entries(ctx, b.ID, store.Filter{Intents: []account.Intent{of.intent}}) {
			if err != nil {
				return err
			}
			p.EntryLine(e)
		}
	}
	return nil
}

// ends writes the first and last entries, as people look at those.
func (p *Page) ends(ctx context.Context, l Ledger, b *batch.Batch) error {
	var outcomes []account.Outcome
	if b.Taken != "" { // what was left out is of no interest
		outcomes = slices.DeleteFunc(account.Outcomes(), func(o account.Outcome) bool { return o == account.Aside })
	}
	first, err := some(ctx, l, b.ID, store.Filter{Outcomes: outcomes, Limit: shown, Cells: true})
	if err != nil {
		return err
	}
	last, err := some(ctx, l, b.ID, store.Filter{Outcomes: outcomes, Limit: shown, Last: true, Cells: true})
	if err != nil || len(first) == 0 {
		return err
	}
	p.Line("")
	p.Line("%s", p.Bold("First and last entries"))
	end := 0
	for _, e := range first {
		p.EntryLine(e)
		end = e.Row
	}
	if len(last) == shown && last[len(last)-1].Row > end+1 {
		p.Line("  %s", p.Dim("…"))
	}
	for i := len(last) - 1; i >= 0; i-- {
		if last[i].Row > end {
			p.EntryLine(last[i])
		}
	}
	return nil
}

func some(ctx context.Context, l Ledger, id int, filter store.Filter) ([]batch.Entry, error) {
	var entries []batch.Entry
	for e, err := range l.Entries(ctx, id, filter) {
		if err != nil {
			return nil, err
		}
		entries = append(entries, e)
	}
	return entries, nil
}

// Outgoing sums up what a batch does elsewhere, and its mails.
func (p *Page) Outgoing(ctx context.Context, l Ledger, b *batch.Batch) error {
	for _, of := range []struct {
		does  membership.Verb
		title string
		says  func(membership.Result) string
	}{{membership.Follow, "Follow-ups", followState}, {membership.Notify, "Mails", MailState}} {
		counts, err := l.Steps(ctx, b.ID, of.does)
		if err != nil {
			return err
		}
		by := map[string][]string{}
		var names []string
		for _, c := range counts {
			if by[c.Name] == nil {
				names = append(names, c.Name)
			}
			by[c.Name] = append(by[c.Name], Number(c.N)+" "+of.says(c.Result))
		}
		if len(names) > 0 {
			p.Line("")
			p.Line("%s", p.Bold(of.title))
		}
		for _, name := range names {
			p.Line("  %s %s", Pad(Clip(name, 20), 20), strings.Join(by[name], ", "))
		}
	}
	return nil
}

// MailState says in words what became of a mail.
func MailState(r membership.Result) string {
	switch r {
	case membership.Queued:
		return "to go now"
	case membership.Sending:
		return "on its way"
	case membership.Done:
		return "sent"
	case membership.Failed:
		return "refused"
	case membership.Unsent:
		return "not sent"
	case membership.Held:
		return "held"
	case membership.Unclear:
		return "unclear"
	}
	return "to send"
}

// followState says in words what became of a follow-up.
func followState(r membership.Result) string {
	switch r {
	case membership.Sending:
		return "begun"
	case membership.Done:
		return "done"
	case membership.Failed:
		return "failed"
	case membership.Unsent:
		return "not done"
	case membership.Unclear:
		return "unclear"
	}
	return "to do"
}
