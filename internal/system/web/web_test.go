package web_test

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/secret"
	"evenledger/internal/standin/mooring"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
	"evenledger/internal/system/web"
)

// described is a description of the tests.
func described(t *testing.T, name string) *description.Interface {
	path := filepath.Join("testdata", strings.TrimSuffix(name, ownBodies)+".yaml")
	i, err := description.Load(path, "2026-11-30")
	require.NoError(t, err)
	if !strings.HasSuffix(name, ownBodies) {
		return i
	}
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	i, err = description.Parse(name, []byte(strings.NewReplacer(
		"create: {post: /people, key: Idempotency-Key}", `create: {post: /people, body: {login: "{userName}", name: {first: "{givenName}"}, contacts: []}}`,
		`change: {patch: "/people/{id}", body: merge, content: application/merge-patch+json}`, `change: [{fields: [givenName, familyName], patch: "/people/{id}", body: {name: {first: "{givenName}", last: "{familyName}"}}}, {patch: "/people/{id}", body: merge}]`,
	).Replace(string(text))), "2026-11-30")
	require.NoError(t, err)
	i.Together = nil
	return i
}

// ownBodies ends the name of a description whose requests have bodies of their own, which do not send all fields.
const ownBodies = " by templates"

// reach opens what a server serves.
func reach(t *testing.T, name, url string, change func(*description.Interface)) *web.Client {
	i := described(t, name)
	if change != nil {
		change(i)
	}
	c, err := web.New(web.Config{Interface: i, Config: httpdial.Config{URL: url, Credential: httpdial.Bearer("token-of-tests"), Together: 4, Timeout: 5 * time.Second, Pause: time.Millisecond, Mask: secret.NewMask()}})
	require.NoError(t, err)
	return c
}

// The promises of a system are kept against two applications that have nothing in common, with each one's answers lost now and then.
func TestSystem(t *testing.T) {
	for name, serve := range map[string]struct {
		description, base string
		handler           func() http.Handler
		change            func(*description.Interface)
	}{
		"mooring": {"mooring", "/api", func() http.Handler { return mooring.New(mooring.Options{Token: "token-of-tests", Page: 30}) }, func(i *description.Interface) { i.Create.Key = "" }},
		"mooring with jobs": {"mooring", "/api", func() http.Handler {
			return mooring.New(mooring.Options{Token: "token-of-tests", Jobs: 10 * time.Millisecond})
		}, func(i *description.Interface) { i.Together, i.Create.Key = nil, "" }},
		"mooring" + ownBodies: {"mooring" + ownBodies, "/api", func() http.Handler { return mooring.New(mooring.Options{Token: "token-of-tests"}) }, nil},
		"dock":                {"dock", "", func() http.Handler { return newDock() }, nil},
	} {
		t.Run(name, func(t *testing.T) {
			systemtest.Run(t, systemtest.Person(), func(t *testing.T) system.System {
				server := httptest.NewServer(serve.handler())
				t.Cleanup(server.Close)
				listener, err := net.Listen("tcp", "127.0.0.1:0")
				require.NoError(t, err)
				at := listener.Addr().String()
				require.NoError(t, listener.Close())
				line := systemtest.NewLine(t, "tcp", strings.TrimPrefix(server.URL, "http://"), at)
				return systemtest.Lossy{System: reach(t, serve.description, "http://"+at+serve.base, serve.change), Line: line, Work: 50 * time.Millisecond, Looks: name == "dock"}
			})
		})
	}
}

// A dock is an application that shares no habit with the other: numbers for identifiers, pages by offset, everything sent whole,
// ties that are things of their own, errors in what it calls a success, and others as plain text.
type dock struct {
	mu    sync.Mutex
	last  int
	staff []map[string]any
	gangs []map[string]any
	ties  []map[string]any
}

func newDock() *dock { return &dock{last: 9007199254740993} }

