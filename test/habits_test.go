package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// The tests here run the whole way against a service that has habits of services in the
// wild. Whatever the habit, the same comes of the sheet; or it is told, and nobody is
// harmed.

const habitBrief = `system: crewdesk
match: [employeeNumber, userName]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  familyName: {from: Last}
  userName: {make: 'fold(givenName) + "." + fold(familyName)'}
  title: {from: Position}
  manager: {from: Boss, refers: employeeNumber}
groups: {from: Crew, make_missing: true}
`

const habitSheet = "No,First,Last,Position,Boss,Crew\n1,Ana,Reyes,Chief,3,deck\n2,Tom,Kaya,Mate,,deck\n3,Zoë,Ångström,Pilot,1,deck\n4,Mei,Lin,Cook,3,tide\n"

const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

func sailor(number, first, last, title string) object {
	return object{"userName": strings.ToLower(first + "." + last), "name": object{"givenName": first, "familyName": last}, "title": title, "active": true, enterprise: object{"employeeNumber": number}}
}

// quay is a workspace for a peer with some people and a group in it.
func quay(t *testing.T, h habits) (*peer, folder) {
	p := newPeer(t, h)
	for i := range 4 { // others, before and behind those of the sheet
		p.add("/Users", sailor(fmt.Sprint(90+i), "Other", fmt.Sprint("Person", i), "Clerk"))
	}
	p.add("/Users", sailor("1", "Ana", "Reyes", "Clerk"))
	tom := p.add("/Users", sailor("2", "Tom", "Kaya", "Mate"))
	for i := range 3 {
		p.add("/Users", sailor(fmt.Sprint(80+i), "Further", fmt.Sprint("Person", i), "Clerk"))
	}
	p.add("/Groups", object{"displayName": "deck", "members": []any{object{"value": tom}}})
	f := workspace(t, p.url, ", settle: 300ms, page: 3")
	f.write("briefs/crew.yaml", habitBrief)
	f.write("crew.csv", habitSheet)
	return p, f
}

// id of the user of that name.
func (p *peer) id(userName string) string { return fmt.Sprint(p.who(userName)["id"]) }

func manager(u object) string {
	of, _ := u[enterprise].(object)["manager"].(object)
	return fmt.Sprint(of["value"])
}

func TestHabits(t *testing.T) {
	t.Parallel()
	lost := func(status int, body string) func(*http.Request, int) (int, string) {
		met := map[string]bool{}
		return func(r *http.Request, _ int) (int, string) {
			kind := r.Method + strings.Split(r.URL.Path, "/")[1]
			if met[kind] {
				return 0, ""
			}
			met[kind] = true
			return status, body
		}
	}
	group := object{"id": "urn:ietf:params:scim:schemas:core:2.0:Group", "attributes": []any{object{"name": "displayName", "type": "string"}, object{"name": "members", "type": "complex", "multiValued": true, "subAttributes": []any{object{"name": "value", "type": "string"}}}}}
	cases := map[string]habits{
		"none":                                {},
		"no discovery (403)":                  {silent: 403},
		"no discovery (500)":                  {silent: 500},
		"attributes refused (400)":            {attributes: 400},
		"attributes refused (500)":            {attributes: 500},
		"counted from 0":                      {zeroBased: true},
		"counted from 0, filters refused":     {zeroBased: true, filter: 403},
		"one of the attributes refused":       {unasked: "title"},
		"filters refused (403)":               {filter: 403},
		"filters refused (500)":               {filter: 500},
		"a filter that ignores an attribute":  {blind: "employeeNumber"},
		"a filter that ignores every name":    {blind: "userName"},
		"no finding by id":                    {blind: "id"},
		"only the first term of a filter":     {firstTerm: true},
		"a filter that is not looked at":      {anyFilter: true},
		"no total":                            {noTotal: true, filter: 400},
		"the page's number as total":          {pageTotal: true, filter: 400},
		"few in a page, and its number":       {pageTotal: true, cap: 2, blind: "employeeNumber"},
		"page one again past the end":         {noTotal: true, again: true, filter: 400},
		"one in a page":                       {cap: 1, filter: 400},
		"the number of all as total":          {allTotal: true},
		"no listing of all":                   {noList: 403},
		"no PATCH (501)":                      {noPatch: 501},
		"no PATCH (405)":                      {noPatch: 405, noVersions: true},
		"no PATCH (400)":                      {noPatch: 400},
		"no PATCH (404)":                      {noPatch: 404},
		"a byte order mark":                   {mark: true},
		"members forgotten once":              {forgets: 1},
		"no PATCH, and a version wanted":      {noPatch: 501, wantsMatch: true},
		"a manager only as a whole":           {wholeRef: true},
		"numbers for ids":                     {numbers: true},
		"lists of groups without members":     {bareLists: true},
		"such lists, and a schema":            {bareLists: true, schemas: []object{group}},
		"a version is wanted (428)":           {wantsMatch: true},
		"no versions, no times":               {noVersions: true},
		"429 now and then, and no time named": {busy: 5},
		"done, and 408":                       {after: lost(408, "")},
		"done, and 500":                       {after: lost(500, `{"detail":"oops"}`)},
		"done, and 507":                       {after: lost(507, "")},
		"done, and 520 with a web page":       {after: lost(520, "<html>unknown error</html>")},
		"done, and 599, without times":        {after: lost(599, ""), noVersions: true},
		"done, and 200 with a web page":       {after: lost(200, "<html>thank you</html>")},
		"done, and 200 with nothing of it":    {after: lost(200, "{}")},
		"done, and 200 with a list":           {after: lost(200, "[1]")},
		"done, and 504, by another clock":     {after: lost(504, ""), ahead: time.Hour},
		"done, and 202":                       {after: lost(202, "")},
		"done, and 400 with a web page":       {after: lost(400, "<html>blocked</html>")},
		"groups that learn late":              {lateGroups: 2},
	}
	for _, how := range []string{"plain", "accounts are shown", "statuses are numbers", "versions are not looked at", "another order", "no PATCH in it", "ends in the middle", "says nothing", "shows another", "done, and 500", "refused as a whole"} {
		cases["bulk requests: "+how] = habits{bulk: how}
	}
	cases["bulk requests without versions"] = habits{bulk: "plain", noVersions: true}
	cases["bulk requests, and finding by one id"] = habits{bulk: "plain", firstTerm: true}
	cases["bulk requests, and no finding by id"] = habits{bulk: "plain", blind: "id"}
	cases["bulk requests, and no PATCH"] = habits{bulk: "plain", noPatch: 405}
	cases["bulk requests, a manager only as a whole"] = habits{bulk: "accounts are shown", wholeRef: true}
	for name, h := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, f := quay(t, h)
			code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
			require.Zero(t, code, out+errOut)
			require.Contains(t, out, "To create           2", "nobody who is there is taken for new")
			for range 3 { // what is not clear is looked up by a further post
				if code, out, errOut = f.run("post", "1", "--yes"); code != 3 {
					break
				}
			}
			require.Zero(t, code, out+errOut)
			assert.Equal(t, map[string]int{"created": 2, "updated": 1, "unchanged": 1}, f.outcomes(1))
			assert.Len(t, p.kinds["/Users"], 11, "nobody is there twice")
			ana, zoe := p.who("ana.reyes"), p.who("zoe.angstrom")
			assert.Equal(t, "Chief", ana["title"])
			assert.Equal(t, []string{p.id("zoe.angstrom"), p.id("ana.reyes"), p.id("zoe.angstrom")}, []string{manager(ana), manager(zoe), manager(p.who("mei.lin"))})
			ids := []string{p.id("ana.reyes"), p.id("tom.kaya"), p.id("zoe.angstrom")}
			slices.Sort(ids)
			assert.Equal(t, ids, p.in("deck"))
			assert.Equal(t, []string{p.id("mei.lin")}, p.in("tide"))
			code, out, errOut = f.run("reconcile", "1")
			assert.Zero(t, code, out+errOut)
			code, out, errOut = f.run("draft", "crew.csv", "-b", "crew")
			assert.Zero(t, code, errOut)
			assert.Contains(t, out, "Nothing to change   4", "the same sheet again finds nothing to do")
			if h.noList > 0 {
				return // what cannot be listed cannot be exported
			}
			code, _, errOut = f.run("export", "crewdesk", "-o", "out.csv", "--memberships", "groups")
			assert.Zero(t, code, errOut)
			assert.Equal(t, 12, strings.Count(f.read("out.csv"), "\n"), "the headings and everyone")
			assert.Equal(t, []int{3, 1}, []int{strings.Count(f.read("out.csv"), "deck"), strings.Count(f.read("out.csv"), "tide")})
		})
	}
}

