package standin_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/standin"
)

const (
	user  = `"urn:ietf:params:scim:schemas:core:2.0:User"`
	crew  = `"urn:example:params:scim:schemas:extension:crew:2.0:User"`
	patch = `"urn:ietf:params:scim:api:messages:2.0:PatchOp"`
)

type client struct {
	t    *testing.T
	base string
}

func serve(t *testing.T, options standin.Options) client {
	options.Token = "secret"
	s, err := standin.New(options)
	require.NoError(t, err)
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	return client{t, server.URL + "/scim/v2"}
}

type answer struct {
	status int
	header http.Header
	body   map[string]any
}

// send sends "METHOD path" with headers as "Name: value".
func (c client) send(line, body string, headers ...string) answer {
	method, path, _ := strings.Cut(line, " ")
	req, err := http.NewRequest(method, c.base+path, strings.NewReader(body))
	require.NoError(c.t, err)
	req.Header.Set("Authorization", "Bearer secret")
	req.Header.Set("Content-Type", "application/scim+json")
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		req.Header.Set(name, value)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	a := answer{status: resp.StatusCode, header: resp.Header}
	if len(data) > 0 {
		require.NoError(c.t, json.Unmarshal(data, &a.body), string(data))
	}
	return a
}

func (c client) create(body string) string {
	a := c.send("POST /Users", `{"schemas":[`+user+`],`+body+`}`)
	require.Equal(c.t, 201, a.status, a.body)
	return a.body["id"].(string)
}

// text renders part of an answer, for short expectations.
func text(value any) string {
	data, _ := json.Marshal(value)
	return string(data)
}

func TestErrors(t *testing.T) {
	c := serve(t, standin.Options{})
	id := c.create(`"userName":"ana","emails":[{"value":"ana@x.example","type":"work"}]`)
	for _, e := range []struct {
		line, body string
		status     int
		scimType   string
	}{
		{"POST /Users", `{`, 400, "invalidSyntax"},
		{"POST /Users", `[]`, 400, "invalidSyntax"},
		{"POST /Users", `{"userName":"x"}`, 400, "invalidSyntax"},
		{"POST /Users", `{"schemas":["urn:x"],"userName":"x"}`, 400, "invalidSyntax"},
		{"POST /Users", `{"schemas":[` + user + `,"urn:x"],"userName":"x"}`, 400, "invalidSyntax"},
		{"POST /Users", `{"schemas":[` + user + `]}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":"x","shoeSize":4}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":7}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":"x","active":"true"}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":"x","emails":{"value":"y"}}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":"x","emails":[{"value":"y","primary":true},{"value":"z","primary":true}]}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":"ANA"}`, 409, "uniqueness"},
		{"POST /Users", `{"schemas":[` + user + `],"userName":"x",` + crew + `:{"watch":"Day"}}`, 400, "invalidSyntax"},
		{"POST /Users", `{"schemas":[` + user + `,` + crew + `],"userName":"x",` + crew + `:{"watch":"Noon"}}`, 400, "invalidValue"},
		{"POST /Users", `{"schemas":[` + user + `,` + crew + `],"userName":"x",` + crew + `:{"joined":"yesterday"}}`, 400, "invalidValue"},
		{"GET /Users/nobody", "", 404, ""},
		{"GET /Nothing", "", 404, ""},
		{"GET /Me", "", 501, ""},
		{"GET /Users?filter=userName%20eq", "", 400, "invalidFilter"},
		{"GET /Users?filter=shoe%20eq%201", "", 400, "invalidFilter"},
		{"GET /Users?filter=(userName%20pr", "", 400, "invalidFilter"},
		{"GET /Users?count=many", "", 400, "invalidValue"},
		{"PATCH /Users/" + id, `{"Operations":[{"op":"remove","path":"title"}]}`, 400, "invalidSyntax"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `]}`, 400, "invalidSyntax"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `],"Operations":[{"op":"move","path":"title"}]}`, 400, "invalidSyntax"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `],"Operations":[{"op":"remove"}]}`, 400, "noTarget"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `],"Operations":[{"op":"replace","path":"shoe","value":"x"}]}`, 400, "invalidPath"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `],"Operations":[{"op":"replace","path":"id","value":"x"}]}`, 400, "mutability"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `],"Operations":[{"op":"replace","path":"emails[type eq \"home\"].value","value":"x"}]}`, 400, "noTarget"},
		{"PATCH /Users/" + id, `{"schemas":[` + patch + `],"Operations":[{"op":"remove","path":"userName"}]}`, 400, "invalidValue"},
		{"DELETE /Users/nobody", "", 404, ""},
		{"PUT /Users", "{}", 501, ""},
	} {
		a := c.send(e.line, e.body)
		assert.Equal(t, e.status, a.status, "%s %s: %v", e.line, e.body, a.body)
		got, _ := a.body["scimType"].(string)
		assert.Equal(t, e.scimType, got, "%s %s", e.line, e.body)
		assert.Equal(t, fmt.Sprint(e.status), a.body["status"], "the status is a text (RFC 7644 section 3.12)")
	}
	assert.Equal(t, 401, c.send("GET /Users", "", "Authorization: Bearer wrong").status)
	assert.Equal(t, 415, c.send("POST /Users", "x", "Content-Type: text/plain").status)
}

