package web

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

// A way is one request of a change, and what it changes.
type way struct {
	call    *description.Call
	form    description.Form
	changes []account.Change
}

// ways are the requests that make changes: who is not to sign in any more first, who is let in again last.
func (c *Client) ways(changes []account.Change) (all []way, err error) {
	var last *way
	for _, change := range changes {
		if err := c.missing(change.Field); err != nil {
			return nil, err
		}
		if change.Field == active && c.app.Suspend != nil {
			if change.After.Text() == "false" {
				all = append([]way{{c.app.Suspend, description.Filled, []account.Change{change}}}, all...)
			} else {
				last = &way{c.app.Resume, description.Filled, []account.Change{change}}
			}
			continue
		}
		how := c.changeOf(change.Field)
		if how == nil {
			return nil, &system.Refusal{Code: account.ImmutableField, Field: change.Field, Message: change.Field + " cannot be changed there: the description has no “change” for it"}
		}
		at := slices.IndexFunc(all, func(w way) bool { return w.call == &how.Call })
		if at < 0 {
			at, all = len(all), append(all, way{call: &how.Call, form: how.Form})
		}
		all[at].changes = append(all[at].changes, change)
	}
	if last != nil {
		all = append(all, *last)
	}
	return all, nil
}

// change changes an account with as few requests as the description allows, each of which says no more than
// what changes, where it can.
func (c *Client) change(ctx context.Context, may system.Permit, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	ways, err := c.ways(changes)
	if err != nil {
		return account.Account{}, err
	}
	now, seen := known, false
	var done []account.Change
	for _, w := range ways {
		after, shown, err := c.send(ctx, may, w, now, fields)
		if err != nil {
			if len(done) > 0 {
				err = &system.Partial{Now: now, Done: done, Err: err}
			}
			return account.Account{}, err
		}
		now, seen = after, shown
		done = append(done, w.changes...)
	}
	if !seen {
		now.Fields = nil
	}
	return now, nil
}

// send makes some changes in one request, and returns the account as it is then, or if that was not shown, as it should be.
func (c *Client) send(ctx context.Context, may system.Permit, w way, known account.Account, fields []string) (now account.Account, shown bool, err error) {
	wanted := known
	wanted.Fields = maps.Clone(known.Fields)
	if wanted.Fields == nil {
		wanted.Fields = map[string]account.Value{}
	}
	for _, change := range w.changes {
		wanted.Fields[change.Field] = change.After
	}
	r := request{may: may, Call: w.call, scope: c.app.Scope(description.Values(&wanted)), names: true, version: c.match(&known)}
	if w.form != description.Filled {
		body, version, err := c.changed(ctx, w, known)
		if err == nil {
			r.body, err = description.Encode(body)
		}
		if err != nil {
			return now, false, err
		}
		if c.app.Account.ETag && version != "" {
			r.version = version
		}
		r.holds = c.app.Account.Version != nil
	}
	got, err := c.do(ctx, r)
	if err != nil {
		return now, false, err
	}
	return c.after(ctx, w, got, known, wanted, fields)
}

// changed is the body of a change, and the version of what was read for it.
func (c *Client) changed(ctx context.Context, w way, known account.Account) (body any, version string, err error) {
	reads := w.form == description.Whole || slices.ContainsFunc(w.changes, func(change account.Change) bool {
		f, _ := c.app.Account.Field(change.Field)
		return f.IsListed() || w.form == description.Patch && len(f.At) > 1 && !change.Before.Filled()
	})
	object := map[string]any{}
	if reads {
		var header http.Header
		if object, header, err = c.raw(ctx, known.ID); err != nil {
			return nil, "", err
		}
		now, _ := c.account(object, known.FieldNames(), header)
		if known.Version != "" && now.Version != "" && now.Version != known.Version {
			return nil, "", system.ErrChanged
		}
		version = now.Version
	}
	refuse := func(f *description.Field, err error) error {
		return &system.Refusal{Code: account.CannotBeWritten, Field: f.Name, Message: err.Error()}
	}
	switch w.form {
	case description.Patch:
		operations := []any{}
		for _, change := range w.changes {
			f, _ := c.app.Account.Field(change.Field)
			more, err := patch(f, object, change, reads)
			if err != nil {
				return nil, "", refuse(f, err)
			}
			operations = append(operations, more...)
		}
		return operations, version, nil
	case description.Whole:
		for _, change := range w.changes {
			f, _ := c.app.Account.Field(change.Field)
			if err := f.Write(object, change.Before.Text(), change.After.Text(), true); err != nil {
				return nil, "", refuse(f, err)
			}
		}
		return object, version, nil
	}
	least := map[string]any{}
	for _, change := range w.changes {
		f, _ := c.app.Account.Field(change.Field)
		if f.IsListed() {
			if _, written := f.At.Of(least).([]any); !written {
				f.At.Put(least, f.At.Of(object))
			}
		}
		if err := f.Write(least, change.Before.Text(), change.After.Text(), true); err != nil {
			return nil, "", refuse(f, err)
		}
	}
	if c.app.Account.Version != nil && known.Version != "" {
		if !reads {
			c.app.Account.Version.Put(least, known.Version)
		} else { // as it is written there
			c.app.Account.Version.Put(least, c.app.Account.Version.Of(object))
		}
	}
	return least, version, nil
}