// Changes that a bulk request answers well and forgets are found when they are read back, and told for the rows that have them.
func TestBulkChangesForgotten(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{bulk: "changes forgotten"})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 1, code, errOut)
	assert.Equal(t, map[string]int{"created": 1, "failed": 2, "unchanged": 1}, f.outcomes(1))
	assert.Contains(t, out, "title was to be “Chief”, and is “Clerk”")
	assert.Equal(t, "Clerk", p.who("ana.reyes")["title"])
	require.Zero(t, first(f.run("fixes", "1", "-o", "again.csv")))
	assert.Equal(t, 3, strings.Count(f.read("again.csv"), "\n"), "the headings, and the rows of which something is otherwise")
	p.habits.bulk = ""
	require.Zero(t, first(f.run("draft", "again.csv", "-b", "crew")))
	require.Zero(t, first(f.run("post", "2", "--yes")))
	assert.Equal(t, "Chief", p.who("ana.reyes")["title"])
	assert.Equal(t, p.id("zoe.angstrom"), manager(p.who("mei.lin")))
}

// What cannot be taken for an answer to what was asked is told, with the request and the
// service's own words; nothing is made of it.
func TestAnswersThatAreNone(t *testing.T) {
	t.Parallel()
	lists := func(body string) habits {
		return habits{instead: func(_ *peer, w http.ResponseWriter, r *http.Request) bool {
			if r.Method == http.MethodGet && r.URL.Path == "/Users" {
				_, _ = w.Write([]byte(body))
				return true
			}
			return false
		}}
	}
	for name, c := range map[string]struct {
		habits habits
		says   string
	}{
		"an error with 200":            {lists(`{"error":"the token has run out"}`), "it is no list; it says: the token has run out"},
		"an empty object":              {lists(`{}`), "cannot be taken for a list"},
		"null":                         {lists(`null`), "cannot be taken for a list"},
		"a list of something else":     {lists(`{"totalResults":1,"Resources":[7]}`), "is no object"},
		"someone without an id":        {lists(`{"totalResults":1,"Resources":[{"userName":"x"}]}`), "without an id"},
		"the first page whatever":      {habits{noTotal: true, again: true, filter: 400, instead: stuck}, "gives its first page whatever it is asked for"},
		"members that are not shown":   {habits{bareLists: true, instead: hideMembers}, "Name the attribute that lists them in evenledger.yaml"},
		"members under another name":   {habits{schemas: []object{{"id": "urn:ietf:params:scim:schemas:core:2.0:Group", "attributes": []any{object{"name": "crew", "multiValued": true, "subAttributes": []any{object{"name": "value"}}}}}}}, "there is crew"},
		"an answer that has no end":    {lists(`{"totalResults":1,"Resources":[{"id":"1","x":[` + strings.Repeat("[],", 2<<20) + `[]]}]}`), "more than can be read at once"},
		"a wait beyond reason":         {habits{instead: waitLong}, "asks to be left alone until"},
		"a no in a form of its own":    {habits{instead: turnAway}, "turns us away (401): we do not know (hidden)"},
		"a service that is not there":  {habits{silent: 404, instead: onlyPages}, "answered 404 with a web page"},
		"one who leads out of the way": {lists(`{"totalResults":1,"Resources":[{"id":"../Groups/1","userName":"tom.kaya","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"2"}}]}`), ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, f := quay(t, c.habits)
			code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
			if c.says == "" { // the draft is fine; no such address may be asked for
				require.Zero(t, code, errOut)
				f.run("post", "1", "--yes")
				for _, request := range p.seen {
					path, _, _ := strings.Cut(request, "?")
					assert.NotContains(t, strings.Split(path, " ")[1], "..")
				}
				return
			}
			assert.Equal(t, 3, code, out+errOut)
			assert.Contains(t, errOut, c.says)
			assert.Contains(t, errOut, "→ ", "something can be done")
			assert.NotContains(t, out+errOut, token)
			_, out, _ = f.run("batches")
			assert.Contains(t, out, "No batch has been drafted")
			for _, request := range p.seen {
				assert.True(t, strings.HasPrefix(request, "GET "), request)
			}
		})
	}
}

