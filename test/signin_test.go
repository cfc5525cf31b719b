package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A gate stands before a practice service: it lets pass who shows a token of its token server that has not ended.
// All of them end whenever so many requests have passed.
type gate struct {
	mu            sync.Mutex
	every, passed int
	live          string
	given, asked  int // tokens; questions for one
	back          []string
	calls, listed int
	down          int // answers of the token server that are to be 503
}

func (g *gate) handler(t *testing.T, service string) http.Handler {
	to, err := url.Parse(strings.TrimSuffix(service, "/scim/v2"))
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Header.Set("Authorization", "Bearer "+token)
	}}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/token":
			g.token(w, r)
			return
		case "/revoke":
			g.mu.Lock()
			g.back = append(g.back, r.FormValue("token"))
			g.mu.Unlock()
			return
		}
		g.mu.Lock()
		may := g.live != "" && r.Header.Get("Authorization") == "Bearer "+g.live
		if may {
			if g.passed++; g.passed%g.every == 0 {
				g.live = ""
			}
		}
		switch r.URL.Path {
		case "/list.csv":
			g.listed++
		case "/call":
			g.calls++
		}
		g.mu.Unlock()
		switch {
		case !may:
			w.Header().Set("Content-Type", "application/scim+json")
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = fmt.Fprint(w, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:Error"],"status":"401","detail":"the token has ended"}`)
		case r.URL.Path == "/list.csv":
			_, _ = fmt.Fprint(w, "Login,Name\n")
			for i := range 150 {
				_, _ = fmt.Fprintf(w, "hand%03d,Hánd %d\n", i, i)
			}
		case r.URL.Path == "/call":
		default:
			proxy.ServeHTTP(w, r)
		}
	})
}

func (g *gate) token(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	who, key, _ := r.BasicAuth()
	g.asked++
	switch {
	case g.down > 0:
		g.down--
		w.WriteHeader(http.StatusServiceUnavailable)
	case who != "evenledger" || key != "key-of-the-office":
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = fmt.Fprint(w, `{"error":"invalid_client"}`)
	default:
		if g.live == "" {
			g.given++
			g.live = fmt.Sprintf("live-token-number-%d", g.given)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"access_token": g.live, "token_type": "Bearer", "expires_in": 3600})
	}
}

// A token server ends its tokens in the middle of a batch, and is away for a while: every row is done, once, of a
// list that came from behind the same gate, with a call for each; and no token, and no secret, is in what was written.
func TestTokensEndInMidBatch(t *testing.T) {
	t.Setenv("OFFICE_KEY", "key-of-the-office")
	service := practice(t)
	g := &gate{every: 40}
	server := httptest.NewServer(g.handler(t, service))
	defer server.Close()
	oauth := fmt.Sprintf("sign_in: {oauth: {token_url: %q, client: evenledger, secret: env:OFFICE_KEY, scopes: people, revoke_url: %q}}", server.URL+"/token", server.URL+"/revoke")
	f := folder{t, t.TempDir()}
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  crewdesk: {url: %q, %s}\nfeeds:\n  hr: {kind: web, url: %q, %s}\n  rota: {kind: web, url: %q, %s}\n", server.URL+"/scim/v2", oauth, server.URL+"/list.csv", oauth, server.URL+"/call", oauth))
	f.write("briefs/hands.yaml", "system: crewdesk\nmatch: [userName]\nsheet: {feed: hr}\nfields:\n  userName: {from: Login}\n  displayName: {from: Name}\nfollow_ups:\n  berth: {on: created, feed: rota, body: {login: '{userName}'}}\n")
	code, out, errOut := f.run("draft", "-b", "hands", "--trace", "draft.jsonl")
	require.Zero(t, code, out+errOut)
	assert.Regexp(t, `To create +150`, out)
	g.down = 2
	code, out, errOut = f.run("post", "1", "--yes", "--trace", "post.jsonl")
	require.Zero(t, code, out+errOut)
	assert.Regexp(t, `Created +150`, out)
	people := everybody(t, service)
	for i := range 150 {
		assert.Equal(t, 1, strings.Count(people, fmt.Sprintf(`"userName":"hand%03d"`, i)), i)
	}
	assert.Greater(t, g.given, 4, "tokens ended on the way")
	assert.Less(t, g.asked, g.given+8, "and were asked for by those who had none")
	assert.GreaterOrEqual(t, g.calls, 150, "each call was made, those that were turned away again")
	assert.NotEmpty(t, g.back, "and were given back at the end")
	traced := f.read("draft.jsonl") + f.read("post.jsonl") + out + errOut
	assert.Contains(t, traced, "/list.csv")
	assert.Contains(t, traced, `"status":401`)
	assert.NotContains(t, traced, "live-token-number")
	assert.NotContains(t, traced, "key-of-the-office")

	// A secret that is wrong is told as that, before anything is sent; so is one that cannot be had.
	t.Setenv("OFFICE_KEY", "of-another-office")
	code, _, errOut = f.run("fields", "crewdesk")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "gives no token (401): invalid_client")
	assert.Contains(t, errOut, "Look at client, secret and scopes")
	assert.NotContains(t, errOut, "of-another-office")
}

// everybody is what a practice service itself says of all its accounts.
func everybody(t *testing.T, service string) string {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, service+"/Users?count=1000", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(data)
}
