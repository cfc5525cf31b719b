// Package web reaches applications with a web interface of their own, JSON over HTTP, as a description says.
//
// A Client takes the description's word for how things are asked for, and the server's for little: an answer
// that shows no account is none; a finding is believed to find nobody only once it was seen to find somebody,
// and to find nobody by a value that nobody has; a listing is complete when its end is proven; an address
// that leads to another server is not followed. A change of which nobody can say whether it was carried out
// ends as *system.Unclear, and the caller looks before it repeats.
package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

// Config says how the application is reached, and what it looks like.
type Config struct {
	httpdial.Config
	Interface *description.Interface
	Aliases   map[string]string // short name → path of one of the application's own fields
	Practice  bool              // it is there to be tried out on
}

// A Client is a system.System.
type Client struct {
	system.Base
	app    *description.Interface
	config Config
	http   *httpdial.Client
	base   *url.URL

	slow  atomic.Bool                     // what it takes in takes longer than anybody waits
	watch func(httpdial.Request, *answer) // is told of each answer, while the description is tried out; nil: nobody is

	describing sync.Mutex
	known      *system.Description
	mu         sync.Mutex
	finds      map[string]bool // by field: whether it was seen to find
	sentinel   map[string]sentinel
	roles      map[string]map[string]string    // by kind of things: role → as the application writes it
	ties       map[[2]string]map[string]string // by kind and thing: account → the identifier of its tie
}

// New returns a Client. It sends nothing yet.
func New(config Config) (*Client, error) {
	http, err := httpdial.New(config.Config)
	if err != nil {
		return nil, err
	}
	config.Clock = http.Clock()
	base, err := url.Parse(config.URL)
	if err != nil {
		return nil, err
	}
	c := &Client{app: config.Interface, config: config, http: http, base: base, finds: map[string]bool{}, sentinel: map[string]sentinel{}, roles: map[string]map[string]string{}, ties: map[[2]string]map[string]string{}}
	for name, path := range config.Aliases {
		if _, err := c.app.Add(path); err != nil {
			return nil, &account.Mistake{Message: fmt.Sprintf("the alias %s stands for “%s”: %s", name, path, err), Remedy: "Write the path at which the field stands, such as custom.watch."}
		}
	}
	return c, nil
}

// Close gives back what is held of the server's; see system.Close.
func (c *Client) Close() error { return c.http.Close() }

// A request is one that is to be sent.
type request struct {
	*description.Call
	scope   *description.Scope
	more    url.Values // further parameters
	at      *url.URL   // instead of the path: an address of the same server
	body    []byte
	version string // If-Match (RFC 9110 section 13.1.1)
	holds   bool   // the body says which version it is made to
	key     string // by which the server knows it again, under the header
	header  string
	safe    bool          // it changes nothing
	may     system.Permit // whether it may be sent, where it changes something
	names   bool          // it is about one account or thing, which may be gone
	tries   int
}

// An answer is what came.
type answer struct {
	*httpdial.Answer
	value any // its JSON; nil: it is none
}

// do sends a request until there is a final answer.
func (c *Client) do(ctx context.Context, r request) (*answer, error) {
	sent, err := c.filled(r)
	if err != nil {
		return nil, err
	}
	var came *answer
	_, err = c.http.Do(ctx, sent, func(got *httpdial.Answer) error {
		came = &answer{Answer: got, value: decode(got)}
		if c.watch != nil {
			c.watch(sent, came)
		}
		return c.judge(r, sent, came)
	})
	if err != nil {
		return nil, err
	}
	if !r.safe && came.Status == http.StatusAccepted {
		return c.follow(ctx, sent, came)
	}
	return came, nil
}

// filled is a request as it is sent.
func (c *Client) filled(r request) (sent httpdial.Request, err error) {
	sent = httpdial.Request{Method: r.Method, Safe: r.safe, May: r.may, Tries: r.tries, Header: http.Header{"Accept": {"application/json, application/problem+json"}}, Body: r.body, URL: r.at, Query: url.Values{}}
	refuse := func(what string, err error) error {
		return &system.Refusal{Code: account.CannotBeWritten, Message: fmt.Sprintf("%s: %s cannot be filled: %s", r.Call, what, err)}
	}
	if r.at == nil {
		if sent.Path, err = r.Path.Address(r.scope); err != nil {
			return sent, refuse("its path", err)
		}
		for name, value := range r.Query {
			text, err := value.Text(r.scope)
			if err != nil {
				return sent, refuse("its parameter "+name, err)
			}
			sent.Query.Set(name, text)
		}
		for name, values := range r.more {
			sent.Query[name] = values
		}
	}
	for name, value := range r.Header {
		text, err := value.Text(r.scope)
		if err != nil || strings.ContainsAny(text, "\r\n") {
			return sent, refuse("its header "+name, errors.Join(err, errors.New("a header is one line")))
		}
		sent.Header.Set(name, text)
	}
	if sent.Body == nil && r.Body.Is && !r.Body.Whole {
		if sent.Body, err = r.Body.JSON(r.scope); err != nil {
			return sent, refuse("its body", err)
		}
	}
	if sent.Body != nil {
		kind := r.Content
		if kind == "" {
			kind = "application/json"
		}
		sent.Header.Set("Content-Type", kind)
	}
	if r.version != "" {
		sent.Header.Set("If-Match", r.version)
	}
	if r.header != "" {
		sent.Header.Set(r.header, r.key)
		sent.Keyed = true
	}
	return sent, nil
}