func stuck(p *peer, w http.ResponseWriter, r *http.Request) bool {
	if r.Method != http.MethodGet || r.URL.Path != "/Users" || r.URL.Query().Has("filter") {
		return false
	}
	p.list(w, "/Users", "", 1, number(r.URL.Query().Get("count")))
	return true
}

func hideMembers(p *peer, w http.ResponseWriter, r *http.Request) bool {
	if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/Groups/") {
		_, _ = fmt.Fprintf(w, `{"id":%q,"displayName":"deck"}`, strings.TrimPrefix(r.URL.Path, "/Groups/"))
		return true
	}
	return false
}

func waitLong(_ *peer, w http.ResponseWriter, r *http.Request) bool {
	w.Header().Set("Retry-After", "86400")
	w.WriteHeader(429)
	return true
}

func turnAway(_ *peer, w http.ResponseWriter, r *http.Request) bool {
	w.WriteHeader(401)
	_, _ = fmt.Fprintf(w, `{"errors":[{"message":"we do not know %s"}]}`, r.Header.Get("Authorization")[len("Bearer "):])
	return true
}

func onlyPages(_ *peer, w http.ResponseWriter, r *http.Request) bool {
	w.Header().Set("Content-Type", "text/html")
	w.WriteHeader(404)
	_, _ = w.Write([]byte("<html><body>No such page</body></html>"))
	return true
}

// What others do between two requests is not overwritten, and nobody is taken for
// somebody else.
func TestOthersAtWork(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{})
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	require.Zero(t, first(f.run("post", "1", "--yes", "--trial", "1")), "Ana's title; her manager is not there yet")
	p.edit("ana.reyes", func(u object) { u[enterprise].(object)["manager"] = object{"value": "1"} })
	code, out, _ := f.run("post", "1", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "stale")
	assert.Equal(t, "1", manager(p.who("ana.reyes")), "what somebody else set stays")
	code, out, _ = f.run("reconcile", "1")
	assert.Equal(t, 1, code, "a batch of which a row failed is not even")
	assert.Contains(t, out, "1 row failed")

	// A row that has only memberships is as stale as any other.
	p, f = quay(t, habits{})
	f.write("two.csv", "No,First,Last,Position,Boss,Crew\n1,Ana,Reyes,Clerk,,deck;tide\n2,Tom,Kaya,Mate,,\n")
	f.write("briefs/crew.yaml", strings.Replace(habitBrief, "from: Crew", `from: Crew, split: ";"`, 1))
	require.Zero(t, first(f.run("draft", "two.csv", "-b", "crew")))
	p.edit("ana.reyes", func(u object) { u["title"] = "Captain" })
	assert.Equal(t, 1, first(f.run("post", "1", "--yes")))
	assert.Equal(t, map[string]int{"refused": 1, "unchanged": 1}, f.outcomes(1))
	assert.NotContains(t, p.in("deck"), p.id("ana.reyes"))

	// Another system in the place of the one that was drafted for.
	for _, how := range []string{"others under the same ids", "nobody"} {
		p, f = quay(t, habits{})
		require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
		p.mu.Lock()
		for i, u := range p.kinds["/Users"] {
			if how == "nobody" {
				u["id"] = fmt.Sprint("x", i)
			}
			u["userName"], u["name"] = fmt.Sprint("stranger", i), object{"givenName": "S", "familyName": fmt.Sprint(i)}
			u[enterprise] = object{"employeeNumber": fmt.Sprint(700 + i)}
		}
		p.seen = nil
		p.mu.Unlock()
		code, _, errOut = f.run("post", "1", "--yes")
		assert.Equal(t, 4, code, how)
		assert.Contains(t, errOut, "is no longer what batch 1 was drafted for")
		for _, request := range p.seen {
			assert.True(t, strings.HasPrefix(request, "GET "), request)
		}
	}

	// Somebody removed between two pages pushes others out of them.
	removed := false
	_, f = quay(t, habits{filter: 400, shift: func(p *peer, start int) {
		if start > 3 && !removed && len(p.seen) > 8 {
			removed = true
			p.kinds["/Users"] = slices.Delete(p.kinds["/Users"], 0, 1)
		}
	}})
	code, out, errOut = f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	require.True(t, removed)
	assert.Contains(t, out, "To create           2", "nobody was passed over")
}

// outcomes of a batch that some row came to.
func (f folder) outcomes(id int) map[string]int {
	counts := f.batch(id).Outcomes
	maps.DeleteFunc(counts, func(_ string, n int) bool { return n == 0 })
	return counts
}

func first(code int, _, errOut string) int {
	if code > 1 {
		fmt.Println(errOut)
	}
	return code
}

// An answer that is about somebody else is not taken for the row's: that person gets
// nothing, and the row is told.
func TestMixedUpAnswers(t *testing.T) {
	t.Parallel()
	for name, made := range map[string]bool{"and the account was made": true, "and none was made": false} {
		t.Run(name, func(t *testing.T) {
			p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
				if r.Method != http.MethodPost || r.URL.Path != "/Users" {
					return false
				}
				if made {
					p.one(discarded{http.Header{}}, r, "/Users", "", bodyOf(r))
				}
				w.WriteHeader(201)
				_, _ = fmt.Fprint(w, `{"id":"1","userName":"other.person0","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"90"}}`)
				return true
			}})
			require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
			code, out, _ := f.run("post", "1", "--yes")
			assert.NotContains(t, slices.Concat(p.in("deck"), p.in("tide")), "1", "who was shown gets nothing")
			assert.NotEqual(t, "1", manager(p.who("ana.reyes")))
			if made {
				assert.Zero(t, code, out)
				assert.Equal(t, map[string]int{"created": 2, "updated": 1, "unchanged": 1}, f.outcomes(1))
				return
			}
			assert.Equal(t, 1, code)
			assert.Contains(t, out, "the system answered with another account, other.person0 (1)")
			assert.Equal(t, 3, f.outcomes(1)["failed"], "and Ana has no manager")
			assert.Len(t, p.kinds["/Users"], 9)
		})
	}
}

