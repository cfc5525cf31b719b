package export_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/export"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

// crew is a directory with people, of whom one is another's manager, and two groups.
func crew(t *testing.T) *memory.System {
	s := memory.NewDirectory("Deck")
	var ids []string
	for _, fields := range []map[string]string{{"userName": "zoe", "title": "Master"}, {"userName": "tom", "unit": "Deck", "title": "=Mate", "manager": "uid=zoe,dc=sound"}} {
		a := account.Account{Fields: map[string]account.Value{}}
		for name, text := range fields {
			a.Fields[name] = account.Of(text)
		}
		made, err := systemtest.Create(t.Context(), nil, s, a, nil)
		require.NoError(t, err)
		ids = append(ids, made.ID)
	}
	for name, members := range map[string][]string{"night": ids, "day; early": ids[:1]} {
		var first []system.Tie
		for _, id := range members {
			first = append(first, system.Tie{Account: id})
		}
		_, err := s.MakeThing(t.Context(), nil, "groups", name, first)
		require.NoError(t, err)
	}
	return s
}

func TestExport(t *testing.T) {
	for name, c := range map[string]struct {
		fields, kinds []string
		each, only    string
		want          string
	}{
		"accounts":        {[]string{"userName", "title", "manager"}, nil, "", "", "User name,Title,Manager,Even Ledger account|tom,'=Mate,zoe,\"uid=tom,ou=Deck,dc=sound\"|zoe,Master,,\"uid=zoe,dc=sound\""},
		"memberships":     {[]string{"userName"}, []string{"groups"}, "", "", `User name,All groups,Even Ledger account|tom,night,"uid=tom,ou=Deck,dc=sound"|zoe,day\; early; night,"uid=zoe,dc=sound"`},
		"each membership": {[]string{"userName"}, nil, "groups", "", `User name,Group,Even Ledger account|tom,night,"uid=tom,ou=Deck,dc=sound"|zoe,day; early,"uid=zoe,dc=sound"|zoe,night,"uid=zoe,dc=sound"`},
		"some":            {[]string{"userName"}, nil, "", `manager == "zoe"`, "User name,Even Ledger account|tom,\"uid=tom,ou=Deck,dc=sound\""},
	} {
		t.Run(name, func(t *testing.T) {
			s := crew(t)
			about, err := s.Describe(t.Context())
			require.NoError(t, err)
			columns, err := export.Columns(about.Schema, c.fields, false)
			require.NoError(t, err)
			e := &export.Export{System: s, Columns: columns, Kinds: c.kinds, Each: c.each}
			require.NoError(t, e.Only(about.Schema, c.only, "2026-11-25"))
			require.NoError(t, e.Register(t.Context(), about))
			var out strings.Builder
			w, err := sheet.NewWriter(&out, ".csv", sheet.Form{})
			require.NoError(t, err)
			rows, err := e.Write(t.Context(), w, func(int) {})
			require.NoError(t, err)
			require.NoError(t, w.Close())
			got := strings.Split(strings.TrimSpace(strings.TrimPrefix(strings.ReplaceAll(out.String(), "\r", ""), "\uFEFF")), "\n")
			assert.Equal(t, strings.Split(c.want, "|"), got)
			assert.Equal(t, []int{len(got) - 1, 2}, []int{rows, e.Looked})
		})
	}
	s := crew(t)
	about, err := s.Describe(t.Context())
	require.NoError(t, err)
	var mistake *account.Mistake
	require.ErrorAs(t, (&export.Export{System: s, Kinds: []string{"courses"}}).Register(t.Context(), about), &mistake)
	assert.Equal(t, "It has: groups.", mistake.Remedy)
}
