package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// attribute is an attribute's definition (RFC 7643 section 7).
type attribute struct {
	Name            string      `json:"name"`
	Type            string      `json:"type"`
	MultiValued     bool        `json:"multiValued"`
	Description     string      `json:"description"`
	Required        bool        `json:"required"`
	CanonicalValues []any       `json:"canonicalValues"`
	CaseExact       bool        `json:"caseExact"`
	Mutability      string      `json:"mutability"`
	Uniqueness      string      `json:"uniqueness"`
	Returned        string      `json:"returned"`
	SubAttributes   []attribute `json:"subAttributes"`
}

type schemaResource struct {
	ID         string      `json:"id"`
	Attributes []attribute `json:"attributes"`
}

type resourceType struct {
	Name             string `json:"name"`
	Endpoint         string `json:"endpoint"`
	Schema           string `json:"schema"`
	SchemaExtensions []struct {
		Schema   string `json:"schema"`
		Required bool   `json:"required"`
	} `json:"schemaExtensions"`
}

type supported struct {
	Supported bool `json:"supported"`
}

type providerConfig struct {
	Patch supported `json:"patch"`
	ETag  supported `json:"etag"`
	Bulk  struct {
		supported
		MaxOperations  int `json:"maxOperations"`
		MaxPayloadSize int `json:"maxPayloadSize"` // bytes
	} `json:"bulk"`
	Filter struct {
		supported
		MaxResults int `json:"maxResults"`
	} `json:"filter"`
}

// discovered is what the server's discovery endpoints say (RFC 7644 section 4).
type discovered struct {
	config   providerConfig
	kinds    map[string]*keptAt   // of things besides accounts
	endpoint string               // of users, such as /Users
	schema   *account.Schema      // attributes by our names
	types    map[string]attribute // by our names: how values are written
	paths    map[string]path      // by our names
	lists    map[string]path      // attributes that hold several values with parts
	renews   bool                 // accounts have passwords that can be written
	skew     *atomic.Int64        // as in Client
}

// at finds where a field stands, and how its values are written.
func (d *discovered) at(name string) (p path, a attribute, ok bool) {
	base, parts := account.PartsOf(name)
	if parts == nil {
		p, ok = d.paths[name]
		return p, d.types[name], ok
	}
	base = d.schema.Full(base)
	p, ok = d.lists[base]
	p.parts = strings.Join(parts, ",")
	return p, attribute{Name: p.attr, Type: "complex", MultiValued: true}, ok
}

