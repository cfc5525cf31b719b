package web

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/system"
)

// active is the field that says whether somebody may sign in.
const active = "active"

// Describe implements system.System.
func (c *Client) Describe(ctx context.Context) (*system.Description, error) {
	c.describing.Lock()
	defer c.describing.Unlock()
	if c.known != nil {
		return c.known, nil
	}
	if err := c.readSchema(ctx); err != nil {
		return nil, err
	}
	s := &account.Schema{Naming: c.naming(), Aliases: c.config.Aliases, Lists: map[string][]string{}}
	for i := range c.app.Account.Fields {
		if f := &c.app.Account.Fields[i]; f.Parts != nil {
			base, parts := account.PartsOf(f.Name)
			s.Lists[base] = parts
			continue
		}
		s.Attributes = append(s.Attributes, c.attribute(&c.app.Account.Fields[i]))
	}
	if f, has := c.app.Account.Field(active); has && (c.app.Suspend != nil || !f.ReadOnly && c.changeOf(active) != nil) {
		s.Suspension = account.Suspension{Field: active, On: "true", Off: "false"}
	}
	about := &system.Description{Schema: s, Rules: c.app.Rules, Can: system.Abilities{
		Page: c.app.Listing.Size, Counts: c.app.Listing.Total != nil, Versions: c.app.Account.Version != nil, Rate: c.config.Rate,
		Removes: c.app.Remove != nil, Renews: c.app.Password != nil, Unkeyed: !c.keysNew() && c.app.Password == nil,
		Piecemeal: c.app.Suspend != nil || c.app.Password != nil && !c.keysNew() || c.app.Create != nil && !c.app.Create.Body.Whole,
	}}
	if c.app.Finding != nil {
		about.Can.Finds, about.Can.Reads = max(c.app.Finding.Most, 1), 1
	}
	if c.app.Together != nil {
		about.Can.AtOnce, about.Can.Together, about.Can.Bulk = c.app.Together.Most, []system.Verb{system.Creates}, true
	}
	for i := range c.app.Things {
		t := &c.app.Things[i]
		kind := account.ThingKind{Name: t.Kind, Roles: t.Roles != nil, Sections: t.Section}
		if t.Roles != nil {
			kind.Usual = t.Roles.Default
		}
		if t.OnAccount == nil && t.Members == nil {
			kind.Blind = "the description does not say where they are listed"
		}
		if t.Join != nil || t.OnAccount != nil {
			about.Can.Ties = 1
		}
		about.Can.Makes, about.Can.Unmakes = about.Can.Makes || t.Make != nil, about.Can.Unmakes || t.Unmake != nil
		about.Kinds = append(about.Kinds, kind)
	}
	slices.SortFunc(about.Kinds, func(a, b account.ThingKind) int { return strings.Compare(a.Name, b.Name) })
	c.known = about
	return about, nil
}

// naming is the field that names an account to people.
func (c *Client) naming() string {
	for _, name := range []string{"userName", "email", "employeeNumber"} {
		if _, has := c.app.Account.Field(name); has {
			return name
		}
	}
	for _, f := range c.app.Account.Fields {
		if f.Unique {
			return f.Name
		}
	}
	return c.app.Account.Fields[0].Name
}

// keysNew reports whether a new account is made with its password.
func (c *Client) keysNew() bool {
	return c.app.Create != nil && (c.app.Account.Password != nil || c.app.Create.Uses("password"))
}

func (c *Client) attribute(f *description.Field) account.Attribute {
	at := f.At.String()
	if f.Where != nil {
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(f.Where)) {
			parts = append(parts, name+"="+f.Where[name])
		}
		at += "[" + strings.Join(parts, ",") + "]." + f.Value.String()
	}
	a := account.Attribute{Field: f.Name, Path: at, Kind: f.Kind, Description: f.About, Required: f.Required, ReadOnly: f.ReadOnly, Multi: f.Kind == account.List, Immutable: f.Fixed, Unique: f.Unique, Exact: f.Exact, Allowed: f.OneOf, Longest: f.Longest}
	byCall := f.Name == active && c.app.Suspend != nil
	if !a.ReadOnly && !byCall && c.changeOf(f.Name) == nil {
		a.Immutable = true
	}
	if c.app.Create == nil && a.Immutable && !byCall {
		a.ReadOnly = true
	}
	if f.Exact {
		a.Rule = account.ByLetter
	}
	a.Refuses = func(value string) string {
		if _, err := f.JSON(value); err != nil {
			return err.Error()
		}
		return ""
	}
	return a
}

// changeOf is the way in which a field is changed; nil: it cannot be.
func (c *Client) changeOf(field string) *description.Change {
	for i := range c.app.Changes {
		if way := &c.app.Changes[i]; way.Sends(field) {
			return way
		}
	}
	return nil
}

