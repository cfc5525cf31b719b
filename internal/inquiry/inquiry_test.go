package inquiry_test

import (
	"context"
	"iter"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/inquiry"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
)

// harbour is a system with people and things.
type harbour struct {
	*memory.System
	things []account.Thing
}

func (h *harbour) Describe(ctx context.Context) (*system.Description, error) {
	about, err := h.System.Describe(ctx)
	about.Kinds = []account.ThingKind{{Name: "groups"}, {Name: "licences"}}
	return about, err
}

func (h *harbour) Things(context.Context, string, bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		for _, t := range h.things {
			if !yield(t, nil) {
				return
			}
		}
	}
}

func person(id string, pairs ...string) account.Account {
	a := account.Account{ID: id, Fields: map[string]account.Value{}}
	for i := 0; i < len(pairs); i += 2 {
		a.Fields[pairs[i]] = account.Of(pairs[i+1])
	}
	return a
}

// Questions are answered for whoever is there.
func TestQuestions(t *testing.T) {
	people := memory.New(
		person("1", "userName", "tom", "givenName", "Tom", "familyName", "Kaya", "manager", "2", "email", "Desk@x.example"),
		person("2", "userName", "ana", "displayName", "Ana R.", "department", "Deck", "manager", "9", "email", "desk@X.example", "employeeNumber", "7"),
		person("3", "userName", "mei", "manager", "2", "active", "false", "employeeNumber", "7"),
		person("4", "email", "only@x.example"),
	)
	for name, c := range map[string]struct {
		things []account.Thing
		want   []string
	}{
		"managers":        {nil, []string{"ana|Ana R.|Deck|2", "9|(no such account)||1"}},
		"without-manager": {nil, []string{"only@x.example||||"}},
		"suspended":       {nil, []string{"mei||7||"}},
		"duplicates":      {nil, []string{"email address|desk@X.example|ana|Ana R.", "email address|Desk@x.example|tom|Tom Kaya", "staff number|7|ana|Ana R.", "staff number|7|mei|"}},
		"groups":          {[]account.Thing{{ID: "g1", Name: "Deck", Members: 0}, {ID: "g2", Name: "Crew", Members: 1200}, {ID: "g3", Name: "Odd", Members: -1}}, []string{"Crew|g2|1200", "Deck|g1|0", "Odd|g3|?"}},
		"licences":        {[]account.Thing{{ID: "l1", Name: "charts", Members: 3, Seats: 5}, {ID: "l2", Name: "free", Members: 1, Seats: -1}}, []string{"charts|l1|3|5|2", "free|l2|1|?|?"}},
	} {
		q, err := inquiry.Named(name)
		require.NoError(t, err)
		told := 0
		table, err := q.Ask(t.Context(), &harbour{people, c.things}, func(_ string, n int) { told = n })
		require.NoError(t, err)
		assert.Positive(t, told)
		var got []string
		for _, line := range table.Lines {
			require.Len(t, line.Cells, len(table.Headings))
			got = append(got, strings.Join(line.Cells, "|"))
			assert.Equal(t, c.things == nil, line.Account != "", "a sheet of accounts says which they are")
		}
		assert.Equal(t, c.want, got, name)
	}
	var mistake *account.Mistake
	_, err := inquiry.Named("manager")
	require.ErrorAs(t, err, &mistake)
	assert.Contains(t, mistake.Remedy, "managers")
	q, err := inquiry.Named("courses")
	require.NoError(t, err)
	_, err = q.Ask(t.Context(), &harbour{people, nil}, nil)
	require.ErrorAs(t, err, &mistake)
}
