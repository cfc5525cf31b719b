package web

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/system"
)

const (
	listTries = 4         // at a listing that changes while it is read
	maxListed = 5_000_000 // in one listing: no application has so many, but one that makes them up
)

// errEnough ends a listing whose rest nobody wants.
var errEnough = errors.New("enough")

// sequence is what is listed, one after the other, and the error that it ended with.
func sequence[T any](list func(yield func(T) error) error) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		err := list(func(one T) error {
			if !yield(one, nil) {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			var none T
			yield(none, err)
		}
	}
}

// A spot is which page is asked for.
type spot struct {
	start int      // its number, or how many come before it
	next  string   // the cursor; empty: the first page
	at    *url.URL // its address; nil: the first page
}

func first(l *description.Listing) spot {
	switch {
	case l.From > 0:
		return spot{start: l.From - 1}
	case l.By == description.ByPage:
		return spot{start: 1}
	}
	return spot{}
}

// A page is what an answer says of a list besides what it lists.
type page struct {
	n     int      // how many it has
	total int      // in all; -1: it doesn't say
	next  string   // cursor
	at    *url.URL // address of the next; nil: there is none
	items []any
	err   error
}

// page reads one page, and hands over what it lists.
func (c *Client) page(ctx context.Context, l *description.Listing, r request, s spot, p *page, each func(item any) error) error {
	if *p = c.fetch(ctx, l, r, s); p.err != nil {
		return p.err
	}
	for _, item := range p.items {
		if err := each(item); err != nil {
			return err
		}
	}
	return nil
}

// fetch reads one page.
func (c *Client) fetch(ctx context.Context, l *description.Listing, r request, s spot) (p page) {
	more := url.Values{}
	for name, values := range r.more {
		more[name] = values
	}
	switch l.By {
	case description.ByPage, description.ByOffset:
		more.Set(l.As, strconv.Itoa(s.start))
	case description.ByCursor:
		if s.next != "" {
			more.Set(l.As, s.next)
		}
	}
	r.more, r.at = more, s.at
	got, err := c.do(ctx, r)
	if err != nil {
		return page{err: err}
	}
	strange := func(what string) page {
		return page{err: &system.Unavailable{Message: fmt.Sprintf("%s: what %s answered cannot be taken for a list: %s", r.Call, c.config.URL, what), Remedy: "Look at it with: evenledger system try NAME, and at “items” in the description."}}
	}
	list, is := l.Items.Of(got.value).([]any)
	if !is {
		return strange(fmt.Sprintf("there is no list at %s", orWhole(l.Items)))
	}
	p = page{n: len(list), total: -1, items: list}
	if l.Total != nil {
		total, err := strconv.Atoi(description.Text(l.Total.Of(got.value)))
		if err != nil || total < 0 {
			return strange(fmt.Sprintf("there is no number at %s", l.Total))
		}
		p.total = total
	}
	if l.By == description.ByCursor {
		p.next = description.Text(l.Cursor.Of(got.value))
	}
	if address := c.nextOf(l, got); address != "" {
		from := s.at
		if from == nil {
			from = c.base
			if sent, err := c.filled(r); err == nil {
				from, _ = url.Parse(c.config.URL + sent.Path)
			}
		}
		p.at, p.err = c.elsewhere(address, from)
	}
	return p
}

func orWhole(p description.Path) string {
	if p == nil {
		return "the top of the answer"
	}
	return p.String()
}

// nextOf is the address of the next page, if there is one.
func (c *Client) nextOf(l *description.Listing, got *answer) string {
	switch {
	case l.By != description.ByLink:
		return ""
	case l.Next != nil:
		return description.Text(l.Next.Of(got.value))
	}
	return nextLink(got.Header)
}

// nextLink is the target of the relation “next” in the header Link (RFC 8288 section 3).
func nextLink(header http.Header) string {
	for _, line := range header.Values("Link") {
		for line != "" {
			open := strings.IndexByte(line, '<')
			end := strings.IndexByte(line, '>')
			if open < 0 || end < open {
				break
			}
			target, params := line[open+1:end], line[end+1:]
			line = ""
			if at := strings.Index(params, ",<"); at >= 0 {
				params, line = params[:at], params[at+1:]
			} else if at := strings.Index(params, ", <"); at >= 0 {
				params, line = params[:at], params[at+2:]
			}
			for part := range strings.SplitSeq(params, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
				if strings.EqualFold(name, "rel") && slices.Contains(strings.Fields(strings.ToLower(strings.Trim(value, `"`))), "next") {
					return target
				}
			}
		}
	}
	return ""
}

