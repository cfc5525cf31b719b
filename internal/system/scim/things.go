package scim

import (
	"context"
	"iter"
	"maps"
	"net/url"
	"slices"

	"evenledger/internal/account"
)

// ThingKinds implements system.Keeper: every resource type but that of accounts.
func (c *Client) ThingKinds(ctx context.Context) ([]string, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	return slices.Sorted(maps.Keys(d.others)), nil
}

// Things implements system.Keeper.
func (c *Client) Things(ctx context.Context, kind string) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		d, err := c.discover(ctx)
		if err != nil {
			yield(account.Thing{}, err)
			return
		}
		for r, err := range c.resources(ctx, d.others[kind], url.Values{}) {
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			if !yield(thing(r), nil) {
				return
			}
		}
	}
}

func thing(r resource) account.Thing {
	t := account.Thing{ID: r.text("id"), Members: -1}
	for _, name := range []string{"displayName", "name", "title", "value"} {
		if t.Name = r.text(name); t.Name != "" {
			break
		}
	}
	if members, ok := r.get("members").([]any); ok {
		t.Members = len(members)
	} else if r.get("members") == nil {
		t.Members = 0 // a server leaves an empty list out
	}
	return t
}
