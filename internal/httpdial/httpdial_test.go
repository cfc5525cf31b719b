package httpdial_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"evenledger/internal/clock"
	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// An office gives tokens and takes back what they are good for: each for so many requests.
type office struct {
	*httptest.Server
	mu     sync.Mutex
	good   map[string]int // token → requests left
	given  int
	uses   int
	forms  []string
	status int // of what the token server answers; 0: a token
	body   string
	back   []string // tokens that were given back
	lasts  int      // seconds that it says a token is good for
}

func newOffice(t *testing.T, uses int) *office {
	o := &office{good: map[string]int{}, uses: uses, lasts: 3600}
	o.Server = httptest.NewServer(o)
	t.Cleanup(o.Close)
	return o
}

func (o *office) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	defer o.mu.Unlock()
	body, _ := io.ReadAll(r.Body)
	switch r.URL.Path {
	case "/token":
		user, key, _ := r.BasicAuth()
		key, _ = url.QueryUnescape(key) // RFC 6749 section 2.3.1
		o.forms = append(o.forms, string(body))
		w.Header().Set("Content-Type", "application/json")
		if o.status != 0 || user != "crew" || key != "s3cret key" {
			if o.status == 0 {
				o.status = http.StatusUnauthorized
				defer func() { o.status = 0 }()
			}
			w.WriteHeader(o.status)
			_, _ = io.WriteString(w, o.body)
			return
		}
		o.given++
		token := fmt.Sprintf("token-%d-of-the-office", o.given)
		o.good[token] = o.uses
		_ = json.NewEncoder(w).Encode(map[string]any{"access_token": token, "token_type": "bearer", "expires_in": o.lasts})
	case "/revoke":
		o.back = append(o.back, string(body))
	default:
		token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		if o.good[token] <= 0 {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		o.good[token]--
		w.Header().Set("X-Said", r.Method+" "+string(body))
	}
}

// open reads how a service is reached, and opens it.
func open(t *testing.T, text string, change func(*httpdial.Config)) (*httpdial.Client, *secret.Mask, error) {
	doc, err := yamldoc.Parse("evenledger.yaml", []byte(text))
	require.NoError(t, err)
	part, s := reach.Part{Name: "crewdesk", Dir: t.TempDir(), At: doc.Root()}, &httpdial.Service{}
	s.Check(part, doc.Root().Read(s.Keys(part, "", true)), "system crewdesk", "https://HOST/x", true)
	if err := doc.Err(); err != nil {
		return nil, nil, err
	}
	mask := secret.NewMask()
	config, err := s.Config(mask, 5*time.Second)
	if err != nil {
		return nil, nil, err
	}
	config.Pause = time.Millisecond
	if change != nil {
		change(&config)
	}
	c, err := httpdial.New(config)
	return c, mask, err
}

func oauth(o *office, more string) string {
	return fmt.Sprintf(`{url: %q, sign_in: {oauth: {token_url: %q, client: crew, secret: env:OFFICE_KEY, scopes: [people, groups], parameters: {audience: desk}%s}}}`, o.URL, o.URL+"/token", more)
}

func judge(got *httpdial.Answer) error {
	switch httpdial.VerdictOn(got.Status) {
	case httpdial.Done:
		return nil
	case httpdial.Open:
		return &httpdial.Again{Err: errors.New("no clear answer"), Answered: true}
	}
	return fmt.Errorf("answered %d", got.Status)
}