// decode reads an answer's JSON; numbers stay as they are written.
func decode(got *httpdial.Answer) any {
	decoder := json.NewDecoder(bytes.NewReader(got.Body))
	decoder.UseNumber()
	var value any
	if decoder.Decode(&value) != nil || decoder.More() {
		return nil
	}
	return value
}

// judge turns an answer that is no success into an error.
func (c *Client) judge(r request, sent httpdial.Request, got *answer) error {
	n := no{c, r, sent, got}
	success := got.Status >= 200 && got.Status < 300
	is := func(test *description.Test, usual bool) bool {
		if test == nil {
			return usual
		}
		return n.passes(test)
	}
	answers := &c.app.Answers
	switch {
	case is(answers.Wait, got.Status == http.StatusTooManyRequests):
		after, named := httpdial.RetryAfter(got.Header, c.config.Clock.Now())
		return &httpdial.Again{Err: n.unavailable("Set a pace in evenledger.yaml, such as “rate: 10/s”, and try again.", "%s is busy (%d) and stayed so: %s", c.config.URL, got.Status, n.said()), Unsent: true, Answered: true, Busy: true, After: after, Named: named}
	case n.passes(answers.Unclear):
		return n.open(n.unavailable("Try again; --trace FILE writes down what was sent and answered.", "%s does not say whether it is done (%d): %s", c.config.URL, got.Status, n.said()))
	case r.names && is(answers.Gone, got.Status == http.StatusNotFound || got.Status == http.StatusGone):
		return system.ErrGone
	case (r.version != "" || r.holds) && is(answers.Changed, got.Status == http.StatusPreconditionFailed):
		return system.ErrChanged
	case !r.safe && is(answers.Taken, got.Status == http.StatusConflict):
		return n.refusal(account.TakenValue, "another account already has a value that must be unique")
	case n.passes(answers.Failed):
		return n.refusal(account.SystemRefused, "the system refused it")
	case answers.Done != nil && success && got.Status != http.StatusAccepted:
		if n.passes(answers.Done) {
			return nil
		}
		return n.refusal(account.SystemRefused, "the system did not do it")
	case success && (got.value != nil || len(got.Body) == 0):
		return nil
	case success && r.safe && strings.Contains(got.Header.Get("Content-Type"), "json"): // it broke off on the way
		return &httpdial.Again{Err: n.unavailable("Try again. If it stays so, show the system's keepers what --trace FILE writes.", "%s answered JSON that cannot be read", c.config.URL), Answered: true}
	case success:
		return n.open(n.unavailable(addressRemedy, "%s answered %d with %s where JSON was expected", c.config.URL, got.Status, got.Kind()))
	}
	return n.plain()
}

// addressRemedy is for what is not the interface.
const addressRemedy = "Look whether the url in evenledger.yaml is where the interface begins, and whether the paths of the description are right: evenledger system try NAME shows each."

// A no is an answer that is no success.
type no struct {
	client *Client
	request
	sent httpdial.Request
	*answer
}

// passes reports whether the answer passes a test of the description.
func (n no) passes(test *description.Test) bool {
	if test == nil {
		return false
	}
	var body any // with numbers that can be reckoned with
	_ = json.Unmarshal(n.answer.Answer.Body, &body)
	header := map[string]string{}
	for name := range n.answer.Answer.Header {
		header[name] = n.answer.Answer.Header.Get(name)
	}
	return test.Passes(n.Status, body, header)
}

// unavailable is the error that the application cannot be worked with.
func (n no) unavailable(remedy, format string, args ...any) error {
	return &system.Unavailable{Message: fmt.Sprintf("%s: ", n.sent) + fmt.Sprintf(format, args...), Remedy: remedy}
}

