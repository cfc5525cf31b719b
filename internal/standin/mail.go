package standin

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// A Mailbox takes mails by SMTP on this machine and keeps each as a file in a folder, made with the first, so that
// mails can be played with and nobody gets any. Addresses that begin with “refused” are
// refused, with “busy” are told to come again, once each, and with “slow” are answered late.
type Mailbox struct {
	Address string        // host and port
	Delay   time.Duration // before it says that it has a mail
	server  *smtp.Server
	dir     string

	mu   sync.Mutex
	n    int
	busy map[string]bool // addresses that were told to come again
}

// mostMail is how large a mail may be, in bytes.
const mostMail = 30 << 20

// NewMailbox begins to take mails, at a port of its own choice if address ends in :0. Without a
// folder they are read and thrown away.
func NewMailbox(address, dir string) (*Mailbox, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	m := &Mailbox{Address: listener.Addr().String(), dir: dir, busy: map[string]bool{}}
	m.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &delivery{box: m}, nil }))
	m.server.Domain, m.server.MaxMessageBytes, m.server.MaxRecipients = "localhost", mostMail, 10
	m.server.ErrorLog = quiet{}
	go func() { _ = m.server.Serve(listener) }()
	return m, nil
}

// Close takes no more mails.
func (m *Mailbox) Close() error { return m.server.Close() }

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// delivery is one mail on its way.
type delivery struct {
	box *Mailbox
	to  []string
}

// Mail implements smtp.Session.
func (d *delivery) Mail(string, *smtp.MailOptions) error { return nil }

// Rcpt implements smtp.Session.
func (d *delivery) Rcpt(to string, _ *smtp.RcptOptions) error {
	switch {
	case strings.HasPrefix(to, "refused"):
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody here is called " + to}
	case strings.HasPrefix(to, "busy"):
		d.box.mu.Lock()
		told := d.box.busy[to]
		d.box.busy[to] = true
		d.box.mu.Unlock()
		if !told {
			return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "come again later"}
		}
	case strings.HasPrefix(to, "slow"):
		time.Sleep(time.Second)
	}
	d.to = append(d.to, to)
	return nil
}

// Data implements smtp.Session.
func (d *delivery) Data(r io.Reader) error {
	defer time.Sleep(d.box.Delay)
	if d.box.dir == "" {
		_, err := io.Copy(io.Discard, r)
		return err
	}
	d.box.mu.Lock()
	d.box.n++
	n := d.box.n
	d.box.mu.Unlock()
	if err := os.MkdirAll(d.box.dir, 0o700); err != nil {
		return err
	}
	path := filepath.Join(d.box.dir, fmt.Sprintf("%s-%04d.eml", time.Now().Format("20060102-150405"), n))
	file, err := os.OpenFile(path+".part", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, r)
	if err = errors.Join(err, file.Close()); err != nil {
		return errors.Join(err, os.Remove(path+".part"))
	}
	return os.Rename(path+".part", path)
}

// Reset implements smtp.Session.
func (d *delivery) Reset() { d.to = nil }

// Logout implements smtp.Session.
func (*delivery) Logout() error { return nil }
