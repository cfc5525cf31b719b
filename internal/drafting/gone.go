package drafting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/system"
)

// looksForGone reports whether accounts that no row lists are looked for. Where
// only a part of the sheet was taken, nobody can say what the rest lists.
func (d *making) looksForGone() bool { return d.brief.Gone == brief.Suspend && !d.Part }

// listAll looks at every account, and keeps those in scope that no row lists.
func (d *making) listAll(ctx context.Context, ask []string, take func(account.Account)) error {
	condition := d.brief.Scope
	scope := condition.NewScope(nil)
	names, err := d.namesForScope(ctx)
	if err != nil {
		return err
	}
	keys := make([]account.Field, len(d.brief.Match))
	for i, name := range d.brief.Match {
		keys[i] = d.about.Field(name)
	}
	for a, err := range d.System.List(ctx, ask) {
		if err != nil {
			return err
		}
		take(a)
		for _, i := range condition.Only[0].Uses {
			value := a.Field(condition.Fields[i].Name).Text()
			if name := names[value]; name != "" && condition.Fields[i].Kind == account.Person {
				value = name
			}
			scope.Set(i, value)
		}
		in, err := condition.Only[0].True(scope)
		if err != nil {
			return fmt.Errorf("“scope” could not be worked out for the account %s: %w", a.Label(), err)
		}
		if !in {
			continue
		}
		d.scope++
		known, keyed := false, false
		for _, key := range keys {
			value := a.Field(key.Name)
			keyed = keyed || value.Filled()
			known = known || value.Filled() && d.listed[key.Name][key.Key(value.Text())]
		}
		// An account without any key, such as a service's, is in no list of people.
		if keyed && !known {
			d.gone = append(d.gone, a)
		}
	}
	return nil
}

// namesForScope reads the names of all accounts if the scope is a condition on one that
// others refer to, such as their manager: people know each other by their names.
func (d *making) namesForScope(ctx context.Context) (map[string]string, error) {
	condition := d.brief.Scope
	if !slices.ContainsFunc(condition.Only[0].Uses, func(i int) bool { return condition.Fields[i].Kind == account.Person }) {
		return nil, nil
	}
	names := map[string]string{}
	for a, err := range d.System.List(ctx, []string{d.about.Naming}) {
		if err != nil {
			return nil, err
		}
		names[a.ID] = a.Label()
	}
	return names, nil
}

// decideGone makes entries of the accounts that no row lists.
func (d *making) decideGone(ctx context.Context, decider *batch.Decider, mails *notices) error {
	if len(d.gone) == 0 {
		return nil
	}
	slices.SortFunc(d.gone, func(x, y account.Account) int { return strings.Compare(x.Label(), y.Label()) })
	var entries []batch.Entry
	for i := range d.gone {
		e := batch.Entry{Row: batch.UnlistedRow(len(entries) + 1)}
		decider.Unlist(&e, &d.gone[i])
		if e.Outcome == account.Unchanged {
			continue
		}
		if d.unsure != "" && e.Outcome.Waits() {
			d.ties.Return(e.Steps)
			e.Find(account.Error, account.PerhapsListed, d.brief.Match[0], "", d.unsure+", so it may be this account's")
			e.Refuse()
		}
		mails.mails(&e, nil)
		entries = append(entries, e)
	}
	d.Batch.Unlisted = len(entries)
	return d.Ledger.Drafting(d.Batch.ID).Add(ctx, entries)
}

func accounts(n int) string {
	if n == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", n)
}

// count returns how many accounts there are, one by one where the system doesn't say.
func (d *making) count(ctx context.Context) (total int, err error) {
	if total, err = d.System.Count(ctx); !errors.Is(err, system.ErrCannot) {
		return total, err
	}
	for _, err := range d.System.List(ctx, nil) {
		if err != nil {
			return 0, err
		}
		total++
	}
	return total, nil
}

// holdSheet holds the batch back if the sheet itself is not to be trusted: too many of its rows are
// refused, or too many are missing.
func (d *making) holdSheet(counts account.Counts) {
	rows, refused := d.Batch.Rows, counts[account.Refused]
	if limit := d.brief.Refused; limit != nil && refused > limit.Allows(rows) {
		d.Batch.Held = append(d.Batch.Held, fmt.Sprintf("%d of the %d rows are refused, and the brief allows %s", refused, rows, limit.Text))
	}
	if limit := d.brief.Fewer; limit != nil && !d.Part && d.Before > 0 && d.Before-rows > limit.Allows(d.Before) {
		d.Batch.Held = append(d.Batch.Held, fmt.Sprintf("the list has %d rows, and had %d the last time; the brief allows %s fewer", rows, d.Before, limit.Text))
	}
}

// noteLimits notes how much of each the brief allowed, and what a person let through.
func (d *making) noteLimits(waiting map[account.Intent]int) {
	for _, intent := range account.Intents() {
		limit, limited := d.brief.Limits[intent]
		switch {
		case waiting[intent] == 0:
		case limited:
			d.Batch.Limits = append(d.Batch.Limits, fmt.Sprintf("%s at most %s", intent, limit.Text))
		case intent == account.Suspend || intent == account.Remove:
			d.Batch.Limits = append(d.Batch.Limits, fmt.Sprintf("%s as many as there are: the brief has no limit", intent))
		}
	}
	if d.Allow {
		d.Batch.Limits = append(d.Batch.Limits, "memberships that give rights over others are let through (--elevated)")
	}
}

// hold holds the batch back if it would do more than the brief allows.
func (d *making) hold(ctx context.Context, counts account.Counts, waiting map[account.Intent]int) (err error) {
	if d.ties != nil {
		d.Batch.Seats, d.Batch.Makes = d.ties.Seats(), d.ties.Makes()
	}
	if d.places != nil {
		d.Batch.Makes = append(d.places.makes, d.Batch.Makes...)
	}
	d.holdSheet(counts)
	d.noteLimits(waiting)
	if len(d.brief.Limits) == 0 {
		return nil
	}
	total, of := d.scope, "accounts in scope"
	if !d.looksForGone() {
		of = "accounts of the system"
		if total, err = d.count(ctx); err != nil {
			return err
		}
	}
	for _, intent := range account.Intents() {
		limit, limited := d.brief.Limits[intent]
		if n := waiting[intent]; limited && n > limit.Allows(total) {
			allowed := limit.Text
			if limit.Share > 0 {
				allowed = fmt.Sprintf("%s of the %d %s, which is %d", limit.Text, total, of, limit.Allows(total))
			}
			d.Batch.Held = append(d.Batch.Held, fmt.Sprintf("it would %s %s, and the brief allows %s", intent, accounts(n), allowed))
		}
	}
	if d.looksForGone() && d.Batch.Rows == 0 && len(d.gone) > 0 {
		d.Batch.Held = append(d.Batch.Held, "the sheet has no rows, so that everyone within “scope” would be gone")
	}
	return nil
}
