package scim

import (
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

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// tieSize is how many members one request adds or takes away. From manyThings on
// things are listed with their members rather than read one by one.
const (
	tieSize    = 200
	manyThings = 30
)

// A Kind says where the server keeps one kind of thing, as far as its resource
// types don't.
type Kind struct {
	Endpoint  string         // of the resources, such as /Courses; or
	Attribute string         // of the account that lists them, such as entitlements
	Role      string         // sub-attribute of a member for its role; empty: "role"
	Section   string         // likewise; empty: "section"
	Seats     map[string]int // name of a thing → how many may have it, if the server doesn't say
}

// keptAt is where one kind of thing is kept.
type keptAt struct {
	Kind
	schema string // URN of the resources
	about  account.ThingKind
	member attribute // definition of the resources' members
	names  []string  // of the things, if they are values of an attribute
}

// plural is the name of a kind of resource as the program writes it.
func plural(name string) string {
	name = strings.ToLower(name)
	if name == "license" {
		name = "licence"
	}
	return name + "s"
}

// keep notes where the kinds of things are kept: in resources of their own, or
// for licences and roles in what RFC 7643 section 4.1.2 has for them on the
// account. What the configuration says counts for more.
func (d *discovered) keep(types []resourceType, schemas []schemaResource, configured map[string]Kind) {
	if len(types) == 0 {
		types = []resourceType{{Name: "Group", Endpoint: "/Groups", Schema: groupSchema}}
	}
	for _, kind := range types {
		if strings.EqualFold(kind.Schema, core) || kind.Name == "" || kind.Endpoint == "" {
			continue
		}
		at := &keptAt{Kind: Kind{Endpoint: "/" + strings.Trim(kind.Endpoint, "/")}, schema: kind.Schema}
		for _, s := range schemas {
			for _, a := range s.Attributes {
				if strings.EqualFold(s.ID, kind.Schema) && strings.EqualFold(a.Name, "members") {
					at.member = a
				}
			}
		}
		d.kinds[plural(kind.Name)] = at
	}
	for name, attr := range map[string]string{"licences": "entitlements", "roles": "roles"} {
		if _, own := d.paths[attr]; own && d.kinds[name] == nil {
			d.kinds[name] = &keptAt{Kind: Kind{Attribute: attr}}
		}
	}
	for name, kind := range configured {
		at := d.kinds[name]
		if at == nil {
			at = &keptAt{}
			d.kinds[name] = at
		}
		if kind.Endpoint != "" && kind.Endpoint != at.Endpoint {
			// Another resource type: what it is like, its own entry says.
			*at = keptAt{Kind: Kind{Endpoint: kind.Endpoint}}
			for _, other := range d.kinds {
				if other != at && other.Endpoint == kind.Endpoint {
					*at = *other
				}
			}
		}
		if kind.Attribute != "" {
			*at = keptAt{Kind: Kind{Attribute: kind.Attribute}}
		}
		at.Role, at.Section, at.Seats = kind.Role, kind.Section, kind.Seats
	}
	for name, at := range d.kinds {
		at.about.Name = name
		if at.Attribute != "" {
			at.about.Field = at.Attribute
			if told, ok := d.schema.Attribute(at.Attribute); ok {
				at.names = told.Allowed
			}
			continue
		}
		has := func(sub string) bool {
			return slices.ContainsFunc(at.member.SubAttributes, func(a attribute) bool { return strings.EqualFold(a.Name, sub) })
		}
		if at.about.Roles = at.Role != "" || has("role"); at.Role == "" {
			at.Role = "role"
		}
		if at.about.Sections = at.Section != "" || has("section"); at.Section == "" {
			at.Section = "section"
		}
	}
}

// ThingKinds implements system.Keeper.
func (c *Client) ThingKinds(ctx context.Context) ([]account.ThingKind, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	var kinds []account.ThingKind
	for _, name := range slices.Sorted(maps.Keys(d.kinds)) {
		kinds = append(kinds, d.kinds[name].about)
	}
	return kinds, nil
}

// kind finds where a kind of thing is kept.
func (c *Client) kind(ctx context.Context, name string) (*discovered, *keptAt, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, nil, err
	}
	at := d.kinds[name]
	if at == nil {
		return nil, nil, &system.Refusal{Code: "unknown-thing", Message: "the system has no " + name}
	}
	return d, at, nil
}

// Things implements system.Keeper.
func (c *Client) Things(ctx context.Context, kind string, counted bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		_, at, err := c.kind(ctx, kind)
		if err != nil {
			yield(account.Thing{}, err)
			return
		}
		if at.Attribute != "" {
			c.values(ctx, at, counted, yield)
			return
		}
		query := url.Values{}
		if !counted {
			query.Set("excludedAttributes", "members")
		}
		for r, err := range c.resources(ctx, at.Endpoint, query) {
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			if !yield(at.thing(r, counted), nil) {
				return
			}
		}
	}
}

