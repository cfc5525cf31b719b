// Package ldap reaches directories that speak LDAPv3 (RFC 4510 to 4519), of the standard
// kind and of those with the customs of one vendor.
//
// An account is known by the identifier that the server gives it for ever, so that it is
// not lost when it is renamed or moved; names that refer to it are put into identifiers as
// they are read. A client promises: nothing is said in clear to another machine; what the
// server cuts short is an error and never the whole; a change is made to the entry that it
// was meant for, in one request where the protocol allows it, and where no clear answer
// comes it ends as *system.Unclear; referrals are told and not followed; what stands in a
// sheet is escaped wherever it goes (RFC 4514, RFC 4515).
package ldap

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/clock"
	"evenledger/internal/pace"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
)

const (
	maxTries   = 6
	firstPause = 300 * time.Millisecond
	dialTime   = 10 * time.Second
)

// A client is a system.System.
type client struct {
	system.Base
	connection
	password string
	work     system.Work
	secure   *tls.Config
	slots    *pace.Slots // for requests under way
	pace     *pace.Pace
	clock    clock.Clock
	mask     *secret.Mask

	idling sync.Mutex
	idle   []*ldap.Conn

	formerly  sync.Map   // key of a name that an entry had → its identifier
	used      sync.Map   // attributes by which somebody was seen to refer to another
	doubted   sync.Map   // attributes of which changes cannot be held against an assertion
	stayed    sync.Map   // key of a name that is nobody's any more, and stayed so when it was waited for
	following sync.Mutex // over what follows
	customs   map[string]custom

	fitting sync.Map // object classes → what entries of them can be given

	digits, idName string // of identifiers by which a listing can be taken apart, as the family has them; set when the server is described

	describing sync.Mutex
	known      *directory
	tested     findings
}

// newClient returns a client. It sends nothing yet.
func newClient(c connection, password string, work system.Work) (*client, error) {
	secure, err := reach.Secure(c.ca)
	if err != nil {
		return nil, err
	}
	if c.certificate != "" {
		pair, err := tls.LoadX509KeyPair(c.certificate, c.certificate)
		if err != nil {
			return nil, fmt.Errorf("the certificate cannot be used: %w", err)
		}
		secure.Certificates = []tls.Certificate{pair}
	}
	at, err := parseAddress(c.url)
	if err != nil {
		return nil, err
	}
	secure.ServerName = at.host
	if work.Clock == nil {
		work.Clock = clock.Real()
	}
	work.Together = max(1, work.Together)
	if work.Timeout == 0 {
		work.Timeout = 30 * time.Second
	}
	return &client{
		connection: c, password: password, work: work, secure: secure, clock: work.Clock, mask: work.Mask,
		slots: work.Slots(), pace: pace.New(work.Clock, c.rate, firstPause, work.Crowd),
	}, nil
}

// An operation is one request.
type operation struct {
	what string        // in words, for errors
	more []any         // what else a trace tells of it, in pairs
	safe bool          // it changes nothing
	may  system.Permit // whether it may be sent, where it changes something
	do   func(*ldap.Conn) error
	on   *listing // whose connection is used; nil: any
}

// run carries out a request, on a connection that no other uses meanwhile. What changes
// nothing is tried again when the connection breaks, and anything when the server certainly
// did not carry it out.
func (c *client) run(ctx context.Context, o operation) error {
	stop := ctx
	if !o.safe { // once it is sent it is let to end
		ctx = context.WithoutCancel(ctx)
	}
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = firstPause, 20*time.Second
	for try := 1; ; try++ {
		err := c.once(ctx, stop, o)
		var again *again
		if o.on != nil && o.on.begun && errors.As(err, &again) {
			return err // it has to begin again
		}
		if !errors.As(err, &again) {
			if err == nil || ctx.Err() == nil {
				c.pace.Pass()
			}
			return err
		}
		if try == maxTries {
			return again.err
		}
		if err := c.clock.Wait(stop, pauses.NextBackOff()); err != nil {
			return err
		}
	}
}