// discover asks the server once what it is like. What it doesn't answer is
// assumed as the RFCs have it.
func (c *Client) discover(ctx context.Context) (*discovered, error) {
	c.discovering.Lock()
	defer c.discovering.Unlock()
	if c.known != nil {
		return c.known, nil
	}
	d := &discovered{endpoint: "/Users", kinds: map[string]*keptAt{}, types: map[string]attribute{}, paths: map[string]path{}, lists: map[string]path{}, skew: &c.skew}
	d.config.Patch.Supported, d.config.Filter.Supported = true, true
	var kinds struct{ Resources []resourceType }
	var schemas struct{ Resources []schemaResource }
	answers := 0
	for _, q := range []struct {
		endpoint string
		into     any
	}{{"/ServiceProviderConfig", &d.config}, {"/ResourceTypes", &kinds}, {"/Schemas", &schemas}} {
		err := c.ask(ctx, q.endpoint, q.into)
		switch {
		case err == nil:
			answers++
			continue
		case statusOf(err) == 0, statusOf(err) == http.StatusUnauthorized, passes(statusOf(err)):
			return nil, err
		}
		if q.into == &d.config { // what was read before it broke off counts for nothing
			d.config = providerConfig{}
			d.config.Patch.Supported, d.config.Filter.Supported = true, true
		}
	}
	if answers == 0 {
		// Nothing of it is there: is the service itself?
		if _, err := c.page(ctx, d.endpoint, url.Values{}, 1, 1, 2, func(resource) error { return nil }); err != nil {
			return nil, err
		}
	}
	wanted := map[string]bool{strings.ToLower(core): true}
	for _, kind := range kinds.Resources {
		if strings.EqualFold(kind.Schema, core) {
			d.endpoint = "/" + strings.Trim(kind.Endpoint, "/")
			for _, extension := range kind.SchemaExtensions {
				wanted[strings.ToLower(extension.Schema)] = true
			}
		}
	}
	if len(kinds.Resources) == 0 {
		wanted[strings.ToLower(enterprise)] = true
	}
	d.schema = &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "active", On: "true", Off: "false"}, Aliases: c.config.Aliases, Lists: map[string][]string{}}
	if len(schemas.Resources) > 0 {
		for _, s := range schemas.Resources {
			if wanted[strings.ToLower(s.ID)] {
				d.add(s)
			}
		}
	}
	if len(d.schema.Attributes) == 0 {
		d.assume()
	}
	// An identifier elsewhere is a common attribute (RFC 7643 section 3.1): it stands in
	// no schema.
	d.put(path{attr: "externalId"}, attribute{}, attribute{Name: "externalId", Type: "string"})
	d.schema.Shorten(":")
	for _, names := range []map[string]string{d.schema.Short, c.config.Aliases} {
		for name, full := range names {
			if p, ok := d.paths[full]; ok {
				d.paths[name], d.types[name] = p, d.types[full]
			}
		}
	}
	d.keep(kinds.Resources, schemas.Resources, c.config.Kinds)
	c.known = d
	return d, nil
}

// passes reports whether a status says that the server is only busy, so that what it
// does not tell now it may tell later.
func passes(status int) bool {
	switch status {
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return true
	}
	return false
}

// ask reads one discovery endpoint.
func (c *Client) ask(ctx context.Context, endpoint string, into any) error {
	got, err := c.do(ctx, request{method: http.MethodGet, path: endpoint, safe: true, tries: fewTries})
	if err != nil {
		return err
	}
	if err := json.Unmarshal(got.Body, into); err != nil {
		return &answered{got.Status, "", &system.Unavailable{Message: fmt.Sprintf("GET %s: %s answered JSON that is not SCIM: %v", endpoint, c.config.URL, err), Remedy: "Look whether the url in evenledger.yaml ends where the SCIM service begins."}}
	}
	return nil
}

// add takes in the attributes of one schema.
func (d *discovered) add(s schemaResource) {
	extension := ""
	if !strings.EqualFold(s.ID, core) {
		extension = s.ID
	}
	for _, a := range s.Attributes {
		if a.Mutability == "writeOnly" {
			d.renews = d.renews || extension == "" && a.Name == "password"
			continue // a password would stand in clear in drafts and in the ledger
		}
		if a.MultiValued && len(a.SubAttributes) > 0 {
			list := path{schema: extension, attr: a.Name}
			d.lists[list.String()] = list
			for _, sub := range a.SubAttributes {
				d.schema.Lists[list.String()] = append(d.schema.Lists[list.String()], sub.Name)
			}
		}
		if len(a.SubAttributes) == 0 || isList(a) {
			d.put(path{schema: extension, attr: a.Name}, a, a)
			continue
		}
		for _, sub := range a.SubAttributes {
			p := path{schema: extension, attr: a.Name, sub: sub.Name}
			if a.MultiValued {
				// Each kind of element that the catalogue names is a field.
				for _, f := range places() {
					known := f.path
					if known.kind != "" && strings.EqualFold(known.attr, a.Name) && strings.EqualFold(known.sub, sub.Name) {
						d.put(known, a, sub)
					}
				}
				continue
			}
			d.put(p, a, sub)
		}
	}
}

