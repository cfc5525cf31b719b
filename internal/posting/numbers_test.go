package posting_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/sheet"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

// A person gets one number in all systems of a set: what somebody else has in any of them is
// taken in all of them, and what the person has alone is kept.
func TestOneNumberInSeveralSystems(t *testing.T) {
	t.Parallel()
	const numbered = "match: [userName]\nfields:\n  userName: {from: Login}\n  uidNumber: {next: 100-104}\n"
	const renumbered = "match: [userName]\nfields:\n  userName: {from: Login}\n  uidNumber: {next: 100-104, renumber: true}\n"
	for name, c := range map[string]struct {
		brief string
		there [2]string // login=number of the accounts of each system
		rows  string
		want  [2]string // what each system's batch gives: login before→after, or the code
	}{
		"new in both":                    {numbered, [2]string{}, "ana tom", [2]string{"ana →100, tom →101", "ana →100, tom →101"}},
		"taken in one is taken in both":  {numbered, [2]string{"mia=100", "lea=101"}, "ana", [2]string{"ana →102", "ana →102"}},
		"new in one, there in the other": {numbered, [2]string{"ana=103", ""}, "ana tom", [2]string{"tom →100", "ana →103, tom →100"}},
		"one number, two people":         {numbered, [2]string{"ana=103", "tom=103"}, "ana tom", [2]string{"tom →100", "ana →101"}},
		"the range is full":              {numbered, [2]string{"a=100 b=101 c=102", "d=103 e=104"}, "ana", [2]string{"ana no-free-value", "ana no-free-value"}},
		"made one":                       {renumbered, [2]string{"ana=102", "ana=104"}, "ana", [2]string{"", "ana 104→102"}},
		"made one, and into the range":   {renumbered, [2]string{"ana=7", "ana=104"}, "ana", [2]string{"ana 7→104", ""}},
		"crossed":                        {renumbered, [2]string{"ana=100 tom=101", "ana=101 tom=100"}, "ana tom", [2]string{"ana 100→102, tom 101→103", "ana 101→102, tom 100→103"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			var drafts []*drafting.Draft
			for _, there := range c.there {
				target := memory.NewDirectory()
				for _, one := range strings.Fields(there) {
					login, number, _ := strings.Cut(one, "=")
					_, err := systemtest.Create(t.Context(), nil, target, account.Account{Fields: map[string]account.Value{"userName": account.Of(login), "uidNumber": account.Of(number)}}, nil)
					require.NoError(t, err)
				}
				parsed, err := brief.Parse("b.yaml", []byte(c.brief), brief.Options{Today: "2026-11-23"})
				require.NoError(t, err)
				s, err := sheet.Read("s.csv", strings.NewReader("Login\n"+strings.ReplaceAll(c.rows, " ", "\n")+"\n"), sheet.Options{})
				require.NoError(t, err)
				drafts = append(drafts, &drafting.Draft{Vaults: w.vaults, Worker: worker(), Ledger: w.ledger, System: target, Sheet: s, Rows: s.Rows(), Mapper: mapping.New(parsed, s.Info()), Batch: batch.Batch{Draft: batch.Draft{Made: w.clock.Now(), System: "memory"}}})
			}
			made, errs := drafting.MakeAll(t.Context(), drafts, nil)
			for i := range drafts {
				require.NoError(t, errs[i])
				w.even(made[i].Batch)
				var got []string
				for _, e := range w.entries(made[i].Batch) {
					for _, f := range e.Findings {
						if f.Level == account.Error {
							got = append(got, e.Key+" "+string(f.Code))
						}
					}
					for _, change := range e.Changes {
						if change.Field == "uidNumber" {
							got = append(got, e.Key+" "+change.Before.Text()+"→"+change.After.Text())
						}
					}
				}
				assert.Equal(t, c.want[i], strings.Join(got, ", "), "system %d", i)
			}
		})
	}
}

// A number that somebody had is given to nobody else, though they are gone, unless the brief says so.
func TestNumbersThatWereUsed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.system = memory.NewDirectory()
	const numbered = "match: [userName]\nfields:\n  userName: {from: Login}\n  uidNumber: {next: 100-104}\n"
	b := w.draft(numbered, "Login\nana\n")
	require.NoError(t, w.post(t.Context(), b, 0))
	withdrawn := w.draft(numbered, "Login\nlea\n")
	undo, err := (&drafting.Reversal{Ledger: w.ledger, Worker: worker(), System: w.system, Of: b, Remove: true, Together: 2, Batch: batch.Batch{Draft: batch.Draft{System: "memory"}}}).Make(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.post(t.Context(), undo, 0))
	got := func(b *batch.Batch) string {
		for _, c := range w.entries(b)[0].Changes {
			if c.Field == "uidNumber" {
				return c.After.Text()
			}
		}
		return ""
	}
	assert.Equal(t, []string{"100", "101", "101", "100"}, []string{got(b), got(withdrawn), got(w.draft(numbered, "Login\ntom\n")), got(w.draft(strings.Replace(numbered, "100-104", "100-104, again: true", 1), "Login\ntom\n"))}, "what was only drafted was nobody's")
}
