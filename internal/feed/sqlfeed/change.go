package sqlfeed

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

	driver "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	sqlitedriver "modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"evenledger/internal/feed"
)

// Does implements feed.Doer.
func (*source) Does() (statement bool) { return true }

// Open implements feed.Doer.
func (s *source) Open(work feed.Work) (feed.Place, error) {
	d, err := s.connect(work)
	return place{d, work}, err
}

// A place is a database that statements are carried out in, each over a connection of its own: one that broke
// leaves the next statement alone.
type place struct {
	*database
	work feed.Work
}

// Close implements feed.Place.
func (place) Close() error { return nil }

// Do implements feed.Place: one statement in a transaction of its own, which is committed or
// leaves nothing.
func (d place) Do(ctx context.Context, order feed.Order) error {
	parsed, err := Parse(order.Statement, d.scheme == mysql)
	if err != nil {
		return &feed.Refused{Message: err.Error()}
	}
	bound := map[string]any{}
	for _, name := range parsed.Names() {
		value, given := order.Values[name]
		if !given {
			return &feed.Refused{Message: fmt.Sprintf("nothing gives the parameter “:%s”", name)}
		}
		if bound[name] = value; value == "" {
			bound[name] = nil // a blank is nothing known
		}
	}
	text, args := parsed.For(d.scheme, bound)
	begun := false
	within, cancel := context.WithTimeoutCause(ctx, d.timeout, fmt.Errorf("it was not done after %s", d.timeout)) // a table may be locked for ever
	defer cancel()
	if d.scheme == postgres {
		err = d.doPostgres(within, text, args, &begun)
	} else {
		err = d.change(within, text, args, &begun)
	}
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		err = context.Cause(within)
	}
	var refused *refused
	switch {
	case err == nil:
		return nil
	case begun:
		return fmt.Errorf("%w: %s: %s", feed.ErrUnclear, d.name(), d.work.Mask.Hide(err.Error()))
	case errors.As(err, &refused):
		return &feed.Refused{Message: fmt.Sprintf("%s: %s", d.name(), d.work.Mask.Hide(refused.Error()))}
	}
	return d.told(ctx, d.work, err)
}

// doPostgres carries a statement out; committing says whether it was begun to be committed,
// from when on nobody can say what an error means.
func (d *database) doPostgres(ctx context.Context, text string, args []any, committing *bool) (err error) {
	conn, err := d.dialPostgres(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	// What is bound is text, which the server reads as the column's own kind.
	if _, err := tx.Exec(ctx, text, append([]any{pgx.QueryExecModeExec}, args...)...); err != nil {
		return noTo(err)
	}
	*committing = true
	if err := tx.Commit(ctx); err != nil {
		var pg *pgconn.PgError // an answer: it was rolled back
		*committing = !errors.As(err, &pg)
		return noTo(err)
	}
	return nil
}

// noTo makes an engine's no to a statement itself a refusal. That it cannot carry anything
// out now (a lock, a full disk, the end of its work) is none: another time it may.
func noTo(err error) error {
	var pg *pgconn.PgError
	var my *driver.MySQLError
	var lite *sqlitedriver.Error
	switch {
	case errors.As(err, &pg):
		// PostgreSQL, appendix A: connection, state of the transaction, rollback, resources,
		// prerequisites, intervention, system, internal.
		if !slices.Contains([]string{"08", "25", "40", "53", "55", "57", "58", "XX"}, pg.Code[:min(2, len(pg.Code))]) {
			return &refused{err}
		}
	case errors.As(err, &my):
		// Shutdown, lock wait, deadlock, interrupted, read only.
		if !slices.Contains([]uint16{1053, 1205, 1213, 1317, 1290, 1792}, my.Number) {
			return &refused{err}
		}
	case errors.As(err, &lite):
		if slices.Contains([]int{sqlite3.SQLITE_ERROR, sqlite3.SQLITE_CONSTRAINT, sqlite3.SQLITE_MISMATCH, sqlite3.SQLITE_TOOBIG, sqlite3.SQLITE_RANGE}, lite.Code()&0xff) {
			return &refused{err}
		}
	}
	return err
}

func (d *database) change(ctx context.Context, text string, args []any, committing *bool) (err error) {
	db, err := d.open(true)
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.BeginTx(ctx, &sql.TxOptions{})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, text, args...); err != nil {
		var my *driver.MySQLError
		// Without an answer, a table that knows no transactions may have taken it.
		*committing = d.scheme == mysql && !errors.As(err, &my)
		return noTo(err)
	}
	*committing = true
	return tx.Commit()
}

// Parameters lists those of a statement.
func Parameters(statement string) ([]string, error) {
	parsed, err := Parse(statement, false)
	if err != nil {
		return nil, err
	}
	return parsed.Names(), nil
}
