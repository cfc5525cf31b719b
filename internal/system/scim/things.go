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

// Kept says where the server keeps one kind of thing, as far as its resource
// types don't.
type Kept struct {
	Endpoint  string         // of the resources, such as /Courses; or
	Attribute string         // of the account that lists them, such as entitlements
	Members   string         // attribute of the resources that lists who is in them; empty: "members"
	Role      string         // sub-attribute of a member for its role; empty: "role"
	Section   string         // likewise; empty: "section"
	Seats     map[string]int // name of a thing → how many may have it, if the server doesn't say
}

// keptAt is where one kind of thing is kept.
type keptAt struct {
	Kept
	schema string // URN of the resources
	about  account.ThingKind
	told   bool        // the server tells the resources' schema
	attrs  []attribute // of the resources, as far as it does
	member attribute   // definition of the resources' members
	names  []string    // of the things, if they are values of an attribute
}

// A showing is where a server shows who is in a thing.
type showing uint8

const (
	unseen showing = iota // nobody was seen in any
	inLists
	inEach // only where it is read by itself
)

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
func (d *discovered) keep(types []resourceType, schemas []schemaResource, configured map[string]Kept) {
	if len(types) == 0 {
		types = []resourceType{{Name: "Group", Endpoint: "/Groups", Schema: groupSchema}}
	}
	for _, kind := range types {
		if strings.EqualFold(kind.Schema, core) || kind.Name == "" || kind.Endpoint == "" {
			continue
		}
		at := &keptAt{Kept: Kept{Endpoint: "/" + strings.Trim(kind.Endpoint, "/")}, schema: kind.Schema}
		for _, s := range schemas {
			if strings.EqualFold(s.ID, kind.Schema) {
				at.told, at.attrs = true, s.Attributes
			}
		}
		d.kinds[plural(kind.Name)] = at
	}
	for name, attr := range map[string]string{"licences": "entitlements", "roles": "roles"} {
		if _, own := d.paths[attr]; own && d.kinds[name] == nil {
			d.kinds[name] = &keptAt{Kept: Kept{Attribute: attr}}
		}
	}
	for name, kind := range configured {
		d.configure(name, kind)
	}
	for name, at := range d.kinds {
		at.about.Name = name
		if at.Attribute == "" {
			at.findMembers(name)
			at.findRoles()
			continue
		}
		at.about.Field = at.Attribute
		if told, ok := d.schema.Attribute(at.Attribute); ok {
			at.names = told.Allowed
		}
	}
}

// configure has a kind of things kept as the configuration says.
func (d *discovered) configure(name string, kind Kept) {
	at := d.kinds[name]
	if at == nil {
		at = &keptAt{}
		d.kinds[name] = at
	}
	if kind.Endpoint != "" && kind.Endpoint != at.Endpoint {
		// Another resource type: what it is like, its own entry says.
		*at = keptAt{Kept: Kept{Endpoint: kind.Endpoint}}
		for _, other := range d.kinds {
			if other != at && other.Endpoint == kind.Endpoint {
				*at = *other
			}
		}
	}
	if kind.Attribute != "" {
		*at = keptAt{Kept: Kept{Attribute: kind.Attribute}}
	}
	at.Members, at.Role, at.Section, at.Seats = kind.Members, kind.Role, kind.Section, kind.Seats
}

// findRoles finds out whether a member has a role or a section, and where.
func (at *keptAt) findRoles() {
	has := func(sub string) bool {
		return slices.ContainsFunc(at.member.SubAttributes, func(a attribute) bool { return strings.EqualFold(a.Name, sub) })
	}
	if at.about.Roles = at.Role != "" || has("role"); at.Role == "" {
		at.Role = "role"
	}
	if at.about.Sections = at.Section != "" || has("section"); at.Section == "" {
		at.Section = "section"
	}
	at.about.Divides = at.about.Sections && slices.ContainsFunc(at.attrs, func(a attribute) bool {
		return strings.EqualFold(a.Name, "sections") && a.MultiValued && a.Mutability != "readOnly" && len(a.SubAttributes) == 0
	})
}