// again is an error after which a request may be sent again.
type again struct{ err error }

func (e *again) Error() string { return e.err.Error() }
func (e *again) Unwrap() error { return e.err }

// once carries out a request one time.
func (c *client) once(ctx, stop context.Context, o operation) error {
	if err := c.slots.Take(stop); err != nil {
		return err
	}
	defer c.slots.Free()
	if err := c.pace.Wait(stop); err != nil {
		return err
	}
	conn, err := c.connect(stop, o.on)
	if err != nil {
		return err
	}
	if !o.safe {
		if err := cmp.Or(stop.Err(), o.may.Err()); err != nil {
			c.giveBack(conn)
			return err
		}
	}
	// The library waits for an answer whatever the context says: without a connection it
	// ends at once.
	release := context.AfterFunc(ctx, func() { _ = conn.Close() })
	begun := c.clock.Now()
	err = o.do(conn)
	release()
	c.traced(o, err, c.clock.Now().Sub(begun))
	if ctx.Err() != nil {
		_ = conn.Close()
		return ctx.Err()
	}
	switch {
	case isBroken(err) || conn.IsClosing():
		_ = conn.Close()
	case o.on != nil:
		o.on.conn = conn
	default:
		c.giveBack(conn)
	}
	return c.judge(o, err)
}

// connect returns the connection that a listing keeps, or any.
func (c *client) connect(ctx context.Context, on *listing) (*ldap.Conn, error) {
	if on == nil || on.conn == nil {
		return c.take(ctx)
	}
	conn := on.conn
	on.conn = nil
	return conn, nil
}

// take returns a connection that nobody uses, a new one if there is none.
func (c *client) take(ctx context.Context) (*ldap.Conn, error) {
	c.idling.Lock()
	for len(c.idle) > 0 {
		conn := c.idle[len(c.idle)-1]
		c.idle = c.idle[:len(c.idle)-1]
		if !conn.IsClosing() {
			c.idling.Unlock()
			return conn, nil
		}
	}
	c.idling.Unlock()
	conn, err := c.dial(ctx)
	if err != nil {
		return nil, err
	}
	conn.SetTimeout(c.work.Timeout)
	if err := c.signIn(conn); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

func (c *client) giveBack(conn *ldap.Conn) {
	c.idling.Lock()
	defer c.idling.Unlock()
	c.idle = append(c.idle, conn)
}

// Close closes the connections; see system.Close.
func (c *client) Close() (err error) {
	c.idling.Lock()
	defer c.idling.Unlock()
	for _, conn := range c.idle {
		err = errors.Join(err, conn.Close())
	}
	c.idle = nil
	return err
}

// dial connects, and has all that follows said in secret unless it stays on this machine.
func (c *client) dial(ctx context.Context) (*ldap.Conn, error) {
	at, err := parseAddress(c.url)
	if err != nil {
		return nil, err
	}
	raw, err := reach.Dialer(dialTime).DialContext(ctx, at.network, at.address)
	if err != nil {
		return nil, c.unreachable(ctx, err)
	}
	if at.scheme == "ldaps" {
		secured := tls.Client(raw, c.secure)
		limited, cancel := context.WithTimeout(ctx, dialTime)
		defer cancel()
		if err := secured.HandshakeContext(limited); err != nil {
			return nil, errors.Join(c.unreachable(ctx, err), raw.Close())
		}
		raw = secured
	}
	conn := ldap.NewConn(raw, at.scheme == "ldaps")
	conn.Start()
	if at.scheme == "ldap" && (!reach.OnThisMachine(at.host) || c.ca != "") {
		conn.SetTimeout(dialTime)
		if err := conn.StartTLS(c.secure); err != nil {
			return nil, errors.Join(c.unreachable(ctx, err), conn.Close())
		}
	}
	return conn, nil
}

// unreachable is the error of a server that could not be connected to: nothing was sent.
func (c *client) unreachable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var certificate *tls.CertificateVerificationError
	// Of TLS that begins in clear the library hands over only the text.
	_, unverified, _ := strings.Cut(err.Error(), "failed to verify certificate: ")
	var record tls.RecordHeaderError
	var told *ldap.Error
	switch {
	case errors.As(err, &certificate), unverified != "":
		return &system.Unavailable{Message: fmt.Sprintf("the certificate of %s does not verify: %s", c.url, strings.TrimSuffix(unverified, ")")), Remedy: "If the server has a certificate of your own authority, name its file as “ca” in evenledger.yaml. Else do not go on: somebody may be in between.", Err: err}
	case errors.As(err, &record):
		return &system.Unavailable{Message: c.url + " does not speak TLS", Remedy: "Look at the address and port in evenledger.yaml; ldap:// is for servers that begin in clear.", Err: err}
	case errors.As(err, &told) && told.ResultCode < ldap.ErrorNetwork && strings.HasPrefix(c.url, "ldap:"):
		return &system.Unavailable{Message: fmt.Sprintf("%s does not begin TLS: %s", c.url, told.Err), Remedy: "Nothing is said in clear to another machine. Use ldaps://, or ask who runs the server.", Err: err}
	}
	unreachable := &system.Unavailable{Message: fmt.Sprintf("%s cannot be reached: %s", c.url, plainly(err)), Remedy: "Look at the url in evenledger.yaml, whether the server runs, and at the network.", Err: err}
	var name *net.DNSError
	if errors.As(err, &name) && name.IsNotFound {
		return unreachable
	}
	return &again{unreachable}
}

