// Package scim reaches systems that speak SCIM 2.0 (RFC 7643, RFC 7644).
//
// A Client follows the RFCs and trusts the server with little: filter hits are
// looked at again by the caller, a listing must come to the total the server
// named, answers are bounded, redirects are not followed with the credentials.
// Reading is tried again when the server is busy or the connection breaks. A
// change is tried again only where the server certainly did not carry it out;
// otherwise it ends as *system.Unclear, and the caller looks before it repeats.
package scim

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/time/rate"

	"evenledger/internal/system"
)

// Bounds on what is asked and read.
const (
	mediaType     = "application/scim+json"
	maxAnswer     = 64 << 20
	maxFilter     = 4000 // bytes of an escaped filter, as servers cap a URL near 8000
	findSize      = 40   // values in one filter
	maxTries      = 7
	firstTries    = 3 // of the first contact: a wrong address is to be told soon
	maxRetryAfter = 2 * time.Minute
)

// Config says how the server is reached.
type Config struct {
	URL           string            // base, without a slash at the end
	Authorization string            // value of the header
	CA            string            // PEM file of the authority to trust instead of the usual ones
	Together      int               // connections kept
	Rate          float64           // requests a second; 0: no pace
	Page          int               // accounts in a page
	Timeout       time.Duration     // of one request
	Aliases       map[string]string // short name → full attribute name
	Kinds         map[string]Kind   // of things besides accounts, such as "courses"
	Pause         time.Duration     // before the first repetition; 0: half a second
}

// A Client is a system.System.
type Client struct {
	config  Config
	http    *http.Client
	limiter *rate.Limiter

	discovering sync.Mutex
	known       *discovered
}