// open leaves it open what became of a change.
func (n no) open(err error) error {
	if n.safe {
		return err
	}
	return &system.Unclear{Err: err}
}

// plain is for answers whose status says no.
func (n no) plain() error {
	at := n.client.config.URL
	switch verdict := httpdial.VerdictOn(n.Status); {
	case verdict == httpdial.Elsewhere:
		return n.open(n.unavailable("If that is the right place, put it as url into evenledger.yaml.", "%s redirects to %s", at, n.answer.Answer.Header.Get("Location")))
	case verdict == httpdial.TurnedAway:
		return n.unavailable(n.client.http.Remedy(), "%s turns us away (401): %s", at, n.said())
	case verdict == httpdial.Missing:
		return n.unavailable(addressRemedy, "%s has nothing there (%d): %s", at, n.Status, n.said())
	case verdict == httpdial.Busy:
		return n.unavailable("Set a pace in evenledger.yaml, such as “rate: 10/s”.", "%s is busy (%d): %s", at, n.Status, n.said())
	case !verdict.IsNo():
		after, _ := httpdial.RetryAfter(n.answer.Answer.Header, n.client.config.Clock.Now())
		return &httpdial.Again{Err: n.unavailable("Try again later; what was done is in the ledger. If it stays so, ask who runs the system; --trace FILE writes down what was sent and answered.", "%s cannot answer (%d): %s", at, n.Status, n.said()), Answered: true, After: after}
	case n.Status == http.StatusForbidden && n.safe:
		return n.unavailable("Ask who runs the system for the right to read and change accounts.", "%s does not let us read (403): %s", at, n.said())
	case n.Status == http.StatusForbidden:
		return n.refusal(account.SystemRefused, "we have no right to do this")
	}
	return n.refusal(account.SystemRefused, "the system refused it")
}

// refusal is the application's no to a request about one account.
func (n no) refusal(code account.Code, words string) error {
	field, detail := n.fault()
	if field != "" && code == account.SystemRefused && n.Status == http.StatusConflict {
		code = account.TakenValue
	}
	said := n.said()
	if detail != "" && !strings.Contains(said, detail) {
		said += "; " + detail
	}
	return &system.Refusal{Code: code, Field: field, Message: fmt.Sprintf("%s (%s answered %d); the system says: %s", words, n.Call, n.Status, said)}
}

// said are the application's own words, without any secret in them.
func (n no) said() string {
	text := description.Text(n.client.app.Answers.Message.Of(n.value))
	if n.client.app.Answers.Message == nil || text == "" {
		text = httpdial.Saying(n.value)
	}
	if text == "" {
		text = httpdial.Unmarked(string(n.answer.Answer.Body[:min(len(n.answer.Answer.Body), 64<<10)]))
	}
	if text = httpdial.Clip(n.client.config.Mask.Hide(text)); text == "" { // hidden before it is cut: a part of a secret is one as well
		text = http.StatusText(n.Status)
	}
	return text
}

// fault is the field that the application finds at fault, and what it says of it: where the description says it
// stands, or in the list of errors that many have beside RFC 9457's members (section 3.2).
func (n no) fault() (field, detail string) {
	if at := n.client.app.Answers.Field; at != nil {
		return n.client.named(description.Text(at.Of(n.value))), ""
	}
	object, _ := n.value.(map[string]any)
	list, _ := object["errors"].([]any)
	for _, item := range list {
		one, _ := item.(map[string]any)
		for _, name := range []string{"pointer", "field", "path", "parameter"} {
			if field := n.client.named(description.Text(one[name])); field != "" {
				return field, httpdial.Clip(n.client.config.Mask.Hide(httpdial.Saying(item)))
			}
		}
	}
	return "", ""
}

// named is the field that the application calls so: by a path, a pointer (RFC 6901) or the last part of either.
func (c *Client) named(text string) string {
	text = strings.ReplaceAll(strings.TrimPrefix(strings.TrimPrefix(text, "#"), "/"), "/", ".")
	if text == "" {
		return ""
	}
	last := ""
	for _, f := range c.app.Account.Fields {
		at := append(slices.Clone(f.At), f.Value...)
		switch {
		case text == f.Name, text == at.String(), strings.HasPrefix(text, f.At.String()+"."):
			return f.Name
		case at[len(at)-1] == text, strings.HasSuffix(text, "."+at[len(at)-1]):
			last = f.Name
		}
	}
	return last
}

