package web_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/secret"
	"evenledger/internal/standin/mooring"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
	"evenledger/internal/system/web"
)

// odd opens an application that answers each request as a test says, by a description.
func odd(t *testing.T, text string, answer func(w http.ResponseWriter, r *http.Request)) *web.Client {
	server := httptest.NewServer(http.HandlerFunc(answer))
	t.Cleanup(server.Close)
	i, err := description.Parse("odd.yaml", []byte(text), "2026-11-30")
	require.NoError(t, err)
	c, err := web.New(web.Config{Interface: i, Config: httpdial.Config{URL: server.URL, Credential: httpdial.Bearer("token-of-tests"), Together: 2, Timeout: 2 * time.Second, Tries: 2, Pause: time.Millisecond, Mask: secret.NewMask()}})
	require.NoError(t, err)
	return c
}

const plain = `account: {id: id, fields: {userName: login, email: {list: mails, where: {kind: work}, value: value}, title: job.title}}
read: {get: "/people/{id}"}
create: {post: /people}
change: {patch: "/people/{id}", body: merge}
remove: {delete: "/people/{id}"}
`

func list(c *web.Client) (names []string, err error) {
	for a, err := range c.List(context.Background(), []string{"userName"}) {
		if err != nil {
			return names, err
		}
		names = append(names, a.Field("userName").Text())
	}
	return names, nil
}

// people writes a page of people with these numbers.
func people(numbers ...int) string {
	var all []string
	for _, n := range numbers {
		all = append(all, fmt.Sprintf(`{"id":%d,"login":"p%d"}`, n, n))
	}
	return "[" + strings.Join(all, ",") + "]"
}

