package web

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/system"
)

// kind returns the things of a kind.
func (c *Client) kind(name string) (*description.Things, error) {
	t, has := c.app.OfKind(name)
	if !has {
		return nil, &system.Refusal{Code: account.UnknownThing, Message: "the system has no " + name}
	}
	return t, nil
}

// Things implements system.System.
func (c *Client) Things(ctx context.Context, kind string, counted bool) iter.Seq2[account.Thing, error] {
	return sequence(func(yield func(account.Thing) error) error { return c.things(ctx, kind, counted, yield) })
}

func (c *Client) things(ctx context.Context, kind string, counted bool, yield func(account.Thing) error) error {
	t, err := c.kind(kind)
	if err != nil {
		return err
	}
	roles, err := c.rolesOf(ctx, t)
	if err != nil {
		return err
	}
	counts, known := map[string]int{}, counted && (t.Members != nil || t.OnAccount != nil)
	if known {
		for m, err := range c.Members(ctx, kind, nil) {
			if err != nil {
				return err
			}
			counts[m.Thing]++
		}
	}
	return c.all(ctx, &t.Listing, c.app.Scope(nil), nil, t.ID, func(item any) error {
		thing := account.Thing{ID: description.Text(t.ID.Of(item)), Name: description.Text(t.Name.Of(item)), Members: -1, Seats: -1, Roles: slices.Sorted(maps.Keys(roles))}
		if known {
			thing.Members = counts[thing.ID]
		}
		if t.Seats != nil {
			if n, err := strconv.Atoi(description.Text(t.Seats.Of(item))); err == nil && n >= 0 {
				thing.Seats = n
			}
		}
		if t.Sections != nil {
			list, _ := t.Sections.Of(item).([]any)
			for _, one := range list {
				thing.Sections = append(thing.Sections, description.Text(one))
			}
		}
		return yield(thing)
	})
}

// rolesOf are the roles of memberships of a kind, and how the application writes them; they are listed once.
func (c *Client) rolesOf(ctx context.Context, t *description.Things) (map[string]string, error) {
	if t.Roles == nil || t.Roles.Listing == nil {
		if t.Roles == nil {
			return nil, nil
		}
		return t.Roles.Words, nil
	}
	c.mu.Lock()
	roles := c.roles[t.Kind]
	c.mu.Unlock()
	if roles != nil {
		return roles, nil
	}
	roles = map[string]string{}
	err := c.all(ctx, t.Roles.Listing, c.app.Scope(nil), nil, t.Roles.ID, func(item any) error {
		roles[description.Text(t.Roles.Name.Of(item))] = description.Text(t.Roles.ID.Of(item))
		return nil
	})
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.roles[t.Kind] = roles
	return roles, nil
}

// Members implements system.System.
func (c *Client) Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return sequence(func(yield func(account.Membership) error) error {
		return c.members(ctx, kind, things, func(m account.Membership, _ string) error { return yield(m) })
	})
}

// members yields memberships, each with its own identifier where it has one.
func (c *Client) members(ctx context.Context, kind string, things []string, yield func(m account.Membership, tie string) error) error {
	t, err := c.kind(kind)
	if err != nil {
		return err
	}
	roles, err := c.rolesOf(ctx, t)
	if err != nil {
		return err
	}
	named := func(written string) string {
		for _, role := range slices.Sorted(maps.Keys(roles)) {
			if roles[role] == written && written != "" {
				return role
			}
		}
		return written
	}
	text := func(p description.Path, item any) string {
		if p == nil {
			return ""
		}
		return description.Text(p.Of(item))
	}
	m := t.Members
	switch {
	case t.OnAccount != nil:
		on := t.OnAccount
		return c.all(ctx, &c.app.Listing, c.app.Scope(nil), nil, c.app.Account.ID, func(item any) error {
			list, _ := on.At.Of(item).([]any)
			for _, one := range list {
				thing := description.Text(on.Thing.Of(one))
				if things != nil && !slices.Contains(things, thing) {
					continue
				}
				of := account.Membership{Kind: kind, Thing: thing, Account: description.Text(c.app.Account.ID.Of(item)), Role: named(text(on.Role, one)), Section: text(on.Section, one)}
				if err := yield(of, ""); err != nil {
					return err
				}
			}
			return nil
		})
	case m == nil:
		return system.Blind(kind, "the description does not say where they are listed")
	}
	read := func(scope *description.Scope, thing string) error {
		return c.all(ctx, &m.Listing, scope, nil, m.Tie, func(item any) error {
			of := account.Membership{Kind: kind, Thing: thing, Account: description.Text(m.Account.Of(item)), Role: named(text(m.Role, item)), Section: text(m.Section, item)}
			if m.Thing != nil {
				of.Thing = description.Text(m.Thing.Of(item))
			}
			if of.Account == "" || of.Thing == "" {
				return &system.Unavailable{Message: fmt.Sprintf("%s lists a member without an account or thing", m.Call.String()), Remedy: "Look at it with: evenledger system try NAME, and at “members” in the description."}
			}
			if things != nil && !slices.Contains(things, of.Thing) {
				return nil
			}
			return yield(of, text(m.Tie, item))
		})
	}
	if !m.Uses("thing") {
		return read(c.app.Scope(nil), "")
	}
	if things == nil {
		err := c.things(ctx, kind, false, func(thing account.Thing) error {
			things = append(things, thing.ID)
			return nil
		})
		if err != nil {
			return err
		}
	}
	for _, thing := range things {
		err := read(c.app.Scope(map[string]string{"thing": thing}), thing)
		if err != nil && !errors.Is(err, system.ErrGone) {
			return err
		}
	}
	return nil
}

