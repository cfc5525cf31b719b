package ldap

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// groupsKind is the one kind of things that directories have.
const groupsKind = "groups"

// A tieClass is a class of groups, and how it says who is in one.
type tieClass struct {
	name    string
	members string
	logins  bool // by sign-in name; else by the entry's name
	filled  bool // never empty
}

// tieClasses are the ones that are known.
func tieClasses() []tieClass {
	return []tieClass{
		{name: "groupOfNames", members: "member"},
		{name: "groupOfUniqueNames", members: "uniqueMember"},
		{name: "group", members: "member"},
		{name: "posixGroup", members: "memberUid", logins: true},
	}
}

// findTies finds out which classes of groups the server has.
func (c *client) findTies(d *directory, sub *subschema) {
	made := c.groupClass
	if made == "" {
		made = d.family.groupClass
	}
	for _, class := range tieClasses() {
		if sub.classes[strings.ToLower(class.name)] == nil {
			continue
		}
		must, may := sub.allows([]string{class.name})
		if !slices.Contains(must, class.members) && !slices.Contains(may, class.members) {
			continue
		}
		class.filled = slices.Contains(must, class.members)
		d.ties = append(d.ties, class)
		if strings.EqualFold(class.name, made) {
			d.made = class
		}
	}
}

// isGroup is the filter that groups pass.
func (d *directory) isGroup() string {
	var filter strings.Builder
	for _, class := range d.ties {
		filter.WriteString("(objectClass=" + class.name + ")")
	}
	return "(|" + filter.String() + ")"
}

// classOf returns how a group's entry says who is in it.
func (d *directory) classOf(e *ldap.Entry) tieClass {
	for _, class := range d.ties {
		if slices.ContainsFunc(e.GetEqualFoldAttributeValues("objectClass"), func(name string) bool { return strings.EqualFold(name, class.name) }) {
			return class
		}
	}
	return tieClass{}
}

// groups yields the entries of groups that a filter finds, with their members.
func (c *client) groupEntries(ctx context.Context, d *directory, filter string, members bool) iter.Seq2[*ldap.Entry, error] {
	attributes := []string{"cn", "objectClass", "description", d.id}
	if members {
		for _, class := range d.ties {
			attributes = append(attributes, class.members)
		}
		slices.Sort(attributes)
		attributes = slices.Compact(attributes)
	}
	whole := d.isGroup()
	if filter != "" {
		whole = "(&" + whole + filter + ")"
	}
	return func(yield func(*ldap.Entry, error) bool) {
		for e, err := range c.entries(ctx, d, query{what: "listing the groups", base: c.groups, filter: whole, attributes: attributes}) {
			if err == nil && members {
				err = c.allMembers(ctx, d, e)
			}
			if !yield(e, err) || err != nil {
				return
			}
		}
	}
}

// allMembers reads the members that an answer left out: some servers give many values in
// ranges, such as “member;range=0-1499”.
func (c *client) allMembers(ctx context.Context, d *directory, e *ldap.Entry) error {
	members := d.classOf(e).members
	for {
		from := -1
		for _, a := range e.Attributes {
			name, option, ranged := strings.Cut(a.Name, ";range=")
			if !ranged || !strings.EqualFold(name, members) {
				continue
			}
			a.Name = members + ";read" // not again
			_, last, _ := strings.Cut(option, "-")
			own := attributeOf(e, members)
			own.Values, own.ByteValues = append(own.Values, a.Values...), append(own.ByteValues, a.ByteValues...)
			if n, err := strconv.Atoi(last); err == nil {
				from = n + 1
			}
			break
		}
		if from < 0 {
			return nil
		}
		more, err := c.entry(ctx, "reading the members of "+e.DN, e.DN, "(objectClass=*)", fmt.Sprintf("%s;range=%d-*", members, from))
		if err != nil {
			return c.nothing(err, "the members of "+e.DN)
		}
		before := len(e.Attributes)
		for _, a := range more.Attributes {
			if strings.Contains(a.Name, ";range=") {
				e.Attributes = append(e.Attributes, a)
			}
		}
		if len(e.Attributes) == before {
			return &system.Unavailable{Message: fmt.Sprintf("%s shows only some of the members of %s", c.url, e.DN), Remedy: "Ask who runs the server.", Err: errIncomplete}
		}
	}
}

