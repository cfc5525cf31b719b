package ldap

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// What refers to an entry by its name (groups to their members, people to their manager) says
// nothing any more once the entry is called otherwise or is gone. Some servers see to that, later
// than they answer; some for a few attributes; some not at all. So it is looked at after each move and
// removal, and what the server leaves is done here.

// A custom is what a server does about names that refer to an entry which was moved or removed.
type custom uint8

const (
	unseen   custom = iota // nobody has seen it yet
	itself                 // it sees to it, a while after it answered
	notAlone               // not all of it is done
)

const (
	patience  = 2 * time.Second // until a server is taken to leave it to us
	pollPause = 50 * time.Millisecond
	mostAwait = 3 * time.Second // for what a server that sees to it has not done yet, since it did something last
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

// Follow implements system.Follower.
func (c *client) Follow(ctx context.Context, before, now account.Account) error {
	d, err := c.describe(ctx)
	if err != nil {
		return err
	}
	_, was := splitVersion(before.Version)
	_, is := splitVersion(now.Version)
	return c.follow(ctx, d, former{id: before.ID, was: was, is: is})
}

// Followed implements system.Follower.
func (c *client) Followed(ctx context.Context) error {
	d, err := c.describe(ctx)
	if err != nil {
		return err
	}
	return c.followed(ctx, d)
}

// follow has what refers to an entry by a name that it had refer to it by the one that it has, or not
// at all any more.
func (c *client) follow(ctx context.Context, d *directory, f former) error {
	if f.was == "" || d.quoted || keyOf(f.was) == keyOf(f.is) {
		return nil // such servers keep references by identifier
	}
	f.login, f.now = loginOf(f.was), loginOf(f.is)
	if f.is != "" {
		c.formerly.Store(keyOf(f.was), f.id)
	}
	for until := c.clock.Now().Add(patience); ; {
		left, err := c.stillNamed(ctx, d, []former{f})
		if err != nil {
			return err
		}
		c.following.Lock()
		custom := c.custom
		switch {
		case len(left) == 0 && custom == unseen && until.After(c.clock.Now().Add(patience-pollPause/2)):
			// Nothing referred to it: that tells nothing of the server.
		case len(left) == 0 && custom == unseen:
			c.custom = itself
		case custom == itself:
			c.awaited = append(c.awaited, f)
		case custom == unseen && c.clock.Now().After(until):
			c.custom, custom = notAlone, notAlone
		}
		c.following.Unlock()
		switch {
		case len(left) == 0, custom == itself:
			return nil
		case custom == notAlone:
			return c.putRight(ctx, d, f, left)
		}
		if err := c.clock.Wait(system.Stopping(ctx), pollPause); err != nil {
			return err
		}
	}
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

// stillNamed finds the entries that refer to one by a name that it had.
func (c *client) stillNamed(ctx context.Context, d *directory, all []former) (left []*ldap.Entry, err error) {
	names, logins := d.referring()
	var filter strings.Builder
	for _, f := range all {
		for _, attribute := range names {
			filter.WriteString("(" + attribute + "=" + ldap.EscapeFilter(f.was) + ")")
		}
		for _, attribute := range logins {
			if f.login != "" && f.login != f.now {
				filter.WriteString("(" + attribute + "=" + ldap.EscapeFilter(f.login) + ")")
			}
		}
	}
	if filter.Len() == 0 {
		return nil, nil
	}
	for e, err := range c.entries(ctx, "looking for what refers to it by its old name", c.base, "(|"+filter.String()+")", append(slices.Clone(names), logins...), c.pageSize(d), d.paged) {
		if err != nil {
			return nil, err
		}
		left = append(left, e)
	}
	return left, nil
}

// putRight changes what refers to an entry by a name that it had.
func (c *client) putRight(ctx context.Context, d *directory, f former, left []*ldap.Entry) error {
	names, logins := d.referring()
	for _, e := range left {
		request := ldap.NewModifyRequest(e.DN, nil)
		exchange := func(attributes []string, is func(value string) bool, with string) {
			for _, attribute := range attributes {
				values := e.GetEqualFoldAttributeValues(attribute)
				for _, value := range values {
					if !is(value) {
						continue
					}
					request.Delete(attribute, []string{value})
					if with != "" && !slices.ContainsFunc(values, func(other string) bool { return keyOf(other) == keyOf(with) }) {
						request.Add(attribute, []string{with})
					}
				}
			}
		}
		exchange(names, func(value string) bool { return keyOf(value) == keyOf(f.was) }, f.is)
		if f.login != f.now {
			exchange(logins, func(value string) bool { return value == f.login }, f.now)
		}
		if len(request.Changes) == 0 {
			continue
		}
		err := c.run(ctx, operation{what: "having " + e.DN + " refer to it by its name", do: func(conn *ldap.Conn) error { return conn.Modify(request) }})
		switch codeOf(err) {
		case ldap.LDAPResultNoSuchAttribute, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchObject:
			continue // the server was faster
		case ldap.LDAPResultObjectClassViolation:
			if f.is == "" {
				continue // a group that has a member always keeps the name of its last
			}
		}
		if err != nil {
			return c.refusal(err)
		}
	}
	return nil
}

// followed waits until a server that sees to references has done so for all that was moved and removed
// before: who is in what tells nothing until then.
func (c *client) followed(ctx context.Context, d *directory) error {
	c.following.Lock()
	defer c.following.Unlock()
	until, fewest := c.clock.Now().Add(mostAwait), math.MaxInt
	for len(c.awaited) > 0 {
		some := c.awaited[:min(len(c.awaited), mostFound)]
		left, err := c.stillNamed(ctx, d, some)
		if err != nil {
			return err
		}
		if n := len(c.awaited)*1000 + len(left); n < fewest {
			until, fewest = c.clock.Now().Add(mostAwait), n
		}
		switch {
		case len(left) == 0:
			c.awaited = c.awaited[len(some):]
			continue
		case c.clock.Now().After(until):
			for _, f := range some {
				if left, err = c.stillNamed(ctx, d, []former{f}); err == nil {
					err = c.putRight(ctx, d, f, left)
				}
				if err != nil {
					return err
				}
			}
			c.awaited = c.awaited[len(some):]
			continue
		}
		if err := c.clock.Wait(system.Stopping(ctx), pollPause); err != nil {
			return err
		}
	}
	return nil
}