// A listing is whole, or an error: pages that come again, shrink, lead elsewhere or are no list are told.
func TestListings(t *testing.T) {
	for name, c := range map[string]struct {
		list string
		page func(n int, r *http.Request) string // the nth answer; of a status first, if it is not 200
		want string                              // names, or what the error says
		fail bool
	}{
		"one page": {"items: .", func(int, *http.Request) string { return people(1, 2) }, "p1 p2", false},
		"by cursor": {"items: d, next: {cursor: n, as: c}", func(_ int, r *http.Request) string {
			return map[string]string{"": `{"d":` + people(1) + `,"n":"x y"}`, "x y": `{"d":` + people(2) + `,"n":null}`}[r.FormValue("c")]
		}, "p1 p2", false},
		"the same cursor": {"items: d, next: {cursor: n, as: c}", func(n int, _ *http.Request) string { return `{"d":` + people(n) + `,"n":"x"}` }, "a page that came before", true},
		"the same page":   {"items: d, next: {cursor: n, as: c}", func(n int, _ *http.Request) string { return `{"d":` + people(1) + fmt.Sprintf(`,"n":"%d"}`, n) }, "a page that came before", true},
		"by link": {"items: ., next: {link: true}", func(n int, _ *http.Request) string {
			return map[int]string{1: "link:/next?p=2 " + people(1), 2: people(2)}[n]
		}, "p1 p2", false},
		"a link elsewhere": {"items: ., next: {link: true}", func(int, *http.Request) string { return "link:http://elsewhere.example/next " + people(1) }, "which is not its own", true},
		"by address": {"items: d, next: {address: n}", func(n int, _ *http.Request) string {
			return map[int]string{1: `{"d":` + people(1) + `,"n":"?p=2"}`, 2: `{"d":` + people(2) + `}`}[n]
		}, "p1 p2", false},
		"by page": {"items: ., next: {page: p}", func(_ int, r *http.Request) string {
			return map[string]string{"1": people(1, 2), "2": people(3), "3": "[]"}[r.FormValue("p")]
		}, "p1 p2 p3", false},
		"by page for ever": {"items: ., next: {page: p}", func(int, *http.Request) string { return people(1, 2) }, "a page that came before", true},
		"by page, one is left": {"items: ., next: {page: p}", func(n int, r *http.Request) string {
			return map[string]string{"1": people(1, 2), "2": people(3+n, 4+n), "3": people(5+n, 60), "4": "[]"}[r.FormValue("p")]
		}, "something else each time", true},
		"by offset": {"items: ., next: {offset: o}", func(_ int, r *http.Request) string {
			return map[string]string{"0": people(1, 2), "1": people(2, 3), "2": people(3)}[r.FormValue("o")]
		}, "p1 p2 p3", false},
		"somebody goes": {"items: ., next: {offset: o}", func(n int, r *http.Request) string {
			if n == 1 {
				return people(1, 2)
			}
			return map[string]string{"0": people(2, 3), "1": people(3, 4), "2": people(4)}[r.FormValue("o")]
		}, "p1 p2 p3 p4", false},
		"fewer than it says": {"items: d, total: t", func(int, *http.Request) string { return `{"d":` + people(1) + `,"t":3}` }, "it has 3 to list but gave only 1", true},
		"no number":          {"items: d, total: t", func(int, *http.Request) string { return `{"d":[],"t":"many"}` }, "no number at t", true},
		"no list":            {"items: d", func(int, *http.Request) string { return `{"d":{"id":1}}` }, "no list at d", true},
		"it changes its shape": {"items: d, next: {cursor: n, as: c}", func(n int, _ *http.Request) string {
			return map[int]string{1: `{"d":` + people(1) + `,"n":"2"}`, 2: `{"rows":[]}`}[n]
		}, "no list at d", true},
		"nobody has a name": {"items: .", func(int, *http.Request) string { return `[{"id":1,"nick":"ana"},{"id":2,"nick":"tom"}]` }, "2 accounts, and nobody has a userName at login", true},
		"without an id":     {"items: .", func(int, *http.Request) string { return `[{"login":"x"}]` }, "has no id", true},
		"a web page":        {"items: .", func(int, *http.Request) string { return "<html>sign in</html>" }, "a web page where JSON was expected", true},
		"a redirect":        {"items: .", func(int, *http.Request) string { return "302 " }, "redirects", true},
		"no right":          {"items: .", func(int, *http.Request) string { return `403 {"title":"No","detail":"not for you: token-of-tests"}` }, "does not let us read (403): not for you", true},
		"who":               {"items: .", func(int, *http.Request) string { return `401 {}` }, "turns us away (401)", true},
		"broken":            {"items: .", func(int, *http.Request) string { return `500 {"error":{"message":"no disk"}}` }, "cannot answer (500): no disk", true},
		"more than can be":  {"items: .", func(int, *http.Request) string { return "[" + strings.Repeat(`{"id":1},`, 2_500_000) + `{"id":1}]` }, "more than can be read at once", true},
	} {
		t.Run(name, func(t *testing.T) {
			var n atomic.Int32
			var at string
			client := odd(t, plain+"list: {get: /people, "+c.list+"}\n", func(w http.ResponseWriter, r *http.Request) {
				text := c.page(int(n.Add(1)), r)
				if rest, is := strings.CutPrefix(text, "link:"); is {
					at, text, _ = strings.Cut(rest, " ")
					w.Header().Add("Link", `<`+at+`>; title="a, b"; rel="last next"`)
				}
				if status, rest, cut := strings.Cut(text, " "); cut && len(status) == 3 {
					var code int
					_, _ = fmt.Sscan(status, &code)
					w.Header().Set("Location", "https://elsewhere.example/")
					w.WriteHeader(code)
					text = rest
				}
				fmt.Fprint(w, text)
			})
			names, err := list(client)
			if c.fail {
				require.Error(t, err, names)
				assert.Contains(t, err.Error(), c.want)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, strings.Join(names, " "))
		})
	}
}

// Who has seen enough of a list is given no more of it, nor an error about what was not seen.
func TestEnoughOfAList(t *testing.T) {
	const more = "list: {get: /people, items: .}\nfind: {get: /people, items: ., by: {title: q}}\nthings: {groups: {list: {get: /people, items: .}, id: id, name: nick, members: {get: /people, query: {of: \"{thing}\"}, items: ., account: id}, join: {put: \"/{thing}/{account}\"}, leave: {delete: \"/{thing}/{account}\"}}}\n"
	client := odd(t, plain+more, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `[{"id":1,"nick":"ana"},{"id":2,"nick":"tom"}]`)
	})
	seen := 0
	for _, err := range client.List(t.Context(), []string{"userName"}) {
		require.NoError(t, err)
		seen++
		break
	}
	for _, err := range client.Things(t.Context(), "groups", false) {
		require.NoError(t, err)
		seen++
		break
	}
	for _, err := range client.Members(t.Context(), "groups", nil) {
		require.NoError(t, err)
		seen++
		break
	}
	assert.Equal(t, 3, seen)
}