// attributeOf returns an attribute of an entry, which gets it if it has none.
func attributeOf(e *ldap.Entry, name string) *ldap.EntryAttribute {
	for _, a := range e.Attributes {
		if strings.EqualFold(a.Name, name) {
			return a
		}
	}
	a := &ldap.EntryAttribute{Name: name}
	e.Attributes = append(e.Attributes, a)
	return a
}

// Things implements system.System.
func (c *client) Things(ctx context.Context, kind string, counted bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		d, err := c.tied(ctx, kind)
		if err != nil {
			yield(account.Thing{}, err)
			return
		}
		if kind == unitsKind {
			c.unitThings(ctx, d, counted)(yield)
			return
		}
		if counted {
			c.countedGroups(ctx, d)(yield)
			return
		}
		for e, err := range c.groupEntries(ctx, d, "", false) {
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			if t, err := c.groupThing(d, e); !yield(t, err) || err != nil {
				return
			}
		}
	}
}

// groupThing is the thing that a group's entry is, with members that were not counted.
func (c *client) groupThing(d *directory, e *ldap.Entry) (t account.Thing, err error) {
	t = account.Thing{ID: d.idOf(e), Name: e.GetEqualFoldAttributeValue("cn"), Members: -1, Seats: -1}
	if t.ID == "" {
		err = &system.Unavailable{Message: fmt.Sprintf("%s does not show the %s of %s", c.url, d.id, e.DN), Remedy: "Ask who runs the server to let this user read it."}
	}
	return t, err
}

// countedGroups yields all groups with how many members each has, and how many of these are
// groups themselves.
func (c *client) countedGroups(ctx context.Context, d *directory) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		var all []account.Thing
		groups, within := map[string]bool{}, map[int][]string{}
		base := "," + keyOf(c.groups)
		for e, err := range c.groupEntries(ctx, d, "", true) {
			var t account.Thing
			if err == nil {
				t, err = c.groupThing(d, e)
			}
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			members := e.GetEqualFoldAttributeValues(d.classOf(e).members)
			t.Members = len(members)
			for _, member := range members {
				if key := keyOf(member); strings.HasSuffix(key, base) {
					within[len(all)] = append(within[len(all)], key)
				}
			}
			groups[keyOf(e.DN)] = true
			all = append(all, t)
		}
		for i, t := range all {
			for _, key := range within[i] {
				if groups[key] {
					t.Nested++
				}
			}
			if !yield(t, nil) {
				return
			}
		}
	}
}

// tied returns what is known of the server if it has the kind of things.
func (c *client) tied(ctx context.Context, kind string) (*directory, error) {
	d, err := c.describe(ctx)
	if err == nil && kind != unitsKind && (kind != groupsKind || len(d.ties) == 0) {
		err = system.ErrCannot
	}
	return d, err
}

// Members implements system.System. Groups in groups are members by their name, as are those
// who are not there any more.
func (c *client) Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		d, err := c.tied(ctx, kind)
		if err != nil {
			yield(account.Membership{}, err)
			return
		}
		if kind == unitsKind {
			c.standing(ctx, d, things)(yield)
			return
		}
		filter := ""
		if things != nil && len(things) <= mostFound {
			filter = d.byID(things)
		}
		for e, err := range c.groupEntries(ctx, d, filter, true) {
			if err != nil {
				yield(account.Membership{}, err)
				return
			}
			class := d.classOf(e)
			values := e.GetEqualFoldAttributeValues(class.members)
			var ids map[string]string
			if class.logins {
				ids, err = c.idsOfLogins(ctx, d, values)
			} else {
				values, ids, err = c.members(ctx, d, e, class)
			}
			if err != nil {
				yield(account.Membership{}, err)
				return
			}
			for _, v := range values {
				if !yield(account.Membership{Kind: kind, Thing: d.idOf(e), Account: ids[v]}, nil) {
					return
				}
			}
		}
	}
}