// A listing reads all pages of a list, several times if need be.
type listing struct {
	*Client
	of    *description.Listing
	r     request
	id    description.Path // by which two of the list are told apart; nil: by all that they are
	seed  maphash.Seed
	given []map[uint64]struct{} // what earlier passes gave
	yield func(item any) error
	why   string // the last pass was not complete
}

// all yields what a request lists, each once. It is all there is, or an error comes.
func (c *Client) all(ctx context.Context, of *description.Listing, scope *description.Scope, more url.Values, id description.Path, yield func(item any) error) error {
	l := &listing{Client: c, of: of, id: id, seed: maphash.MakeSeed(), yield: yield,
		r: request{Call: &of.Call, scope: scope, more: more, safe: true, names: of.Uses("thing")}}
	var before *pass
	for range listTries {
		p := &pass{listing: l, spot: first(of), seen: map[uint64]struct{}{}, total: -1}
		done, err := p.run(ctx)
		if err != nil {
			return err
		}
		// By page, something that is taken out meanwhile has another be passed over: twice alike is believed.
		if done && of.By == description.ByPage && of.Total == nil && p.pages > 2 {
			done = before != nil && before.sum == p.sum && len(before.seen) == len(p.seen)
			before, l.why = p, "it gave something else each time"
		}
		if done {
			return nil
		}
		l.given = append(l.given, p.seen)
	}
	return &system.Unavailable{Message: fmt.Sprintf("%s: the list is not complete: %s", of.Call.String(), l.why), Remedy: "They may have changed while they were listed: try again. If it stays so, ask who runs the system whether all may be listed."}
}

// A pass is one way through the pages.
type pass struct {
	*listing
	spot
	seen  map[uint64]struct{}
	sum   uint64 // over all that was seen
	total int
	least int // of all totals
	pages int
	last  uint64 // of all so far

	// By offset:
	varies bool // others come or go: that as many were seen as there are says nothing
	shifts int  // how often it was gone back since something new came
	behind int  // by how much since a page was as it was to be
	reach  int  // up to where pages were read that are read once more

	fresh   int // of the page, those that were not seen before
	n       int
	shifted bool // it does not begin with the last of the one before
	overlap bool // it is to
}

func (p *pass) run(ctx context.Context) (done bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := map[string]bool{}
	for ahead := p.ask(ctx, p.spot); ; {
		at := <-ahead
		if at.err != nil {
			return false, at.err
		}
		// What asks for the next page is known: it is on its way while this one is looked at.
		if ahead = nil; p.of.By == description.ByCursor && at.next != "" && !asked[at.next] || p.of.By == description.ByLink && at.at != nil && !asked[at.at.String()] {
			ahead = p.ask(ctx, spot{next: at.next, at: at.at})
		}
		p.fresh, p.n, p.shifted = 0, 0, false
		for _, item := range at.items {
			if err := p.take(item); err != nil {
				return false, err
			}
		}
		fell := at.total >= 0 && at.total < p.total
		p.varies = p.varies || at.total >= 0 && p.total >= 0 && at.total != p.total
		if at.total >= 0 {
			if p.least = min(p.least, at.total); p.total < 0 {
				p.least = at.total
			}
			p.total = at.total
		}
		byOffset := p.of.By == description.ByOffset
		empty := byOffset && p.overlap && p.n == 0 // and it was to begin with the last of the one before
		// Who goes on by what the server gives with a page passes over nothing.
		if p.pages++; p.shifted || empty && (p.varies || p.shifts == 0) || fell && (p.of.By == description.ByPage || byOffset && !p.overlap && p.start > first(p.of).start) {
			if !byOffset || !p.back() {
				p.why = "something was taken out each time while all was listed"
				return false, nil
			}
			ahead = p.ask(ctx, p.spot)
			continue
		}
		if p.behind = 0; p.fresh > 0 {
			p.shifts = 0
		}
		if more, err := p.turn(at, asked); err != nil {
			return false, err
		} else if !more {
			return p.ended()
		}
		if ahead == nil {
			ahead = p.ask(ctx, p.spot)
		}
	}
}

