package sqlite_test

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
)

// What is to be sent is claimed first, and settled when the answer is there. What was
// claimed and never settled is found by who has the part later, to be looked up.
func Example() {
	ctx, noon := context.Background(), time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	folder, err := os.MkdirTemp("", "ledger")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(folder)
	ledger, err := sqlite.Open(ctx, filepath.Join(folder, "ledger.db"))
	if err != nil {
		log.Fatal(err)
	}
	defer ledger.Close()

	quay := store.Worker{Name: "quay-1", Who: "mvance on quay", Term: time.Minute}
	b := &batch.Batch{Draft: batch.Draft{Made: noon}} // beginning it, and joining it, makes the worker one of those at it
	entry := batch.Entry{Intent: account.Create, Outcome: account.Waiting}
	first, second := entry, entry
	first.Row, second.Row = 2, 3
	if err := ledger.Begin(ctx, quay, b); err != nil {
		log.Fatal(err)
	}
	if err := ledger.Drafting(b.ID).Add(ctx, []batch.Entry{first, second}); err != nil {
		log.Fatal(err)
	}
	claim, err := ledger.Lease(b.ID, quay).Claim(ctx, []batch.Entry{first, second}, noon)
	if err != nil {
		log.Fatal(err)
	}
	first.Outcome, first.Account = account.Created, "u-000001"
	if err := ledger.Lease(b.ID, quay).Settle(ctx, []store.Result{{Entry: first, Claim: claim}}, noon); err != nil {
		log.Fatal(err)
	}
	open, err := ledger.InFlight(ctx, b.ID, store.Part{High: 1000})
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range open {
		fmt.Printf("row %d was sent at %s, and nobody knows what became of it\n", f.Entry.Row, f.Sent.Format(time.TimeOnly))
	}
	// Output:
	// row 3 was sent at 12:00:00, and nobody knows what became of it
}