type discarded struct{ header http.Header }

func (d discarded) Header() http.Header         { return d.header }
func (d discarded) Write(p []byte) (int, error) { return len(p), nil }
func (d discarded) WriteHeader(int)             {}

// A service that shows what it made later than “settle” says is told, and what the batch
// made is never made again: not by a further post, nor by another draft.
func TestLateToBeSeen(t *testing.T) {
	t.Parallel()
	late := true
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && r.URL.Path == "/Users" && late {
			all := p.kinds["/Users"]
			p.kinds["/Users"] = all[:9]
			p.list(w, "/Users", r.URL.Query().Get("filter"), number(r.URL.Query().Get("startIndex")), number(r.URL.Query().Get("count")))
			p.kinds["/Users"] = all
			return true
		}
		return false
	}, after: func(r *http.Request, _ int) (int, string) {
		if r.Method == http.MethodPost && r.URL.Path == "/Users" && late {
			return 504, "<html>gateway timeout</html>"
		}
		return 0, ""
	}})
	f.write("crew.csv", strings.ReplaceAll(habitSheet, ",3,", ",,"))
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, errOut, "evenledger post 1")
	_, out, _ = f.run("show", "1")
	assert.Contains(t, out, "settle", "what to change is named")
	assert.Equal(t, 2, f.outcomes(1)["waiting"])
	code, out, _ = f.run("draft", "crew.csv", "-b", "crew")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "batch 1, row 4, may have made this account")
	code, _, _ = f.run("reconcile", "1")
	assert.Equal(t, 1, code, "it is not even")
	p.mu.Lock()
	late = false
	p.mu.Unlock()
	require.Zero(t, first(f.run("post", "1", "--yes")))
	assert.Equal(t, map[string]int{"created": 2, "updated": 1, "unchanged": 1}, f.outcomes(1))
	assert.Len(t, p.kinds["/Users"], 11)
	p.mu.Lock()
	late = true
	p.mu.Unlock()
	code, out, _ = f.run("draft", "crew.csv", "-b", "crew")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "batch 1, row 4, made this account (", "the ledger knows what it made")
}

// Who made an account that is there when a killed post goes on: what somebody else made
// meanwhile is not taken for the batch's, and gets nothing of it.
func TestMadeByOthers(t *testing.T) {
	t.Parallel()
	die := true
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost && r.URL.Path == "/Users" && die {
			panic(http.ErrAbortHandler) // not made, and no answer
		}
		return false
	}})
	f.write("crew.csv", habitSheet[:strings.Index(habitSheet, "4,")])
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	require.Equal(t, 3, first(f.run("post", "1", "--yes")))
	theirs := sailor("3", "Zoë", "Ångström", "Somebody's guest")
	theirs["userName"] = "zoe.angstrom"
	id := p.add("/Users", theirs)
	p.mu.Lock()
	theirs["meta"].(object)["created"] = time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)
	die = false
	p.mu.Unlock()
	code, out, _ := f.run("post", "1", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "it cannot be told whether this batch made it")
	assert.NotContains(t, p.in("deck"), id)
	assert.Equal(t, "Somebody's guest", p.who("zoe.angstrom")["title"])
	require.Zero(t, first(f.run("reverse", "1")))
	require.Zero(t, first(f.run("post", "2", "--yes")))
	assert.Equal(t, true, p.who("zoe.angstrom")["active"], "what the batch did not make it does not undo")
}

// What else a service has of a role stays, and comes back when it is given back.
func TestPartsStay(t *testing.T) {
	t.Parallel()
	for name, h := range map[string]habits{"PATCH": {}, "PUT": {noPatch: 501}} {
		t.Run(name, func(t *testing.T) {
			core := object{"id": "urn:ietf:params:scim:schemas:core:2.0:User", "attributes": []any{
				object{"name": "userName", "type": "string", "required": true},
				object{"name": "roles", "type": "complex", "multiValued": true, "subAttributes": []any{object{"name": "value", "type": "string"}, object{"name": "display", "type": "string"}, object{"name": "type", "type": "string"}}}}}
			h.schemas = []object{core}
			p, f := quay(t, h)
			purser, steward := object{"value": "purser", "display": "Purser of the fleet", "type": "sea"}, object{"value": "steward", "display": "Steward", "primary": true}
			p.who("ana.reyes")["roles"] = []any{purser, steward}
			f.write("briefs/crew.yaml", "system: crewdesk\nmatch: [userName]\nnew: refuse\nfields:\n  userName: {from: Login}\n  roles: {from: Roles, split: \";\"}\n")
			f.write("crew.csv", "Login,Roles\nana.reyes,steward;master\n")
			require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
			require.Zero(t, first(f.run("post", "1", "--yes")))
			assert.Equal(t, []any{steward, object{"value": "master"}}, p.who("ana.reyes")["roles"])
			require.Zero(t, first(f.run("reverse", "1")))
			require.Zero(t, first(f.run("post", "2", "--yes")))
			assert.ElementsMatch(t, []any{steward, purser}, p.who("ana.reyes")["roles"])
			p.who("ana.reyes")["roles"] = []any{purser, steward}
			f.write("crew.csv", "Login,Roles\nana.reyes,steward;purser\n")
			_, out, _ := f.run("draft", "crew.csv", "-b", "crew")
			assert.Contains(t, out, "Nothing to change   1", "another order is no change")
		})
	}
}

