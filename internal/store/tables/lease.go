package tables

import (
	"context"
	"database/sql"
	"errors"
	"math"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// A lease is a store.Lease.
type lease struct {
	*Ledger
	id     int
	worker store.Worker
}

// Lease implements store.Posts.
func (l *Ledger) Lease(id int, worker store.Worker) store.Lease { return &lease{l, id, worker} }

// Join implements store.Lease.
func (l *lease) Join(ctx context.Context) (share store.Share, err error) {
	err = l.Note(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), tx.Alone(ctx, l.id)); err != nil {
			return err
		}
		others, err := l.living(ctx, tx, l.id)
		if err != nil {
			return err
		}
		if len(others) == 0 { // what was taken before is nobody's
			if _, err := tx.Exec(ctx, "DELETE FROM parts WHERE batch = ?", l.id); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE batches SET counts = '' WHERE id = ?", l.id); err != nil { // they will change
			return err
		}
		if err := l.enter(ctx, tx, l.id, l.worker); err != nil {
			return err
		}
		share, err = l.share(ctx, tx)
		return err
	})
	return share, err
}

// enter notes that a worker is at a batch.
func (l *Ledger) enter(ctx context.Context, tx Tx, id int, worker store.Worker) error {
	if worker.Term <= 0 {
		return errors.New("a worker without a lease")
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	if _, has := l.entered.Load(worker.Name); !has {
		leave, err := l.Enter(worker.Name)
		if err != nil {
			return err
		}
		l.entered.Store(worker.Name, leave)
		known := map[string]bool{worker.Name: true}
		if err := each(ctx, tx, func(rows *sql.Rows) error {
			var name string
			err := rows.Scan(&name)
			known[name] = true
			return err
		}, "SELECT worker FROM workers"); err != nil {
			return err
		}
		l.Tidy(known)
	}
	_, err = tx.Exec(ctx, "INSERT INTO workers (batch, worker, who, began, until) VALUES (?, ?, ?, ?, ?)", id, worker.Name, worker.Who, now.UTC().Format(moment), now.Add(worker.Term).UTC().Format(moment))
	return err
}

// living returns who is at a batch, and takes out the dead, whose parts are free then. From then
// on what they do is refused.
func (l *Ledger) living(ctx context.Context, tx Tx, id int) (names []string, err error) {
	now, err := tx.Now(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM workers WHERE batch = ? AND until <= ?", id, now.UTC().Format(moment)); err != nil {
		return nil, err
	}
	if err := each(ctx, tx, func(rows *sql.Rows) error {
		var name string
		err := rows.Scan(&name)
		names = append(names, name)
		return err
	}, "SELECT worker FROM workers WHERE batch = ? ORDER BY began, worker", id); err != nil {
		return nil, err
	}
	kept := names[:0]
	for _, name := range names {
		if _, mine := l.entered.Load(name); mine || !l.Gone(name) {
			kept = append(kept, name)
			continue
		}
		if _, err := tx.Exec(ctx, "DELETE FROM workers WHERE batch = ? AND worker = ?", id, name); err != nil {
			return nil, err
		}
	}
	return kept, nil
}

// renew has a worker's lease begin anew.
func (l *lease) renew(ctx context.Context, tx Tx) error {
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	still, err := tx.Exec(ctx, "UPDATE workers SET until = ? WHERE batch = ? AND worker = ?", now.Add(l.worker.Term).UTC().Format(moment), l.id, l.worker.Name)
	if err == nil && still == 0 {
		err = store.ErrFenced
	}
	return err
}

// share is a worker's share of a system.
func (l *lease) share(ctx context.Context, tx Tx) (s store.Share, err error) {
	now, err := tx.Now(ctx)
	if err != nil {
		return s, err
	}
	err = each(ctx, tx, func(rows *sql.Rows) error {
		var name, who string
		var at int
		if err := rows.Scan(&at, &name, &who); err != nil {
			return err
		}
		if at == l.id && name == l.worker.Name {
			s.Rank = s.Of
		} else if at == l.id {
			s.Others = append(s.Others, who)
		}
		s.Of++
		return nil
	}, `SELECT w.batch, w.worker, w.who FROM workers w JOIN batches b ON b.id = w.batch
		WHERE b.system = (SELECT system FROM batches WHERE id = ?) AND b.state != ? AND w.until > ? ORDER BY w.began, w.worker`, l.id, batch.Drafting, now.UTC().Format(moment))
	return s, err
}

// Renew implements store.Lease.
func (l *lease) Renew(ctx context.Context) (s store.Share, err error) {
	err = l.surely(ctx, l.Note, func(tx Tx) error {
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		s, err = l.share(ctx, tx)
		return err
	})
	return s, err
}

// Leave implements store.Lease.
func (l *lease) Leave(ctx context.Context) (last bool, err error) {
	err = l.Note(ctx, func(tx Tx) error {
		if err := tx.Alone(ctx, l.id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM workers WHERE batch = ? AND worker = ?", l.id, l.worker.Name); err != nil {
			return err
		}
		living, err := l.living(ctx, tx, l.id)
		if last = len(living) == 0; err != nil || !last {
			return err
		}
		return NoteCounts(ctx, tx, l.id)
	})
	if leave, has := l.entered.LoadAndDelete(l.worker.Name); has && err == nil {
		err = leave.(func() error)()
	}
	return last, err
}

// Take implements store.Lease. It is on disk before anything of the part is claimed: a part that a
// power cut took back would be had by two.
func (l *lease) Take(ctx context.Context, stage store.Stage, most int) (part store.Part, turn store.Turn, err error) {
	err = l.surely(ctx, l.Write, func(tx Tx) error {
		if err := tx.Alone(ctx, l.id); err != nil {
			return err
		}
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		if _, err := l.living(ctx, tx, l.id); err != nil {
			return err
		}
		part, turn, err = l.take(ctx, tx, stage, most)
		return err
	})
	return part, turn, err
}

func (l *lease) take(ctx context.Context, tx Tx, stage store.Stage, most int) (part store.Part, turn store.Turn, err error) {
	part.Stage = stage.Name
	mine := func() error {
		_, err := tx.Exec(ctx, "UPDATE parts SET worker = ? WHERE batch = ? AND stage = ? AND low = ?", l.worker.Name, l.id, stage.Name, part.Low)
		return err
	}
	// Who asks has no part: what is noted as its own was not heard of when the engine was lost.
	err = one(ctx, tx, []any{&part.Low, &part.High, &part.N}, `SELECT low, high, n FROM parts p WHERE batch = ?1 AND stage = ?2 AND ended = 0
		AND NOT EXISTS (SELECT 1 FROM workers w WHERE w.batch = p.batch AND w.worker = p.worker AND w.worker <> ?3) ORDER BY low LIMIT 1`, l.id, stage.Name, l.worker.Name)
	if err == nil {
		part.Again = true
		return part, store.Got, mine()
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return part, turn, err
	}
	var parts, open, high int
	if err := one(ctx, tx, []any{&parts, &open, &high}, "SELECT count(*), coalesce(sum(1 - ended), 0), coalesce(max(high), 0) FROM parts WHERE batch = ? AND stage = ?", l.id, stage.Name); err != nil {
		return part, turn, err
	}
	part.Low, part.High = high+1, math.MaxInt32
	if parts > 0 && high == math.MaxInt32 { // everything is taken
		if open > 0 {
			return part, store.Wait, nil
		}
		return part, store.Over, nil
	}
	if !stage.Whole {
		did := "= ''"
		if stage.After {
			did = "<> ''"
		}
		var last int
		if err := one(ctx, tx, []any{&last, &part.N}, "SELECT coalesce(max(row), 0), count(*) FROM (SELECT e.row AS row FROM "+entriesNow+" WHERE e.batch = ? AND e.row > ? AND "+came+" = ? AND coalesce(r.did, '') "+did+" ORDER BY e.row LIMIT ?) waiting", l.id, high, account.Waiting, most); err != nil {
			return part, turn, err
		}
		if part.N == most {
			part.High = last
		}
	}
	_, err = tx.Exec(ctx, "INSERT INTO parts (batch, stage, low, high, n, worker, ended) VALUES (?, ?, ?, ?, ?, ?, 0)", l.id, stage.Name, part.Low, part.High, part.N, l.worker.Name)
	return part, store.Got, err
}

// End implements store.Lease.
func (l *lease) End(ctx context.Context, part store.Part) error {
	return l.endPart(ctx, "UPDATE parts SET ended = 1 WHERE batch = ? AND stage = ? AND low = ? AND worker = ?", part)
}

// Return implements store.Lease.
func (l *lease) Return(ctx context.Context, part store.Part) error {
	return l.endPart(ctx, "UPDATE parts SET worker = '' WHERE batch = ? AND stage = ? AND low = ? AND worker = ?", part)
}

func (l *lease) endPart(ctx context.Context, statement string, part store.Part) error {
	return l.surely(ctx, l.Note, func(tx Tx) error {
		if err := l.renew(ctx, tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, statement, l.id, part.Stage, part.Low, l.worker.Name)
		return err
	})
}

// Working implements store.Store.
func (l *Ledger) Working(ctx context.Context) (all []store.At, err error) {
	err = each(ctx, l, func(rows *sql.Rows) error {
		var at store.At
		var name, began, until string
		if err := rows.Scan(&at.Batch, &name, &at.Who, &began, &until); err != nil {
			return err
		}
		if _, mine := l.entered.Load(name); !mine && l.Gone(name) {
			return nil
		}
		var err, also error
		at.Began, err = time.Parse(moment, began)
		at.Until, also = time.Parse(moment, until)
		all = append(all, at)
		return errors.Join(err, also)
	}, "SELECT batch, worker, who, began, until FROM workers ORDER BY batch, began, worker")
	return all, err
}
