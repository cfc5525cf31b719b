// Package web is the kind of feed that is fetched from a web address: a sheet as it is, or a
// list in JSON that may come in pages.
//
// It promises that nothing is asked of another host than the one that was named, wherever
// it sends us, and that an answer which says otherwise than “here it is” is no list.
package web

import (
	"compress/gzip"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"evenledger/internal/feed"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

const (
	mostPages   = 100_000
	mostOfAPage = 256 << 20 // bytes of a page in JSON, unpacked
	mostTold    = 300       // bytes of what a server says to a refusal
	mostHops    = 5         // redirects
)

// Kind is the kind “web” of evenledger.yaml.
func Kind() feed.Kind {
	return feed.Kind{
		Name: "web",
		Keys: []yamldoc.Key{
			{Name: "url", Form: yamldoc.Text, About: "The https: address of the list; http: on this machine alone."},
			{Name: "token", Form: yamldoc.Text, About: "Where the bearer token is kept: env:NAME or file:PATH."},
			{Name: "user", Form: yamldoc.Text, About: "For HTTP basic authentication, with password."},
			{Name: "password", Form: yamldoc.Text, About: "With user: where its password is kept: env:NAME or file:PATH."},
			{Name: "ca", Form: yamldoc.Text, About: "A PEM file with the authority that signed the server's certificate, where it is none of the usual ones."},
			{Name: "rows", Form: yamldoc.Text, About: "In JSON: the names that lead to the list of people, with dots between, such as data.people. Without it: the list is all there is."},
			{Name: "next", Form: yamldoc.Text, About: "In JSON: the names that lead to the address of the next page, such as paging.next. Without it: the Link header says it (RFC 8288), if anything does."},
		},
		Read: read,
	}
}

type source struct {
	name            string
	at              *url.URL
	token, password secret.Reference
	user, ca        string
	rows, next      []string
}

func read(part reach.Part) feed.Source {
	s := &source{name: part.Name}
	has := map[string]bool{}
	for _, p := range part.Pairs {
		has[p.Key] = true
		switch p.Key {
		case "url":
			s.readAddress(p.Value)
		case "token":
			s.token = part.Secret(p.Value)
		case "user":
			s.user = p.Value.Text()
		case "password":
			s.password = part.Secret(p.Value)
		case "ca":
			s.ca = part.Path(p.Value.Text())
		case "rows":
			s.rows = strings.Split(p.Value.Text(), ".")
		case "next":
			s.next = strings.Split(p.Value.Text(), ".")
		}
	}
	switch {
	case !has["url"]:
		part.At.Fail("Add “url”, such as https://HOST/starters.csv.", "feed %s does not say where it is", part.Name)
	case has["token"] && has["user"]:
		part.At.Fail("Keep “token”, or “user” with “password”.", "feed %s has both a token and a user", part.Name)
	case has["user"] != has["password"]:
		part.At.Fail("“user” and “password” belong together.", "feed %s has only one of user and password", part.Name)
	}
	return s
}

func (s *source) readAddress(node yamldoc.Node) {
	at, err := url.Parse(node.Text())
	switch {
	case err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http":
		node.Fail("Write it as https://HOST/PATH.", "this is no web address")
	case at.User != nil:
		node.Fail("Use “user” and “password”.", "the address has a user name or password in it")
	case at.Scheme == "http" && !reach.OnThisMachine(at.Hostname()):
		node.Fail("Use https.", "people's data would be sent in clear to another machine")
	default:
		s.at = at
	}
}

// Address implements feed.Source. What stands behind a question mark may be a key.
func (s *source) Address() string {
	if s.at == nil {
		return ""
	}
	shown := *s.at
	if shown.RawQuery != "" {
		shown.RawQuery = "…"
	}
	return shown.String()
}

// Take implements feed.Source: the next time the server is asked for what is newer.
func (*source) Take(context.Context, feed.Delivery, feed.Work) error { return nil }

// Bring implements feed.Source.
func (s *source) Bring(ctx context.Context, to *feed.Spool, last feed.Last, work feed.Work) (feed.Delivery, error) {
	c, err := s.client(work)
	if err != nil {
		return feed.Delivery{}, err
	}
	if !last.Again {
		c.tag, c.modified = last.Tag, last.Modified
	}
	answer, err := c.get(ctx, s.at, true)
	if err != nil {
		return feed.Delivery{}, err
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusNotModified {
		return feed.Delivery{}, &feed.Nothing{Message: "the server says that nothing changed since it was taken", Same: true}
	}
	tag := answer.Header.Get("ETag")
	modified, _ := http.ParseTime(answer.Header.Get("Last-Modified"))
	body, err := unpacked(answer)
	if err != nil {
		return feed.Delivery{}, err
	}
	kind, _, _ := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	inPages := s.rows != nil || s.next != nil || nextOf(answer.Header) != ""
	var d feed.Delivery
	switch {
	case kind == "text/html":
		return feed.Delivery{}, &reach.Unavailable{Message: fmt.Sprintf("%s answers with a page for people, not with a list", s.Address()), Remedy: "Such a page often asks one to sign in: look at the url and at “token” or “user” in evenledger.yaml."}
	case inPages && (kind == "application/json" || strings.HasSuffix(kind, "+json")):
		d, err = c.pages(ctx, to, answer, body)
	default:
		d, err = c.whole(ctx, to, answer, body)
	}
	d.Tag, d.Modified = tag, modified
	return d, err
}

type client struct {
	*source
	http          *http.Client
	work          feed.Work
	authorization string
	tag           string
	modified      time.Time
}

func (s *source) client(work feed.Work) (*client, error) {
	c := &client{source: s, work: work}
	if s.token.Given() {
		token, err := reach.Open(s.token, work.Mask)
		if err != nil {
			return nil, err
		}
		c.authorization = "Bearer " + token
	}
	if s.user != "" {
		password, err := reach.Open(s.password, work.Mask)
		if err != nil {
			return nil, err
		}
		var r http.Request
		r.Header = http.Header{}
		r.SetBasicAuth(s.user, password)
		c.authorization = r.Header.Get("Authorization")
		work.Mask.Add(c.authorization)
	}
	secure, err := reach.Secure(s.ca)
	if err != nil {
		return nil, err
	}
	c.http = &http.Client{
		Transport: &http.Transport{
			Proxy: http.ProxyFromEnvironment, DialContext: reach.Dialer(work.Timeout).DialContext, TLSClientConfig: secure, ResponseHeaderTimeout: work.Timeout, DisableCompression: true, ForceAttemptHTTP2: true, MaxResponseHeaderBytes: 1 << 20,
		},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) >= mostHops {
				return errors.New("it sends us on without end")
			}
			return c.stays(r.URL)
		},
	}
	return c, nil
}