func (d *dock) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r.Header.Get("Authorization") != "Bearer token-of-tests" {
		http.Error(w, "go away", http.StatusUnauthorized)
		return
	}
	var body map[string]any
	decoder := json.NewDecoder(r.Body)
	decoder.UseNumber()
	_ = decoder.Decode(&body)
	say := func(v any) { w.Header().Set("Content-Type", "application/json"); _ = json.NewEncoder(w).Encode(v) }
	wrong := func(code, text, about string) {
		say(map[string]any{"error": map[string]any{"code": code, "text": text, "about": about}})
	}
	of := func(list []map[string]any, key, value string) int {
		return slices.IndexFunc(list, func(one map[string]any) bool { return strings.EqualFold(description.Text(one[key]), value) })
	}
	nr := r.FormValue("nr")
	switch at := r.Method + " " + r.URL.Path; {
	case at == "GET /staff":
		skip, _ := strconv.Atoi(r.FormValue("skip"))
		size, _ := strconv.Atoi(r.FormValue("size"))
		skip = min(skip, len(d.staff))
		say(map[string]any{"rows": append([]map[string]any{}, d.staff[skip:min(skip+size, len(d.staff))]...)})
	case at == "POST /staff/search":
		rows := []map[string]any{}
		if i := of(d.staff, "user", r.URL.Query().Get("user")); i >= 0 {
			rows = append(rows, d.staff[i])
		}
		say(map[string]any{"rows": rows})
	case at == "POST /staff", at == "PUT /staff/one":
		i := of(d.staff, "nr", nr)
		other := of(d.staff, "user", description.Text(body["user"]))
		switch {
		case r.Method == http.MethodPut && i < 0:
			wrong("none", "nobody has this number", "")
		case body["user"] == nil:
			http.Error(w, "a user, please", http.StatusBadRequest)
		case other >= 0 && other != i:
			wrong("dup", "that user is somebody", "user")
		case i >= 0 && description.Text(body["stamp"]) != description.Text(d.staff[i]["stamp"]):
			http.Error(w, "too late", http.StatusPreconditionFailed)
		default:
			d.last++
			body["stamp"] = d.last
			if i < 0 {
				body["nr"], i = d.last, len(d.staff)
				d.staff = append(d.staff, nil)
			}
			d.staff[i] = body
			say(map[string]any{"row": body})
		}
	case at == "GET /staff/one":
		if i := of(d.staff, "nr", nr); i >= 0 {
			say(map[string]any{"row": d.staff[i]})
		} else {
			wrong("none", "nobody has this number", "")
		}
	case at == "POST /staff/drop":
		i := of(d.staff, "nr", description.Text(body["nr"]))
		if i < 0 {
			wrong("none", "nobody has this number", "")
			return
		}
		d.staff = slices.Delete(d.staff, i, i+1)
		say(map[string]any{"ok": true})
	case at == "GET /gangs":
		say(append([]map[string]any{}, d.gangs...))
	case at == "POST /gangs":
		d.last++
		d.gangs = append(d.gangs, map[string]any{"gang": d.last, "label": body["label"]})
		w.WriteHeader(http.StatusNoContent)
	case strings.HasPrefix(at, "DELETE /gangs/"):
		i := of(d.gangs, "gang", filepath.Base(at))
		if i < 0 {
			http.NotFound(w, r)
			return
		}
		d.gangs = slices.Delete(d.gangs, i, i+1)
		w.WriteHeader(http.StatusNoContent)
	case at == "GET /ties":
		all := []map[string]any{}
		for _, tie := range d.ties {
			if description.Text(tie["gang"]) == r.FormValue("gang") {
				all = append(all, tie)
			}
		}
		say(all)
	case at == "POST /ties":
		if of(d.gangs, "gang", description.Text(body["gang"])) < 0 {
			http.NotFound(w, r)
			return
		}
		d.last++
		body["tie"] = d.last
		d.ties = append(d.ties, body)
		w.WriteHeader(http.StatusNoContent)
	case strings.HasPrefix(at, "DELETE /ties/"):
		i := of(d.ties, "tie", filepath.Base(at))
		if i < 0 {
			http.NotFound(w, r)
			return
		}
		d.ties = slices.Delete(d.ties, i, i+1)
		w.WriteHeader(http.StatusNoContent)
	default:
		http.NotFound(w, r)
	}
}
