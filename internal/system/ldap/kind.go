package ldap

import (
	"errors"
	"net"
	"net/url"
	"strings"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// Kind returns the kind of system that this package reaches.
func Kind() system.Kind {
	return system.Kind{
		Name: "ldap",
		Keys: []yamldoc.Key{
			{Name: "url", Form: yamldoc.Text, About: "Where the directory is: ldaps://host, ldap://host (which becomes TLS before anything else is said), or ldapi:// for one on this machine."},
			{Name: "user", Form: yamldoc.Text, About: "Who the program signs in as: a distinguished name, or a principal name such as name@domain. Without it, on ldapi: or with a certificate, whom the server takes the program for."},
			{Name: "password", Form: yamldoc.Text, About: "With user: where its password is kept: env:NAME or file:PATH."},
			{Name: "ca", Form: yamldoc.Text, About: "A PEM file with the authority that signed the server's certificate, where it is none of the usual ones."},
			{Name: "certificate", Form: yamldoc.Text, About: "A PEM file with a certificate and its key by which the program shows who it is."},
			{Name: "base", Form: yamldoc.Text, About: "The top of the directory, such as dc=brindlesound,dc=example."},
			{Name: "people", Form: yamldoc.Text, About: "Where the accounts are, beneath base, such as ou=people. Without it: base."},
			{Name: "groups", Form: yamldoc.Text, About: "Where the groups are, beneath base, such as ou=groups. Without it: base."},
			{Name: "named", Form: yamldoc.Text, About: "The attribute by which an account's entry is called. Without it: uid, or cn where that is the custom."},
			{Name: "classes", Form: yamldoc.Texts, About: "The object classes of new accounts; the first tells accounts from other entries. Without it: inetOrgPerson, or user where that is the custom."},
			{Name: "group_class", Form: yamldoc.Text, About: "The object class of new groups. Without it: groupOfNames, or group where that is the custom."},
			{Name: "attributes", Form: yamldoc.Table, About: "Which attribute holds a field, where it is not the usual one, such as department: ou."},
			{Name: "suspended", Nested: suspendedKeys(), About: "How an account is marked that may not sign in, where the server has no way of its own."},
			{Name: "rate", Form: yamldoc.Text, About: "The most requests in a time: 20/s, 300/min or 5000/h."},
			{Name: "page", Form: yamldoc.Whole, About: "How many entries are asked for in one page. Without it: 500."},
		},
		Read: func(part reach.Part) system.Connection { return read(part) },
	}
}

func suspendedKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "field", Form: yamldoc.Text, About: "The attribute that says so, such as loginShell."},
		{Name: "off", Form: yamldoc.Text, About: "Its value for who may not sign in."},
		{Name: "on", Form: yamldoc.Text, About: "Its value for who is let in again. Without it the value is taken away."},
	}
}

// A connection is how a directory is reached.
type connection struct {
	url         string
	user        string // empty: whom the server takes us for
	password    secret.Reference
	ca          string // absolute path, or empty
	certificate string // absolute path, or empty
	base        string
	people      string // whole
	groups      string // whole
	named       string // empty: as is the custom
	classes     []string
	groupClass  string
	attributes  map[string]string // our field → the directory's attribute
	suspended   suspended
	rate        float64
	page        int
}

// suspended is how accounts are marked that may not sign in; no field: as the server does.
type suspended struct{ field, off, on string }

// read reads the part of a directory.
func read(part reach.Part) *connection {
	c := &connection{page: 500, attributes: map[string]string{}}
	has := map[string]bool{}
	var people, groups string
	for _, p := range part.Pairs {
		has[p.Key] = true
		switch p.Key {
		case "url":
			c.url = readURL(p.Value)
		case "user":
			c.user = p.Value.Text()
		case "password":
			c.password = part.Secret(p.Value)
		case "ca":
			c.ca = part.Path(p.Value.Text())
		case "certificate":
			c.certificate = part.Path(p.Value.Text())
		case "base":
			c.base = readDN(p.Value)
		case "people":
			people = readDN(p.Value)
		case "groups":
			groups = readDN(p.Value)
		case "named":
			c.named = readAttribute(p.Value)
		case "classes":
			for _, class := range p.Value.Items() {
				c.classes = append(c.classes, readAttribute(class))
			}
		case "group_class":
			c.groupClass = readAttribute(p.Value)
		case "attributes":
			for _, pair := range p.Value.Pairs() {
				c.attributes[pair.Key] = readAttribute(pair.Value)
			}
		case "suspended":
			c.suspended = readSuspended(p)
		case "rate":
			c.rate = part.Rate(p.Value)
		case "page":
			c.page = p.Value.Whole(1, 10000)
		}
	}
	c.people, c.groups = beneath(people, c.base), beneath(groups, c.base)
	proves := c.certificate != "" || strings.HasPrefix(c.url, "ldapi:")
	switch {
	case !has["url"]:
		part.At.Fail("Add “url: ldaps://…”.", "system %s has no url", part.Name)
	case !has["base"]:
		part.At.Fail("Add “base: dc=…”, the top of the directory.", "system %s has no base", part.Name)
	case has["user"] != has["password"]:
		part.At.Fail("“user” and “password” belong together.", "system %s has only one of user and password", part.Name)
	case !has["user"] && !proves:
		part.At.Fail("Add “user” and “password”, or a “certificate”.", "system %s does not say who the program signs in as", part.Name)
	case has["suspended"] && (c.suspended.field == "" || c.suspended.off == ""):
		part.At.Fail("Write it as “suspended: {field: loginShell, off: /usr/sbin/nologin}”.", "system %s does not say how an account is marked that may not sign in", part.Name)
	}
	return c
}

