// Package mail sends mails by SMTP (RFC 5321).
//
// It promises that nothing is said in clear but to this machine, that headers hold what they
// are to hold and nothing else, and that what became of each mail is told apart: sent,
// refused, to be tried again, or unclear, when the connection broke after the whole mail was handed over.
package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"evenledger/internal/clock"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// A Mail is what is sent to one address.
type Mail struct {
	Notice  string `json:"notice,omitempty"` // of a brief, that it comes of
	To      string `json:"to"`
	Subject string `json:"subject"`
	Text    string `json:"text"`
	HTML    string `json:"html,omitempty"`
	ID      string `json:"-"` // by which mail programs know it (RFC 5322 section 3.6.4), without brackets

	Attached []Attachment `json:"-"`
}

// An Attachment is a file that goes with a mail.
type Attachment struct {
	Name string
	Data []byte
}

// A Server is how mails are sent. It holds no secret, only where one is kept.
type Server struct {
	host     string
	port     int
	implicit bool // TLS from the start
	From     netmail.Address
	ReplyTo  string
	user     string
	password secret.Reference
	ca       string
	Rate     float64 // mails a second; 0: any
	Line     int     // in evenledger.yaml
}

// Keys are those of “mail” in evenledger.yaml.
func Keys() []yamldoc.Key { return new(Server).keys(reach.Part{}) }

func (s *Server) keys(part reach.Part) []yamldoc.Key {
	return []yamldoc.Key{
		{Name: "server", Form: yamldoc.Text, About: "The server that takes mails: smtp://HOST:587, where StartTLS is demanded but on this machine, or smtps://HOST.", Put: s.readServer},
		{Name: "from", Form: yamldoc.Text, About: "Who the mails are from: an address, with a name before it in <> if wanted.", Put: func(n yamldoc.Node) {
			if at, err := netmail.ParseAddress(n.Text()); err != nil {
				n.Fail("Write it as Crewing office <accounts@brindlesound.example>.", "this is no address: %s", err)
			} else {
				s.From = *at
			}
		}},
		{Name: "reply_to", Form: yamldoc.Text, About: "The address that answers go to. Without it: “from”.", Put: func(n yamldoc.Node) {
			if at, err := netmail.ParseAddress(n.Text()); err != nil || at.Name != "" {
				n.Fail("Write one address.", "“%s” is no address", n.Text())
			} else {
				s.ReplyTo = at.Address
			}
		}},
		{Name: "user", Form: yamldoc.Text, About: "Who the program signs in as; with password.", Put: yamldoc.Into(&s.user, yamldoc.Node.Text)},
		{Name: "password", Form: yamldoc.Text, About: "Where the password is kept: env:NAME or file:PATH.", Put: yamldoc.Into(&s.password, part.Secret)},
		{Name: "ca", Form: yamldoc.Text, About: "A PEM file with the authority that signed the server's certificate, where it is none of the usual ones.", Put: yamldoc.Into(&s.ca, part.File)},
		{Name: "rate", Form: yamldoc.Text, About: "The most mails in a time, such as 60/min. Without it: as fast as the server takes them.", Put: yamldoc.Into(&s.Rate, part.Rate)},
	}
}

// Read reads “mail” of evenledger.yaml.
func Read(part reach.Part, node yamldoc.Node) *Server {
	s := &Server{}
	s.Line, _ = part.At.Position()
	given := node.Read(s.keys(part))
	for _, key := range []string{"server", "from"} {
		if !given.Has(key) {
			part.At.Fail(fmt.Sprintf("Add “%s”.", key), "mail has no “%s”", key)
		}
	}
	if given.Has("user") != given.Has("password") {
		part.At.Fail("“user” and “password” belong together.", "mail has only one of user and password")
	}
	return s
}

func (s *Server) readServer(node yamldoc.Node) {
	at, err := url.Parse(node.Text())
	switch {
	case err != nil || at.Hostname() == "" || at.Scheme != "smtp" && at.Scheme != "smtps":
		node.Fail("Write smtp://HOST:587 or smtps://HOST.", "“%s” is no address of a mail server", node.Text())
		return
	case at.User != nil:
		node.Fail("Use “user” and “password”.", "the address has a user name or password in it")
		return
	}
	s.host, s.implicit = at.Hostname(), at.Scheme == "smtps"
	if s.port = map[bool]int{true: 465, false: 587}[s.implicit]; at.Port() != "" {
		s.port, _ = strconv.Atoi(at.Port())
	}
}

// Address says where the server is.
func (s *Server) Address() string { return net.JoinHostPort(s.host, strconv.Itoa(s.port)) }

// Errors of one mail that was to be sent; every other error is of the server as a whole.
var (
	// ErrLater means that the server took nothing of it, and may at another time (4xx).
	ErrLater = errors.New("the server does not take it now")
	// ErrUnclear means that all of it was handed over, and no answer came.
	ErrUnclear = errors.New("no answer came after the mail was handed over")
)

// Refused is the server's clear no to one mail (5xx).
type Refused struct{ Message string }

func (e *Refused) Error() string { return e.Message }

// A Sender has one connection to a server, which it makes when it is needed. It is used by
// one goroutine at a time.
type Sender struct {
	server *Server
	work   Work
	client *gomail.Client
	secure *tls.Config
	open   bool
}

// Work is what sending is told of the work at hand.
type Work struct {
	Mask  *secret.Mask // takes secrets out of what is told; may be nil
	Clock clock.Clock
}

// timeout is how long the server may take for one answer.
const timeout = time.Minute

