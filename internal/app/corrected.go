package app

import (
	"context"
	"maps"
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
)

// Corrected finds, of each batch, the refused and failed rows that were corrected
// since: by batches made from its fix sheet, or from those' own.
func Corrected(ctx context.Context, l store.Store, newestFirst []batch.Batch) (map[int]map[int]bool, error) {
	fixed := map[int]map[int]bool{}
	for _, b := range newestFirst {
		_, column := sheet.FixesOf(b.Headings)
		of := b.Corrects // of a set's fix sheet, which names the first batch, that of the same system
		if of == 0 || column < 0 || b.Posted.IsZero() {
			continue
		}
		for e, err := range l.Entries(ctx, b.ID, store.Filter{Cells: true}) {
			if err != nil {
				return nil, err
			}
			bad := e.Outcome.IsBad() || e.Outcome.Waits() || e.Outcome == account.Aside
			if column >= len(e.Cells) || bad && !fixed[b.ID][e.Row] {
				continue
			}
			if row, err := strconv.Atoi(e.Cells[column]); err == nil {
				if fixed[of] == nil {
					fixed[of] = map[int]bool{}
				}
				fixed[of][row] = true
			}
		}
	}
	for i := range newestFirst { // a row that nobody had to correct was not
		rows := fixed[newestFirst[i].ID]
		if len(rows) == 0 {
			continue
		}
		bad := map[int]bool{}
		for e, err := range l.Entries(ctx, newestFirst[i].ID, store.Filter{Outcomes: account.Bad()}) {
			if err != nil {
				return nil, err
			}
			bad[e.Row] = true
		}
		maps.DeleteFunc(rows, func(row int, _ bool) bool { return !bad[row] })
	}
	return fixed, nil
}
