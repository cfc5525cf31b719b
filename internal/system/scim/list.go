package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"evenledger/internal/httpdial"
	"evenledger/internal/keyset"
	"evenledger/internal/system"
)

const listResponse = "urn:ietf:params:scim:api:messages:2.0:ListResponse"

const (
	listTries   = 4         // at a listing that changes while it is read
	maxListed   = 5_000_000 // resources of one listing: no server has so many, but one that makes them up
	leastPage   = 10
	sampleCount = 20
)

// habits are what was learnt of the server, which may be otherwise than it promises.
type habits struct {
	mu          sync.Mutex
	plain       bool                // it refuses “attributes” and the like
	projected   bool                // it takes them
	plainFor    map[string]bool     // but not with these names
	patched     map[string]bool     // endpoints at which something was changed by PATCH
	putTried    map[string]bool     // endpoints at which it was tried whether PUT is taken where PATCH is not
	noPatch     map[string]bool     // endpoints that have no PATCH after all
	wholes      map[string]bool     // complex attributes that have to be sent whole
	unbulked    map[system.Verb]int // bulk requests in which it refused what it took by itself
	ways        map[string]finding  // by filter's attribute
	honoured    bool                // pages begin where they are asked to
	zeroBased   bool                // its first resource is number 0, and not 1 (RFC 7644 section 3.4.2.4)
	totals      *bool               // totalResults is that of all pages; nil: not known
	having      map[string][]term   // by filter's attribute: accounts that have a value there
	sample      []resource          // accounts that are there
	wholeGroups bool                // it does not take them when a group is changed
	shows       map[string]showing  // by kind of thing: where its members are shown
}

// learn changes or reads what was learnt.
func (h *habits) learn(do func(*habits)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	do(h)
}

// listed is what an answer says of a list besides the resources.
type listed struct {
	total *int // totalResults; nil: it isn't there
	isOne bool // it is a list at all
	given int  // resources in it

	asked, answered int64 // when, counted by the requests of a pass that were sent or answered
}

// decodeList reads a list response (RFC 7644 section 3.4.2) and hands its resources
// to each one by one, as a page of large ones takes much room.
func decodeList(data []byte, each func(resource) error) (l listed, err error) {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	if start, err := decoder.Token(); err != nil || start != json.Delim('{') {
		return l, errors.New("it is no JSON object")
	}
	for decoder.More() {
		name, err := decoder.Token()
		if err != nil {
			return l, err
		}
		switch strings.ToLower(fmt.Sprint(name)) {
		case "totalresults":
			var number json.Number
			if err := decoder.Decode(&number); err != nil {
				return l, fmt.Errorf("its totalResults is no number: %w", err)
			}
			if n, err := strconv.Atoi(number.String()); err == nil && n >= 0 {
				l.total = &n
			}
		case "schemas":
			var schemas []any
			if err := decoder.Decode(&schemas); err != nil {
				return l, err
			}
			for _, s := range schemas {
				l.isOne = l.isOne || strings.EqualFold(fmt.Sprint(s), listResponse)
			}
		case "resources":
			open, err := decoder.Token()
			if err != nil || open != nil && open != json.Delim('[') {
				return l, errors.New("its Resources are no list")
			}
			if open == nil {
				continue
			}
			l.isOne = true
			for decoder.More() {
				r, err := nextResource(decoder)
				if err != nil {
					return l, fmt.Errorf("number %d of its Resources is no object", l.given+1)
				}
				l.given++
				if err := each(r); err != nil {
					return l, err
				}
			}
			if _, err := decoder.Token(); err != nil {
				return l, err
			}
		default:
			var skipped json.RawMessage
			if err := decoder.Decode(&skipped); err != nil {
				return l, err
			}
		}
	}
	if _, err := decoder.Token(); err != nil {
		return l, err
	}
	if l.isOne = l.isOne || l.total != nil && *l.total == 0; !l.isOne {
		return l, errors.New("it is no list")
	}
	return l, nil
}

// errIncomplete is the cause of a list's error that says of more than it gave.
var errIncomplete = errors.New("the list is not complete")

// errEnough ends a page whose rest nobody wants.
var errEnough = errors.New("enough")

