package httpdial

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"time"

	"github.com/cenkalti/backoff/v5"

	"evenledger/internal/clock"
	"evenledger/internal/pace"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
)

// Bounds on what is asked and read.
const (
	maxAnswer  = 64 << 20
	maxParts   = 4 << 20   // values and members in one answer: each takes far more room than its text
	longestAsk = time.Hour // that a server may ask to wait
	maxTries   = 7
)

// Config says how a service is reached.
type Config struct {
	URL         string // base, without a slash at the end
	Credential  Credential
	CA          string                  // PEM file of the authority to trust instead of the usual ones
	Certificate string                  // PEM file with a certificate and its key that shows who asks; empty: none
	Together    int                     // requests under way at once; 0: one
	Slots       *pace.Slots             // that they take; nil: so many of its own
	Rate        float64                 // requests a second; 0: no pace
	Crowd       *pace.Crowd             // that shares the rate; nil: nobody does
	Timeout     time.Duration           // of one request; of one that is streamed: until its answer begins
	Idle        time.Duration           // how long a connection is kept that nothing is sent on; 0: a minute and a half
	Tries       int                     // of one whose line broke; 0: some seconds' worth
	Pause       time.Duration           // before the first repetition; 0: half a second
	Redirect    func(to *url.URL) error // allows a redirect; nil: none is followed
	Mask        *secret.Mask            // takes secrets out of what the server says; may be nil
	Trace       *slog.Logger            // gets each request and answer, without secrets; may be nil
	Clock       clock.Clock             // nil: the one on the wall
	Waiting     func(time.Time)         // is told until when the server asked to wait; may be nil
}

// A Client reaches one service. It may be used by several goroutines.
type Client struct {
	config Config
	http   *http.Client
	slots  *pace.Slots // for requests under way
	pace   *pace.Pace
	trace  *tracer // nil: none
}

// New returns a Client. It sends nothing yet.
func New(config Config) (*Client, error) {
	transport, err := transport(config.CA, config.Certificate, 10*time.Second)
	if err != nil {
		return nil, err
	}
	if config.Pause == 0 {
		config.Pause = 500 * time.Millisecond
	}
	if config.Clock == nil {
		config.Clock = clock.Real()
	}
	if config.Credential == nil {
		config.Credential = Fixed{}
	}
	config.Together, config.Tries = max(1, config.Together), cmp.Or(config.Tries, maxTries)
	transport.MaxIdleConnsPerHost = config.Together
	transport.IdleConnTimeout = cmp.Or(config.Idle, transport.IdleConnTimeout)
	c := &Client{
		config: config,
		slots:  cmp.Or(config.Slots, pace.NewSlots(config.Together, nil)),
		pace:   pace.New(config.Clock, config.Rate, config.Pause, config.Crowd),
		trace:  newTracer(config.Trace, config.Mask),
		http:   &http.Client{Transport: transport, CheckRedirect: stay},
	}
	if config.Redirect != nil {
		c.http.CheckRedirect = func(r *http.Request, via []*http.Request) error {
			if via[0].Method != http.MethodGet {
				return http.ErrUseLastResponse // a change that is sent on may become a question, whose answer says nothing
			}
			if len(via) >= mostHops {
				return errors.New("it sends us on without end")
			}
			return config.Redirect(r.URL)
		}
	}
	return c, nil
}

// mostHops is how many redirects are followed one after the other.
const mostHops = 5

// stay follows no redirect: it would carry the credentials who knows where.
func stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// transport is how servers are connected to.
func transport(ca, certificate string, timeout time.Duration) (*http.Transport, error) {
	secure, err := reach.Secure(ca)
	if err != nil {
		return nil, err
	}
	if certificate != "" {
		own, err := tls.LoadX509KeyPair(certificate, certificate)
		if err != nil {
			return nil, fmt.Errorf("the certificate that shows who asks cannot be read: %w", err)
		}
		secure.Certificates = []tls.Certificate{own}
	}
	return &http.Transport{
		Proxy:                  http.ProxyFromEnvironment,
		DialContext:            reach.Dialer(timeout).DialContext,
		TLSClientConfig:        secure,
		ForceAttemptHTTP2:      true,
		IdleConnTimeout:        90 * time.Second,
		MaxResponseHeaderBytes: 1 << 20,
	}, nil
}

