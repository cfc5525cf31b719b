package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

// An operation is one of a PATCH (RFC 7644 section 3.5.2).
type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

const patchOp = "urn:ietf:params:scim:api:messages:2.0:PatchOp"

// patches reports whether the server takes PATCH at an endpoint, as far as is known.
func (c *Client) patches(endpoint string) (yes bool) {
	c.habits.learn(func(h *habits) {
		yes = !c.config.NoPatch && c.known.config.Patch.Supported && !h.noPatch[endpoint]
	})
	return yes
}

// noPatch notes a server that has no PATCH after all, and reports whether an error
// says that.
func (c *Client) noPatch(endpoint string, err error) bool {
	status := statusOf(err)
	if status != http.StatusNotImplemented && status != http.StatusMethodNotAllowed {
		return false
	}
	c.habits.learn(func(h *habits) { note(&h.noPatch, endpoint) })
	return true
}

// change changes an account with the least PATCH, or with a PUT of the
// whole account where the server has no PATCH.
func (c *Client) change(ctx context.Context, may system.Permit, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	for _, change := range changes {
		if err := d.missing(change.Field); err != nil {
			return account.Account{}, err
		}
	}
	if !c.patches(d.endpoint) {
		return c.replace(ctx, may, known, changes, fields)
	}
	operations, certain := c.operations(changes)
	if !certain {
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
	}
	got, err := c.patch(ctx, may, known, operations)
	if c.noPatch(d.endpoint, err) {
		return c.replace(ctx, may, known, changes, fields)
	}
	var refusal *system.Refusal
	if errors.As(err, &refusal) && c.wholly(operations, scimTypeOf(err)) {
		// It takes such a value only together with what it is part of.
		operations, certain = c.operations(changes)
		got, err = c.patch(ctx, may, known, operations)
	}
	if certain && errors.As(err, &refusal) && slices.ContainsFunc(operations, func(o operation) bool { return strings.Contains(o.Path, "[") }) {
		// The element is stored in another way than it looked: work on the list.
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
		got, err = c.patch(ctx, may, known, operations)
	}
	if err != nil {
		var now account.Account
		if c.putOnce(err, d.endpoint, func() (err error) { now, err = c.replace(ctx, may, known, changes, fields); return err }) {
			return now, nil
		}
		return account.Account{}, err
	}
	c.patched(d.endpoint)
	return c.changed(ctx, got, known, changes, fields)
}

// patched notes that something was changed by PATCH at an endpoint.
func (c *Client) patched(endpoint string) {
	c.habits.learn(func(h *habits) { note(&h.patched, endpoint) })
}

// note marks an endpoint.
func note(of *map[string]bool, endpoint string) {
	if *of == nil {
		*of = map[string]bool{}
	}
	(*of)[endpoint] = true
}

// putOnce tries once, on one resource, whether a server that answers a change with 400 or 404, and never took one, takes the resource
// whole: what is there is read before. If it does not, what it answered first stands.
func (c *Client) putOnce(err error, endpoint string, put func() error) (done bool) {
	status := statusOf(err)
	odd := status == http.StatusBadRequest && slices.Contains([]string{"", "invalidSyntax", "invalidPath", "noTarget"}, scimTypeOf(err))
	if !odd && status != http.StatusNotFound && !errors.Is(err, system.ErrGone) {
		return false
	}
	c.putting.Lock() // those that meet it together wait for what comes of the first
	defer c.putting.Unlock()
	known, tried := false, false
	c.habits.learn(func(h *habits) {
		known = h.noPatch[endpoint]
		tried = h.patched[endpoint] || h.putTried[endpoint]
	})
	if tried && !known {
		return false
	}
	err = put()
	if !errors.Is(err, system.ErrGone) { // of what is gone nothing can be learned
		c.habits.learn(func(h *habits) { note(&h.putTried, endpoint) })
	}
	if err != nil {
		return false
	}
	c.habits.learn(func(h *habits) { note(&h.noPatch, endpoint) })
	return true
}

