package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

// Members implements system.System.
func (c *Client) Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		_, at, err := c.kind(ctx, kind)
		if err != nil {
			yield(account.Membership{}, err)
			return
		}
		if at.Attribute != "" {
			for a, err := range c.accounts(ctx, "", []string{at.Attribute}, 0) {
				if err != nil {
					yield(account.Membership{}, err)
					return
				}
				for _, name := range account.Items(a.Field(at.Attribute).Text()) {
					if !yield(account.Membership{Kind: kind, Thing: name, Account: a.ID}, nil) {
						return
					}
				}
			}
			return
		}
		for r, err := range c.withMembers(ctx, at, things) {
			if err != nil {
				yield(account.Membership{}, err)
				return
			}
			members, _ := r.get(at.Members).([]any)
			nameless := len(members) > 0
			for _, item := range members {
				element, _ := item.(map[string]any)
				m := resource(element)
				who := m.text("value")
				if who == "" {
					who = lastSegment(m.text("$ref"))
				}
				if who == "" {
					continue // nobody that anything could be done with
				}
				nameless = false
				if !yield(account.Membership{Kind: kind, Thing: r.text("id"), Account: who, Role: m.text(at.Role), Section: m.text(at.Section)}, nil) {
					return
				}
			}
			if nameless {
				yield(account.Membership{}, &system.Unavailable{Message: fmt.Sprintf("who is in %s/%s cannot be read: its %s have no value", at.Endpoint, r.text("id"), at.Members), Remedy: "Show the system's keepers what --trace FILE writes."})
				return
			}
		}
	}
}

// withMembers yields the things with their members: few by reading each, many by
// listing all of the kind, unless the server shows no members in lists. One that is
// gone is passed over. That a thing has no members is believed only where the server
// tells that things have some, or was seen to show any.
func (c *Client) withMembers(ctx context.Context, at *keptAt, things []string) iter.Seq2[resource, error] {
	return func(yield func(resource, error) bool) {
		if at.about.Blind != "" {
			yield(nil, at.blind())
			return
		}
		m := &memberReading{client: c, at: at, yield: yield, shows: c.showing(at)}
		err := m.read(ctx, things)
		if err != nil && !errors.Is(err, errEnough) {
			yield(nil, err)
			return
		}
		c.habits.learn(func(h *habits) {
			if h.shows == nil {
				h.shows = map[string]showing{}
			}
			h.shows[at.Endpoint] = m.shows
		})
	}
}

func (c *Client) showing(at *keptAt) (shows showing) {
	c.habits.learn(func(h *habits) { shows = h.shows[at.Endpoint] })
	return shows
}

// A memberReading reads the things of a kind with their members.
type memberReading struct {
	client *Client
	at     *keptAt
	yield  func(resource, error) bool
	shows  showing
	bare   []resource // that show nothing called members
}

func (m *memberReading) read(ctx context.Context, things []string) error {
	if things != nil && len(things) < manyThings {
		if err := m.readEach(ctx, things); err != nil {
			return err
		}
		if len(m.bare) > 0 && m.shows == unseen && m.at.member.Name == "" {
			if err := m.seeAny(ctx); err != nil {
				return err
			}
		}
		return m.giveBare()
	}
	query := url.Values{}
	if strings.EqualFold(m.at.member.Returned, "request") {
		query.Set("attributes", "displayName,"+m.at.Members)
	}
	for r, err := range m.client.resources(ctx, m.at.Endpoint, query, 0) {
		if err != nil {
			return err
		}
		if r.get(m.at.Members) == nil {
			m.bare = append(m.bare, r)
			continue
		}
		if m.shows == unseen {
			m.shows = inLists
		}
		if !m.yield(r, nil) {
			return errEnough
		}
	}
	// A list may leave members out, of all things or of large ones.
	bare := m.bare
	m.bare = nil
	for i, r := range bare {
		full, _, err := m.client.one(ctx, m.at.Endpoint, r.text("id"), nil)
		switch {
		case errors.Is(err, system.ErrGone):
			continue
		case err != nil:
			return err
		}
		if members, _ := full.get(m.at.Members).([]any); len(members) > 0 {
			m.shows = inEach
		} else if full.get(m.at.Members) != nil && m.shows == unseen {
			m.shows = inLists
		}
		if m.shows == inEach { // from here on, each has to be read
			var ids []string
			for _, r := range bare {
				ids = append(ids, r.text("id"))
			}
			bare = nil
			if err := m.readEach(ctx, ids); err != nil {
				return err
			}
			break
		}
		if i+1 == fewLooks && m.shows != unseen {
			break
		}
	}
	m.bare = append(m.bare, bare...)
	if len(m.bare) > 0 && m.shows == unseen && m.at.member.Name == "" {
		return m.at.blind()
	}
	return m.giveBare()
}

// fewLooks is at how many things without members in a list is looked one by one.
const fewLooks = 3

// giveBare yields the things that have no members.
func (m *memberReading) giveBare() error {
	for _, r := range m.bare {
		if !m.yield(r, nil) {
			return errEnough
		}
	}
	return nil
}

