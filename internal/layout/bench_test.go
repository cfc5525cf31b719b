package layout_test

import (
	"encoding/csv"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/layout"
)

const benched = 100_000

// person is a line of the practice application's form.
func person(i int) layout.Line {
	login := fmt.Sprintf("p%d", i)
	return layout.Line{Does: account.Create, Account: account.Account{ID: login, Fields: map[string]account.Value{"userName": account.Of(login), "active": account.Of("true"), "startDate": account.Of("2027-03-01"), "locality": account.Of("Lagos Quay")}},
		Ties: []account.Membership{{Kind: "groups", Thing: "deck"}, {Kind: "courses", Thing: "Marine radio", Role: "learner"}}}
}

// A file of 100,000 people, from what is wanted to bytes; BenchmarkBare is its floor.
func BenchmarkFile(b *testing.B) {
	l := parse(b, desk)
	lines := make([]layout.Line, benched)
	for i := range lines {
		lines[i] = person(i)
	}
	b.ReportAllocs()
	for b.Loop() {
		w, err := l.NewWriter(io.Discard)
		require.NoError(b, err)
		var cells []string
		for i := range lines {
			var problems []layout.Problem
			if cells, problems = l.Cells(&lines[i], cells[:0]); len(problems) > 0 || w.Write(cells) != nil {
				b.Fatal(problems)
			}
		}
		require.NoError(b, w.Close())
	}
}

// The same cells written by encoding/csv.
func BenchmarkBare(b *testing.B) {
	l := parse(b, desk)
	rows := make([][]string, benched)
	for i := range rows {
		line := person(i)
		rows[i], _ = l.Cells(&line, nil)
	}
	for b.Loop() {
		w := csv.NewWriter(io.Discard)
		w.Comma, w.UseCRLF = ';', true
		for _, row := range rows {
			if err := w.Write(row); err != nil {
				b.Fatal(err)
			}
		}
		w.Flush()
	}
}
