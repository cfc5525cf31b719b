package scim

import (
	"context"
	"encoding/json"
	"errors"
	"iter"
	"net/http"
	"net/url"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// A finding is how accounts are found by an attribute.
type finding uint8

const (
	untried finding = iota
	many            // by several values at once
	single          // by one value
	never           // not by filters
)

// Find implements system.System with the filter "field eq value or …". What a filter
// doesn't find is believed not to be there only because each filter also asks, first
// and last, for accounts that are known to be there: if they don't come back, it does
// not find what it is asked for.
func (c *Client) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.discover(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		p, known := d.paths[field]
		if field == system.ByID {
			p, known = path{attr: "id"}, true
		}
		if !known || !d.config.Filter.Supported {
			yield(account.Account{}, system.ErrCannotFind)
			return
		}
		search := &search{client: c, at: p, fields: fields, yield: yield}
		if err := search.run(ctx, values); err != nil {
			yield(account.Account{}, err)
		}
	}
}

// A search finds accounts by the values of one attribute.
type search struct {
	client *Client
	at     path
	fields []string
	yield  func(account.Account, error) bool
	ended  bool // nobody wants more
}

func (s *search) run(ctx context.Context, values []string) error {
	way := s.way()
	if way == never {
		return system.ErrCannotFind
	}
	there, err := s.there(ctx, false)
	if err != nil {
		return err
	}
	if len(there) == 0 {
		return system.ErrCannotFind // nobody can tell whether the filter finds
	}
	if way == single {
		return s.oneByOne(ctx, values)
	}
	for _, some := range s.chunks(values, there) {
		found, err := s.ask(ctx, some, there)
		if err == nil && !found && !s.ended {
			// What was known to be there may have changed since.
			if there, err = s.there(ctx, true); err != nil {
				return err
			}
			if len(there) == 0 { // all of them are gone
				return system.ErrCannotFind
			}
			found, err = s.ask(ctx, some, there)
		}
		switch {
		case s.ended:
			return nil
		case err != nil && !refusedToFind(err):
			return err
		case (err != nil || !found) && s.way() == many:
			return system.ErrCannotFind // it is these values that are not found like this
		case err != nil, !found:
			return s.smaller(ctx, there)
		}
		s.settle(many)
	}
	return nil
}

func (s *search) way() (way finding) {
	s.client.habits.learn(func(h *habits) { way = h.ways[s.at.filter()] })
	return way
}

func (s *search) settle(way finding) {
	s.client.habits.learn(func(h *habits) {
		if h.ways == nil {
			h.ways = map[string]finding{}
		}
		h.ways[s.at.filter()] = way
	})
}

// refusedToFind reports whether an error says that the server does not take the
// filter. One that is down is down for a listing, too.
func refusedToFind(err error) bool {
	status := statusOf(err)
	return errors.Is(err, errIncomplete) || status >= 400 && status != http.StatusUnauthorized && status != http.StatusTooManyRequests
}

// A term asks for one value.
type term struct{ value, id string }

// there returns one or two accounts that have a value in the attribute.
func (s *search) there(ctx context.Context, fresh bool) ([]term, error) {
	sample, _, err := s.client.samples(ctx, fresh)
	if err != nil && !refusedToFind(err) {
		return nil, err // else all may not be listed, and some may be found
	}
	var there []term
	for _, r := range sample {
		there = s.with(there, r)
	}
	if len(there) > 0 {
		return there, nil
	}
	// Those that are listed first, such as services, may have none: whoever is shown with a
	// value has one, whatever made the server show them.
	s.client.habits.learn(func(h *habits) { there = h.having[s.at.filter()] })
	if len(there) > 0 && !fresh {
		return there, nil
	}
	there = nil
	query := url.Values{"filter": {s.at.filter() + " pr"}}
	_, err = s.client.page(ctx, s.client.known.endpoint, query, 1, sampleCount, 2, func(r resource) error {
		there = s.with(there, r)
		return nil
	})
	if err != nil && !refusedToFind(err) {
		return nil, err
	}
	s.client.habits.learn(func(h *habits) {
		if h.having == nil {
			h.having = map[string][]term{}
		}
		h.having[s.at.filter()] = there
	})
	return there, nil
}

