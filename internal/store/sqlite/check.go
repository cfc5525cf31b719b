package sqlite

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"evenledger/internal/store"
	"evenledger/internal/store/tables"
)

// Upkeep implements store.Store.
func (l *Ledger) Upkeep() store.Upkeep { return l }

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
// and returns its size in bytes. The file is there whole or not at all.
func CopyOf(ctx context.Context, from *tables.Ledger, path string) (size int64, err error) {
	return whole(ctx, path, func(part string) error {
		to, err := Open(ctx, part)
		if err != nil {
			return err
		}
		err = from.Fill(ctx, to.Ledger, func(string, int) {})
		return errors.Join(err, to.Close())
	})
}

// whole has a copy written beside the file that it is to be, which is there when the copy is whole. What is
// there already is never written over.
func whole(ctx context.Context, path string, write func(part string) error) (size int64, err error) {
	if _, err := os.Lstat(path); err == nil {
		return 0, &fs.PathError{Op: "copy", Path: path, Err: fs.ErrExist}
	}
	file, err := os.CreateTemp(filepath.Dir(path), ".copy-*.db") // with mode 0600
	if err != nil {
		return 0, err
	}
	part := file.Name()
	defer func() {
		if gone := os.Remove(part); !errors.Is(gone, fs.ErrNotExist) {
			err = errors.Join(err, gone)
		}
	}()
	if err := errors.Join(file.Close(), write(part)); err != nil {
		return 0, err
	}
	if size, err = withoutKeys(ctx, part); err != nil {
		return 0, err
	}
	if file, err = os.OpenFile(part, os.O_RDWR, 0); err != nil {
		return 0, err
	}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return 0, err
	}
	if err = os.Link(part, path); err != nil && !errors.Is(err, fs.ErrExist) {
		err = os.Rename(part, path) // the file system has no links
	}
	return size, err
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
	if err = errors.Join(err, l.Upkeep().CutJournal(ctx), l.Close()); err != nil {
		return 0, err
	}
	stat, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return stat.Size(), nil
}

// Copy writes all that is in the ledger to a new file that its owner alone can read, and
// returns its size in bytes. The file is there whole or not at all.
func (l *Ledger) Copy(ctx context.Context, path string) (size int64, err error) {
	return whole(ctx, path, func(part string) error {
		_, err := l.db.ExecContext(ctx, "VACUUM INTO ?", part)
		return err
	})
}
