package tables

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"evenledger/internal/store"
)

// A table is one with the columns of its key first.
type table struct {
	name string
	key  int // how many of the columns
	cols []string
	own  bool // its numbers are given by the engine
}

// kept are the tables with what a ledger keeps. Who is at what is not of them: whoever moves or
// copies a ledger is alone with it, or has what others are at looked up later.
var kept = []table{
	{"batches", 1, []string{"id", "state", "system", "seal", "head", "draft", "progress", "revision", "counts"}, false},
	{"entries", 2, []string{"batch", "row", "key", "intent", "outcome", "account", "version", "changes", "known", "findings", "cells"}, false},
	{"steps", 3, []string{"batch", "row", "n", `"do"`, "kind", "thing", "name", "role", "section", "was", "target", "made", "result"}, false},
	{"secrets", 2, []string{"batch", "row", "sealed"}, false},
	{"outgoing", 3, []string{"batch", "row", "name", "about"}, false},
	{"claims", 1, []string{"n", "batch", "worker", "sent", "until"}, true},
	{"attempts", 3, []string{"batch", "row", "claim"}, false},
	{"results", 2, []string{"batch", "row", "claim", "outcome", "account", "version", "findings", "ended", "did", "part", "proof", "place"}, false},
	{"runs", 1, []string{"id", "about"}, true},
	{"history", 3, []string{"batch", "chain", "n", "at", "what", "body", "hash"}, false},
	{"keys", 1, []string{"batch", "sealed"}, false},
}

func (t table) selecting() string {
	return "SELECT " + strings.Join(t.cols, ", ") + " FROM " + t.name + " ORDER BY " + strings.Join(t.cols[:t.key], ", ")
}

func (t table) inserting() string {
	return "INSERT INTO " + t.name + " (" + strings.Join(t.cols, ", ") + ") VALUES (?" + strings.Repeat(", ?", len(t.cols)-1) + ")"
}

// filled is how many rows are written to the other ledger at once.
const filled = 2000

// rows hands over the rows of a table in the order of its key.
func (t table) rows(ctx context.Context, q querier, take func([]any) error) error {
	return each(ctx, q, func(rows *sql.Rows) error {
		values, places := make([]any, len(t.cols)), make([]any, len(t.cols))
		for i := range values {
			places[i] = &values[i]
		}
		if err := rows.Scan(places...); err != nil {
			return err
		}
		for i, value := range values {
			if text, is := value.([]byte); is {
				values[i] = string(text)
			}
		}
		return take(values)
	}, t.selecting())
}

// Fill writes all that a ledger has, as it is at one moment, into another that has nothing, and
// then compares them row for row. Told gets how many rows are done.
func (l *Ledger) Fill(ctx context.Context, to *Ledger, told func(stage string, rows int)) error {
	return l.Read(ctx, func(from Tx) error {
		if err := from.Lasting(ctx); err != nil {
			return err
		}
		done := 0
		for _, t := range kept {
			var some [][]any
			flush := func() error {
				err := to.Note(ctx, func(tx Tx) error { return tx.Many(ctx, t.inserting(), some) })
				done += len(some)
				some = nil
				told("copied", done)
				return err
			}
			if err := t.rows(ctx, from, func(values []any) error {
				if some = append(some, values); len(some) == filled {
					return flush()
				}
				return nil
			}); err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			if len(some) > 0 {
				if err := flush(); err != nil {
					return fmt.Errorf("%s: %w", t.name, err)
				}
			}
		}
		if err := to.Write(ctx, func(tx Tx) error { return tx.Numbered(ctx) }); err != nil {
			return err
		}
		return to.Read(ctx, func(copy Tx) error {
			if err := copy.Lasting(ctx); err != nil {
				return err
			}
			compared := 0
			for _, t := range kept {
				if err := t.compare(ctx, from, copy, func() {
					if compared++; compared%filled == 0 {
						told("compared", compared)
					}
				}); err != nil {
					return err
				}
			}
			return nil
		})
	})
}

