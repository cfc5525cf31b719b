package sqlfeed

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"evenledger/internal/feed"
)

// Does implements feed.Doer.
func (*source) Does() (statement bool) { return true }

// Do implements feed.Doer: one statement in a transaction of its own, which is committed or
// leaves nothing.
func (s *source) Do(ctx context.Context, order feed.Order, work feed.Work) error {
	d, err := s.connect(work)
	if err != nil {
		return err
	}
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
	if d.scheme == postgres {
		err = d.doPostgres(ctx, text, args, &begun)
	} else {
		err = d.do(ctx, text, args, &begun)
	}
	var refused *refused
	switch {
	case err == nil:
		return nil
	case begun:
		return fmt.Errorf("%w: %s: %s", feed.ErrUnclear, d.name(), work.Mask.Hide(err.Error()))
	case errors.As(refusedBy(err), &refused):
		return &feed.Refused{Message: fmt.Sprintf("%s: %s", d.name(), work.Mask.Hide(refused.Error()))}
	}
	return d.told(ctx, work, err)
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
		return err
	}
	*committing = true
	if err := tx.Commit(ctx); err != nil {
		var refused *refused
		*committing = !errors.As(refusedBy(err), &refused)
		return err
	}
	return nil
}

func (d *database) do(ctx context.Context, text string, args []any, committing *bool) (err error) {
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
		return &refused{err}
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