// member looks for one membership.
func (c *Client) member(ctx context.Context, kind, thing, of string) (m account.Membership, is bool, err error) {
	err = c.members(ctx, kind, []string{thing}, func(one account.Membership, _ string) error {
		if one.Account == of {
			m, is = one, true
		}
		return nil
	})
	return m, is, err
}

// Tie implements system.System: one request for each membership.
func (c *Client) Tie(ctx context.Context, may system.Permit, kind, thing string, ties []system.Tie) error {
	t, has := c.app.OfKind(kind)
	if !has || t.Join == nil && t.OnAccount == nil {
		return system.ErrCannot
	}
	roles, err := c.rolesOf(ctx, t)
	if err != nil {
		return err
	}
	for _, tie := range ties {
		if word, has := roles[tie.Role]; has {
			tie.Role = word
		}
		if err := c.tie(ctx, may, t, thing, tie); err != nil {
			return err
		}
	}
	return nil
}

func (c *Client) tie(ctx context.Context, may system.Permit, t *description.Things, thing string, tie system.Tie) error {
	if t.Join == nil {
		return c.listTie(ctx, may, t, thing, tie)
	}
	values := map[string]string{"id": tie.Account, "account": tie.Account, "thing": thing, "role": tie.Role, "section": tie.Section}
	calls := []*description.Call{t.Join}
	switch {
	case tie.Leave:
		calls = []*description.Call{t.Leave}
	case tie.Was && t.Change != nil:
		calls = []*description.Call{t.Change}
	case tie.Was:
		calls = []*description.Call{t.Leave, t.Join}
	}
	for _, call := range calls {
		err := c.tieBy(ctx, may, t, call, values)
		if err = c.sameAlready(ctx, t, thing, tie, call, err); err != nil {
			return err
		}
	}
	return nil
}

// tieBy sends one request about a tie, which may have to name it by its own identifier.
func (c *Client) tieBy(ctx context.Context, may system.Permit, t *description.Things, call *description.Call, values map[string]string) error {
	for {
		before := false
		if call.Uses("tie") {
			its, is, read, err := c.tieOf(ctx, t, values["thing"], values["account"])
			if err != nil {
				return err
			}
			if !is && call == t.Leave {
				return nil // it is none already
			}
			values["tie"], before = its, read
		}
		_, err := c.do(ctx, request{may: may, Call: call, scope: c.app.Scope(values), names: true})
		if !before || !errors.Is(err, system.ErrGone) {
			return err
		}
	}
}

