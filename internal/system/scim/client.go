// Package scim reaches systems that speak SCIM 2.0 (RFC 7643, RFC 7644).
//
// A Client follows the RFCs and trusts the server with little. A filter is believed
// to find nobody only while it finds accounts that are known to be there; a listing is
// complete when nothing new comes, and begun again when something was taken out of it
// meanwhile; what is asked for only to save work is not asked for where it is refused;
// answers are bounded, and redirects are not followed with the credentials. Reading is
// tried again when the server is busy or the connection breaks. A change is tried again
// only where the server certainly did not carry it out; otherwise, also where the answer
// cannot be read or is about something else, it ends as *system.Unclear, and the caller
// looks before it repeats.
package scim

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/pace"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
)

// Bounds on what is asked and read.
const (
	mediaType  = "application/scim+json"
	maxAnswer  = 64 << 20
	maxParts   = 4 << 20   // values and members in one answer: each takes far more room than its text
	maxFilter  = 4000      // bytes of an escaped filter, as servers cap a URL near 8000
	mostFound  = 40        // values in one filter
	longestAsk = time.Hour // that a server may ask to wait
	maxTries   = 7
	fewTries   = 3 // of what may not be there at all: a wrong address is to be told soon
)

// Config says how the server is reached.
type Config struct {
	URL           string            // base, without a slash at the end
	Authorization string            // value of the header
	CA            string            // PEM file of the authority to trust instead of the usual ones
	Together      int               // requests under way at once; 0: one
	Slots         *pace.Slots       // that they take; nil: so many of its own
	Rate          float64           // requests a second; 0: no pace
	Crowd         *pace.Crowd       // that shares the rate; nil: nobody does
	Page          int               // accounts in a page
	Timeout       time.Duration     // of one request
	Aliases       map[string]string // short name → full attribute name
	Kinds         map[string]Kept   // of things besides accounts, such as "courses"
	Pause         time.Duration     // before the first repetition; 0: half a second
	NoPatch       bool              // changes are sent by PUT, whatever the server promises
	Mask          *secret.Mask      // takes secrets out of what the server says; may be nil
	Trace         *slog.Logger      // gets each request and answer, without secrets; may be nil
	Clock         clock.Clock       // nil: the one on the wall
	Waiting       func(time.Time)   // is told until when the server asked to wait; may be nil
}

// A Client is a system.System.
type Client struct {
	system.Base
	config Config
	http   *http.Client
	slots  *pace.Slots // for requests under way
	pace   *pace.Pace
	trace  *tracer      // nil: none
	skew   atomic.Int64 // by how many nanoseconds this machine's clock is ahead of the server's

	discovering sync.Mutex
	known       *discovered
	sampling    sync.Mutex
	putting     sync.Mutex // while it is tried whether PUT is taken where PATCH is not
	habits      habits
}