// members reads who is in a group by name. Where the server sees to names of entries that were moved, it
// does so a while later: a name that may be one of those is waited for, once.
func (c *client) members(ctx context.Context, d *directory, e *ldap.Entry, class tieClass) (values []string, ids map[string]string, err error) {
	values = e.GetEqualFoldAttributeValues(class.members)
	for until := c.clock.Now().Add(patience); ; {
		var elsewhere []string
		if ids, elsewhere, err = c.identify(ctx, d, values); err != nil {
			return nil, nil, err
		}
		elsewhere = slices.DeleteFunc(elsewhere, func(dn string) bool { _, stays := c.stayed.Load(keyOf(dn)); return stays })
		if len(elsewhere) == 0 || d.quoted {
			return values, ids, nil
		}
		if c.clock.Now().After(until) {
			for _, dn := range elsewhere {
				c.stayed.Store(keyOf(dn), true)
			}
			return values, ids, nil
		}
		if err := c.clock.Wait(ctx, pollPause); err != nil {
			return nil, nil, err
		}
		again, err := c.entry(ctx, "looking at "+e.DN+" again", e.DN, "(objectClass=*)", "objectClass", class.members)
		if err == nil {
			err = c.allMembers(ctx, d, again)
		}
		if err != nil {
			return nil, nil, c.nothing(err, "the members of "+e.DN)
		}
		values = again.GetEqualFoldAttributeValues(class.members)
	}
}

// idsOfLogins returns the identifiers of accounts by their sign-in names; who is not there
// keeps the name.
func (c *client) idsOfLogins(ctx context.Context, d *directory, logins []string) (map[string]string, error) {
	ids := map[string]string{}
	for _, login := range logins {
		ids[login] = login
	}
	for some := range slices.Chunk(slices.Clone(logins), mostFound) {
		var filter strings.Builder
		for _, login := range some {
			filter.WriteString("(uid=" + ldap.EscapeFilter(login) + ")")
		}
		for e, err := range c.entries(ctx, d, query{what: "looking for who is referred to", base: c.people, filter: "(|" + filter.String() + ")", attributes: []string{"uid", d.id}}) {
			if err != nil {
				return nil, err
			}
			for _, uid := range e.GetEqualFoldAttributeValues("uid") {
				if _, asked := ids[uid]; asked {
					ids[uid] = d.idOf(e)
				}
			}
		}
	}
	return ids, nil
}

// Tie implements system.System.
func (c *client) Tie(ctx context.Context, may system.Permit, kind, thing string, ties []system.Tie) error {
	d, err := c.tied(ctx, kind)
	if err != nil {
		return err
	}
	if kind == unitsKind {
		return system.ErrCannot // accounts are moved
	}
	var group *ldap.Entry
	for e, err := range c.groupEntries(ctx, d, d.byID([]string{thing}), false) {
		if err != nil {
			return err
		}
		group = e
	}
	if group == nil {
		return system.ErrGone
	}
	class := d.classOf(group)
	request := ldap.NewModifyRequest(group.DN, nil)
	var joins, leaves []string
	values, err := c.tieValues(ctx, d, class, ties)
	if err != nil {
		return err
	}
	for i, tie := range ties {
		switch {
		case tie.Leave:
			leaves = append(leaves, values[i])
		case !tie.Was:
			joins = append(joins, values[i])
		}
	}
	if len(joins) > 0 {
		request.Add(class.members, joins)
	}
	if len(leaves) > 0 {
		request.Delete(class.members, leaves)
	}
	if len(request.Changes) == 0 {
		return nil
	}
	err = c.run(ctx, operation{may: may, what: "changing who is in " + group.DN, do: func(conn *ldap.Conn) error { return conn.Modify(request) }})
	switch codeOf(err) {
	case ldap.LDAPResultNoSuchObject:
		return system.ErrGone
	case ldap.LDAPResultObjectClassViolation:
		return &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("a group of the class %s has a member always, and this one would have none (65)", class.name)}
	}
	return c.refusal(err)
}

