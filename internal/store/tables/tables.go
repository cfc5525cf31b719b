// Package tables is a store.Store in the tables of a database that speaks SQL: what the engines
// beneath the store share.
//
// It promises that a batch is the same in every engine, and that nothing above it can tell which
// one it is. How a transaction is held, what makes it durable, who may read it and how works are
// locked are left to the engine.
package tables

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// An Engine is a database that the tables lie in. In statements “?” stands for the next argument,
// “?2” for the second, and LISTED(?) for the numbers of a JSON list.
type Engine interface {
	// Write runs do in a transaction that is on disk when Write returns, and of which nothing is
	// there if it fails; Note is the same, but that a power cut may take it back until something
	// is written. Read runs do in one that sees everything as it is at one moment.
	Write(ctx context.Context, do func(Tx) error) error
	Note(ctx context.Context, do func(Tx) error) error
	Read(ctx context.Context, do func(Tx) error) error
	// Query asks outside of a transaction.
	Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error)
	// Enter says that a worker of this process lives until leave is called or the process ends,
	// and Gone reports whether one is known to live no more, though its lease may still run.
	Enter(worker string) (leave func() error, err error)
	Gone(worker string) bool
	// Tidy takes away what the dead left of whom the tables know nothing. Nobody enters meanwhile.
	Tidy(known map[string]bool)
	// Lost reports whether an error leaves it open whether what was written is there, as the
	// connection to the engine broke.
	Lost(err error) bool
	// Kept is a text as it is when it is read again: not every engine has room for a NUL or for broken letters.
	Kept(text string) string
}

// A Tx is a transaction.
type Tx interface {
	Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error)
	Exec(ctx context.Context, statement string, args ...any) (changed int64, err error)
	// Many runs a statement once for each of the lists of arguments.
	Many(ctx context.Context, statement string, lists [][]any) error
	// Alone waits until no other transaction is alone with the batch, or with the whole ledger
	// for 0, until this one ends.
	Alone(ctx context.Context, batch int) error
	// Still waits until nobody is alone with the ledger, and keeps it so until it ends.
	Still(ctx context.Context) error
	// Lasting lets it last though nothing is asked of it for a long while: it keeps nobody waiting.
	Lasting(ctx context.Context) error
	// Numbered has the numbers that the engine gives go on behind those that are there.
	Numbered(ctx context.Context) error
	// Now is the time by the clock that all who use the ledger share.
	Now(ctx context.Context) (time.Time, error)
}

// A Ledger is the part of a store.Store that is the same for every engine. It may be used by
// several goroutines.
type Ledger struct {
	Engine
	entered sync.Map // name of a worker of this process → how it leaves
	making  making   // drafts
}

// querier is what asks: an engine, or a transaction of it.
type querier interface {
	Query(ctx context.Context, statement string, args ...any) (*sql.Rows, error)
}