// with adds an account that has a value, up to two of different ones. Quotes are left to
// the values that are looked for: some servers refuse them.
func (s *search) with(there []term, r resource) []term {
	value, id := r.first(s.at), r.text("id")
	if value == "" || id == "" || strings.ContainsAny(value, `"\`) || len(there) == 2 || len(there) == 1 && there[0].value == value {
		return there
	}
	return append(there, term{value, id})
}

// first is a value at the path, of whatever kind.
func (r resource) first(p path) string {
	if p.kind != "" {
		list, _ := r.get(p.attr).([]any)
		for _, item := range list {
			if element, ok := item.(map[string]any); ok && resource(element).text(p.sub) != "" {
				return resource(element).text(p.sub)
			}
		}
		return ""
	}
	value, _, _ := strings.Cut(r.value(p).Text(), "\n")
	return value
}

// ask sends one filter, and reports whether it found what is known to be there.
func (s *search) ask(ctx context.Context, values []string, there []term) (found bool, err error) {
	terms := []string{s.term(there[0].value)}
	if len(there) == 1 {
		terms = nil
	}
	for _, value := range values {
		terms = append(terms, s.term(value))
	}
	terms = append(terms, s.term(there[len(there)-1].value))
	missing := map[string]bool{}
	for _, t := range there {
		missing[t.id] = true
	}
	tries := 0
	if s.way() == untried {
		tries = 2
	}
	for a, err := range s.client.accounts(ctx, strings.Join(terms, " or "), s.fields, tries) {
		if err != nil {
			return false, err
		}
		delete(missing, a.ID)
		if !s.yield(a, nil) {
			s.ended = true
			return false, nil
		}
	}
	return len(missing) == 0, nil
}

// term writes what asks for a value. It is escaped as JSON, which is what the grammar
// of RFC 7644 section 3.4.2.2 wants.
func (s *search) term(value string) string {
	quoted, err := json.Marshal(value)
	if err != nil {
		return "" // a text always can
	}
	return s.at.filter() + " eq " + string(quoted)
}

// chunks cuts the values into what goes in one filter: few enough for the length of an
// address, and those with quotes, which some servers refuse, apart from the others.
func (s *search) chunks(values []string, there []term) (chunks [][]string) {
	base := 0
	for _, t := range there {
		base += len(url.QueryEscape(s.term(t.value))) + len(" or ")
	}
	var plain, quoted []string
	for _, value := range values {
		if strings.ContainsAny(value, `"\`) {
			quoted = append(quoted, value)
		} else {
			plain = append(plain, value)
		}
	}
	for _, all := range [][]string{plain, quoted} {
		length := base
		var now []string
		for _, value := range all {
			escaped := len(url.QueryEscape(s.term(value))) + len(" or ")
			if len(now) > 0 && (length+escaped > maxFilter || len(now) == mostFound) {
				chunks = append(chunks, now)
				now, length = nil, base
			}
			now = append(now, value)
			length += escaped
		}
		if len(now) > 0 {
			chunks = append(chunks, now)
		}
	}
	return chunks
}

// smaller finds out whether the server finds by one value at least, and has the caller
// decide anew what is best.
func (s *search) smaller(ctx context.Context, there []term) error {
	way := single
	for _, t := range there {
		found := false
		for a, err := range s.client.accounts(ctx, s.term(t.value), nil, 2) {
			if err != nil && !refusedToFind(err) {
				return err
			}
			found = found || err == nil && a.ID == t.id
		}
		if !found {
			way = never
		}
	}
	s.settle(way)
	return system.ErrCannotFind
}

// oneByOne asks for each value by itself, which was seen to find.
func (s *search) oneByOne(ctx context.Context, values []string) error {
	for _, value := range values {
		for a, err := range s.client.accounts(ctx, s.term(value), s.fields, 0) {
			switch {
			case err != nil && refusedToFind(err):
				return system.ErrCannotFind
			case err != nil:
				return err
			case !s.yield(a, nil):
				return nil
			}
		}
	}
	return nil
}
