package scim

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/httpdial"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/yamldoc"
)

func TestKindReadsItsPart(t *testing.T) {
	t.Setenv("CREW_TOKEN", "tok")
	for text, want := range map[string]connection{
		`{url: "https://a.example/scim/", token: env:CREW_TOKEN, rate: 300/min, page: 50, ca: ca.pem, patch: false, memberships: {courses: {endpoint: Trainings, members: participants, role: function, section: intake}, licences: {attribute: entitlements, seats: {charts: 40}}}}`: {
			Service: httpdial.Service{URL: "https://a.example/scim", Rate: 5, CA: "/harbour/ca.pem"}, page: 50, noPatch: true,
			kinds: map[string]Kept{"courses": {Endpoint: "/Trainings", Members: "participants", Role: "function", Section: "intake"}, "licences": {Attribute: "entitlements", Seats: map[string]int{"charts": 40}}},
		},
		`{url: "http://[::1]:80", user: me, password: "env:CREW_TOKEN"}`: {Service: httpdial.Service{URL: "http://[::1]:80"}, page: 200},
	} {
		doc, err := yamldoc.Parse("evenledger.yaml", []byte(text))
		require.NoError(t, err)
		c := Kind().Read(reach.Part{Name: "crewdesk", Dir: "/harbour", At: doc.Root()}, doc.Root()).(*connection)
		require.NoError(t, doc.Err())
		assert.Equal(t, want, connection{Service: httpdial.Service{URL: c.URL, Rate: c.Rate, CA: c.CA}, page: c.page, noPatch: c.noPatch, kinds: c.kinds})
		c.CA = ""
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
