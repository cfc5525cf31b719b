package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"evenledger/internal/batch"
	"evenledger/internal/membership"
)

// giveRows brings a ledger of version 3 to version 4: the steps of an entry, which stood
// there in one text and their results in another, become rows.
func giveRows(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, rowsOfTheirOwn); err != nil {
		return err
	}
	rows, err := tx.QueryContext(ctx, "SELECT e.batch, e.row, e.steps, coalesce(r.steps, '') FROM "+entriesNow+" WHERE e.steps NOT IN ('', '[]', 'null')")
	if err != nil {
		return err
	}
	defer rows.Close()
	type old struct {
		id    int
		entry batch.Entry
	}
	var all []old
	for rows.Next() {
		var o old
		var steps, results string
		if err := rows.Scan(&o.id, &o.entry.Row, &steps, &results); err != nil {
			return err
		}
		if err := errors.Join(read(steps, &o.entry.Steps), readResults(results, o.entry.Steps)); err != nil {
			return fmt.Errorf("batch %d, row %d: %w", o.id, o.entry.Row, err)
		}
		all = append(all, o)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	steps, err := writeSteps(ctx, tx)
	if err != nil {
		return err
	}
	for _, o := range all {
		if err := steps.put(ctx, o.id, o.entry); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, "ALTER TABLE entries DROP COLUMN steps; ALTER TABLE results DROP COLUMN steps")
	return err
}

// readResults reads what version 3 had of the results of steps: a letter for each, and the
// identifiers of things that were made for them.
func readResults(text string, steps []membership.Step) error {
	if text == "" {
		return nil
	}
	letters, made, _ := strings.Cut(text, " ")
	if len(letters) != len(steps) {
		return errors.New("the ledger's list of steps is broken")
	}
	for i := range steps {
		steps[i].Result = map[byte]membership.Result{'d': membership.Done, 'f': membership.Failed, 'u': membership.Unsent}[letters[i]]
	}
	for _, one := range strings.Fields(made) {
		at, id, _ := strings.Cut(one, "=")
		if i, err := strconv.Atoi(at); err == nil && i < len(steps) {
			steps[i].Thing = strings.ReplaceAll(id, "\x1f", " ")
		}
	}
	return nil
}