// The guards hold for whoever posts, and for undoing as well.
func TestGuardsOfUndoing(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	require.Zero(t, first(f.run("post", "1", "--yes")))
	require.Zero(t, first(f.run("reverse", "1", "--remove")))
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  crewdesk: {url: %q, token: env:TEST_TOKEN, protect: [zoe.*]}\n", p.url))
	p.edit("mei.lin", func(u object) { u["title"] = "Captain" })
	code, out, _ := f.run("post", "2", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "the account zoe.angstrom is protected")
	assert.NotNil(t, p.who("zoe.angstrom"))
	assert.Contains(t, out, "since the draft title changed from “Cook” to “Captain”")
	assert.NotNil(t, p.who("mei.lin"), "whom somebody changed since is not removed")
	require.Equal(t, 1, first(f.run("reverse", "1", "--remove")), "who is protected is refused in the draft")
	require.Equal(t, 1, first(f.run("post", "3", "--yes")))
	assert.Nil(t, p.who("mei.lin"))

	// An identifier that is somebody else's by now is left alone; if most are, it is another
	// system.
	p, f = quay(t, habits{})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	require.Zero(t, first(f.run("post", "1", "--yes")))
	for i, name := range []string{"zoe.angstrom", "ana.reyes"} {
		p.edit(name, func(u object) {
			u["userName"], u["name"], u[enterprise] = fmt.Sprint("stranger", i), object{"givenName": "S", "familyName": "T"}, object{"employeeNumber": fmt.Sprint(700 + i)}
		})
		code, out, errOut := f.run("reverse", "1")
		assert.Equal(t, []int{1, 4}[i], code, out)
		assert.Contains(t, out+errOut, "was 3, and is stranger0 now")
	}

	// Where nobody can be suspended, nothing promises it.
	_, f = quay(t, habits{schemas: []object{{"id": "urn:ietf:params:scim:schemas:core:2.0:User", "attributes": []any{object{"name": "userName", "type": "string"}, object{"name": "title", "type": "string"}}}}})
	f.write("briefs/crew.yaml", "system: crewdesk\nmatch: [userName]\nfields:\n  userName: {from: First}\n  title: {from: Position}\n")
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	require.Zero(t, first(f.run("post", "1", "--yes")))
	code, out, _ = f.run("reverse", "1")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "the system has no way to suspend an account")
	f.write("briefs/crew.yaml", "system: crewdesk\nmatch: [userName]\nfields: {userName: {from: First}}\ngone: suspend\nscope: 'title == \"Clerk\"'\nlimits: {suspend: 10}\n")
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "no field “active” that could be set")

	// What the brief protects is protected from undoing, too.
	p, f = quay(t, habits{})
	f.write("briefs/crew.yaml", habitBrief+"protect: [zoe.*]\n")
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	require.Zero(t, first(f.run("post", "1", "--yes")))
	code, out, _ = f.run("reverse", "1", "--remove")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "the account zoe.angstrom is protected")
	require.Equal(t, 1, first(f.run("post", "2", "--yes")))
	assert.NotNil(t, p.who("zoe.angstrom"))
}

// What a service says may have secrets in it, in any form; none is kept or shown, and the
// trace has none either.
func TestNothingRepeatsASecret(t *testing.T) {
	t.Parallel()
	var told []string
	p, f := quay(t, habits{})
	p.habits.instead = func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost || r.URL.Path != "/Users" {
			return false
		}
		body := string(bodyOf(r))
		told = append(told, body[strings.Index(body, `"password":"`)+len(`"password":"`):])
		quoted := strings.Split(told[len(told)-1], `","`)[0]
		w.WriteHeader(400)
		_, _ = fmt.Fprintf(w, `{"detail":"the body {\"password\":\"%s\"} with %s is weak"}`, quoted, r.Header.Get("Authorization"))
		return true
	}
	f.write("briefs/crew.yaml", habitBrief+"password: {new: given, from: Word}\n")
	f.write("crew.csv", "No,First,Last,Position,Boss,Crew,Word\n3,Zoë,Ångström,Pilot,1,deck,a/Wea&ther\"cock-over-41-Masts\n")
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes", "--trace", "trace.txt")
	assert.Equal(t, 1, code, errOut)
	require.Len(t, told, 1)
	assert.Contains(t, out, "(hidden)")
	shown := out + errOut + f.read("trace.txt") + f.read("ledger.db")
	_, again, _ := f.run("show", "1", "--json")
	for _, secret := range []string{"41-Masts", token} {
		assert.NotContains(t, shown+again, secret)
	}
	assert.Contains(t, shown, `"method":"POST","url":"`+p.url+`/Users"`)
	code, _, errOut = f.run("draft", "crew.csv", "-b", "crew", "--trace", "trace.txt")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "Name a new file for --trace")
}

// Ctrl-C ends the program within a second whenever nothing is on its way: in a pause that
// the service asked for, and while it keeps a reader waiting. Nothing is sent after it.
func TestStoppedWhileWaiting(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		args  []string
		until string
		meet  func(p *peer, w http.ResponseWriter, r *http.Request) bool
	}{
		"a pause of minutes": {[]string{"post", "1", "--yes"}, "POST /Users", func(_ *peer, w http.ResponseWriter, r *http.Request) bool {
			if r.Method != http.MethodPost {
				return false
			}
			w.Header().Set("Retry-After", "300")
			w.WriteHeader(429)
			return true
		}},
		"a service that hangs": {[]string{"draft", "crew.csv", "-b", "crew"}, "GET /Users", func(p *peer, w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path == "/Users" {
				p.mu.Unlock()
				defer p.mu.Lock()
				<-r.Context().Done()
			}
			return false
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var p *peer
			p, f := quay(t, habits{})
			require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
			p.mu.Lock()
			p.habits.instead = c.meet
			p.seen = nil
			p.mu.Unlock()
			cmd := f.command(c.args...)
			var errOut strings.Builder
			cmd.Stderr = &errOut
			require.NoError(t, cmd.Start())
			testserver.Soon(t, func() bool {
				p.mu.Lock()
				defer p.mu.Unlock()
				return slices.ContainsFunc(p.seen, func(s string) bool { return strings.HasPrefix(s, c.until) })
			})
			time.Sleep(300 * time.Millisecond)
			p.mu.Lock()
			before := len(p.seen)
			p.mu.Unlock()
			begun := time.Now()
			require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
			require.Error(t, cmd.Wait())
			assert.Less(t, time.Since(begun), atOnce)
			assert.Equal(t, 130, cmd.ProcessState.ExitCode(), errOut.String())
			p.mu.Lock()
			defer p.mu.Unlock()
			assert.Len(t, p.seen, before, "nothing is sent afterwards")
			assert.Len(t, p.kinds["/Users"], 9)
		})
	}
}

