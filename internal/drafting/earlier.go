package drafting

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// lately is how long an account that a batch made may stay unseen before its row counts
// as that of somebody new again.
const lately = 15 * time.Minute

// fewWitnesses is how many accounts a batch remembers, to know its system again.
const fewWitnesses = 3

// madeBefore is an account that an earlier batch made, or may have made.
type madeBefore struct {
	batch, row int
	account    string // empty: it is open whether it was made
	at         time.Time
	handed     bool // what was to be done with it was handed over, and nobody knows what became of it
}

// remember gathers what earlier batches made in the system of late, and what they may
// have made: the system may not show it yet.
func (d *making) remember(ctx context.Context) error {
	d.made = map[string]map[string]madeBefore{}
	if d.Compare {
		return nil // nothing is made
	}
	return d.Ledger.Past(d.Batch.System).MadeSince(ctx, d.Batch.Made.Add(-lately), func(id int, e *batch.Entry, at time.Time) {
		m := madeBefore{id, e.Row, "", at, e.Outcome.IsElsewhere()}
		if m.handed && e.Account != "" {
			set(d.made, account.ID, e.Account, m)
		}
		if e.Did == account.Created {
			m.account = e.Account
		}
		for _, c := range e.Changes {
			if c.After.Filled() && slices.Contains(d.brief.Match, c.Field) {
				set(d.made, c.Field, strings.Clone(d.about.Field(c.Field).Key(c.After.Text())), m) // else it would keep all that the entry changes
			}
		}
	})
}

// leaveMade refuses an entry that would make an account which an earlier batch made, or may have made, and which the
// system doesn't show. One whose account an earlier batch handed over is set aside until it is known what became of that,
// even if there is nothing to change today: what is on its way may undo that.
func (d *making) leaveMade(e *batch.Entry) {
	if !e.Outcome.Waits() && e.Outcome != account.Unchanged {
		return
	}
	m, field, made := d.madeBefore(e)
	switch {
	case !made || e.Outcome == account.Unchanged && !m.handed:
		return
	case m.handed:
		e.Find(account.Warning, account.HandedOverBefore, "", "", fmt.Sprintf("batch %d, row %d, handed this account over, and nobody knows yet what became of it", m.batch, m.row))
		d.ties.Return(e.Steps)
		e.Outcome, e.Intent, e.Changes, e.Steps = account.Aside, account.None, nil, nil
		return
	case m.account == "":
		e.Find(account.Error, account.PerhapsMade, field, "", fmt.Sprintf("batch %d, row %d, may have made this account: no clear answer came, and the system doesn't show it yet", m.batch, m.row))
	default:
		e.Find(account.Error, account.NotSeenYet, field, "", fmt.Sprintf("batch %d, row %d, made this account (%s) at %s, and the system doesn't show it yet", m.batch, m.row, m.account, m.at.Local().Format(time.TimeOnly)))
	}
	d.ties.Return(e.Steps)
	e.Refuse()
}

// madeBefore is what an earlier batch did with an entry's account, by the field that tells so.
func (d *making) madeBefore(e *batch.Entry) (m madeBefore, field string, made bool) {
	if m, made = d.made[account.ID][e.Account]; made && e.Account != "" {
		return m, account.ID, true
	}
	if e.Intent != account.Create {
		return m, "", false
	}
	for _, c := range e.Changes {
		if of := d.made[c.Field]; len(of) > 0 {
			if m, made = of[d.about.Field(c.Field).Key(c.After.Text())]; made {
				return m, c.Field, true
			}
		}
	}
	return m, "", false
}

// witness keeps a few accounts to know the system again by.
func (d *making) witness(a *account.Account) {
	if len(d.seen) < 10*fewWitnesses && a.Field(d.about.Naming).Filled() {
		d.seen = append(d.seen, account.Account{ID: strings.Clone(a.ID), Fields: map[string]account.Value{d.about.Naming: a.Field(d.about.Naming), "displayName": a.Field("displayName")}})
	}
}

// settleWitnesses notes those that the batch doesn't change, as far as there are any.
func (d *making) settleWitnesses(index *batch.Index) {
	concerned := func(a account.Account) bool { return index.Accounts()[a.ID] != nil }
	others := slices.DeleteFunc(slices.Clone(d.seen), concerned)
	if renames := d.brief.Field(d.about.Naming); len(others) < fewWitnesses && (renames < 0 || !d.brief.Fields[renames].Send) {
		others = d.seen
	}
	d.Batch.Witnesses = others[:min(len(others), fewWitnesses)]
}

// lookForProtected has the accounts looked up whose names are said to be protected: a name
// that is mistyped protects nobody.
func (d *making) lookForProtected() {
	d.guards = map[string]bool{}
	for _, pattern := range d.Batch.Protect {
		d.guards[pattern] = false
		if !strings.Contains(pattern, "*") {
			d.wanted.also(d.about.Field(d.about.Naming), pattern)
		}
	}
}

func (d *making) noteProtected(a *account.Account) {
	for pattern, seen := range d.guards {
		if !seen && batch.Protects(d.about.Schema, []string{pattern}, a) {
			d.guards[pattern] = true
		}
	}
}

// unprotecting is as in Made.
func (d *making) unprotecting() (patterns []string) {
	for pattern, seen := range d.guards {
		if !seen && (d.way.Listed || !strings.Contains(pattern, "*")) {
			patterns = append(patterns, pattern)
		}
	}
	slices.Sort(patterns)
	return patterns
}
