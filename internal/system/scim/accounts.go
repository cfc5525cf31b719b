package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// Describe implements system.System.
func (c *Client) Describe(ctx context.Context) (*account.Schema, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	return d.schema, nil
}

// Versions implements system.Versioner.
func (c *Client) Versions() bool {
	c.discovering.Lock()
	defer c.discovering.Unlock()
	return c.known != nil && c.known.config.ETag.Supported
}

// account reads the fields of a resource.
func (d *discovered) account(r resource, fields []string, header http.Header) account.Account {
	a := account.Account{ID: r.text("id"), Fields: make(map[string]account.Value, len(fields))}
	if meta := r.object("meta", false); meta != nil {
		a.Version = meta.text("version")
		a.Made, _ = time.Parse(time.RFC3339, meta.text("created"))
	}
	if a.Version == "" && header != nil {
		a.Version = header.Get("ETag")
	}
	if !a.Made.IsZero() {
		a.Made = a.Made.Add(time.Duration(d.skew.Load()))
	}
	for _, name := range fields {
		p, of, ok := d.at(name)
		if !ok {
			continue
		}
		if v := decode(of, r.value(p)); v.Present() {
			a.Fields[name] = v
		}
		if p.parts == "" && of.MultiValued && of.Type == "complex" {
			if whole := r.whole(p); whole != "" {
				if a.Whole == nil {
					a.Whole = map[string]string{}
				}
				a.Whole[name] = whole
			}
		}
	}
	return a
}

// attributes is the list of attributes to ask for.
func (d *discovered) attributes(fields []string) string {
	tops := map[string]bool{"id": true, "meta": true, "userName": true}
	for _, name := range fields {
		if p, _, ok := d.at(name); ok {
			tops[p.top()] = true
		}
	}
	return strings.Join(slices.Sorted(maps.Keys(tops)), ",")
}

// accounts yields the accounts that a filter, or no filter, finds; tries as in request.
func (c *Client) accounts(ctx context.Context, filter string, fields []string, tries int) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.discover(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		query := url.Values{"attributes": {d.attributes(fields)}}
		if filter != "" {
			query.Set("filter", filter)
		}
		for r, err := range c.resources(ctx, d.endpoint, query, tries) {
			if err != nil {
				yield(account.Account{}, err)
				return
			}
			if !yield(d.account(r, fields, nil), nil) {
				return
			}
		}
	}
}

// List implements system.System.
func (c *Client) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return c.accounts(ctx, "", fields, 0)
}

// Count implements system.Sizer.
func (c *Client) Count(ctx context.Context) (int, error) {
	_, total, err := c.samples(ctx, true)
	if believed, sure := c.totals(); err == nil && sure && !believed {
		total = 0
		for _, err := range c.List(ctx, nil) {
			if err != nil {
				return 0, err
			}
			total++
		}
	}
	return total, err
}

// totals returns what is known of the server's totals: whether they are believed.
func (c *Client) totals() (believed, known bool) {
	c.habits.learn(func(h *habits) {
		if known = h.totals != nil; known {
			believed = *h.totals
		}
	})
	return believed, known
}

// PageSize implements system.Sizer.
func (c *Client) PageSize(ctx context.Context) (int, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return 0, err
	}
	if most := d.config.Filter.MaxResults; most > 0 {
		return min(c.config.Page, most), nil
	}
	return c.config.Page, nil
}

// FindSize implements system.Sizer.
func (c *Client) FindSize() int {
	size := findSize
	c.habits.learn(func(h *habits) {
		for _, way := range h.ways {
			if way == single {
				size = 1
			}
		}
	})
	return size
}

// Get implements system.System.
func (c *Client) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	r, header, err := c.get(ctx, id)
	if err != nil {
		return account.Account{}, err
	}
	return c.known.account(r, fields, header), nil
}

func (c *Client) get(ctx context.Context, id string) (resource, http.Header, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, nil, err
	}
	r, got, err := c.one(ctx, d.endpoint, id, nil)
	if err != nil {
		return nil, nil, err
	}
	return r, got.header, nil
}