// A sheet that comes slowly through a pipe holds up nobody else's work, and is left at once.
func TestSlowPipe(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	cmd := f.command("draft", "-", "-b", "crew")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	var errOut strings.Builder
	cmd.Stderr = &errOut
	require.NoError(t, cmd.Start())
	_, err = in.Write([]byte(habitSheet + strings.Repeat("5,Slow,Person,Mate,,\n", 3000))) // some rows are taken in by now
	require.NoError(t, err)
	time.Sleep(500 * time.Millisecond)
	require.Zero(t, first(f.run("post", "1", "--yes")))
	assert.Len(t, p.kinds["/Users"], 11)
	begun := time.Now()
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.Error(t, cmd.Wait())
	assert.Less(t, time.Since(begun), atOnce)
	assert.Equal(t, 130, cmd.ProcessState.ExitCode(), errOut.String())
}

// An export that is handed back untouched changes nothing, whatever stands in it that a spreadsheet program minds.
func TestUntouchedExport(t *testing.T) {
	t.Parallel()
	p := newPeer(t, habits{})
	for i, title := range []string{"'=x", "=x", "''+1", "a,'+b", "'-", "'007", "-x", "@y", `"q"`, `="00101"`} {
		p.add("/Users", sailor(fmt.Sprint(i+1), "Ana", fmt.Sprint("Reyes", i), title))
	}
	f := workspace(t, p.url, "")
	for _, name := range []string{"out.xlsx", "out.csv", "out.jsonl"} {
		require.Zero(t, first(f.run("export", "crewdesk", "-o", name)))
		code, out, errOut := f.run("draft", name, "--system", "crewdesk")
		assert.Zero(t, code, out+errOut)
		assert.Contains(t, out, "Nothing to change  10", name)
	}
}

// Whose number lost its zeros in a spreadsheet program, or got some, is not taken for new.
func TestLostZeros(t *testing.T) {
	t.Parallel()
	p := newPeer(t, habits{})
	for i := range 3 {
		p.add("/Users", sailor(fmt.Sprintf("%05d", 7*(i+1)), "Sailor", fmt.Sprint("Number", i), "Mate"))
	}
	p.add("/Users", sailor("100000", "Ana", "Reyes", "Mate"))
	f := workspace(t, p.url, "")
	brief := "system: crewdesk\nmatch: [employeeNumber]\nfields:\n  employeeNumber: {from: No}\n  userName: {from: Login}\n  title: {from: Position}\n"
	f.write("briefs/plain.yaml", brief)
	f.write("crew.csv", "No,Login,Position\n7,seven,Mate\n00021,sailor.number2,Mate\n1E5,ana,Mate\n0100000,more,Mate\n42,new,Mate\n")
	code, out, errOut := f.run("draft", "crew.csv", "-b", "plain")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, out, "Refused             3")
	_, out, _ = f.run("show", "1", "--json")
	for _, says := range []string{"no account has the staff number “7”, and “00007” is sailor.number0", "“100000” is ana.reyes", "say “digits: 5”"} {
		assert.Contains(t, out, says)
	}
	f.write("briefs/five.yaml", strings.Replace(brief, "{from: No}", "{from: No, digits: 5}", 1))
	f.write("crew.csv", "No,Login,Position\n7,sailor.number0,Mate\n42,new,Mate\n123456,long,Mate\n")
	code, out, errOut = f.run("draft", "crew.csv", "-b", "five")
	assert.Equal(t, 1, code, out+errOut)
	for _, says := range []string{"To create           1", "Nothing to change   1", "is no number of 5 digits"} {
		assert.Contains(t, out, says)
	}
}

// A group of which only some members are shown is not taken for the whole: who was put in and is not shown is told, and
// taken out again when it is undone. Who is removed and is still there is told.
func TestShownInPart(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{cutGroups: 2, softly: true})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "it drops members, or shows only some of them")
	require.Len(t, slices.Compact(p.in("deck")), 3)
	code, out, errOut = f.run("reverse", "1")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "2", "--yes")
	assert.Zero(t, code, out+errOut)
	assert.Equal(t, []string{p.id("tom.kaya")}, p.in("deck"), "nobody whom the batch put in stays")

	f.write("briefs/out.yaml", "system: crewdesk\nmatch: [userName]\nallow_remove: true\nintent: {make: '\"remove\"'}\nfields:\n  userName: {from: Name}\n")
	f.write("out.csv", "Name\ntom.kaya\n")
	require.Zero(t, first(f.run("draft", "out.csv", "-b", "out")))
	code, out, errOut = f.run("post", "3", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "was removed, and it is there, and may not sign in")
}

// A no in plain words is a no, and its words are told.
func TestRefusalsInPlainWords(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost || r.URL.Path != "/Users" {
			return false
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		if strings.Contains(string(bodyOf(r)), "mei.lin") {
			w.WriteHeader(422)
			_, _ = w.Write([]byte("cooks need a berth"))
		} else {
			w.WriteHeader(409)
			_, _ = w.Write([]byte("duplicate"))
		}
		return true
	}})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	_, out, _ = f.run("show", "1", "--json")
	assert.Contains(t, out, "the system says: duplicate")
	assert.Contains(t, out, "taken-value")
	assert.Contains(t, out, "the system says: cooks need a berth")
	assert.Len(t, p.kinds["/Users"], 9)
}