// missing refuses fields that the application does not have: leaving them out without a word would be a change less
// than was drafted.
func (c *Client) missing(field string) error {
	if _, has := c.app.Account.Field(field); has {
		return nil
	}
	return &system.Refusal{Code: account.UnknownField, Field: field, Message: "the system has no field " + field}
}

// account reads one out of its JSON. Object is false where it is none.
func (c *Client) account(value any, fields []string, header http.Header) (a account.Account, is bool) {
	object, is := value.(map[string]any)
	if !is {
		return a, false
	}
	a = account.Account{ID: description.Text(c.app.Account.ID.Of(object)), Fields: make(map[string]account.Value, len(fields))}
	if a.ID == "" {
		return a, false
	}
	if c.app.Account.Version != nil {
		a.Version = description.Text(c.app.Account.Version.Of(object))
	} else if c.app.Account.ETag && header != nil {
		a.Version = header.Get("ETag")
	}
	if c.app.Account.Made != nil {
		a.Made, _ = time.Parse(time.RFC3339, description.Text(c.app.Account.Made.Of(object)))
	}
	for _, name := range fields {
		if f, has := c.app.Account.Field(name); has {
			if v := f.Read(object); v.Present() {
				a.Fields[name] = v
			}
		}
	}
	return a, true
}

// Get implements system.System.
func (c *Client) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	object, header, err := c.raw(ctx, id)
	if err != nil {
		return account.Account{}, err
	}
	a, _ := c.account(object, fields, header)
	return a, nil
}

