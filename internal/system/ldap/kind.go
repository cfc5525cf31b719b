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
func Kind() system.Kind { return system.Kind{Name: "ldap", Settings: settings} }

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

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
	c := &connection{page: 500, attributes: map[string]string{}}
	text := yamldoc.Node.Text
	return []yamldoc.Key{
		{Name: "url", Form: yamldoc.Text, About: "Where the directory is: ldaps://host, ldap://host (which becomes TLS before anything else is said), or ldapi:// for one on this machine.", Put: yamldoc.Into(&c.url, readURL)},
		{Name: "user", Form: yamldoc.Text, About: "Who the program signs in as: a distinguished name, or a principal name such as name@domain. Without it, on ldapi: or with a certificate, whom the server takes the program for.", Put: yamldoc.Into(&c.user, text)},
		{Name: "password", Form: yamldoc.Text, About: "With user: where its password is kept: env:NAME or file:PATH.", Put: yamldoc.Into(&c.password, part.Secret)},
		{Name: "ca", Form: yamldoc.Text, About: "A PEM file with the authority that signed the server's certificate, where it is none of the usual ones.", Put: yamldoc.Into(&c.ca, part.File)},
		{Name: "certificate", Form: yamldoc.Text, About: "A PEM file with a certificate and its key by which the program shows who it is.", Put: yamldoc.Into(&c.certificate, part.File)},
		{Name: "base", Form: yamldoc.Text, About: "The top of the directory, such as dc=brindlesound,dc=example.", Put: yamldoc.Into(&c.base, readDN)},
		{Name: "people", Form: yamldoc.Text, About: "Where the accounts are, beneath base, such as ou=people. Without it: base.", Put: yamldoc.Into(&c.people, readDN)},
		{Name: "groups", Form: yamldoc.Text, About: "Where the groups are, beneath base, such as ou=groups. Without it: base.", Put: yamldoc.Into(&c.groups, readDN)},
		{Name: "named", Form: yamldoc.Text, About: "The attribute by which an account's entry is called. Without it: uid, or cn where that is the custom.", Put: yamldoc.Into(&c.named, readAttribute)},
		{Name: "classes", Form: yamldoc.Texts, About: "The object classes of new accounts; the first tells accounts from other entries. Without it: inetOrgPerson, or user where that is the custom.", Put: func(n yamldoc.Node) {
			for _, class := range n.Items() {
				c.classes = append(c.classes, readAttribute(class))
			}
		}},
		{Name: "group_class", Form: yamldoc.Text, About: "The object class of new groups. Without it: groupOfNames, or group where that is the custom.", Put: yamldoc.Into(&c.groupClass, readAttribute)},
		{Name: "attributes", Form: yamldoc.Table, About: "Which attribute holds a field, where it is not the usual one, such as department: ou.", Put: func(n yamldoc.Node) {
			for _, pair := range n.Pairs() {
				c.attributes[pair.Key] = readAttribute(pair.Value)
			}
		}},
		{Name: "suspended", About: "How an account is marked that may not sign in, where the server has no way of its own.", Nested: []yamldoc.Key{
			{Name: "field", Form: yamldoc.Text, About: "The attribute that says so, such as loginShell.", Put: yamldoc.Into(&c.suspended.field, text)},
			{Name: "off", Form: yamldoc.Text, About: "Its value for who may not sign in.", Put: yamldoc.Into(&c.suspended.off, text)},
			{Name: "on", Form: yamldoc.Text, About: "Its value for who is let in again. Without it the value is taken away.", Put: yamldoc.Into(&c.suspended.on, text)},
		}},
		{Name: "rate", Form: yamldoc.Text, About: "The most requests in a time: 20/s, 300/min or 5000/h.", Put: yamldoc.Into(&c.rate, part.Rate)},
		{Name: "page", Form: yamldoc.Whole, About: "How many entries are asked for in one page. Without it: 500.", Put: func(n yamldoc.Node) { c.page = n.Whole(1, 10000) }},
	}, func(given yamldoc.Given) system.Connection { return c.checked(part, given) }
}

// checked reports what does not go together.
func (c *connection) checked(part reach.Part, given yamldoc.Given) *connection {
	c.people, c.groups = beneath(c.people, c.base), beneath(c.groups, c.base)
	proves := c.certificate != "" || strings.HasPrefix(c.url, "ldapi:")
	switch {
	case !given.Has("url"):
		part.At.Fail("Add “url: ldaps://…”.", "system %s has no url", part.Name)
	case !given.Has("base"):
		part.At.Fail("Add “base: dc=…”, the top of the directory.", "system %s has no base", part.Name)
	case given.Has("user") != given.Has("password"):
		part.At.Fail("“user” and “password” belong together.", "system %s has only one of user and password", part.Name)
	case !given.Has("user") && !proves:
		part.At.Fail("Add “user” and “password”, or a “certificate”.", "system %s does not say who the program signs in as", part.Name)
	case given.Has("suspended") && (c.suspended.field == "" || c.suspended.off == ""):
		part.At.Fail("Write it as “suspended: {field: loginShell, off: /usr/sbin/nologin}”.", "system %s does not say how an account is marked that may not sign in", part.Name)
	}
	return c
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
