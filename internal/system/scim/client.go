// Package scim reaches systems that speak SCIM 2.0 (RFC 7643, RFC 7644).
//
// A Client follows the RFCs and trusts the server with little. A filter is believed
// to find nobody only while it finds accounts that are known to be there; a listing is
// complete when nothing new comes, and begun again when something was taken out of it
// meanwhile; what is asked for only to save work is not asked for where it is refused;
// answers are bounded, and redirects are not followed with the credentials. Reading is
// tried again when the server is busy or the connection breaks. A change is tried again
// only where the server certainly did not carry it out; otherwise, also where the answer
// cannot be read or is about something else, it ends as *system.Unclear, and the caller
// looks before it repeats.
package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
	"evenledger/internal/system"
)

// Bounds on what is asked.
const (
	mediaType = "application/scim+json"
	maxFilter = 4000 // bytes of an escaped filter, as servers cap a URL near 8000
	mostFound = 40   // values in one filter
	fewTries  = 3    // of what may not be there at all: a wrong address is to be told soon
)

// Config says how the server is reached, and what is known of it.
type Config struct {
	httpdial.Config
	Page    int               // accounts in a page
	Aliases map[string]string // short name → full attribute name
	Kinds   map[string]Kept   // of things besides accounts, such as "courses"
	NoPatch bool              // changes are sent by PUT, whatever the server promises
}

// A Client is a system.System.
type Client struct {
	system.Base
	config Config
	http   *httpdial.Client
	skew   atomic.Int64 // by how many nanoseconds this machine's clock is ahead of the server's

	discovering sync.Mutex
	known       *discovered
	sampling    sync.Mutex
	putting     sync.Mutex // while it is tried whether PUT is taken where PATCH is not
	habits      habits
}

// New returns a Client. It sends nothing yet.
func New(config Config) (*Client, error) {
	http, err := httpdial.New(config.Config)
	if err != nil {
		return nil, err
	}
	if config.Clock == nil {
		config.Clock = http.Clock()
	}
	config.Together = max(1, config.Together)
	return &Client{config: config, http: http}, nil
}

type request struct {
	method  string
	path    string
	query   url.Values
	body    any           // to be written in JSON; []byte: it is already
	version string        // If-Match
	safe    bool          // it changes nothing
	may     system.Permit // whether it may be sent, where it changes something
	names   bool          // the path names one resource, which may be gone
	tries   int           // at most; 0: as many as the line is tried
}

// String names the request as the server's keepers find it in their logs.
func (r request) String() string { return r.method + " " + r.path }

// do sends a request until there is a final answer.
func (c *Client) do(ctx context.Context, r request) (*httpdial.Answer, error) {
	header := http.Header{"Accept": {mediaType + ", application/json"}}
	body, written := r.body.([]byte)
	if r.body != nil && !written {
		var err error
		if body, err = json.Marshal(r.body); err != nil {
			return nil, err
		}
	}
	if r.body != nil {
		header.Set("Content-Type", mediaType)
	}
	if r.version != "" {
		header.Set("If-Match", r.version)
	}
	return c.http.Do(ctx, httpdial.Request{Method: r.method, Path: r.path, Query: r.query, Header: header, Body: body, Safe: r.safe, May: r.may, Tries: r.tries}, func(got *httpdial.Answer) error {
		if now, err := http.ParseTime(got.Header.Get("Date")); err == nil {
			c.skew.Store(int64(c.since(now)))
		}
		return c.judge(r, got)
	})
}

// Close closes the connections that are kept for further requests; see system.Close.
func (c *Client) Close() error { return c.http.Close() }

func (c *Client) since(then time.Time) time.Duration { return c.config.Clock.Now().Sub(then) }

// segment writes an identifier as a part of a path. One that would lead elsewhere,
// whoever normalises the address on its way, is refused.
func segment(id string) (string, error) {
	for _, part := range strings.FieldsFunc(id, func(r rune) bool { return r == '/' || r == '\\' }) {
		if part == "." || part == ".." {
			return "", &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the system's identifier “%s” cannot stand in an address", id)}
		}
	}
	if strings.Trim(id, " \t\r\n") == "" {
		return "", &system.Refusal{Code: account.SystemRefused, Message: "the system gave no identifier"}
	}
	return url.PathEscape(id), nil
}
