package description_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/yamldoc"
)

const least = `account: {id: id, fields: {userName: login}}
list: {get: /people, items: data}
read: {get: "/people/{id}"}
`

func parse(t *testing.T, text string) *description.Interface {
	i, err := description.Parse("mooring.yaml", []byte(text), "2026-11-30")
	require.NoError(t, err)
	return i
}

// Every mistake is told where it stands, with what can be done.
func TestMistakes(t *testing.T) {
	parse(t, least)
	for text, want := range map[string][]string{
		"interface: X\n":                                                                                        {"1:1", "nothing says where an account's identifier stands", "how all accounts are listed", "how one account is read"},
		least + "raed: {get: /x}\n":                                                                             {"4:1", "raed", "read"},
		least + "remove: {delete: /people}\n":                                                                   {"4:1", "remove does not say which account is meant", "{id}"},
		least + "remove: {delete: \"/people/{idd}\"}\n":                                                         {"4:18", "idd"},
		least + "remove: {delete: \"/people/{thing}\"}\n":                                                       {"there is no “thing” in such a request"},
		least + "remove: {delete: \"/people/{id\"}\n":                                                           {"a brace is never closed"},
		least + "remove: {delete: people, post: /x}\n":                                                          {"a path begins with /", "one method"},
		least + "suspend: {post: \"/people/{id}/halt\"}\n":                                                      {"nothing shows which are", "describe"},
		least + "answers: {taken: status = 409}\n":                                                              {"4:25", "=="},
		least + "answers: {taken: status + 1}\n":                                                                {"yes or no is wanted"},
		least + "answers: {message: \"error[0]\"}\n":                                                            {"“error[0]”", "name.first"},
		least + "find: {get: /people, by: {mail: q}, items: data}\n":                                            {"accounts are found by “mail”"},
		least + "find: {get: /people, by: {userName: q}, items: data, most: 5}\n":                               {"how several values stand in one request"},
		least + "password: {put: \"/people/{id}/secret\", body: {secret: x}}\n":                                 {"has none in it"},
		least + "change: [{patch: \"/people/{id}\"}, {put: \"/people/{id}\", fields: [userName]}]\n":            {"what follows is never asked for"},
		least + "change: {patch: \"/people/{id}\", fields: [login]}\n":                                          {"“login” is changed like this"},
		least + "things: {crews: {list: {get: /c, items: .}, id: id, name: n}}\n":                               {"there is no kind of things “crews”", "groups"},
		least + "things: {groups: {list: {get: /c, items: .}, id: id, name: n}}\n":                              {"how an account comes into one of the groups"},
		least + "things: {groups: {list: {get: /c, items: .}, id: id, name: n, join: {put: \"/c/{thing}\"}}}\n": {"what is done could not be undone"},
		least + "jobs: {done: body.ready}\n":                                                                    {"where something that was taken in is asked for"},
		least + "list: {get: /people, items: data, next: {page: p, offset: o}}\n":                               {"list"},
		strings.Replace(least, "userName: login", "userName: login, email: login", 1):                           {"two fields stand at login"},
		strings.Replace(least, "userName: login", "userName: login, password: x", 1):                            {"“password” is no field"},
		strings.Replace(least, "userName: login", "userName: login, email: {list: mails, where: {kind: m}}", 1): {"where in an element of mails the value of email stands"},
		strings.Replace(least, "userName: login", "userName: login, active: {at: s, words: {live: \"1\"}}", 1):  {"neither"},
		strings.Replace(least, "userName: login", "userName: login, email: {kind: mail}", 1):                    {"mail"},
		strings.Replace(least, "userName: login", "userName: login, unit: {at: unit}", 1):                       {"a place in a tree"},
		least + "create: {post: /people, body: {login: \"{userName\"}}\n":                                       {"never closed"},
		least + "create: {post: /people, body: {login: \"{userNam}\"}}\n":                                       {"userNam"},
		least + "create_together: {post: /batch, most: 5}\n":                                                    {"accounts are only made together"},
	} {
		_, err := description.Parse("mooring.yaml", []byte(text), "2026-11-30")
		var problems yamldoc.Problems
		require.ErrorAs(t, err, &problems, text)
		for _, word := range want {
			assert.Contains(t, strings.ToLower(err.Error()), strings.ToLower(word), text)
		}
	}
}