func readSuspended(pair yamldoc.Pair) (s suspended) {
	for _, p := range pair.Value.Pairs(yamldoc.Names(suspendedKeys())...) {
		switch p.Key {
		case "field":
			s.field = p.Value.Text()
		case "off":
			s.off = p.Value.Text()
		case "on":
			s.on = p.Value.Text()
		}
	}
	return s
}

// beneath is a place that is written without the top of the directory, or with it.
func beneath(place, base string) string {
	switch {
	case place == "":
		return base
	case place == base, strings.HasSuffix(strings.ToLower(place), ","+strings.ToLower(base)):
		return place
	}
	return place + "," + base
}

// readURL accepts addresses of directories. That nothing is said in clear to another
// machine, connecting sees to.
func readURL(node yamldoc.Node) string {
	text := node.Text()
	if _, err := parseAddress(text); err != nil {
		node.Fail("Write it as ldaps://host, ldap://host or ldapi:///path/of/its/socket. Who signs in, “user” says, and what is looked for where, “base”.", "“%s” is not the address of a directory: %s", text, err)
	}
	return text
}

// An address is where a server listens.
type address struct{ scheme, network, address, host string }

// parseAddress reads the address of a directory; ldapi has the path of a socket, as it is or
// in the place of the host, with its slashes written as %2F.
func parseAddress(text string) (address, error) {
	scheme, rest, _ := strings.Cut(text, "://")
	if scheme == "ldapi" || text == "ldapi:" {
		path, err := url.PathUnescape(strings.TrimSuffix(rest, "/"))
		if path == "" {
			path = "/var/run/slapd/ldapi"
		}
		return address{"ldapi", "unix", path, "localhost"}, err
	}
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return address{}, errors.New("it cannot be read")
	case u.Scheme != "ldap" && u.Scheme != "ldaps":
		return address{}, errors.New("it begins with neither ldap, ldaps nor ldapi")
	case u.Hostname() == "":
		return address{}, errors.New("it names no host")
	case u.User != nil:
		return address{}, errors.New("there is a user in it")
	case strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "":
		return address{}, errors.New("there is more in it than a host and a port")
	}
	port := u.Port()
	switch {
	case port == "" && u.Scheme == "ldaps":
		port = ldap.DefaultLdapsPort
	case port == "":
		port = ldap.DefaultLdapPort
	}
	return address{u.Scheme, "tcp", net.JoinHostPort(u.Hostname(), port), u.Hostname()}, nil
}

func readDN(node yamldoc.Node) string {
	text := node.Text()
	dn, err := ldap.ParseDN(text)
	if err != nil || len(dn.RDNs) == 0 {
		node.Fail("Write it as ou=people,dc=example.", "“%s” is not a distinguished name", text)
	}
	return text
}

// readAttribute reads the name of an attribute or class (RFC 4512 section 1.4).
func readAttribute(node yamldoc.Node) string {
	text := node.Text()
	if !isName(text) {
		node.Fail("Letters, digits and hyphens are in such a name.", "“%s” is not the name of an attribute or object class", text)
	}
	return text
}

func isName(text string) bool {
	return text != "" && strings.Trim(strings.ToLower(text), "abcdefghijklmnopqrstuvwxyz0123456789-.") == ""
}

// Address implements system.Connection.
func (c *connection) Address() string { return c.url + "/" + c.people }

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) {
	password := ""
	if c.user != "" {
		var err error
		if password, err = work.OpenSecret(c.password); err != nil {
			return nil, err
		}
	}
	return newClient(*c, password, work)
}