// What a finding says is believed only where it was seen to find, and to look.
func TestFindingIsNotBelieved(t *testing.T) {
	all := []string{"ana", "tom", "mei"}
	for name, c := range map[string]struct {
		find  string
		finds func(r *http.Request) []string
		ok    bool
	}{
		"it finds":                {"by: {userName: q}", func(r *http.Request) []string { return []string{r.FormValue("q")} }, true},
		"several, repeated":       {"by: {userName: q}, repeat: true, most: 3", func(r *http.Request) []string { return r.URL.Query()["q"] }, true},
		"several, joined":         {"by: {userName: q}, join: \",\", most: 3", func(r *http.Request) []string { return strings.Split(r.FormValue("q"), ",") }, true},
		"it looks at nothing":     {"by: {userName: q}", func(*http.Request) []string { return all }, false},
		"it finds nobody":         {"by: {userName: q}", func(*http.Request) []string { return nil }, false},
		"only the first of them":  {"by: {userName: q}, repeat: true, most: 3", func(r *http.Request) []string { return r.URL.Query()["q"][:1] }, false},
		"another is nobody there": {"by: {userName: q}", func(r *http.Request) []string { return []string{strings.ToUpper(r.FormValue("q"))[:1]} }, false},
	} {
		t.Run(name, func(t *testing.T) {
			client := odd(t, plain+"list: {get: /people, items: .}\nfind: {get: /found, items: ., "+c.find+"}\n", func(w http.ResponseWriter, r *http.Request) {
				names := all
				if r.URL.Path == "/found" {
					names = c.finds(r)
				}
				found := []any{}
				for i, known := range all {
					for _, name := range names {
						if name == known {
							found = append(found, map[string]any{"id": i, "login": known})
						}
					}
				}
				_ = json.NewEncoder(w).Encode(found)
			})
			about, err := client.Describe(t.Context())
			require.NoError(t, err)
			require.Positive(t, about.Can.Finds)
			got := map[string]bool{}
			way, err := system.Fetch(t.Context(), client, map[string][]string{"userName": {"tom", "mei", "nobody"}}, []string{"userName"}, 1, func(a account.Account) { got[a.Field("userName").Text()] = true })
			require.NoError(t, err)
			assert.Equal(t, !c.ok, way.Listed)
			assert.True(t, got["tom"] && got["mei"])
		})
	}
}

// What an answer to a change means, in the application's words and at the field that it names.
func TestAnswers(t *testing.T) {
	const answers = `list: {get: /people, items: .}
answers: {failed: has(body.fault), taken: 'status == 409 || has(body.fault) && body.fault == "dup"', unclear: status == 299}
`
	for name, c := range map[string]struct {
		status int
		kind   string
		body   string
		code   account.Code // of a refusal; empty: it is unclear
		field  string
		says   string
	}{
		"a problem":              {422, "", `{"title":"Wrong","detail":"that cannot be","errors":[{"pointer":"#/mails/0/value","detail":"no address"}]}`, account.SystemRefused, "email", "that cannot be; no address"},
		"taken":                  {409, "", `{"errors":[{"field":"login","message":"somebody has it"}]}`, account.TakenValue, "userName", "somebody has it"},
		"an error in a success":  {200, "", `{"fault":"dup","message":"ana is somebody"}`, account.TakenValue, "", "ana is somebody"},
		"another one":            {200, "", `{"fault":"no","message":"not today"}`, account.SystemRefused, "", "not today"},
		"in plain words":         {400, "text/plain", "no such berth", account.SystemRefused, "", "no such berth"},
		"a page":                 {404, "text/html", "<html><style>x</style>not here</html>", "", "", "has nothing there (404): not here"},
		"nothing is shown":       {201, "", "", "", "", "no account that can be read"},
		"a success of a proxy":   {200, "text/html", "<html>welcome</html>", "", "", "a web page"},
		"somebody without an id": {201, "", `{"login":"ana"}`, "", "", "no account that can be read"},
		"taken in":               {202, "", `{}`, "", "", "(202)"},
		"said to be unclear":     {299, "", `{}`, "", "", "does not say whether it is done"},
		"broken":                 {502, "", `{"message":"gone"}`, "", "", "gone"},
		"no right":               {403, "", `{"message":"not you"}`, account.SystemRefused, "", "we have no right to do this"},
	} {
		t.Run(name, func(t *testing.T) {
			var posts atomic.Int32
			client := odd(t, plain+answers, func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodPost {
					posts.Add(1)
				}
				if c.kind != "" {
					w.Header().Set("Content-Type", c.kind)
				}
				w.WriteHeader(c.status)
				fmt.Fprint(w, c.body)
			})
			_, err := systemtest.Create(t.Context(), nil, client, account.Account{Fields: map[string]account.Value{"userName": account.Of("ana"), "email": account.Of("a@x")}}, []string{"userName"})
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.EqualValues(t, 1, posts.Load(), "it is sent once")
			var refusal *system.Refusal
			var unclear *system.Unclear
			var away *system.Unavailable
			if c.code != "" {
				require.ErrorAs(t, err, &refusal)
				assert.Equal(t, []string{string(c.code), c.field}, []string{string(refusal.Code), refusal.Field})
				return
			}
			assert.True(t, errors.As(err, &unclear) || errors.As(err, &away), "%T", err)
		})
	}
}