// stays sees that an address is at the host that was named: the token would be told to
// another, and another's list taken for this one.
func (c *client) stays(at *url.URL) error {
	if at.Scheme != c.at.Scheme || at.Host != c.at.Host {
		return fmt.Errorf("it sends us on to %s://%s", at.Scheme, at.Host)
	}
	return nil
}

// get asks for an address. An answer that holds no list is an error.
func (c *client) get(ctx context.Context, at *url.URL, first bool) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept-Encoding", "gzip")
	r.Header.Set("User-Agent", "evenledger")
	if c.authorization != "" {
		r.Header.Set("Authorization", c.authorization)
	}
	if first && c.tag != "" {
		r.Header.Set("If-None-Match", c.tag)
	} else if first && !c.modified.IsZero() {
		r.Header.Set("If-Modified-Since", c.modified.UTC().Format(http.TimeFormat))
	}
	began := c.work.Clock.Now()
	answer, err := c.http.Do(r)
	if err != nil {
		return nil, c.unreachable(ctx, err)
	}
	if c.work.Trace != nil {
		c.work.Trace.Info("asked", "what", "GET "+at.EscapedPath(), "answer", answer.Status, "after", c.work.Clock.Now().Sub(began).Round(time.Millisecond).String())
	}
	if answer.StatusCode == http.StatusOK || answer.StatusCode == http.StatusNotModified && r.Header.Get("If-None-Match")+r.Header.Get("If-Modified-Since") != "" {
		return answer, nil
	}
	defer answer.Body.Close()
	told, _ := io.ReadAll(io.LimitReader(answer.Body, mostTold))
	remedy := "Look at the url in evenledger.yaml, or ask who runs the server."
	switch answer.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden:
		remedy = "The token or password is wrong, has run out, or may not read there. Look where evenledger.yaml says it is kept."
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		remedy = "Try again later."
		after := answer.Header.Get("Retry-After")
		// A wait as long as any other is lived with; whoever watches the delivery ends one without end.
		if wait, named := reach.RetryAfter(answer.Header, c.work.Clock.Now()); named && wait < c.work.Timeout {
			if err := c.work.Clock.Wait(ctx, max(wait, time.Second)); err != nil {
				return nil, err
			}
			return c.get(ctx, at, first)
		}
		if after != "" {
			remedy = "Try again later; the server says after " + after + " (seconds, or a time)."
		}
	}
	message := fmt.Sprintf("%s answers %s", c.Address(), answer.Status)
	if text := strings.ToValidUTF8(strings.Join(strings.Fields(string(told)), " "), "�"); text != "" && !strings.HasPrefix(text, "<") {
		message += ": " + c.work.Mask.Hide(text)
	}
	return nil, &reach.Unavailable{Message: message, Remedy: remedy}
}

