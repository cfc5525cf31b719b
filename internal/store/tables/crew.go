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

// Join implements store.Crew.
func (l *Ledger) Join(ctx context.Context, id int, worker store.Worker) (share store.Share, err error) {
	err = l.Note(ctx, func(tx Tx) error {
		if err := errors.Join(tx.Still(ctx), mayUse(ctx, tx), tx.Alone(ctx, id)); err != nil {
			return err
		}
		others, err := l.living(ctx, tx, id)
		if err != nil {
			return err
		}
		if len(others) == 0 { // what was taken before is nobody's
			if _, err := tx.Exec(ctx, "DELETE FROM parts WHERE batch = ?", id); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE batches SET counts = '' WHERE id = ?", id); err != nil { // they will change
			return err
		}
		if err := l.enter(ctx, tx, id, worker); err != nil {
			return err
		}
		share, err = l.share(ctx, tx, id, worker)
		return err
	})
	return share, err
}

// enter notes that a worker is at a batch.
func (l *Ledger) enter(ctx context.Context, tx Tx, id int, worker store.Worker) error {
	if worker.Lease <= 0 {
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
	_, err = tx.Exec(ctx, "INSERT INTO workers (batch, worker, who, began, until) VALUES (?, ?, ?, ?, ?)", id, worker.Name, worker.Who, now.UTC().Format(moment), now.Add(worker.Lease).UTC().Format(moment))
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
func (l *Ledger) renew(ctx context.Context, tx Tx, id int, worker store.Worker) error {
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	still, err := tx.Exec(ctx, "UPDATE workers SET until = ? WHERE batch = ? AND worker = ?", now.Add(worker.Lease).UTC().Format(moment), id, worker.Name)
	if err == nil && still == 0 {
		err = store.ErrFenced
	}
	return err
}

// share is a worker's share of a system.
func (l *Ledger) share(ctx context.Context, tx Tx, id int, worker store.Worker) (s store.Share, err error) {
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
		if at == id && name == worker.Name {
			s.Rank = s.Of
		} else if at == id {
			s.Others = append(s.Others, who)
		}
		s.Of++
		return nil
	}, `SELECT w.batch, w.worker, w.who FROM workers w JOIN batches b ON b.id = w.batch
		WHERE b.system = (SELECT system FROM batches WHERE id = ?) AND b.state != ? AND w.until > ? ORDER BY w.began, w.worker`, id, batch.Drafting, now.UTC().Format(moment))
	return s, err
}

// Renew implements store.Crew.
func (l *Ledger) Renew(ctx context.Context, id int, worker store.Worker) (s store.Share, err error) {
	err = l.surely(ctx, l.Note, func(tx Tx) error {
		if err := l.renew(ctx, tx, id, worker); err != nil {
			return err
		}
		s, err = l.share(ctx, tx, id, worker)
		return err
	})
	return s, err
}

// Leave implements store.Crew.
func (l *Ledger) Leave(ctx context.Context, id int, worker store.Worker) (last bool, err error) {
	err = l.Note(ctx, func(tx Tx) error {
		if err := tx.Alone(ctx, id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM workers WHERE batch = ? AND worker = ?", id, worker.Name); err != nil {
			return err
		}
		living, err := l.living(ctx, tx, id)
		if last = len(living) == 0; err != nil || !last {
			return err
		}
		return NoteCounts(ctx, tx, id)
	})
	if leave, has := l.entered.LoadAndDelete(worker.Name); has && err == nil {
		err = leave.(func() error)()
	}
	return last, err
}

// Take implements store.Posts. It is on disk before anything of the part is claimed: a part that a
// power cut took back would be had by two.
func (l *Ledger) Take(ctx context.Context, id int, worker store.Worker, stage store.Stage, most int) (part store.Part, turn store.Turn, err error) {
	err = l.surely(ctx, l.Write, func(tx Tx) error {
		if err := tx.Alone(ctx, id); err != nil {
			return err
		}
		if err := l.renew(ctx, tx, id, worker); err != nil {
			return err
		}
		if _, err := l.living(ctx, tx, id); err != nil {
			return err
		}
		part, turn, err = l.take(ctx, tx, id, worker, stage, most)
		return err
	})
	return part, turn, err
}

func (l *Ledger) take(ctx context.Context, tx Tx, id int, worker store.Worker, stage store.Stage, most int) (part store.Part, turn store.Turn, err error) {
	part.Stage = stage.Name
	mine := func() error {
		_, err := tx.Exec(ctx, "UPDATE parts SET worker = ? WHERE batch = ? AND stage = ? AND low = ?", worker.Name, id, stage.Name, part.Low)
		return err
	}
	// Who asks has no part: what is noted as its own was not heard of when the engine was lost.
	err = one(ctx, tx, []any{&part.Low, &part.High, &part.N}, `SELECT low, high, n FROM parts p WHERE batch = ?1 AND stage = ?2 AND ended = 0
		AND NOT EXISTS (SELECT 1 FROM workers w WHERE w.batch = p.batch AND w.worker = p.worker AND w.worker <> ?3) ORDER BY low LIMIT 1`, id, stage.Name, worker.Name)
	if err == nil {
		part.Again = true
		return part, store.Got, mine()
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return part, turn, err
	}
	var parts, open, high int
	if err := one(ctx, tx, []any{&parts, &open, &high}, "SELECT count(*), coalesce(sum(1 - ended), 0), coalesce(max(high), 0) FROM parts WHERE batch = ? AND stage = ?", id, stage.Name); err != nil {
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
		if err := one(ctx, tx, []any{&last, &part.N}, "SELECT coalesce(max(row), 0), count(*) FROM (SELECT e.row AS row FROM "+entriesNow+" WHERE e.batch = ? AND e.row > ? AND "+came+" = ? AND coalesce(r.did, '') "+did+" ORDER BY e.row LIMIT ?) waiting", id, high, account.Waiting, most); err != nil {
			return part, turn, err
		}
		if part.N == most {
			part.High = last
		}
	}
	_, err = tx.Exec(ctx, "INSERT INTO parts (batch, stage, low, high, n, worker, ended) VALUES (?, ?, ?, ?, ?, ?, 0)", id, stage.Name, part.Low, part.High, part.N, worker.Name)
	return part, store.Got, err
}

// End implements store.Posts.
func (l *Ledger) End(ctx context.Context, id int, worker store.Worker, part store.Part) error {
	return l.endPart(ctx, id, worker, "UPDATE parts SET ended = 1 WHERE batch = ? AND stage = ? AND low = ? AND worker = ?", part)
}

// Return implements store.Posts.
func (l *Ledger) Return(ctx context.Context, id int, worker store.Worker, part store.Part) error {
	return l.endPart(ctx, id, worker, "UPDATE parts SET worker = '' WHERE batch = ? AND stage = ? AND low = ? AND worker = ?", part)
}

func (l *Ledger) endPart(ctx context.Context, id int, worker store.Worker, statement string, part store.Part) error {
	return l.surely(ctx, l.Note, func(tx Tx) error {
		if err := l.renew(ctx, tx, id, worker); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, statement, id, part.Stage, part.Low, worker.Name)
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