// elsewhere resolves an address that the application gave. It has to be on the same server: what is sent there has the credentials.
func (c *Client) elsewhere(text string, from *url.URL) (*url.URL, error) {
	to, err := url.Parse(text)
	if err == nil {
		to = from.ResolveReference(to)
	}
	if err != nil || text == "" || to.Scheme != c.base.Scheme || to.Host != c.base.Host || to.User != nil {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s names the address “%s”, which is not its own: nothing is sent there", c.config.URL, httpdial.Clip(c.config.Mask.Hide(text))), Remedy: "Ask who runs the system. If it is behind another name, put that as url into evenledger.yaml."}
	}
	return to, nil
}

// Bounds on following what was taken in.
const (
	firstPoll  = 50 * time.Millisecond
	longPoll   = 2 * time.Second
	mostPolled = 10 * time.Second
)

// errTakenIn is the end of following something that takes longer.
var errTakenIn = errors.New("the system took the request in (202) and does not say yet whether it carries it out")

// follow asks for a while what became of something that was taken in. What does not end by then is asked about later.
func (c *Client) follow(ctx context.Context, sent httpdial.Request, got *answer) (*answer, error) {
	if c.app.Jobs == nil {
		return nil, &system.Unclear{TakenIn: true, Err: errTakenIn}
	}
	text := got.Header.Get("Location")
	if !c.app.Jobs.Located {
		text = description.Text(c.app.Jobs.At.Of(got.value))
	}
	from := *c.base
	from.Path += sent.Path
	at, err := c.elsewhere(text, &from)
	if err != nil {
		return nil, &system.Unclear{TakenIn: true, Err: errors.Join(errTakenIn, err)}
	}
	begun := c.config.Clock.Now()
	for pause := firstPoll; ; pause = min(2*pause, longPoll) {
		if err := c.config.Clock.Wait(ctx, pause); err != nil {
			return nil, &system.Unclear{TakenIn: true, Ask: at.String(), Err: errors.Join(errTakenIn, err)}
		}
		ended, err := c.askAt(ctx, at)
		if errors.Is(err, system.ErrGone) { // it may be known a moment later
			err = &system.Unclear{TakenIn: true, Ask: at.String(), Err: errTakenIn}
		}
		var later *system.Unclear
		if !errors.As(err, &later) {
			c.slow.Store(false)
			return ended, err
		}
		if c.slow.Load() || c.config.Clock.Now().Sub(begun) > mostPolled {
			c.slow.Store(true) // those that follow are not waited for
			return nil, err
		}
	}
}

// askAt asks once: the answer shows what was made, as if it had come at once. Of what the system knows nothing (any more), the
// error is system.ErrGone.
func (c *Client) askAt(ctx context.Context, at *url.URL) (*answer, error) {
	r := request{Call: &description.Call{Method: http.MethodGet}, at: at, safe: true, names: true}
	now, err := c.do(ctx, r)
	if errors.Is(err, system.ErrGone) {
		return nil, err
	}
	if err != nil {
		return nil, &system.Unclear{TakenIn: true, Ask: at.String(), Err: fmt.Errorf("the system took the request in (202), and then: %w", err)}
	}
	n := no{c, r, httpdial.Request{Method: http.MethodGet, URL: at}, now}
	switch jobs := c.app.Jobs; {
	case n.passes(jobs.Failed):
		code := account.SystemRefused
		if n.passes(jobs.Taken) {
			code = account.TakenValue
		}
		words := ""
		if jobs.Message != nil {
			words = httpdial.Clip(c.config.Mask.Hide(description.Text(jobs.Message.Of(now.value))))
		}
		if words == "" {
			words = n.said()
		}
		return nil, &system.Refusal{Code: code, Message: fmt.Sprintf("the system took it in, and it came to nothing; the system says: %s", words)}
	case n.passes(jobs.Done):
		ended := &answer{Answer: &httpdial.Answer{Status: http.StatusOK, Header: now.Header, Body: now.Body}, value: jobs.Item.Of(now.value)}
		if ended.value == nil {
			ended.Body = nil
		}
		return ended, nil
	}
	return nil, &system.Unclear{TakenIn: true, Ask: at.String(), Err: errTakenIn}
}

// Ask implements system.Asker.
func (c *Client) Ask(ctx context.Context, at string, fields []string) (account.Account, error) {
	address, err := c.elsewhere(at, c.base)
	if err != nil || c.app.Jobs == nil || c.app.Create == nil {
		return account.Account{}, &system.Unclear{TakenIn: true, Err: errors.Join(errTakenIn, err)}
	}
	got, err := c.askAt(ctx, address)
	if err != nil {
		return account.Account{}, err
	}
	return c.made(ctx, got, &account.Account{}, fields)
}