// With a key by which the application knows a request again, a lost answer is asked for once more; and people are made once.
func TestKeyedAndTogether(t *testing.T) {
	server := mooring.New(mooring.Options{Token: "token-of-tests", Drop: func(n int) bool { return n%3 == 1 }})
	at := httptest.NewServer(server)
	defer at.Close()
	c := reach(t, "mooring", at.URL+"/api", nil)
	for n := range 12 {
		made, err := systemtest.Create(t.Context(), nil, c, account.Account{Password: fmt.Sprintf("gulls-over-Quay-%d", n), Fields: map[string]account.Value{"userName": account.Of(fmt.Sprintf("p%d", n)), "active": account.Of(map[bool]string{true: "false", false: "true"}[n == 5])}}, []string{"userName", "active"})
		if n == 5 { // suspending it is a request of its own
			if err != nil {
				var unclear *system.Unclear
				require.ErrorAs(t, err, &unclear)
				continue
			}
			assert.Equal(t, "false", made.Field("active").Text())
			continue
		}
		require.NoError(t, err)
		assert.True(t, server.Password(fmt.Sprintf("p%d", n), fmt.Sprintf("gulls-over-Quay-%d", n)))
	}
	assert.Len(t, server.Logins(""), 12)

	server = mooring.New(mooring.Options{Token: "token-of-tests"})
	at.Config.Handler = server
	var wanted []account.Account
	for _, name := range []string{"a1", "a2", "a1", ""} {
		wanted = append(wanted, account.Account{Password: "gulls-over-Quay-41", Fields: map[string]account.Value{"userName": account.ValueOr(name), "manager": account.Blank()}})
	}
	wanted[1].Password = "short"
	results, err := c.Apply(t.Context(), nil, systemtest.Making(wanted...), []string{"userName"})
	require.NoError(t, err)
	require.Len(t, results, 4)
	require.NoError(t, results[0].Err)
	assert.Equal(t, "a1", results[0].Account.Field("userName").Text())
	var refusal *system.Refusal
	require.ErrorAs(t, results[1].Err, &refusal, "a secret that is weak")
	assert.Contains(t, refusal.Message, "unless allow_weak is true")
	require.ErrorAs(t, results[2].Err, &refusal)
	assert.Equal(t, []string{string(account.TakenValue), "userName"}, []string{string(refusal.Code), refusal.Field})
	require.ErrorAs(t, results[3].Err, &refusal)
	assert.Equal(t, []string{"a1"}, server.Logins(""))
}