// Who has a name already is never taken for new, though the service shows them to nobody and answers as if
// it had made them.
func TestTakenNamesAnsweredWith200(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost || r.URL.Path != "/Users" {
			return false
		}
		body := string(bodyOf(r))
		there := sailor("", "Zelda", "Ångström", "Captain")
		there["userName"] = "zoe.angstrom"
		if strings.Contains(body, "mei.lin") {
			there = sailor("", "Mei", "Lin", "Cook")
		}
		p.put("/Users", there)
		if strings.Contains(body, "mei.lin") {
			there["meta"].(object)["created"] = "2019-03-01T08:00:00Z"
		}
		w.Header().Set("Content-Type", "application/scim+json")
		_ = json.NewEncoder(w).Encode(there)
		return true
	}})
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	_, out, _ = f.run("show", "1", "--json")
	assert.Contains(t, out, "has the givenName Zelda, and Zoë was sent")
	assert.Contains(t, out, "was made before, at 2019-03-01")
	assert.Equal(t, 3, f.outcomes(1)["failed"], "and Ana, whose manager is one of them")
	assert.NotContains(t, p.in("deck"), p.id("zoe.angstrom"))
	require.Zero(t, first(f.run("reverse", "1", "--remove")))
	f.run("post", "2", "--yes")
	assert.NotNil(t, p.who("zoe.angstrom"))
	assert.NotNil(t, p.who("mei.lin"))
}

// A reference to an account that the service shows later than “settle” says waits, and is set when it shows.
func TestReferencesToUnseenAccounts(t *testing.T) {
	t.Parallel()
	late := true
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		id := strings.TrimPrefix(r.URL.Path, "/Users/")
		switch {
		case !late:
			return false
		case r.Method == http.MethodGet && (id == "11" || id == "12"):
			p.no(w, 404, "nobody")
			return true
		case r.Method == http.MethodPatch && strings.Contains(string(bodyOf(r)), "manager"):
			p.no(w, 400, "no such manager")
			return true
		}
		return false
	}})
	f.write("crew.csv", strings.ReplaceAll(strings.ReplaceAll(habitSheet, ",deck", ","), ",tide", ","))
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 3, code, out+errOut)
	assert.Contains(t, out, "the system does not show")
	assert.Zero(t, f.outcomes(1)["failed"], out)

	// A person may give a row up that waits: it has failed, and says who said so.
	assert.Equal(t, 2, first(f.run("post", "1", "--give-up", "--yes")), "which rows?")
	assert.Equal(t, 4, first(f.run("post", "1", "--give-up", "--row", "5")), "nobody is there to be asked")
	assert.Equal(t, 2, first(f.run("post", "1", "--give-up", "--row", "3", "--yes")), "it does not wait")
	waited := f.outcomes(1)["waiting"]
	code, out, errOut = f.run("post", "1", "--give-up", "--row", "5", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Equal(t, waited-1, f.outcomes(1)["waiting"])
	_, out, _ = f.run("show", "1", "--row", "5")
	assert.Contains(t, out, "given-up")
	assert.Contains(t, out, "given up by ")
	p.mu.Lock()
	late = false
	p.mu.Unlock()
	code, out, errOut = f.run("post", "1", "--yes")
	require.Equal(t, 1, code, out+errOut)
	assert.Equal(t, "posted", f.batch(1).State)
	assert.Equal(t, 1, f.outcomes(1)["failed"], "what was given up stays so")
	assert.Zero(t, first(f.run("ledger", "check")))
	assert.Equal(t, p.id("zoe.angstrom"), manager(p.who("ana.reyes")))
	assert.Equal(t, p.id("ana.reyes"), manager(p.who("zoe.angstrom")))
}

// A password is handed out only where it is known to have been set: not for an account that was found
// when a post went on, whether or not the service says when it was made.
func TestPasswordsNobodyKnows(t *testing.T) {
	t.Parallel()
	for name, timeless := range map[string]bool{"when it was made is known": false, "and is not known": true} {
		t.Run(name, func(t *testing.T) {
			lose := true
			p, f := quay(t, habits{noVersions: timeless, after: func(r *http.Request, _ int) (int, string) {
				if r.Method == http.MethodPost && r.URL.Path == "/Users" && lose {
					return 504, ""
				}
				return 0, ""
			}})
			p.habits.instead = func(p *peer, w http.ResponseWriter, r *http.Request) bool {
				if lose && r.Method == http.MethodGet && len(p.kinds["/Users"]) > 9 {
					p.no(w, 503, "down for a moment")
					return true
				}
				return false
			}
			f.write("briefs/crew.yaml", habitBrief+"password: {new: generate}\n")
			f.write("crew.csv", habitSheet[:strings.Index(habitSheet, "4,")])
			require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
			cmd := f.command("post", "1", "--yes", "--credentials", "first.csv", "--in-clear")
			require.NoError(t, cmd.Start())
			testserver.Soon(t, func() bool { return p.who("zoe.angstrom") != nil })
			require.NoError(t, cmd.Process.Kill())
			require.Error(t, cmd.Wait())
			p.mu.Lock()
			lose = false
			p.mu.Unlock()
			code, out, errOut := f.run("post", "1", "--yes", "--credentials", "out.csv", "--in-clear")
			require.Zero(t, code, errOut)
			assert.Equal(t, 2, f.outcomes(1)["created"]+f.outcomes(1)["updated"])
			assert.Contains(t, out, "password-not-known")
			assert.NoFileExists(t, filepath.Join(f.dir, "out.csv"), "there is none to be handed out")
		})
	}
}

