package scim

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

const bulkRequest = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"

// mostAtOnce is how many orders go in one bulk request, even if the server
// takes more: what one lost answer leaves open has to be looked up.
const mostAtOnce = 50

// A bulkOperation is one of a bulk request (RFC 7644 section 3.7).
type bulkOperation struct {
	Method  string `json:"method"`
	Path    string `json:"path"`
	BulkID  string `json:"bulkId"`
	Version string `json:"version,omitempty"`
	Data    any    `json:"data,omitempty"`
}

// bulkResult is what became of one operation (RFC 7644 section 3.7.3).
type bulkResult struct {
	BulkID   string          `json:"bulkId"`
	Location string          `json:"location"`
	Version  string          `json:"version"`
	Status   json.RawMessage `json:"status"` // a text; some servers write a number
	Response json.RawMessage `json:"response"`
}

// Apply implements system.System.
func (c *Client) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if len(orders) > 1 {
		return c.bulk(ctx, may, orders, fields)
	}
	return system.Each(orders, func(o system.Order) (account.Account, error) { return c.apply(ctx, may, o, fields) })
}

// apply carries out one order by requests of its own.
func (c *Client) apply(ctx context.Context, may system.Permit, o system.Order, fields []string) (now account.Account, err error) {
	switch o.Does {
	case system.Creates:
		return c.create(ctx, may, o.Wanted, fields)
	case system.Changes:
		return c.change(ctx, may, o.Known, o.Changes, fields)
	case system.Removes:
		return now, c.remove(ctx, may, o.Known)
	case system.Renews:
		return now, c.setPassword(ctx, may, o.Known, o.Wanted.Password, o.Changes)
	}
	return now, system.ErrCannot
}

// bulk carries out orders by one bulk request. What that cannot hold follows by itself, and what was refused in it
// is asked for once more by itself: there is more than one way to ask for a change.
func (c *Client) bulk(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	results := make([]system.Result, len(orders))
	// Names that no other request had: an answer to another one, out of a cache or mixed up
	// on the way, says nothing of these.
	names, alone := make(map[string]int, len(orders)), []int(nil)
	own := rand.Text()[:12]
	var operations bytes.Buffer // as they stand in the request
	for i, o := range orders {
		operation, fits, err := c.bulkOperation(d, o)
		switch {
		case err != nil:
			results[i].Err = err
			continue
		case !fits:
			alone = append(alone, i)
			continue
		}
		operation.BulkID = fmt.Sprintf("%s-%d", own, i)
		names[operation.BulkID] = i
		text, err := json.Marshal(operation)
		if err != nil {
			return nil, err
		}
		if operations.Len() > 0 {
			operations.WriteByte(',')
		}
		operations.Write(text)
	}
	if most := d.config.Bulk.MaxPayloadSize; most > 0 && operations.Len()+200 > most {
		return c.halves(ctx, may, orders, fields)
	}
	var refused []int
	if len(names) > 0 {
		if refused, err = c.sendBulk(ctx, may, d, orders, names, operations.Bytes(), fields, results); err != nil {
			return nil, err
		}
	}
	for _, i := range slices.Concat(alone, refused) {
		results[i].Account, results[i].Err = c.apply(ctx, may, orders[i], fields)
	}
	c.learnBulk(orders, names, refused, results)
	return results, nil
}

// bulkTrials is how many bulk requests have to refuse what is taken by itself, one after the other, until that is sent by itself alone.
const bulkTrials = 2

// learnBulk notes which verbs were refused in a bulk request, and taken by themselves.
func (c *Client) learnBulk(orders []system.Order, names map[string]int, refused []int, results []system.Result) {
	seen := map[system.Verb]bool{} // and whether it was refused
	for _, i := range names {
		does := orders[i].Does
		seen[does] = seen[does] || slices.Contains(refused, i) && results[i].Err == nil
	}
	c.habits.learn(func(h *habits) {
		if h.unbulked == nil {
			h.unbulked = map[system.Verb]int{}
		}
		for verb, no := range seen {
			switch {
			case no:
				h.unbulked[verb]++
			case h.unbulked[verb] < bulkTrials:
				h.unbulked[verb] = 0
			}
		}
	})
}

// bulks are the verbs that the server takes in bulk requests, as far as is known.
func (c *Client) bulks() (verbs []system.Verb) {
	c.habits.learn(func(h *habits) {
		for _, v := range []system.Verb{system.Creates, system.Changes, system.Removes, system.Renews} {
			if h.unbulked[v] < bulkTrials {
				verbs = append(verbs, v)
			}
		}
	})
	return verbs
}

// halves carries out orders that are more than one request may hold.
func (c *Client) halves(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	half := len(orders) / 2
	first, err := c.Apply(ctx, may, orders[:half], fields)
	if err != nil {
		return nil, err
	}
	rest, err := c.Apply(ctx, may, orders[half:], fields)
	for i := half; err != nil && i < len(orders); i++ {
		// Some were carried out already, so this is no error of the whole.
		first = append(first, system.Result{Err: &system.Unclear{Err: err}})
	}
	return append(first, rest...), nil
}

