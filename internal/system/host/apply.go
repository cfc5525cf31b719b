package host

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// A task is what an order comes to on a host.
type task struct {
	system.Order
	commands string
	after    string                   // what its account is called then
	gives    map[string]account.Value // values that the commands give
}

// Apply implements system.System: one block of commands carries all of it out, one account after the other.
func (c *client) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	_, f, err := c.open(ctx)
	if err != nil {
		return nil, err
	}
	last := -1 // that makes an account
	for i, o := range orders {
		if o.Does == system.Creates {
			last = i
		}
	}
	results := make([]system.Result, len(orders))
	b, tasks, at := &block{may: may}, []*task{}, []int{}
	for i, o := range orders {
		t, err := c.task(f, o, i == last)
		var refusal *system.Refusal
		switch {
		case errors.As(err, &refusal):
			results[i].Err = err
			continue
		case err != nil:
			return nil, err
		}
		t.into(b)
		tasks, at = append(tasks, t), append(at, i)
	}
	if len(tasks) == 0 {
		return results, nil
	}
	a, err := c.do(ctx, tasks[0].what(), b)
	var unclear *system.Unclear
	if err != nil && (a == nil || !errors.As(err, &unclear) || !slices.ContainsFunc(a.results, func(r result) bool { return r.came })) {
		return nil, err
	}
	for n, i := range at {
		results[i].Account, results[i].Err = c.came(ctx, a, tasks[n], a.results[n], err, fields)
	}
	return results, nil
}

// task writes the commands of an order.
func (c *client) task(f *facts, o system.Order, last bool) (t *task, err error) {
	t = &task{Order: o, after: o.Known.ID, gives: fieldsOf(o.Changes)}
	switch o.Does {
	case system.Creates:
		t.after, t.gives = o.Wanted.Field("userName").Text(), o.Wanted.Fields
		if err := refuseValues(f, t.gives); err != nil {
			return nil, err
		}
		t.commands, err = c.creation(f, o.Wanted, last)
	case system.Changes:
		if t.commands, t.after, err = c.change(f, o.Known, o.Changes); err == nil && t.gives[local].Text() != "true" { // else it is not in the files, which useradd sees to
			t.commands = as(o.Known) + t.commands
		}
	case system.Removes:
		t.commands = c.removal(o.Known)
	case system.Renews:
		t.commands, err = c.renewal(f, o.Known, o.Wanted.Password, o.Changes)
	case system.Completes:
		t.gives = o.Wanted.Fields
		t.commands, err = c.completion(f, o.Known, o.Wanted)
	default:
		err = system.ErrCannot
	}
	return t, err
}

// what says in words what a block does that begins with this task.
func (t *task) what() string {
	switch t.Does {
	case system.Creates:
		return "make accounts"
	case system.Removes:
		return "remove accounts"
	case system.Renews:
		return "set passwords"
	case system.Completes:
		return "make an account whole"
	}
	return "change accounts"
}

// into puts a task into a block.
func (t *task) into(b *block) {
	if t.Does == system.Creates {
		b.own(t.after, t.commands)
		return
	}
	b.own(t.Known.ID, t.commands)
	if t.after != t.Known.ID {
		b.names = append(b.names, t.after)
	}
}

// came reads what became of a task. Cut is the error of a block of which not everything came.
func (c *client) came(ctx context.Context, a *answer, t *task, r result, cut error, fields []string) (now account.Account, err error) {
	switch {
	case !r.came:
		return now, cut // that it is unclear
	case cut != nil && r.step == "not-as-it-was": // nothing was done, and whether it is there was not seen any more
		return now, system.ErrChanged
	case cut != nil && r.code != 0: // nor what of it was done
		return now, &system.Unclear{Err: cut}
	case r.code != 0 && t.Does == system.Creates:
		_, gone := a.account(t.after)
		return now, leftBehind(c.trouble(r, t.gives), r, gone == nil)
	case r.step == "not-as-it-was":
		if _, gone := a.account(t.Known.ID); gone != nil {
			return now, system.ErrGone
		}
		return now, system.ErrChanged
	case r.code != 0 && t.Does == system.Changes:
		// Who has the name that it was to get is somebody else while it has its own.
		return now, c.partly(ctx, a, []string{t.Known.ID, t.after}, t.Changes, c.trouble(r, t.gives))
	case r.code != 0:
		return now, c.trouble(r, t.gives)
	case cut != nil && t.Does == system.Creates: // it was made, and how it looks was not seen any more
		return account.Account{ID: t.after}, nil
	case cut != nil: // it is done, and the same
		return now, &system.Unclear{Err: cut}
	case t.Does != system.Creates && t.Does != system.Changes:
		return now, nil
	}
	now, err = a.account(t.after)
	switch {
	case err != nil && t.Does == system.Creates:
		return now, &system.Unclear{Err: fmt.Errorf("the host said that it made %s, and /etc/passwd does not have it", t.after)}
	case err != nil: // a directory serves it
		return c.Get(ctx, t.after, fields)
	}
	return now, nil
}