// findMembers finds the attribute that lists who is in a thing. Where the server tells
// what its resources have and none is called so, nobody can say who is in one until the
// configuration does.
func (at *keptAt) findMembers(kind string) {
	named := at.Members != ""
	if !named {
		at.Members = "members"
	}
	var others []string
	for _, a := range at.attrs {
		if strings.EqualFold(a.Name, at.Members) {
			at.member = a
			return
		}
		if a.MultiValued && slices.ContainsFunc(a.SubAttributes, func(sub attribute) bool { return strings.EqualFold(sub.Name, "value") }) {
			others = append(others, a.Name)
		}
	}
	if !at.told || named {
		return
	}
	at.about.Blind = fmt.Sprintf("nothing that is called members is in the system's %s", kind)
	if len(others) > 0 {
		at.about.Blind += "; there is " + strings.Join(others, ", ")
	}
}

// blind is the error of a kind of which nobody can say who is in it.
func (at *keptAt) blind() error {
	why := at.about.Blind
	if why == "" {
		why = fmt.Sprintf("the system shows nothing called %s in any of its %s", at.Members, at.about.Name)
	}
	return system.Blind(at.about.Name, why)
}

// kind finds where a kind of thing is kept.
func (c *Client) kind(ctx context.Context, name string) (*discovered, *keptAt, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, nil, err
	}
	at := d.kinds[name]
	if at == nil {
		return nil, nil, &system.Refusal{Code: account.UnknownThing, Message: "the system has no " + name}
	}
	return d, at, nil
}

