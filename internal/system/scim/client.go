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
	"iter"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/time/rate"

	"evenledger/internal/account"
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
			return &system.Unavailable{Message: fmt.Sprintf("%s answered %s where SCIM was expected", c.config.URL+r.path, bodyKind(got)), Remedy: "Look whether the url in evenledger.yaml ends where the SCIM service begins, such as …/scim/v2."}
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

// Describe implements system.System.
func (c *Client) Describe(ctx context.Context) (*account.Schema, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	return d.schema, nil
}

// Versions implements system.Versioner.
func (c *Client) Versions() bool {
	c.discovering.Lock()
	defer c.discovering.Unlock()
	return c.known != nil && c.known.config.ETag.Supported
}

// account reads the fields of a resource.
func (d *discovered) account(r resource, fields []string, header http.Header) account.Account {
	a := account.Account{ID: r.text("id"), Fields: make(map[string]account.Value, len(fields))}
	if meta := r.object("meta", false); meta != nil {
		a.Version = meta.text("version")
	}
	if a.Version == "" && header != nil {
		a.Version = header.Get("ETag")
	}
	for _, name := range fields {
		if p, ok := d.paths[name]; ok {
			if v := decode(d.types[name], r.value(p)); v.Present() {
				a.Fields[name] = v
			}
		}
	}
	return a
}

// attributes is the list of attributes to ask for.
func (d *discovered) attributes(fields []string) string {
	tops := map[string]bool{"id": true, "meta": true, "userName": true}
	for _, name := range fields {
		if p, ok := d.paths[name]; ok {
			tops[p.top()] = true
		}
	}
	return strings.Join(slices.Sorted(maps.Keys(tops)), ",")
}

type listResponse struct {
	TotalResults int        `json:"totalResults"`
	Resources    []resource `json:"Resources"`
}

func (c *Client) page(ctx context.Context, d *discovered, filter string, fields []string, start, count int) (*listResponse, error) {
	query := url.Values{"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(count)}}
	if filter != "" {
		query.Set("filter", filter)
	}
	if count > 0 {
		query.Set("attributes", d.attributes(fields))
	}
	got, err := c.do(ctx, request{method: http.MethodGet, path: d.endpoint, query: query, safe: true})
	if err != nil {
		return nil, err
	}
	var list listResponse
	decoder := json.NewDecoder(bytes.NewReader(got.body))
	decoder.UseNumber()
	if err := decoder.Decode(&list); err != nil {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s%s answered a list that cannot be read: %v", c.config.URL, d.endpoint, err)}
	}
	return &list, nil
}

// pages yields what a filter, or no filter, finds, page by page. Servers differ
// in what they do past the end and how many they give, so it goes on until the
// total is reached or nothing new comes, and takes less than the total as an
// error.
func (c *Client) pages(ctx context.Context, filter string, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.discover(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		seen := map[string]bool{}
		for start := 1; ; {
			list, err := c.page(ctx, d, filter, fields, start, c.config.Page)
			if err != nil {
				yield(account.Account{}, err)
				return
			}
			fresh := 0
			for _, r := range list.Resources {
				a := d.account(r, fields, nil)
				if a.ID == "" || seen[a.ID] {
					continue
				}
				seen[a.ID] = true
				fresh++
				if !yield(a, nil) {
					return
				}
			}
			start += len(list.Resources)
			if len(seen) >= list.TotalResults {
				return
			}
			if fresh == 0 {
				yield(account.Account{}, &system.Unavailable{
					Message: fmt.Sprintf("%s says it has %d accounts to list but gave only %d", c.config.URL, list.TotalResults, len(seen)),
					Remedy:  "Accounts may have changed while they were listed: try again. If it stays so, ask who runs the system whether all accounts may be listed."})
				return
			}
		}
	}
}

// List implements system.System.
func (c *Client) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return c.pages(ctx, "", fields)
}

