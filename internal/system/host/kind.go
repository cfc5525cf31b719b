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
		Keys: append([]yamldoc.Key{
			{Name: "url", Form: yamldoc.Text, About: "The host: ssh://USER@HOST, with :PORT if it is not 22."},
			{Name: "root", OneOf: []string{"sudo"}, About: "How root is reached: sudo (which must not ask for a password). Without it, the user is root."},
			{Name: "homes", Nested: homesKeys(), About: "What becomes of home folders."},
			{Name: "ends_sessions", Form: yamldoc.Bool, About: "true: who is suspended is thrown out as well. Without it: what they are at goes on."},
		}, sshdial.Keys()...),
		Read: func(part reach.Part) system.Connection { return read(part) },
	}
}

func homesKeys() []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "make", Form: yamldoc.Bool, About: "false: new accounts get none. Without it: they get one, from the host's /etc/skel."},
		{Name: "move", Form: yamldoc.Bool, About: "true: what is in a home folder moves along when homeDirectory changes. Without it: it stays where it was."},
		{Name: "remove", Form: yamldoc.Bool, About: "true: it goes with its account. Without it: it stays."},
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

func read(part reach.Part) *connection {
	c := &connection{homes: homes{make: true}}
	for _, p := range part.Pairs {
		switch p.Key {
		case "url":
			if path := c.ReadURL(p.Value, "ssh", "ssh://USER@HOST"); path != "" && path != "/" {
				p.Value.Fail("Write it as ssh://USER@HOST.", "nothing stands behind the name of a host")
			}
		case "root":
			c.sudo = p.Value.OneOf("sudo") == "sudo"
		case "homes":
			for _, h := range p.Value.Pairs(yamldoc.Names(homesKeys())...) {
				switch h.Key {
				case "make":
					c.homes.make = h.Value.Bool()
				case "move":
					c.homes.move = h.Value.Bool()
				case "remove":
					c.homes.remove = h.Value.Bool()
				}
			}
		case "ends_sessions":
			c.ends = p.Value.Bool()
		default:
			c.Read(part, p)
		}
	}
	switch {
	case c.At == "":
		part.At.Fail("Add “url: ssh://USER@HOST”.", "system %s does not say where the host is", part.Name)
	case c.User == "":
		part.At.Fail("Add “user”, or write the url as ssh://USER@HOST.", "system %s does not say who signs in", part.Name)
	}
	return c
}

// Address implements system.Connection.
func (c *connection) Address() string { return "ssh://" + c.String() }

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) { return newClient(c, work) }