// A token that ends in the middle of the work is got anew, once for all who were turned away for it, and
// every request is carried out just once, with the body it had.
func TestTokensEndMeanwhile(t *testing.T) {
	t.Setenv("OFFICE_KEY", "s3cret key")
	o := newOffice(t, 50)
	var trace bytes.Buffer
	var may atomic.Int64
	c, mask, err := open(t, oauth(o, `, revoke_url: "`+o.URL+`/revoke"`), func(config *httpdial.Config) {
		config.Together, config.Trace = 4, slog.New(slog.NewJSONHandler(&trace, nil))
	})
	require.NoError(t, err)
	var group errgroup.Group
	group.SetLimit(4)
	for n := range 500 {
		group.Go(func() error {
			body := fmt.Sprintf(`{"n":%d}`, n)
			got, err := c.Do(t.Context(), httpdial.Request{Method: "POST", Path: "/people", Body: []byte(body), May: func() error { may.Add(1); return nil }}, judge)
			if err == nil && got.Header.Get("X-Said") != "POST "+body {
				return fmt.Errorf("%s was answered %s", body, got.Header.Get("X-Said"))
			}
			return err
		})
	}
	require.NoError(t, group.Wait())
	left := 0
	for _, n := range o.good {
		left += n
	}
	assert.Equal(t, 50*o.given-500, left, "each was carried out once")
	assert.InDelta(t, 11, o.given, 2, "and no more tokens were got than were needed")
	assert.GreaterOrEqual(t, may.Load(), int64(500+o.given-1), "whether it may be sent is asked anew after a token was got")
	assert.Equal(t, "audience=desk&grant_type=client_credentials&scope=people+groups", o.forms[0])
	require.NoError(t, c.Close())
	require.Len(t, o.back, 1)
	assert.Contains(t, o.back[0], fmt.Sprintf("token-%d-of-the-office", o.given), "the token was given back")
	assert.Contains(t, trace.String(), `"method":"POST"`)
	for _, hidden := range []string{"s3cret", "token-1-of"} {
		assert.NotContains(t, trace.String(), hidden)
		assert.NotContains(t, mask.Hide("it said s3cret key and token-1-of-the-office"), hidden)
	}
}

// A token is got anew before its end, if the server says when that is; not for every request, though it lasts no
// longer than a moment.
func TestTokensAreGotEarly(t *testing.T) {
	t.Setenv("OFFICE_KEY", "s3cret key")
	o := newOffice(t, 1000)
	o.lasts = 1
	c, _, err := open(t, oauth(o, ""), nil)
	require.NoError(t, err)
	for range 20 {
		_, err := c.Do(t.Context(), httpdial.Request{Method: "GET", Safe: true}, judge)
		require.NoError(t, err)
	}
	assert.Less(t, o.given, 15)
	time.Sleep(1100 * time.Millisecond)
	before := o.given
	_, err = c.Do(t.Context(), httpdial.Request{Method: "GET", Safe: true}, judge)
	require.NoError(t, err)
	assert.Equal(t, before+1, o.given)
}

// What a token server says instead of a token is told, without a secret; and nothing is sent to the service.
func TestNoToken(t *testing.T) {
	for name, c := range map[string]struct {
		key, body string
		status    int
		want      []string
		tokens    int // that were asked for, at least
	}{
		"wrong secret":     {key: "other", body: `{"error":"invalid_client","error_description":"no such client: other"}`, want: []string{"gives no token (401): invalid_client no such client: (hidden)"}},
		"scope":            {status: 400, body: `{"error":"invalid_scope"}`, want: []string{"gives no token (400): invalid_scope"}},
		"busy for a while": {status: 503, body: "down", want: []string{"gives no token (503)"}, tokens: 7},
		"no token":         {status: 200, body: `{"token_type":"bearer"}`, want: []string{"no token that can be read"}},
		"a page":           {status: 200, body: `<html>Sign in here`, want: []string{"no token that can be read"}},
		"another kind":     {status: 200, body: `{"access_token":"x","token_type":"mac"}`, want: []string{"a token of the kind “mac”"}},
		"sent on":          {status: 307, body: "", want: []string{"gives no token (307)"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Setenv("OFFICE_KEY", "s3cret key")
			if c.key != "" {
				t.Setenv("OFFICE_KEY", c.key)
			}
			o := newOffice(t, 10)
			o.status, o.body = c.status, c.body
			client, _, err := open(t, oauth(o, ""), nil)
			require.NoError(t, err)
			_, err = client.Do(t.Context(), httpdial.Request{Method: "POST", Path: "/people"}, func(*httpdial.Answer) error {
				t.Error("something was sent")
				return nil
			})
			var unavailable *reach.Unavailable
			require.ErrorAs(t, err, &unavailable)
			for _, want := range c.want {
				assert.Contains(t, unavailable.Message, want)
			}
			assert.GreaterOrEqual(t, len(o.forms), c.tokens)
		})
	}
	t.Setenv("OFFICE_KEY", "s3cret key")
	o := newOffice(t, 0) // no token is good for anything
	client, _, err := open(t, oauth(o, ""), nil)
	require.NoError(t, err)
	_, err = client.Do(t.Context(), httpdial.Request{Method: "POST", Path: "/people"}, judge)
	require.EqualError(t, err, "answered 401", "it is not tried for ever")
	assert.Equal(t, 3, o.given)
	assert.Contains(t, client.Remedy(), "does not take what the token server")
}