// Close closes the connections that are kept for further requests, and gives back what the credential
// was given for a while.
func (c *Client) Close() error {
	err := c.config.Credential.Close()
	c.http.CloseIdleConnections()
	return err
}

// A Request is what is asked.
type Request struct {
	Method string
	Path   string     // behind the service's address
	Query  url.Values // behind that
	URL    *url.URL   // instead of both, a whole address of the same service
	Header http.Header
	Body   []byte
	Safe   bool         // it changes nothing
	May    func() error // asked just before what changes something is sent: why it may not be, or nil; nil: it may
	Keyed  bool         // it has a key by which the server knows it when it is sent once more
	Tries  int          // at most, where the server answers; 0: as many as where it doesn't
}

// String names the request as the server's keepers find it in their logs.
func (r Request) String() string {
	if r.URL != nil {
		return r.Method + " " + r.URL.EscapedPath()
	}
	return r.Method + " " + r.Path
}

// An Answer is what came, whole.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Again is an answer, or the lack of one, after which a request may be repeated.
type Again struct {
	Err      error
	Unsent   bool          // the server certainly did not carry it out
	Answered bool          // the server said something
	Busy     bool          // namely that there were too many requests
	After    time.Duration // as the server asked
	Named    bool          // it did ask
}

func (e *Again) Error() string { return e.Err.Error() }
func (e *Again) Unwrap() error { return e.Err }

// Do sends a request until there is a final answer. Judge tells what one is: nil for what was asked for,
// an *Again for what may be sent once more, any other error for good. A change of which nobody can say
// whether it was carried out is a *reach.Unclear. Once ctx is done nothing more is sent; a change that is under way is let to end.
func (c *Client) Do(ctx context.Context, r Request, judge func(*Answer) error) (*Answer, error) {
	return repeat(ctx, c, r, func(ctx, stop context.Context) (*Answer, error) {
		if c.config.Timeout > 0 {
			var cancel context.CancelFunc
			ctx, cancel = context.WithTimeoutCause(ctx, c.config.Timeout, errNoAnswer)
			defer cancel()
		}
		response, sent, err := c.send(ctx, stop, r)
		if err != nil {
			return nil, err
		}
		defer response.Body.Close()
		data, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer+1))
		if err != nil {
			return nil, c.broken(ctx, sent, r, err)
		}
		data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")) // a byte order mark is no part of JSON, and some write one
		got := &Answer{response.StatusCode, response.Header, data}
		c.trace.answer(sent, response, data)
		if len(data) > maxAnswer || parts(data) > maxParts {
			large := &reach.Unavailable{Message: fmt.Sprintf("%s: %s answered more than can be read at once", r, c.Address()), Remedy: "Set a smaller “page” in evenledger.yaml; if it is one group's answer, ask who runs the system."}
			if !r.Safe {
				return nil, &reach.Unclear{Err: large}
			}
			return nil, large
		}
		return got, judge(got)
	})
}

// Stream is like Do for an answer that is read as it comes: its caller closes its body. What judge says
// no to is closed.
func (c *Client) Stream(ctx context.Context, r Request, judge func(*http.Response) error) (*http.Response, error) {
	return repeat(ctx, c, r, func(ctx, stop context.Context) (*http.Response, error) {
		begun, cancel := context.WithCancelCause(ctx)
		if c.config.Timeout > 0 {
			defer time.AfterFunc(c.config.Timeout, func() { cancel(errNoAnswer) }).Stop()
		}
		response, sent, err := c.send(begun, stop, r)
		if err != nil {
			cancel(nil)
			return nil, err
		}
		release := context.AfterFunc(stop, func() { cancel(context.Cause(stop)) }) // what it came to is known: the rest need not come
		response.Body = &body{response.Body, func(err error) { release(); cancel(err) }}
		c.trace.answer(sent, response, nil)
		if err := judge(response); err != nil {
			_ = response.Body.Close()
			return nil, err
		}
		return response, nil
	})
}

