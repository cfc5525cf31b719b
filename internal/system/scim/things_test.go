package scim_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/standin"
	"evenledger/internal/system"
	"evenledger/internal/system/scim"
	"evenledger/internal/system/systemtest"
)

// harbour is a stand-in with three people and things they can be tied to.
func harbour(t *testing.T, options standin.Options, change func(*scim.Config)) (*scim.Client, *requests) {
	options.Token = "secret"
	log := &requests{}
	options.Count = log.add
	s, err := standin.New(options)
	require.NoError(t, err)
	const crew = "urn:example:params:scim:schemas:crew:2.0:"
	for _, body := range []map[string]any{
		{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": "ana", "entitlements": []any{map[string]any{"value": "radar"}}},
		{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": "tom"},
		{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": "mei"},
		{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": "Deck", "members": []any{map[string]any{"value": "u-000001"}}},
		{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": "Engine"},
		{"schemas": []string{crew + "Course"}, "displayName": "Radio", "open": true, "roles": []any{"tutor"}, "sections": []any{"Spring"}, "members": []any{map[string]any{"value": "u-000002", "role": "tutor", "section": "Spring"}}},
		{"schemas": []string{crew + "Course"}, "displayName": "Tanker", "open": false},
		{"schemas": []string{crew + "Licence"}, "displayName": "charts", "seats": json.Number("2"), "members": []any{map[string]any{"value": "u-000001"}}},
		{"schemas": []string{crew + "Role"}, "displayName": "Boss", "elevated": true},
	} {
		require.NoError(t, s.Add(body))
	}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	return connect(t, server.URL+"/scim/v2", change), log
}

func things(t *testing.T, c *scim.Client, kind string, counted bool) (all []account.Thing) {
	for thing, err := range c.Things(t.Context(), kind, counted) {
		require.NoError(t, err)
		all = append(all, thing)
	}
	return all
}

func members(t *testing.T, c *scim.Client, kind string, ids ...string) (all []string) {
	for m, err := range c.Members(t.Context(), kind, ids) {
		require.NoError(t, err)
		all = append(all, strings.TrimSpace(strings.Join([]string{m.Thing, m.Account, m.Role, m.Section}, " ")))
	}
	slices.Sort(all)
	return all
}

// What is to be known of things before anybody joins them.
func TestKindsOfThings(t *testing.T) {
	c, log := harbour(t, standin.Options{}, nil)
	assert.Equal(t, []account.Thing{{ID: "c-000001", Name: "Radio", Members: 1, Seats: -1, Roles: []string{"tutor"}, Sections: []string{"Spring"}}, {ID: "c-000002", Name: "Tanker", Seats: -1, Closed: true}}, things(t, c, "courses", true))
	assert.Equal(t, []account.Thing{{ID: "l-000001", Name: "charts", Members: 1, Seats: 2}}, things(t, c, "licences", true))
	assert.True(t, things(t, c, "roles", true)[0].Elevated)
	assert.Equal(t, -1, things(t, c, "groups", false)[0].Members, "members are not asked for where nobody counts them")
	assert.Contains(t, strings.Join(log.list, "\n"), "excludedAttributes=members")
	for _, err := range c.Things(t.Context(), "teams", false) {
		assert.ErrorContains(t, err, "the system has no teams")
	}
	assert.Equal(t, []string{"c-000001 u-000002 tutor Spring"}, members(t, c, "courses", "c-000001"))
	assert.Equal(t, []string{"g-000001 u-000001"}, members(t, c, "groups", "g-000001", "g-000002", "g-000009"), "one that is gone is passed over")
	before := log.to("GET")
	many := make([]string, 40)
	for i := range many {
		many[i] = fmt.Sprintf("g-%06d", i+1)
	}
	assert.Len(t, members(t, c, "groups", many...), 1)
	assert.LessOrEqual(t, log.to("GET")-before, 4, "many are listed rather than read one by one")
}

// Members join, leave and change their role in one request, with PATCH and without.
func TestTie(t *testing.T) {
	for name, options := range map[string]standin.Options{"patch": {}, "put": {NoPatch: true}} {
		t.Run(name, func(t *testing.T) {
			c, log := harbour(t, options, nil)
			require.NoError(t, c.Tie(t.Context(), nil, "courses", "c-000001", []system.Tie{{Account: "u-000002", Role: "tutor", Was: true}, {Account: "u-000001", Section: "Spring"}, {Account: "u-000003"}}))
			assert.Equal(t, []string{"c-000001 u-000001  Spring", "c-000001 u-000002 tutor", "c-000001 u-000003"}, members(t, c, "courses", "c-000001"))
			require.NoError(t, c.Tie(t.Context(), nil, "courses", "c-000001", []system.Tie{{Account: "u-000003", Leave: true}, {Account: "u-000001", Leave: true}}))
			assert.Equal(t, []string{"c-000001 u-000002 tutor"}, members(t, c, "courses", "c-000001"))
			assert.Equal(t, 2, log.to("PATCH")+log.to("PUT"))
			var refusal *system.Refusal
			assert.ErrorAs(t, c.Tie(t.Context(), nil, "licences", "l-000001", []system.Tie{{Account: "u-000002"}, {Account: "u-000003"}}), &refusal)
			assert.Contains(t, refusal.Message, "no seat of charts is left")
			assert.Equal(t, []string{"l-000001 u-000001"}, members(t, c, "licences", "l-000001"), "all or none")
			assert.ErrorIs(t, c.Tie(t.Context(), nil, "groups", "g-000009", []system.Tie{{Account: "u-000001"}}), system.ErrGone)
			assert.ErrorAs(t, c.Tie(t.Context(), nil, "teams", "x", nil), &refusal)
		})
	}
}

func TestMakeThingAndRemove(t *testing.T) {
	c, _ := harbour(t, standin.Options{}, nil)
	made, err := c.MakeThing(t.Context(), nil, "groups", "Night watch", nil)
	require.NoError(t, err)
	assert.Equal(t, account.Thing{ID: "g-000003", Name: "Night watch", Members: -1, Seats: -1}, made)
	_, err = c.MakeThing(t.Context(), nil, "courses", "radio", nil)
	assert.ErrorContains(t, err, "unique")
	known, err := c.Get(t.Context(), "u-000001", []string{"userName"})
	require.NoError(t, err)
	old := known
	old.Version = `W/"9"`
	assert.ErrorIs(t, systemtest.Remove(t.Context(), nil, c, old), system.ErrChanged)
	require.NoError(t, systemtest.Remove(t.Context(), nil, c, known))
	assert.ErrorIs(t, systemtest.Remove(t.Context(), nil, c, known), system.ErrGone)
	assert.Empty(t, members(t, c, "groups", "g-000001"))
	var found []string
	for a, err := range c.Find(t.Context(), system.ByID, []string{"u-000001", "u-000003", "x"}, []string{"userName"}) {
		require.NoError(t, err)
		found = append(found, a.Label())
	}
	assert.Contains(t, found, "mei")
	assert.NotContains(t, found, "ana", "she was removed")
}

// Licences may be values of a field of the account, kinds may lie elsewhere, and
// seats may be told by whoever set the system up.
func TestConfiguredKinds(t *testing.T) {
	configure := func(config *scim.Config) {
		config.Kinds = map[string]scim.Kept{"licences": {Attribute: "entitlements", Seats: map[string]int{"radar": 4}}, "crews": {Endpoint: "/Groups"}, "courses": {Role: "section", Section: "role"}}
	}
	unfiltered, _ := harbour(t, standin.Options{NoFilter: true}, configure)
	assert.Equal(t, 1, things(t, unfiltered, "licences", true)[0].Members, "who has one is counted without a filter, too")
	c, _ := harbour(t, standin.Options{}, configure)
	about, err := c.Describe(t.Context())
	require.NoError(t, err)
	assert.Contains(t, about.Kinds, account.ThingKind{Name: "licences", Field: "entitlements", Seated: true})
	assert.Contains(t, about.Kinds, account.ThingKind{Name: "crews"})
	assert.Equal(t, []account.Thing{{ID: "radar", Name: "radar", Members: 1, Seats: 4}}, things(t, c, "licences", true))
	assert.Equal(t, []string{"radar u-000001"}, members(t, c, "licences"))
	assert.Len(t, things(t, c, "crews", true), 2)
	assert.Equal(t, []string{"c-000001 u-000002 Spring tutor"}, members(t, c, "courses", "c-000001"), "the parts of a member are named as the server has them")
	made, err := c.MakeThing(t.Context(), nil, "licences", "sonar", nil)
	require.NoError(t, err)
	assert.Equal(t, "sonar", made.ID)
}

// A server that tells nothing of itself has groups at least, and its licences are
// entitlements only if its schema has them.
func TestKindsOfAQuietServer(t *testing.T) {
	var got []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got = append(got, r.Method+" "+r.URL.Path+" "+string(body))
		switch {
		case r.Method == http.MethodPatch:
			w.WriteHeader(http.StatusNoContent)
		case strings.HasPrefix(r.URL.Path, "/Groups/"):
			fmt.Fprint(w, `{"id": "7", "displayName": "Deck", "members": [{"value": "1", "type": "User"}, "broken", {"display": "nobody"}]}`)
		case r.URL.Path == "/Users":
			nobody(w)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	t.Cleanup(server.Close)
	c := connect(t, server.URL, nil)
	about, err := c.Describe(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []account.ThingKind{{Name: "groups"}}, about.Kinds)
	assert.Equal(t, []string{"7 1"}, members(t, c, "groups", "7"))
	require.NoError(t, c.Tie(t.Context(), nil, "groups", "7", []system.Tie{{Account: `a"b`, Leave: true}, {Account: "2"}}))
	assert.Contains(t, got[len(got)-1], `{"op":"remove","path":"members[value eq \"a\\\"b\"]"},{"op":"add","path":"members","value":[{"value":"2"}]}`, "a quote in an identifier is escaped")
}

// Values of several parts are read, added and taken away one by one; what else an
// element holds stays.
func TestParts(t *testing.T) {
	c, log := practice(t, standin.Options{}, func(config *scim.Config) {
		config.Aliases = map[string]string{"ids": "urn:example:params:scim:schemas:extension:crew:2.0:User:identities"}
	})
	schema, err := c.Describe(t.Context())
	require.NoError(t, err)
	ids, phones := account.WithParts("ids", []string{"type", "value"}), account.WithParts("phoneNumbers", []string{"value", "type", "primary"})
	for name, known := range map[string]bool{ids: true, phones: true, account.WithParts("ids", []string{"issuer"}): false, account.WithParts("boats", []string{"value"}): false} {
		a, ok := schema.Attribute(name)
		assert.Equal(t, known, ok, name)
		assert.True(t, a.Multi)
	}
	made, err := systemtest.Create(t.Context(), nil, c, account.Account{Fields: fields("userName", "ana", "phone", "+44 1", ids, "local\tana\noidc\thttps://id|7")}, []string{ids, phones})
	require.NoError(t, err)
	assert.Equal(t, "local\tana\noidc\thttps://id|7", made.Field(ids).Text())
	changed, err := system.Change(t.Context(), nil, c, made, []account.Change{
		{Field: ids, Before: made.Field(ids), After: account.Of("oidc\thttps://id|7\nlocal\tana.reyes")},
		{Field: phones, Before: made.Field(phones), After: account.Of(made.Field(phones).Text() + "\n+44 2\tfax\ttrue")},
	}, []string{ids, phones, "phone"})
	require.NoError(t, err)
	assert.Equal(t, "oidc\thttps://id|7\nlocal\tana.reyes", changed.Field(ids).Text())
	assert.Contains(t, changed.Field(phones).Text(), "+44 2\tfax\ttrue")
	assert.Equal(t, "+44 1", changed.Field("phone").Text())
	assert.Equal(t, 1, log.to("PATCH"))
}

// Members may be called otherwise: the configuration names them, for reading and for
// changing.
func TestMembersByAnotherName(t *testing.T) {
	var changed string
	c := odd(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case r.URL.Path == "/ResourceTypes":
			fmt.Fprint(w, `{"totalResults":1,"Resources":[{"name":"Course","endpoint":"/Courses","schema":"urn:x:Course"}]}`)
		case r.URL.Path == "/Schemas":
			fmt.Fprint(w, `{"totalResults":1,"Resources":[{"id":"urn:x:Course","attributes":[{"name":"participants","multiValued":true,"subAttributes":[{"name":"value"},{"name":"role"}]}]}]}`)
		case r.Method == http.MethodPatch:
			body, _ := io.ReadAll(r.Body)
			changed = string(body)
			w.WriteHeader(http.StatusNoContent)
		case r.URL.Path == "/Courses":
			fmt.Fprint(w, `{"totalResults":1,"Resources":[{"id":"7","displayName":"Radio","participants":[{"value":"1","role":"tutor"}]}]}`)
		case r.URL.Path == "/Courses/7":
			fmt.Fprint(w, `{"id":"7","displayName":"Radio","participants":[{"value":"1","role":"tutor"}]}`)
		default:
			nobody(w)
		}
	}, func(config *scim.Config) {
		config.Kinds = map[string]scim.Kept{"courses": {Members: "participants"}}
	})
	about, err := c.Describe(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []account.ThingKind{{Name: "courses", Roles: true}}, about.Kinds)
	assert.Equal(t, []string{"7 1 tutor"}, members(t, c, "courses", "7"))
	assert.Equal(t, 1, things(t, c, "courses", true)[0].Members)
	require.NoError(t, c.Tie(t.Context(), nil, "courses", "7", []system.Tie{{Account: "1", Leave: true}, {Account: "2", Role: "learner"}}))
	assert.Contains(t, changed, `"path":"participants[value eq \"1\"]"`)
	assert.Contains(t, changed, `{"op":"add","path":"participants"`)
}
