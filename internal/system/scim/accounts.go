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
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

// Describe implements system.System.
func (c *Client) Describe(ctx context.Context) (*system.Description, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	about := &system.Description{Schema: d.schema, Kinds: make([]account.ThingKind, 0, len(d.kinds)), Can: system.Abilities{
		Finds: c.findSize(), Page: c.config.Page, Counts: true, Versions: d.config.ETag.Supported,
		Rate: c.config.Rate, Bulk: d.config.Bulk.Supported, Removes: true, Renews: d.renews, Ties: tieSize, Makes: true, Unmakes: true,
	}}
	if most := d.config.Filter.MaxResults; most > 0 {
		about.Can.Page = min(about.Can.Page, most)
	}
	if d.config.Bulk.Supported {
		about.Can.AtOnce, about.Can.Together = min(d.config.Bulk.MaxOperations, mostAtOnce), c.bulks()
	}
	for _, name := range slices.Sorted(maps.Keys(d.kinds)) {
		kind := d.kinds[name].about
		kind.Seated = len(d.kinds[name].Seats) > 0
		about.Kinds = append(about.Kinds, kind)
	}
	return about, nil
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

// Count implements system.System.
func (c *Client) Count(ctx context.Context) (int, error) {
	_, total, err := c.samples(ctx, true)
	if err != nil && refusedToFind(err) {
		return 0, fmt.Errorf("the accounts cannot be counted, as they may not be listed: %w", errors.Join(system.ErrCannotFind, err))
	}
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

// findSize returns how many values one filter looks for, by what was learned so far.
func (c *Client) findSize() int {
	size := mostFound
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
	return r, got.Header, nil
}

// one reads one resource. One with another identifier than was asked for is none.
func (c *Client) one(ctx context.Context, endpoint, id string, query url.Values) (resource, *httpdial.Answer, error) {
	at, err := segment(id)
	if err != nil {
		return nil, nil, err
	}
	r := request{method: http.MethodGet, path: endpoint + "/" + at, query: query, safe: true, names: true}
	got, err := c.read(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	found, err := decodeResource(got.Body)
	if err == nil && found.text("id") != id {
		err = fmt.Errorf("it has the id “%s”", httpdial.Clip(found.text("id")))
	}
	if err != nil {
		return nil, nil, &system.Unavailable{Message: fmt.Sprintf("%s: what %s answered cannot be taken for what was asked for: %v", r, c.config.URL, err), Remedy: "Try again. If it stays so, show the system's keepers what --trace FILE writes."}
	}
	return found, got, nil
}

func decodeResource(body []byte) (resource, error) {
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	r, err := nextResource(decoder)
	if err != nil || decoder.More() {
		return nil, errors.New("it is no JSON object")
	}
	return r, nil
}

// nextResource reads one resource. It is read as any value would be, which the decoder
// does faster than a map of a type of ours.
func nextResource(decoder *json.Decoder) (resource, error) {
	var value any
	if err := decoder.Decode(&value); err != nil {
		return nil, err
	}
	object, ok := value.(map[string]any)
	if !ok {
		return nil, errors.New("it is no JSON object")
	}
	return object, nil
}

// missing refuses fields that the system does not have: leaving them out without a
// word would be a change less than was drafted.
func (d *discovered) missing(fields ...string) error {
	for _, name := range fields {
		if _, _, ok := d.at(name); !ok {
			return &system.Refusal{Code: account.UnknownField, Field: name, Message: "the system has no field " + name}
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
		p, a, ok := d.at(name)
		if !ok {
			return nil, d.missing(name)
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
	return body, nil
}

// create makes one account (RFC 7644 section 3.3). What the system answers is
// returned as it is: whether it is the account that was sent, the caller sees.
func (c *Client) create(ctx context.Context, may system.Permit, wanted account.Account, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	body, err := d.body(wanted)
	if err != nil {
		return account.Account{}, err
	}
	c.config.Mask.Add(wanted.Password)
	got, err := c.do(ctx, request{method: http.MethodPost, may: may, path: d.endpoint, body: body})
	if err != nil {
		return account.Account{}, err
	}
	r, err := decodeResource(got.Body)
	if err == nil && r.text("id") != "" {
		return d.account(r, fields, got.Header), nil
	}
	if id := lastSegment(got.Header.Get("Location")); id != "" && len(got.Body) == 0 {
		r, header, err := c.get(ctx, id)
		if err != nil {
			return account.Account{}, &system.Unclear{Err: err}
		}
		return d.account(r, fields, header), nil
	}
	return account.Account{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to POST %s, but with no account that can be read", got.Status, d.endpoint)}
}