// New returns a Client. It sends nothing yet.
func New(config Config) (*Client, error) {
	secure := &tls.Config{MinVersion: tls.VersionTLS12}
	if config.CA != "" {
		pem, err := os.ReadFile(config.CA)
		if err != nil {
			return nil, fmt.Errorf("the certificate authority cannot be read: %w", err)
		}
		secure.RootCAs = x509.NewCertPool()
		if !secure.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", config.CA)
		}
	}
	limit := rate.Inf
	if config.Rate > 0 {
		limit = rate.Limit(config.Rate)
	}
	if config.Pause == 0 {
		config.Pause = 500 * time.Millisecond
	}
	return &Client{
		config:  config,
		limiter: rate.NewLimiter(limit, 1),
		http: &http.Client{
			Timeout: config.Timeout,
			Transport: &http.Transport{
				Proxy:               http.ProxyFromEnvironment,
				DialContext:         (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
				TLSClientConfig:     secure,
				ForceAttemptHTTP2:   true,
				MaxIdleConnsPerHost: config.Together + 1,
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
	first   bool   // it is the first contact
}

type answer struct {
	status int
	header http.Header
	body   []byte
}

// do sends a request until there is a final answer.
func (c *Client) do(ctx context.Context, r request) (*answer, error) {
	var body []byte
	if r.body != nil {
		var err error
		if body, err = json.Marshal(r.body); err != nil {
			return nil, err
		}
	}
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = c.config.Pause, 20*time.Second
	tries := uint(maxTries)
	if r.first {
		tries = firstTries
	}
	var last error // as it is, without what tells backoff how to go on
	got, err := backoff.Retry(ctx, func() (*answer, error) {
		got, err := c.attempt(ctx, r, body)
		if last = err; err == nil {
			return got, nil
		}
		var wait *again
		if !errors.As(err, &wait) {
			return nil, backoff.Permanent(err)
		}
		if last = wait.err; !r.safe && !wait.unsent {
			last = &system.Unclear{Err: wait.err}
			return nil, backoff.Permanent(last)
		}
		if wait.after > 0 {
			return nil, &backoff.RetryAfterError{Duration: wait.after}
		}
		return nil, last
	}, backoff.WithBackOff(pauses), backoff.WithMaxTries(tries), backoff.WithMaxElapsedTime(5*time.Minute))
	if err != nil && ctx.Err() == nil {
		return nil, last
	}
	return got, err
}

// again is an answer, or the lack of one, after which a request may be repeated.
type again struct {
	err    error
	unsent bool          // the server certainly did not carry it out
	after  time.Duration // as the server asked
}

func (e *again) Error() string { return e.err.Error() }

// attempt sends a request one time.
func (c *Client) attempt(ctx context.Context, r request, body []byte) (*answer, error) {
	if err := c.limiter.Wait(ctx); err != nil {
		return nil, err
	}
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
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, c.broken(ctx, err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, c.broken(ctx, err)
	}
	if len(data) > maxAnswer {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s answered more than %d MiB", c.config.URL, maxAnswer>>20), Remedy: "Set a smaller “page” in evenledger.yaml."}
	}
	got := &answer{resp.StatusCode, resp.Header, data}
	return got, c.judge(r, got)
}

// broken sorts errors below HTTP.
func (c *Client) broken(ctx context.Context, err error) error {
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
	unreachable := &system.Unavailable{Message: fmt.Sprintf("%s cannot be reached: %s", c.config.URL, cause(err)), Remedy: "Look at the url in evenledger.yaml, whether the server runs, and at the network.", Err: err}
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

// scimError is the body of an error (RFC 7644 section 3.12).
type scimError struct {
	ScimType string `json:"scimType"`
	Detail   string `json:"detail"`
	Status   any    `json:"status"`
}

// judge turns an answer that is no success into an error.
func (c *Client) judge(r request, got *answer) error {
	isJSON := strings.Contains(got.header.Get("Content-Type"), "json")
	if got.status >= 200 && got.status < 300 {
		if len(got.body) > 0 && !isJSON && !json.Valid(got.body) {
			strange := &system.Unavailable{Message: fmt.Sprintf("%s answered %s where SCIM was expected", c.config.URL+r.path, bodyKind(got)), Remedy: "Look whether the url in evenledger.yaml ends where the SCIM service begins, such as …/scim/v2."}
			if !r.safe {
				return &system.Unclear{Err: strange} // it may have been carried out all the same
			}
			return strange
		}
		return nil
	}
	var told scimError
	if isJSON || json.Valid(got.body) {
		_ = json.Unmarshal(got.body, &told) // an error without a body is still one
	}
	said := told.Detail
	if said == "" {
		said = http.StatusText(got.status)
	}
	said = clip(said)
	switch got.status {
	case http.StatusUnauthorized:
		return &system.Unavailable{Message: fmt.Sprintf("%s turns us away (401): %s", c.config.URL, said), Remedy: "The token or password is wrong or has run out. Look where evenledger.yaml says it is kept."}
	case http.StatusTooManyRequests:
		return &again{err: &system.Unavailable{Message: fmt.Sprintf("%s is busy (429) and stayed so", c.config.URL), Remedy: "Set a pace in evenledger.yaml, such as “rate: 10/s”, and try again."}, unsent: true, after: retryAfter(got.header)}
	case http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusInternalServerError:
		return &again{err: &system.Unavailable{Message: fmt.Sprintf("%s cannot answer (%d %s)", c.config.URL, got.status, said), Remedy: "Try again later; what was done is in the ledger."}, after: retryAfter(got.header)}
	case http.StatusPreconditionFailed:
		return system.ErrChanged
	case http.StatusNotFound:
		if r.safe || r.method != http.MethodPost {
			return system.ErrGone
		}
	case http.StatusForbidden:
		if r.safe {
			return &system.Unavailable{Message: fmt.Sprintf("%s does not let us read (403): %s", c.config.URL, said), Remedy: "Ask who runs the system for the right to read and change accounts."}
		}
	}
	if got.status >= 300 && got.status < 400 {
		return &system.Unavailable{Message: fmt.Sprintf("%s redirects to %s", c.config.URL+r.path, got.header.Get("Location")), Remedy: "If that is the right place, put it as url into evenledger.yaml."}
	}
	if len(got.body) > 0 && !isJSON && !json.Valid(got.body) {
		return &system.Unavailable{Message: fmt.Sprintf("%s answered %d with %s where SCIM was expected", c.config.URL+r.path, got.status, bodyKind(got)), Remedy: "Look whether the url in evenledger.yaml ends where the SCIM service begins, such as …/scim/v2."}
	}
	return refusal(got.status, told, said)
}

// refusal puts an error of RFC 7644 section 3.12 into plain words.
func refusal(status int, told scimError, said string) *system.Refusal {
	words := map[string]string{
		"uniqueness":    "another account already has a value that must be unique",
		"tooMany":       "the request would give more than the system answers",
		"mutability":    "a field may not be changed any more",
		"invalidValue":  "a value is missing or is not one the system takes",
		"invalidSyntax": "the system could not read the request",
		"invalidPath":   "the system does not know a field",
		"noTarget":      "there is nothing where the change was to be made",
		"invalidFilter": "the system cannot search like this",
		"sensitive":     "a value may not stand in an address",
	}[told.ScimType]
	code := "system-refused"
	switch {
	case told.ScimType == "uniqueness" || status == http.StatusConflict:
		code, words = "taken-value", "another account already has a value that must be unique"
	case told.ScimType == "mutability":
		code = "immutable-field"
	case status == http.StatusForbidden:
		words = "we have no right to do this"
	case words == "":
		words = fmt.Sprintf("the system answered %d", status)
	}
	return &system.Refusal{Code: code, Message: words + "; the system says: " + said}
}

// clip shortens what a server says, which may be anything.
func clip(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 300 {
		text = strings.ToValidUTF8(text[:300], "") + "…"
	}
	return text
}

func bodyKind(got *answer) string {
	start := strings.ToLower(string(got.body[:min(len(got.body), 512)]))
	if strings.Contains(start, "<html") || strings.Contains(start, "<!doctype") {
		return "a web page"
	}
	if kind := got.header.Get("Content-Type"); kind != "" {
		return kind
	}
	return "something else"
}

// retryAfter reads the header in either form (RFC 9110 section 10.2.3).
func retryAfter(header http.Header) time.Duration {
	text := header.Get("Retry-After")
	if text == "" {
		return 0
	}
	wait := time.Duration(0)
	if seconds, err := strconv.Atoi(text); err == nil {
		wait = time.Duration(seconds) * time.Second
	} else if at, err := http.ParseTime(text); err == nil {
		wait = time.Until(at)
	}
	return min(max(wait, 0), maxRetryAfter)
}
