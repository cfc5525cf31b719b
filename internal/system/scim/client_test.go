package scim_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
	"evenledger/internal/secret"
	"evenledger/internal/standin"
	"evenledger/internal/system"
	"evenledger/internal/system/scim"
	"evenledger/internal/system/systemtest"
)

// practice serves a stand-in and returns a client of it and the requests it got.
func practice(t *testing.T, options standin.Options, change func(*scim.Config)) (*scim.Client, *requests) {
	options.Token = "secret"
	log := &requests{}
	options.Count = log.add
	s, err := standin.New(options)
	require.NoError(t, err)
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	return connect(t, server.URL+"/scim/v2", change), log
}

func connect(t *testing.T, url string, change func(*scim.Config)) *scim.Client {
	config := scim.Config{Config: httpdial.Config{URL: url, Credential: httpdial.Bearer("secret"), Timeout: 5 * time.Second, Pause: time.Millisecond, Together: 4}, Page: 100}
	if change != nil {
		change(&config)
	}
	c, err := scim.New(config)
	require.NoError(t, err)
	return c
}

type requests struct {
	mu   sync.Mutex
	list []string
}

func (r *requests) add(method, target string, _ int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.list = append(r.list, method+" "+target)
}

// to counts requests of a method.
func (r *requests) to(method string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := 0
	for _, line := range r.list {
		if strings.HasPrefix(line, method+" ") && !strings.Contains(line, "/ServiceProviderConfig") && !strings.Contains(line, "/Schemas") && !strings.Contains(line, "/ResourceTypes") {
			n++
		}
	}
	return n
}

func fields(pairs ...string) map[string]account.Value {
	out := map[string]account.Value{}
	for i := 0; i < len(pairs); i += 2 {
		out[pairs[i]] = account.Of(pairs[i+1])
	}
	return out
}

const (
	berth  = "urn:example:params:scim:schemas:extension:crew:2.0:User:berth"
	miles  = "urn:example:params:scim:schemas:extension:crew:2.0:User:seaMiles"
	joined = "urn:example:params:scim:schemas:extension:crew:2.0:User:joined"
)

var all = []string{"userName", "givenName", "familyName", "email", "mobile", "country", "locality", "department", "active", "title", berth, miles, joined}

func TestCreateReadChange(t *testing.T) {
	for name, options := range map[string]standin.Options{"PATCH": {}, "PUT": {NoPatch: true}, "without versions": {NoETag: true}} {
		t.Run(name, func(t *testing.T) {
			c, log := practice(t, options, func(config *scim.Config) { config.Aliases = map[string]string{"berth": berth} })
			ctx := t.Context()
			wanted := fields("userName", "zoe", "givenName", "Zoë", "email", "zoe@x.example", "mobile", "+447700900102", "country", "GB", "department", "Engine", "active", "true", "berth", "C4", miles, "1200", joined, "2026-11-01")
			made, err := systemtest.Create(ctx, nil, c, account.Account{Fields: wanted}, append(slices.Clone(all), "berth"))
			require.NoError(t, err)
			assert.NotEmpty(t, made.ID)
			for name, value := range wanted {
				assert.Equal(t, value, made.Field(name), name)
			}
			known := made
			now, err := system.Change(ctx, nil, c, known, []account.Change{
				{Field: "title", After: account.Of("Bosun")},
				{Field: "email", Before: account.Of("zoe@x.example"), After: account.Of("zoe.a@x.example")},
				{Field: "locality", After: account.Of("Northport")},
				{Field: "department", Before: account.Of("Engine"), After: account.Blank()},
				{Field: "active", Before: account.Of("true"), After: account.Of("false")},
			}, all)
			require.NoError(t, err)
			read, err := c.Get(ctx, made.ID, all)
			require.NoError(t, err)
			assert.Equal(t, now.Fields, read.Fields)
			for name, want := range map[string]string{"title": "Bosun", "email": "zoe.a@x.example", "locality": "Northport", "country": "GB", "mobile": "+447700900102", "department": "", "active": "false", "givenName": "Zoë"} {
				assert.Equal(t, want, read.Field(name).Text(), name)
			}
			if !options.NoETag {
				_, err = system.Change(ctx, nil, c, known, []account.Change{{Field: "title", After: account.Of("Mate")}}, all)
				assert.ErrorIs(t, err, system.ErrChanged, "the version that was known is gone")
			}
			_, err = c.Get(ctx, "nobody", all)
			assert.ErrorIs(t, err, system.ErrGone)
			if options.NoPatch {
				assert.Zero(t, log.to("PATCH"))
				assert.Positive(t, log.to("PUT"))
			} else {
				assert.Zero(t, log.to("PUT"))
			}
		})
	}
}

func TestRefusals(t *testing.T) {
	c, _ := practice(t, standin.Options{}, nil)
	ctx := t.Context()
	made, err := systemtest.Create(ctx, nil, c, account.Account{Fields: fields("userName", "ana", joined, "2026-11-01")}, all)
	require.NoError(t, err)
	var refusal *system.Refusal
	_, err = systemtest.Create(ctx, nil, c, account.Account{Fields: fields("userName", "ANA")}, all)
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, account.TakenValue, refusal.Code)
	_, err = system.Change(ctx, nil, c, made, []account.Change{{Field: joined, Before: account.Of("2026-11-01"), After: account.Of("2026-12-01")}}, all)
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, account.ImmutableField, refusal.Code)
	_, err = systemtest.Create(ctx, nil, c, account.Account{Fields: fields("title", "nobody")}, all)
	require.ErrorAs(t, err, &refusal)
	assert.Contains(t, refusal.Message, "userName is required", "the system's own words are kept")
}

