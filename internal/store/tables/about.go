package tables

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"evenledger/internal/batch"
)

// batchColumns are what a batch as a whole stands in; scanBatch reads them.
const batchColumns = "id, revision, seal, draft, progress"

func scanBatch(rows *sql.Rows) (b batch.Batch, err error) {
	var draft, progress string
	if err := rows.Scan(&b.ID, &b.Revision, &b.Seal, &draft, &progress); err != nil {
		return b, err
	}
	if err := errors.Join(json.Unmarshal([]byte(draft), &b.Draft), json.Unmarshal([]byte(progress), &b.Progress)); err != nil {
		return b, fmt.Errorf("what the ledger says of batch %d cannot be read: %w", b.ID, err)
	}
	return b, nil
}

// stored is what a batch was drafted as and where it stands, word for word as the ledger has it.
func stored(ctx context.Context, q querier, id int) (draft, progress string, err error) {
	err = one(ctx, q, []any{&draft, &progress}, "SELECT draft, progress FROM batches WHERE id = ?", id)
	return draft, progress, err
}