// values yields the things that are values of an attribute of accounts: those
// that the schema or the configuration names.
func (c *Client) values(ctx context.Context, at *keptAt, counted bool, yield func(account.Thing, error) bool) {
	names := slices.Concat(at.names, slices.Sorted(maps.Keys(at.Seats)))
	slices.Sort(names)
	names = slices.Compact(names)
	var members map[string]int
	if counted && len(names) > 0 {
		var err error
		if members, err = c.holders(ctx, at.Attribute, names); err != nil {
			yield(account.Thing{}, err)
			return
		}
	}
	for _, name := range names {
		t := account.Thing{ID: name, Name: name, Members: -1, Seats: -1}
		if seats, ok := at.Seats[name]; ok {
			t.Seats = seats
		}
		if counted {
			t.Members = members[name]
		}
		if !yield(t, nil) {
			return
		}
	}
}

// holders counts the accounts that have each of the values of an attribute: by
// filters that ask for the number alone, or by going through all accounts where the
// server takes no such filter.
func (c *Client) holders(ctx context.Context, attribute string, names []string) (map[string]int, error) {
	counts := map[string]int{}
	for _, name := range names {
		quoted, err := json.Marshal(name)
		if err != nil {
			return nil, err
		}
		list, err := c.page(ctx, c.known.endpoint, url.Values{"filter": {attribute + ".value eq " + string(quoted)}}, 1, 0)
		var refusal *system.Refusal
		var unavailable *system.Unavailable
		switch {
		case err == nil:
			counts[name] = list.TotalResults
			continue
		case !errors.As(err, &refusal) && !errors.As(err, &unavailable):
			return nil, err
		}
		clear(counts)
		for a, err := range c.accounts(ctx, "", []string{attribute}) {
			if err != nil {
				return nil, err
			}
			for _, item := range account.Items(a.Field(attribute).Text()) {
				counts[item]++
			}
		}
		return counts, nil
	}
	return counts, nil
}

func (at *keptAt) thing(r resource, counted bool) account.Thing {
	t := account.Thing{ID: r.text("id"), Members: -1, Seats: -1, Roles: texts(r.get("roles")), Sections: texts(r.get("sections"))}
	for _, name := range []string{"displayName", "name", "title", "value"} {
		if t.Name = r.text(name); t.Name != "" {
			break
		}
	}
	if members, ok := r.get("members").([]any); ok {
		t.Members = len(members)
	} else if counted && r.get("members") == nil {
		t.Members = 0 // a server leaves an empty list out
	}
	if seats, ok := at.Seats[t.Name]; ok {
		t.Seats = seats
	} else if number, ok := r.get("seats").(json.Number); ok {
		if n, err := number.Int64(); err == nil && n >= 0 {
			t.Seats = int(n)
		}
	}
	open, told := r.get("open").(bool)
	t.Closed = told && !open
	t.Elevated, _ = r.get("elevated").(bool)
	return t
}

func texts(value any) []string {
	list, _ := value.([]any)
	var all []string
	for _, item := range list {
		if text, ok := item.(string); ok {
			all = append(all, text)
		}
	}
	return all
}

// Members implements system.Registrar.
func (c *Client) Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		d, at, err := c.kind(ctx, kind)
		if err != nil {
			yield(account.Membership{}, err)
			return
		}
		if at.Attribute != "" {
			for a, err := range c.accounts(ctx, "", []string{at.Attribute}) {
				if err != nil {
					yield(account.Membership{}, err)
					return
				}
				for _, name := range account.Items(a.Field(at.Attribute).Text()) {
					if !yield(account.Membership{Kind: kind, Thing: name, Account: a.ID}, nil) {
						return
					}
				}
			}
			return
		}
		for r, err := range c.withMembers(ctx, d, at, things) {
			if err != nil {
				yield(account.Membership{}, err)
				return
			}
			members, _ := r.get("members").([]any)
			for _, item := range members {
				element, ok := item.(map[string]any)
				if !ok {
					continue
				}
				m := resource(element)
				if !yield(account.Membership{Kind: kind, Thing: r.text("id"), Account: m.text("value"), Role: m.text(at.Role), Section: m.text(at.Section)}, nil) {
					return
				}
			}
		}
	}
}

