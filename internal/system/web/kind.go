package web

import (
	"fmt"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// Kind returns the kind of system that this package reaches.
func Kind() system.Kind {
	return system.Kind{
		Name:     "web",
		Settings: settings,
		IsOwn:    func(field string) bool { return strings.Contains(field, ".") }, // a path
	}
}

// A connection is how an application is reached.
type connection struct {
	httpdial.Service
	name     string
	path     string // of its description
	practice bool
}

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
	c := &connection{name: part.Name}
	keys := append(c.Keys(part, "The address that the description's paths stand behind, such as https://host/api.", true), []yamldoc.Key{
		{Name: "description", Form: yamldoc.Text, About: "The file that says how the application's web interface is spoken to.", Put: yamldoc.Into(&c.path, part.File)},
		{Name: "practice", Form: yamldoc.Bool, About: "true: it is there to be tried out on, and “system try --write” may make and remove an account in it.", Put: yamldoc.Into(&c.practice, yamldoc.Node.Bool)},
	}...)
	return keys, func(given yamldoc.Given) system.Connection {
		c.Check(part, given, "system "+part.Name, "https://HOST/api", true)
		if c.path == "" {
			part.At.Fail("Add “description: systems/"+part.Name+".yaml”; “evenledger system new OPENAPI-FILE” writes a first one.", "system %s does not say how its web interface is spoken to", part.Name)
		}
		return c
	}
}

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) {
	now := work.Clock
	if now == nil {
		now = clock.Real()
	}
	described, err := description.Load(c.path, now.Now().Format(time.DateOnly))
	if err != nil {
		return nil, &account.Mistake{Message: fmt.Sprintf("its description cannot be used: %s", err), Remedy: "Look at it with: evenledger system check " + c.path}
	}
	http, err := c.Config(work.Mask, work.Timeout)
	if err != nil {
		return nil, err
	}
	http.Together, http.Slots, http.Crowd, http.Trace, http.Clock, http.Waiting = work.Together, work.Slots(), work.Crowd, work.Trace, work.Clock, work.Waiting
	return New(Config{Config: http, Interface: described, Aliases: work.Aliases, Practice: c.practice})
}
