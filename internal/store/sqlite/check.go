package sqlite

import (
	"context"
	"errors"
	"os"

	"evenledger/internal/store"
	"evenledger/internal/store/tables"
)

// Check reads all of the ledger: its file, and whether every row of every batch has come
// to exactly one outcome.
func (l *Ledger) Check(ctx context.Context) (s store.Soundness, err error) {
	s.Problems = []string{}
	rows, err := l.db.QueryContext(ctx, "PRAGMA integrity_check(20)")
	if err != nil {
		return s, err
	}
	defer rows.Close()
	for rows.Next() {
		var problem string
		if err := rows.Scan(&problem); err != nil {
			return s, err
		}
		if problem != "ok" {
			s.Problems = append(s.Problems, "the file: "+problem)
		}
	}
	if err := rows.Err(); err != nil {
		return s, err
	}
	batches, err := l.CheckBatches(ctx)
	batches.Problems = append(s.Problems, batches.Problems...)
	return batches, err
}

// CopyOf writes all that a ledger of any engine has to a new file that its owner alone can read,
// and returns its size in bytes.
func CopyOf(ctx context.Context, from *tables.Ledger, path string) (size int64, err error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	if err := file.Close(); err != nil {
		return 0, err
	}
	to, err := Open(ctx, path)
	if err != nil {
		return 0, errors.Join(err, os.Remove(path))
	}
	err = from.Fill(ctx, to.Ledger, func(string, int) {})
	if err = errors.Join(err, to.Close()); err != nil {
		return 0, errors.Join(err, os.Remove(path))
	}
	return withoutKeys(ctx, path)
}

// withoutKeys takes the keys of passwords out of a copy, and returns its size: when a key is
// destroyed, no copy is to have it any more.
func withoutKeys(ctx context.Context, path string) (size int64, err error) {
	l, err := Open(ctx, path)
	if err != nil {
		return 0, err
	}
	err = l.Write(ctx, func(tx tables.Tx) error {
		_, err := tx.Exec(ctx, "DELETE FROM keys") // what is deleted is overwritten
		return err
	})
	if err = errors.Join(err, l.CutJournal(ctx), l.Close()); err != nil {
		return 0, errors.Join(err, os.Remove(path))
	}
	stat, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return stat.Size(), nil
}

// Copy writes all that is in the ledger to a new file that its owner alone can read, and
// returns its size in bytes.
func (l *Ledger) Copy(ctx context.Context, path string) (size int64, err error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	if err := file.Close(); err != nil {
		return 0, err
	}
	if _, err := l.db.ExecContext(ctx, "VACUUM INTO ?", path); err != nil {
		return 0, errors.Join(err, os.Remove(path))
	}
	return withoutKeys(ctx, path)
}
