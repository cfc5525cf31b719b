package web

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/clock"
	"evenledger/internal/feed"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

func sourceOf(t *testing.T, text string) (feed.Source, error) {
	doc, err := yamldoc.Parse("evenledger.yaml", []byte(text))
	require.NoError(t, err)
	var s feed.Source
	for _, pair := range doc.Root().Pairs() {
		s = Kind().Read(reach.Part{Name: pair.Key, Dir: t.TempDir(), At: pair.At}, pair.Value)
	}
	return s, doc.Err()
}

func bring(t *testing.T, text string, last feed.Last) (string, feed.Delivery, error) {
	s, err := sourceOf(t, text)
	require.NoError(t, err)
	spool, err := feed.NewSpool(filepath.Join(t.TempDir(), "spool"), 0)
	require.NoError(t, err)
	defer spool.Close()
	d, err := s.Bring(t.Context(), spool, last, feed.Work{Mask: secret.NewMask(), Clock: clock.NewFake(time.Now()), Timeout: 5 * time.Second})
	data, _ := os.ReadFile(d.Path)
	return string(data), d, err
}

const list = "Staff no,Name\n0301,Aoife\n"

func TestFetch(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.Errorf("another host was asked: %s %s", r.URL, r.Header.Get("Authorization"))
	}))
	defer elsewhere.Close()
	var server *httptest.Server
	pages := map[string]string{ // address → body; the rest is in the handler
		"/in-pages?page=1": `{"data": {"people": [{"Staff no": "0301", "n": 12345678901234567890}]}, "paging": {"next": "/in-pages?page=2"}}`,
		"/in-pages?page=2": `{"data": {"people": [{"Staff no": "0302"}]}, "paging": {"next": null}}`,
		"/round":           `{"data": {"people": [{"a": "1"}]}, "paging": {"next": "/round"}}`,
		"/away":            `{"data": {"people": [{"a": "1"}]}, "paging": {"next": "` + elsewhere.URL + `/x"}}`,
		"/no-list":         `{"data": {"people": {"a": "1"}}}`,
		"/no-people":       `{"data": {"people": []}}`,
		"/numbered":        `{"data": {"people": [{"a": "1"}]}, "paging": {"next": 2}}`,
		"/two-in-one":      `{"data": {"people": [{"a": "1"}]}}` + "\n" + `{"data": {"people": [{"a": "2"}]}}`,
		"/broken":          `{"data": {"people": [{"a": "1"}, `,
	}
	server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at := r.URL.String()
		switch {
		case r.Header.Get("Authorization") != "Bearer harbour-pass":
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprint(w, "the token "+r.Header.Get("Authorization")+" is unknown")
		case pages[at] != "":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, pages[at])
		case at == "/starters.csv":
			w.Header().Set("ETag", `"v7"`)
			if r.Header.Get("If-None-Match") == `"v7"` {
				w.WriteHeader(http.StatusNotModified)
				return
			}
			w.Header().Set("Content-Encoding", "gzip")
			packed := gzip.NewWriter(w)
			fmt.Fprint(packed, list)
			_ = packed.Close()
		case at == "/moved":
			http.Redirect(w, r, "/starters.csv", http.StatusFound)
		case at == "/sent-away":
			http.Redirect(w, r, elsewhere.URL+"/starters.csv", http.StatusFound)
		case at == "/linked":
			w.Header().Set("Link", `</linked?first>; rel="first", </linked?p=2>; title="a, b"; rel="next last"`)
			w.Header().Set("Content-Type", "application/json; charset=utf-8")
			fmt.Fprint(w, `[{"a": "1"}]`)
		case at == "/linked?p=2":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `[{"a": "2"}]`)
		case at == "/page":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>sign in")
		case at == "/cut":
			w.Header().Set("Content-Length", "1000")
			fmt.Fprint(w, list)
		case at == "/named":
			w.Header().Set("Content-Disposition", `attachment; filename="../../week 9.csv"`)
			fmt.Fprint(w, list)
		case at == "/busy":
			w.Header().Set("Retry-After", "30")
			w.WriteHeader(http.StatusTooManyRequests)
		case at == "/packed-otherwise":
			w.Header().Set("Content-Encoding", "br")
			fmt.Fprint(w, "?")
		case at == "/empty":
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	defer server.Close()
	t.Setenv("TOKEN", "harbour-pass")
	const people = ", rows: data.people, next: paging.next"
	for name, test := range map[string]struct{ at, more, want, called, says string }{
		"as it is":         {at: "/starters.csv", want: list, called: "starters.csv"},
		"sent on":          {at: "/moved", want: list, called: "starters.csv"},
		"named":            {at: "/named", want: list, called: "week 9.csv"},
		"pages":            {at: "/in-pages?page=1", more: people, want: "{\"Staff no\":\"0301\",\"n\":12345678901234567890}\n{\"Staff no\":\"0302\"}\n", called: "crewing.jsonl"},
		"linked pages":     {at: "/linked", want: "{\"a\":\"1\"}\n{\"a\":\"2\"}\n", called: "crewing.jsonl"},
		"sent away":        {at: "/sent-away", says: "it sends us on to http://127.0.0.1"},
		"pages elsewhere":  {at: "/away", more: people, says: "is not followed"},
		"pages in a round": {at: "/round", more: people, says: "have no end"},
		"no list":          {at: "/no-list", more: people, says: "has no list at “data.people”"},
		"no people":        {at: "/no-people", more: people, says: "the list is empty"},
		"pages by number":  {at: "/numbered", more: people, says: "has no address at “paging.next”, but something else"},
		"two in one":       {at: "/two-in-one", more: people, says: "something follows the end of a page"},
		"broken":           {at: "/broken", more: people, says: "broke off"},
		"cut":              {at: "/cut", says: "broke off"},
		"a page":           {at: "/page", says: "a page for people"},
		"empty":            {at: "/empty", says: "the answer is empty"},
		"nothing there":    {at: "/nowhere?key=hunter2", says: "answers 404"},
		"busy":             {at: "/busy", says: "answers 429"},
		"packed otherwise": {at: "/packed-otherwise", says: "packed as br"},
	} {
		t.Run(name, func(t *testing.T) {
			text, d, err := bring(t, fmt.Sprintf("crewing: {url: %q, token: env:TOKEN%s}", server.URL+test.at, test.more), feed.Last{})
			if test.says != "" {
				require.ErrorContains(t, err, test.says)
				assert.NotContains(t, err.Error(), "hunter2", "what stands behind a question mark may be a key")
				return
			}
			require.NoError(t, err)
			assert.Equal(t, test.want, text)
			assert.Equal(t, test.called, d.Name)
		})
	}

	right := fmt.Sprintf("crewing: {url: %q, token: env:TOKEN}", server.URL+"/starters.csv")
	_, d, err := bring(t, right, feed.Last{})
	require.NoError(t, err)
	var nothing *feed.Nothing
	_, _, err = bring(t, right, feed.Last{Delivery: d})
	require.ErrorAs(t, err, &nothing)
	assert.True(t, nothing.Same)
	_, _, err = bring(t, right, feed.Last{Delivery: d, Again: true})
	require.NoError(t, err)

	t.Setenv("TOKEN", "wrong-pass")
	_, _, err = bring(t, right, feed.Last{})
	require.ErrorContains(t, err, "answers 401")
	assert.NotContains(t, err.Error(), "wrong-pass")
}