// body ends its request with its reading.
type body struct {
	io.ReadCloser
	cancel context.CancelCauseFunc
}

func (b *body) Close() error {
	defer b.cancel(nil)
	return b.ReadCloser.Close()
}

// errNoAnswer is why a request ends that takes too long.
var errNoAnswer = errors.New("no answer came in time")

// repeat has a request be sent until there is a final answer. A pause, and reading, end as soon as stop
// is done, and nothing more is sent then; a change that was sent is let to end.
func repeat[T any](stop context.Context, c *Client, r Request, attempt func(ctx, stop context.Context) (T, error)) (T, error) {
	var none T
	ctx := stop
	if !r.Safe {
		ctx = context.WithoutCancel(stop)
	}
	inTurn := func() (T, error) {
		if err := c.slots.Take(stop); err != nil {
			return none, err
		}
		defer c.slots.Free()
		if err := c.pace.Wait(stop); err != nil {
			return none, err
		}
		return attempt(ctx, stop)
	}
	var sent error // why nobody can say what became of a keyed request that is sent once more
	unclear := func(err error) error {
		if sent != nil {
			return &reach.Unclear{Err: errors.Join(sent, err)}
		}
		return err
	}
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = c.config.Pause, 20*time.Second
	for try := 1; ; {
		got, err := inTurn()
		var wait *Again
		if !errors.As(err, &wait) {
			if errors.As(err, new(*kept)) || stop.Err() != nil && errors.Is(err, stop.Err()) {
				return none, unclear(err) // this time it was not sent
			}
			c.pace.Pass()
			return got, err
		}
		if wait.Busy {
			if err := c.busy(wait); err != nil {
				return none, unclear(err)
			}
			continue // it is not given up while others get through
		}
		c.pace.Pass()
		most := cmp.Or(r.Tries, c.config.Tries)
		if !wait.Unsent && !wait.Answered { // a line that broke says nothing of the request
			most = c.config.Tries
		}
		switch {
		case !r.Safe && !wait.Unsent && (!r.Keyed || try >= most):
			return none, &reach.Unclear{Err: wait.Err}
		case try >= most:
			return none, unclear(wait.Err)
		case !r.Safe && !wait.Unsent:
			sent = wait.Err
		}
		try++
		if err := c.config.Clock.Wait(stop, max(min(wait.After, longestAsk), pauses.NextBackOff())); err != nil {
			return none, unclear(err)
		}
	}
}

// busy holds all requests back after an answer that there are too many of them.
func (c *Client) busy(wait *Again) error {
	if wait.After > longestAsk {
		return &reach.Unavailable{Message: fmt.Sprintf("%s asks to be left alone until %s (429)", c.Address(), c.config.Clock.Now().Add(wait.After).Format("2 Jan 15:04")), Remedy: "Try again then, or ask who runs the system why.", Err: wait.Err}
	}
	until, goOn := c.pace.Refused(wait.After, wait.Named)
	if !goOn {
		return wait.Err
	}
	if c.config.Waiting != nil && until.Sub(c.config.Clock.Now()) > 3*time.Second {
		c.config.Waiting(until)
	}
	return nil
}

// A kept request is one that may not be sent any more.
type kept struct{ error }

func (k *kept) Unwrap() error { return k.error }

// mostTokens is how many tokens one request is tried with: the second may have ended before it got there.
const mostTokens = 3