// withMembers yields the things with their members: few by reading each, many by
// listing all of the kind. One that is gone is passed over.
func (c *Client) withMembers(ctx context.Context, d *discovered, at *keptAt, things []string) iter.Seq2[resource, error] {
	if things == nil || len(things) >= manyThings {
		return c.resources(ctx, at.Endpoint, url.Values{})
	}
	return func(yield func(resource, error) bool) {
		for _, id := range things {
			got, err := c.do(ctx, request{method: http.MethodGet, path: at.Endpoint + "/" + url.PathEscape(id), safe: true})
			if errors.Is(err, system.ErrGone) {
				continue
			}
			var r resource
			if err == nil {
				r, err = c.resource(got)
			}
			if !yield(r, err) || err != nil {
				return
			}
		}
	}
}

// TieSize implements system.Registrar.
func (c *Client) TieSize() int { return tieSize }

// Tie implements system.Registrar, with one PATCH of the thing, or a PUT of all
// of it where the server has no PATCH.
func (c *Client) Tie(ctx context.Context, kind, thing string, ties []system.Tie) error {
	d, at, err := c.kind(ctx, kind)
	if err != nil {
		return err
	}
	target := at.Endpoint + "/" + url.PathEscape(thing)
	if !d.config.Patch.Supported {
		return c.putMembers(ctx, at, target, ties)
	}
	var operations []operation
	var joins []any
	for _, tie := range ties {
		if tie.Leave || tie.Was {
			quoted, err := json.Marshal(tie.Account)
			if err != nil {
				return err
			}
			operations = append(operations, operation{Op: "remove", Path: "members[value eq " + string(quoted) + "]"})
		}
		if !tie.Leave {
			joins = append(joins, at.element(tie))
		}
	}
	if len(joins) > 0 {
		operations = append(operations, operation{Op: "add", Path: "members", Value: joins})
	}
	// A large group need not come back for each change of it.
	_, err = c.do(ctx, request{method: http.MethodPatch, path: target, query: url.Values{"attributes": {"id"}}, body: map[string]any{"schemas": []string{patchOp}, "Operations": operations}})
	return err
}

func (at *keptAt) element(tie system.Tie) map[string]any {
	element := map[string]any{"value": tie.Account}
	if tie.Role != "" {
		element[at.Role] = tie.Role
	}
	if tie.Section != "" {
		element[at.Section] = tie.Section
	}
	return element
}

func (c *Client) putMembers(ctx context.Context, at *keptAt, target string, ties []system.Tie) error {
	got, err := c.do(ctx, request{method: http.MethodGet, path: target, safe: true})
	if err != nil {
		return err
	}
	r, err := c.resource(got)
	if err != nil {
		return err
	}
	members, _ := r.get("members").([]any)
	for _, tie := range ties {
		members = slices.DeleteFunc(members, func(item any) bool {
			element, ok := item.(map[string]any)
			return ok && resource(element).text("value") == tie.Account
		})
		if !tie.Leave {
			members = append(members, at.element(tie))
		}
	}
	r[r.key("members")] = members
	version := got.header.Get("ETag")
	delete(r, "meta")
	_, err = c.do(ctx, request{method: http.MethodPut, path: target, body: r, version: version})
	return err
}

// MakeThing implements system.Registrar.
func (c *Client) MakeThing(ctx context.Context, kind, name string) (account.Thing, error) {
	_, at, err := c.kind(ctx, kind)
	if err != nil {
		return account.Thing{}, err
	}
	if at.Attribute != "" {
		return account.Thing{ID: name, Name: name, Members: -1, Seats: -1}, nil
	}
	got, err := c.do(ctx, request{method: http.MethodPost, path: at.Endpoint, body: map[string]any{"schemas": []string{at.schema}, "displayName": name}})
	if err != nil {
		return account.Thing{}, err
	}
	r, err := c.resource(got)
	if err != nil || r.text("id") == "" {
		return account.Thing{}, &system.Unclear{Err: fmt.Errorf("the system answered that it made %s, but not which", name)}
	}
	return at.thing(r, false), nil
}

// RemoveThing implements system.Unmaker (RFC 7644 section 3.6).
func (c *Client) RemoveThing(ctx context.Context, kind, thing string) error {
	_, at, err := c.kind(ctx, kind)
	if err != nil || at.Attribute != "" { // a value of accounts is gone with the last of them
		return err
	}
	_, err = c.do(ctx, request{method: http.MethodDelete, path: at.Endpoint + "/" + url.PathEscape(thing)})
	return err
}

// Remove implements system.Remover (RFC 7644 section 3.6).
func (c *Client) Remove(ctx context.Context, known account.Account) error {
	d, err := c.discover(ctx)
	if err != nil {
		return err
	}
	_, err = c.do(ctx, request{method: http.MethodDelete, path: d.endpoint + "/" + url.PathEscape(known.ID), version: known.Version})
	return err
}