// raw reads one account whole. One with another identifier than was asked for is none.
func (c *Client) raw(ctx context.Context, id string) (map[string]any, http.Header, error) {
	r := request{Call: c.app.Read, scope: c.app.Scope(map[string]string{"id": id}), safe: true, names: true}
	got, err := c.do(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	object, is := c.app.Read.Item.Of(got.value).(map[string]any)
	came := ""
	if is {
		came = description.Text(c.app.Account.ID.Of(object))
	}
	if came != id {
		why := "it has the id “" + came + "”"
		if came == "" {
			why = "it has no " + c.app.Account.ID.String()
		}
		return nil, nil, &system.Unavailable{Message: fmt.Sprintf("%s: what %s answered cannot be taken for the account %s: %s", c.app.Read, c.config.URL, id, why), Remedy: "Look at it with: evenledger system try NAME, and at read, item and id in the description."}
	}
	return object, got.Header, nil
}

// body is a new account as it is sent.
func (c *Client) body(wanted account.Account) (map[string]any, error) {
	object := map[string]any{}
	if plus, err := c.app.Create.Body.Plus(c.app.Scope(description.Values(&wanted)).New()); err != nil {
		return nil, &system.Refusal{Code: account.CannotBeWritten, Message: err.Error()}
	} else if plus != nil {
		object = plus
	}
	for _, name := range wanted.FieldNames() {
		if !wanted.Fields[name].Filled() {
			continue
		}
		f, has := c.app.Account.Field(name)
		if !has {
			return nil, c.missing(name)
		}
		if name == active && c.app.Suspend != nil {
			continue // it is a request of its own
		}
		if err := f.Write(object, "", wanted.Fields[name].Text(), false); err != nil {
			return nil, &system.Refusal{Code: account.CannotBeWritten, Field: name, Message: err.Error()}
		}
	}
	if wanted.Password != "" && c.app.Account.Password != nil {
		c.app.Account.Password.Put(object, wanted.Password)
	}
	return object, nil
}

// create makes one account. What the application answers is returned as it is: whether it is the account that
// was sent, the caller sees.
func (c *Client) create(ctx context.Context, may system.Permit, wanted account.Account, fields []string) (account.Account, error) {
	if c.app.Create == nil {
		return account.Account{}, &system.Refusal{Code: account.SystemRefused, Message: "no account can be made there: the description has no “create”"}
	}
	c.config.Mask.Add(wanted.Password)
	how := c.app.Create
	for _, name := range wanted.FieldNames() {
		if err := c.missing(name); err != nil {
			return account.Account{}, err
		}
	}
	for _, name := range c.left(&wanted) {
		if c.changeOf(name) == nil {
			return account.Account{}, &system.Refusal{Code: account.CannotBeWritten, Field: name, Message: name + " does not stand in what makes an account there, and cannot be changed afterwards: the description has it nowhere"}
		}
	}
	r := request{may: may, Call: &how.Call, scope: c.app.Scope(description.Values(&wanted)).New()}
	if how.Key != "" {
		r.header, r.key = how.Key, rand.Text()
	}
	if how.Body.Whole {
		object, err := c.body(wanted)
		if err == nil {
			r.body, err = description.Encode(object)
		}
		if err != nil {
			return account.Account{}, err
		}
	}
	got, err := c.do(ctx, r)
	if err != nil {
		return account.Account{}, err
	}
	made, err := c.made(ctx, got, &wanted, fields)
	if err != nil {
		return account.Account{}, err
	}
	if c.lacks(&wanted) {
		if err := c.complete(ctx, may, made, wanted); err != nil {
			return account.Account{}, &system.Unclear{Err: fmt.Errorf("the account was made, and lacks something: %w", err)}
		}
		if shown, err := c.Get(ctx, made.ID, fields); err == nil {
			made = shown
		}
	}
	return made, nil
}

// made is the account that an answer to its making shows, or says where it is.
func (c *Client) made(ctx context.Context, got *answer, wanted *account.Account, fields []string) (account.Account, error) {
	how := c.app.Create
	if a, is := c.account(how.Item.Of(got.value), fields, got.Header); is && !how.Located {
		for _, name := range fields {
			if _, has := a.Fields[name]; !has && wanted.Field(name).Filled() { // some show only a part of what they made
				if whole, err := c.Get(ctx, a.ID, fields); err == nil {
					return whole, nil
				}
				break
			}
		}
		return a, nil
	}
	if text := got.Header.Get("Location"); text != "" {
		at, err := c.elsewhere(text, c.base)
		if err != nil {
			return account.Account{}, &system.Unclear{Err: err}
		}
		if id, is := c.idIn(at); is {
			a, err := c.Get(ctx, id, fields)
			if err != nil {
				return account.Account{}, &system.Unclear{Err: err}
			}
			return a, nil
		}
	}
	return account.Account{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to %s, but with no account that can be read", got.Status, how.Call.String())}
}

// idIn is the identifier in an account's address, which is the last part of its path.
func (c *Client) idIn(at *url.URL) (string, bool) {
	path := strings.TrimRight(at.EscapedPath(), "/")
	id, err := url.PathUnescape(path[strings.LastIndexByte(path, '/')+1:])
	return id, err == nil && id != ""
}

// left are the fields of a new account that the request which makes it does not have, and that are sent after it.
func (c *Client) left(wanted *account.Account) (names []string) {
	for _, name := range wanted.FieldNames() {
		if wanted.Field(name).Filled() && !c.app.Create.Sends(name) && !(name == active && c.app.Suspend != nil) {
			names = append(names, name)
		}
	}
	return names
}

// lacks reports whether an account that was just made needs further requests to be as wanted.
func (c *Client) lacks(wanted *account.Account) bool {
	return c.app.Suspend != nil && wanted.Field(active).Text() == "false" || wanted.Password != "" && !c.keysNew() || len(c.left(wanted)) > 0
}

// complete gives an account that was made what it may lack.
func (c *Client) complete(ctx context.Context, may system.Permit, known, wanted account.Account) error {
	if c.app.Suspend != nil && wanted.Field(active).Text() == "false" { // first: who may not sign in must not be able to with the password
		if _, err := c.do(ctx, request{may: may, Call: c.app.Suspend, scope: c.app.Scope(c.values(&known, &wanted)), names: true}); err != nil {
			return err
		}
	}
	if left := c.left(&wanted); len(left) > 0 {
		now, err := c.Get(ctx, known.ID, left)
		if err != nil {
			return err
		}
		var changes []account.Change
		for _, name := range left {
			if now.Field(name) != wanted.Field(name) {
				changes = append(changes, account.Change{Field: name, Before: now.Field(name), After: wanted.Field(name)})
			}
		}
		if len(changes) > 0 {
			if _, err := c.change(ctx, may, now, changes, left); err != nil {
				return err
			}
		}
	}
	if wanted.Password != "" && !c.keysNew() && c.app.Password != nil {
		return c.setPassword(ctx, may, known, wanted.Password, nil)
	}
	return nil
}

// values are what templates see of an account that is there: as it is to be.
func (c *Client) values(known, wanted *account.Account) map[string]string {
	values := description.Values(known)
	if wanted != nil {
		for name, v := range wanted.Fields {
			values[name] = v.Text()
		}
	}
	return values
}

// Apply implements system.System.
func (c *Client) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if len(orders) > 1 && c.app.Together != nil && !slices.ContainsFunc(orders, func(o system.Order) bool { return o.Does != system.Creates }) {
		return c.together(ctx, may, orders, fields)
	}
	return system.Each(orders, func(o system.Order) (now account.Account, err error) {
		switch o.Does {
		case system.Creates:
			return c.create(ctx, may, o.Wanted, fields)
		case system.Changes:
			return c.change(ctx, may, o.Known, o.Changes, fields)
		case system.Removes:
			return now, c.remove(ctx, may, o.Known)
		case system.Renews:
			return now, c.setPassword(ctx, may, o.Known, o.Wanted.Password, o.Changes)
		case system.Completes:
			return now, c.complete(ctx, may, o.Known, o.Wanted)
		}
		return now, system.ErrCannot
	})
}

// together makes accounts by one request.
func (c *Client) together(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	how := c.app.Together
	results := make([]system.Result, len(orders))
	var list []any
	var of []int // of results, those that are sent
	for i, o := range orders {
		c.config.Mask.Add(o.Wanted.Password)
		object, err := c.body(o.Wanted)
		if err != nil {
			results[i].Err = err
			continue
		}
		list, of = append(list, object), append(of, i)
	}
	if len(list) == 0 {
		return results, nil
	}
	var body any = list
	if how.As != nil {
		object := map[string]any{}
		how.As.Put(object, list)
		body = object
	}
	data, err := description.Encode(body)
	if err != nil {
		return nil, err
	}
	got, err := c.do(ctx, request{may: may, Call: &how.Call, scope: c.app.Scope(nil), body: data})
	if err != nil {
		var refusal *system.Refusal
		if errors.As(err, &refusal) && len(of) == 1 {
			results[of[0]].Err = err
			return results, nil
		}
		return nil, err
	}
	came, is := how.Results.Of(got.value).([]any)
	if !is || len(came) != len(of) {
		return nil, &system.Unclear{Err: fmt.Errorf("%s: %d accounts were sent, and the answer has %d results", how.Call.String(), len(of), len(came))}
	}
	for n, i := range of {
		results[i] = c.result(ctx, may, came[n], orders[i].Wanted, fields)
	}
	return results, nil
}

// result is what became of one of several accounts that were made together.
func (c *Client) result(ctx context.Context, may system.Permit, value any, wanted account.Account, fields []string) system.Result {
	how := c.app.Together
	status := http.StatusOK
	if how.Status != nil {
		if _, err := fmt.Sscan(description.Text(how.Status.Of(value)), &status); err != nil {
			return system.Result{Err: &system.Unclear{Err: fmt.Errorf("a result says nothing that is a status at %s", how.Status)}}
		}
	}
	of := how.Of.Of(value)
	data, err := description.Encode(value)
	if err != nil {
		return system.Result{Err: &system.Unclear{Err: err}}
	}
	r := request{Call: &how.Call}
	came := &answer{Answer: answerOf(status, data), value: value}
	sent, _ := c.filled(request{Call: &how.Call, scope: c.app.Scope(nil)})
	if err := c.judge(r, sent, came); err != nil {
		return system.Result{Err: open(err)}
	}
	a, is := c.account(of, fields, nil)
	if !is {
		return system.Result{Err: &system.Unclear{Err: errors.New("a result shows no account that can be read")}}
	}
	if c.lacks(&wanted) {
		if err := c.complete(ctx, may, a, wanted); err != nil {
			return system.Result{Err: &system.Unclear{Err: fmt.Errorf("the account was made, and lacks something: %w", err)}}
		}
	}
	return system.Result{Account: a}
}

// remove removes an account.
func (c *Client) remove(ctx context.Context, may system.Permit, known account.Account) error {
	if c.app.Remove == nil {
		return system.ErrCannot
	}
	_, err := c.do(ctx, request{may: may, Call: c.app.Remove, scope: c.app.Scope(description.Values(&known)), names: true, version: c.match(&known)})
	return err
}

// match is the version that a change is made to by the header If-Match; empty: none.
func (c *Client) match(known *account.Account) string {
	if c.app.Account.ETag {
		return known.Version
	}
	return ""
}

// setPassword gives an account another password.
func (c *Client) setPassword(ctx context.Context, may system.Permit, known account.Account, password string, also []account.Change) error {
	if c.app.Password == nil {
		return system.ErrCannot
	}
	c.config.Mask.Add(password)
	values := description.Values(&known)
	values["password"] = password
	if _, err := c.do(ctx, request{may: may, Call: c.app.Password, scope: c.app.Scope(values), names: true}); err != nil {
		return err
	}
	if len(also) == 0 {
		return nil
	}
	known.Version = ""
	_, err := c.change(ctx, may, known, also, nil)
	var part *system.Partial
	if err != nil && !errors.As(err, &part) {
		return &system.Partial{Now: known, Err: err}
	}
	return err
}

// Count implements system.System.
func (c *Client) Count(ctx context.Context) (int, error) {
	if c.app.Listing.Total == nil {
		return 0, system.ErrCannot
	}
	p := &page{}
	if err := c.page(ctx, &c.app.Listing, request{Call: &c.app.Listing.Call, scope: c.app.Scope(nil), safe: true}, first(&c.app.Listing), p, func(any) error { return nil }); err != nil {
		return 0, err
	}
	return p.total, nil
}