func (c *client) unreachable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var at *url.Error
	if errors.As(err, &at) {
		err = at.Err // the address stands in it, with whatever is behind its question mark
	}
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return &reach.Unavailable{Message: fmt.Sprintf("the certificate of %s does not verify: %v", c.at.Host, certificate.Err), Remedy: "If the server has a certificate of your own authority, name its file as “ca” in evenledger.yaml. Else do not go on: somebody may be in between.", Err: err}
	}
	return &reach.Unavailable{Message: fmt.Sprintf("%s cannot be fetched: %s", c.Address(), c.work.Mask.Hide(err.Error())), Remedy: "Look at the url in evenledger.yaml, whether the server runs, and at the network.", Err: err}
}

// isVerification reports whether an error is of the server's certificate: nothing was said.
func isVerification(err error) bool {
	var certificate *tls.CertificateVerificationError
	return errors.As(err, &certificate)
}

// unpacked is what an answer holds; it was asked for in gzip.
func unpacked(answer *http.Response) (io.Reader, error) {
	switch encoding := strings.ToLower(answer.Header.Get("Content-Encoding")); encoding {
	case "", "identity":
		return answer.Body, nil
	case "gzip", "x-gzip":
		return gzip.NewReader(answer.Body)
	default:
		return nil, &reach.Unavailable{Message: fmt.Sprintf("the answer is packed as %s, which nobody asked for", encoding), Remedy: "Ask who runs the server."}
	}
}

// whole keeps an answer as it is.
func (c *client) whole(ctx context.Context, to *feed.Spool, answer *http.Response, body io.Reader) (feed.Delivery, error) {
	name := path.Base(answer.Request.URL.Path)
	if _, told, err := mime.ParseMediaType(answer.Header.Get("Content-Disposition")); err == nil && told["filename"] != "" {
		name = told["filename"]
	}
	file, err := to.Create(name)
	if err != nil {
		return feed.Delivery{}, err
	}
	defer file.Close()
	n, err := io.Copy(file, body)
	if err != nil {
		return feed.Delivery{}, c.broken(ctx, err)
	}
	if n == 0 {
		return feed.Delivery{}, &feed.Nothing{Message: "the answer is empty"}
	}
	return file.Delivery()
}

// broken is the error of an answer that ended before it was whole.
func (c *client) broken(ctx context.Context, err error) error {
	var known *reach.Unavailable
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.As(err, &known) {
		return err
	}
	return &reach.Unavailable{Message: fmt.Sprintf("the answer of %s broke off: %s", c.Address(), c.work.Mask.Hide(err.Error())), Remedy: "Try again. Nothing of it was used.", Err: err}
}