// signIn says who the program is.
func (c *client) signIn(conn *ldap.Conn) error {
	var err error
	if c.user == "" {
		err = conn.ExternalBind()
	} else {
		err = conn.Bind(c.user, c.password)
	}
	var told *ldap.Error
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &told) || isBroken(err):
		return &again{&system.Unavailable{Message: fmt.Sprintf("%s broke off while the program signed in: %s", c.url, plainly(err)), Remedy: "Try again. If it stays so, ask who runs the server.", Err: err}}
	case told.ResultCode == ldap.LDAPResultInvalidCredentials:
		return &system.Unavailable{Message: fmt.Sprintf("%s turns us away (49)%s", c.url, whyNot(c.said(told))), Remedy: "The user or the password is wrong, or has run out. Look where evenledger.yaml says it is kept.", Err: err}
	case told.ResultCode == ldap.LDAPResultConfidentialityRequired, told.ResultCode == ldap.LDAPResultStrongAuthRequired:
		return &system.Unavailable{Message: fmt.Sprintf("%s takes no password without TLS (%d)%s", c.url, told.ResultCode, whyNot(c.said(told))), Remedy: "Use ldaps:// in evenledger.yaml.", Err: err}
	case told.ResultCode == ldap.LDAPResultBusy, told.ResultCode == ldap.LDAPResultUnavailable:
		return &again{&system.Unavailable{Message: fmt.Sprintf("%s is busy (%d)%s", c.url, told.ResultCode, whyNot(c.said(told))), Remedy: "Try again later.", Err: err}}
	}
	return &system.Unavailable{Message: fmt.Sprintf("%s does not let us sign in (%d)%s", c.url, told.ResultCode, whyNot(c.said(told))), Remedy: "Look at “user” and “url” in evenledger.yaml, or ask who runs the server.", Err: err}
}

// whyNot puts what some servers say of a refused sign-in into words.
func whyNot(said string) string {
	for code, words := range map[string]string{"data 52e": "the password is wrong", "data 525": "there is no such user", "data 530": "not at this time of day", "data 531": "not from this machine", "data 532": "the password has run out", "data 533": "the account is suspended", "data 701": "the account has run out", "data 773": "the password must be changed first", "data 775": "the account is locked"} {
		if strings.Contains(said, code) {
			return ": " + words
		}
	}
	if said == "" {
		return ""
	}
	return ": " + said
}