func TestFilters(t *testing.T) {
	c := serve(t, standin.Options{})
	c.create(`"userName":"ana","title":"Bosun","active":true,"name":{"familyName":"Reyes"},"emails":[{"value":"ana@x.example","type":"work"},{"value":"a@home.example","type":"home"}]`)
	c.create(`"userName":"Tom","title":"clerk \"A\"","active":false,"emails":[{"value":"tom@x.example","type":"home"}]`)
	c.create(`"userName":"zoë"`)
	for filter, want := range map[string]string{
		`userName eq "ANA"`:                                        "ana",
		`userName eq "ana" or userName eq "tom"`:                   "ana Tom",
		`userName eq "zoë"`:                                        "zoë",
		`title eq "clerk \"a\""`:                                   "Tom",
		`name.familyName co "ey"`:                                  "ana",
		`userName sw "t" or userName ew "a"`:                       "ana Tom",
		`title pr`:                                                 "ana Tom",
		`not (title pr)`:                                           "zoë",
		`active eq true`:                                           "ana",
		`active ne true`:                                           "Tom zoë",
		`emails.value eq "tom@x.example"`:                          "Tom",
		`emails eq "tom@x.example"`:                                "Tom",
		`emails[type eq "work" and value co "x.example"]`:          "ana",
		`emails[type eq "work" and value eq "a@home.example"]`:     "",
		`title eq "Bosun" and (active eq true or userName eq "x")`: "ana",
		`userName pr and title eq "Bosun" or userName eq "tom"`:    "ana Tom",
		`userName gt "t"`:                                          "Tom zoë",
		user[1:len(user)-1] + `:userName eq "ana"`:                 "ana",
		`meta.created gt "2000-01-01T00:00:00Z"`:                   "ana Tom zoë",
	} {
		a := c.send("GET /Users?attributes=userName&filter="+url.QueryEscape(filter), "")
		require.Equal(t, 200, a.status, "%s: %v", filter, a.body)
		var names []string
		for _, r := range a.body["Resources"].([]any) {
			names = append(names, r.(map[string]any)["userName"].(string))
		}
		assert.Equal(t, want, strings.Join(names, " "), filter)
	}
}

