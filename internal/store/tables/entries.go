package tables

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"iter"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// entriesNow are the entries as drafted with what posting made of them.
const entriesNow = "entries e LEFT JOIN results r ON r.batch = e.batch AND r.row = e.row"

// came is what became of an entry so far.
const came = "coalesce(r.outcome, e.outcome)"

const entryColumns = "e.row, e.key, e.intent, coalesce(r.outcome, e.outcome), coalesce(r.account, e.account), coalesce(r.version, e.version), e.changes, e.known, coalesce(r.findings, e.findings), coalesce(r.did, ''), coalesce(r.part, ''), coalesce(r.proof, ''), coalesce(r.place, '')"

// sealed is an entry's sealed password.
const sealed = "coalesce((SELECT sealed FROM secrets s WHERE s.batch = e.batch AND s.row = e.row), '')"

// entryPage is how many entries are read before their steps are.
const entryPage = 512

// Entries implements store.Store.
func (l *Ledger) Entries(ctx context.Context, id int, filter store.Filter) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		if len(filter.Rows) > 0 && !filter.Last {
			l.entriesOf(ctx, id, filter, yield)
			return
		}
		left := filter.Limit
		for after, first := filter.After, true; ; first = false {
			size := entryPage
			if filter.Limit > 0 {
				size = min(size, left)
			}
			if size == 0 {
				return
			}
			query, args := entriesQuery(id, filter, after, first, size)
			page, err := l.entries(ctx, id, filter.Mails, query, args)
			if err != nil {
				yield(batch.Entry{}, err)
				return
			}
			for _, e := range page {
				if !yield(e, nil) {
					return
				}
			}
			if left -= len(page); len(page) < size {
				return
			}
			after = page[len(page)-1].Row
		}
	}
}

// entriesOf yields the entries of rows. They are looked up by their keys, and put in order here: a server that is to do so may go
// through all that it has in order.
func (l *Ledger) entriesOf(ctx context.Context, id int, filter store.Filter, yield func(batch.Entry, error) bool) {
	rows := slices.Compact(slices.Sorted(slices.Values(filter.Rows)))
	rows = slices.DeleteFunc(rows, func(row int) bool { return row <= filter.After })
	left := filter.Limit
	for some := range slices.Chunk(rows, entryPage) {
		filter.Rows = some
		query, args := entriesQuery(id, filter, 0, true, 0)
		page, err := l.entries(ctx, id, filter.Mails, query, args)
		if err != nil {
			yield(batch.Entry{}, err)
			return
		}
		slices.SortFunc(page, func(a, b batch.Entry) int { return a.Row - b.Row })
		for _, e := range page {
			if !yield(e, nil) {
				return
			}
			if left--; left == 0 {
				return
			}
		}
	}
}

// Count implements store.Reader.
func (l *Ledger) Count(ctx context.Context, id int, filter store.Filter) (n int, err error) {
	filter.Cells, filter.Secrets = false, false
	query, args := entriesQuery(id, filter, 0, true, 0)
	err = one(ctx, l, []any{&n}, "SELECT count(*) FROM ("+query+") picked", args...)
	return n, err
}

// entriesQuery is the query for a page of entries that a filter picks; for size 0 for all of them, in no order.
func entriesQuery(id int, filter store.Filter, after int, first bool, size int) (query string, args []any) {
	more := ", '[]'"
	if filter.Cells {
		more = ", e.cells"
	}
	if filter.Secrets {
		more += ", " + sealed
	} else {
		more += ", ''"
	}
	query, args = "SELECT "+entryColumns+more+" FROM "+entriesNow+" WHERE e.batch = ?", []any{id}
	switch {
	case size == 0:
	case filter.Last && !first:
		query += " AND e.row > ? AND e.row < ?"
		args = append(args, filter.After, after)
	default:
		query += " AND e.row > ?"
		args = append(args, after)
	}
	if len(filter.Rows) > 0 {
		query += " AND e.row IN (LISTED(?))"
		args = append(args, jsonText(filter.Rows))
	}
	if filter.Upto > 0 {
		query += " AND e.row <= ?"
		args = append(args, filter.Upto)
	}
	if either, with := cameTo(filter); either != "" {
		query += " AND (" + either + ")"
		args = append(args, with...)
	}
	for _, c := range []struct {
		asked bool
		holds string
	}{
		{filter.Open, "coalesce(r.did, '') = ''"},
		{filter.Steps, "r.did != ''"},
		{filter.Unproven, "r.did != '' AND r.proof IN ('', '" + string(batch.Unseen) + "', '" + string(batch.Shown) + "')"},
		{filter.Findings, "coalesce(r.findings, e.findings) != '[]'"},
	} {
		if c.asked {
			query += " AND " + c.holds
		}
	}
	if filter.Does != "" {
		query += " AND EXISTS (SELECT 1 FROM steps s WHERE s.batch = e.batch AND s.row = e.row AND s.\"do\" = ?)"
		args = append(args, filter.Does)
	}
	if filter.Gives != nil {
		query += " AND replace(e.changes, ?, '') <> e.changes"
		args = append(args, strings.Trim(changesText([]account.Change{*filter.Gives}), "[]"))
	}
	if size == 0 {
		return query, args
	}
	query += " ORDER BY e.row"
	if filter.Last {
		query += " DESC"
	}
	return query + " LIMIT ?", append(args, size)
}

