package scim

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

func TestKindReadsItsPart(t *testing.T) {
	t.Setenv("CREW_TOKEN", "tok")
	for text, want := range map[string]connection{
		`{url: "https://a.example/scim/", token: env:CREW_TOKEN, rate: 300/min, page: 50, ca: ca.pem, patch: false, memberships: {courses: {endpoint: Trainings, members: participants, role: function, section: intake}, licences: {attribute: entitlements, seats: {charts: 40}}}}`: {
			url: "https://a.example/scim", rate: 5, page: 50, ca: "/harbour/ca.pem", noPatch: true,
			kinds: map[string]Kept{"courses": {Endpoint: "/Trainings", Members: "participants", Role: "function", Section: "intake"}, "licences": {Attribute: "entitlements", Seats: map[string]int{"charts": 40}}},
		},
		`{url: "http://[::1]:80", user: me, password: "env:CREW_TOKEN"}`: {url: "http://[::1]:80", user: "me", page: 200},
	} {
		doc, err := yamldoc.Parse("evenledger.yaml", []byte(text))
		require.NoError(t, err)
		c := read(reach.Part{Name: "crewdesk", Dir: "/harbour", At: doc.Root(), Pairs: doc.Root().Pairs(yamldoc.Names(Kind().Keys)...)})
		require.NoError(t, doc.Err())
		plain := *c
		plain.token, plain.password = secret.Reference{}, secret.Reference{}
		assert.Equal(t, want, plain)
		c.ca = ""
		mask := secret.NewMask()
		_, err = c.Open(system.Work{Mask: mask})
		require.NoError(t, err)
		assert.NotContains(t, mask.Hide("tok"), "tok", "what was opened is hidden")
		t.Setenv("CREW_TOKEN", "")
		_, err = c.Open(system.Work{Mask: mask})
		var none *reach.NoSecret
		assert.ErrorAs(t, err, &none)
		t.Setenv("CREW_TOKEN", "tok")
	}
	assert.True(t, Kind().IsOwn("urn:x:berth"))
	assert.False(t, Kind().IsOwn("berth"))
}