// Memberships that stand in the account, and changes as operations; what else is in the account stays.
func TestOnAccountAndOperations(t *testing.T) {
	kept := map[string]any{}
	require.NoError(t, json.Unmarshal([]byte(`{"id":"7","login":"ana","crews":[{"crew":"c1","since":"2020"},{"crew":"c9"}],"mails":[{"kind":"home","value":"h@x"}]}`), &kept))
	var sent []string
	client := odd(t, strings.Replace(plain, "body: merge", "body: patch, content: application/json-patch+json", 1)+`list: {get: /people, items: .}
things:
  groups: {list: {get: /crews, items: .}, id: id, name: name, on_account: {at: crews, thing: crew, role: as}, roles: {words: {mate: M}}}
`, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/crews":
			fmt.Fprint(w, `[{"id":"c1","name":"Deck"},{"id":"c2","name":"Engine"}]`)
		case r.Method == http.MethodPatch:
			var operations []struct {
				Op, Path string
				Value    any
			}
			assert.NoError(t, json.NewDecoder(r.Body).Decode(&operations))
			for _, o := range operations {
				sent = append(sent, o.Op+" "+o.Path)
				if at := strings.TrimPrefix(o.Path, "/"); !strings.Contains(at, "/") {
					kept[at] = o.Value
				}
			}
			w.WriteHeader(http.StatusNoContent)
		case r.URL.Path == "/people":
			_ = json.NewEncoder(w).Encode([]any{kept})
		default:
			_ = json.NewEncoder(w).Encode(kept)
		}
	})
	require.NoError(t, client.Tie(t.Context(), nil, "groups", "c2", []system.Tie{{Account: "7", Role: "mate"}}))
	require.NoError(t, client.Tie(t.Context(), nil, "groups", "c1", []system.Tie{{Account: "7", Leave: true}}))
	require.ErrorIs(t, client.Tie(t.Context(), nil, "groups", "c7", []system.Tie{{Account: "7"}}), system.ErrGone)
	assert.Equal(t, `[{"crew":"c9"},{"as":"M","crew":"c2"}]`, description.Text(kept["crews"]))
	var in []account.Membership
	for m, err := range client.Members(t.Context(), "groups", []string{"c2"}) {
		require.NoError(t, err)
		in = append(in, m)
	}
	assert.Equal(t, []account.Membership{{Kind: "groups", Thing: "c2", Account: "7", Role: "mate"}}, in)
	sent = nil
	_, err := system.Change(t.Context(), nil, client, account.Account{ID: "7"}, []account.Change{{Field: "title", After: account.Of("Mate")}, {Field: "email", After: account.Of("a@x")}}, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"add /job", "add /job/title", "add /mails"}, sent)
	assert.Equal(t, `[{"kind":"home","value":"h@x"},{"kind":"work","value":"a@x"}]`, description.Text(kept["mails"]))
}

// Who leaves by a tie's own identifier costs no listing each; one that has another by then is looked at anew.
func TestTiesAreReadTogether(t *testing.T) {
	for name, members := range map[string]string{"of a thing": `{get: /ties, query: {gang: "{thing}"}, items: ., account: nr, thing: gang, tie: tie}`, "of all": `{get: /ties, query: {gang: "1"}, items: ., account: nr, thing: gang, tie: tie}`} {
		t.Run(name, func(t *testing.T) {
			d := newDock()
			for i := range 40 {
				d.ties = append(d.ties, map[string]any{"gang": "1", "nr": fmt.Sprint(i), "tie": fmt.Sprintf("t%d", i)})
			}
			d.gangs = []map[string]any{{"gang": "1", "label": "Deck"}}
			listed := 0
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet && r.URL.Path == "/ties" {
					listed++
				}
				d.ServeHTTP(w, r)
			}))
			defer server.Close()
			text, err := os.ReadFile("testdata/dock.yaml")
			require.NoError(t, err)
			i, err := description.Parse("dock.yaml", []byte(strings.Replace(string(text), `{get: /ties, query: {gang: "{thing}"}, items: ., account: nr, thing: gang, tie: tie}`, members, 1)), "2026-11-30")
			require.NoError(t, err)
			c, err := web.New(web.Config{Interface: i, Config: httpdial.Config{URL: server.URL, Credential: httpdial.Bearer("token-of-tests"), Timeout: 5 * time.Second, Pause: time.Millisecond, Mask: secret.NewMask()}})
			require.NoError(t, err)
			leave := func(who int) error {
				return c.Tie(t.Context(), nil, "groups", "1", []system.Tie{{Account: fmt.Sprint(who), Leave: true}})
			}
			for who := range 39 {
				if who == 20 {
					d.ties[1]["tie"] = "anew" // somebody took 21 out and put them in again
				}
				require.NoError(t, leave(who))
			}
			require.Len(t, d.ties, 1)
			assert.Equal(t, "39", d.ties[0]["nr"])
			assert.Equal(t, 2, listed)
			require.NoError(t, leave(7), "who is no member is none already")
			require.Len(t, d.ties, 1)
		})
	}
}