// New returns a Client. It sends nothing yet.
func New(config Config) (*Client, error) {
	secure, err := reach.Secure(config.CA)
	if err != nil {
		return nil, err
	}
	if config.Pause == 0 {
		config.Pause = 500 * time.Millisecond
	}
	if config.Clock == nil {
		config.Clock = clock.Real()
	}
	config.Together = max(1, config.Together)
	return &Client{
		config: config,
		slots:  cmp.Or(config.Slots, pace.NewSlots(config.Together, nil)),
		pace:   pace.New(config.Clock, config.Rate, config.Pause, config.Crowd),
		trace:  newTracer(config.Trace, config.Mask),
		http: &http.Client{
			Timeout: config.Timeout,
			Transport: &http.Transport{
				Proxy:               http.ProxyFromEnvironment,
				DialContext:         reach.Dialer(10 * time.Second).DialContext,
				TLSClientConfig:     secure,
				ForceAttemptHTTP2:   true,
				MaxIdleConnsPerHost: config.Together,
				IdleConnTimeout:     90 * time.Second,
			},
			// A redirect would carry the credentials who knows where.
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}, nil
}

// Bearer and Basic make the Authorization header's value (RFC 6750, RFC 7617).
func Bearer(token string) string { return "Bearer " + token }

// Basic is for servers that want a user name and a password.
func Basic(user, password string) string {
	r := &http.Request{Header: http.Header{}}
	r.SetBasicAuth(user, password)
	return r.Header.Get("Authorization")
}

type request struct {
	method  string
	path    string
	query   url.Values
	body    any
	version string // If-Match
	safe    bool   // it changes nothing
	names   bool   // the path names one resource, which may be gone
	tries   int    // at most; 0: maxTries
}

// String names the request as the server's keepers find it in their logs.
func (r request) String() string { return r.method + " " + r.path }

type answer struct {
	status int
	header http.Header
	body   []byte
}

// do sends a request until there is a final answer. A pause, and reading, end as soon
// as nothing more is to be sent.
func (c *Client) do(ctx context.Context, r request) (*answer, error) {
	stop := system.Stopping(ctx)
	if r.safe {
		ctx = stop
	}
	var body []byte
	if r.body != nil {
		var err error
		if body, err = json.Marshal(r.body); err != nil {
			return nil, err
		}
	}
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = c.config.Pause, 20*time.Second
	if r.tries == 0 {
		r.tries = maxTries
	}
	for try := 1; ; {
		got, err := c.inTurn(ctx, stop, r, body)
		var wait *again
		if !errors.As(err, &wait) {
			c.pace.Pass()
			return got, err
		}
		if wait.busy {
			if err := c.busy(wait); err != nil {
				return nil, err
			}
			continue // it is not given up while others get through
		}
		c.pace.Pass()
		most := r.tries
		if !wait.unsent && statusOf(wait.err) == 0 { // a line that broke says nothing of the request
			most = maxTries
		}
		switch {
		case !r.safe && !wait.unsent:
			return nil, &system.Unclear{Err: wait.err}
		case try >= most:
			return nil, wait.err
		}
		try++
		if err := c.config.Clock.Wait(stop, max(min(wait.after, longestAsk), pauses.NextBackOff())); err != nil {
			return nil, err
		}
	}
}

// busy holds all requests back after an answer that there are too many of them.
func (c *Client) busy(wait *again) error {
	if wait.after > longestAsk {
		return &system.Unavailable{Message: fmt.Sprintf("%s asks to be left alone until %s (429)", c.config.URL, c.config.Clock.Now().Add(wait.after).Format("2 Jan 15:04")), Remedy: "Try again then, or ask who runs the system why.", Err: wait.err}
	}
	until, goOn := c.pace.Refused(wait.after, wait.named)
	if !goOn {
		return wait.err
	}
	if c.config.Waiting != nil && until.Sub(c.config.Clock.Now()) > 3*time.Second {
		c.config.Waiting(until)
	}
	return nil
}

// again is an answer, or the lack of one, after which a request may be repeated.
type again struct {
	err    error
	unsent bool          // the server certainly did not carry it out
	busy   bool          // there were too many requests
	after  time.Duration // as the server asked
	named  bool          // it did ask
}

func (e *again) Error() string { return e.err.Error() }
func (e *again) Unwrap() error { return e.err }

// inTurn sends a request one time, as soon as the pace and the number of those that are
// under way let it.
func (c *Client) inTurn(ctx, stop context.Context, r request, body []byte) (*answer, error) {
	if err := c.slots.Take(stop); err != nil {
		return nil, err
	}
	defer c.slots.Free()
	if err := c.pace.Wait(stop); err != nil {
		return nil, err
	}
	if !r.safe {
		if err := system.MaySend(ctx); err != nil {
			return nil, err
		}
	}
	return c.attempt(ctx, r, body)
}

// attempt sends a request one time.
func (c *Client) attempt(ctx context.Context, r request, body []byte) (*answer, error) {
	target := c.config.URL + r.path
	if len(r.query) > 0 {
		target += "?" + r.query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, r.method, target, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", mediaType+", application/json")
	req.Header.Set("Authorization", c.config.Authorization)
	req.Header.Set("User-Agent", "evenledger")
	if body != nil {
		req.Header.Set("Content-Type", mediaType)
	}
	if r.version != "" {
		req.Header.Set("If-Match", r.version)
	}
	n, begun := c.trace.request(req, body), c.config.Clock.Now()
	resp, err := c.http.Do(req)
	if err != nil {
		c.trace.broken(n, err, c.since(begun))
		return nil, c.broken(ctx, r, err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		c.trace.broken(n, err, c.since(begun))
		return nil, c.broken(ctx, r, err)
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")) // a byte order mark is no part of JSON, and some write one
	if now, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		c.skew.Store(int64(c.since(now)))
	}
	got := &answer{resp.StatusCode, resp.Header, data}
	c.trace.answer(n, got, c.since(begun))
	if len(data) > maxAnswer || parts(data) > maxParts {
		large := &system.Unavailable{Message: fmt.Sprintf("%s: %s answered more than can be read at once", r, c.config.URL), Remedy: "Set a smaller “page” in evenledger.yaml; if it is one group's answer, ask who runs the system."}
		if !r.safe {
			return nil, &system.Unclear{Err: large}
		}
		return nil, large
	}
	return got, c.judge(r, got)
}

// Close closes the connections that are kept for further requests; see system.Close.
func (c *Client) Close() error {
	c.http.CloseIdleConnections()
	return nil
}

func (c *Client) since(then time.Time) time.Duration { return c.config.Clock.Now().Sub(then) }

// parts is at least how many values and members an answer in JSON has.
func parts(data []byte) int {
	return bytes.Count(data, []byte{','}) + bytes.Count(data, []byte{'['}) + bytes.Count(data, []byte{'{'})
}

// broken sorts errors below HTTP.
func (c *Client) broken(ctx context.Context, r request, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return &system.Unavailable{Message: fmt.Sprintf("the certificate of %s does not verify: %v", c.config.URL, certificate.Err), Remedy: "If the server has a certificate of your own authority, name its file as “ca” in evenledger.yaml. Else do not go on: somebody may be in between.", Err: err}
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return &system.Unavailable{Message: c.config.URL + " does not speak TLS", Remedy: "Look at the address and port in evenledger.yaml.", Err: err}
	}
	unreachable := &system.Unavailable{Message: fmt.Sprintf("%s: %s cannot be reached: %s", r, c.config.URL, cause(err)), Remedy: "Look at the url in evenledger.yaml, whether the server runs, and at the network.", Err: err}
	var name *net.DNSError
	if errors.As(err, &name) && name.IsNotFound {
		return unreachable
	}
	var op *net.OpError
	return &again{err: unreachable, unsent: errors.As(err, &op) && op.Op == "dial"}
}

// cause takes the address off a network error, as the message names it already.
func cause(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		if wrapped.Timeout() {
			return "no answer came in time"
		}
		return wrapped.Err.Error()
	}
	return err.Error()
}

// segment writes an identifier as a part of a path. One that would lead elsewhere,
// whoever normalises the address on its way, is refused.
func segment(id string) (string, error) {
	for _, part := range strings.FieldsFunc(id, func(r rune) bool { return r == '/' || r == '\\' }) {
		if part == "." || part == ".." {
			return "", &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the system's identifier “%s” cannot stand in an address", id)}
		}
	}
	if strings.Trim(id, " \t\r\n") == "" {
		return "", &system.Refusal{Code: account.SystemRefused, Message: "the system gave no identifier"}
	}
	return url.PathEscape(id), nil
}