// one reads one resource. One with another identifier than was asked for is none.
func (c *Client) one(ctx context.Context, endpoint, id string, query url.Values) (resource, *answer, error) {
	at, err := segment(id)
	if err != nil {
		return nil, nil, err
	}
	r := request{method: http.MethodGet, path: endpoint + "/" + at, query: query, safe: true, names: true}
	got, err := c.read(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	found, err := decodeResource(got.body)
	if err == nil && found.text("id") != id {
		err = fmt.Errorf("it has the id “%s”", clip(found.text("id")))
	}
	if err != nil {
		return nil, nil, &system.Unavailable{Message: fmt.Sprintf("%s: what %s answered cannot be taken for what was asked for: %v", r, c.config.URL, err), Remedy: "Try again. If it stays so, show the system's keepers what --trace FILE writes."}
	}
	return found, got, nil
}

func decodeResource(body []byte) (resource, error) {
	var r resource
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	if err := decoder.Decode(&r); err != nil || r == nil || decoder.More() {
		return nil, errors.New("it is no JSON object")
	}
	return r, nil
}

// missing refuses fields that the system does not have: leaving them out without a
// word would be a change less than was drafted.
func (d *discovered) missing(fields ...string) error {
	for _, name := range fields {
		if _, _, ok := d.at(name); !ok {
			return &system.Refusal{Code: "unknown-field", Field: name, Message: "the system has no field " + name}
		}
	}
	return nil
}

// body is a new account as it is sent.
func (d *discovered) body(wanted account.Account) (resource, error) {
	body, schemas := resource{}, []string{core}
	for _, name := range wanted.FieldNames() {
		if !wanted.Fields[name].Filled() {
			continue
		}
		if err := d.missing(name); err != nil {
			return nil, err
		}
		p, a, _ := d.at(name)
		if p.schema != "" && !slices.Contains(schemas, p.schema) {
			schemas = append(schemas, p.schema)
		}
		body.set(p, encode(p, a, wanted.Fields[name].Text()))
	}
	if wanted.Password != "" {
		body["password"] = wanted.Password
	}
	body["schemas"] = schemas
	return body, nil
}

// Create implements system.System (RFC 7644 section 3.3). What the system answers is
// returned as it is: whether it is the account that was sent, the caller sees.
func (c *Client) Create(ctx context.Context, wanted account.Account, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	body, err := d.body(wanted)
	if err != nil {
		return account.Account{}, err
	}
	c.config.Mask.Add(wanted.Password)
	got, err := c.do(ctx, request{method: http.MethodPost, path: d.endpoint, body: body})
	if err != nil {
		return account.Account{}, err
	}
	r, err := decodeResource(got.body)
	if err == nil && r.text("id") != "" {
		return d.account(r, fields, got.header), nil
	}
	if id := lastSegment(got.header.Get("Location")); id != "" && len(got.body) == 0 {
		r, header, err := c.get(system.Stopping(ctx), id)
		if err != nil {
			return account.Account{}, &system.Unclear{Err: err}
		}
		return d.account(r, fields, header), nil
	}
	return account.Account{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to POST %s, but with no account that can be read", got.status, d.endpoint)}
}

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
	c.habits.learn(func(h *habits) {
		if h.noPatch == nil {
			h.noPatch = map[string]bool{}
		}
		h.noPatch[endpoint] = true
	})
	return true
}

// Change implements system.System with the least PATCH, or with a PUT of the
// whole account where the server has no PATCH.
func (c *Client) Change(ctx context.Context, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
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
		return c.replace(ctx, known, changes, fields)
	}
	operations, certain := c.operations(changes)
	if !certain {
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
	}
	got, err := c.patch(ctx, known, operations)
	if c.noPatch(d.endpoint, err) {
		return c.replace(ctx, known, changes, fields)
	}
	var refusal *system.Refusal
	if errors.As(err, &refusal) && c.wholly(operations, scimTypeOf(err)) {
		// It takes such a value only together with what it is part of.
		operations, certain = c.operations(changes)
		got, err = c.patch(ctx, known, operations)
	}
	if certain && errors.As(err, &refusal) && slices.ContainsFunc(operations, func(o operation) bool { return strings.Contains(o.Path, "[") }) {
		// The element is stored in another way than it looked: work on the list.
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
		got, err = c.patch(ctx, known, operations)
	}
	if err != nil {
		return account.Account{}, err
	}
	return c.changed(ctx, got, known, changes, fields)
}

// changed reads the account out of the answer to a change. An answer without a body
// (204) says that the change was made as it was sent. Where another does not show the
// account, it is looked at.
func (c *Client) changed(ctx context.Context, got *answer, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	if got.status == http.StatusNoContent {
		now := account.Account{ID: known.ID, Version: got.header.Get("ETag"), Fields: map[string]account.Value{}}
		maps.Copy(now.Fields, known.Fields)
		for _, change := range changes {
			now.Fields[change.Field] = change.After
		}
		return now, nil
	}
	if r, err := decodeResource(got.body); err == nil && r.text("id") == known.ID {
		return c.known.account(r, fields, got.header), nil
	}
	for _, change := range changes {
		if !slices.Contains(fields, change.Field) {
			fields = append(slices.Clone(fields), change.Field)
		}
	}
	now, err := c.Get(system.Stopping(ctx), known.ID, fields)
	if err == nil && len(system.NotKept(changes, now)) > 0 {
		err = errors.New("the account is as it was")
	}
	if err != nil {
		return account.Account{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to a change of %s/%s and did not show the account: %w", got.status, c.known.endpoint, known.ID, err)}
	}
	return now, nil
}

// send changes one resource. A server that wants to be told the version (428, RFC 6585
// section 3) gets that which is there now.
func (c *Client) send(ctx context.Context, r request, endpoint, id string) (*answer, error) {
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
	if r.version = versionOf(now, read.header); r.version == "" {
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

func (c *Client) patch(ctx context.Context, known account.Account, operations []operation) (*answer, error) {
	body := map[string]any{"schemas": []string{patchOp}, "Operations": operations}
	return c.send(ctx, request{method: http.MethodPatch, body: body, version: known.Version}, c.known.endpoint, known.ID)
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
func (c *Client) replace(ctx context.Context, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	r, header, err := c.get(ctx, known.ID)
	if err != nil {
		return account.Account{}, err
	}
	now := c.known.account(r, known.FieldNames(), header)
	if known.Version != "" && now.Version != known.Version {
		return account.Account{}, system.ErrChanged
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
	got, err := c.send(ctx, request{method: http.MethodPut, body: r, version: now.Version}, c.known.endpoint, known.ID)
	if err != nil {
		return account.Account{}, err
	}
	return c.changed(ctx, got, known, changes, fields)
}