func TestSystem(t *testing.T) {
	for name, options := range map[string]standin.Options{"PATCH": {Page: 20}, "bulk": {Bulk: 10}, "bulk and PUT": {Bulk: 10, NoPatch: true}, "PUT": {NoPatch: true}, "without versions": {NoETag: true}, "without filters": {NoFilter: true, Page: 1}} {
		t.Run(name, func(t *testing.T) {
			systemtest.Run(t, systemtest.Person(), func(t *testing.T) system.System {
				var line *systemtest.Line
				c, _ := practice(t, options, func(config *scim.Config) {
					line = systemtest.NewLine(t, "tcp", strings.TrimSuffix(strings.TrimPrefix(config.URL, "http://"), "/scim/v2"), "127.0.0.1:0")
					line.Changes = func(asked []byte) bool { return !bytes.HasPrefix(asked, []byte("GET ")) }
					config.URL = "http://" + line.Addr().String() + "/scim/v2"
				})
				return systemtest.Lossy{System: c, Line: line, Work: 50 * time.Millisecond}
			})
		})
	}
}

func TestDescribe(t *testing.T) {
	c, _ := practice(t, standin.Options{}, func(config *scim.Config) { config.Aliases = map[string]string{"berth": berth} })
	schema, err := c.Describe(t.Context())
	require.NoError(t, err)
	name, ok := schema.Attribute("userName")
	require.True(t, ok)
	assert.True(t, name.Required && name.Unique)
	joinedAs, _ := schema.Attribute(joined)
	assert.True(t, joinedAs.Immutable)
	watch, _ := schema.Attribute("urn:example:params:scim:schemas:extension:crew:2.0:User:watch")
	assert.Equal(t, []string{"Day", "Night", "Relief"}, watch.Allowed)
	_, ok = schema.Attribute("berth")
	assert.True(t, ok, "by its alias")
	mail, ok := schema.Attribute("email")
	assert.True(t, ok)
	assert.Equal(t, `emails[type eq "work"].value`, mail.Path)
	_, ok = schema.Attribute("shoeSize")
	assert.False(t, ok)
}

func TestFetchTakesTheFewestRequests(t *testing.T) {
	c, log := practice(t, standin.Options{Page: 50}, nil)
	ctx := t.Context()
	var names []string
	for i := range 230 {
		name := fmt.Sprintf("crew%03d", i)
		names = append(names, name)
		_, err := systemtest.Create(ctx, nil, c, account.Account{Fields: fields("userName", name)}, all)
		require.NoError(t, err)
	}
	for _, try := range []struct {
		names    []string
		listed   bool
		requests int
	}{{names[:70], false, 2}, {names, true, 6}, {names[:200], false, 6}, {[]string{`qu"ote\`, "crew001"}, false, 1}} {
		before := log.to("GET")
		found := map[string]bool{}
		way, err := system.Fetch(ctx, c, map[string][]string{"userName": try.names}, []string{"userName"}, 3, func(a account.Account) { found[a.Field("userName").Text()] = true })
		require.NoError(t, err)
		assert.Equal(t, try.listed, way.Listed, "%d names", len(try.names))
		assert.LessOrEqual(t, log.to("GET")-before, try.requests+2, "besides accounts that are known to be there")
		for _, name := range try.names {
			assert.Equal(t, !strings.HasPrefix(name, "qu"), found[name], name)
		}
	}
	// Those who are listed first need not have a number for it to be found by.
	for i := range 3 {
		_, err := systemtest.Create(ctx, nil, c, account.Account{Fields: fields("userName", fmt.Sprint("late", i), "employeeNumber", fmt.Sprint(i))}, all)
		require.NoError(t, err)
	}
	numbered := 0
	way, err := system.Fetch(ctx, c, map[string][]string{"employeeNumber": {"1", "77"}}, []string{"employeeNumber"}, 1, func(a account.Account) {
		if a.Field("employeeNumber").Text() == "1" {
			numbered++
		}
	})
	require.NoError(t, err)
	assert.False(t, way.Listed)
	assert.Equal(t, 1, numbered)
	c, _ = practice(t, standin.Options{NoFilter: true}, nil)
	way, err = system.Fetch(ctx, c, map[string][]string{"userName": {"x"}}, nil, 1, func(account.Account) {})
	require.NoError(t, err)
	assert.True(t, way.Listed, "without filters all are listed")
}

func TestBusyServerIsAskedAgain(t *testing.T) {
	c, log := practice(t, standin.Options{Faults: standin.Faults{Seed: 3, Busy: 0.4}}, nil)
	for i := range 30 {
		_, err := systemtest.Create(t.Context(), nil, c, account.Account{Fields: fields("userName", fmt.Sprint("n", i))}, all)
		require.NoError(t, err)
	}
	assert.Greater(t, log.to("POST"), 30)
	c, log = practice(t, standin.Options{Faults: standin.Faults{Seed: 3, Errors: 0.3, Drops: 0.3}}, nil)
	unclear := 0
	for i := range 30 {
		_, err := systemtest.Create(t.Context(), nil, c, account.Account{Fields: fields("userName", fmt.Sprint("n", i))}, all)
		var open *system.Unclear
		if errors.As(err, &open) {
			unclear++
			continue
		}
		require.NoError(t, err)
	}
	assert.Positive(t, unclear)
	assert.LessOrEqual(t, log.to("POST"), 30, "a create is never repeated blindly")
	found := 0
	for _, err := range c.List(t.Context(), all) {
		require.NoError(t, err, "reading is repeated until it succeeds")
		found++
	}
	assert.Greater(t, found, 30-unclear-1, "some unclear ones were carried out")
}

// odd is a server of one's own making.
func odd(t *testing.T, handle http.HandlerFunc, change ...func(*scim.Config)) *scim.Client {
	server := httptest.NewServer(handle)
	t.Cleanup(server.Close)
	return connect(t, server.URL, func(c *scim.Config) {
		c.Page, c.Timeout = 2, 300*time.Millisecond
		for _, change := range change {
			change(c)
		}
	})
}

func TestServersThatAnswerOddly(t *testing.T) {
	page := func(w http.ResponseWriter, total int, ids ...string) {
		list := []any{}
		for _, id := range ids {
			list = append(list, map[string]any{"id": id, "USERNAME": "user" + id, "emails": []any{map[string]any{"value": id + "@x.example", "primary": true}}})
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": total, "Resources": list, "itemsPerPage": 99})
	}
	users := func(handle http.HandlerFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if !strings.HasPrefix(r.URL.Path, "/Users") {
				http.NotFound(w, r)
				return
			}
			handle(w, r)
		}
	}
	for name, c := range map[string]struct {
		handle http.HandlerFunc
		ids    string
		says   string
	}{
		"pages of its own size": {users(func(w http.ResponseWriter, r *http.Request) {
			page(w, 3, r.URL.Query().Get("startIndex"))
		}), "1 2 3", ""},
		"page one again past the end": {users(func(w http.ResponseWriter, r *http.Request) { page(w, 5, "1", "2") }), "", "gave only 2"},
		"overlapping pages": {users(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Query().Get("startIndex") == "1" {
				page(w, 3, "1", "2")
			} else {
				page(w, 3, "2", "3")
			}
		}), "1 2 3", ""},
		"a web page": {func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "<html>Sign in</html>") }, "", "answered 200 with a web page"},
		"a web page as an error": {func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(400)
			_, _ = io.WriteString(w, "<html>Bad</html>")
		}, "", "answered 400 with a web page"},
		"a redirect": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://elsewhere.example/", http.StatusFound)
		}, "", "redirects to https://elsewhere.example/"},
		"turned away": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(401) }, "", "turns us away (401)"},
		"forbidden":   {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403) }, "", "does not let us read (403)"},
		"never well":  {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) }, "", "cannot answer (503"},
		"never quiet": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(429) }, "", "is busy (429) and stayed so"},
		"too slow":    {func(http.ResponseWriter, *http.Request) { time.Sleep(time.Second) }, "", "no answer came in time"},
		"broken JSON": {users(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"totalResults":`)
		}), "", "cannot be taken for a list"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var ids []string
			var last error
			for a, err := range odd(t, c.handle).List(context.Background(), []string{"userName", "email"}) {
				if last = err; err == nil {
					ids = append(ids, a.ID)
					assert.Equal(t, "user"+a.ID, a.Field("userName").Text(), "attribute names are read in any capitals")
					assert.Equal(t, a.ID+"@x.example", a.Field("email").Text(), "an address without a type counts as the work one")
				}
			}
			if c.says == "" {
				require.NoError(t, last)
				assert.Equal(t, c.ids, strings.Join(ids, " "))
				return
			}
			var unavailable *system.Unavailable
			require.ErrorAs(t, last, &unavailable)
			assert.Contains(t, last.Error(), c.says)
			assert.NotContains(t, last.Error(), "secret")
		})
	}
}