// What may not be sent any more is not, though a token was got for it meanwhile.
func TestFenceAfterToken(t *testing.T) {
	t.Setenv("OFFICE_KEY", "s3cret key")
	o := newOffice(t, 10)
	client, _, err := open(t, oauth(o, ""), nil)
	require.NoError(t, err)
	over := errors.New("the lease is over")
	_, err = client.Do(t.Context(), httpdial.Request{Method: "POST", Path: "/people", May: func() error {
		if o.given > 0 {
			return over
		}
		return nil
	}}, judge)
	require.ErrorIs(t, err, over)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err = client.Do(stopped, httpdial.Request{Method: "POST", Path: "/people"}, judge)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 10, o.good["token-1-of-the-office"], "nothing was sent")
}

// A header of the server's own, and redirects of changes, which are never followed.
func TestOwnHeaderAndRedirects(t *testing.T) {
	t.Setenv("OFFICE_KEY", "k3y-of-ours")
	var trace bytes.Buffer
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Method+" "+r.URL.Path+" "+r.Header.Get("X-Crew-Key"))
		if r.URL.Path == "/old" {
			http.Redirect(w, r, "/new", http.StatusFound)
		}
	}))
	defer server.Close()
	client, _, err := open(t, fmt.Sprintf(`{url: %q, sign_in: {header: {name: X-Crew-Key, value: env:OFFICE_KEY}}}`, server.URL), func(c *httpdial.Config) {
		c.Trace = slog.New(slog.NewJSONHandler(&trace, nil))
		c.Redirect = func(*url.URL) error { return nil }
	})
	require.NoError(t, err)
	_, err = client.Do(t.Context(), httpdial.Request{Method: "GET", Path: "/old", Safe: true}, judge)
	require.NoError(t, err)
	_, err = client.Do(t.Context(), httpdial.Request{Method: "POST", Path: "/old"}, judge)
	require.EqualError(t, err, "answered 302")
	assert.Equal(t, []string{"GET /old k3y-of-ours", "GET /new k3y-of-ours", "POST /old k3y-of-ours"}, asked)
	assert.NotContains(t, trace.String(), "k3y-of-ours")
}

func TestMistakes(t *testing.T) {
	t.Setenv("OFFICE_KEY", "k")
	for text, want := range map[string]string{
		`{url: "https://a.example", token: env:OFFICE_KEY, sign_in: {header: {name: X, value: env:OFFICE_KEY}}}`:             "several ways to sign in",
		`{url: "https://a.example", sign_in: {oauth: {client: crew, secret: env:OFFICE_KEY}}}`:                               "needs token_url, client and secret",
		`{url: "https://a.example", sign_in: {oauth: {token_url: "http://b.example/t", client: c, secret: env:OFFICE_KEY}}}`: "in clear to b.example",
		`{url: "https://a.example", sign_in: {header: {name: Host, value: env:OFFICE_KEY}}}`:                                 "something else than who asks",
		`{url: "https://a.example", sign_in: {header: {name: X-Key}}}`:                                                       "needs a name and a value",
		`{url: "https://a.example", sign_in: {oath: {}}}`:                                                                    "Did you mean “oauth”",
		`{url: "https://a.example/x?key=1", token: env:OFFICE_KEY}`:                                                          "has a query",
		`{url: "https://a.example"}`: "no token and no user",
	} {
		_, _, err := open(t, text, nil)
		assert.ErrorContains(t, err, want, text)
	}
	_, _, err := open(t, `{url: "https://a.example", sign_in: {certificate: none.pem}}`, nil)
	assert.ErrorContains(t, err, "none.pem")
}