// send sends a request one time: once more where it was turned away for a token that had run out.
func (c *Client) send(ctx, stop context.Context, r Request) (*http.Response, sent, error) {
	for tokens := 1; ; tokens++ {
		request, err := c.request(ctx, r)
		if err != nil {
			return nil, sent{}, err
		}
		if err := c.config.Credential.Sign(stop, request); err != nil {
			return nil, sent{}, err
		}
		if !r.Safe { // asked last: a token may have taken its time
			err := stop.Err()
			if err == nil && r.May != nil {
				err = r.May()
			}
			if err != nil {
				return nil, sent{}, &kept{err}
			}
		}
		sent := c.trace.request(request, r, c.config.Clock)
		response, err := c.http.Do(request)
		if err != nil {
			return nil, sent, c.broken(ctx, sent, r, err)
		}
		if pause := restOf(response.Header); pause > 0 && pause <= longestAsk {
			c.pace.Rest(pause)
		}
		if tokens == mostTokens || response.StatusCode != http.StatusUnauthorized || !c.config.Credential.Renew(request) {
			return response, sent, nil
		}
		c.trace.answer(sent, response, nil)
		_, _ = io.CopyN(io.Discard, response.Body, 64<<10) // so that the connection can be used again
		_ = response.Body.Close()
	}
}

// request is a request as it is sent.
func (c *Client) request(ctx context.Context, r Request) (*http.Request, error) {
	target := c.config.URL + r.Path
	if len(r.Query) > 0 {
		target += "?" + r.Query.Encode()
	}
	if r.URL != nil {
		target = r.URL.String()
	}
	request, err := http.NewRequestWithContext(ctx, r.Method, target, bytes.NewReader(r.Body))
	if err != nil {
		return nil, err
	}
	for name, values := range r.Header {
		request.Header[name] = values
	}
	request.Header.Set("User-Agent", "evenledger")
	if request.Header.Get("Idempotency-Key") != "" {
		request.GetBody = nil // net/http would take it for one that may be sent twice
	}
	return request, nil
}

// Address is where the service is, for people.
func (c *Client) Address() string { return shown(c.config.URL) }

// Mask takes secrets out of what the server says.
func (c *Client) Mask() *secret.Mask { return c.config.Mask }

// Clock is what the client goes by.
func (c *Client) Clock() clock.Clock { return c.config.Clock }

// Remedy is what a person can do where the server turns us away.
func (c *Client) Remedy() string { return c.config.Credential.Remedy() }

// parts is at least how many values and members an answer in JSON has.
func parts(data []byte) int {
	return bytes.Count(data, []byte{','}) + bytes.Count(data, []byte{'['}) + bytes.Count(data, []byte{'{'})
}

// broken sorts errors below HTTP.
func (c *Client) broken(ctx context.Context, sent sent, r Request, err error) error {
	if errors.Is(context.Cause(ctx), errNoAnswer) {
		err = errNoAnswer
	}
	c.trace.broken(sent, err)
	if ctx.Err() != nil && err != errNoAnswer {
		return ctx.Err()
	}
	return explain(fmt.Sprintf("%s: %s", r, c.Address()), "Look at the url in evenledger.yaml, whether the server runs, and at the network.", mask(c.config.Mask, err))
}

// mask takes secrets out of an error's words.
func mask(mask *secret.Mask, err error) error {
	return &hiding{err, mask.Hide(cause(err))}
}

type hiding struct {
	error
	words string
}

func (h *hiding) Error() string { return h.words }
func (h *hiding) Unwrap() error { return h.error }

// explain says what an error below HTTP means: *reach.Unavailable where trying again is no use, else *Again.
func explain(what, remedy string, err error) error {
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return &reach.Unavailable{Message: fmt.Sprintf("%s: the certificate does not verify: %v", what, certificate.Err), Remedy: "If the server has a certificate of your own authority, name its file as “ca” in evenledger.yaml. Else do not go on: somebody may be in between.", Err: err}
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return &reach.Unavailable{Message: what + " does not speak TLS", Remedy: "Look at the address and port in evenledger.yaml.", Err: err}
	}
	unreachable := &reach.Unavailable{Message: fmt.Sprintf("%s cannot be reached: %s", what, cause(err)), Remedy: remedy, Err: err}
	var name *net.DNSError
	if errors.As(err, &name) && name.IsNotFound {
		return unreachable
	}
	return &Again{Err: unreachable, Unsent: isDial(err)}
}

// cause takes the address off a network error, as the message names it already.
func cause(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		if wrapped.Timeout() {
			return errNoAnswer.Error()
		}
		return wrapped.Err.Error()
	}
	return err.Error()
}
