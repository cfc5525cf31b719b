package posting_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
)

// Whom the brief suspended is removed after a while, unless the list has them again, they were let
// back in, or they are protected; before that time nobody is.
func TestRemovalsThatAreDue(t *testing.T) {
	t.Parallel()
	active := func(a account.Account) account.Account {
		a.Fields["active"] = account.Of("true")
		return a
	}
	w := newWorld(t, active(someone("1", "Ana", "Reyes", "")), active(someone("2", "Tom", "Kaya", "")), active(someone("3", "Mia", "Lund", "")), active(someone("4", "Lea", "Brandt", "")))
	const leavers = `match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  active: {from: Active}
suspend: {then: remove after 30 days}
allow_remove: true
limits: {remove: 3}
protect: [lea.brandt]
`
	first := w.draft(leavers[:len(leavers)-len("protect: [lea.brandt]\n")], "No,Active\n1,no\n2,no\n3,no\n4,no\n")
	require.NoError(t, w.post(context.Background(), first, 0))
	assert.Equal(t, account.Counts{account.Suspended: 4}, w.even(first))

	soon := w.draft(leavers, "No,Active\n2,no\n")
	assert.Zero(t, soon.Unlisted, "nobody is due yet")
	require.NoError(t, w.clock.Wait(t.Context(), 31*24*time.Hour))
	w.system.Set("mia.lund", map[string]account.Value{"active": account.Of("true")})
	b := w.draft(leavers, "No,Active\n2,no\n")
	outcomes := map[string]account.Outcome{}
	for _, e := range w.entries(b) {
		outcomes[e.Key+" "+string(e.Intent)] = e.Outcome
	}
	assert.Equal(t, map[string]account.Outcome{"2 keep": account.Unchanged, "ana.reyes remove": account.Waiting, "mia.lund ": account.Aside, "lea.brandt ": account.Aside}, outcomes)
	require.NoError(t, w.post(context.Background(), b, 0))
	assert.Len(t, w.system.Accounts(), 3)
	again := w.draft(leavers, "No,Active\n2,no\n")
	for _, e := range w.entries(again) {
		assert.NotEqual(t, account.Remove, e.Intent)
	}
}
