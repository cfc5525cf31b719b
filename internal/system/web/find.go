package web

import (
	"context"
	"crypto/rand"
	"errors"
	"iter"
	"net/url"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/system"
)

// A sentinel is an account that is known to have a value, and has to come back when it is asked for.
type sentinel struct{ value, id string }

// Find implements system.System. What a finding doesn't find is believed not to be there only because it was seen to
// find somebody by the field, and nobody by a value that nobody has; where several values go in one request, each also asks for
// an account that is known to be there.
func (c *Client) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return sequence(func(yield func(account.Account) error) error {
		if field == system.ByID {
			return c.byID(ctx, values, fields, yield)
		}
		return c.find(ctx, field, values, fields, yield)
	})
}

// byID reads accounts one by one.
func (c *Client) byID(ctx context.Context, ids, fields []string, yield func(account.Account) error) error {
	for _, id := range ids {
		a, err := c.Get(ctx, id, fields)
		if err == nil {
			err = yield(a)
		}
		if err != nil && !errors.Is(err, system.ErrGone) {
			return err
		}
	}
	return nil
}

func (c *Client) find(ctx context.Context, field string, values, fields []string, yield func(account.Account) error) error {
	f, has := c.app.Account.Field(field)
	if c.app.Finding == nil || !has || c.app.Finding.Params[field] == "" {
		return system.ErrCannotFind
	}
	known, err := c.believes(ctx, f)
	if err != nil {
		return err
	}
	size := 1
	if c.app.Finding.Most > 1 {
		size = c.app.Finding.Most - 1
	}
	for len(values) > 0 {
		some := values[:min(size, len(values))]
		values = values[len(some):]
		asked := some
		if size > 1 {
			asked = append(append([]string(nil), some...), known.value)
		}
		came := size == 1
		err := c.ask(ctx, f, asked, func(item any) error {
			a, is := c.account(item, fields, nil)
			if !is {
				return nil
			}
			came = came || a.ID == known.id
			return yield(a)
		})
		if err != nil {
			return err
		}
		if !came {
			c.learn(f.Name, false, sentinel{}) // it may have gone since: it is found out anew
			return system.ErrCannotFind
		}
	}
	return nil
}

// learn notes whether accounts are found by a field.
func (c *Client) learn(field string, finds bool, by sentinel) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.finds[field], c.sentinel[field] = finds, by
}

// believes finds out, once, whether accounts are found by a field.
func (c *Client) believes(ctx context.Context, f *description.Field) (sentinel, error) {
	c.mu.Lock()
	finds, tried := c.finds[f.Name]
	known := c.sentinel[f.Name]
	c.mu.Unlock()
	if tried {
		if !finds {
			return known, system.ErrCannotFind
		}
		return known, nil
	}
	samples, err := c.samples(ctx, f)
	if err != nil {
		return known, err
	}
	if len(samples) == 0 {
		return known, system.ErrCannotFind // nobody can tell whether it finds
	}
	known = samples[0]
	ok, err := c.finding(ctx, f, known, samples)
	if err == nil {
		c.learn(f.Name, ok, known)
	}
	if err == nil && !ok {
		err = system.ErrCannotFind
	}
	return known, err
}

// samples are up to two accounts of the first page that have different values in a field.
func (c *Client) samples(ctx context.Context, f *description.Field) (all []sentinel, err error) {
	r := request{Call: &c.app.Listing.Call, scope: c.app.Scope(nil), safe: true}
	err = c.page(ctx, &c.app.Listing, r, first(&c.app.Listing), &page{}, func(item any) error {
		value, id := f.Read(item).Text(), description.Text(c.app.Account.ID.Of(item))
		value, _, _ = strings.Cut(value, "\n")
		if value != "" && id != "" && !strings.ContainsAny(value, `"\,;|&*`) && len(all) < 2 && (len(all) == 0 || all[0].value != value) {
			all = append(all, sentinel{value, id})
		}
		return nil
	})
	return all, err
}

// finding tries whether a field finds who is there, and nobody by what nobody has.
func (c *Client) finding(ctx context.Context, f *description.Field, s sentinel, all []sentinel) (bool, error) {
	asked := []string{s.value}
	want := map[string]bool{s.id: true}
	if c.app.Finding.Most > 1 {
		for _, other := range all {
			if other != s {
				asked = append(asked, other.value)
				want[other.id] = true
			}
		}
	}
	err := c.ask(ctx, f, asked, func(item any) error {
		delete(want, description.Text(c.app.Account.ID.Of(item)))
		return nil
	})
	if isRefusal(err) || err == nil && len(want) > 0 {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	nobody := "nobody-" + strings.ToLower(rand.Text())
	if f.Kind == account.Number || f.As == description.AsNumber {
		nobody = "987654321098765"
	}
	if f.Kind == account.Email {
		nobody += "@nobody.example"
	}
	came := 0
	err = c.ask(ctx, f, []string{nobody}, func(any) error { came++; return nil })
	if isRefusal(err) {
		return true, nil // it looks at the value, at least
	}
	return came == 0, err
}

// isRefusal reports whether an error says no to what was asked, as an application may that cannot be asked so.
func isRefusal(err error) bool {
	var refusal *system.Refusal
	return errors.As(err, &refusal) || errors.Is(err, system.ErrGone)
}

// ask asks for accounts by values of a field.
func (c *Client) ask(ctx context.Context, f *description.Field, values []string, each func(item any) error) error {
	param, more := c.app.Finding.Params[f.Name], url.Values{}
	for _, value := range values {
		written, err := f.JSON(value)
		if err != nil {
			return nil // nobody has such a value
		}
		if list, is := written.([]any); is {
			written = list[0]
		}
		text := description.Text(written)
		if c.app.Finding.Join != "" && len(values) > 1 && strings.Contains(text, c.app.Finding.Join) {
			return system.ErrCannotFind
		}
		more.Add(param, text)
	}
	if c.app.Finding.Join != "" && len(more[param]) > 1 {
		more.Set(param, strings.Join(more[param], c.app.Finding.Join))
	}
	err := c.all(ctx, &c.app.Finding.Listing, c.app.Scope(nil), more, c.app.Account.ID, each)
	if errors.Is(err, system.ErrGone) {
		return nil // some say so where they find nobody
	}
	return err
}
