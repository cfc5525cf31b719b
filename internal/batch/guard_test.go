package batch_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
)

const at = "https://crewdesk.brindlesound.example/scim/v2"

func TestMayPostAndReverse(t *testing.T) {
	posted := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		b             batch.Batch
		url           string
		post, reverse string // why not; empty: it may
	}{
		"a draft":                     {batch.Batch{Progress: batch.Progress{State: batch.Drafted}}, at, "", "was never posted"},
		"one that was stopped":        {batch.Batch{Progress: batch.Progress{State: batch.Stopped, Posted: posted}}, at, "", ""},
		"one that is posted":          {batch.Batch{Progress: batch.Progress{State: batch.Posted, Posted: posted}}, at, "", ""},
		"one that is undone":          {batch.Batch{Progress: batch.Progress{State: batch.Reversed, Posted: posted}}, at, "was undone by a later batch", "was reversed already"},
		"one half put away":           {batch.Batch{Progress: batch.Progress{State: batch.Withdrawing}}, at, "is being withdrawn", "was never posted"},
		"one that was put away":       {batch.Batch{Progress: batch.Progress{State: batch.Withdrawn}}, at, "was withdrawn", "was never posted"},
		"one that was never made":     {batch.Batch{Progress: batch.Progress{State: batch.Unmade}}, at, "was never made: its draft broke off", "was never posted"},
		"one over a limit":            {batch.Batch{Draft: batch.Draft{Held: []string{"it suspends 40 accounts, and 10 is the most", "too few rows"}}, Progress: batch.Progress{State: batch.Drafted}}, at, "is held back: it suspends 40 accounts, and 10 is the most; too few rows", "was never posted"},
		"another address":             {batch.Batch{Progress: batch.Progress{State: batch.Stopped, Posted: posted}}, at + "/", "evenledger.yaml now has " + at + "/ for crewdesk", "now has"},
		"an address that says little": {batch.Batch{Progress: batch.Progress{State: batch.Drafted}}, "", "was drafted for " + at, "was never posted"},
	} {
		t.Run(name, func(t *testing.T) {
			c.b.ID, c.b.URL, c.b.System = 7, at, "crewdesk"
			for _, may := range []struct {
				err error
				not string
			}{{c.b.MayPost(c.url), c.post}, {c.b.MayReverse(c.url), c.reverse}} {
				if may.not == "" {
					require.NoError(t, may.err)
					continue
				}
				var guard *batch.Guard
				require.ErrorAs(t, may.err, &guard)
				assert.Contains(t, guard.Message, may.not)
				assert.Contains(t, guard.Message, "batch 7 ")
			}
		})
	}
}

func TestWhoSigns(t *testing.T) {
	for _, c := range []struct {
		from, toDo int
		key        string
		signed     bool
		people     int
	}{
		{0, 5000, "ed25519:ana", false, 1},
		{51, 50, "ed25519:ana", false, 1},
		{51, 51, "ed25519:ana", true, 1},
		{1, 1, "", true, 2},
		{1, 0, "", false, 2}, // nothing is changed
	} {
		b := batch.Batch{Draft: batch.Draft{SignedFrom: c.from, ToDo: c.toDo, ByKey: c.key}}
		assert.Equal(t, c.signed, b.IsToBeSigned(), "%+v", c)
		assert.Equal(t, c.people, b.Signers(), "%+v", c)
	}
}

// An account is another person's if all that tells people apart differs, and not if one thing did
// not change, or nothing can be compared.
func TestStranger(t *testing.T) {
	schema := &account.Schema{Naming: "userName"}
	ana := map[string]account.Value{"userName": account.Of("ana.reyes"), "employeeNumber": account.Of("7"), "familyName": account.Of("Reyes"), "title": account.Of("Clerk")}
	for name, c := range map[string]struct {
		now   account.Account
		match []string
		want  bool
	}{
		"the same":                     {someone("1", "userName", "ana.reyes", "familyName", "Reyes"), nil, false},
		"capitals":                     {someone("1", "userName", "Ana.Reyes"), nil, false},
		"married":                      {someone("1", "userName", "ana.soto", "employeeNumber", "7", "familyName", "Soto"), nil, false},
		"somebody else":                {someone("1", "userName", "tom.kaya", "employeeNumber", "8", "familyName", "Kaya"), nil, true},
		"somebody with a like job":     {someone("1", "userName", "tom.kaya", "title", "Clerk"), nil, true},
		"known by the job":             {someone("1", "userName", "tom.kaya", "title", "Clerk"), []string{"title"}, false},
		"nothing is shown":             {someone("1"), nil, false},
		"only what was blank is shown": {someone("1", "email", "x@brindlesound.example"), nil, false},
		"the id does not count":        {someone("1", "id", "9", "userName", "tom.kaya"), []string{"id"}, true},
	} {
		assert.Equal(t, c.want, batch.Stranger(schema, ana, &c.now, c.match), name)
	}
}

func TestUnmaking(t *testing.T) {
	b := batch.Batch{}
	assert.False(t, b.Unmaking())
	b.Unmakes, b.Unmade = []membership.Step{{Kind: "groups"}, {Kind: "groups"}}, batch.Results{membership.Done}
	assert.True(t, b.Unmaking())
	b.Unmade.Note(1, membership.Failed)
	assert.False(t, b.Unmaking())
	assert.ErrorContains(t, b.OtherSystem("nobody is there"), "is no longer what batch 0 was drafted for: nobody is there")
}