func TestPatch(t *testing.T) {
	const start = `"userName":"ana","title":"Bosun","name":{"givenName":"Ana","familyName":"Reyes"},"emails":[{"value":"w@x.example","type":"work","primary":true},{"value":"h@x.example","type":"home"}]`
	for operations, want := range map[string]string{
		`{"op":"Replace","path":"title","value":"Mate"}`:                                                          `title "Mate"`,
		`{"op":"remove","path":"title"}`:                                                                          `title null`,
		`{"op":"replace","value":{"title":"Mate","name":{"givenName":"A"}}}`:                                      `name {"familyName":"Reyes","givenName":"A"}`,
		`{"op":"add","path":"name.familyName","value":"Soto"}`:                                                    `name {"familyName":"Soto","givenName":"Ana"}`,
		`{"op":"replace","path":"emails[type eq \"work\"].value","value":"n@x.example"}`:                          `emails [{"primary":true,"type":"work","value":"n@x.example"},{"type":"home","value":"h@x.example"}]`,
		`{"op":"remove","path":"emails[type eq \"home\"]"}`:                                                       `emails [{"primary":true,"type":"work","value":"w@x.example"}]`,
		`{"op":"remove","path":"emails[type eq \"home\"].value"}`:                                                 `emails [{"primary":true,"type":"work","value":"w@x.example"}]`,
		`{"op":"add","path":"emails","value":[{"value":"o@x.example","primary":true}]}`:                           `emails [{"type":"work","value":"w@x.example"},{"type":"home","value":"h@x.example"},{"primary":true,"value":"o@x.example"}]`,
		`{"op":"add","path":"emails","value":[{"value":"h@x.example","type":"home"}]}`:                            `emails [{"primary":true,"type":"work","value":"w@x.example"},{"type":"home","value":"h@x.example"}]`,
		`{"op":"replace","path":"emails","value":[]}`:                                                             `emails null`,
		`{"op":"add","path":` + crew[:len(crew)-1] + `:seaMiles","value":12}`:                                     crew[1:len(crew)-1] + ` {"seaMiles":12}`,
		`{"op":"add","value":{` + crew + `:{"watch":"Day"}}}`:                                                     crew[1:len(crew)-1] + ` {"watch":"Day"}`,
		`{"op":"add","path":` + crew[:len(crew)-1] + `:watch","value":"Day"},{"op":"remove","path":` + crew + `}`: crew[1:len(crew)-1] + ` null`,
	} {
		c := serve(t, standin.Options{})
		id := c.create(start)
		a := c.send("PATCH /Users/"+id, `{"schemas":[`+patch+`],"Operations":[`+operations+`]}`)
		require.Equal(t, 200, a.status, "%s: %v", operations, a.body)
		name, value, _ := strings.Cut(want, " ")
		assert.Equal(t, value, text(a.body[name]), operations)
	}
}

func TestVersions(t *testing.T) {
	c := serve(t, standin.Options{})
	id := c.create(`"userName":"ana"`)
	first := c.send("GET /Users/"+id, "").header.Get("ETag")
	body := func(op string) string {
		return `{"schemas":[` + patch + `],"Operations":[{"op":"replace","path":"title","value":"` + op + `"}]}`
	}
	assert.Equal(t, 304, c.send("GET /Users/"+id, "", "If-None-Match: "+first).status)
	assert.Equal(t, 200, c.send("PATCH /Users/"+id, body("a"), "If-Match: "+first).status)
	assert.Equal(t, 412, c.send("PATCH /Users/"+id, body("b"), "If-Match: "+first).status)
	same := c.send("PATCH /Users/"+id, body("a"))
	assert.Equal(t, `W/"2"`, same.header.Get("ETag"), "what changes nothing makes no new version")
	assert.Equal(t, 412, c.send("DELETE /Users/"+id, "", "If-Match: "+first).status)
	assert.Equal(t, 200, c.send("PUT /Users/"+id, `{"schemas":[`+user+`],"userName":"ana2"}`).status)
	assert.Equal(t, "null", text(c.send("GET /Users/"+id, "").body["title"]), "PUT takes away what it doesn't name")
	assert.Equal(t, 204, c.send("DELETE /Users/"+id, "").status)
	assert.Equal(t, 404, c.send("GET /Users/"+id, "").status)
	c.create(`"userName":"ana2"`) // the name is free again
}