// pages keeps the people of all pages, a line each.
func (c *client) pages(ctx context.Context, to *feed.Spool, answer *http.Response, body io.Reader) (feed.Delivery, error) {
	file, err := to.Create(c.name + ".jsonl")
	if err != nil {
		return feed.Delivery{}, err
	}
	defer file.Close()
	seen := map[string]bool{c.at.String(): true}
	for n, people := 1, 0; ; n++ {
		page, err := readPage(body)
		if err != nil {
			return feed.Delivery{}, c.broken(ctx, err)
		}
		list, ok := at(page, c.rows).([]any)
		if !ok {
			return feed.Delivery{}, &reach.Unavailable{Message: fmt.Sprintf("page %d of %s has no list at %s", n, c.Address(), shownPath(c.rows)), Remedy: "Look at “rows” in evenledger.yaml."}
		}
		for _, person := range list {
			line, err := json.Marshal(person)
			if err != nil {
				return feed.Delivery{}, err
			}
			if _, err := file.Write(append(line, '\n')); err != nil {
				return feed.Delivery{}, err
			}
			people++
		}
		next, err := c.following(answer, page)
		switch {
		case err != nil:
			return feed.Delivery{}, err
		case next == nil && people == 0:
			return feed.Delivery{}, &feed.Nothing{Message: "the list is empty"}
		case next == nil:
			return file.Delivery()
		case seen[next.String()] || n == mostPages:
			return feed.Delivery{}, &reach.Unavailable{Message: fmt.Sprintf("the pages of %s have no end: page %d is followed by one that was read before", c.Address(), n), Remedy: "Look at “next” in evenledger.yaml, or ask who runs the server."}
		}
		seen[next.String()] = true
		_ = answer.Body.Close()
		if answer, err = c.get(ctx, next, false); err != nil {
			return feed.Delivery{}, err
		}
		defer answer.Body.Close()
		if body, err = unpacked(answer); err != nil {
			return feed.Delivery{}, err
		}
	}
}

// following is the address of the next page; nil: this is the last.
func (c *client) following(answer *http.Response, page any) (*url.URL, error) {
	text := nextOf(answer.Header)
	if c.next != nil {
		switch told := at(page, c.next).(type) {
		case string:
			text = told
		case nil:
		default: // a list that is taken for whole when it is not makes leavers of all the others
			return nil, &reach.Unavailable{Message: fmt.Sprintf("a page of %s has no address at %s, but something else", c.Address(), shownPath(c.next)), Remedy: "Look at “next” in evenledger.yaml: it leads to the address of the next page, and to nothing on the last."}
		}
	}
	if text == "" {
		return nil, nil
	}
	next, err := answer.Request.URL.Parse(text)
	if err == nil {
		err = c.stays(next)
	}
	if err != nil {
		return nil, &reach.Unavailable{Message: fmt.Sprintf("the next page of %s is not followed: %s", c.Address(), err), Remedy: "Nothing is asked of another host than the one that evenledger.yaml names. Ask who runs the server."}
	}
	return next, nil
}

// readPage reads one page in JSON; numbers stay as they are written.
func readPage(body io.Reader) (page any, err error) {
	limited := &io.LimitedReader{R: body, N: mostOfAPage}
	decoder := json.NewDecoder(limited)
	decoder.UseNumber()
	if err := decoder.Decode(&page); err != nil {
		if limited.N <= 0 {
			return nil, fmt.Errorf("a page is larger than %d MB", mostOfAPage>>20)
		}
		return nil, err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the end of a page")
	}
	return page, nil
}

// at returns what names lead to; nil if there is nothing.
func at(page any, names []string) any {
	for _, name := range names {
		object, _ := page.(map[string]any)
		page = object[name]
	}
	return page
}

func shownPath(names []string) string {
	if names == nil {
		return "its top"
	}
	return "“" + strings.Join(names, ".") + "”"
}

// nextOf returns the address of the next page that a Link header tells (RFC 8288 section 3).
func nextOf(header http.Header) string {
	for _, value := range header.Values("Link") {
		for rest := value; ; {
			_, after, found := strings.Cut(rest, "<")
			target, more, closed := strings.Cut(after, ">")
			if !found || !closed {
				break
			}
			parameters, _, _ := strings.Cut(more, "<")
			for parameter := range strings.SplitSeq(parameters, ";") {
				name, rel, _ := strings.Cut(strings.TrimRight(strings.TrimSpace(parameter), ", "), "=")
				if !strings.EqualFold(strings.TrimSpace(name), "rel") {
					continue
				}
				for relation := range strings.FieldsSeq(strings.Trim(strings.TrimSpace(rel), `"`)) {
					if strings.EqualFold(relation, "next") {
						return strings.TrimSpace(target)
					}
				}
			}
			rest = more
		}
	}
	return ""
}