// What a server says of its quota is kept to: where nothing more would pass, nothing is sent until it would.
func TestQuota(t *testing.T) {
	for name, c := range map[string]struct {
		header map[string]string
		waits  bool
	}{
		"a quota":            {map[string]string{"RateLimit": `"default";r=0;t=1`}, true},
		"in the older form":  {map[string]string{"RateLimit": "limit=10, remaining=0, reset=1"}, true},
		"in two fields":      {map[string]string{"RateLimit-Remaining": "0", "RateLimit-Reset": "1"}, true},
		"something is left":  {map[string]string{"RateLimit": `"default";r=3;t=1`}, false},
		"no time":            {map[string]string{"RateLimit": `"default";r=0`}, false},
		"longer than anyone": {map[string]string{"RateLimit-Remaining": "0", "RateLimit-Reset": "99999999"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				for field, value := range c.header {
					w.Header().Set(field, value)
				}
			}))
			defer server.Close()
			begun := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
			waits := clock.NewFake(begun)
			client, err := httpdial.New(httpdial.Config{URL: server.URL, Clock: waits})
			require.NoError(t, err)
			for range 2 {
				_, err := client.Do(t.Context(), httpdial.Request{Method: "GET", Safe: true}, judge)
				require.NoError(t, err)
			}
			assert.Equal(t, c.waits, waits.Now().After(begun))
		})
	}
}

// A request with a key by which the server knows it again is sent once more where its answer is lost, and others are not.
func TestKeyedIsSentAgain(t *testing.T) {
	for _, keyed := range []bool{true, false} {
		var sent atomic.Int32
		server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
			if sent.Add(1) == 1 {
				panic(http.ErrAbortHandler)
			}
		}))
		client, err := httpdial.New(httpdial.Config{URL: server.URL, Pause: time.Millisecond})
		require.NoError(t, err)
		_, err = client.Do(t.Context(), httpdial.Request{Method: "POST", Header: http.Header{"Idempotency-Key": {"k"}}, Keyed: keyed}, judge)
		var unclear *reach.Unclear
		if keyed {
			require.NoError(t, err)
			assert.EqualValues(t, 2, sent.Load())
		} else {
			require.ErrorAs(t, err, &unclear)
			assert.EqualValues(t, 1, sent.Load())
		}
		server.Close()
	}
	// Of one that was sent, and may not be sent again, nobody can say what became of it.
	for name, stopped := range map[string]bool{"stopped": true, "fenced": false} {
		stop, cancel := context.WithCancel(t.Context())
		var sent atomic.Int32
		server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
			if sent.Add(1); stopped {
				cancel()
			}
			panic(http.ErrAbortHandler)
		}))
		client, err := httpdial.New(httpdial.Config{URL: server.URL, Pause: time.Millisecond})
		require.NoError(t, err)
		may := func() error {
			if sent.Load() > 0 && !stopped {
				return errors.New("others may have the work")
			}
			return nil
		}
		_, err = client.Do(stop, httpdial.Request{Method: "POST", May: may, Header: http.Header{"Idempotency-Key": {"k"}}, Keyed: true}, judge)
		var unclear *reach.Unclear
		require.ErrorAs(t, err, &unclear, name)
		assert.EqualValues(t, 1, sent.Load(), name)
		cancel()
		server.Close()
	}
}
