// Package files reaches applications that take nothing but files: what is to be done with accounts is written
// into files of the application's own form, which somebody gives it, and what became of it is read out of the
// application's newest export.
//
// It promises that a file is there whole or not at all, that none which was put is written anew, and that
// nothing of the application is said which its export does not show.
package files

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/layout"
	"evenledger/internal/reach"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

// Kind returns the kind of system that this package reaches.
func Kind() system.Kind { return system.Kind{Name: "files", Later: true, Settings: settings} }

// A connection is where the files of one application are.
type connection struct {
	name, layout, accounts string // absolute paths; accounts: may have a star, or be a feed; or empty
	beside                 string // folder for files until they are put
	outbox                 outbox
	told                   string // the outbox as it was written
	fresh                  time.Duration
}

// ofFeed begins the name of a feed that brings exports.
const ofFeed = "feed:"

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) system.Connection) {
	c := &connection{name: part.Name, outbox: folder{part.Path("outbox")}, beside: part.Path("outbox"), told: "outbox"}
	var away server
	keys := append([]yamldoc.Key{
		{Name: "layout", Form: yamldoc.Text, About: "The file that says what the application's files look like.", Put: yamldoc.Into(&c.layout, part.File)},
		{Name: "accounts", Form: yamldoc.Text, About: "The application's newest export: a sheet. A name with * in it is the newest file of such a name; feed:NAME is what a feed brings. Without it, nobody can say who is there: every row is a new account's.", Put: func(n yamldoc.Node) {
			if c.accounts = n.Text(); strings.HasPrefix(c.accounts, ofFeed) {
				return
			}
			c.accounts = part.File(n)
			if _, err := filepath.Match(filepath.Base(c.accounts), ""); err != nil || strings.ContainsAny(filepath.Dir(c.accounts), "*?[") {
				n.Fail("Such as exports/people-*.csv.", "“%s” is no name of a file", n.Text())
			}
		}},
		{Name: "fresh", Form: yamldoc.Text, About: "How old the export may be, such as 2d or 12h: with an older one nothing is drafted. Without it: of any age.", Put: yamldoc.Into(&c.fresh, yamldoc.Node.Age)},
		{Name: "outbox", Form: yamldoc.Text, About: "The folder that files are put into, or sftp://USER@HOST/FOLDER. Without it: outbox.", Put: func(n yamldoc.Node) {
			if c.told = n.Text(); !strings.HasPrefix(c.told, "sftp://") {
				c.outbox, c.beside = folder{part.Path(c.told)}, part.Path(c.told)
				return
			}
			away.path = away.ReadURL(n, "sftp", "sftp://USER@HOST/incoming")
			c.outbox, c.beside = &away, part.Dir
		}},
	}, away.Keys(part)...)
	return keys, func(yamldoc.Given) system.Connection {
		if _, local := c.outbox.(folder); !local && away.User == "" {
			part.At.Fail("Add “user”.", "system %s does not say who signs in at its outbox", part.Name)
		}
		if c.layout == "" {
			part.At.Fail("Add “layout: layouts/"+part.Name+".yaml”; “evenledger layout new SAMPLE” writes a first one.", "system %s does not say what the application's files look like", part.Name)
		}
		return c
	}
}

// Address implements system.Connection.
func (c *connection) Address() string { return "files:" + c.told }

// From implements system.FileConnection.
func (c *connection) From(export string) system.Connection {
	other := *c
	other.accounts, other.fresh = export, 0
	return &other
}

// File implements system.FileConnection.
func (c *connection) File(name string, sealed bool) string {
	if sealed {
		name += SealedEnding
	}
	return c.outbox.at(name)
}

// Export implements system.FileConnection.
func (c *connection) Export() string { return c.accounts }

// Open implements system.Connection.
func (c *connection) Open(work system.Work) (system.System, error) {
	now := work.Clock
	if now == nil {
		now = clock.Real()
	}
	l, err := layout.Load(c.layout, now.Now().Format(time.DateOnly))
	if err != nil {
		return nil, &account.Mistake{Message: fmt.Sprintf("its layout cannot be used: %s", err), Remedy: "Look at it with: evenledger layout check " + c.layout}
	}
	if _, local := c.outbox.(folder); l.HoldsPasswords() && !local {
		return nil, &account.Mistake{Message: fmt.Sprintf("the files of %s hold passwords, and would lie sealed on another machine, where nobody could open them", c.name), Remedy: "Let the outbox be a folder of this machine, or take the column with passwords out of the layout."}
	}
	return &app{connection: c, layout: l, clock: now, work: work}, nil
}

// newest is the newest export that there is, empty: none is kept; and what is done when it was read.
func (a *app) newest(ctx context.Context) (path string, at time.Time, done func() error, err error) {
	if name, is := strings.CutPrefix(a.accounts, ofFeed); is {
		return a.work.Bring(ctx, name)
	}
	path, at, err = a.connection.newest()
	return path, at, func() error { return nil }, err
}

// newest is the newest file; empty: none is kept.
func (c *connection) newest() (path string, at time.Time, err error) {
	if c.accounts == "" {
		return "", at, nil
	}
	found := []string{c.accounts}
	if strings.ContainsAny(filepath.Base(c.accounts), "*?[") {
		if found, err = filepath.Glob(c.accounts); err != nil {
			return "", at, err
		}
		slices.Sort(found) // of two of one moment the last by name
	}
	for _, one := range found {
		stat, err := os.Stat(one)
		if err == nil && stat.Mode().IsRegular() && !stat.ModTime().Before(at) {
			path, at = one, stat.ModTime()
		}
	}
	if path == "" {
		return "", at, &system.Unavailable{Message: fmt.Sprintf("there is no export of %s at %s", c.name, c.accounts), Remedy: "Export the accounts in the application, and save them there.", Err: fs.ErrNotExist}
	}
	return path, at, nil
}