// page reads one page of a list.
func (c *Client) page(ctx context.Context, endpoint string, query url.Values, start, count, tries int, each func(resource) error) (listed, error) {
	query = maps.Clone(query) // several pages may be asked for at once
	query.Set("startIndex", strconv.Itoa(start))
	query.Set("count", strconv.Itoa(count))
	got, err := c.read(ctx, request{method: http.MethodGet, path: endpoint, query: query, safe: true, tries: tries})
	if err != nil {
		return listed{}, err
	}
	l, err := decodeList(got.Body, each)
	var told *system.Unavailable
	if err != nil && !errors.Is(err, errEnough) && !errors.As(err, &told) {
		err = &system.Unavailable{Message: fmt.Sprintf("GET %s: what %s answered cannot be taken for a list: %v%s", endpoint, c.config.URL, err, c.words(got.Body)), Remedy: "Look whether the url in evenledger.yaml is that of a SCIM service. If it is, show its keepers what --trace FILE writes."}
	}
	return l, err
}

// read sends a request that may ask for certain attributes alone. That is to save
// work: a server that refuses it is asked without.
func (c *Client) read(ctx context.Context, r request) (*httpdial.Answer, error) {
	var plain, projected bool
	names := r.query.Get("attributes") + " " + r.query.Get("excludedAttributes")
	c.habits.learn(func(h *habits) { plain, projected = h.plain || h.plainFor[names], h.projected })
	asks := r.query.Has("attributes") || r.query.Has("excludedAttributes")
	if !asks || plain {
		r.query = without(r.query)
		return c.do(ctx, r)
	}
	if !projected {
		r.tries = 2
	}
	got, err := c.do(ctx, r)
	if err == nil && !projected {
		c.habits.learn(func(h *habits) { h.projected = true })
	}
	// That it took some names says nothing of others.
	status := statusOf(err)
	if status < 400 || status == http.StatusUnauthorized || status == http.StatusTooManyRequests || projected && status != http.StatusBadRequest && status != http.StatusInternalServerError {
		return got, err
	}
	r.query = without(r.query)
	got, second := c.do(ctx, r)
	if second != nil {
		return nil, err
	}
	if passes(status) {
		return got, nil // a busy moment says nothing of what it takes
	}
	c.habits.learn(func(h *habits) {
		if !projected {
			h.plain = true
			return
		}
		if h.plainFor == nil {
			h.plainFor = map[string]bool{}
		}
		h.plainFor[names] = true
	})
	return got, nil
}

// without returns a query that asks for whole resources.
func without(query url.Values) url.Values {
	rest := url.Values{}
	for name, values := range query {
		if name != "attributes" && name != "excludedAttributes" {
			rest[name] = values
		}
	}
	return rest
}

// samples returns accounts that are there, read at most once unless they are to be
// fresh, and how many there are in all, as far as the server says.
func (c *Client) samples(ctx context.Context, fresh bool) (sample []resource, total int, err error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, 0, err
	}
	c.sampling.Lock() // many may want them at once, and one request is enough
	defer c.sampling.Unlock()
	c.habits.learn(func(h *habits) { sample = h.sample })
	if sample != nil && !fresh {
		return sample, 0, nil
	}
	sample = []resource{}
	take := func(r resource) error {
		if len(sample) < sampleCount {
			sample = append(sample, r)
		}
		return nil
	}
	l, err := c.page(ctx, d.endpoint, url.Values{}, 1, sampleCount, 0, take)
	if err != nil {
		return nil, 0, err
	}
	believed := l.total != nil && *l.total > l.given
	if l.total != nil && *l.total == l.given {
		// All there is, or the number of the page itself: a page of one tells.
		start := 1
		if l.given == 1 {
			start = 2
		}
		one, err := c.page(ctx, d.endpoint, url.Values{}, start, 1, 0, func(resource) error { return nil })
		if err != nil && (statusOf(err) == 0 || passes(statusOf(err))) {
			return nil, 0, err
		}
		// Others may have made accounts meanwhile: a total beyond what the page gives is not the page's own.
		believed = err == nil && one.total != nil && (*one.total == l.given || *one.total > one.given || start == 2 && one.given == 0) || l.given == 0
	}
	c.habits.learn(func(h *habits) { h.sample, h.totals = sample, &believed })
	total = l.given
	if believed {
		total = *l.total
	}
	return sample, total, nil
}