// patch are the operations (RFC 6902) of a change.
func patch(f *description.Field, object map[string]any, change account.Change, read bool) (all []any, err error) {
	operation := func(op, at string, value any) map[string]any {
		o := map[string]any{"op": op, "path": at}
		if op != "remove" {
			o["value"] = value
		}
		return o
	}
	if f.IsListed() {
		if err := f.Write(object, change.Before.Text(), change.After.Text(), true); err != nil {
			return nil, err
		}
		return append(missingOn(f.At, object, operation), operation("add", f.At.Pointer(), f.At.Of(object))), nil
	}
	value, err := f.JSON(change.After.Text())
	switch {
	case err != nil:
		return nil, err
	case value == nil && read && !f.At.Has(object):
		return nil, nil
	case value == nil:
		return []any{operation("remove", f.At.Pointer(), nil)}, nil
	case read:
		all = missingOn(f.At, object, operation)
	}
	f.At.Put(object, value)
	return append(all, operation("add", f.At.Pointer(), value)), nil
}

// missingOn makes the objects on the way to a path that are not there: an operation makes only the last.
func missingOn(at description.Path, object map[string]any, operation func(op, at string, value any) map[string]any) (all []any) {
	for n := 1; n < len(at); n++ {
		if way := at[:n]; way.Of(object) == nil {
			all = append(all, operation("add", way.Pointer(), map[string]any{}))
			way.Put(object, map[string]any{})
		}
	}
	return all
}

// after reads the account out of the answer to a change. An answer without a body says that the change was made as it
// was sent. Where another does not show the account, it is looked at.
func (c *Client) after(ctx context.Context, w way, got *answer, known, wanted account.Account, fields []string) (now account.Account, shown bool, err error) {
	if got.Status == http.StatusNoContent || len(got.Body) == 0 {
		wanted.Version = ""
		if c.app.Account.ETag {
			wanted.Version = got.Header.Get("ETag")
		}
		if c.app.Account.Version == nil { // else it is another by now
			return wanted, false, nil
		}
	} else if a, is := c.account(w.call.Item.Of(got.value), fields, got.Header); is && a.ID == known.ID && c.shows(w, a, fields) {
		return a, true, nil
	}
	now, err = c.looked(ctx, w, got, known, fields)
	return now, true, err
}

// shows reports whether an account that came back has what was changed in it.
func (c *Client) shows(w way, a account.Account, fields []string) bool {
	for _, change := range w.changes {
		if _, has := a.Fields[change.Field]; !has && change.After.Filled() && slices.Contains(fields, change.Field) {
			return false
		}
	}
	return true
}

// looked looks at the account after a change whose answer does not show it.
func (c *Client) looked(ctx context.Context, w way, got *answer, known account.Account, fields []string) (account.Account, error) {
	for _, change := range w.changes {
		if !slices.Contains(fields, change.Field) {
			fields = append(slices.Clone(fields), change.Field)
		}
	}
	about, err := c.Describe(ctx)
	var now account.Account
	if err == nil {
		now, err = c.Get(ctx, known.ID, fields)
	}
	if err == nil && len(system.NotKept(about.Schema, w.changes, now)) == len(w.changes) {
		err = errors.New("the account is as it was")
	}
	if err != nil {
		return account.Account{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to %s and did not show the account: %w", got.Status, w.call, err)}
	}
	return now, nil
}

func answerOf(status int, data []byte) *httpdial.Answer {
	return &httpdial.Answer{Status: status, Header: http.Header{}, Body: data}
}

// open has what may be tried again be unclear, where it is one of several results and nothing can be sent for it alone.
func open(err error) error {
	var again *httpdial.Again
	if errors.As(err, &again) {
		if again.Unsent {
			return &system.Refusal{Code: account.SystemRefused, Message: again.Error()}
		}
		return &system.Unclear{Err: again.Err}
	}
	return err
}