// Things implements system.System.
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
		if counted && at.about.Blind == "" {
			for r, err := range c.withMembers(ctx, at, nil) {
				if !yield(at.thing(r, true), err) || err != nil {
					return
				}
			}
			return
		}
		for r, err := range c.resources(ctx, at.Endpoint, url.Values{"excludedAttributes": {at.Members}}, 0) {
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			if !yield(at.thing(r, false), nil) {
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
// filters that ask for the number alone where they are known to find and the numbers to
// be right, else by going through all accounts.
func (c *Client) holders(ctx context.Context, attribute string, names []string) (map[string]int, error) {
	counts := map[string]int{}
	sure, err := c.countsBy(ctx, attribute)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if !sure {
			break
		}
		if counts[name], err = c.countOf(ctx, attribute, name); err != nil {
			if !refusedToFind(err) {
				return nil, err
			}
			sure = false
		}
	}
	if sure {
		return counts, nil
	}
	clear(counts)
	for a, err := range c.accounts(ctx, "", []string{attribute}, 0) {
		if err != nil {
			return nil, err
		}
		for _, item := range account.Items(a.Field(attribute).Text()) {
			counts[item]++
		}
	}
	return counts, nil
}

// countsBy reports whether a filter by the attribute's values finds an account that is
// known to have one.
func (c *Client) countsBy(ctx context.Context, attribute string) (bool, error) {
	believed, err := c.believesTotals(ctx)
	if err != nil || !believed || !c.known.config.Filter.Supported {
		return false, err
	}
	sample, _, err := c.samples(ctx, false)
	if err != nil {
		return false, err
	}
	for _, r := range sample {
		value := r.first(path{attr: attribute})
		if value == "" || strings.ContainsAny(value, `"\`) {
			continue
		}
		n, err := c.countOf(ctx, attribute, value)
		if err != nil && refusedToFind(err) {
			return false, nil
		}
		none, zeroErr := c.countOf(ctx, attribute, value+"-of-nobody")
		return err == nil && n > 0 && zeroErr == nil && none == 0, err
	}
	return false, nil
}

func (c *Client) countOf(ctx context.Context, attribute, value string) (int, error) {
	quoted, err := json.Marshal(value)
	if err != nil {
		return 0, err
	}
	l, err := c.page(ctx, c.known.endpoint, url.Values{"filter": {attribute + ".value eq " + string(quoted)}}, 1, 1, 2, func(resource) error { return nil })
	if err != nil || l.total == nil {
		return 0, err
	}
	return *l.total, nil
}

func (at *keptAt) thing(r resource, counted bool) account.Thing {
	t := account.Thing{ID: r.text("id"), Members: -1, Seats: -1, Roles: texts(r.get("roles")), Sections: texts(r.get("sections"))}
	for _, name := range []string{"displayName", "name", "title", "value"} {
		if t.Name = r.text(name); t.Name != "" {
			break
		}
	}
	if members, ok := r.get(at.Members).([]any); ok {
		t.Members = len(members)
	} else if counted {
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

// AddSection implements system.Divider. It is there when the thing shows it.
func (c *Client) AddSection(ctx context.Context, may system.Permit, kind, thing, section string) error {
	_, at, err := c.kind(ctx, kind)
	if err != nil {
		return err
	}
	sections := func() ([]string, error) {
		r, _, err := c.one(ctx, at.Endpoint, thing, nil)
		return at.thing(r, false).Sections, err
	}
	before, err := sections()
	if err != nil || slices.Contains(before, section) {
		return err
	}
	body := map[string]any{"schemas": []string{patchOp}, "Operations": []operation{{Op: "add", Path: "sections", Value: []string{section}}}}
	if _, err := c.send(ctx, request{method: http.MethodPatch, may: may, body: body}, at.Endpoint, thing); err != nil {
		return err
	}
	now, err := sections()
	if err != nil {
		return &system.Unclear{Err: err}
	}
	lost := slices.DeleteFunc(before, func(s string) bool { return slices.Contains(now, s) })
	switch {
	case len(lost) > 0: // it took what was to be added for all that there is
		return &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the system put the section “%s” in the place of others, and no longer shows %s: have them added again there", section, strings.Join(lost, ", "))}
	case !slices.Contains(now, section):
		return &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the system answered that it added the section “%s”, and does not show it", section)}
	}
	return nil
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

// MakeThing implements system.System.
func (c *Client) MakeThing(ctx context.Context, may system.Permit, kind, name string, _ []system.Tie) (account.Thing, error) {
	_, at, err := c.kind(ctx, kind)
	if err != nil {
		return account.Thing{}, err
	}
	if at.Attribute != "" {
		return account.Thing{ID: name, Name: name, Members: -1, Seats: -1}, nil
	}
	got, err := c.do(ctx, request{method: http.MethodPost, may: may, path: at.Endpoint, body: map[string]any{"schemas": []string{at.schema}, "displayName": name}})
	if err != nil {
		return account.Thing{}, err
	}
	r, err := decodeResource(got.Body)
	if made := at.thing(r, false); err == nil && made.ID != "" && (made.Name == name || made.Name == "") {
		made.Name = name
		return made, nil
	}
	return account.Thing{}, &system.Unclear{Err: fmt.Errorf("the system answered %d to POST %s, and does not show “%s”", got.Status, at.Endpoint, name)}
}

// RemoveThing implements system.System (RFC 7644 section 3.6).
func (c *Client) RemoveThing(ctx context.Context, may system.Permit, kind, thing string) error {
	_, at, err := c.kind(ctx, kind)
	if err != nil || at.Attribute != "" { // a value of accounts is gone with the last of them
		return err
	}
	return c.delete(ctx, may, at.Endpoint, thing, "")
}

// remove removes an account (RFC 7644 section 3.6).
func (c *Client) remove(ctx context.Context, may system.Permit, known account.Account) error {
	d, err := c.discover(ctx)
	if err != nil {
		return err
	}
	return c.delete(ctx, may, d.endpoint, known.ID, known.Version)
}

// delete removes a resource. Where the answer has something in it, it is looked whether it
// is gone.
func (c *Client) delete(ctx context.Context, may system.Permit, endpoint, id, version string) error {
	got, err := c.send(ctx, request{method: http.MethodDelete, may: may, version: version}, endpoint, id)
	if err != nil || len(got.Body) == 0 {
		return err
	}
	if _, _, err = c.one(ctx, endpoint, id, nil); errors.Is(err, system.ErrGone) {
		return nil
	}
	return &system.Unclear{Err: fmt.Errorf("the system answered %d to DELETE %s/%s, and it does not show whether it is gone", got.Status, endpoint, id)}
}
