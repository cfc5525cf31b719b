package ldap

import (
	"cmp"
	"context"
	"errors"
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// What refers to an entry by its name (groups to their members, people to their manager) says
// nothing any more once the entry is called otherwise or is gone. Some servers see to that, later
// than they answer; some for a few attributes; some not at all. So it is looked at after moves and
// removals, and what the server leaves is done here.

// A custom is what a server does about an attribute that refers to an entry which was moved or removed.
type custom uint8

const (
	unseen   custom = iota // nobody has seen it yet
	itself                 // it sees to it, a while after it answered
	notAlone               // it does not
)

const (
	patience  = 2 * time.Second // until a server is taken to leave it to us, since it did something last
	pollPause = 50 * time.Millisecond
	mostPause = 500 * time.Millisecond
	rounds    = 3 // of putting right, as others change groups meanwhile
)

// A former is a name that an entry had, and the one that it has; empty: it was removed.
type former struct{ id, was, is, login, now string }

// referring are the attributes in which entries are named; logins those in which sign-in names are.
func (d *directory) referring() (names, logins []string) {
	for _, class := range d.ties {
		if class.logins {
			logins = append(logins, class.members)
		} else {
			names = append(names, class.members)
		}
	}
	for _, p := range d.places {
		if p.kind == account.Person {
			names = append(names, p.attribute)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), logins
}

// Follows implements system.Follower.
func (c *client) Follows(ctx context.Context) (string, error) {
	d, err := c.describe(ctx)
	if err != nil {
		return "", err
	}
	names, logins := d.referring()
	var seen, left []string
	for _, name := range append(names, logins...) {
		switch c.customOf(name) {
		case itself:
			seen = append(seen, name)
		case notAlone:
			left = append(left, name)
		}
	}
	switch {
	case len(left) == 0 && len(seen) == 0:
		return "", nil
	case len(left) == 0:
		return "the server says that it sees to all of them", nil
	case len(seen) == 0:
		return "the server says that it sees to none of them", nil
	}
	return "the server says that it sees to " + strings.Join(seen, ", ") + " and not to " + strings.Join(left, ", "), nil
}

// readCustoms reads what the server says that it sees to, where it lets us: what cannot be read is seen when something was moved.
func (c *client) readCustoms(ctx context.Context, d *directory) {
	if d.referential.base == "" {
		return
	}
	request := ldap.NewSearchRequest(d.referential.base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, d.referential.filter, nil, nil)
	found, err := c.search(ctx, nil, "reading what the server sees to by itself", request)
	if err != nil || len(found.Entries) == 0 {
		return
	}
	sees := map[string]bool{}
	for _, e := range found.Entries {
		if e.GetEqualFoldAttributeValue("nsslapd-pluginEnabled") == "off" {
			continue
		}
		for _, value := range e.GetEqualFoldAttributeValues(d.referential.attribute) {
			for _, name := range strings.Fields(value) {
				sees[strings.ToLower(name)] = true
			}
		}
	}
	names, logins := d.referring()
	for _, name := range append(names, logins...) {
		c.noteCustom(name, map[bool]custom{true: itself, false: notAlone}[sees[strings.ToLower(name)]])
	}
}

func (c *client) customOf(attribute string) custom {
	c.following.Lock()
	defer c.following.Unlock()
	return c.customs[strings.ToLower(attribute)]
}

func (c *client) noteCustom(attribute string, is custom) {
	c.following.Lock()
	defer c.following.Unlock()
	if c.customs == nil {
		c.customs = map[string]custom{}
	}
	c.customs[strings.ToLower(attribute)] = is
}

// Moving implements system.Follower.
func (c *client) Moving(accounts []account.Account) {
	for _, a := range accounts {
		if _, dn := splitVersion(a.Version); dn != "" {
			c.formerly.Store(keyOf(dn), a.ID)
		}
	}
}

// Referring implements system.Follower.
func (c *client) Referring(ctx context.Context, accounts []account.Account) iter.Seq2[system.Reference, error] {
	return func(yield func(system.Reference, error) bool) {
		d, err := c.describe(ctx)
		if err != nil {
			yield(system.Reference{}, err)
			return
		}
		people, err := c.peopleRefer(ctx, d, false)
		if err != nil {
			yield(system.Reference{}, err)
			return
		}
		for some := range slices.Chunk(accounts, mostFound) {
			var formers []former
			for _, a := range some {
				if _, dn := splitVersion(a.Version); dn != "" {
					formers = append(formers, former{id: a.ID, was: dn, login: loginOf(dn)})
				}
			}
			left, err := c.stillNamed(ctx, d, formers, people)
			if err != nil {
				yield(system.Reference{}, err)
				return
			}
			for _, e := range left {
				for _, x := range e.by {
					if !yield(d.reference(e, x), nil) {
						return
					}
				}
			}
		}
	}
}

// reference is what one value of an entry comes to.
func (d *directory) reference(e holder, x exchange) system.Reference {
	r := system.Reference{Account: x.former.id, Kind: d.fieldOf(x.attribute), Holder: d.idOf(e.Entry), Name: cmp.Or(e.GetEqualFoldAttributeValue("displayName"), e.GetEqualFoldAttributeValue("cn"), e.DN)}
	if strings.EqualFold(d.classOf(e.Entry).members, x.attribute) {
		r.Kind, r.Name = groupsKind, e.GetEqualFoldAttributeValue("cn")
	}
	return r
}

// Follow implements system.Follower.
func (c *client) Follow(ctx context.Context, may system.Permit, accounts []account.Account) (done, open []system.Reference, err error) {
	d, err := c.describe(ctx)
	if err != nil || d.quoted {
		return nil, nil, err
	}
	people, err := c.peopleRefer(ctx, d, true)
	if err != nil {
		return nil, nil, err
	}
	for some := range slices.Chunk(accounts, mostFound) {
		right, left, err := c.follow(ctx, may, d, some, people)
		if err != nil {
			return nil, nil, err
		}
		done, open = append(done, right...), append(open, left...)
	}
	return done, open, nil
}

func (c *client) follow(ctx context.Context, may system.Permit, d *directory, accounts []account.Account, people []string) (done, open []system.Reference, err error) {
	formers, err := c.formers(ctx, d, accounts)
	if err != nil || len(formers) == 0 {
		return nil, nil, err
	}
	until, before := c.clock.Now().Add(patience), -1
	pause := pollPause
	waited := map[string]bool{}    // attributes in which something was left to the server
	refused := map[string]string{} // names of holders that may not be changed → why
	for round := 0; round < rounds; {
		left, err := c.stillNamed(ctx, d, formers, people)
		if err != nil {
			return nil, nil, err
		}
		var ours, its []holder
		n := 0
		for _, e := range left {
			all := e.by
			if refused[e.DN] != "" {
				continue
			}
			n += len(all)
			switch {
			case slices.ContainsFunc(all, func(x exchange) bool { return c.customOf(x.attribute) == notAlone }):
				ours = append(ours, e)
			default:
				its = append(its, e)
				for _, x := range all {
					waited[x.attribute] = true
				}
			}
		}
		switch {
		case n == 0:
			for attribute := range waited {
				if c.customOf(attribute) == unseen {
					c.noteCustom(attribute, itself)
				}
			}
			return done, d.openReferences(left, refused), nil
		case before < 0 || n < before: // something is going on
			until, before = c.clock.Now().Add(patience), n
		case c.clock.Now().After(until):
			for _, e := range its {
				for _, x := range e.by {
					if c.customOf(x.attribute) == unseen {
						c.noteCustom(x.attribute, notAlone)
					}
				}
			}
			ours, its = append(ours, its...), nil
		}
		if len(ours) > 0 {
			round++
			right, err := c.putRight(ctx, may, d, ours, refused)
			if err != nil {
				return nil, nil, err
			}
			done = append(done, right...)
			continue
		}
		if err := c.clock.Wait(ctx, pause); err != nil {
			return nil, nil, err
		}
		pause = min(2*pause, mostPause) // looking keeps the server from its work
	}
	left, err := c.stillNamed(ctx, d, formers, people)
	return done, d.openReferences(left, refused), err
}

// openReferences are those that still go by former names, with why they could not be put right.
func (d *directory) openReferences(left []holder, refused map[string]string) (open []system.Reference) {
	for _, e := range left {
		for _, x := range e.by {
			r := d.reference(e, x)
			r.Why = refused[e.DN]
			open = append(open, r)
		}
	}
	return open
}

// formers are the names that accounts have no more, of those that their versions say.
func (c *client) formers(ctx context.Context, d *directory, accounts []account.Account) (formers []former, err error) {
	var ids []string
	for _, a := range accounts {
		ids = append(ids, a.ID)
	}
	now, err := c.names(ctx, d, ids)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, a := range accounts {
		_, was := splitVersion(a.Version)
		is := now[a.ID]
		if was == "" || keyOf(was) == keyOf(is) {
			continue
		}
		names = append(names, was)
		formers = append(formers, former{id: a.ID, was: was, is: is, login: loginOf(was), now: loginOf(is)})
	}
	// A name that somebody else has by now is theirs: what refers by it may mean either, and is left alone.
	whose, _, err := c.identify(ctx, d, names)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(formers, func(f former) bool {
		return whose[f.was] != f.was && whose[f.was] != f.id
	}), nil
}

// loginOf is the sign-in name in an entry's own, where it is called by that.
func loginOf(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) == 0 {
		return ""
	}
	for _, a := range parsed.RDNs[0].Attributes {
		if strings.EqualFold(a.Type, "uid") {
			return a.Value
		}
	}
	return ""
}

// stillNamed finds the groups and the people that refer to entries by names which they had. They are looked for apart: a server that
// has an index for the members of groups need not have one for who is whose manager. People are the attributes by which they refer.
func (c *client) stillNamed(ctx context.Context, d *directory, all []former, people []string) (left []holder, err error) {
	names := d.formerNames(all)
	var groups []string
	for _, class := range d.ties {
		groups = append(groups, class.members)
	}
	slices.Sort(groups)
	for _, of := range []struct {
		base, is   string
		attributes []string
	}{{c.groups, d.isGroup(), slices.Compact(groups)}, {c.people, d.isPerson, people}} {
		var filter strings.Builder
		for _, attribute := range of.attributes {
			logins := slices.ContainsFunc(d.ties, func(class tieClass) bool { return class.logins && class.members == attribute })
			for _, f := range all {
				switch {
				case !logins:
					filter.WriteString("(" + attribute + "=" + ldap.EscapeFilter(f.was) + ")")
				case f.login != "" && f.login != f.now:
					filter.WriteString("(" + attribute + "=" + ldap.EscapeFilter(f.login) + ")")
				}
			}
		}
		if filter.Len() == 0 {
			continue
		}
		// A server that looks through all that is there, and says that this is too much, would hold each entry of a part against
		// all of the names again: it gives whoever refers to anybody.
		q := query{what: "looking for what refers by a former name", base: of.base, filter: "(&" + of.is + "(|" + filter.String() + "))",
			wider: "(&" + of.is + "(|(" + strings.Join(of.attributes, "=*)(") + "=*)))", attributes: append([]string{d.id, "objectClass", "cn", "displayName"}, of.attributes...)}
		for e, err := range c.entries(ctx, d, q) {
			if err == nil {
				err = c.allMembers(ctx, d, e)
			}
			if err != nil {
				return nil, err
			}
			if by := names.exchanges(e); len(by) > 0 {
				left = append(left, holder{e, by})
			}
		}
	}
	return left, nil
}

// peopleRefer are the fields, as attributes, by which anybody refers to another at all: the schema has more of them than are used.
// With anew those that nobody used are looked for once more.
func (c *client) peopleRefer(ctx context.Context, d *directory, anew bool) (attributes []string, err error) {
	for _, p := range d.places {
		if p.kind != account.Person {
			continue
		}
		used, looked := c.used.Load(p.attribute)
		if used == true {
			attributes = append(attributes, p.attribute)
		}
		if used == true || looked && !anew {
			continue
		}
		request := ldap.NewSearchRequest(c.people, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 1, 0, false, "(&"+d.isPerson+"("+p.attribute+"=*))", []string{"1.1"}, nil)
		found, err := c.search(ctx, nil, "looking whether anybody has a "+p.attribute, request)
		if err != nil && !errors.Is(err, errIncomplete) {
			return nil, err
		}
		is := err != nil || len(found.Entries) > 0 // there are more than the one that was asked for
		if c.used.Store(p.attribute, is); is {
			attributes = append(attributes, p.attribute)
		}
	}
	slices.Sort(attributes)
	return attributes, nil
}

// An exchange is a value of an entry that refers to another by a name that it had.
type exchange struct {
	attribute, value string
	with             string // in its place; empty: nothing
	former           former
}

// A holder is an entry with values by which it refers to entries by names that they had.
type holder struct {
	*ldap.Entry
	by []exchange
}

// formerNames finds, by what holders have, who was called that, and in which attributes that stands.
type formerNames struct {
	names, logins  []string
	byKey, byLogin map[string]former
}

func (d *directory) formerNames(formers []former) formerNames {
	n := formerNames{byKey: map[string]former{}, byLogin: map[string]former{}}
	n.names, n.logins = d.referring()
	for _, f := range formers {
		n.byKey[keyOf(f.was)] = f
		if f.login != f.now {
			n.byLogin[f.login] = f
		}
	}
	return n
}

// exchanges are the values of an entry that refer by such names.
func (n formerNames) exchanges(e *ldap.Entry) (all []exchange) {
	for _, attribute := range n.names {
		for _, value := range e.GetEqualFoldAttributeValues(attribute) {
			if f, is := n.byKey[keyOf(value)]; is {
				all = append(all, exchange{attribute, value, f.is, f})
			}
		}
	}
	for _, attribute := range n.logins {
		for _, value := range e.GetEqualFoldAttributeValues(attribute) {
			if f, is := n.byLogin[value]; is {
				all = append(all, exchange{attribute, value, f.now, f})
			}
		}
	}
	return all
}

// putRight changes what refers to entries by names that they had, all of one holder in one request, and returns what was changed.
// A holder that the server does not let us change is noted in refused, and no reason to leave the others.
func (c *client) putRight(ctx context.Context, may system.Permit, d *directory, left []holder, refused map[string]string) (done []system.Reference, err error) {
	for _, e := range left {
		parts := [][]exchange{e.by}
		for len(parts) > 0 {
			part := parts[0]
			parts = parts[1:]
			err := c.exchange(ctx, may, e, part)
			var no *system.Refusal
			switch {
			case err == nil:
				for _, x := range part {
					done = append(done, d.reference(e, x))
				}
			case passable(err) && len(part) > 1: // the server was faster with one of them, or somebody else
				for _, x := range part {
					parts = append(parts, []exchange{x})
				}
			case codeOf(err) == ldap.LDAPResultObjectClassViolation:
				refused[e.DN] = "a group of its class has a member always"
			case passable(err): // the next round sees what is left of it
			case errors.As(c.refusal(err), &no):
				refused[e.DN], parts = no.Message, nil
			default:
				return nil, err
			}
		}
	}
	return done, nil
}

// passable reports whether a holder is not as it was read, which is looked at again, or cannot be without a last member.
func passable(err error) bool {
	return slices.Contains([]uint16{ldap.LDAPResultNoSuchAttribute, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchObject, ldap.LDAPResultObjectClassViolation}, codeOf(err))
}

func (c *client) exchange(ctx context.Context, may system.Permit, e holder, all []exchange) error {
	gone, come := map[string][]string{}, map[string][]string{}
	has := map[string]map[string]bool{}
	for _, x := range all {
		if has[x.attribute] == nil {
			has[x.attribute] = map[string]bool{}
			for _, value := range e.GetEqualFoldAttributeValues(x.attribute) {
				has[x.attribute][keyOf(value)] = true
			}
		}
		gone[x.attribute] = append(gone[x.attribute], x.value)
		if key := keyOf(x.with); x.with != "" && !has[x.attribute][key] {
			has[x.attribute][key] = true
			come[x.attribute] = append(come[x.attribute], x.with)
		}
	}
	request := ldap.NewModifyRequest(e.DN, nil)
	for _, attribute := range slices.Sorted(maps.Keys(gone)) {
		request.Delete(attribute, gone[attribute])
		if len(come[attribute]) > 0 {
			request.Add(attribute, come[attribute])
		}
	}
	return c.run(ctx, operation{may: may, what: "having " + e.DN + " refer by the names of today", do: func(conn *ldap.Conn) error { return conn.Modify(request) }})
}