// one reads the only row that an answer has; sql.ErrNoRows if it has none.
func one(ctx context.Context, q querier, into []any, statement string, args ...any) error {
	rows, err := q.Query(ctx, statement, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	if !rows.Next() {
		return errors.Join(rows.Err(), sql.ErrNoRows)
	}
	return errors.Join(rows.Scan(into...), rows.Close())
}

// each hands every row of an answer to take.
func each(ctx context.Context, q querier, take func(*sql.Rows) error, statement string, args ...any) error {
	rows, err := q.Query(ctx, statement, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := take(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// surely has Write or Note run what may be done twice once more, if the engine was lost in the
// middle of it.
func (l *Ledger) surely(ctx context.Context, write func(context.Context, func(Tx) error) error, do func(Tx) error) error {
	err := write(ctx, do)
	if l.Lost(err) {
		err = write(ctx, do)
	}
	return err
}

const stamp = time.RFC3339Nano

// moment is a time that sorts as text.
const moment = "2006-01-02T15:04:05.000000000Z"

// ofBatches are the tables that have rows of a batch being drafted.
var ofBatches = []string{"entries", "secrets", "steps", "outgoing", "workers", "keys", "history"}

// Begin implements store.Drafts.
func (l *Ledger) Begin(ctx context.Context, worker store.Worker, batches ...*batch.Batch) error {
	return l.Write(ctx, func(tx Tx) error {
		if err := tx.Alone(ctx, 0); err != nil {
			return err
		}
		if err := errors.Join(mayUse(ctx, tx), l.sweep(ctx, tx)); err != nil {
			return err
		}
		var low, high int
		if err := one(ctx, tx, []any{&low, &high}, "SELECT coalesce(min(id), 0), coalesce(max(id), 0) FROM batches"); err != nil {
			return err
		}
		low, high = min(low, 0), max(high, 0)
		for _, b := range batches {
			if b.ID == store.Unnumbered {
				low--
				b.ID = low
			} else {
				high++
				b.ID = high
			}
			b.State, b.Revision = batch.Drafting, 0
			if _, err := tx.Exec(ctx, "INSERT INTO batches (id, state, system, draft, progress) VALUES (?, ?, ?, ?, ?)", b.ID, b.State, b.System, jsonText(b.Draft), jsonText(b.Progress)); err != nil {
				return err
			}
			if err := l.enter(ctx, tx, b.ID, worker); err != nil {
				return err
			}
		}
		return nil
	})
}

// sweep takes away the batches whose drafts were killed.
func (l *Ledger) sweep(ctx context.Context, tx Tx) error {
	var drafting []int
	if err := each(ctx, tx, func(rows *sql.Rows) error {
		var id int
		err := rows.Scan(&id)
		drafting = append(drafting, id)
		return err
	}, "SELECT id FROM batches WHERE state = ? ORDER BY id DESC", batch.Drafting); err != nil {
		return err
	}
	for _, id := range drafting {
		switch living, err := l.living(ctx, tx, id); {
		case err != nil:
			return err
		case len(living) > 0:
			continue
		}
		if err := l.discard(ctx, tx, id); err != nil {
			return err
		}
	}
	return nil
}

// Save implements store.Drafts.
func (l *Ledger) Save(ctx context.Context, b *batch.Batch) error {
	progress := jsonText(b.Progress)
	err := l.Write(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), asSealed(ctx, tx, b)); err != nil {
			return err
		}
		// What is sealed stays as it is.
		saved, err := tx.Exec(ctx, "UPDATE batches SET state = ?, draft = CASE WHEN seal = '' THEN ? ELSE draft END, seal = CASE WHEN seal = '' THEN ? ELSE seal END, progress = ?, revision = revision + 1 WHERE id = ? AND revision = ?", b.State, jsonText(b.Draft), b.Seal, progress, b.ID, b.Revision)
		if err == nil && saved == 0 {
			err = store.ErrChanged
		}
		if err != nil {
			return err
		}
		return noteProgress(ctx, tx, b, progress)
	})
	if err == nil {
		b.Revision++
	}
	return err
}

// asSealed sees that nothing of a draft was changed that is sealed: it would not be saved, and whoever did it would not know.
func asSealed(ctx context.Context, tx Tx, b *batch.Batch) error {
	var text, seal string
	if err := one(ctx, tx, []any{&text, &seal}, "SELECT draft, seal FROM batches WHERE id = ?", b.ID); err != nil || seal == "" {
		return ignoreNone(err)
	}
	var draft batch.Draft
	if err := json.Unmarshal([]byte(text), &draft); err != nil {
		return err
	}
	if jsonText(draft) != jsonText(b.Draft) {
		return fmt.Errorf("what is sealed of batch %d would be altered", b.ID)
	}
	return nil
}

func (l *Ledger) discard(ctx context.Context, tx Tx, id int) error {
	newer := 0
	switch err := one(ctx, tx, []any{&newer}, "SELECT (SELECT count(*) FROM batches n WHERE n.id > b.id) FROM batches b WHERE id = ? AND state = ?", id, batch.Drafting); {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return err
	}
	for _, table := range ofBatches {
		if _, err := tx.Exec(ctx, "DELETE FROM "+table+" WHERE batch = ?", id); err != nil {
			return err
		}
	}
	if newer == 0 || id < 0 {
		_, err := tx.Exec(ctx, "DELETE FROM batches WHERE id = ?", id)
		return err
	}
	var draft batch.Draft
	if before, _, err := stored(ctx, tx, id); err != nil {
		return err
	} else if err := json.Unmarshal([]byte(before), &draft); err != nil {
		return err
	}
	draft.Rows, draft.Unlisted = 0, 0
	_, err := tx.Exec(ctx, "UPDATE batches SET state = ?, seal = '', head = '', draft = ?, progress = ?, revision = revision + 1 WHERE id = ?", batch.Unmade, jsonText(draft), jsonText(batch.Progress{State: batch.Unmade}), id)
	return err
}

// Batch returns one batch, or store.ErrNoBatch.
func (l *Ledger) Batch(ctx context.Context, id int) (found *batch.Batch, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		b, err := scanBatch(rows)
		found = &b
		return err
	}, "SELECT "+batchColumns+" FROM batches WHERE id = ? AND state != ?", id, batch.Drafting)
	if err == nil && found == nil {
		err = store.ErrNoBatch
	}
	return found, err
}