// sendBulk sends operations, and puts what became of them into the results of their orders. It returns those of changes and
// removals that were refused.
func (c *Client) sendBulk(ctx context.Context, may system.Permit, d *discovered, orders []system.Order, names map[string]int, operations []byte, fields []string, results []system.Result) (refused []int, err error) {
	got, err := c.do(ctx, request{method: http.MethodPost, may: may, path: "/Bulk", body: fmt.Appendf(nil, `{"schemas":[%q],"Operations":[%s]}`, bulkRequest, operations)})
	if err != nil {
		return nil, err
	}
	var told struct{ Operations []bulkResult }
	if err := json.Unmarshal(got.Body, &told); err != nil {
		return nil, &system.Unclear{Err: fmt.Errorf("the answer to a bulk request cannot be read: %w", err)}
	}
	for _, i := range names {
		results[i].Err = &system.Unclear{Err: errors.New("the answer to a bulk request says nothing of it")}
	}
	for _, result := range told.Operations {
		i, ours := names[result.BulkID]
		if !ours {
			continue
		}
		results[i] = c.resultOf(d, result, orders[i], fields)
		var refusal *system.Refusal
		if errors.As(results[i].Err, &refusal) && orders[i].Does != system.Creates {
			refused = append(refused, i)
		}
	}
	return refused, nil
}

// bulkOperation is an order in a bulk request; it does not fit where the account has to be looked at for it.
func (c *Client) bulkOperation(d *discovered, o system.Order) (_ bulkOperation, fits bool, err error) {
	if !slices.Contains(c.bulks(), o.Does) {
		return bulkOperation{}, false, nil
	}
	if o.Does == system.Creates {
		body, err := d.body(o.Wanted)
		c.config.Mask.Add(o.Wanted.Password)
		return bulkOperation{Method: http.MethodPost, Path: d.endpoint, Data: body}, true, err
	}
	at, err := segment(o.Known.ID)
	operation := bulkOperation{Method: http.MethodDelete, Path: d.endpoint + "/" + at, Version: o.Known.Version}
	if err != nil || o.Does == system.Removes {
		return operation, true, err
	}
	if !c.patches(d.endpoint) || o.Does != system.Changes && o.Does != system.Renews {
		return operation, false, nil
	}
	for _, change := range o.Changes {
		if err := d.missing(change.Field); err != nil {
			return operation, false, err
		}
	}
	operations, certain := c.operations(o.Changes)
	if o.Does == system.Renews {
		c.config.Mask.Add(o.Wanted.Password)
		operations = append(operations, passwordTo(o.Wanted.Password))
	}
	operation.Method, operation.Data = http.MethodPatch, patchBody(operations)
	return operation, certain, nil
}

// resultOf reads what became of one order. Where the answer has no account in it, but
// where it was carried out, the fields are left open.
func (c *Client) resultOf(d *discovered, result bulkResult, o system.Order, fields []string) system.Result {
	status, err := strconv.Atoi(string(trimQuotes(result.Status)))
	switch {
	case status == http.StatusPreconditionFailed && o.Known.Version != "":
		return system.Result{Err: system.ErrChanged}
	case err != nil, status >= 300 && !httpdial.VerdictOn(status).IsNo(), status < 200, status == http.StatusAccepted, status == http.StatusTooManyRequests:
		return system.Result{Err: &system.Unclear{TakenIn: status == http.StatusAccepted, Err: fmt.Errorf("the system answered %s to one of a bulk request", httpdial.Clip(string(result.Status)))}}
	case status >= 300:
		told := c.said(&httpdial.Answer{Status: status, Body: result.Response}, len(result.Response) > 0)
		return system.Result{Err: refusal(request{method: http.MethodPost, path: d.endpoint}, status, told)}
	}
	shown, err := decodeResource(result.Response)
	switch is := shown.text("id"); {
	case err == nil && is != "" && (o.Does == system.Creates || o.Does != system.Removes && is == o.Known.ID):
		return system.Result{Account: d.account(shown, fields, nil)}
	case o.Does == system.Creates:
		if id := lastSegment(result.Location); id != "" {
			return system.Result{Account: account.Account{ID: id, Version: result.Version}}
		}
		return system.Result{Err: &system.Unclear{Err: errors.New("the system answered that it made the account, but not which")}}
	case len(result.Response) > 0 && string(result.Response) != "null":
		return system.Result{Err: &system.Unclear{Err: fmt.Errorf("the system answered %d to one of a bulk request, with something else than the account", status)}}
	}
	return system.Result{Account: account.Account{ID: o.Known.ID, Version: result.Version}}
}

func trimQuotes(text []byte) []byte {
	if len(text) > 1 && text[0] == '"' {
		return text[1 : len(text)-1]
	}
	return text
}

func lastSegment(location string) string {
	u, err := url.Parse(location)
	if err != nil || location == "" {
		return ""
	}
	last := u.EscapedPath()[strings.LastIndexByte(u.EscapedPath(), '/')+1:]
	id, err := url.PathUnescape(last)
	if err != nil {
		return ""
	}
	return id
}