// Open opens the secrets and returns a Sender. Nothing is sent yet.
func (s *Server) Open(work Work) (*Sender, error) {
	secure, err := reach.Secure(s.ca)
	if err != nil {
		return nil, err
	}
	secure.ServerName = s.host
	options := []gomail.Option{gomail.WithPort(s.port), gomail.WithTimeout(timeout), gomail.WithTLSConfig(secure), gomail.WithoutNoop(), gomail.WithoutRset()}
	switch {
	case s.implicit:
		options = append(options, gomail.WithSSL())
	case reach.OnThisMachine(s.host) && s.ca == "":
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	default:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	}
	if s.user != "" {
		password, err := reach.Open(s.password, work.Mask)
		if err != nil {
			return nil, err
		}
		options = append(options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(s.user), gomail.WithPassword(password))
		if reach.OnThisMachine(s.host) && s.ca == "" && !s.implicit {
			options = append(options, gomail.WithSMTPAuth(gomail.SMTPAuthPlainNoEnc))
		}
	}
	client, err := gomail.NewClient(s.host, options...)
	if err != nil {
		return nil, err
	}
	return &Sender{server: s, work: work, client: client, secure: secure}, nil
}

// Close ends the connection.
func (s *Sender) Close() {
	if s.open {
		_ = s.client.Close()
	}
	s.open = false
}

// Connect connects and signs in, if that is not done.
func (s *Sender) Connect(ctx context.Context) error {
	if s.open {
		return nil
	}
	if err := s.client.DialWithContext(ctx); err != nil {
		return s.unreachable(ctx, err)
	}
	s.open = true
	return nil
}

// Send sends one mail.
func (s *Sender) Send(ctx context.Context, m Mail) error {
	if err := s.Connect(ctx); err != nil {
		return err
	}
	message, err := s.message(m)
	if err != nil {
		return &Refused{err.Error()}
	}
	err = s.client.Send(message)
	if err == nil {
		return nil
	}
	said := s.work.Mask.Hide(err.Error())
	if found := answered.FindStringSubmatch(said); found != nil {
		said = found[1] + " " + strings.TrimSpace(found[2])
	}
	var told *gomail.SendError
	if !errors.As(err, &told) {
		s.Close()
		return s.unreachable(ctx, err)
	}
	switch code := told.ErrorCode(); {
	case told.Reason == gomail.ErrSMTPReset: // it had taken the mail before
		s.Close()
		return nil
	case code == 421: // it closes the connection
		s.Close()
		return fmt.Errorf("%w: %s", ErrLater, said)
	case code >= 500:
		return &Refused{"the mail server says: " + said}
	case code >= 400:
		return fmt.Errorf("%w: %s", ErrLater, said)
	case told.Reason == gomail.ErrSMTPDataClose:
		s.Close()
		return fmt.Errorf("%w: %s", ErrUnclear, said)
	}
	// It broke off before the end of the mail was handed over.
	s.Close()
	return fmt.Errorf("%w: %s", ErrLater, said)
}

// answered is what a server answered (RFC 5321 section 4.2) in the library's words around it.
var answered = regexp.MustCompile(`\b([45][0-9][0-9]) "?([^"]*)`)

// message writes a mail as RFC 5322 wants it.
func (s *Sender) message(m Mail) (*gomail.Msg, error) {
	message := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	message.FromMailAddress(&s.server.From)
	if err := message.To(m.To); err != nil {
		return nil, err
	}
	if s.server.ReplyTo != "" {
		if err := message.ReplyTo(s.server.ReplyTo); err != nil {
			return nil, err
		}
	}
	message.Subject(strings.Join(strings.Fields(m.Subject), " "))
	message.SetDateWithValue(s.work.Clock.Now())
	if m.ID != "" {
		message.SetMessageIDWithValue(m.ID)
	} else {
		message.SetMessageID()
	}
	// Nobody is to answer by a machine (RFC 3834 section 5).
	message.SetGenHeader("Auto-Submitted", "auto-generated")
	message.SetBodyString(gomail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		message.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	}
	for _, file := range m.Attached {
		if err := message.AttachReader(file.Name, bytes.NewReader(file.Data)); err != nil {
			return nil, err
		}
	}
	return message, nil
}

// Text writes a mail as it would be sent, for whoever wants to look at it.
func (s *Server) Text(m Mail, now time.Time) (string, error) {
	sender := &Sender{server: s, work: Work{Clock: clock.NewFake(now)}}
	message, err := sender.message(m)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	_, err = message.WriteTo(&out)
	return out.String(), err
}

// unreachable is the error of a server that takes no mails at all.
func (s *Sender) unreachable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	at := s.server.Address()
	message, remedy := fmt.Sprintf("the mail server %s cannot be reached: %s", at, s.work.Mask.Hide(err.Error())), "Look at “mail” in evenledger.yaml, whether the server runs, and at the network."
	var certificate *tls.CertificateVerificationError
	var dial *net.OpError
	text := strings.ToLower(err.Error())
	switch {
	case errors.As(err, &dial) && dial.Op == "dial": // many a mail server is called “auth”
	case errors.As(err, &certificate):
		message, remedy = fmt.Sprintf("the certificate of %s does not verify: %v", at, certificate.Err), "If the server has a certificate of your own authority, name its file as “ca” in evenledger.yaml. Else do not go on: somebody may be in between."
	case strings.Contains(text, "starttls"):
		message, remedy = fmt.Sprintf("the mail server %s does not begin TLS: %s", at, s.work.Mask.Hide(err.Error())), "Nothing is said in clear to another machine. Use smtps://, or ask who runs the server."
	case strings.Contains(text, "auth"), strings.Contains(text, "535"):
		message, remedy = fmt.Sprintf("the mail server %s does not let %s in: %s", at, s.server.user, s.work.Mask.Hide(err.Error())), "The user or the password is wrong. Look where evenledger.yaml says it is kept."
	}
	return &reach.Unavailable{Message: message, Remedy: remedy, Err: err}
}