// What was taken in and is asked about later: a job that the application forgot is told apart from one that is not done.
func TestJobs(t *testing.T) {
	const jobs = "list: {get: /people, items: .}\njobs: {located: true, done: 'body.state == \"done\"', failed: 'body.state == \"failed\"', item: person}\n"
	for name, c := range map[string]struct {
		answer string // of a status first
		want   any    // of the error; nil: none
		says   string
	}{
		"done":             {`200 {"state":"done","person":{"id":7,"login":"ana"}}`, nil, ""},
		"done, of nothing": {`200 {"state":"done"}`, new(*system.Unclear), "no account that can be read"},
		"not yet":          {`200 {"state":"waiting"}`, new(*system.Unclear), "does not say yet"},
		"failed":           {`200 {"state":"failed","detail":"no berth"}`, new(*system.Refusal), "no berth"},
		"forgotten":        {`404 {"detail":"no such job"}`, nil, system.ErrGone.Error()},
		"forgotten (410)":  {`410 `, nil, system.ErrGone.Error()},
		"no right":         {`403 {}`, new(*system.Unclear), "(403)"},
		"a page":           {`200 <html>sign in</html>`, new(*system.Unclear), "a web page"},
		"broken":           {`500 {}`, new(*system.Unclear), "(500)"},
	} {
		t.Run(name, func(t *testing.T) {
			client := odd(t, plain+jobs, func(w http.ResponseWriter, _ *http.Request) {
				status, text, _ := strings.Cut(c.answer, " ")
				var code int
				_, _ = fmt.Sscan(status, &code)
				w.WriteHeader(code)
				fmt.Fprint(w, text)
			})
			made, err := client.Ask(t.Context(), "/jobs/1", []string{"userName"})
			if c.says == "" {
				require.NoError(t, err)
				assert.Equal(t, []string{"7", "ana"}, []string{made.ID, made.Field("userName").Text()})
				return
			}
			require.ErrorContains(t, err, c.says)
			if c.want != nil {
				assert.ErrorAs(t, err, c.want)
			} else {
				assert.ErrorIs(t, err, system.ErrGone)
			}
		})
	}
	client := odd(t, plain+jobs, func(http.ResponseWriter, *http.Request) { t.Error("nothing is sent to another server") })
	_, err := client.Ask(t.Context(), "http://elsewhere.example/jobs/1", nil)
	assert.ErrorAs(t, err, new(*system.Unclear))
}