func TestListing(t *testing.T) {
	c := serve(t, standin.Options{Page: 2})
	for _, name := range []string{"c", "a", "B"} {
		c.create(`"userName":"` + name + `","title":"T"`)
	}
	a := c.send("GET /Users?startIndex=3&count=9&attributes=userName", "")
	assert.Equal(t, "3 1", text(a.body["totalResults"])+" "+text(a.body["itemsPerPage"]))
	assert.Equal(t, "null", text(a.body["Resources"].([]any)[0].(map[string]any)["title"]))
	a = c.send("GET /Users?count=0", "")
	assert.Equal(t, "3 []", text(a.body["totalResults"])+" "+text(a.body["Resources"]))
	a = c.send("POST /Users/.search", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],"sortBy":"userName","sortOrder":"descending","count":2,"excludedAttributes":["title"]}`)
	assert.Equal(t, "c", a.body["Resources"].([]any)[0].(map[string]any)["userName"])
	assert.NotContains(t, a.body["Resources"].([]any)[1], "title")
}

func TestDiscovery(t *testing.T) {
	c := serve(t, standin.Options{NoPatch: true})
	config := c.send("GET /ServiceProviderConfig", "").body
	assert.Equal(t, `{"supported":false}`, text(config["patch"]))
	assert.Equal(t, 501, c.send("PATCH /Users/x", "{}").status)
	assert.EqualValues(t, 6, c.send("GET /ResourceTypes", "").body["totalResults"])
	assert.Equal(t, "User", c.send("GET /Schemas/"+user[1:len(user)-1], "").body["name"])
	password := c.send("POST /Users", `{"schemas":[`+user+`],"userName":"p","password":"hidden-well"}`)
	assert.Equal(t, 201, password.status)
	assert.NotContains(t, text(password.body), "hidden")
	assert.Zero(t, c.send(`GET /Users?filter=password+eq+"hidden-well"`, "").body["totalResults"], "a password is not even kept")
	assert.Equal(t, 400, c.send("POST /Users", `{"schemas":[`+user+`],"userName":"q","password":"short"}`).status)
}

// Bulk requests (RFC 7644 section 3.7): each operation has its own answer, and
// after as many failures as allowed the rest is left.
func TestBulk(t *testing.T) {
	c := serve(t, standin.Options{Bulk: 5})
	assert.Equal(t, `{"maxOperations":5,"maxPayloadSize":1048576,"supported":true}`, text(c.send("GET /ServiceProviderConfig", "").body["bulk"]))
	ask := func(more, operations string) []any {
		got := c.send("POST /Bulk", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"]`+more+`,"Operations":[`+operations+`]}`)
		require.Equal(t, 200, got.status, got.body)
		return got.body["Operations"].([]any)
	}
	post := func(id, name string) string {
		return `{"method":"POST","path":"/Users","bulkId":"` + id + `","data":{"schemas":[` + user + `],"userName":"` + name + `"}}`
	}
	status := func(done []any) (all []any) {
		for _, o := range done {
			all = append(all, o.(map[string]any)["status"])
		}
		return all
	}
	done := ask("", post("a", "zoe")+","+post("b", "ZOE")+","+post("c", "mei"))
	assert.Equal(t, []any{"201", "409", "201"}, status(done))
	first := done[0].(map[string]any)
	assert.Equal(t, "a", first["bulkId"])
	assert.Nil(t, first["response"], "a success needs none")
	assert.Contains(t, text(done[1].(map[string]any)["response"]), "uniqueness")
	id := first["location"].(string)[strings.LastIndexByte(first["location"].(string), '/')+1:]
	patch := func(version string) string {
		return `{"method":"PATCH","path":"/Users/` + id + `","version":` + text(version) + `,"data":{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"title","value":"Bosun"}]}}`
	}
	assert.Equal(t, []any{"412", "200"}, status(ask("", patch(`W/"99"`)+","+patch(first["version"].(string)))))
	assert.Equal(t, "Bosun", c.send("GET /Users/"+id, "").body["title"])
	assert.Equal(t, []any{"409"}, status(ask(`,"failOnErrors":1`, post("a", "zoe")+","+post("b", "leo"))))
	assert.Equal(t, []any{"400", "400", "204"}, status(ask("", `{"method":"POST","path":"/Users","data":{}},{"method":"GET","path":"/Users"},{"method":"DELETE","path":"/Users/`+id+`"}`)))
	assert.Equal(t, 413, c.send("POST /Bulk", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],"Operations":[{},{},{},{},{},{}]}`).status)
	assert.Equal(t, 400, c.send("POST /Bulk", `{"schemas":[],"Operations":[]}`).status)
	assert.Equal(t, 501, serve(t, standin.Options{}).send("POST /Bulk", `{}`).status)
}

func TestDataIsKept(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "data.json")
	for round := range 3 {
		s, err := standin.New(standin.Options{Token: "secret", Data: path})
		require.NoError(t, err)
		server := httptest.NewServer(s)
		c := client{t, server.URL + "/scim/v2"}
		switch round {
		case 0:
			c.create(`"userName":"ana","active":true`)
			assert.Equal(t, 204, c.send("DELETE /Users/"+c.create(`"userName":"leo"`), "").status)
			_, err := standin.New(standin.Options{Data: path})
			require.ErrorContains(t, err, "another stand-in has its data")
		case 1:
			assert.Equal(t, "true", text(c.send("GET /Users/u-000001", "").body["active"]))
			assert.Equal(t, "u-000003", c.create(`"userName":"tom"`), "an identifier is not given again")
			// What was answered is there without an orderly end; what was cut short is not.
			journal, err := os.ReadFile(path + ".journal")
			require.NoError(t, err)
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			path = filepath.Join(dir, "killed.json")
			require.NoError(t, os.WriteFile(path, data, 0o600))
			require.NoError(t, os.WriteFile(path+".journal", append(journal, `{"endpoint":"/Users","id":"u-0`...), 0o600))
		case 2:
			assert.Equal(t, "tom", c.send("GET /Users/u-000003", "").body["userName"])
			assert.Equal(t, "u-000004", c.create(`"userName":"kai"`))
		}
		server.Close()
		require.NoError(t, s.Close())
	}
}