// Batches returns every batch, newest first.
func (l *Ledger) Batches(ctx context.Context) (all []batch.Batch, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		b, err := scanBatch(rows)
		all = append(all, b)
		return err
	}, "SELECT "+batchColumns+" FROM batches WHERE state != ? ORDER BY id DESC", batch.Drafting)
	return all, err
}

// A count is how many entries of a batch came to an outcome, and what is still intended with them.
type count struct {
	Came  account.Outcome `json:"came"`
	Still account.Intent  `json:"still"`
	N     int             `json:"n"`
}

// Counts implements store.Reader.
func (l *Ledger) Counts(ctx context.Context, id int) (account.Counts, map[account.Intent]int, error) {
	var noted string
	if err := one(ctx, l, []any{&noted}, "SELECT counts FROM batches WHERE id = ?", id); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, nil, err
	}
	var all []count
	var err error
	if noted == "" { // somebody is at it
		all, err = counted(ctx, l, id)
	} else {
		err = read(noted, &all)
	}
	if err != nil {
		return nil, nil, err
	}
	counts, waiting := summed(all)
	return counts, waiting, nil
}

func summed(all []count) (account.Counts, map[account.Intent]int) {
	counts, waiting := account.Counts{}, map[account.Intent]int{}
	for _, c := range all {
		counts[c.Came] += c.N
		if c.Came.Waits() {
			waiting[c.Still] += c.N
		}
	}
	return counts, waiting
}

// counted counts the entries of a batch.
func counted(ctx context.Context, q querier, id int) (all []count, err error) {
	err = each(ctx, q, func(rows *sql.Rows) error {
		var c count
		err := rows.Scan(&c.Came, &c.Still, &c.N)
		all = append(all, c)
		return err
	}, "SELECT "+came+" AS came, CASE WHEN coalesce(r.did, '') = '' THEN e.intent ELSE ? END AS still, count(*) FROM "+entriesNow+" WHERE e.batch = ? GROUP BY came, still ORDER BY came, still", account.Finish, id)
	return all, err
}

// NoteCounts keeps the counts of a batch that nobody is at: counting a large one takes long, and
// entries change only while somebody is at it.
func NoteCounts(ctx context.Context, tx Tx, id int) error {
	all, err := counted(ctx, tx, id)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "UPDATE batches SET counts = ? WHERE id = ?", jsonText(all), id)
	return err
}
