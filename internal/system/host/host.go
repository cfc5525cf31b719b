// Package host reaches Unix hosts over ssh whose accounts are in their own files
// (/etc/passwd, /etc/shadow, /etc/group), and changes them with the host's own tools.
//
// An account is known by its name. A client promises: all goes through one session of one
// connection; names and values are words of a command and never more; a change is made to
// the account as it was when it was looked at, or not at all; accounts below the host's
// UID_MIN are neither seen nor touched; a password goes as a hash, through a pipe of the
// shell, and stands on no command line and in no file but the host's own; where no clear
// answer comes a change ends as *system.Unclear.
//
// The tools are those of shadow-utils. What is asked of them stands in the files accounts.go
// and groups.go; a host with others would have those written anew, and nothing else.
package host

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"evenledger/internal/clock"
	"evenledger/internal/system"
)

// A client is a system.System.
type client struct {
	system.Base
	*connection
	work  system.Work
	clock clock.Clock

	opening sync.Mutex
	shell   *shell
	facts   *facts // of the host, since it was first asked
}

func newClient(c *connection, work system.Work) (*client, error) {
	if work.Clock == nil {
		work.Clock = clock.Real()
	}
	if work.Timeout == 0 {
		work.Timeout = 30 * time.Second
	}
	// A tool that finds the user database locked gives up after a quarter of a minute.
	work.Timeout = max(work.Timeout, 20*time.Second)
	return &client{connection: c, work: work, clock: work.Clock}, nil
}

// open returns root's shell, and what is known of the host.
func (c *client) open(ctx context.Context) (*shell, *facts, error) {
	c.opening.Lock()
	defer c.opening.Unlock()
	if c.shell != nil && !c.shell.isDead() {
		return c.shell, c.facts, nil
	}
	conn, err := c.Dial(ctx, c.work.Timeout, c.work.Mask)
	if err != nil {
		return nil, nil, err
	}
	command := "exec sh"
	if c.sudo {
		command = "exec sudo -n sh"
	}
	s, err := begin(conn, command, c.work.Timeout)
	if err != nil {
		_ = conn.Close()
		return nil, nil, c.Unreachable(ctx, c.work.Mask, err)
	}
	found := &facts{}
	if err := s.ask(ctx, &request{what: "look at the host", script: "M=" + s.mark + "\n" + prelude + probe, line: found.line}); err != nil {
		s.end(err)
		return nil, nil, c.noShell(ctx, s, err)
	}
	if err := found.usable(c.connection); err != nil {
		s.end(err)
		return nil, nil, err
	}
	if c.facts != nil && c.facts.host != found.host {
		err := &system.Unavailable{Message: fmt.Sprintf("%s was the host %s a moment ago, and is %s now", c.At, c.facts.host, found.host), Remedy: "Look who answers at that address. What was done on which of them stands in the ledger; reconcile both."}
		s.end(err)
		return nil, nil, err
	}
	c.shell, c.facts = s, found
	return s, found, nil
}

// Close ends the shell; see system.Close.
func (c *client) Close() error {
	c.opening.Lock()
	defer c.opening.Unlock()
	if c.shell != nil {
		c.shell.end(errors.New("the work is done"))
	}
	return nil
}

// noShell says why there is no root's shell.
func (c *client) noShell(ctx context.Context, s *shell, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	said := c.work.Mask.Hide(s.complaint())
	switch {
	case c.sudo && strings.Contains(said, "sudo"):
		return &system.Unavailable{Message: fmt.Sprintf("%s does not become root on %s: %s", c.User, c.At, said), Remedy: "Allow it there without a password, in a file beneath /etc/sudoers.d: " + c.User + " ALL=(root) NOPASSWD: /bin/sh"}
	case said != "":
		return &system.Unavailable{Message: fmt.Sprintf("%s gives no shell: %s", c.At, said), Remedy: "Sign in there by hand and look what it says."}
	}
	return c.Unreachable(ctx, c.work.Mask, err)
}

// do sends a block and returns what became of its accounts, and how they are now. What
// changes nothing is sent again when the connection breaks. If it may have been carried
// out, the error is a *system.Unclear, and the results that came are returned with it.
func (c *client) do(ctx context.Context, what string, b *block) (*answer, error) {
	return c.doWith(ctx, what, b, nil)
}

// doWith is do with what the block prints besides. The block may be sent again: other gets
// the lines of each time.
func (c *client) doWith(ctx context.Context, what string, b *block, other func(kind, text string)) (*answer, error) {
	for try := 1; ; try++ {
		s, facts, err := c.open(ctx)
		if err != nil {
			return nil, err
		}
		a := &answer{facts: facts, now: c.clock.Now(), results: make([]result, b.owns), accounts: map[string]int{}, other: other}
		began := c.clock.Now()
		err = s.ask(ctx, &request{what: what, script: b.script(), line: a.line, may: b.may})
		c.trace(what, b, began, err)
		switch {
		case err == nil && a.busy:
			return nil, &system.Unavailable{Message: fmt.Sprintf("another evenledger has been at work on %s for a minute", c.At), Remedy: "Wait until it is done."}
		case err == nil:
			return a, a.err
		case ctx.Err() != nil && !errors.Is(err, errCut):
			return nil, err
		case b.owns == 0 && try < 3:
			continue
		case b.owns == 0:
			return nil, c.Unreachable(ctx, c.work.Mask, err)
		}
		return a, &system.Unclear{Err: fmt.Errorf("%s: %w", c.At, err)}
	}
}

func (c *client) trace(what string, b *block, began time.Time, err error) {
	if c.work.Trace == nil {
		return
	}
	said := "answered"
	if err != nil {
		said = c.work.Mask.Hide(err.Error())
	}
	c.work.Trace.Info(what, slog.Int("accounts", len(b.names)), slog.String("came", said), slog.Duration("took", c.clock.Now().Sub(began)))
}