// tieOf is the identifier of somebody's tie to a thing. Those of a thing are read together, or all of the kind where they are listed
// so; before says that it was read a while ago. None is given twice: it may be another by then.
func (c *Client) tieOf(ctx context.Context, t *description.Things, thing, of string) (its string, is, before bool, err error) {
	at := func(thing string) [2]string { return [2]string{t.Kind, thing} }
	take := func() (string, bool) {
		its, is := c.ties[at(thing)][of]
		delete(c.ties[at(thing)], of)
		return its, is
	}
	c.mu.Lock()
	its, is = take()
	c.mu.Unlock()
	if is {
		return its, is, true, nil
	}
	things := []string{thing}
	if t.Members != nil && !t.Members.Uses("thing") {
		things = nil
	}
	read := map[[2]string]map[string]string{}
	err = c.members(ctx, t.Kind, things, func(m account.Membership, its string) error {
		if read[at(m.Thing)] == nil {
			read[at(m.Thing)] = map[string]string{}
		}
		read[at(m.Thing)][m.Account] = its
		return nil
	})
	if err != nil {
		return "", false, false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	maps.Copy(c.ties, read)
	its, is = take()
	return its, is, false, nil
}

// Foresee implements system.Foreseer: an application that wants a role for each member refuses those that have none.
func (c *Client) Foresee(_ context.Context, all []system.Intended) ([][]account.Finding, error) {
	found := make([][]account.Finding, len(all))
	for i, intended := range all {
		for _, tie := range intended.Ties {
			t, has := c.app.OfKind(tie.Kind)
			if has && !tie.Leave && tie.Role == "" && t.Roles != nil && t.Join != nil && t.Join.Uses("role") {
				f := account.Find(account.Error, account.UnknownRole, fmt.Sprintf("a member of the %s has a role there, and the row gives none", tie.Kind))
				f.Field, f.Remedy = tie.Kind, "Give the role in the sheet or in the brief, or write “default” to the roles in the description."
				found[i] = append(found[i], f)
			}
		}
	}
	return found, nil
}

// Leftovers implements system.Foreseer.
func (c *Client) Leftovers(context.Context, string) ([]string, error) { return nil, nil }

// sameAlready looks, where a request is refused, whether all is as it was to be.
func (c *Client) sameAlready(ctx context.Context, t *description.Things, thing string, tie system.Tie, call *description.Call, err error) error {
	var refusal *system.Refusal
	gone := errors.Is(err, system.ErrGone)
	if err == nil || !gone && !errors.As(err, &refusal) || t.Members == nil || tie.Was {
		return err
	}
	there := false
	listErr := c.things(ctx, t.Kind, false, func(one account.Thing) error {
		there = there || one.ID == thing
		return nil
	})
	m, is, lookErr := c.member(ctx, t.Kind, thing, tie.Account)
	if lookErr != nil || listErr != nil || !there {
		return err
	}
	switch {
	case tie.Leave && !is, !tie.Leave && is && m.Section == tie.Section:
		return nil
	case gone && call == t.Join: // the thing is there
		return &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the system does not know the account %s (%s)", tie.Account, call)}
	}
	return err
}

// listTie changes the list of memberships in an account, and leaves the others in it as they are.
func (c *Client) listTie(ctx context.Context, may system.Permit, t *description.Things, thing string, tie system.Tie) error {
	there := false
	err := c.things(ctx, t.Kind, false, func(one account.Thing) error {
		there = there || one.ID == thing
		return nil
	})
	switch {
	case err != nil:
		return err
	case !there:
		return system.ErrGone
	}
	on := t.OnAccount
	object, header, err := c.raw(ctx, tie.Account)
	if err != nil {
		return err
	}
	list, _ := on.At.Of(object).([]any)
	list = slices.DeleteFunc(slices.Clone(list), func(one any) bool { return description.Text(on.Thing.Of(one)) == thing })
	if !tie.Leave {
		list = append(list, on.Element(thing, tie.Role, tie.Section))
	}
	at := slices.IndexFunc(c.app.Changes, func(w description.Change) bool { return len(w.Fields) == 0 && w.Form != description.Filled })
	if at < 0 {
		return system.ErrCannot
	}
	how := &c.app.Changes[at]
	var body any
	switch how.Form {
	case description.Whole:
		on.At.Put(object, list)
		body = object
	case description.Patch:
		body = []any{map[string]any{"op": "add", "path": on.At.Pointer(), "value": list}}
	default:
		least := map[string]any{}
		on.At.Put(least, list)
		if c.app.Account.Version != nil {
			c.app.Account.Version.Put(least, c.app.Account.Version.Of(object))
		}
		body = least
	}
	data, err := description.Encode(body)
	if err != nil {
		return err
	}
	known := account.Account{ID: tie.Account}
	if header != nil {
		known.Version = header.Get("ETag")
	}
	_, err = c.do(ctx, request{may: may, Call: &how.Call, scope: c.app.Scope(description.Values(&known)), body: data, names: true, version: c.match(&known)})
	return err
}

// MakeThing implements system.System.
func (c *Client) MakeThing(ctx context.Context, may system.Permit, kind, name string, _ []system.Tie) (account.Thing, error) {
	t, has := c.app.OfKind(kind)
	if !has || t.Make == nil {
		return account.Thing{}, system.ErrCannot
	}
	got, err := c.do(ctx, request{may: may, Call: t.Make, scope: c.app.Scope(map[string]string{"name": name}).New()})
	if err != nil {
		return account.Thing{}, err
	}
	made := account.Thing{ID: description.Text(t.ID.Of(t.Make.Item.Of(got.value))), Name: name, Seats: -1}
	if made.ID == "" {
		if at, err := c.elsewhere(got.Header.Get("Location"), c.base); err == nil {
			made.ID, _ = c.idIn(at)
		}
	}
	if made.ID != "" {
		return made, nil
	}
	err = c.things(ctx, kind, false, func(one account.Thing) error {
		if one.Name == name {
			made.ID = one.ID
		}
		return nil
	})
	if err == nil && made.ID == "" {
		err = fmt.Errorf("%s: the answer shows nothing that was made, and no %s is called “%s”", t.Make, strings.TrimSuffix(kind, "s"), name)
	}
	if err != nil {
		return account.Thing{}, &system.Unclear{Err: err}
	}
	return made, nil
}

// RemoveThing implements system.System.
func (c *Client) RemoveThing(ctx context.Context, may system.Permit, kind, thing string) error {
	t, has := c.app.OfKind(kind)
	if !has || t.Unmake == nil {
		return system.ErrCannot
	}
	_, err := c.do(ctx, request{may: may, Call: t.Unmake, scope: c.app.Scope(map[string]string{"thing": thing}), names: true})
	return err
}