// turn goes on to the next page, and reports whether there is one.
func (p *pass) turn(at page, asked map[string]bool) (more bool, err error) {
	again := &system.Unavailable{Message: fmt.Sprintf("%s gives a page that came before: nobody can tell where the list ends", p.of.Call.String()), Remedy: "Look at it with: evenledger system try NAME, and at “next” in the description."}
	switch p.of.By {
	case description.OnePage:
		return false, nil
	case description.ByCursor:
		if at.next == "" {
			return false, nil
		}
		if asked[at.next] || p.fresh == 0 && p.n > 0 {
			return false, again
		}
		asked[at.next], p.next = true, at.next
	case description.ByLink:
		if at.at == nil {
			return false, nil
		}
		if asked[at.at.String()] || p.fresh == 0 && p.n > 0 {
			return false, again
		}
		asked[at.at.String()], p.at = true, at.at
	case description.ByPage:
		if p.n == 0 || p.of.Size > 0 && p.n < p.of.Size || p.total >= 0 && len(p.seen) >= p.total {
			return false, nil
		}
		if p.fresh == 0 {
			return false, again
		}
		p.start++
	case description.ByOffset:
		switch {
		case p.n == 0, p.overlap && p.n == 1, !p.varies && p.total >= 0 && len(p.seen) >= p.total:
			return false, nil
		case p.varies && p.total >= 0 && p.start-first(p.of).start+p.n >= p.total:
			return false, nil // it follows the one before, and ends with the last that it says there is
		case p.fresh == 0 && p.start >= p.reach:
			return false, again
		}
		p.start += p.n
		if p.overlap = p.n > 1 || p.overlap; p.overlap {
			p.start--
		}
	}
	return true, nil
}

// mostShifts is how often it is gone back before something new comes.
const mostShifts = 20

// back goes back from a page that does not follow the one before, each time farther, and reports whether it may.
func (p *pass) back() bool {
	if p.shifts++; p.shifts > mostShifts {
		return false
	}
	begin := first(p.of).start
	p.reach = max(p.reach, p.start)
	p.behind = max(2*p.behind, p.of.Size, 20)
	p.start = max(begin, p.start-p.behind)
	p.overlap, p.varies = p.start > begin, true
	return true
}

// ask asks for a page.
func (p *pass) ask(ctx context.Context, s spot) chan page {
	come := make(chan page, 1)
	go func() { come <- p.fetch(ctx, p.of, p.r, s) }()
	return come
}

// ended reports whether all has come.
func (p *pass) ended() (done bool, err error) {
	if p.total >= 0 && len(p.seen) < p.least { // what came in meanwhile may stand before
		p.why = fmt.Sprintf("the system says it has %d to list but gave only %d", p.least, len(p.seen))
		return false, nil
	}
	return true, nil
}

// take takes the next of a page.
func (p *pass) take(item any) error {
	text := ""
	if p.id != nil {
		if text = description.Text(p.id.Of(item)); text == "" {
			return &system.Unavailable{Message: fmt.Sprintf("%s lists something that has no %s", p.of.Call.String(), p.id), Remedy: "Nothing can be done with it, nor can it be passed over. Look at it with: evenledger system try NAME, and at “id” in the description."}
		}
	} else {
		text = description.Text(item)
	}
	sum := maphash.String(p.seed, text)
	if p.n++; p.n == 1 {
		_, known := p.seen[sum]
		p.shifted = p.overlap && !known
	}
	if p.shifted {
		return nil // it comes again
	}
	p.last = sum
	if _, has := p.seen[sum]; has {
		return nil
	}
	p.seen[sum] = struct{}{}
	p.sum += sum
	p.fresh++
	if len(p.seen) > maxListed {
		return &system.Unavailable{Message: fmt.Sprintf("%s lists no end", p.of.Call.String()), Remedy: "Ask who runs the system."}
	}
	for _, given := range p.given {
		if _, has := given[sum]; has {
			return nil
		}
	}
	return p.yield(item)
}

// List implements system.System.
func (c *Client) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return sequence(func(yield func(account.Account) error) error {
		naming, n, named := c.naming(), 0, !slices.Contains(fields, c.naming())
		err := c.all(ctx, &c.app.Listing, c.app.Scope(nil), nil, c.app.Account.ID, func(item any) error {
			a, _ := c.account(item, fields, nil) // it has an identifier
			n++
			named = named || a.Field(naming).Filled()
			return yield(a)
		})
		if err == nil && n > 0 && !named {
			err = c.nameless(naming, n)
		}
		return err
	})
}

// nameless is the error of a list in which nobody has what names an account: the description looks for it in the wrong
// place, and who is there would be made a second time.
func (c *Client) nameless(naming string, n int) error {
	f, _ := c.app.Account.Field(naming)
	return &system.Unavailable{Message: fmt.Sprintf("%s: %d accounts, and nobody has a %s at %s: it most likely stands elsewhere", c.app.Listing.Call.String(), n, naming, f.At), Remedy: "Look at it with: evenledger system try NAME, and correct the field's path in the description."}
}