// Find implements system.System with the filter "field eq value or …".
func (c *Client) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.discover(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		p, known := d.paths[field]
		if !known || !d.config.Filter.Supported {
			yield(account.Account{}, system.ErrCannotFind)
			return
		}
		for _, filter := range filters(p, values) {
			for a, err := range c.pages(ctx, filter, fields) {
				var refusal *system.Refusal
				if errors.As(err, &refusal) {
					err = system.ErrCannotFind // some servers refuse escaped quotes, or the field
				}
				if !yield(a, err) || err != nil {
					return
				}
			}
		}
	}
}

// filters writes as few filters as the length of an address allows. A value is
// escaped as JSON, which is what the grammar of RFC 7644 section 3.4.2.2 wants.
func filters(p path, values []string) []string {
	var out []string
	var now strings.Builder
	length := 0
	for _, value := range values {
		quoted, err := json.Marshal(value)
		if err != nil {
			continue // not text, so no account has it
		}
		term := p.filter() + " eq " + string(quoted)
		escaped := len(url.QueryEscape(term)) + len(" or ")
		if now.Len() > 0 && length+escaped > maxFilter {
			out = append(out, now.String())
			now.Reset()
			length = 0
		}
		if now.Len() > 0 {
			now.WriteString(" or ")
		}
		now.WriteString(term)
		length += escaped
	}
	if now.Len() > 0 {
		out = append(out, now.String())
	}
	return out
}

// Pages implements system.Sizer.
func (c *Client) Pages(ctx context.Context) (int, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return 0, err
	}
	list, err := c.page(ctx, d, "", nil, 1, 0)
	if err != nil {
		return 0, err
	}
	page := c.config.Page
	if most := d.config.Filter.MaxResults; most > 0 {
		page = min(page, most)
	}
	return (list.TotalResults + page - 1) / page, nil
}

// FindSize implements system.Sizer.
func (c *Client) FindSize() int { return findSize }

// Get implements system.System.
func (c *Client) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	r, header, err := c.get(ctx, id)
	if err != nil {
		return account.Account{}, err
	}
	return c.known.account(r, fields, header), nil
}

func (c *Client) get(ctx context.Context, id string) (resource, http.Header, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, nil, err
	}
	got, err := c.do(ctx, request{method: http.MethodGet, path: d.endpoint + "/" + url.PathEscape(id), safe: true})
	if err != nil {
		return nil, nil, err
	}
	r, err := c.resource(got)
	return r, got.header, err
}

func (c *Client) resource(got *answer) (resource, error) {
	var r resource
	decoder := json.NewDecoder(bytes.NewReader(got.body))
	decoder.UseNumber()
	if err := decoder.Decode(&r); err != nil || r == nil {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s answered an account that cannot be read", c.config.URL), Err: err}
	}
	return r, nil
}

// Create implements system.System (RFC 7644 section 3.3).
func (c *Client) Create(ctx context.Context, wanted account.Account, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	body, schemas := resource{}, []string{core}
	for _, name := range wanted.FieldNames() {
		p, ok := d.paths[name]
		if !ok || !wanted.Fields[name].Filled() {
			continue
		}
		if p.schema != "" && !slices.Contains(schemas, p.schema) {
			schemas = append(schemas, p.schema)
		}
		body.set(p, encode(d.types[name], wanted.Fields[name].Text()))
	}
	body["schemas"] = schemas
	got, err := c.do(ctx, request{method: http.MethodPost, path: d.endpoint, body: body})
	if err != nil {
		return account.Account{}, err
	}
	r, err := c.resource(got)
	if err != nil || r.text("id") == "" {
		return account.Account{}, &system.Unclear{Err: errors.New("the system answered that it made the account, but not which")}
	}
	return d.account(r, fields, got.header), nil
}

// operation is one operation of a PATCH (RFC 7644 section 3.5.2).
type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

const patchOp = "urn:ietf:params:scim:api:messages:2.0:PatchOp"

