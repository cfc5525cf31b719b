package drafting

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// reown has files follow accounts that get other numbers, if the brief says where they are: one
// step for each account, with how many there are today. What nobody could tell apart afterwards
// is refused.
func (d *making) reown(ctx context.Context) error {
	in := d.brief.Reown
	if in == nil || d.Compare {
		return nil
	}
	if !d.about.Can.Reowns || d.about.Owners[0] == "" {
		return &account.Mistake{Message: "the brief has files re-owned, and in this system accounts own none, or its tools cannot do it", Remedy: "Take “reown” out of the brief, or put it under “for” with the hosts that it is meant for."}
	}
	d.Batch.Reown = &system.Folders{In: in.Folders, Across: in.Across}
	var entries []batch.Entry
	var numbers []system.Renumbered
	old, after := map[int]int{}, map[int]int{} // number → row
	for e, err := range d.Ledger.Entries(ctx, d.Batch.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}}) {
		if err != nil {
			return err
		}
		if n, moves := renumbered(d.about.Schema, &e); moves {
			entries, numbers = append(entries, e), append(numbers, n)
			old[n.User[0]], after[n.User[1]] = e.Row, e.Row
		}
	}
	if len(entries) == 0 {
		return nil
	}
	holders, err := d.holdersOf(ctx)
	if err != nil {
		return err
	}
	owned, err := system.Reown(ctx, nil, d.System, *d.Batch.Reown, numbers, true, func(files int) { d.tell("looked at files", files) })
	if err != nil {
		return err
	}
	for i := range entries {
		e, n, has := &entries[i], numbers[i], owned[i]
		refuse := func(format string, args ...any) {
			e.Find(account.Error, account.NumbersMixed, d.about.Owners[0], "", fmt.Sprintf(format, args...))
			d.ties.Return(e.Steps)
			e.Refuse()
		}
		switch other := old[n.User[1]]; {
		case n.User[0] != n.User[1] && other != 0 && other != e.Row:
			refuse("the number %d, which this account gets, is still that of row %d, whose files are re-owned as well: if the walk broke off, nobody could tell whose they are", n.User[1], other)
			continue
		case n.User[0] != n.User[1] && holders[n.User[0]] > 1:
			refuse("%d accounts have the number %d: whose its files are nobody can tell", holders[n.User[0]], n.User[0])
			continue
		}
		if has.After > 0 {
			e.Find(account.Warning, account.NumbersMixed, d.about.Owners[0], "", fmt.Sprintf("the new number owns %s already, of somebody who had it before", counted(has.After)))
		}
		e.Steps = append([]membership.Step{{Do: membership.Reown, Kind: "files", Numbers: &n, Name: Files(has)}}, e.Steps...)
	}
	return d.Ledger.Drafting(d.Batch.ID).Decide(ctx, entries)
}

// holdersOf counts how many accounts have each number.
func (d *making) holdersOf(ctx context.Context) (map[int]int, error) {
	holders := map[int]int{}
	for a, err := range d.System.List(ctx, []string{d.about.Owners[0]}) {
		if err != nil {
			return nil, err
		}
		if number, err := strconv.Atoi(a.Field(d.about.Owners[0]).Text()); err == nil {
			holders[number]++
		}
	}
	return holders, nil
}

// renumbered is how the numbers of an entry's account change, if one does.
func renumbered(schema *account.Schema, e *batch.Entry) (n system.Renumbered, moves bool) {
	of := func(field string) (pair [2]int) {
		for _, c := range e.Changes {
			before, err := strconv.Atoi(c.Before.Text())
			now, afterErr := strconv.Atoi(c.After.Text())
			if c.Field == field && err == nil && afterErr == nil {
				return [2]int{before, now}
			}
		}
		return pair
	}
	if e.Account == "" || e.Intent == account.Remove || e.Intent == account.Create {
		return n, false
	}
	n = system.Renumbered{User: of(schema.Owners[0]), Group: of(schema.Owners[1])}
	return n, n.User[0] != n.User[1] || n.Group[0] != n.Group[1]
}

// Files says how many files there are of an account.
func Files(has system.Owned) string {
	said := counted(has.User)
	var more []string
	if has.Both > 0 {
		more = append(more, fmt.Sprintf("%d with its group as well", has.Both))
	}
	if alone := has.Group - has.Both; alone > 0 {
		more = append(more, fmt.Sprintf("%d by its group alone", alone))
	}
	if has.Marked > 0 {
		more = append(more, fmt.Sprintf("%d with bits or capabilities that are put back", has.Marked))
	}
	if has.Listed > 0 {
		more = append(more, fmt.Sprintf("and %d entries of access lists", has.Listed))
	}
	if len(more) > 0 {
		said += " (" + strings.Join(more, ", ") + ")"
	}
	return said
}

func counted(files int) string {
	if files == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", files)
}