// readEach reads things one by one, several at a time.
func (m *memberReading) readEach(ctx context.Context, ids []string) error {
	for some := range slices.Chunk(ids, m.client.config.Together) {
		found := make([]resource, len(some))
		group, reading := errgroup.WithContext(ctx)
		for i, id := range some {
			group.Go(func() (err error) {
				var query url.Values
				if strings.EqualFold(m.at.member.Returned, "request") {
					query = url.Values{"attributes": {"displayName," + m.at.Members}}
				}
				found[i], _, err = m.client.one(reading, m.at.Endpoint, id, query)
				if errors.Is(err, system.ErrGone) {
					return nil
				}
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		for _, r := range found {
			switch {
			case r == nil:
				continue
			case r.get(m.at.Members) == nil:
				m.bare = append(m.bare, r)
				continue
			case m.shows == unseen:
				m.shows = inEach
			}
			if !m.yield(r, nil) {
				return errEnough
			}
		}
	}
	return nil
}

// seeAny looks for anything of the kind that shows members, as none of those that were
// asked for does.
func (m *memberReading) seeAny(ctx context.Context) error {
	all := &memberReading{client: m.client, at: m.at, shows: unseen}
	all.yield = func(r resource, _ error) bool { return false } // one is enough
	err := all.read(ctx, nil)
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	m.shows = all.shows
	return nil
}

// Tie implements system.System, with one PATCH of the thing, or a PUT of all
// of it where the server has no PATCH.
func (c *Client) Tie(ctx context.Context, may system.Permit, kind, thing string, ties []system.Tie) error {
	_, at, err := c.kind(ctx, kind)
	if err != nil {
		return err
	}
	if !c.patches(at.Endpoint) {
		return c.putMembers(ctx, may, at, thing, ties)
	}
	var operations []operation
	var joins []any
	for _, tie := range ties {
		if tie.Leave || tie.Was {
			quoted, err := json.Marshal(tie.Account)
			if err != nil {
				return err
			}
			operations = append(operations, operation{Op: "remove", Path: at.Members + "[value eq " + string(quoted) + "]"})
		}
		if !tie.Leave {
			joins = append(joins, at.element(tie))
		}
	}
	if len(joins) > 0 {
		operations = append(operations, operation{Op: "add", Path: at.Members, Value: joins})
	}
	r := request{method: http.MethodPatch, may: may, body: map[string]any{"schemas": []string{patchOp}, "Operations": operations}}
	var plain bool
	if c.habits.learn(func(h *habits) { plain = h.plain || h.wholeGroups }); !plain {
		r.query = url.Values{"attributes": {"id"}} // a large group need not come back for each change of it
	}
	got, err := c.send(ctx, r, at.Endpoint, thing)
	if c.noPatch(at.Endpoint, err) {
		return c.putMembers(ctx, may, at, thing, ties)
	}
	var refusal *system.Refusal
	var unclear *system.Unclear
	if !plain && (errors.As(err, &refusal) || errors.As(err, &unclear)) {
		// It may be that which it does not take: it is not asked for again.
		c.habits.learn(func(h *habits) { h.wholeGroups = true })
	}
	if !plain && errors.As(err, &refusal) {
		r.query = nil
		got, err = c.send(ctx, r, at.Endpoint, thing)
	}
	if err != nil {
		// Of a group that a PUT would replace whole it is tried only where accounts are known to be changed so.
		if !c.patches(c.known.endpoint) && c.putOnce(err, at.Endpoint, func() error { return c.putMembers(ctx, may, at, thing, ties) }) {
			return nil
		}
		return err
	}
	c.patched(at.Endpoint)
	return shown(got, at.Endpoint, thing)
}

// shown sees that the answer to a change of a thing is about it.
func shown(got *httpdial.Answer, endpoint, thing string) error {
	if got.Status == http.StatusNoContent {
		return nil
	}
	if r, err := decodeResource(got.Body); err == nil && r.text("id") == thing {
		return nil
	}
	return &system.Unclear{Err: fmt.Errorf("the system answered %d to a change of %s/%s, and does not show it", got.Status, endpoint, thing)}
}

func (at *keptAt) element(tie system.Tie) map[string]any {
	element := map[string]any{"value": tie.Account}
	if tie.Role != "" {
		element[at.Role] = tie.Role
	}
	if tie.Section != "" {
		element[at.Section] = tie.Section
	}
	return element
}

func (c *Client) putMembers(ctx context.Context, may system.Permit, at *keptAt, thing string, ties []system.Tie) error {
	r, read, err := c.one(ctx, at.Endpoint, thing, nil)
	if err != nil {
		return err
	}
	if r.get(at.Members) == nil && at.member.Name == "" && c.showing(at) == unseen {
		return at.blind() // putting a list together from nothing could wipe the others out
	}
	members, _ := r.get(at.Members).([]any)
	for _, tie := range ties {
		members = slices.DeleteFunc(members, func(item any) bool {
			element, ok := item.(map[string]any)
			return ok && resource(element).text("value") == tie.Account
		})
		if !tie.Leave {
			members = append(members, at.element(tie))
		}
	}
	r[r.key(at.Members)] = members
	version := versionOf(r, read.Header)
	delete(r, "meta")
	got, err := c.send(ctx, request{method: http.MethodPut, may: may, body: r, version: version}, at.Endpoint, thing)
	if err != nil {
		return err
	}
	return shown(got, at.Endpoint, thing)
}