// nobody answers that nobody is there.
func nobody(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, `{"totalResults":0}`)
}

func TestChangeWithout200(t *testing.T) {
	var sent map[string]any
	c := odd(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPatch {
			nobody(w)
			return
		}
		_ = json.NewDecoder(r.Body).Decode(&sent)
		w.WriteHeader(http.StatusNoContent)
	})
	now, err := system.Change(t.Context(), nil, c, account.Account{ID: "a/b", Fields: fields("title", "Mate")}, []account.Change{{Field: "title", Before: account.Of("Mate"), After: account.Of("Bosun")}}, all)
	require.NoError(t, err)
	assert.Equal(t, account.Account{ID: "a/b"}, now, "it showed nothing")
	assert.Len(t, sent["Operations"], 1, "the least change: %v", sent)
}

// A change answered with success and nothing that can be read was carried out, or
// may have been; it is never taken for undone.
func TestSuccessThatCannotBeRead(t *testing.T) {
	answer, title := "", "Mate"
	c := odd(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/ServiceProviderConfig":
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"patch":{"supported":false},"filter":{"supported":true}}`)
		case r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/Users/"):
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"id":"1","title":"`+title+`"}`)
		case r.Method == http.MethodGet:
			nobody(w)
		default:
			if title = "Bosun"; answer != "" {
				title = "Mate"
			}
			_, _ = io.WriteString(w, answer)
		}
	})
	change := []account.Change{{Field: "title", Before: account.Of("Mate"), After: account.Of("Bosun")}}
	now, err := system.Change(t.Context(), nil, c, account.Account{ID: "1"}, change, all)
	require.NoError(t, err, "an empty answer to a PUT")
	assert.Equal(t, "Bosun", now.Field("title").Text())
	for _, answer = range []string{"<html>All done</html>", "{}", "[1]", `{"id":"2","title":"Bosun"}`} {
		var open *system.Unclear
		_, err = system.Change(t.Context(), nil, c, account.Account{ID: "1"}, change, all)
		require.ErrorAs(t, err, &open, answer)
		if !strings.Contains(answer, "2") {
			_, err = systemtest.Create(t.Context(), nil, c, account.Account{Fields: fields("userName", "ana")}, all)
			require.ErrorAs(t, err, &open, answer)
		}
	}
}

func TestTLSIsVerified(t *testing.T) {
	s, err := standin.New(standin.Options{Token: "secret"})
	require.NoError(t, err)
	server := httptest.NewTLSServer(s)
	defer server.Close()
	server.Config.ErrorLog = nil
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600))
	_, err = connect(t, server.URL+"/scim/v2", nil).Describe(t.Context())
	var certificate *tls.CertificateVerificationError
	require.ErrorAs(t, err, &certificate)
	assert.Contains(t, err.Error(), "does not verify")
	_, err = connect(t, server.URL+"/scim/v2", func(c *scim.Config) { c.CA = ca }).Describe(t.Context())
	assert.NoError(t, err)
	_, err = connect(t, strings.Replace(server.URL, "https", "http", 1)+"/scim/v2", nil).Describe(t.Context())
	assert.Error(t, err)
}

