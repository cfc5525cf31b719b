package scim

import (
	"net/url"
	"strings"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// Kind returns the kind of system that this package reaches.
func Kind() system.Kind {
	return system.Kind{
		Name: "scim",
		Keys: []yamldoc.Key{
			{Name: "url", Form: yamldoc.Text, About: "The base address of the service, such as https://host/scim/v2."},
			{Name: "token", Form: yamldoc.Text, About: "Where the bearer token is kept: env:NAME or file:PATH."},
			{Name: "user", Form: yamldoc.Text, About: "Instead of a token: the user name."},
			{Name: "password", Form: yamldoc.Text, About: "With user: where its password is kept: env:NAME or file:PATH."},
			{Name: "ca", Form: yamldoc.Text, About: "A PEM file with the authority that signed the server's certificate, where it is none of the usual ones."},
			{Name: "rate", Form: yamldoc.Text, About: "The most requests in a time: 20/s, 300/min or 5000/h."},
			{Name: "page", Form: yamldoc.Whole, About: "How many accounts are asked for in one page. Without it: 200."},
			{Name: "patch", Form: yamldoc.Bool, About: "false has changes sent whole, by PUT, whatever the service promises."},
			{Name: "memberships", Form: keptForm, About: "Where kinds of things are kept, such as courses, if the service doesn't say."},
		},
		Forms: map[yamldoc.Form]yamldoc.Object{keptForm: {"type": "object", "additionalProperties": yamldoc.Schema(keptKeys(), nil)}},
		Read:  func(part reach.Part) system.Connection { return read(part) },
		IsOwn: func(field string) bool { return strings.Contains(field, ":") }, // a URN (RFC 8141)
	}
}

// keptForm is the form of “memberships”: a table for each kind of things.
const keptForm yamldoc.Form = "kept"

// keptKeys are those of one kind of things.
func keptKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "endpoint", Form: yamldoc.Text, About: "The endpoint of the things, such as /Trainings."},
		{Name: "attribute", Form: yamldoc.Text, About: "Instead: the attribute of accounts that lists them."},
		{Name: "members", Form: yamldoc.Text, About: "The attribute of a thing that lists who is in it. Without it: members."},
		{Name: "role", Form: yamldoc.Text, About: "The part of a member that is their role."},
		{Name: "section", Form: yamldoc.Text, About: "The part of a member that is their section."},
		{Name: "seats", Form: yamldoc.Table, About: "How many accounts may have each, where the service doesn't say."},
	}
}

// A connection is how a service is reached.
type connection struct {
	url      string // base, without a slash at the end
	token    secret.Reference
	user     string
	password secret.Reference
	ca       string // absolute path, or empty
	rate     float64
	page     int
	noPatch  bool
	kinds    map[string]Kept
}

// read reads the part of a service.
func read(part reach.Part) *connection {
	c := &connection{page: 200}
	has := map[string]bool{}
	for _, p := range part.Pairs {
		has[p.Key] = true
		switch p.Key {
		case "url":
			c.url = readURL(p.Value)
		case "token":
			c.token = part.Secret(p.Value)
		case "user":
			c.user = p.Value.Text()
		case "password":
			c.password = part.Secret(p.Value)
		case "ca":
			c.ca = part.Path(p.Value.Text())
		case "rate":
			c.rate = part.Rate(p.Value)
		case "page":
			c.page = p.Value.Whole(1, 10000)
		case "patch":
			c.noPatch = !p.Value.Bool()
		case "memberships":
			c.kinds = map[string]Kept{}
			for _, kind := range p.Value.Pairs() {
				c.kinds[kind.Key] = readKept(kind)
			}
		}
	}
	switch {
	case !has["url"]:
		part.At.Fail("Add “url: https://…/scim/v2”.", "system %s has no url", part.Name)
	case has["token"] && (has["user"] || has["password"]):
		part.At.Fail("Keep “token”, or “user” with “password”.", "system %s has both a token and a user", part.Name)
	case has["user"] != has["password"]:
		part.At.Fail("“user” and “password” belong together.", "system %s has only one of user and password", part.Name)
	case !has["token"] && !has["user"]:
		part.At.Fail("Add “token: env:NAME” or “token: file:PATH”.", "system %s has no token and no user", part.Name)
	}
	return c
}

func readKept(pair yamldoc.Pair) Kept {
	k := Kept{}
	for _, p := range pair.Value.Pairs(yamldoc.Names(keptKeys())...) {
		switch p.Key {
		case "endpoint":
			k.Endpoint = "/" + strings.Trim(p.Value.Text(), "/")
		case "attribute":
			k.Attribute = p.Value.Text()
		case "members":
			k.Members = p.Value.Text()
		case "role":
			k.Role = p.Value.Text()
		case "section":
			k.Section = p.Value.Text()
		case "seats":
			k.Seats = map[string]int{}
			for _, thing := range p.Value.Pairs() {
				k.Seats[thing.Key] = thing.Value.Whole(0, 1e9)
			}
		}
	}
	if k.Endpoint != "" && k.Attribute != "" {
		pair.At.Fail("Keep one of them.", "%s have both an endpoint and an attribute", pair.Key)
	}
	return k
}

// readURL accepts https, and http only to this machine: a token must not travel
// in clear.
func readURL(node yamldoc.Node) string {
	text := strings.TrimRight(node.Text(), "/")
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		node.Fail("Write it as https://host/path.", "“%s” is not the address of a server", text)
	case u.User != nil:
		node.Fail("Take them out of the address and use “user” and “password”.", "the address has a user name or password in it")
	case u.Scheme == "http" && !reach.OnThisMachine(u.Hostname()):
		node.Fail("Use https.", "http would send the token in clear to %s", u.Hostname())
	case u.RawQuery != "" || u.Fragment != "":
		node.Fail("Keep what comes before “?” and “#”.", "the address has a query or fragment in it")
	}
	return text
}

// Address implements system.Connection.
func (c *connection) Address() string { return c.url }

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) {
	config := Config{
		URL: c.url, CA: c.ca, Together: work.Together, Slots: work.Slots(), Rate: c.rate, Crowd: work.Crowd, Page: c.page, Timeout: work.Timeout, Aliases: work.Aliases,
		Kinds: c.kinds, NoPatch: c.noPatch, Mask: work.Mask, Trace: work.Trace, Clock: work.Clock, Waiting: work.Waiting,
	}
	if c.user != "" {
		password, err := work.OpenSecret(c.password)
		if err != nil {
			return nil, err
		}
		config.Authorization = Basic(c.user, password)
		work.Mask.Add(strings.TrimPrefix(config.Authorization, "Basic "))
		return New(config)
	}
	token, err := work.OpenSecret(c.token)
	if err != nil {
		return nil, err
	}
	config.Authorization = Bearer(token)
	return New(config)
}
