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
	"strconv"
	"strings"

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
	}
	if a.Version == "" && header != nil {
		a.Version = header.Get("ETag")
	}
	for _, name := range fields {
		if p, of, ok := d.at(name); ok {
			if v := decode(of, r.value(p)); v.Present() {
				a.Fields[name] = v
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

type listResponse struct {
	TotalResults int        `json:"totalResults"`
	Resources    []resource `json:"Resources"`
}

func (c *Client) page(ctx context.Context, endpoint string, query url.Values, start, count int) (*listResponse, error) {
	query.Set("startIndex", strconv.Itoa(start))
	query.Set("count", strconv.Itoa(count))
	got, err := c.do(ctx, request{method: http.MethodGet, path: endpoint, query: query, safe: true})
	if err != nil {
		return nil, err
	}
	var list listResponse
	decoder := json.NewDecoder(bytes.NewReader(got.body))
	decoder.UseNumber()
	if err := decoder.Decode(&list); err != nil {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s%s answered a list that cannot be read: %v", c.config.URL, endpoint, err)}
	}
	return &list, nil
}

// resources yields what an endpoint lists, page by page. Servers differ in what
// they do past the end and how many they give, so it goes on until the total is
// reached or nothing new comes, and takes less than the total as an error.
func (c *Client) resources(ctx context.Context, endpoint string, query url.Values) iter.Seq2[resource, error] {
	return func(yield func(resource, error) bool) {
		seen := map[string]bool{}
		for start := 1; ; {
			list, err := c.page(ctx, endpoint, query, start, c.config.Page)
			if err != nil {
				yield(nil, err)
				return
			}
			fresh := 0
			for _, r := range list.Resources {
				id := r.text("id")
				if id == "" || seen[id] {
					continue
				}
				seen[id] = true
				fresh++
				if !yield(r, nil) {
					return
				}
			}
			start += len(list.Resources)
			if len(seen) >= list.TotalResults {
				return
			}
			if fresh == 0 {
				yield(nil, &system.Unavailable{
					Message: fmt.Sprintf("%s%s says it has %d to list but gave only %d", c.config.URL, endpoint, list.TotalResults, len(seen)),
					Remedy:  "They may have changed while they were listed: try again. If it stays so, ask who runs the system whether all may be listed."})
				return
			}
		}
	}
}

// accounts yields the accounts that a filter, or no filter, finds.
func (c *Client) accounts(ctx context.Context, filter string, fields []string) iter.Seq2[account.Account, error] {
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
		for r, err := range c.resources(ctx, d.endpoint, query) {
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
	return c.accounts(ctx, "", fields)
}

// Find implements system.System with the filter "field eq value or …".
func (c *Client) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.discover(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		p, known := d.paths[field]
		if field == system.ByID {
			p, known = path{attr: "id"}, true
		}
		if !known || !d.config.Filter.Supported {
			yield(account.Account{}, system.ErrCannotFind)
			return
		}
		for _, filter := range filters(p, values) {
			for a, err := range c.accounts(ctx, filter, fields) {
				var refusal *system.Refusal
				if errors.As(err, &refusal) {
					err = system.ErrCannotFind // some servers refuse escaped quotes, or the field
				}
				if !yield(a, err) || err != nil {
					return
				}
			}
		}
	}
}

// filters writes as few filters as the length of an address allows. A value is
// escaped as JSON, which is what the grammar of RFC 7644 section 3.4.2.2 wants.
func filters(p path, values []string) []string {
	var out []string
	var now strings.Builder
	length := 0
	for _, value := range values {
		quoted, err := json.Marshal(value)
		if err != nil {
			continue // not text, so no account has it
		}
		term := p.filter() + " eq " + string(quoted)
		escaped := len(url.QueryEscape(term)) + len(" or ")
		if now.Len() > 0 && length+escaped > maxFilter {
			out = append(out, now.String())
			now.Reset()
			length = 0
		}
		if now.Len() > 0 {
			now.WriteString(" or ")
		}
		now.WriteString(term)
		length += escaped
	}
	if now.Len() > 0 {
		out = append(out, now.String())
	}
	return out
}

// Count implements system.Sizer.
func (c *Client) Count(ctx context.Context) (int, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return 0, err
	}
	list, err := c.page(ctx, d.endpoint, url.Values{}, 1, 0)
	if err != nil {
		return 0, err
	}
	return list.TotalResults, nil
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
func (c *Client) FindSize() int { return findSize }

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
	got, err := c.do(ctx, request{method: http.MethodGet, path: d.endpoint + "/" + url.PathEscape(id), safe: true})
	if err != nil {
		return nil, nil, err
	}
	r, err := c.resource(got)
	return r, got.header, err
}

func (c *Client) resource(got *answer) (resource, error) {
	var r resource
	decoder := json.NewDecoder(bytes.NewReader(got.body))
	decoder.UseNumber()
	if err := decoder.Decode(&r); err != nil || r == nil {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s answered an account that cannot be read", c.config.URL), Err: err}
	}
	return r, nil
}

// body is a new account as it is sent.
func (d *discovered) body(wanted account.Account) resource {
	body, schemas := resource{}, []string{core}
	for _, name := range wanted.FieldNames() {
		p, a, ok := d.at(name)
		if !ok || !wanted.Fields[name].Filled() {
			continue
		}
		if p.schema != "" && !slices.Contains(schemas, p.schema) {
			schemas = append(schemas, p.schema)
		}
		body.set(p, encode(p, a, wanted.Fields[name].Text()))
	}
	if wanted.Password != "" {
		body["password"] = wanted.Password
	}
	body["schemas"] = schemas
	return body
}

// Create implements system.System (RFC 7644 section 3.3).
func (c *Client) Create(ctx context.Context, wanted account.Account, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	got, err := c.do(ctx, request{method: http.MethodPost, path: d.endpoint, body: d.body(wanted)})
	if err != nil {
		return account.Account{}, err
	}
	r, err := c.resource(got)
	if err != nil || r.text("id") == "" {
		return account.Account{}, &system.Unclear{Err: errors.New("the system answered that it made the account, but not which")}
	}
	return d.account(r, fields, got.header), nil
}

// operation is one operation of a PATCH (RFC 7644 section 3.5.2).
type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

const patchOp = "urn:ietf:params:scim:api:messages:2.0:PatchOp"

// Change implements system.System with the least PATCH, or with a PUT of the
// whole account where the server has no PATCH.
func (c *Client) Change(ctx context.Context, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	if !d.config.Patch.Supported {
		return c.replace(ctx, known, changes, fields)
	}
	operations, certain := d.operations(changes)
	if !certain {
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
	}
	got, err := c.patch(ctx, known, operations)
	var refusal *system.Refusal
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
	return c.changed(got, known, changes, fields), nil
}

// changed reads the account out of the answer to a change. An answer without one
// says that the change was made as it was sent.
func (c *Client) changed(got *answer, known account.Account, changes []account.Change, fields []string) account.Account {
	if len(got.body) > 0 {
		if r, err := c.resource(got); err == nil && r.text("id") != "" {
			return c.known.account(r, fields, got.header)
		}
	}
	now := account.Account{ID: known.ID, Version: got.header.Get("ETag"), Fields: map[string]account.Value{}}
	maps.Copy(now.Fields, known.Fields)
	for _, change := range changes {
		now.Fields[change.Field] = change.After
	}
	return now
}

func (c *Client) patch(ctx context.Context, known account.Account, operations []operation) (*answer, error) {
	body := map[string]any{"schemas": []string{patchOp}, "Operations": operations}
	return c.do(ctx, request{method: http.MethodPatch, path: c.known.endpoint + "/" + url.PathEscape(known.ID), body: body, version: known.Version})
}

// operations writes the changes as operations. It is not certain of them when an
// element of a list would have to be there, or not, for them to be right.
func (d *discovered) operations(changes []account.Change) (operations []operation, certain bool) {
	certain = true
	for _, change := range changes {
		p, a, _ := d.at(change.Field)
		if p.kind != "" && !change.Before.Filled() {
			certain = false
		}
		if p.parts != "" {
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
		operations = append(operations, operation{Op: "replace", Path: p.String(), Value: encode(p, a, change.After.Text())})
	}
	return operations, certain
}

// elementwise writes the change of a list of values with parts: what else stands in
// the other values is left alone.
func elementwise(p path, change account.Change) (operations []operation) {
	before, after := account.Items(change.Before.Text()), account.Items(change.After.Text())
	for _, item := range before {
		if slices.Contains(after, item) {
			continue
		}
		var terms []string
		for part, value := range element(p.parts, item) {
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
			added = append(added, element(p.parts, item))
		}
	}
	if len(added) > 0 {
		operations = append(operations, operation{Op: "add", Path: p.top(), Value: added})
	}
	return operations
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
	lists := map[string]bool{}
	for _, change := range changes {
		p, _, _ := c.known.at(change.Field)
		if p.kind == "" {
			simple = append(simple, change)
			continue
		}
		r.set(p, c.encoded(change))
		lists[p.attr] = true
	}
	operations, _ := c.known.operations(simple)
	for _, attr := range slices.Sorted(maps.Keys(lists)) {
		o := operation{Op: "replace", Path: attr, Value: r.get(attr)}
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
		r.set(p, c.encoded(change))
		if p.schema != "" {
			schemas, _ := r.get("schemas").([]any)
			if !slices.Contains(schemas, any(p.schema)) {
				r["schemas"] = append(schemas, p.schema)
			}
		}
	}
	delete(r, "meta")
	got, err := c.do(ctx, request{method: http.MethodPut, path: c.known.endpoint + "/" + url.PathEscape(known.ID), body: r, version: now.Version})
	if err != nil {
		return account.Account{}, err
	}
	return c.changed(got, known, changes, fields), nil
}