// tieValues are the accounts of ties as the group's entry has them.
func (c *client) tieValues(ctx context.Context, d *directory, class tieClass, ties []system.Tie) ([]string, error) {
	ids, values := make([]string, len(ties)), make([]string, len(ties))
	for i, tie := range ties {
		ids[i] = tie.Account
	}
	if !class.logins {
		names, err := c.names(ctx, d, ids)
		if err != nil {
			return nil, err
		}
		for i, id := range ids {
			if values[i] = names[id]; values[i] == "" {
				return nil, &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the account %s is not there any more", id)}
			}
		}
		return values, nil
	}
	logins := map[string]string{}
	for some := range slices.Chunk(slices.Clone(ids), mostFound) {
		for e, err := range c.entries(ctx, d, query{what: "looking for who is referred to", base: c.people, filter: d.byID(some), attributes: []string{"uid", d.id}}) {
			if err != nil {
				return nil, err
			}
			logins[d.idOf(e)] = e.GetEqualFoldAttributeValue("uid")
		}
	}
	for i, id := range ids {
		if values[i] = logins[id]; values[i] == "" {
			values[i] = id // who is not there is a member by name
		}
	}
	return values, nil
}

// MakeThing implements system.System.
func (c *client) MakeThing(ctx context.Context, may system.Permit, kind, name string, first []system.Tie) (account.Thing, error) {
	d, err := c.tied(ctx, kind)
	if err != nil {
		return account.Thing{}, err
	}
	switch {
	case kind == unitsKind:
		return c.makeUnit(ctx, may, d, name)
	case d.made.name == "":
		return account.Thing{}, &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the directory has no class “%s” for new groups", cmp.Or(c.groupClass, d.family.groupClass))}
	}
	values, err := c.tieValues(ctx, d, d.made, first)
	if err != nil {
		return account.Thing{}, err
	}
	request := ldap.NewAddRequest("cn="+escapeName(name)+","+c.groups, nil)
	request.Attribute("objectClass", []string{d.made.name})
	request.Attribute("cn", []string{name})
	if len(values) > 0 {
		request.Attribute(d.made.members, values)
	}
	err = c.run(ctx, operation{may: may, what: "adding " + request.DN, do: func(conn *ldap.Conn) error { return conn.Add(request) }})
	if err != nil {
		return account.Thing{}, c.refusal(err)
	}
	e, err := c.entry(ctx, "looking at "+request.DN, request.DN, "(objectClass=*)", d.id)
	if err != nil {
		return account.Thing{}, &system.Unclear{Err: err}
	}
	return account.Thing{ID: d.idOf(e), Name: name, Members: len(values), Seats: -1}, nil
}

// RemoveThing implements system.System.
func (c *client) RemoveThing(ctx context.Context, may system.Permit, kind, thing string) error {
	d, err := c.tied(ctx, kind)
	if err != nil {
		return err
	}
	names, err := c.names(ctx, d, []string{thing})
	if err != nil {
		return err
	}
	dn := names[thing]
	if dn == "" {
		return system.ErrGone
	}
	err = c.guarded(ctx, d, thing, "", dn, nil, func(controls []ldap.Control) error {
		return c.run(ctx, operation{may: may, what: "removing " + dn, do: func(conn *ldap.Conn) error { return conn.Del(ldap.NewDelRequest(dn, controls)) }})
	})
	switch {
	case codeOf(err) == ldap.LDAPResultNoSuchObject:
		return system.ErrGone
	case errors.Is(err, system.ErrChanged):
		return &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("%s is another by now", dn)}
	}
	return c.refusal(err)
}
