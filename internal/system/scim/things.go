package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/system"
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
		seen := map[string]bool{}
		for start := 1; ; {
			query := url.Values{"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(c.config.Page)}}
			got, err := c.do(ctx, request{method: http.MethodGet, path: d.others[kind], query: query, safe: true})
			if err != nil {
				yield(account.Thing{}, err)
				return
			}
			var list listResponse
			if err := json.Unmarshal(got.body, &list); err != nil {
				yield(account.Thing{}, &system.Unavailable{Message: fmt.Sprintf("%s%s answered a list that cannot be read: %v", c.config.URL, d.others[kind], err)})
				return
			}
			fresh := 0
			for _, r := range list.Resources {
				t := thing(r)
				if t.ID == "" || seen[t.ID] {
					continue
				}
				seen[t.ID] = true
				fresh++
				if !yield(t, nil) {
					return
				}
			}
			start += len(list.Resources)
			if len(seen) >= list.TotalResults {
				return
			}
			if fresh == 0 {
				yield(account.Thing{}, &system.Unavailable{Message: fmt.Sprintf("%s says it has %d %s to list but gave only %d", c.config.URL, list.TotalResults, kind, len(seen)), Remedy: "Try again; if it stays so, ask who runs the system."})
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