// What a field writes it reads back, and what stands beside it stays.
func TestFields(t *testing.T) {
	i := parse(t, `
account:
  id: id
  fields:
    userName: login
    givenName: name.first
    email: {list: contacts, where: {kind: mail}, value: value}
    active: {at: state, words: {true: live, false: halted}}
    employeeNumber: {at: nr, as: number}
    startDate: {at: since, as: seconds}
    endDate: {at: until, as: time, kind: date}
    shoe: {at: 'custom."shoe.size"', kind: number}
    ids: {list: ids, parts: [issuer, subject]}
    tags: {list: tags, value: name}
list: {get: /people, items: data}
read: {get: "/people/{id}"}
`)
	decode := func(text string) (object map[string]any) {
		decoder := json.NewDecoder(strings.NewReader(text))
		decoder.UseNumber()
		require.NoError(t, decoder.Decode(&object))
		return object
	}
	was := decode(`{"login":"ana","nr":9007199254740993,"name":{"first":"Ana","middle":"X"},"contacts":[{"kind":"phone","value":"1"},{"kind":"mail","value":"a@x","note":"home"}],"state":"live","since":1764460800,"until":"2027-01-02T23:00:00+02:00","ids":[{"issuer":"a","subject":"1","at":"7"}],"tags":[{"name":"deck"}]}`)
	read := func(name string, of any) string {
		f, has := i.Account.Field(name)
		require.True(t, has, name)
		return f.Read(of).Text()
	}
	for name, want := range map[string]string{"userName": "ana", "givenName": "Ana", "email": "a@x", "active": "true", "employeeNumber": "9007199254740993", "startDate": "2025-11-30", "endDate": "2027-01-02", "shoe": "", "ids{issuer,subject}": "a\t1", "tags": "deck"} {
		assert.Equal(t, want, read(name, was), name)
	}
	for name, c := range map[string]struct{ after, want string }{
		"givenName":           {"Zoë", `"name":{"first":"Zoë","middle":"X"}`},
		"email":               {"z@x", `"contacts":[{"kind":"phone","value":"1"},{"kind":"mail","note":"home","value":"z@x"}]`},
		"active":              {"false", `"state":"halted"`},
		"employeeNumber":      {"12345678901234567890", `"nr":12345678901234567890`},
		"startDate":           {"1970-01-02", `"since":86400`},
		"endDate":             {"2026-12-01", `"until":"2026-12-01T00:00:00Z"`},
		"shoe":                {"43", `"custom":{"shoe.size":43}`},
		"ids{issuer,subject}": {"a\t1\nb\t2", `"ids":[{"at":"7","issuer":"a","subject":"1"},{"issuer":"b","subject":"2"}]`},
		"tags":                {"deck\nnight", `"tags":[{"name":"deck"},{"name":"night"}]`},
	} {
		f, _ := i.Account.Field(name)
		object := decode(string(must(json.Marshal(was))))
		require.NoError(t, f.Write(object, read(name, object), c.after, true), name)
		assert.Contains(t, string(must(description.Encode(object))), c.want, name)
		assert.Equal(t, c.after, read(name, object), name)
		require.NoError(t, f.Write(object, c.after, "", true), name)
		assert.Empty(t, read(name, object), "a blank takes it away: %s", name)
	}
	f, _ := i.Account.Field("employeeNumber")
	_, err := f.JSON("00417")
	assert.ErrorContains(t, err, "no number")
}

func must(data []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return data
}

// Templates lead nowhere else, whatever a value holds, and bodies keep the kinds of values.
func TestTemplates(t *testing.T) {
	i := parse(t, strings.Replace(least, "userName: login", "userName: login, active: on, title: job", 1)+`
create: {post: "/people/{userName}", body: {login: "{userName}", on: "{active}", tags: [new, "{title}"], "no": 7, say: "{{{userName}}} at {title}", none: null}}
`)
	scope := i.Scope(map[string]string{"userName": `a/../b?c#d "x"`, "active": "true"}).New()
	at, err := i.Create.Path.Address(scope)
	assert.ErrorContains(t, err, "another address", at)
	scope = i.Scope(map[string]string{"userName": `a/b?c#d "ü"`, "active": "true"}).New()
	at, err = i.Create.Path.Address(scope)
	require.NoError(t, err)
	assert.Equal(t, `/people/a%2Fb%3Fc%23d%20%22%C3%BC%22`, at)
	body, err := i.Create.Body.JSON(scope)
	require.NoError(t, err)
	assert.JSONEq(t, `{"login":"a/b?c#d \"ü\"","on":true,"tags":["new"],"no":7,"say":"{a/b?c#d \"ü\"} at ","none":null}`, string(body))
	_, err = i.Read.Path.Address(i.Scope(nil))
	assert.ErrorContains(t, err, "blank")
}