// compare goes through two tables side by side.
func (t table) compare(ctx context.Context, from, to Tx, one func()) error {
	type row struct {
		values []any
		err    error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	others := make(chan row, filled)
	go func() {
		defer close(others)
		err := t.rows(ctx, to, func(values []any) error {
			select {
			case others <- row{values: values}:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
		if err != nil && ctx.Err() == nil {
			others <- row{err: err}
		}
	}()
	err := t.rows(ctx, from, func(values []any) error {
		other, more := <-others
		if !more {
			return &store.Unlike{Table: t.name, Key: fmt.Sprint(values[:t.key])}
		}
		if other.err != nil {
			return other.err
		}
		for i := range values {
			if values[i] != other.values[i] {
				return &store.Unlike{Table: t.name, Key: fmt.Sprint(values[:t.key]), Column: strings.Trim(t.cols[i], `"`)}
			}
		}
		one()
		return nil
	})
	if err != nil {
		return err
	}
	if other, more := <-others; more {
		if other.err != nil {
			return other.err
		}
		return &store.Unlike{Table: t.name, Key: fmt.Sprint(other.values[:t.key])}
	}
	return nil
}

// Where a ledger stands is told behind its identifier: “moving TO”, “moved TO”, “filling”.
const (
	moving  = "moving"
	moved   = "moved"
	filling = "filling"
)

// standing reads the ledger's identifier, and where it stands.
func standing(ctx context.Context, q querier) (id, state, to string, err error) {
	var text string
	if err := one(ctx, q, []any{&text}, "SELECT value FROM meta WHERE name = 'ledger'"); err != nil {
		return "", "", "", err
	}
	id, text, _ = strings.Cut(text, " ")
	state, to, _ = strings.Cut(text, " ")
	return id, state, to, nil
}

// mayUse returns why a ledger is not to be used.
func mayUse(ctx context.Context, q querier) error {
	_, state, to, err := standing(ctx, q)
	if err == nil && state != "" {
		err = &store.Moved{To: to, Done: state == moved, Half: state == filling}
	}
	return err
}

// InUse implements store.Upkeep.
func (l *Ledger) InUse(ctx context.Context) error { return mayUse(ctx, l) }

// ID implements store.Upkeep.
func (l *Ledger) ID(ctx context.Context) (string, error) {
	id, _, _, err := standing(ctx, l)
	return id, err
}

// stands notes where the ledger stands.
func (l *Ledger) stands(ctx context.Context, tx Tx, id, state, to string) error {
	_, err := tx.Exec(ctx, "UPDATE meta SET value = ? WHERE name = 'ledger'", strings.TrimSpace(id+" "+state+" "+to))
	return err
}

// Move implements store.Upkeep. Whenever it is cut short, the old one is the one that counts, and
// nobody can use the other, until all is there.
func (l *Ledger) Move(ctx context.Context, to store.Store, from, called string, told func(stage string, rows int)) error {
	into, is := to.(interface{ tables() *Ledger })
	if !is {
		return errors.New("the other ledger is of another kind")
	}
	if told == nil {
		told = func(string, int) {}
	}
	other := into.tables()
	var id, state string
	if err := l.Write(ctx, func(tx Tx) error {
		if err := tx.Alone(ctx, 0); err != nil {
			return err
		}
		var to string
		var err error
		if id, state, to, err = standing(ctx, tx); err != nil {
			return err
		}
		if state != "" && (state != moving || to != called) {
			return &store.Moved{To: to, Done: state == moved, Half: state == filling}
		}
		if err := l.sweep(ctx, tx); err != nil {
			return err
		}
		var busy []int
		if err := each(ctx, tx, func(rows *sql.Rows) error {
			var batch int
			err := rows.Scan(&batch)
			busy = append(busy, batch)
			return err
		}, "SELECT DISTINCT batch FROM workers ORDER BY batch"); err != nil {
			return err
		}
		for _, batch := range busy {
			switch living, err := l.living(ctx, tx, batch); {
			case err != nil:
				return err
			case len(living) > 0:
				return store.ErrBusy
			}
		}
		return l.stands(ctx, tx, id, moving, called)
	}); err != nil {
		return err
	}
	ready, err := other.readyToFill(ctx, id, from)
	if err != nil && state == moving && !errors.Is(err, store.ErrNotEmpty) {
		return err // the one that was cut short may have been all but over
	}
	if err == nil && !ready {
		err = l.Fill(ctx, other, told)
	}
	after := context.WithoutCancel(ctx)
	if err != nil { // the old one goes on being used
		return errors.Join(err, l.ended(after, called, func(tx Tx) error { return l.stands(after, tx, id, "", "") }))
	}
	// What goes wrong from here on leaves it open whether the other is used: the same move tells.
	return l.ended(after, called, func(tx Tx) error {
		if !ready {
			if err := other.Write(after, func(tx Tx) error { return other.stands(after, tx, id, "", "") }); err != nil {
				return err
			}
		}
		return l.stands(after, tx, id, moved, called)
	})
}

// ended notes how a move ended, unless another run of it did meanwhile: store.ErrBusy.
func (l *Ledger) ended(ctx context.Context, called string, note func(Tx) error) error {
	return l.Write(ctx, func(tx Tx) error {
		if err := tx.Alone(ctx, 0); err != nil {
			return err
		}
		if _, state, to, err := standing(ctx, tx); err != nil || state != moving || to != called {
			return errors.Join(err, store.ErrBusy)
		}
		return note(tx)
	})
}

func (l *Ledger) tables() *Ledger { return l }

// readyToFill empties a ledger that was being filled. It reports whether it is filled already.
func (l *Ledger) readyToFill(ctx context.Context, with, from string) (ready bool, err error) {
	err = l.Write(ctx, func(tx Tx) error {
		id, state, _, err := standing(ctx, tx)
		if err != nil {
			return err
		}
		if ready = id == with && state != filling; ready { // and may have been used, or moved on, since
			return nil
		}
		if state != filling {
			for _, t := range kept {
				n := 0
				if err := one(ctx, tx, []any{&n}, "SELECT count(*) FROM "+t.name); err != nil {
					return err
				}
				if n > 0 {
					return store.ErrNotEmpty
				}
			}
		}
		for _, t := range kept {
			if _, err := tx.Exec(ctx, "DELETE FROM "+t.name); err != nil {
				return err
			}
		}
		return l.stands(ctx, tx, with, filling, from)
	})
	return ready, err
}