// Change implements system.System with the least PATCH, or with a PUT of the
// whole account where the server has no PATCH.
func (c *Client) Change(ctx context.Context, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return account.Account{}, err
	}
	if !d.config.Patch.Supported {
		return c.replace(ctx, known, changes, fields)
	}
	operations, certain := d.operations(changes)
	if !certain {
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
	}
	got, err := c.patch(ctx, known, operations)
	var refusal *system.Refusal
	if certain && errors.As(err, &refusal) && slices.ContainsFunc(operations, func(o operation) bool { return strings.Contains(o.Path, "[") }) {
		// The element is stored in another way than it looked: work on the list.
		if operations, err = c.look(ctx, &known, changes); err != nil {
			return account.Account{}, err
		}
		got, err = c.patch(ctx, known, operations)
	}
	if err != nil {
		return account.Account{}, err
	}
	if len(got.body) > 0 { // else 204: the server says it is done
		if r, err := c.resource(got); err == nil && r.text("id") != "" {
			return d.account(r, fields, got.header), nil
		}
	}
	now := account.Account{ID: known.ID, Version: got.header.Get("ETag"), Fields: maps.Clone(known.Fields)}
	for _, change := range changes {
		now.Fields[change.Field] = change.After
	}
	return now, nil
}

func (c *Client) patch(ctx context.Context, known account.Account, operations []operation) (*answer, error) {
	body := map[string]any{"schemas": []string{patchOp}, "Operations": operations}
	return c.do(ctx, request{method: http.MethodPatch, path: c.known.endpoint + "/" + url.PathEscape(known.ID), body: body, version: known.Version})
}

// operations writes the changes as operations. It is not certain of them when an
// element of a list would have to be there, or not, for them to be right.
func (d *discovered) operations(changes []account.Change) (operations []operation, certain bool) {
	certain = true
	for _, change := range changes {
		p, a := d.paths[change.Field], d.types[change.Field]
		if p.kind != "" && !change.Before.Filled() {
			certain = false
		}
		if !change.After.Filled() {
			if p.kind != "" && p.sub == "value" {
				p.sub = "" // an address without its value is none
			}
			operations = append(operations, operation{Op: "remove", Path: p.String()})
			continue
		}
		operations = append(operations, operation{Op: "replace", Path: p.String(), Value: encode(a, change.After.Text())})
	}
	return operations, certain
}

// look reads the account to write operations that replace whole lists.
func (c *Client) look(ctx context.Context, known *account.Account, changes []account.Change) ([]operation, error) {
	r, header, err := c.get(ctx, known.ID)
	if err != nil {
		return nil, err
	}
	now := c.known.account(r, known.FieldNames(), header)
	if known.Version != "" && now.Version != known.Version {
		return nil, system.ErrChanged
	}
	var simple []account.Change
	lists := map[string]bool{}
	for _, change := range changes {
		p := c.known.paths[change.Field]
		if p.kind == "" {
			simple = append(simple, change)
			continue
		}
		r.set(p, c.encoded(change))
		lists[p.attr] = true
	}
	operations, _ := c.known.operations(simple)
	for _, attr := range slices.Sorted(maps.Keys(lists)) {
		o := operation{Op: "replace", Path: attr, Value: r.get(attr)}
		if o.Value == nil {
			o.Op = "remove"
		}
		operations = append(operations, o)
	}
	return operations, nil
}

func (c *Client) encoded(change account.Change) any {
	if !change.After.Filled() {
		return nil
	}
	return encode(c.known.types[change.Field], change.After.Text())
}

// replace changes an account by putting all of it (RFC 7644 section 3.5.1).
func (c *Client) replace(ctx context.Context, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	r, header, err := c.get(ctx, known.ID)
	if err != nil {
		return account.Account{}, err
	}
	now := c.known.account(r, known.FieldNames(), header)
	if known.Version != "" && now.Version != known.Version {
		return account.Account{}, system.ErrChanged
	}
	for _, change := range changes {
		p := c.known.paths[change.Field]
		r.set(p, c.encoded(change))
		if p.schema != "" {
			schemas, _ := r.get("schemas").([]any)
			if !slices.Contains(schemas, any(p.schema)) {
				r["schemas"] = append(schemas, p.schema)
			}
		}
	}
	delete(r, "meta")
	got, err := c.do(ctx, request{method: http.MethodPut, path: c.known.endpoint + "/" + url.PathEscape(known.ID), body: r, version: now.Version})
	if err != nil {
		return account.Account{}, err
	}
	if r, err = c.resource(got); err != nil {
		return account.Account{}, err
	}
	return c.known.account(r, fields, got.header), nil
}