// Of several that are made together, a result is believed only as far as it says something.
func TestResultsOfSeveral(t *testing.T) {
	const together = "list: {get: /people, items: .}\ncreate_together: {post: /batches, results: results, status: code, of: person, most: 5}\n"
	client := odd(t, plain+together, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"results":[{"code":201,"person":{"id":1,"login":"p0"}},{"code":"fine","person":{"id":2,"login":"p1"}},{"person":{"id":3,"login":"p2"}},{"code":"201 Created","person":{"login":"p3"}},{"code":409,"detail":"somebody has it"}]}`)
	})
	wanted := make([]account.Account, 5)
	for n := range wanted {
		wanted[n].Fields = map[string]account.Value{"userName": account.Of(fmt.Sprintf("p%d", n))}
	}
	results, err := client.Apply(t.Context(), nil, systemtest.Making(wanted...), []string{"userName"})
	require.NoError(t, err)
	require.NoError(t, results[0].Err)
	for n, says := range map[int]string{1: "nothing that is a status at code", 2: "nothing that is a status at code", 3: "no account that can be read"} {
		assert.ErrorAs(t, results[n].Err, new(*system.Unclear), n)
		assert.ErrorContains(t, results[n].Err, says, n)
	}
	assert.ErrorAs(t, results[4].Err, new(*system.Refusal))
	_, err = client.Apply(t.Context(), nil, systemtest.Making(wanted[:4]...), []string{"userName"})
	assert.ErrorContains(t, err, "4 accounts were sent, and the answer has 5 results")
}

// Trying out touches nobody who was there before: not who has the name, nor whom a careless application answers with.
func TestTriesTouchNobody(t *testing.T) {
	for name, c := range map[string]struct {
		there, made, says string
		sent              []string // what changes something
	}{
		"a new one":            {"ana", `{"id":8,"login":"tryout.person"}`, "", []string{"POST /people", "DELETE /people/8"}},
		"the name is there":    {"Tryout.Person", `{}`, "the account tryout.person (7) is there already", nil},
		"answered with an old": {"ana", `{"id":7,"login":"tryout.person"}`, "an account that was there before, 7", []string{"POST /people"}},
	} {
		t.Run(name, func(t *testing.T) {
			var sent []string
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				ana := fmt.Sprintf(`{"id":7,"login":%q}`, c.there)
				switch {
				case r.Method != http.MethodGet:
					if sent = append(sent, r.Method+" "+r.URL.Path); r.Method == http.MethodPost {
						fmt.Fprint(w, c.made)
					}
				case r.URL.Path == "/people":
					fmt.Fprint(w, "["+ana+"]")
				case r.URL.Path == "/people/7":
					fmt.Fprint(w, ana)
				default:
					w.WriteHeader(http.StatusNotFound)
				}
			}))
			defer server.Close()
			i, err := description.Parse("odd.yaml", []byte("account: {id: id, fields: {userName: login}}\nlist: {get: /people, items: .}\nread: {get: \"/people/{id}\"}\ncreate: {post: /people}\nremove: {delete: \"/people/{id}\"}\n"), "2026-11-30")
			require.NoError(t, err)
			client, err := web.New(web.Config{Interface: i, Practice: true, Config: httpdial.Config{URL: server.URL, Timeout: 2 * time.Second, Pause: time.Millisecond, Mask: secret.NewMask()}})
			require.NoError(t, err)
			amiss := ""
			require.NoError(t, client.Try(t.Context(), nil, true, func(s system.Tried) { amiss += s.Amiss }))
			assert.Equal(t, c.sent, sent)
			assert.Equal(t, c.says != "", amiss != "", amiss)
			assert.Contains(t, amiss, c.says)
		})
	}
}

// Others make and remove accounts while all are listed: who was there all the time is given.
func TestListingWhileOthersWork(t *testing.T) {
	remove := func(ids []int, n int) []int { return ids[min(n%3, 2):] }
	for name, c := range map[string]struct {
		next      string
		meanwhile func(ids []int, n int) []int // with each request
	}{
		"removed at the head, by offset": {"offset: o", remove},
		"made in the midst, by offset": {"offset: o", func(ids []int, n int) []int {
			return slices.Insert(ids, n*7%len(ids), 10_000+n)
		}},
		"removed and made, by offset": {"offset: o", func(ids []int, n int) []int {
			return slices.Insert(slices.Delete(ids, n*5%20, n*5%20+3), n*11%150, 10_000+n)
		}},
		"removed at the head, by cursor": {"cursor: n, as: c", remove},
	} {
		t.Run(name, func(t *testing.T) {
			ids, n := []int{}, 0
			for i := range 400 {
				ids = append(ids, 1+i)
			}
			client := odd(t, plain+"list: {get: /people, items: d, total: t, next: {"+c.next+"}}\n", func(w http.ResponseWriter, r *http.Request) {
				at, after := 0, 0
				_, _ = fmt.Sscan(r.FormValue("o"), &at)
				if _, err := fmt.Sscan(r.FormValue("c"), &after); err == nil {
					at, _ = slices.BinarySearch(ids, after+1)
				}
				page, next := ids[min(at, len(ids)):min(at+20, len(ids))], "null"
				if len(page) == 20 {
					next = fmt.Sprintf(`"%d"`, page[19])
				}
				fmt.Fprintf(w, `{"d":%s,"t":%d,"n":%s}`, people(page...), len(ids), next)
				if n++; len(ids) > 200 && len(ids) < 600 && n > 3 {
					ids = c.meanwhile(slices.Clone(ids), n)
				}
			})
			names, err := list(client)
			require.NoError(t, err)
			for _, id := range ids {
				assert.True(t, id > 10_000 || slices.Contains(names, fmt.Sprint("p", id)), id)
			}
		})
	}
}
