package ldap

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// containers are the entries that accounts stand in.
const containers = "(|(objectClass=organizationalUnit)(objectClass=container)(objectClass=organization)(objectClass=domain))"

// top is the unit of who stands in none.
const top = "/"

// unitsKind is the kind of things that units are.
const unitsKind = "units"

// units yields the entries of all units, the top among them.
func (c *client) units(ctx context.Context, d *directory) iter.Seq2[*ldap.Entry, error] {
	return func(yield func(*ldap.Entry, error) bool) {
		topmost, err := c.entry(ctx, "looking for the people", c.people, "(objectClass=*)", "objectClass", d.id)
		if err != nil {
			yield(nil, c.nothing(err, "“people”, "+c.people))
			return
		}
		if !yield(topmost, nil) {
			return
		}
		for e, err := range c.entries(ctx, d, query{what: "listing the units", base: c.people, filter: containers, attributes: []string{"objectClass", d.id}}) {
			if err == nil && keyOf(e.DN) == keyOf(c.people) {
				continue
			}
			if !yield(e, err) || err != nil {
				return
			}
		}
	}
}

// unitThings yields the units as things, and how many accounts stand in each if that is
// asked for.
func (c *client) unitThings(ctx context.Context, d *directory, counted bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		standing := map[string]int{}
		if counted {
			for e, err := range c.entries(ctx, d, query{what: "looking where accounts stand", base: c.people, filter: d.isPerson, attributes: []string{"1.1"}}) {
				if err != nil {
					yield(account.Thing{}, err)
					return
				}
				standing[keyOf(above(e.DN))]++
			}
		}
		for e, err := range c.units(ctx, d) {
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			t := account.Thing{ID: d.idOf(e), Name: c.path(e.DN), Members: -1, Seats: -1}
			if counted {
				t.Members = standing[keyOf(e.DN)]
			}
			if !yield(t, nil) {
				return
			}
		}
	}
}

// above is the name of the entry that another stands beneath.
func above(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) == 0 {
		return ""
	}
	return (&ldap.DN{RDNs: parsed.RDNs[1:]}).String()
}

// standing yields what stands in units, whatever it is.
func (c *client) standing(ctx context.Context, d *directory, ids []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		names, err := c.names(ctx, d, ids)
		if err != nil {
			yield(account.Membership{}, err)
			return
		}
		for id, dn := range names {
			if dn == "" {
				continue
			}
			for e, err := range c.entries(ctx, d, query{what: "looking what stands in " + dn, base: dn, filter: "(objectClass=*)", attributes: []string{d.id}}) {
				if err == nil && keyOf(e.DN) == keyOf(dn) {
					continue
				}
				m := account.Membership{Kind: unitsKind, Thing: id}
				if err == nil {
					m.Account = d.idOf(e)
				}
				if !yield(m, err) || err != nil {
					return
				}
			}
		}
	}
}

// makeUnit makes a unit; the one above it has to be there.
func (c *client) makeUnit(ctx context.Context, may system.Permit, d *directory, path string) (account.Thing, error) {
	dn := c.place(path)
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return account.Thing{}, &system.Refusal{Code: account.SystemRefused, Field: unit, Message: fmt.Sprintf("“%s” cannot be written as a place in the directory: %s", path, err)}
	}
	called := parsed.RDNs[0].Attributes[0]
	class := "organizationalUnit"
	if strings.EqualFold(called.Type, "cn") {
		class = "container"
	}
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{class})
	request.Attribute(called.Type, []string{called.Value})
	if err := c.run(ctx, operation{may: may, what: "adding " + dn, do: func(conn *ldap.Conn) error { return conn.Add(request) }}); err != nil {
		return account.Thing{}, c.refusal(err)
	}
	e, err := c.entry(ctx, "looking at "+dn, dn, "(objectClass=*)", d.id)
	if err != nil {
		return account.Thing{}, &system.Unclear{Err: err}
	}
	return account.Thing{ID: d.idOf(e), Name: c.path(e.DN), Members: 0, Seats: -1}, nil
}

// pathOf is the unit that an account's entry stands in.
func (c *client) pathOf(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) < 2 {
		return top
	}
	return c.path(above(dn))
}

// path writes a place beneath the people as a path. Where a part is called by something
// else than a unit is, its attribute stands before it.
func (c *client) path(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	under, errUnder := ldap.ParseDN(c.people)
	if err != nil || errUnder != nil || len(parsed.RDNs) <= len(under.RDNs) {
		return top
	}
	var parts []string
	for _, rdn := range slices.Backward(parsed.RDNs[:len(parsed.RDNs)-len(under.RDNs)]) {
		var names []string
		for _, a := range rdn.Attributes {
			name := strings.NewReplacer(`\`, `\\`, "/", `\/`).Replace(a.Value)
			looksNamed, _, _ := strings.Cut(a.Value, "=")
			if !strings.EqualFold(a.Type, "ou") || slices.Contains(placeNames(), strings.ToLower(looksNamed)) && looksNamed != a.Value {
				name = a.Type + "=" + name
			}
			names = append(names, name)
		}
		parts = append(parts, strings.Join(names, "+"))
	}
	return strings.Join(parts, "/")
}

// place is the name of the unit that a path means, or a whole name beneath the people.
func (c *client) place(path string) string {
	path = strings.TrimSpace(path)
	if suffix := "," + keyOf(c.people); strings.HasSuffix(keyOf(path), suffix) || keyOf(path) == suffix[1:] {
		return path
	}
	dn := c.people
	for _, part := range splitPath(path) {
		attribute, value := "ou", part
		if name, rest, ok := strings.Cut(part, "="); ok && slices.Contains(placeNames(), strings.ToLower(name)) {
			attribute, value = name, rest
		}
		dn = attribute + "=" + escapeName(value) + "," + dn
	}
	return dn
}

// placeNames are the attributes by which places are called (RFC 4514 section 3, RFC 4519); in a path they are told
// where it is another than ou.
func placeNames() []string { return []string{"ou", "cn", "o", "l", "st", "street", "c", "dc", "uid"} }

// splitPath takes a path apart at its slashes, but for those behind a backslash.
func splitPath(path string) (parts []string) {
	var part strings.Builder
	escaped := false
	for _, r := range path + "/" {
		switch {
		case escaped:
			part.WriteRune(r)
			escaped = false
		case r == '\\':
			escaped = true
		case r == '/':
			if part.Len() > 0 {
				parts = append(parts, part.String())
			}
			part.Reset()
		default:
			part.WriteRune(r)
		}
	}
	return parts
}

// findings remembers by which fields accounts are found.
type findings struct {
	mu    sync.Mutex
	found map[string]error
}

// test has it found out once. What is no answer about the field is not kept.
func (f *findings) test(field string, find func() error) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err, known := f.found[field]; known {
		return err
	}
	err := find()
	if err == nil || err == system.ErrCannotFind {
		if f.found == nil {
			f.found = map[string]error{}
		}
		f.found[field] = err
	}
	return err
}