// TLS is verified, and what evenledger.yaml says wrongly is told where it stands.
func TestSecureAndMistakes(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "ana" || password != "quay-pass" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		fmt.Fprint(w, list)
	}))
	defer server.Close()
	server.Config.ErrorLog = nil
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600))
	t.Setenv("QUAY", "quay-pass")
	_, _, err := bring(t, fmt.Sprintf("crewing: {url: %q, user: ana, password: env:QUAY}", server.URL+"/x.csv"), feed.Last{})
	assert.ErrorContains(t, err, "does not verify")
	text, _, err := bring(t, fmt.Sprintf("crewing: {url: %q, user: ana, password: env:QUAY, ca: %s}", server.URL+"/x.csv", ca), feed.Last{})
	require.NoError(t, err)
	assert.Equal(t, list, text)
	for text, says := range map[string]string{
		"crewing: {token: env:T}":                                             "does not say where it is",
		"crewing: {url: 'http://hr.example/x'}":                               "in clear to hr.example",
		"crewing: {url: 'https://ana:pw@hr.example/x'}":                       "has a user name or password in it",
		"crewing: {url: 'sftp://hr.example/x'}":                               "not the address of a server",
		"crewing: {url: 'https://h/x', user: ana}":                            "only one of user and password",
		"crewing: {url: 'https://h/x', token: abc}":                           "secrets do not stand here",
		"crewing: {url: 'https://h', token: env:T, user: a, password: env:P}": "both a token and a user",
	} {
		_, err := sourceOf(t, text)
		assert.ErrorContains(t, err, says)
	}
}