// cameTo is the condition on what entries came to, or wait for.
func cameTo(filter store.Filter) (condition string, args []any) {
	var either []string
	if n := len(filter.Outcomes); n > 0 {
		either = append(either, came+" IN (?"+strings.Repeat(", ?", n-1)+")")
		for _, outcome := range filter.Outcomes {
			args = append(args, outcome)
		}
	}
	if n := len(filter.Intents); n > 0 {
		either = append(either, came+" = ? AND CASE WHEN coalesce(r.did, '') = '' THEN e.intent ELSE ? END IN (?"+strings.Repeat(", ?", n-1)+")")
		args = append(args, account.Waiting, account.Finish)
		for _, intent := range filter.Intents {
			args = append(args, intent)
		}
	}
	return strings.Join(either, " OR "), args
}

// entries reads entries with their steps, all as they are at one moment.
func (l *Ledger) entries(ctx context.Context, id int, mails bool, query string, args []any, more ...any) (all []batch.Entry, err error) {
	err = l.Read(ctx, func(tx Tx) (err error) {
		all, err = pageOf(ctx, tx, id, mails, query, args, more...)
		return err
	})
	return all, err
}

func pageOf(ctx context.Context, tx Tx, id int, mails bool, query string, args []any, more ...any) (all []batch.Entry, err error) {
	if err := each(ctx, tx, func(rows *sql.Rows) error {
		e, err := scan(rows, more...)
		all = append(all, e)
		return err
	}, query, args...); err != nil || len(all) == 0 {
		return nil, err
	}
	return all, addSteps(ctx, tx, id, all, mails)
}

// entriesIn yields the entries of a batch within a transaction.
func entriesIn(ctx context.Context, tx Tx, id int) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for after := 0; ; {
			query, args := entriesQuery(id, store.Filter{}, after, false, entryPage)
			page, err := pageOf(ctx, tx, id, false, query, args)
			if err != nil {
				yield(batch.Entry{}, err)
				return
			}
			for _, e := range page {
				if after = e.Row; !yield(e, nil) {
					return
				}
			}
			if len(page) < entryPage {
				return
			}
		}
	}
}

func scan(rows *sql.Rows, more ...any) (batch.Entry, error) {
	var e batch.Entry
	var changes, known, findings, part, place, cells string
	if err := rows.Scan(append([]any{&e.Row, &e.Key, &e.Intent, &e.Outcome, &e.Account, &e.Version, &changes, &known, &findings, &e.Did, &part, &e.Proof, &place, &cells, &e.Secret}, more...)...); err != nil {
		return e, err
	}
	var err error
	if e.Changes, err = readChanges(changes); err != nil {
		return e, err
	}
	if part != "" {
		e.Part = []string{}
		err = json.Unmarshal([]byte(part), &e.Part)
	}
	if place != "" {
		err = errors.Join(err, json.Unmarshal([]byte(place), &e.Place))
	}
	return e, errors.Join(err, read(known, &e.Known), read(findings, &e.Findings), read(cells, &e.Cells))
}

// partText is which fields were changed where not all were; all is "".
func partText(part []string) string {
	if part == nil {
		return ""
	}
	return jsonText(part)
}

// placeText is where an entry was handed over; "": it was not.
func placeText(place *batch.Place) string {
	if place == nil {
		return ""
	}
	return jsonText(place)
}
