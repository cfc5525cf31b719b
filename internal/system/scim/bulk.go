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
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

const bulkRequest = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"

// mostAtOnce is how many accounts go in one bulk request, even if the server
// takes more: what one lost answer leaves open has to be looked up.
const mostAtOnce = 50

type bulkOperation struct {
	Method string   `json:"method"`
	Path   string   `json:"path"`
	BulkID string   `json:"bulkId"`
	Data   resource `json:"data"`
}

// bulkResult is what became of one operation (RFC 7644 section 3.7.3).
type bulkResult struct {
	BulkID   string          `json:"bulkId"`
	Location string          `json:"location"`
	Version  string          `json:"version"`
	Status   json.RawMessage `json:"status"` // a text; some servers write a number
	Response json.RawMessage `json:"response"`
}

// Create implements system.System.
func (c *Client) Create(ctx context.Context, wanted []account.Account, fields []string) ([]system.Made, error) {
	if len(wanted) == 1 {
		return system.Alone(c.create(ctx, wanted[0], fields))
	}
	d, err := c.discover(ctx)
	if err != nil {
		return nil, err
	}
	// Names that no other request had: an answer to another one, out of a cache or mixed up
	// on the way, says nothing of these.
	names := make(map[string]int, len(wanted))
	own := rand.Text()[:12]
	var operations bytes.Buffer // as they stand in the request
	for i, w := range wanted {
		body, err := d.body(w)
		if err != nil {
			return nil, err
		}
		c.config.Mask.Add(w.Password)
		name := fmt.Sprintf("%s-%d", own, i)
		names[name] = i
		operation, err := json.Marshal(bulkOperation{http.MethodPost, d.endpoint, name, body})
		if err != nil {
			return nil, err
		}
		if i > 0 {
			operations.WriteByte(',')
		}
		operations.Write(operation)
	}
	if most := d.config.Bulk.MaxPayloadSize; most > 0 && operations.Len()+200 > most && len(wanted) > 1 {
		first, err := c.Create(ctx, wanted[:len(wanted)/2], fields)
		if err != nil {
			return nil, err
		}
		rest, err := c.Create(ctx, wanted[len(wanted)/2:], fields)
		for i := len(first); err != nil && i < len(wanted); i++ {
			// Some were made already, so this is no error of the whole.
			first = append(first, system.Made{Err: &system.Unclear{Err: err}})
		}
		return append(first, rest...), nil
	}
	got, err := c.do(ctx, request{method: http.MethodPost, path: "/Bulk", body: fmt.Appendf(nil, `{"schemas":[%q],"Operations":[%s]}`, bulkRequest, operations.Bytes())})
	if err != nil {
		return nil, err
	}
	var told struct{ Operations []bulkResult }
	if err := json.Unmarshal(got.Body, &told); err != nil {
		return nil, &system.Unclear{Err: fmt.Errorf("the answer to a bulk request cannot be read: %w", err)}
	}
	made := make([]system.Made, len(wanted))
	for i := range made {
		made[i].Err = &system.Unclear{Err: errors.New("the answer to a bulk request says nothing of it")}
	}
	for _, result := range told.Operations {
		if i, ours := names[result.BulkID]; ours {
			made[i] = c.made(d, result, fields)
		}
	}
	return made, nil
}

// made reads what became of one account. Where the answer has no account in it, but
// where one was made, the fields are left open.
func (c *Client) made(d *discovered, result bulkResult, fields []string) system.Made {
	status, err := strconv.Atoi(string(trimQuotes(result.Status)))
	switch {
	case err != nil, status >= 300 && !httpdial.VerdictOn(status).IsNo(), status < 200, status == http.StatusAccepted, status == http.StatusTooManyRequests:
		return system.Made{Err: &system.Unclear{Err: fmt.Errorf("the system answered %s to one of a bulk request", httpdial.Clip(string(result.Status)))}}
	case status >= 300:
		told := c.said(&httpdial.Answer{Status: status, Body: result.Response}, len(result.Response) > 0)
		return system.Made{Err: refusal(request{method: http.MethodPost, path: d.endpoint}, status, told)}
	}
	if r, err := decodeResource(result.Response); err == nil && r.text("id") != "" {
		return system.Made{Account: d.account(r, fields, nil)}
	}
	a := account.Account{ID: lastSegment(result.Location), Version: result.Version}
	if a.ID == "" {
		return system.Made{Err: &system.Unclear{Err: errors.New("the system answered that it made the account, but not which")}}
	}
	return system.Made{Account: a}
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
