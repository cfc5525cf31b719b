package tables

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// stepColumns are those columns of the table of steps that hold this or that, by what the step does: the thing what it is directed at,
// and the others what else it knows.
type stepColumns struct {
	thing, name, role string
	was               sql.NullString
	made              int
}

// Words of the column of roles.
const (
	tellsPassword = "password" // of a mail
	ofHolder      = "account"  // of what stays
)

// What is made first for a step.
const (
	madeThing   = 1
	madeSection = 2
)

// parted stands between the role and the section of the membership there is.
const parted = "\x1f"

// columnsOf are the columns of a step.
func columnsOf(s membership.Step) stepColumns {
	c := stepColumns{thing: s.Target(), name: s.Name, role: s.Role}
	switch {
	case s.Made:
		c.made = madeThing
	case s.Divided:
		c.made = madeSection
	}
	switch {
	case s.Do == membership.Renew:
		c.name = s.Choose
	case s.Do == membership.Notify && s.Tells:
		c.role = tellsPassword
	case s.Do == membership.Stay:
		if s.Holder {
			c.role = ofHolder
		}
		if !s.Again {
			c.was = sql.NullString{String: s.Before + parted, Valid: true}
		}
	case s.Was != nil:
		c.was = sql.NullString{String: s.Was[0] + parted + s.Was[1], Valid: true}
	}
	return c
}

// put puts into a step what the columns hold.
func (c *stepColumns) put(s *membership.Step) error {
	s.Made, s.Divided = c.made == madeThing, c.made == madeSection
	was, section, _ := strings.Cut(c.was.String, parted)
	switch s.Do {
	case membership.Renew:
		s.Choose = c.name
		return nil
	case membership.Reown:
		var n system.Renumbered
		if _, err := fmt.Sscan(c.thing, &n.User[0], &n.User[1], &n.Group[0], &n.Group[1]); err != nil || n.String() != c.thing {
			return fmt.Errorf("the numbers “%s” of a step cannot be read", c.thing)
		}
		s.Numbers = &n
	case membership.Follow:
		s.To = c.thing
	case membership.Notify:
		s.To, s.Tells = c.thing, c.role == tellsPassword
	case membership.Stay:
		s.Thing, s.Holder, s.Before, s.Again = c.thing, c.role == ofHolder, was, !c.was.Valid
	default:
		if s.Thing, s.Role = c.thing, c.role; c.was.Valid {
			s.Was = &[2]string{was, section}
		}
	}
	s.Name = c.name
	return nil
}

// addSteps reads the steps of entries; with mails what each of them sends.
func addSteps(ctx context.Context, tx Tx, id int, entries []batch.Entry, mails bool) error {
	mail := "''"
	if mails {
		mail = "coalesce((SELECT about FROM outgoing o WHERE o.batch = s.batch AND o.row = s.row AND o.name = s.kind || '/' || s.name), '')"
	}
	at, low, high := map[int]*batch.Entry{}, entries[0].Row, entries[0].Row
	for i := range entries {
		row := entries[i].Row
		at[row], low, high = &entries[i], min(low, row), max(high, row)
	}
	rows, err := tx.Query(ctx, `SELECT row, "do", kind, thing, name, role, section, was, target, made, result, `+mail+" FROM steps s WHERE batch = ? AND row BETWEEN ? AND ? ORDER BY row, n", id, low, high)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var row int
		var c stepColumns
		var s membership.Step
		if err := rows.Scan(&row, &s.Do, &s.Kind, &c.thing, &c.name, &c.role, &s.Section, &c.was, &s.Row, &c.made, &s.Result, &s.Sent); err != nil {
			return err
		}
		if err := c.put(&s); err != nil {
			return err
		}
		if e := at[row]; e != nil {
			e.Steps = append(e.Steps, s)
		}
	}
	return rows.Err()
}

// PutSteps writes the steps of entries that have none yet.
func PutSteps(ctx context.Context, tx Tx, id int, entries []batch.Entry) error {
	var steps, mails [][]any
	for _, e := range entries {
		for n, s := range e.Steps {
			c := columnsOf(s)
			steps = append(steps, []any{id, e.Row, n, s.Do, s.Kind, c.thing, c.name, c.role, s.Section, c.was, s.Row, c.made, s.Result})
			if s.Sent != "" {
				mails = append(mails, []any{id, e.Row, s.Kind + "/" + s.Name, s.Sent})
			}
		}
	}
	if err := tx.Many(ctx, `INSERT INTO steps (batch, row, n, "do", kind, thing, name, role, section, was, target, made, result) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, steps); err != nil {
		return err
	}
	return tx.Many(ctx, "INSERT INTO outgoing (batch, row, name, about) VALUES (?, ?, ?, ?) ON CONFLICT (batch, row, name) DO UPDATE SET about = excluded.about", mails)
}