// Accounts that others made look otherwise than ours: without types, with other
// types, with several values. A change touches what is meant and nothing else.
func TestChangeOfForeignShapes(t *testing.T) {
	for name, c := range map[string]struct {
		body   string
		field  string
		before string
		after  string
		want   string // of the whole attribute, as JSON
		attr   string
	}{
		"address without a type":  {`"emails":[{"value":"old@x.example"}]`, "email", "old@x.example", "new@x.example", `[{"value":"new@x.example"}]`, "emails"},
		"primary address is home": {`"emails":[{"value":"old@x.example","type":"home","primary":true}]`, "email", "old@x.example", "new@x.example", `[{"primary":true,"type":"home","value":"new@x.example"}]`, "emails"},
		"only a home address":     {`"emails":[{"value":"h@x.example","type":"home"}]`, "email", "", "w@x.example", `[{"type":"home","value":"h@x.example"},{"type":"work","value":"w@x.example"}]`, "emails"},
		"no address yet":          {`"title":"x"`, "email", "", "w@x.example", `[{"primary":true,"type":"work","value":"w@x.example"}]`, "emails"},
		"one of two numbers":      {`"phoneNumbers":[{"value":"+441","type":"work"},{"value":"+442","type":"mobile"}]`, "mobile", "+442", "+449", `[{"type":"work","value":"+441"},{"type":"mobile","value":"+449"}]`, "phoneNumbers"},
		"a number taken away":     {`"phoneNumbers":[{"value":"+441","type":"work"},{"value":"+442","type":"mobile"}]`, "mobile", "+442", "", `[{"type":"work","value":"+441"}]`, "phoneNumbers"},
		"a town beside a country": {`"addresses":[{"type":"work","country":"PT"}]`, "locality", "", "Lagos", `[{"country":"PT","locality":"Lagos","type":"work"}]`, "addresses"},
		"part of a name":          {`"name":{"givenName":"Ana","formatted":"Ana R."}`, "familyName", "", "Reyes", `{"familyName":"Reyes","formatted":"Ana R.","givenName":"Ana"}`, "name"},
	} {
		for _, put := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, PUT %v", name, put), func(t *testing.T) {
				s, err := standin.New(standin.Options{Token: "secret", NoPatch: put})
				require.NoError(t, err)
				var body map[string]any
				require.NoError(t, json.Unmarshal([]byte(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"ana",`+c.body+`}`), &body))
				require.NoError(t, s.Add(body))
				server := httptest.NewServer(s)
				defer server.Close()
				client := connect(t, server.URL+"/scim/v2", nil)
				known, err := client.Get(t.Context(), "u-000001", all)
				require.NoError(t, err)
				assert.Equal(t, c.before, known.Field(c.field).Text(), "it is read as ours")
				after := account.Of(c.after)
				_, err = system.Change(t.Context(), nil, client, known, []account.Change{{Field: c.field, Before: known.Field(c.field), After: after}}, all)
				require.NoError(t, err)
				req, err := http.NewRequest(http.MethodGet, server.URL+"/scim/v2/Users/u-000001", nil)
				require.NoError(t, err)
				req.Header.Set("Authorization", "Bearer secret")
				resp, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				defer resp.Body.Close()
				var now map[string]any
				require.NoError(t, json.NewDecoder(resp.Body).Decode(&now))
				got, err := json.Marshal(now[c.attr])
				require.NoError(t, err)
				assert.JSONEq(t, c.want, string(got))
			})
		}
	}
}

func TestPaceAndBasic(t *testing.T) {
	var mu sync.Mutex
	var times []time.Time
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, ok := r.BasicAuth()
		assert.True(t, ok && user == "me" && password == "pass:word")
		mu.Lock()
		defer mu.Unlock()
		times = append(times, time.Now())
		if r.URL.Path == "/Users" {
			nobody(w)
			return
		}
		w.WriteHeader(http.StatusNotFound)
	}))
	defer server.Close()
	paced := connect(t, server.URL, func(c *scim.Config) { c.Credential, c.Rate = httpdial.Basic("me", "pass:word"), 50 })
	for range 4 {
		_, err := paced.Get(t.Context(), "x", nil)
		require.ErrorIs(t, err, system.ErrGone)
	}
	require.GreaterOrEqual(t, len(times), 7, "discovery and four reads")
	assert.GreaterOrEqual(t, times[len(times)-1].Sub(times[0]), 6*15*time.Millisecond, "no more than 50 a second")
}

// Fields that hold several values go out as lists and come back as sets.
func TestSeveralValues(t *testing.T) {
	const certificates = "urn:example:params:scim:schemas:extension:crew:2.0:User:certificates"
	for name, options := range map[string]standin.Options{"PATCH": {}, "PUT": {NoPatch: true}} {
		t.Run(name, func(t *testing.T) {
			c, _ := practice(t, options, nil)
			ctx := t.Context()
			schema, err := c.Describe(ctx)
			require.NoError(t, err)
			for _, field := range []string{certificates, "roles"} {
				a, ok := schema.Attribute(field)
				require.True(t, ok, field)
				assert.True(t, a.Multi)
				assert.Equal(t, account.List, a.Kind)
			}
			both := []string{certificates, "roles"}
			made, err := systemtest.Create(ctx, nil, c, account.Account{Fields: fields("userName", "zoe", certificates, "tow\npilotage", "roles", "master")}, both)
			require.NoError(t, err)
			assert.Equal(t, []string{"tow", "pilotage"}, account.Items(made.Field(certificates).Text()))
			assert.Equal(t, "master", made.Field("roles").Text())
			now, err := system.Change(ctx, nil, c, made, []account.Change{{Field: certificates, Before: made.Field(certificates), After: account.Of("radio")}, {Field: "roles", Before: made.Field("roles"), After: account.Blank()}}, both)
			require.NoError(t, err)
			assert.Equal(t, "radio", now.Field(certificates).Text())
			assert.False(t, now.Field("roles").Filled())
			assert.True(t, account.Field{Kind: account.List}.Same("a\nb", "b\na"))
			assert.False(t, account.Field{Kind: account.List}.Same("a\nb", "b"))
		})
	}
}

// A password is no field that a sheet could fill: it would be kept in clear.
func TestPasswordIsNoField(t *testing.T) {
	c, _ := practice(t, standin.Options{}, nil)
	schema, err := c.Describe(t.Context())
	require.NoError(t, err)
	_, known := schema.Attribute("password")
	assert.False(t, known)
}

// What a system has besides accounts is listed to its end, or it is an error.
// A section is added once, and believed only when the thing shows it.
func TestSections(t *testing.T) {
	s, err := standin.New(standin.Options{Token: "secret"})
	require.NoError(t, err)
	require.NoError(t, s.Add(map[string]any{"schemas": []string{"urn:example:params:scim:schemas:crew:2.0:Course"}, "displayName": "Radio", "open": true, "sections": []any{"Spring"}}))
	deaf, replaces, sent := false, false, 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPatch {
			if sent++; deaf { // it says yes, and does nothing
				w.WriteHeader(http.StatusNoContent)
				return
			}
			if replaces {
				body, _ := io.ReadAll(r.Body)
				body = bytes.Replace(body, []byte(`"add"`), []byte(`"replace"`), 1)
				r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
			}
		}
		s.ServeHTTP(w, r)
	}))
	defer server.Close()
	c := connect(t, server.URL+"/scim/v2", nil)
	radio := func() (radio account.Thing) {
		for thing, err := range c.Things(t.Context(), "courses", false) {
			require.NoError(t, err)
			radio = thing
		}
		return radio
	}
	for range 2 {
		require.NoError(t, c.AddSection(t.Context(), nil, "courses", radio().ID, "Winter"))
	}
	assert.Equal(t, []string{"Spring", "Winter"}, radio().Sections)
	assert.Equal(t, 1, sent, "what is there is not added again")
	deaf = true
	assert.ErrorContains(t, c.AddSection(t.Context(), nil, "courses", radio().ID, "Summer"), "does not show it")
	assert.Error(t, c.AddSection(t.Context(), nil, "courses", "nothing", "Summer"))
	deaf, replaces = false, true
	assert.ErrorContains(t, c.AddSection(t.Context(), nil, "courses", radio().ID, "Summer"), "no longer shows Spring, Winter")
}

func TestThings(t *testing.T) {
	options := standin.Options{Token: "secret", Page: 2}
	s, err := standin.New(options)
	require.NoError(t, err)
	for i := range 5 {
		require.NoError(t, s.Add(map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": fmt.Sprintf("Crew %d", i)}))
	}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	c := connect(t, server.URL+"/scim/v2", nil)
	about, err := c.Describe(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []account.ThingKind{{Name: "courses", Roles: true, Sections: true, Divides: true}, {Name: "groups"}, {Name: "licences"}, {Name: "roles"}, {Name: "units", Blind: "nothing that is called members is in the system's units"}}, about.Kinds)
	var names []string
	for thing, err := range c.Things(t.Context(), "groups", true) {
		require.NoError(t, err)
		names = append(names, thing.Name)
		assert.Equal(t, 0, thing.Members)
	}
	assert.Equal(t, []string{"Crew 0", "Crew 1", "Crew 2", "Crew 3", "Crew 4"}, names)

	short := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/Groups" {
			fmt.Fprint(w, `{"totalResults": 3, "Resources": [{"id": "g1", "displayName": "Deck", "members": [{"value": "1"}, {"value": "2"}]}]}`)
			return
		}
		nobody(w)
	}))
	t.Cleanup(short.Close)
	var members []int
	for thing, problem := range connect(t, short.URL, nil).Things(t.Context(), "groups", true) {
		if err = problem; err == nil {
			members = append(members, thing.Members)
		}
	}
	assert.Equal(t, []int{2}, members)
	assert.ErrorContains(t, err, "has 3 to list but gave only 1")
}

// named gives the operations of an answer to a bulk request the names that the request's
// have.
func named(t *testing.T, r *http.Request, answer string) string {
	var body struct{ Operations []struct{ BulkID string } }
	require.NoError(t, json.NewDecoder(r.Body).Decode(&body))
	for i, o := range body.Operations {
		answer = strings.ReplaceAll(answer, fmt.Sprintf(`"bulkId":"%d"`, i), fmt.Sprintf(`"bulkId":%q`, o.BulkID))
	}
	return answer
}

// Many accounts in one request: what became of each is told, whatever way the
// server has of telling it.
func TestCreateMany(t *testing.T) {
	people := func(names ...string) []system.Order {
		var all []account.Account
		for _, name := range names {
			all = append(all, account.Account{Fields: fields("userName", name)})
		}
		return systemtest.Making(all...)
	}
	told := func(made []system.Result) (out []string) {
		for _, m := range made {
			var refusal *system.Refusal
			var unclear *system.Unclear
			switch {
			case errors.As(m.Err, &refusal):
				out = append(out, string(refusal.Code))
			case errors.As(m.Err, &unclear):
				out = append(out, "unclear")
			default:
				require.NoError(t, m.Err)
				require.NotEmpty(t, m.Account.ID)
				out = append(out, m.Account.ID)
			}
		}
		return out
	}
	c, log := practice(t, standin.Options{Bulk: 4}, nil)
	about, err := c.Describe(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 4, about.Can.AtOnce)
	made, err := c.Apply(t.Context(), nil, people("ana", "zoe", "ANA", "mei"), all)
	require.NoError(t, err)
	assert.Equal(t, []string{"u-000001", "u-000002", "taken-value", "u-000003"}, told(made))
	assert.Equal(t, 1, log.to(http.MethodPost))
	got, err := c.Get(t.Context(), made[1].Account.ID, all)
	require.NoError(t, err)
	assert.Equal(t, made[1].Account.Version, got.Version)
	_, err = c.Apply(t.Context(), nil, people("1", "2", "3", "4", "5"), all)
	var refusal *system.Refusal
	assert.ErrorAs(t, err, &refusal, "more than the server takes")
	without, _ := practice(t, standin.Options{}, nil)
	about, err = without.Describe(t.Context())
	require.NoError(t, err)
	assert.Zero(t, about.Can.AtOnce)

	for name, answer := range map[string]string{
		"9/1; taken-value; unclear; unclear": `{"Operations":[{"bulkId":"1","status":409,"response":{"scimType":"uniqueness"}},{"bulkId":"0","status":"201","location":"https://x.example/Users/9%2F1","response":{"id":"9/1","userName":"a"}},{"bulkId":"2","status":{"code":"503"}},{"bulkId":"7","status":"201"}]}`,
		"unclear; unclear; unclear; unclear": `{"Operations":[{"bulkId":"another-0","status":"201","location":"/Users/1"},{"bulkId":"another-1","status":"201","location":"/Users/2"}]}`,
		"unclear; 8; unclear; unclear":       `{"Operations":[{"bulkId":"0","status":"503"},{"bulkId":"1","status":"201","location":"/Users/8"},{"bulkId":"2","status":"201"}]}`,
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/scim+json")
			switch r.URL.Path {
			case "/Bulk":
				fmt.Fprint(w, named(t, r, answer))
			case "/ServiceProviderConfig":
				fmt.Fprint(w, `{"bulk":{"supported":true,"maxOperations":1000,"maxPayloadSize":1048576},"filter":{"supported":true}}`)
			default:
				w.WriteHeader(http.StatusNotFound)
			}
		}))
		t.Cleanup(server.Close)
		made, err := connect(t, server.URL, nil).Apply(t.Context(), nil, people("a", "b", "c", "d"), []string{"userName"})
		require.NoError(t, err)
		assert.Equal(t, name, strings.Join(told(made), "; "))
	}

	// What is too long for the server goes in several requests.
	var sizes []int
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/scim+json")
		if r.URL.Path != "/Bulk" {
			fmt.Fprint(w, `{"bulk":{"supported":true,"maxOperations":1000,"maxPayloadSize":700}}`)
			return
		}
		var body struct{ Operations []struct{ BulkID string } }
		require.NoError(t, json.NewDecoder(r.Body).Decode(&body))
		sizes = append(sizes, len(body.Operations))
		var done []map[string]string
		for _, o := range body.Operations {
			done = append(done, map[string]string{"bulkId": o.BulkID, "status": "201", "location": fmt.Sprintf("/Users/%d", len(sizes)*100+len(done))})
		}
		require.NoError(t, json.NewEncoder(w).Encode(map[string]any{"Operations": done}))
	}))
	t.Cleanup(server.Close)
	made, err = connect(t, server.URL, nil).Apply(t.Context(), nil, people("a", "b", "c", "d", "e", "f", "g", "h"), []string{"userName"})
	require.NoError(t, err)
	assert.Equal(t, []string{"100", "101", "200", "201", "300", "301", "400", "401"}, told(made))
	assert.Greater(t, len(sizes), 1)

	// When a later request of them fails, what the earlier ones made is not lost.
	requests := 0
	broken := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/scim+json")
		switch {
		case r.URL.Path != "/Bulk":
			fmt.Fprint(w, `{"bulk":{"supported":true,"maxOperations":1000,"maxPayloadSize":560}}`)
		case requests == 0:
			requests++
			fmt.Fprint(w, named(t, r, `{"Operations":[{"bulkId":"0","status":"201","location":"/Users/1"},{"bulkId":"1","status":"409"}]}`))
		default:
			w.WriteHeader(http.StatusUnauthorized)
		}
	}))
	t.Cleanup(broken.Close)
	made, err = connect(t, broken.URL, nil).Apply(t.Context(), nil, people("a", "b", "c", "d"), []string{"userName"})
	require.NoError(t, err)
	assert.Equal(t, []string{"1", "taken-value", "unclear", "unclear"}, told(made))
}

// Changes and removals go in one request with what is made; what was refused there is asked for by itself.
func TestApplyMany(t *testing.T) {
	c, log := practice(t, standin.Options{Bulk: 10}, nil)
	made, err := c.Apply(t.Context(), nil, systemtest.Making(account.Account{Fields: fields("userName", "ana")}, account.Account{Fields: fields("userName", "tom")}, account.Account{Fields: fields("userName", "mei", "email", "mei@x.example")}), all)
	require.NoError(t, err)
	ana, tom, mei := made[0].Account, made[1].Account, made[2].Account
	title := func(known account.Account, to string) system.Order {
		return system.Order{Does: system.Changes, Known: known, Changes: []account.Change{{Field: "title", After: account.Of(to)}}}
	}
	old := tom
	old.Version = `W/"of long ago"`
	results, err := c.Apply(t.Context(), nil, []system.Order{
		title(ana, "Mate"), title(old, "Mate"), {Does: system.Removes, Known: mei},
		{Does: system.Creates, Wanted: account.Account{Fields: fields("userName", "zoe")}},
		title(account.Account{ID: "nobody"}, "Mate"), {Does: system.Changes, Known: ana, Changes: []account.Change{{Field: "urn:x:shoe", After: account.Of("44")}}},
	}, all)
	require.NoError(t, err)
	require.Len(t, results, 6)
	require.NoError(t, results[0].Err)
	assert.Empty(t, results[0].Account.Fields, "nothing was shown")
	now, err := c.Get(t.Context(), ana.ID, all)
	require.NoError(t, err)
	assert.Equal(t, []string{"Mate", now.Version}, []string{now.Field("title").Text(), results[0].Account.Version})
	assert.ErrorIs(t, results[1].Err, system.ErrChanged)
	assert.NoError(t, results[2].Err)
	_, err = c.Get(t.Context(), mei.ID, all)
	assert.ErrorIs(t, err, system.ErrGone)
	assert.NoError(t, results[3].Err)
	assert.ErrorIs(t, results[4].Err, system.ErrGone)
	assert.ErrorAs(t, results[5].Err, new(*system.Refusal))
	assert.Equal(t, 2, log.to(http.MethodPost), "in one request")
	assert.Equal(t, 1, log.to(http.MethodPatch), "and once more what was refused")

	for answer, want := range map[string]string{
		`{"bulkId":"0","status":"200"},{"bulkId":"1","status":204}`:                                                                 "<nil>; <nil>",
		`{"bulkId":"0","status":"200","response":{"id":"2","title":"Mate"}},{"bulkId":"1","status":"200","response":{"gone":true}}`: "no clear answer came: the system answered 200 to one of a bulk request, with something else than the account; no clear answer came: the system answered 200 to one of a bulk request, with something else than the account",
		`{"bulkId":"0","status":"202"},{"bulkId":"1","status":"412"}`:                                                               "no clear answer came: the system answered \"202\" to one of a bulk request; the account changed in the meantime",
		`{"bulkId":"1","status":"204"}`:                                                                                             "no clear answer came: the answer to a bulk request says nothing of it; <nil>",
		`{"bulkId":"0","status":"501"},{"bulkId":"1","status":"405"}`:                                                               "<nil>; <nil>", // by themselves
	} {
		bulks, alone := 0, 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/scim+json")
			switch {
			case r.URL.Path == "/Bulk":
				bulks++
				fmt.Fprint(w, named(t, r, `{"Operations":[`+answer+`]}`))
			case r.URL.Path == "/ServiceProviderConfig":
				fmt.Fprint(w, `{"bulk":{"supported":true,"maxOperations":1000},"patch":{"supported":true},"etag":{"supported":true},"filter":{"supported":true}}`)
			case r.Method == http.MethodPatch, r.Method == http.MethodDelete:
				alone++
				w.WriteHeader(http.StatusNoContent)
			default:
				w.WriteHeader(http.StatusNotFound)
			}
		}))
		t.Cleanup(server.Close)
		c := connect(t, server.URL, nil)
		two := []system.Order{title(account.Account{ID: "1", Version: "1"}, "Mate"), {Does: system.Removes, Known: account.Account{ID: "2", Version: "1"}}}
		results, err := c.Apply(t.Context(), nil, two, all)
		require.NoError(t, err)
		assert.Equal(t, want, fmt.Sprintf("%v; %v", results[0].Err, results[1].Err), answer)
		if strings.Contains(answer, "501") {
			for range 2 {
				_, err = c.Apply(t.Context(), nil, two, all)
				require.NoError(t, err)
			}
			assert.Equal(t, []int{2, 6}, []int{bulks, alone}, "what it takes only by itself is not tried a third time")
			about, err := c.Describe(t.Context())
			require.NoError(t, err)
			assert.Equal(t, []system.Verb{system.Creates, system.Renews}, about.Can.Together)
		}
	}
}

// What a server says is told without secrets in it, also where it is cut in the middle of
// one, and in the server's own words whatever form they have.
func TestWhatTheServerSays(t *testing.T) {
	for body, want := range map[string]string{
		`{"detail":"not today"}`:                        "not today",
		`{"errors":[{"code":7,"message":"not today"}]}`: "not today",
		`{"error":{"title":"not today"}}`:               "not today",
		`{"Message":"not today"}`:                       "not today",
		`{"why":"not today"}`:                           `{"why":"not today"}`,
		``:                                              "Bad Request",
		`{"detail":"` + strings.Repeat("x", 297) + `to-be-hidden-always"}`: strings.Repeat("x", 297) + "(h",
	} {
		c := odd(t, func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodPost {
				nobody(w)
				return
			}
			w.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(w, body)
		}, func(config *scim.Config) { config.Mask = secret.NewMask("to-be-hidden-always") })
		_, err := systemtest.Create(t.Context(), nil, c, account.Account{Fields: fields("userName", "ana"), Password: "a-new-password"}, all)
		var refusal *system.Refusal
		require.ErrorAs(t, err, &refusal, body)
		assert.Contains(t, err.Error(), "(POST /Users answered 400); the system says: "+want)
		assert.NotContains(t, err.Error(), "to-be")
	}
}

// Changes are sent whole where the configuration says so; an identifier elsewhere is a field
// of every server, and where one tells nothing, a user name has to be there.
func TestWhatIsAssumed(t *testing.T) {
	c, log := practice(t, standin.Options{}, func(config *scim.Config) { config.NoPatch = true })
	made, err := systemtest.Create(t.Context(), nil, c, account.Account{Fields: fields("userName", "ana", "externalId", "x-7")}, []string{"externalId", "title"})
	require.NoError(t, err)
	assert.Equal(t, "x-7", made.Field("externalId").Text())
	_, err = system.Change(t.Context(), nil, c, made, []account.Change{{Field: "title", After: account.Of("Mate")}}, all)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1}, []int{log.to("PATCH"), log.to("PUT")})
	quiet := odd(t, func(w http.ResponseWriter, _ *http.Request) { nobody(w) })
	schema, err := quiet.Describe(t.Context())
	require.NoError(t, err)
	name, _ := schema.Attribute("userName")
	assert.True(t, name.Required)
	_, known := schema.Attribute("externalId")
	assert.True(t, known)
	var refusal *system.Refusal
	_, err = system.Change(t.Context(), nil, quiet, account.Account{ID: "1"}, []account.Change{{Field: "urn:x:shoe", After: account.Of("44")}}, nil)
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, account.UnknownField, refusal.Code)
	for _, id := range []string{"..", "a/../b", ".", " ", `a\..`} {
		_, err = quiet.Get(t.Context(), id, nil)
		require.ErrorAs(t, err, &refusal, "%q is not put into an address", id)
	}
}

// A server that says a list would be too much is asked for less at a time.
func TestTooMany(t *testing.T) {
	var asked sync.Mutex // several pages are asked for at once
	counts := []string{}
	c := odd(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		start, count := 1, 1
		_, _ = fmt.Sscan(r.URL.Query().Get("startIndex"), &start)
		_, _ = fmt.Sscan(r.URL.Query().Get("count"), &count)
		asked.Lock()
		counts = append(counts, fmt.Sprint(count))
		asked.Unlock()
		if count > 25 {
			w.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(w, `{"scimType":"tooMany","detail":"too many"}`)
			return
		}
		list := []any{}
		for i := start; i < min(start+count, 61); i++ {
			list = append(list, map[string]any{"id": i, "userName": fmt.Sprint("crew", i)})
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": 60, "Resources": list})
	}, func(config *scim.Config) { config.Page = 100 })
	n := 0
	for _, err := range c.List(t.Context(), []string{"userName"}) {
		require.NoError(t, err)
		n++
	}
	assert.Equal(t, 60, n, "%v", counts)
}

// Others make and remove accounts while all are listed, and pages that are asked for together are answered in any order: who
// was there all the time is given, once. A server that keeps some to itself is told.
func TestListingWhileOthersWork(t *testing.T) {
	for name, c := range map[string]struct {
		meanwhile func(ids []string, n int) []string // with each request
		keeps     int
		complete  bool
	}{
		"nobody else is at it": {func(ids []string, _ int) []string { return ids }, 0, true},
		"made at the end":      {func(ids []string, n int) []string { return append(ids, fmt.Sprintf("9%04d", n)) }, 0, true},
		"made in the midst": {func(ids []string, n int) []string {
			return slices.Insert(ids, n*7%len(ids), fmt.Sprintf("new%d", n))
		}, 0, true},
		"removed at the head": {func(ids []string, n int) []string { return ids[min(n%3, 2):] }, 0, true},
		"removed and made": {func(ids []string, n int) []string {
			return slices.Insert(slices.Delete(ids, n*5%20, n*5%20+3), n*11%300, fmt.Sprintf("new%d", n))
		}, 0, true},
		"keeps some to itself": {func(ids []string, _ int) []string { return ids }, 10, false},
		"another order each time": {func(ids []string, _ int) []string {
			rand.Shuffle(len(ids), func(i, j int) { ids[i], ids[j] = ids[j], ids[i] })
			return ids
		}, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			var mu sync.Mutex
			ids, n := []string{}, 0
			for i := range 1200 {
				ids = append(ids, fmt.Sprintf("%05d", i))
			}
			client := odd(t, func(w http.ResponseWriter, r *http.Request) {
				start, count := 1, 1
				_, _ = fmt.Sscan(r.URL.Query().Get("startIndex"), &start)
				_, _ = fmt.Sscan(r.URL.Query().Get("count"), &count)
				time.Sleep(time.Duration(rand.IntN(3)) * time.Millisecond)
				mu.Lock()
				list := []any{}
				start = max(start-1, 0)
				for _, id := range ids[min(start, len(ids)-c.keeps):min(start+count, len(ids)-c.keeps)] {
					list = append(list, map[string]any{"id": id, "userName": id})
				}
				total := len(ids)
				if n++; len(ids) > 600 && len(ids) < 1800 && n > 6 {
					ids = c.meanwhile(slices.Clone(ids), n)
				}
				mu.Unlock()
				w.Header().Set("Content-Type", "application/json")
				_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": total, "Resources": list})
			}, func(config *scim.Config) { config.Page = 20 })
			given, times := map[string]bool{}, 0
			for a, err := range client.List(t.Context(), []string{"userName"}) {
				if !c.complete && err != nil {
					assert.ErrorContains(t, err, "GET /Users: ")
					return
				}
				require.NoError(t, err)
				given[a.ID] = true
				times++
			}
			require.True(t, c.complete)
			assert.Len(t, given, times, "each is given once")
			mu.Lock() // what was asked for ahead may still be answered
			defer mu.Unlock()
			for _, id := range ids { // of those who were there from the first, who are left
				assert.True(t, given[id] || strings.HasPrefix(id, "9") || strings.HasPrefix(id, "new"), id)
			}
		})
	}
}

// Others begin to make accounts as it is found out whether totals are those of all pages: they are, and counting does not run after
// what is made for as long as somebody makes it.
func TestCountingWhileOthersBegin(t *testing.T) {
	for first, of := range map[int]string{0: "none yet", 1: "one", 13: "a few"} {
		var requests atomic.Int64
		client := odd(t, func(w http.ResponseWriter, r *http.Request) {
			if !strings.HasSuffix(r.URL.Path, "/Users") {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			start, count, list := 1, 1, []any{}
			_, _ = fmt.Sscan(r.URL.Query().Get("startIndex"), &start)
			_, _ = fmt.Sscan(r.URL.Query().Get("count"), &count)
			total := first + 4*int(requests.Add(1)-1)
			for i := start; i < start+count && i <= total; i++ {
				list = append(list, map[string]any{"id": fmt.Sprint(i), "userName": fmt.Sprint(i)})
			}
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": total, "Resources": list})
		})
		_, err := client.Count(t.Context())
		require.NoError(t, err)
		assert.LessOrEqual(t, requests.Load(), int64(4), of)
	}
}