// changed reads the account out of the answer to a change. An answer without a body
// (204) says that the change was made as it was sent, and shows nothing of the account. Where another does
// not show it, it is looked at.
func (c *Client) changed(ctx context.Context, got *httpdial.Answer, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	if got.Status == http.StatusNoContent {
		return account.Account{ID: known.ID, Version: got.Header.Get("ETag")}, nil
	}
	if r, err := decodeResource(got.Body); err == nil && r.text("id") == known.ID {
		return c.known.account(r, fields, got.Header), nil
	}
	for _, change := range changes {
		if !slices.Contains(fields, change.Field) {
			fields = append(slices.Clone(fields), change.Field)
		}
	}
	now, err := c.Get(ctx, known.ID, fields)
	if err == nil && len(system.NotKept(c.known.schema, changes, now)) > 0 {
		err = errors.New("the account is as it was")
	}
	if err != nil {
		return account.Account{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to a change of %s/%s and did not show the account: %w", got.Status, c.known.endpoint, known.ID, err)}
	}
	return now, nil
}

// send changes one resource. A server that wants to be told the version (428, RFC 6585
// section 3) gets that which is there now.
func (c *Client) send(ctx context.Context, r request, endpoint, id string) (*httpdial.Answer, error) {
	at, err := segment(id)
	if err != nil {
		return nil, err
	}
	r.path, r.names = endpoint+"/"+at, true
	got, err := c.do(ctx, r)
	if statusOf(err) != http.StatusPreconditionRequired || r.version != "" {
		return got, err
	}
	now, read, lookErr := c.one(ctx, endpoint, id, url.Values{"attributes": {"id,meta"}})
	if lookErr != nil {
		return nil, lookErr
	}
	if r.version = versionOf(now, read.Header); r.version == "" {
		return nil, err
	}
	return c.do(ctx, r)
}

// versionOf returns the version of a resource (RFC 7644 section 3.14).
func versionOf(r resource, header http.Header) string {
	if version := header.Get("ETag"); version != "" {
		return version
	}
	return r.object("meta", false).text("version")
}

func (c *Client) patch(ctx context.Context, may system.Permit, known account.Account, operations []operation) (*httpdial.Answer, error) {
	return c.send(ctx, request{method: http.MethodPatch, may: may, body: patchBody(operations), version: known.Version}, c.known.endpoint, known.ID)
}

// patchBody is what a PATCH has in it.
func patchBody(operations []operation) map[string]any {
	return map[string]any{"schemas": []string{patchOp}, "Operations": operations}
}

// operations writes the changes as operations. It is not certain of them when an
// element of a list would have to be there, or not, for them to be right.
func (c *Client) operations(changes []account.Change) (operations []operation, certain bool) {
	certain = true
	for _, change := range changes {
		p, a, _ := c.known.at(change.Field)
		if p.kind != "" && !change.Before.Filled() {
			certain = false
		}
		if a.MultiValued && (p.parts != "" || a.Type == "complex") {
			operations = append(operations, elementwise(p, change)...)
			continue
		}
		if !change.After.Filled() {
			if p.kind != "" && p.sub == "value" {
				p.sub = "" // an address without its value is none
			}
			operations = append(operations, operation{Op: "remove", Path: p.String()})
			continue
		}
		value := encode(p, a, change.After.Text())
		if whole := p.whole(); whole.String() != p.String() && c.sentWhole(whole) {
			p, value = whole, map[string]any{p.sub: value}
		}
		operations = append(operations, operation{Op: "replace", Path: p.String(), Value: value})
	}
	for i, o := range operations {
		if p := parsePath(o.Path); o.Op == "remove" && c.sentWhole(p.whole()) {
			operations[i].Path = p.whole().String()
		}
	}
	return operations, certain
}

// whole is the path of the reference that a path is the value of, such as a manager;
// of other paths, themselves.
func (p path) whole() path {
	if p.kind == "" && p.sub == "value" {
		p.sub = ""
	}
	return p
}

func (c *Client) sentWhole(p path) (yes bool) {
	c.habits.learn(func(h *habits) { yes = h.wholes[p.String()] })
	return yes
}

// wholly notes references of which the server does not know the value as a path by
// itself, and reports whether there is one among the operations.
func (c *Client) wholly(operations []operation, scimType string) (any bool) {
	if scimType != "noTarget" && scimType != "invalidPath" {
		return false
	}
	for _, o := range operations {
		p := parsePath(o.Path)
		whole := p.whole().String()
		if whole == o.Path || c.sentWhole(p.whole()) {
			continue
		}
		any = true
		c.habits.learn(func(h *habits) {
			if h.wholes == nil {
				h.wholes = map[string]bool{}
			}
			h.wholes[whole] = true
		})
	}
	return any
}

// elementwise writes the change of a list of values that have parts: what else stands
// in the values is left alone, and what is put back is put back as it was.
func elementwise(p path, change account.Change) (operations []operation) {
	before, after := account.Items(change.Before.Text()), account.Items(change.After.Text())
	for _, item := range before {
		if slices.Contains(after, item) {
			continue
		}
		var terms []string
		for part, value := range element(p.partNames(), item) {
			if quoted, err := json.Marshal(value); err == nil {
				terms = append(terms, part+" eq "+string(quoted))
			}
		}
		slices.Sort(terms)
		operations = append(operations, operation{Op: "remove", Path: p.top() + "[" + strings.Join(terms, " and ") + "]"})
	}
	var added []any
	for _, item := range after {
		if !slices.Contains(before, item) {
			added = append(added, p.wholeElement(change, item))
		}
	}
	if len(added) > 0 {
		operations = append(operations, operation{Op: "add", Path: p.top(), Value: added})
	}
	return operations
}

// partNames are the parts of an element that an item of the list is made of.
func (p path) partNames() string {
	if p.parts == "" {
		return "value"
	}
	return p.parts
}

// wholeElement is the element of an item: as it once was, if that is known.
func (p path) wholeElement(change account.Change, item string) map[string]any {
	var whole []map[string]any
	if json.Unmarshal([]byte(change.Whole), &whole) == nil { // without any there is nothing to put back
		for _, e := range whole {
			if resource(e).joined(p.partNames()) == item {
				return e
			}
		}
	}
	return element(p.partNames(), item)
}

// whole returns the elements of a list as they are, if there is more to one of them
// than its value.
func (r resource) whole(p path) string {
	list, _ := r.holder(p, false).get(p.attr).([]any)
	more := false
	for _, item := range list {
		e, _ := item.(map[string]any)
		more = more || len(e) > 1
	}
	if !more {
		return ""
	}
	data, err := json.Marshal(list)
	if err != nil {
		return ""
	}
	return string(data)
}

// holder is the object that an attribute stands in.
func (r resource) holder(p path, make bool) resource {
	if p.schema == "" {
		return r
	}
	return r.object(p.schema, make)
}

// merge changes the list at a path: elements that the change takes away go, those it
// brings are added, and the others stay as they are.
func (r resource) merge(p path, change account.Change) {
	before, after := account.Items(change.Before.Text()), account.Items(change.After.Text())
	at := r.holder(p, true)
	key := at.key(p.attr)
	list, _ := at[key].([]any)
	there := map[string]bool{}
	list = slices.DeleteFunc(list, func(item any) bool {
		e, ok := item.(map[string]any)
		if !ok {
			return false
		}
		text := resource(e).joined(p.partNames())
		there[text] = true
		return slices.Contains(before, text) && !slices.Contains(after, text)
	})
	for _, item := range after {
		if !there[item] {
			list = append(list, p.wholeElement(change, item))
		}
	}
	if at[key] = list; len(list) == 0 {
		delete(at, key)
	}
}

// passwordTo is the operation that gives an account another password.
func passwordTo(password string) operation {
	return operation{Op: "replace", Path: "password", Value: password}
}

// setPassword gives an account another password (RFC 7643 section 4.1.1: one is written and
// never read).
func (c *Client) setPassword(ctx context.Context, may system.Permit, known account.Account, password string, also []account.Change) error {
	d, err := c.discover(ctx)
	if err != nil {
		return err
	}
	c.config.Mask.Add(password)
	for _, change := range also {
		if err := d.missing(change.Field); err != nil {
			return err
		}
	}
	if c.patches(d.endpoint) {
		operations, _ := c.operations(also)
		_, err = c.patch(ctx, may, known, append(operations, passwordTo(password)))
		if !c.noPatch(d.endpoint, err) {
			return err
		}
	}
	r, version, err := c.rewritten(ctx, known, also)
	if err != nil {
		return err
	}
	r["password"] = password
	_, err = c.send(ctx, request{method: http.MethodPut, may: may, body: r, version: version}, d.endpoint, known.ID)
	return err
}

// put makes a change in a resource.
func (c *Client) put(r resource, change account.Change) {
	p, a, _ := c.known.at(change.Field)
	if a.MultiValued && (p.parts != "" || a.Type == "complex") {
		r.merge(p, change)
		return
	}
	r.set(p, c.encoded(change))
}

// look reads the account to write operations that replace whole lists.
func (c *Client) look(ctx context.Context, known *account.Account, changes []account.Change) ([]operation, error) {
	r, header, err := c.get(ctx, known.ID)
	if err != nil {
		return nil, err
	}
	now := c.known.account(r, known.FieldNames(), header)
	if known.Version != "" && now.Version != known.Version {
		return nil, system.ErrChanged
	}
	var simple []account.Change
	lists := map[string]path{}
	for _, change := range changes {
		p, a, _ := c.known.at(change.Field)
		if p.kind == "" && !(a.MultiValued && a.Type == "complex") {
			simple = append(simple, change)
			continue
		}
		c.put(r, change)
		lists[p.top()] = p
	}
	operations, _ := c.operations(simple)
	for _, at := range slices.Sorted(maps.Keys(lists)) {
		o := operation{Op: "replace", Path: at, Value: r.holder(lists[at], true).get(lists[at].attr)}
		if o.Value == nil {
			o.Op = "remove"
		}
		operations = append(operations, o)
	}
	return operations, nil
}

func (c *Client) encoded(change account.Change) any {
	if !change.After.Filled() {
		return nil
	}
	p, a, _ := c.known.at(change.Field)
	return encode(p, a, change.After.Text())
}

// replace changes an account by putting all of it (RFC 7644 section 3.5.1).
func (c *Client) replace(ctx context.Context, may system.Permit, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	r, version, err := c.rewritten(ctx, known, changes)
	if err != nil {
		return account.Account{}, err
	}
	got, err := c.send(ctx, request{method: http.MethodPut, may: may, body: r, version: version}, c.known.endpoint, known.ID)
	if err != nil {
		return account.Account{}, err
	}
	return c.changed(ctx, got, known, changes, fields)
}

// rewritten reads an account whole and makes the changes in what was read, which is of the
// version.
func (c *Client) rewritten(ctx context.Context, known account.Account, changes []account.Change) (r resource, version string, err error) {
	r, header, err := c.get(ctx, known.ID)
	if err != nil {
		return nil, "", err
	}
	now := c.known.account(r, known.FieldNames(), header)
	if known.Version != "" && now.Version != known.Version {
		return nil, "", system.ErrChanged
	}
	for _, change := range changes {
		p, _, _ := c.known.at(change.Field)
		c.put(r, change)
		if p.schema != "" {
			schemas, _ := r.get("schemas").([]any)
			if !slices.Contains(schemas, any(p.schema)) {
				r["schemas"] = append(schemas, p.schema)
			}
		}
	}
	delete(r, "meta")
	return r, now.Version, nil
}