// Whatever a Link header holds, its next is one of the addresses in it.
func FuzzNext(f *testing.F) {
	for _, seed := range []string{`<a>; rel=next`, `<a>; rel="prev", <b>; rel="x next"`, `<<>;rel=next,`, `;;<`, `<a>;rel="next`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, link string) {
		next := nextOf(http.Header{"Link": {link}})
		assert.True(t, next == "" || strings.Contains(link, next))
		assert.False(t, bytes.ContainsAny([]byte(next), "<>") && !strings.Contains(link, "<"))
	})
}

// A call is sent once, and its answer told for what it is.
func TestCall(t *testing.T) {
	var calls atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		var body map[string]string
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&body))
		assert.Equal(t, []string{"POST", "Bearer harbour-pass", "17.2.badge"}, []string{r.Method, r.Header.Get("Authorization"), r.Header.Get("Idempotency-Key")})
		switch code, _ := strconv.Atoi(body["answer"]); code {
		case 0:
			connection, _, err := w.(http.Hijacker).Hijack()
			if assert.NoError(t, err) {
				_ = connection.Close()
			}
		case 302:
			http.Redirect(w, r, "/elsewhere", code)
		default:
			if code == http.StatusTooManyRequests {
				w.Header().Set("Retry-After", "7")
			}
			w.WriteHeader(code)
			if body["silent"] != "" { // in the middle of its answer
				w.(http.Flusher).Flush()
				<-r.Context().Done()
			}
			fmt.Fprint(w, "as the test has it")
		}
	}))
	defer server.Close()
	t.Setenv("TOKEN", "harbour-pass")
	s, err := sourceOf(t, fmt.Sprintf("gate: {url: %q, token: env:TOKEN}", server.URL))
	require.NoError(t, err)
	var no *feed.Refused
	var down *reach.Unavailable
	unclear := func(err error) bool { return errors.Is(err, feed.ErrUnclear) }
	refused := func(err error) bool { return errors.As(err, &no) }
	away := func(err error) bool { return errors.As(err, &down) }
	busy := func(err error) bool {
		var later *feed.Later
		return errors.As(err, &later) && later.After == 7*time.Second
	}
	for answer, check := range map[string]func(error) bool{
		"200": func(err error) bool { return err == nil }, "201": func(err error) bool { return err == nil }, "204": func(err error) bool { return err == nil },
		"202": unclear, "500": unclear, "504": unclear, "408": unclear, "0": unclear, "400": refused, "409": refused, "429": busy, "503": refused, "302": refused, "401": away,
	} {
		before := calls.Load()
		err := done(t, s, feed.Order{Body: map[string]string{"answer": answer}, Key: "17.2.badge"}, feed.Work{Mask: secret.NewMask(), Clock: clock.Real(), Timeout: 5 * time.Second})
		assert.True(t, check(err), "%s: %v", answer, err)
		assert.Equal(t, before+1, calls.Load(), answer)
	}
	for answer, check := range map[string]func(error) bool{"200": func(err error) bool { return err == nil }, "400": refused} {
		err := done(t, s, feed.Order{Body: map[string]string{"answer": answer, "silent": "yes"}, Key: "17.2.badge"}, feed.Work{Mask: secret.NewMask(), Clock: clock.Real(), Timeout: time.Second})
		assert.True(t, check(err), "%s: %v", answer, err)
	}
	server.Close()
	assert.True(t, away(done(t, s, feed.Order{}, feed.Work{Mask: secret.NewMask(), Clock: clock.Real(), Timeout: 5 * time.Second})))
}

// done carries an order out where a source is.
func done(t *testing.T, s feed.Source, order feed.Order, work feed.Work) error {
	place, err := s.(feed.Doer).Open(work)
	require.NoError(t, err)
	defer place.Close()
	return place.Do(t.Context(), order)
}