// A password is in one envelope, though several hand them out at once; and none is kept of a draft
// that is put away, whenever that is cut short.
func TestPasswordsOfSeveral(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{})
	f.write("briefs/crew.yaml", "system: crewdesk\nmatch: [employeeNumber]\nfields:\n  employeeNumber: {from: No}\n  familyName: {from: Last}\n  userName: {make: '\"hand.\" + employeeNumber'}\npassword: {new: generate}\n")
	const people = 30
	f.crew("hands.csv", people, "Deck hand")
	require.Zero(t, first(f.run("draft", "hands.csv", "-b", "crew")))
	var all sync.WaitGroup
	for i := range 3 {
		all.Go(func() {
			code, out, errOut := f.run("post", "1", "--yes", "--credentials", fmt.Sprintf("words-%d.csv", i), "--in-clear")
			assert.Zero(t, code, out+errOut)
		})
	}
	all.Wait()
	files, err := filepath.Glob(filepath.Join(f.dir, "words-*.csv"))
	require.NoError(t, err)
	handed := map[string]bool{}
	for _, file := range files {
		for line := range strings.Lines(strings.SplitN(f.read(filepath.Base(file)), "\n", 2)[1]) {
			name, _, _ := strings.Cut(line, ",")
			assert.False(t, handed[name], "%s is in two envelopes", name)
			assert.NotNil(t, p.who(name), name)
			handed[name] = true
		}
	}
	assert.Len(t, handed, people, "%d files", len(files))

	f.crew("more.csv", 1, "Deck hand")
	f.write("more.csv", strings.ReplaceAll(f.read("more.csv"), ",Ana,", "9,Ana,"))
	states := map[string]int{}
	var takes time.Duration
	for id := 2; id < 16; id++ {
		require.Zero(t, first(f.run("draft", "more.csv", "-b", "crew")))
		key := filepath.Join(f.dir, "ledger.db.keys", fmt.Sprint(id)+".key")
		require.FileExists(t, key)
		cmd := f.command("withdraw", fmt.Sprint(id))
		begun := time.Now()
		require.NoError(t, cmd.Start())
		if id > 2 {
			time.AfterFunc(takes*time.Duration(id)/16, func() { _ = cmd.Process.Kill() })
		}
		if ended := cmd.Wait(); ended == nil && (id == 2 || time.Since(begun) < takes) { // the machine may have stood still in the first
			takes = time.Since(begun)
		}
		was := f.batch(id).State
		if states[was]++; was != "drafted" {
			assert.Equal(t, 2, first(f.run("post", fmt.Sprint(id), "--yes", "--credentials", "late.csv", "--in-clear")), was)
		}
		if was != "withdrawn" {
			require.Zero(t, first(f.run("withdraw", fmt.Sprint(id))), was)
		}
		assert.NoFileExists(t, key)
		assert.Equal(t, "withdrawn", f.batch(id).State)
	}
	assert.Greater(t, len(states), 1, "%v", states)
	assert.Nil(t, p.who("hand.10009"))
	assert.Zero(t, first(f.run("ledger", "check")))
}

// Memberships of accounts that the service doesn't show yet wait, and nothing else waits for
// them.
func TestMembershipsOfUnseenAccounts(t *testing.T) {
	t.Parallel()
	late := true
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		id := strings.TrimPrefix(r.URL.Path, "/Users/")
		switch {
		case !late:
			return false
		case r.Method == http.MethodGet && (id == "11" || id == "12"):
			p.no(w, 404, "nobody")
			return true
		case r.Method == http.MethodPatch && strings.HasPrefix(r.URL.Path, "/Groups/"):
			if body := string(bodyOf(r)); strings.Contains(body, `"11"`) || strings.Contains(body, `"12"`) {
				p.no(w, 400, "no such member")
				return true
			}
		}
		return false
	}})
	f.write("crew.csv", strings.NewReplacer(",3,deck", ",,deck", ",3,tide", ",,tide", ",1,deck", ",,deck").Replace(habitSheet))
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 3, code, out+errOut)
	assert.Contains(t, out, "the system does not show the new account within 300ms")
	assert.Equal(t, map[string]int{"updated": 1, "unchanged": 1, "waiting": 2}, f.outcomes(1))
	assert.Contains(t, p.in("deck"), p.id("ana.reyes"))
	assert.Equal(t, 1, first(f.run("post", "1", "--yes", "--settle")), "something remains, as was to be found out")
	p.mu.Lock()
	late = false
	p.mu.Unlock()
	require.Zero(t, first(f.run("post", "1", "--yes")))
	assert.Equal(t, map[string]int{"created": 2, "updated": 1, "unchanged": 1}, f.outcomes(1))
	assert.Equal(t, []string{p.id("mei.lin")}, p.in("tide"))
}

// “Just these” takes away what else there is, also where lists don't show it.
func TestExactWhereListsAreBare(t *testing.T) {
	t.Parallel()
	for name, h := range map[string]habits{"shown": {}, "bare": {bareLists: true}, "many": {bareLists: true}} {
		t.Run(name, func(t *testing.T) {
			p, f := quay(t, h)
			if name == "many" { // so many that they are listed rather than read one by one
				for i := range 40 {
					p.add("/Groups", object{"displayName": fmt.Sprint("crew", i), "members": []any{}})
				}
			}
			f.write("briefs/crew.yaml", strings.Replace(habitBrief, "make_missing: true", "make_missing: true, mode: exact", 1))
			f.write("crew.csv", "No,First,Last,Position,Boss,Crew\n2,Tom,Kaya,Mate,,tide\n")
			require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
			require.Zero(t, first(f.run("post", "1", "--yes")))
			assert.Empty(t, p.in("deck"))
			assert.Equal(t, []string{p.id("tom.kaya")}, p.in("tide"))
		})
	}
}

// Whoever stands between may send a request twice, and hand on the second answer: that the
// name is taken, by the account that the first made. It is the batch's; but whether the
// password is, a colleague at the same sheet leaves open.
func TestSentTwiceOnTheWay(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost && r.URL.Path == "/Users" {
			p.one(discarded{http.Header{}}, r, "/Users", "", bodyOf(r))
		}
		return false
	}})
	f.write("briefs/crew.yaml", habitBrief+"password: {new: generate}\n")
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes", "--credentials", "out.csv", "--in-clear")
	require.Zero(t, code, out+errOut)
	assert.Equal(t, map[string]int{"created": 2, "updated": 1, "unchanged": 1}, f.outcomes(1))
	assert.Len(t, p.kinds["/Users"], 11)
	assert.Contains(t, out, "password-not-known")
	assert.NoFileExists(t, filepath.Join(f.dir, "out.csv"))
}
