// Package web is the kind of feed that is fetched from a web address: a sheet as it is, or a
// list in JSON that may come in pages.
//
// It promises that nothing is asked of another host than the one that was named, wherever
// it sends us, and that an answer which says otherwise than “here it is” is no list.
package web

import (
	"compress/gzip"
	"context"
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
	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
	"evenledger/internal/yamldoc"
)

const (
	mostPages   = 100_000
	mostOfAPage = 256 << 20   // bytes of a page in JSON, unpacked
	mostTold    = 300         // bytes of what a server says to a refusal
	idle        = time.Second // that a connection is kept: on one that the server gives up just then, nobody could say whether a call came
	fewTries    = 3           // of an address where the line broke: a wrong one is to be told soon
)

// Kind is the kind “web” of evenledger.yaml.
func Kind() feed.Kind { return feed.Kind{Name: "web", Settings: settings} }

type source struct {
	httpdial.Service
	name       string
	rows, next []string
}

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) feed.Source) {
	s := &source{name: part.Name}
	names := func(n yamldoc.Node) []string { return strings.Split(n.Text(), ".") }
	keys := append(s.Keys(part, "The https: address of the list; http: on this machine alone.", false), []yamldoc.Key{
		{Name: "rows", Form: yamldoc.Text, About: "In JSON: the names that lead to the list of people, with dots between, such as data.people. Without it: the list is all there is.", Put: yamldoc.Into(&s.rows, names)},
		{Name: "next", Form: yamldoc.Text, About: "In JSON: the names that lead to the address of the next page, such as paging.next. Without it: the Link header says it (RFC 8288), if anything does.", Put: yamldoc.Into(&s.next, names)},
	}...)
	return keys, func(given yamldoc.Given) feed.Source {
		s.Check(part, given, "feed "+part.Name, "https://HOST/starters.csv", false)
		return s
	}
}

// Take implements feed.Source: the next time the server is asked for what is newer.
func (*source) Take(context.Context, feed.Delivery, feed.Work) error { return nil }

// Bring implements feed.Source.
func (s *source) Bring(ctx context.Context, to *feed.Spool, last feed.Last, work feed.Work) (feed.Delivery, error) {
	c, err := s.client(work)
	if err != nil {
		return feed.Delivery{}, err
	}
	if c.to = to; !last.Again {
		c.tag, c.modified = last.Tag, last.Modified
	}
	defer c.Close()
	answer, err := c.get(ctx, c.at, true)
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

// A client asks for one delivery.
type client struct {
	*source
	*httpdial.Client
	at       *url.URL
	work     feed.Work
	to       *feed.Spool // nil: it is called, and nothing is brought
	tag      string
	modified time.Time
}

// client opens the secrets of the feed.
func (s *source) client(work feed.Work) (*client, error) {
	at, err := url.Parse(s.URL)
	if err != nil {
		return nil, err
	}
	c := &client{source: s, at: at, work: work}
	config, err := s.Config(work.Mask, work.Timeout)
	if err != nil {
		return nil, err
	}
	config.Trace, config.Clock, config.Tries, config.Idle, config.Redirect = work.Trace, work.Clock, fewTries, idle, c.stays
	c.Client, err = httpdial.New(config)
	return c, err
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
	header := http.Header{"Accept-Encoding": {"gzip"}}
	switch {
	case !first:
	case c.tag != "":
		header.Set("If-None-Match", c.tag)
	case !c.modified.IsZero():
		header.Set("If-Modified-Since", c.modified.UTC().Format(http.TimeFormat))
	}
	asked := len(header) > 1
	return c.Stream(ctx, httpdial.Request{Method: http.MethodGet, URL: at, Header: header, Safe: true, Tries: 1}, func(answer *http.Response) error {
		if answer.StatusCode == http.StatusOK || answer.StatusCode == http.StatusNotModified && asked {
			return nil
		}
		return c.no(answer)
	})
}

// no is the error of an answer that holds no list.
func (c *client) no(answer *http.Response) error {
	no := &reach.Unavailable{Message: c.told(answer), Remedy: "Look at the url in evenledger.yaml, or ask who runs the server."}
	switch answer.StatusCode {
	case http.StatusUnauthorized:
		no.Remedy = c.Remedy()
	case http.StatusForbidden:
		no.Remedy = "The token or password is wrong, has run out, or may not read there. Look where evenledger.yaml says it is kept."
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		no.Remedy = "Try again later."
		after := answer.Header.Get("Retry-After")
		// A wait as long as any other is lived with; whoever watches the delivery ends one without end.
		if wait, named := httpdial.RetryAfter(answer.Header, c.work.Clock.Now()); named && wait < c.work.Timeout {
			wait = max(wait, time.Second)
			if c.to != nil {
				c.to.Waits(wait)
			}
			return &httpdial.Again{Err: no, Unsent: true, Answered: true, Busy: true, After: wait, Named: true}
		}
		if after != "" {
			no.Remedy = "Try again later; the server says after " + after + " (seconds, or a time)."
		}
	}
	return no
}

// told is what an answer says, for people.
func (c *client) told(answer *http.Response) string {
	said, _ := io.ReadAll(io.LimitReader(answer.Body, mostTold))
	message := fmt.Sprintf("%s answers %s", c.source.Address(), answer.Status)
	if text := strings.ToValidUTF8(strings.Join(strings.Fields(string(said)), " "), "�"); text != "" && !strings.HasPrefix(text, "<") {
		message += ": " + c.work.Mask.Hide(text)
	}
	return message
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
	return &reach.Unavailable{Message: fmt.Sprintf("the answer of %s broke off: %s", c.source.Address(), c.work.Mask.Hide(err.Error())), Remedy: "Try again. Nothing of it was used.", Err: err}
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
			return feed.Delivery{}, &reach.Unavailable{Message: fmt.Sprintf("page %d of %s has no list at %s", n, c.source.Address(), shownPath(c.rows)), Remedy: "Look at “rows” in evenledger.yaml."}
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
			return feed.Delivery{}, &reach.Unavailable{Message: fmt.Sprintf("the pages of %s have no end: page %d is followed by one that was read before", c.source.Address(), n), Remedy: "Look at “next” in evenledger.yaml, or ask who runs the server."}
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
			return nil, &reach.Unavailable{Message: fmt.Sprintf("a page of %s has no address at %s, but something else", c.source.Address(), shownPath(c.next)), Remedy: "Look at “next” in evenledger.yaml: it leads to the address of the next page, and to nothing on the last."}
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
		return nil, &reach.Unavailable{Message: fmt.Sprintf("the next page of %s is not followed: %s", c.source.Address(), err), Remedy: "Nothing is asked of another host than the one that evenledger.yaml names. Ask who runs the server."}
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
