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
}

// remember gathers what earlier batches made in the system of late, and what they may
// have made: the system may not show it yet.
func (d *making) remember(ctx context.Context) error {
	d.made = map[string]map[string]madeBefore{}
	return d.Ledger.MadeSince(ctx, d.Batch.System, d.Batch.Made.Add(-lately), func(id int, e *batch.Entry, at time.Time) {
		m := madeBefore{id, e.Row, "", at}
		if e.Did == account.Created {
			m.account = e.Account
		}
		for _, c := range e.Changes {
			if c.After.Filled() && slices.Contains(d.brief.Match, c.Field) {
				set(d.made, c.Field, d.about.Field(c.Field).Key(c.After.Text()), m)
			}
		}
	})
}

// refuseMade refuses an entry that would make an account which an earlier batch made, or
// may have made, and which the system doesn't show.
func (d *making) refuseMade(e *batch.Entry) {
	if e.Intent != account.Create || e.Outcome != account.Waiting || d.Compare {
		return
	}
	for _, c := range e.Changes {
		m, made := d.made[c.Field][d.about.Field(c.Field).Key(c.After.Text())]
		switch {
		case !made:
			continue
		case m.account == "":
			e.Find(account.Error, account.PerhapsMade, c.Field, "", fmt.Sprintf("batch %d, row %d, may have made this account: no clear answer came, and the system doesn't show it yet", m.batch, m.row))
		default:
			e.Find(account.Error, account.NotSeenYet, c.Field, "", fmt.Sprintf("batch %d, row %d, made this account (%s) at %s, and the system doesn't show it yet", m.batch, m.row, m.account, m.at.Local().Format(time.TimeOnly)))
		}
		d.ties.Return(e.Steps)
		e.Refuse()
		return
	}
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
		if !strings.Contains(pattern, "*") && !slices.Contains(d.keys[d.about.Naming], pattern) {
			d.keys[d.about.Naming] = append(d.keys[d.about.Naming], pattern)
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
