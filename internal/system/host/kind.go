package host

import (
	"evenledger/internal/reach"
	"evenledger/internal/sshdial"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// Kind returns the kind of system that this package reaches.
func Kind() system.Kind {
	return system.Kind{
		Name: "host",
		// Requests wait in the host's shell for those before them, so that its answers are
		// not waited for one by one.
		Together: 32,
		Settings: settings,
	}
}

// A connection is how a host is reached.
type connection struct {
	sshdial.Server
	sudo  bool
	homes homes
	ends  bool // sessions of who is suspended
}

type homes struct{ make, move, remove bool }

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
	c := &connection{homes: homes{make: true}}
	keys := append([]yamldoc.Key{
		{Name: "url", Form: yamldoc.Text, About: "The host: ssh://USER@HOST, with :PORT if it is not 22.", Put: func(n yamldoc.Node) {
			if path := c.ReadURL(n, "ssh", "ssh://USER@HOST"); path != "" && path != "/" {
				n.Fail("Write it as ssh://USER@HOST.", "nothing stands behind the name of a host")
			}
		}},
		{Name: "root", OneOf: []string{"sudo"}, About: "How root is reached: sudo (which must not ask for a password). Without it, the user is root.", Put: func(yamldoc.Node) { c.sudo = true }},
		{Name: "homes", About: "What becomes of home folders.", Nested: []yamldoc.Key{
			{Name: "make", Form: yamldoc.Bool, About: "false: new accounts get none. Without it: they get one, from the host's /etc/skel.", Put: yamldoc.Into(&c.homes.make, yamldoc.Node.Bool)},
			{Name: "move", Form: yamldoc.Bool, About: "true: what is in a home folder moves along when homeDirectory changes. Without it: it stays where it was.", Put: yamldoc.Into(&c.homes.move, yamldoc.Node.Bool)},
			{Name: "remove", Form: yamldoc.Bool, About: "true: it goes with its account. Without it: it stays.", Put: yamldoc.Into(&c.homes.remove, yamldoc.Node.Bool)},
		}},
		{Name: "ends_sessions", Form: yamldoc.Bool, About: "true: who is suspended is thrown out as well. Without it: what they are at goes on.", Put: yamldoc.Into(&c.ends, yamldoc.Node.Bool)},
	}, c.Keys(part)...)
	return keys, func(yamldoc.Given) system.Connection {
		switch {
		case c.At == "":
			part.At.Fail("Add “url: ssh://USER@HOST”.", "system %s does not say where the host is", part.Name)
		case c.User == "":
			part.At.Fail("Add “user”, or write the url as ssh://USER@HOST.", "system %s does not say who signs in", part.Name)
		}
		return c
	}
}

// Address implements system.Connection.
func (c *connection) Address() string { return "ssh://" + c.String() }

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) { return newClient(c, work) }
