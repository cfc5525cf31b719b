package host

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"evenledger/internal/system"
)

// longestLine bounds what is read of one line of an answer.
const longestLine = 1 << 20

// errCut means that the shell ended before it had answered.
var errCut = errors.New("the connection was cut before the host had answered")

// A shell is root's shell on the host, through one session of one connection. Requests are
// blocks of commands, which it reads whole before it begins with one, and carries out one
// after the other; what they print begins with a mark that nobody can foresee. When the
// connection is cut, what is under way ends, and the shell dies of the line it then wants
// to write: nothing that follows is begun.
type shell struct {
	mark    string
	client  *ssh.Client
	timeout time.Duration // without a line, before the host is given up

	writing sync.Mutex // in the order of the queue
	in      io.WriteCloser

	mu     sync.Mutex
	queue  []*request // that wait for answers, in order
	number int        // of the last
	heard  time.Time
	dead   error
	says   bytes.Buffer // on standard error
}

// A request is a block of commands and what it printed.
type request struct {
	what   string // in words, for errors and traces
	script string
	number int
	line   func(kind, text string) // gets every line of the answer
	may    system.Permit
	done   chan struct{}
	err    error
}

// begin starts the shell. Its first request is the caller's.
func begin(client *ssh.Client, command string, timeout time.Duration) (*shell, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	s := &shell{mark: "E" + rand.Text(), client: client, timeout: timeout, in: in, heard: time.Now()}
	session.Stderr = (*complaints)(s)
	if err := session.Start(command); err != nil {
		return nil, err
	}
	go s.read(out)
	return s, nil
}

// complaints keeps the beginning of what the shell says on standard error.
type complaints shell

// Write implements io.Writer.
func (c *complaints) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if room := 2048 - c.says.Len(); room > 0 {
		c.says.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// ask sends a request and waits for the end of its answer. The error is the context's if it
// was not sent any more, errCut if the connection was cut. A request that was sent is waited
// for even if ctx is done.
func (s *shell) ask(ctx context.Context, r *request) error {
	if err := s.send(ctx, r); err != nil {
		return err
	}
	tick := time.NewTicker(max(s.timeout/20, 10*time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-r.done:
			return r.err
		case <-tick.C:
			s.mu.Lock()
			silent := time.Since(s.heard) > s.timeout
			s.mu.Unlock()
			if silent {
				s.end(fmt.Errorf("%w: nothing came for %s", errCut, s.timeout))
			}
		}
	}
}

func (s *shell) send(ctx context.Context, r *request) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := cmp.Or(ctx.Err(), r.may.Err()); err != nil {
		return err
	}
	r.done = make(chan struct{})
	s.mu.Lock()
	if s.dead != nil {
		defer s.mu.Unlock()
		return s.dead
	}
	s.number++
	r.number = s.number
	if len(s.queue) == 0 {
		s.heard = time.Now()
	}
	s.queue = append(s.queue, r)
	s.mu.Unlock()
	stuck := time.AfterFunc(s.timeout, func() { s.end(fmt.Errorf("%w: it took nothing for %s", errCut, s.timeout)) })
	defer stuck.Stop()
	// The braces have the shell read all of it before it begins.
	if _, err := fmt.Fprintf(s.in, "{\n%sprintf '%%s E %%s\\n' \"$M\" %d\n}\n", r.script, r.number); err != nil {
		s.end(fmt.Errorf("%w: %w", errCut, err))
	}
	return nil
}

// read reads the answers.
func (s *shell) read(out io.Reader) {
	lines := bufio.NewReaderSize(out, 64<<10)
	for {
		line, err := readLine(lines)
		if err != nil {
			s.end(fmt.Errorf("%w (%w)", errCut, err))
			return
		}
		text, is := strings.CutPrefix(line, s.mark+" ")
		if !is {
			continue // what a start-up file of the host prints
		}
		kind, text, _ := strings.Cut(text, " ")
		s.mu.Lock()
		s.heard = time.Now()
		if len(s.queue) == 0 {
			s.mu.Unlock()
			continue
		}
		r := s.queue[0]
		if kind == "E" {
			s.queue = s.queue[1:]
		}
		s.mu.Unlock()
		switch {
		case kind != "E":
			r.line(kind, text)
		case text != strconv.Itoa(r.number):
			r.err = fmt.Errorf("%w: its answers came in another order", errCut)
			close(r.done)
			s.end(r.err)
			return
		default:
			close(r.done)
		}
	}
}

// readLine returns a line without its end; of one that is too long, an error.
func readLine(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		piece, more, err := r.ReadLine()
		if err != nil {
			return "", err
		}
		if line = append(line, piece...); !more {
			return string(line), nil
		}
		if len(line) > longestLine {
			return "", errors.New("a line of its answer is longer than any can be")
		}
	}
}

// end gives the connection up. Requests that have no answer get the reason.
func (s *shell) end(why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dead != nil {
		return
	}
	s.dead = why
	for _, r := range s.queue {
		r.err = why
		close(r.done)
	}
	s.queue = nil
	_ = s.client.Close()
}

// isDead reports whether the shell takes no more requests.
func (s *shell) isDead() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.dead != nil
}

// complaint is what the shell said on standard error, in a line.
func (s *shell) complaint() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(strings.Fields(s.says.String()), " ")
}