// isList reports whether an attribute holds several values of which each is a
// text under “value”, such as roles; those with a type the catalogue knows better.
func isList(a attribute) bool {
	known := slices.ContainsFunc(places(), func(f place) bool { return strings.EqualFold(f.path.attr, a.Name) })
	return a.MultiValued && !known && slices.ContainsFunc(a.SubAttributes, func(sub attribute) bool { return strings.EqualFold(sub.Name, "value") })
}

// put takes in the attribute at a path; outer is the complex attribute it is
// part of, or the attribute itself.
func (d *discovered) put(p path, outer, a attribute) {
	name := p.String()
	for _, f := range places() {
		if strings.EqualFold(f.path.String(), name) {
			name = f.Name
			break
		}
	}
	if _, taken := d.paths[name]; taken {
		return
	}
	d.paths[name], d.types[name] = p, a
	told := account.Attribute{
		Field:       name,
		Path:        p.String(),
		Kind:        kindOf(name, a),
		Description: a.Description,
		Required:    outer.Required && (a.Required || p.sub == "" || p.sub == "value"),
		ReadOnly:    outer.Mutability == "readOnly" || a.Mutability == "readOnly",
		Multi:       a.MultiValued,
		Immutable:   outer.Mutability == "immutable" || a.Mutability == "immutable",
		Unique:      a.Uniqueness == "server" || a.Uniqueness == "global",
		Exact:       a.CaseExact,
	}
	for _, value := range a.CanonicalValues {
		if text, ok := value.(string); ok {
			told.Allowed = append(told.Allowed, text)
		}
	}
	d.schema.Attributes = append(d.schema.Attributes, told)
}

// kindOf tells the kind of an attribute's values.
func kindOf(name string, a attribute) account.Kind {
	if f, ok := account.FieldNamed(name); ok {
		return f.Kind
	}
	if a.MultiValued {
		return account.List
	}
	switch a.Type {
	case "boolean":
		return account.YesNo
	case "integer", "decimal":
		return account.Number
	case "dateTime":
		return account.Date
	}
	return account.Text
}

// assume fills the schema in for a server that tells none: the catalogue.
func (d *discovered) assume() {
	d.renews = true
	for _, f := range places() {
		kind := "string"
		if f.Kind == account.YesNo {
			kind = "boolean"
		}
		login := f.Name == "userName" // RFC 7643 section 4.1.1: required and unique
		d.put(f.path, attribute{Required: login}, attribute{Name: f.Name, Type: kind, Required: login, Uniqueness: map[bool]string{true: "server"}[login]})
	}
}

// encode writes a value as the attribute's type has it in JSON.
func encode(p path, a attribute, text string) any {
	if a.MultiValued {
		list := []any{}
		for _, item := range account.Items(text) {
			if p.parts != "" {
				list = append(list, element(p.parts, item))
			} else if a.Type == "complex" {
				list = append(list, map[string]any{"value": item})
			} else {
				list = append(list, item)
			}
		}
		return list
	}
	switch a.Type {
	case "boolean":
		return text == "true"
	case "integer":
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n
		}
	case "decimal":
		if n, err := strconv.ParseFloat(text, 64); err == nil {
			return n
		}
	case "dateTime":
		if len(text) == len("2006-01-02") {
			return text + "T00:00:00Z"
		}
	}
	return text
}

// element writes an item with parts.
func element(parts, item string) map[string]any {
	e := map[string]any{}
	texts := strings.Split(item, "\t")
	for i, part := range strings.Split(parts, ",") {
		switch {
		case i >= len(texts) || texts[i] == "":
		case part == "primary":
			e[part] = texts[i] == "true"
		default:
			e[part] = texts[i]
		}
	}
	return e
}

// decode turns what stands in a resource into the standard form.
func decode(a attribute, v account.Value) account.Value {
	text := v.Text()
	switch {
	case a.Type == "dateTime" && strings.HasSuffix(text, "T00:00:00Z"):
		return account.Of(strings.TrimSuffix(text, "T00:00:00Z"))
	case a.Type == "boolean" && v.Filled():
		return account.Of(strings.ToLower(text)) // some servers write "True"
	}
	return v
}