// believesTotals reports whether totalResults is that of all pages, which is found out
// once.
func (c *Client) believesTotals(ctx context.Context) (bool, error) {
	var known *bool
	c.habits.learn(func(h *habits) { known = h.totals })
	if known != nil {
		return *known, nil
	}
	if _, _, err := c.samples(ctx, false); err != nil {
		if status := statusOf(err); status == 0 || status == http.StatusUnauthorized || passes(status) {
			return false, err
		}
		return false, nil // the accounts may not be listed; other things may
	}
	c.habits.learn(func(h *habits) { known = h.totals })
	return known != nil && *known, nil
}

// resources yields what an endpoint lists, each once. It is all there is, or an error
// comes: the total is believed only where it was seen to be that of all pages; else the
// listing goes on until nothing new comes. Each page begins with the last resource of
// the one before, so that it shows when something was taken out in between and another
// was passed over; then it is gone back until what is known comes again. What comes in meanwhile need not be among it.
func (c *Client) resources(ctx context.Context, endpoint string, query url.Values, tries int) iter.Seq2[resource, error] {
	return func(yield func(resource, error) bool) {
		believed, err := c.believesTotals(ctx)
		if err != nil {
			yield(nil, err)
			return
		}
		l := &listing{client: c, endpoint: endpoint, query: query, tries: tries, believed: believed, size: c.config.Page, given: keyset.New(), yield: yield}
		for range listTries {
			done, err := l.pass(ctx)
			if errors.Is(err, errEnough) {
				return
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if done {
				return
			}
		}
		yield(nil, &system.Unavailable{Message: fmt.Sprintf("GET %s: %s", endpoint, l.why), Remedy: "They may have changed while they were listed: try again. If it stays so, ask who runs the system whether all may be listed.", Err: errIncomplete})
	}
}

// A listing reads all pages of a list, several times if need be.
type listing struct {
	client   *Client
	endpoint string
	query    url.Values
	tries    int  // as in request
	believed bool // the total is that of all pages
	size     int  // of a page
	overlaps bool // a page begins with the last of the one before
	given    *keyset.Set
	yield    func(resource, error) bool
	why      string // the last pass was not complete
	shifts   int    // how often it was gone back since something new came
}

// pass goes through the pages once. done is false if something was passed over.
func (l *listing) pass(ctx context.Context) (done bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p := &pass{listing: l, seen: keyset.New(), begin: 1, total: -1, early: map[span]chan early{}}
	l.client.habits.learn(func(h *habits) {
		if p.honoured = h.honoured; h.zeroBased {
			p.begin = 0
		}
	})
	p.start, l.overlaps = p.begin, true
	for {
		at := span{p.start, l.count(p.overlap)}
		page, err := p.next(ctx, at)
		switch {
		case scimTypeOf(err) == "tooMany" && l.size > leastPage:
			l.size = max(l.size/4, leastPage)
			continue
		case err != nil:
			return false, err
		}
		empty := p.n == 0 && p.overlap // and it was to begin with the last of the one before
		if fell := p.told(page); p.shifted || p.start > p.begin && (fell && (!p.overlap || empty) || p.varies && empty) {
			if !p.back() {
				l.why = "something was taken out each time while all was listed"
				return false, nil
			}
			continue
		}
		if p.behind = 0; p.fresh > 0 {
			p.shifts = 0
		}
		if ended, done, err := p.turn(ctx, page); ended || err != nil {
			return done, err
		}
	}
}

// A span is what is asked for in one page.
type span struct{ start, count int }

// A pass is one way through the pages of a listing.
type pass struct {
	*listing
	seen         *keyset.Set
	begin, start int    // of all, of the page
	overlap      bool   // it is to begin with the last of the one before
	first, last  string // of all so far
	honoured     bool   // a page other than the first began where it was asked to
	early        map[span]chan early
	requests     atomic.Int64 // sent and answered

	total    int   // as told last; -1: not
	answered int64 // when it was told
	least    int   // of all totals
	varies   bool  // others come or go: that as many were seen as there are says nothing
	behind   int   // by how much it was gone back since a page was as it was to be
	reach    int   // up to where pages were read that are read once more
	loose    bool  // a page was taken of which nobody knows whether it follows the one before

	// Of the page:
	begins, ends string
	n, fresh     int  // resources, and those of them that were not seen before
	shifted      bool // it does not begin where it was to
}

// readAhead is how many pages are asked for while one is read.
const readAhead = 3

// early is a page that was asked for, and read, before its turn.
type early struct {
	listed
	resources []resource
	err       error
}

// next takes the next page, and asks for those that will most likely follow it: where pages begin
// where they are asked to and the last was whole, they are known but for the end. Of things only one
// page is kept at a time, as there may be very many members in it.
func (p *pass) next(ctx context.Context, at span) (listed, error) {
	come := p.early[at]
	delete(p.early, at)
	if p.believed && p.honoured && p.overlap && p.n == at.count && p.endpoint == p.client.known.endpoint {
		for k := range readAhead {
			later := span{at.start + (k+1)*(at.count-1), at.count}
			if later.start < p.total && p.early[later] == nil {
				p.early[later] = p.ask(ctx, later)
			}
		}
	}
	p.begins, p.ends, p.fresh, p.n, p.shifted = "", p.last, 0, 0, false
	if come == nil {
		return p.read(ctx, at, p.take)
	}
	page := <-come
	for _, r := range page.resources {
		if err := p.take(r); err != nil {
			return page.listed, err
		}
	}
	return page.listed, page.err
}

// ask asks for a page before its turn.
func (p *pass) ask(ctx context.Context, at span) chan early {
	come := make(chan early, 1)
	go func() {
		var page early
		page.listed, page.err = p.read(ctx, at, func(r resource) error {
			page.resources = append(page.resources, r)
			return nil
		})
		come <- page
	}()
	return come
}

// read reads a page, and notes when.
func (p *pass) read(ctx context.Context, at span, each func(resource) error) (listed, error) {
	asked := p.requests.Add(1)
	page, err := p.client.page(ctx, p.endpoint, p.query, at.start, at.count, p.tries, each)
	page.asked, page.answered = asked, p.requests.Add(1)
	return page, err
}

// told notes how many a page says there are, and reports whether there were more before. Pages that are asked for
// ahead of their turn are answered in any order: of those that were under way together nobody can say which is the later.
func (p *pass) told(page listed) (fell bool) {
	if page.total == nil {
		return false
	}
	now, later := *page.total, page.asked > p.answered
	if p.least = min(p.least, now); p.total < 0 {
		p.least = now
	}
	fell = p.believed && later && now < p.total
	p.varies = p.varies || p.total >= 0 && now != p.total
	if later || now > p.total {
		p.total, p.answered = now, max(p.answered, page.answered)
	}
	return fell
}

// mostShifts is how often it is gone back before something new comes.
const mostShifts = 20

// back goes back from a page that does not follow the one before, each time farther, and reports whether it may.
func (p *pass) back() bool {
	if p.shifts++; p.shifts > mostShifts || p.loose {
		return false
	}
	clear(p.early)
	p.varies, p.overlaps = true, true
	p.reach = max(p.reach, p.start)
	p.behind = max(2*p.behind, p.count(true))
	p.start = max(p.begin, p.start-p.behind)
	p.overlap = p.start > p.begin
	return true
}

// take takes the next resource of a page.
func (p *pass) take(r resource) error {
	id := r.text("id")
	if id == "" {
		return &system.Unavailable{Message: fmt.Sprintf("GET %s: the system lists something without an id", p.endpoint), Remedy: "Nothing can be done with it, nor can it be passed over. Show the system's keepers what --trace FILE writes."}
	}
	if p.n++; p.n == 1 {
		p.begins, p.shifted = id, p.overlap && !p.seen.Has(id)
	}
	if p.shifted {
		return nil // it comes again
	}
	p.ends = id
	if _, again := p.seen.Add(id, 1); !again {
		p.fresh++
	}
	if p.seen.Len() > maxListed {
		return &system.Unavailable{Message: fmt.Sprintf("GET %s lists no end of resources", p.endpoint), Remedy: "Ask who runs the system."}
	}
	if _, again := p.given.Add(id, 1); !again && !p.yield(r, nil) {
		return errEnough
	}
	return nil
}

// turn goes on to the next page, unless the pass ended.
func (p *pass) turn(ctx context.Context, page listed) (ended, done bool, err error) {
	if p.first == "" {
		p.first = p.begins
	}
	counted := p.believed && page.total != nil
	if counted && !p.varies && p.seen.Len() >= p.total {
		return true, true, nil
	}
	// Where others come and go, what tells is a page that follows the one before and ends with the last that it says there is.
	if counted && p.varies && !p.loose && p.seen.Len() >= p.least && (p.overlap || p.start == p.begin) && p.n > 0 && p.start-p.begin+p.n >= *page.total {
		return true, true, nil
	}
	p.loose = p.loose || p.fresh > 0 && !p.overlap && p.start > p.begin
	if !p.honoured && p.honours() {
		p.honoured = true
		p.client.habits.learn(func(h *habits) { h.honoured = true })
	}
	switch {
	case p.fresh > 0, p.n > 1 && p.start < p.reach:
	case p.overlap && (p.n > 1 || p.believed):
		p.overlaps, p.overlap = false, false // it may give whole pages only
		p.start++
		return false, false, nil
	case counted && p.beginsAtZero(ctx):
		p.why = "it counts resources from 0 on"
		return true, false, nil
	case counted && !p.loose && p.seen.Len() >= p.least:
		return true, true, nil // what came in meanwhile stands before
	case counted:
		p.why = fmt.Sprintf("the system says it has %d to list but gave only %d", p.total, p.seen.Len())
		return true, false, nil
	case p.n == 0, p.overlap && p.n == 1 && p.begins == p.last, p.honoured, p.seen.Len() < 2:
		return true, true, nil
	default:
		done, err = p.startsAnywhere(ctx, p.first)
		return true, done, err
	}
	p.last = p.ends
	p.start += p.n
	if p.overlap = p.overlaps && p.n > 1; p.overlap {
		p.start--
	}
	return false, false, nil
}

// beginsAtZero finds out whether a list lacks something as the server counts from 0 on.
func (p *pass) beginsAtZero(ctx context.Context) (zero bool) {
	known := false
	p.client.habits.learn(func(h *habits) { known = h.zeroBased })
	if known {
		return false
	}
	_, err := p.client.page(ctx, p.endpoint, p.query, 0, 1, p.tries, func(r resource) error {
		zero = zero || !p.seen.Has(r.text("id"))
		return nil
	})
	if zero = zero && err == nil; zero {
		p.client.habits.learn(func(h *habits) { h.zeroBased = true })
	}
	return zero
}

// honours reports whether the page shows that pages begin where they are asked to.
func (p *pass) honours() bool {
	if p.overlap {
		return p.begins == p.last
	}
	return p.start > 1 && p.n > 0 && p.begins != p.first
}

// count is how many to ask for.
func (l *listing) count(overlap bool) int {
	most := l.client.known.config.Filter.MaxResults
	n := l.size
	if overlap {
		n++
	}
	if most > 0 {
		n = min(n, most)
	}
	return n
}

// startsAnywhere settles whether a server that gave its first page again has nothing
// more, or gives it whatever it is asked for.
func (l *listing) startsAnywhere(ctx context.Context, first string) (bool, error) {
	second := ""
	if _, err := l.client.page(ctx, l.endpoint, l.query, 2, 1, l.tries, func(r resource) error {
		if second == "" {
			second = r.text("id")
		}
		return nil
	}); err != nil {
		return false, err
	}
	if second == first {
		return false, &system.Unavailable{Message: fmt.Sprintf("GET %s gives its first page whatever it is asked for, and does not say how many there are: nobody can tell whether that is all", l.endpoint), Remedy: "Set a “page” in evenledger.yaml that is larger than the number of accounts, or ask who runs the system."}
	}
	return true, nil
}
