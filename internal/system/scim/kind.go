package scim

import (
	"strings"

	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// Kind returns the kind of system that this package reaches.
func Kind() system.Kind {
	return system.Kind{
		Name:     "scim",
		Settings: settings,
		Forms:    map[yamldoc.Form]yamldoc.Object{keptForm: {"type": "object", "additionalProperties": yamldoc.Schema(new(Kept).keys(), nil)}},
		IsOwn:    func(field string) bool { return strings.Contains(field, ":") }, // a URN (RFC 8141)
	}
}

// keptForm is the form of “memberships”: a table for each kind of things.
const keptForm yamldoc.Form = "kept"

// A connection is how a service is reached.
type connection struct {
	httpdial.Service
	page    int
	noPatch bool
	kinds   map[string]Kept
}

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
	c := &connection{page: 200}
	keys := append(c.Keys(part, "The base address of the service, such as https://host/scim/v2.", true), []yamldoc.Key{
		{Name: "page", Form: yamldoc.Whole, About: "How many accounts are asked for in one page. Without it: 200.", Put: func(n yamldoc.Node) { c.page = n.Whole(1, 10000) }},
		{Name: "patch", Form: yamldoc.Bool, About: "false has changes sent whole, by PUT, whatever the service promises.", Put: func(n yamldoc.Node) { c.noPatch = !n.Bool() }},
		{Name: "memberships", Form: keptForm, About: "Where kinds of things are kept, such as courses, if the service doesn't say.", Put: func(n yamldoc.Node) { c.kinds = readKinds(n) }},
	}...)
	return keys, func(given yamldoc.Given) system.Connection {
		c.Check(part, given, "system "+part.Name, "https://HOST/scim/v2", true)
		return c
	}
}

func readKinds(node yamldoc.Node) map[string]Kept {
	kinds := map[string]Kept{}
	for _, pair := range node.Pairs() {
		k := Kept{}
		if pair.Value.Read(k.keys()); k.Endpoint != "" && k.Attribute != "" {
			pair.At.Fail("Keep one of them.", "%s have both an endpoint and an attribute", pair.Key)
		}
		kinds[pair.Key] = k
	}
	return kinds
}

func (k *Kept) keys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "endpoint", Form: yamldoc.Text, About: "The endpoint of the things, such as /Trainings.", Put: func(n yamldoc.Node) { k.Endpoint = "/" + strings.Trim(n.Text(), "/") }},
		{Name: "attribute", Form: yamldoc.Text, About: "Instead: the attribute of accounts that lists them.", Put: yamldoc.Into(&k.Attribute, yamldoc.Node.Text)},
		{Name: "members", Form: yamldoc.Text, About: "The attribute of a thing that lists who is in it. Without it: members.", Put: yamldoc.Into(&k.Members, yamldoc.Node.Text)},
		{Name: "role", Form: yamldoc.Text, About: "The part of a member that is their role.", Put: yamldoc.Into(&k.Role, yamldoc.Node.Text)},
		{Name: "section", Form: yamldoc.Text, About: "The part of a member that is their section.", Put: yamldoc.Into(&k.Section, yamldoc.Node.Text)},
		{Name: "seats", Form: yamldoc.Table, About: "How many accounts may have each, where the service doesn't say.", Put: func(n yamldoc.Node) {
			k.Seats = map[string]int{}
			for _, thing := range n.Pairs() {
				k.Seats[thing.Key] = thing.Value.Whole(0, 1e9)
			}
		}},
	}
}

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) {
	http, err := c.Config(work.Mask, work.Timeout)
	if err != nil {
		return nil, err
	}
	http.Together, http.Slots, http.Crowd, http.Trace, http.Clock, http.Waiting = work.Together, work.Slots(), work.Crowd, work.Trace, work.Clock, work.Waiting
	return New(Config{Config: http, Page: c.page, Aliases: work.Aliases, Kinds: c.kinds, NoPatch: c.noPatch})
}