// The same requests meet the same faults, whatever their order.
func TestFaultsRepeat(t *testing.T) {
	met := func(order []int) string {
		now := time.Now()
		c := serve(t, standin.Options{Now: func() time.Time { return now }, Faults: standin.Faults{Seed: 7, Busy: 0.3, Errors: 0.2, Unseen: time.Hour}})
		statuses := make([]string, len(order))
		for _, i := range order {
			statuses[i] = fmt.Sprint(c.send("POST /Users", fmt.Sprintf(`{"schemas":[%s],"userName":"n%d"}`, user, i)).status)
		}
		for {
			if a := c.send("GET /Users", ""); a.status == 200 {
				assert.Equal(t, "0", text(a.body["totalResults"]), "new accounts are not seen yet")
				return strings.Join(statuses, " ")
			}
		}
	}
	forwards, backwards := make([]int, 40), make([]int, 40)
	for i := range forwards {
		forwards[i], backwards[i] = i, 39-i
	}
	first := met(forwards)
	assert.Equal(t, first, met(backwards))
	for _, status := range []string{"201", "429", "503"} {
		assert.Contains(t, first, status)
	}
}

// What may be a member of what: an account that there is, in a role and section
// that the course has, while it is open and a seat is left. Who is removed is a
// member no more.
func TestMembers(t *testing.T) {
	c := serve(t, standin.Options{})
	for _, name := range []string{"a", "b"} {
		require.Equal(t, 201, c.send("POST /Users", `{"schemas":[`+user+`],"userName":"`+name+`"}`).status)
	}
	make := func(kind, name, rest string) string {
		made := c.send("POST /"+kind+"s", `{"schemas":["urn:example:params:scim:schemas:crew:2.0:`+kind+`"],"displayName":"`+name+`"`+rest+`}`)
		require.Equal(t, 201, made.status, made.body)
		return "PATCH /" + kind + "s/" + made.body["id"].(string)
	}
	course := make("Course", "Marine radio", `,"open":true,"roles":["learner","tutor"],"sections":["spring"]`)
	closed := make("Course", "First aid", `,"open":false`)
	licence := make("Licence", "chart-viewer", `,"seats":1`)
	for _, p := range []struct {
		to, member string
		status     int
	}{
		{course, `{"value":"u-000001","role":"learner","section":"spring"}`, 200},
		{course, `{"value":"u-000001","role":"learner","section":"spring"}`, 200}, // it is one already
		{course, `{"value":"u-000002","role":"captain"}`, 400},
		{course, `{"value":"u-000002","section":"autumn"}`, 400},
		{course, `{"value":"u-000009"}`, 400},
		{closed, `{"value":"u-000001"}`, 403},
		{licence, `{"value":"u-000001"}`, 200},
		{licence, `{"value":"u-000002"}`, 403},
	} {
		got := c.send(p.to, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"add","path":"members","value":[`+p.member+`]}]}`)
		assert.Equal(t, p.status, got.status, "%s %v", p.member, got.body)
	}
	require.Equal(t, 204, c.send("DELETE /Users/u-000001", "").status)
	assert.NotContains(t, c.send("GET"+course[5:], "").body, "members")
	manager := `{"schemas":[` + user + `,"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],"userName":"c","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"manager":{"value":"%"}}}`
	assert.Equal(t, 400, c.send("POST /Users", strings.Replace(manager, "%", "u-000001", 1)).status)
	assert.Equal(t, 201, c.send("POST /Users", strings.Replace(manager, "%", "u-000002", 1)).status)
}