// A schema document says what is required, and which values there are; a first description is guessed from one.
func TestDocuments(t *testing.T) {
	const openAPI = `
openapi: 3.0.3
info: {title: Harbour office}
paths:
  /v1/berths: {get: {}}
  /v1/berths/{berth}: {get: {}}
  /v1/staff-members:
    get:
      parameters: [{in: query, name: cursor}, {in: query, name: limit}, {in: query, name: email}]
      responses: {"200": {content: {application/json: {schema: {type: object, properties: {results: {type: array, items: {$ref: "#/components/schemas/Member"}}, paging: {properties: {next_cursor: {type: string}}}}}}}}}
    post: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Member"}}}}}
  /v1/staff-members/{memberId}:
    get: {responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/Member"}}}}}}
    patch: {}
    delete: {}
  /v1/staff-members/{memberId}/disable: {post: {}}
  /v1/staff-members/{memberId}/enable: {post: {}}
components:
  schemas:
    Named: {type: object, required: [lastName], properties: {firstName: {type: string}, lastName: {type: string, maxLength: 40}}}
    Member:
      allOf: [{$ref: "#/components/schemas/Named"}]
      type: object
      required: [username]
      properties:
        id: {type: string, readOnly: true}
        username: {type: string}
        email: {type: string, format: email}
        jobTitle: {type: string, enum: [Mate, Bosun]}
        shoeSize: {type: integer}
        active: {type: boolean}
        createdAt: {type: string, format: date-time, readOnly: true}
`
	text, err := description.Guess([]byte(openAPI))
	require.NoError(t, err)
	for _, want := range []string{"interface: Harbour office", "userName: username", "familyName: lastName", "title: jobTitle", "email: email", `get: "/v1/staff-members"`, "items: results", "cursor: paging.next_cursor, as: cursor", `every: {limit: "100"}`,
		`read: {get: "/v1/staff-members/{id}"}`, "body: merge", `suspend: {post: "/v1/staff-members/{id}/disable"}`, "#/components/schemas/Member", "made: createdAt", "by: {email: email}", "besides: ", "guessed"} {
		assert.Contains(t, text, want)
	}
	i := parse(t, text)
	require.NoError(t, i.Learn([]byte(openAPI), "/components/schemas/Member"))
	last, _ := i.Account.Field("familyName")
	assert.Equal(t, []any{true, 40}, []any{last.Required, last.Longest})
	title, _ := i.Account.Field("title")
	assert.Equal(t, []string{"Mate", "Bosun"}, title.OneOf)
	shoe, err := i.Add("shoeSize")
	require.NoError(t, err)
	require.NoError(t, i.Learn([]byte(openAPI), "/components/schemas/Member"))
	assert.Equal(t, account.Number, shoe.Kind)
	round := `{"paths":{"/users":{"get":{}},"/users/{id}":{"get":{"responses":{"200":{"content":{"application/json":{"schema":{"$ref":"#/x"}}}}}}}},"x":{"properties":{"id":{"type":"string"}},"allOf":[{"$ref":"#/x"},{"$ref":"#/x"}]}}`
	_, err = description.Guess([]byte(round))
	require.NoError(t, err, "what goes round ends")
	hostile := strings.NewReplacer("STRANGE", `x\nremove: {delete: \"/all\"}\n# `, "ODD", `a: b, \"c\" }\u2028\u0007`).Replace(`{"info":{"title":"T\nremove: {delete: \"/all\"}"},"paths":{
"/users":{"get":{"parameters":[{"in":"query","name":"user_name"},{"in":"query","name":"username"},{"in":"query","name":"e mail\n"}],"responses":{"200":{"content":{"application/json":{"schema":{"properties":{"STRANGE":{"type":"array","items":{"$ref":"#/S"}}}}}}}}}},
"/users/{id}":{"get":{"responses":{"200":{"content":{"application/json":{"schema":{"$ref":"#/S"}}}}}}}},
"S":{"properties":{"id":{"type":"string"},"STRANGE":{"type":"string"},"ODD":{"type":"string"},"username":{"type":"string"},"null":{"properties":{"first_name":{"type":"string"}}},"ODD":{"properties":{"family_name":{"type":"string"}}},"Post.2":{"properties":{"last_name":{"type":"string"}}}}}}`)
	text, err = description.Guess([]byte(hostile))
	require.NoError(t, err)
	i = parse(t, text)
	assert.Nil(t, i.Remove, "what a document calls its parts is no line of the description:\n%s", text)
	assert.Equal(t, []string{"null.first_name", `"Post.2".last_name`, "username"}, []string{at(t, i, "givenName"), at(t, i, "familyName"), at(t, i, "userName")}, text)
	assert.Equal(t, "user_name", i.Finding.Params["userName"], "one parameter for a field")
	for _, bad := range []string{"{", "paths: {}", "paths: {/x: {get: {}}}"} {
		_, err := description.Guess([]byte(bad))
		assert.Error(t, err, bad)
	}
	assert.ErrorContains(t, i.Learn([]byte(openAPI), "/components/schemas/Nobody"), "nothing at #/components")
	schema, err := description.Schema()
	require.NoError(t, err)
	assert.True(t, json.Valid(schema))
}

// at is where a field stands.
func at(t *testing.T, i *description.Interface, field string) string {
	f, has := i.Account.Field(field)
	require.True(t, has, field)
	return f.At.String()
}
