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
// claimed and never settled is found when the lease is over, to be looked up.
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

	b := &batch.Batch{Made: noon}
	entry := batch.Entry{Intent: account.Create, Outcome: account.Waiting}
	first, second := entry, entry
	first.Row, second.Row = 2, 3
	if err := ledger.Begin(ctx, b); err != nil {
		log.Fatal(err)
	}
	if err := ledger.Add(ctx, b.ID, []batch.Entry{first, second}); err != nil {
		log.Fatal(err)
	}
	claim, got, err := ledger.Claim(ctx, b.ID, "quay", []batch.Entry{first, second}, noon, time.Minute)
	if err != nil {
		log.Fatal(err)
	}
	got[0].Outcome, got[0].Account = account.Created, "u-000001"
	if err := ledger.Settle(ctx, b.ID, []store.Result{{Entry: got[0], Claim: claim}}, noon); err != nil {
		log.Fatal(err)
	}
	open, err := ledger.InFlight(ctx, b.ID, "another", noon.Add(time.Hour))
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range open {
		fmt.Printf("row %d was sent at %s, and nobody knows what became of it\n", f.Entry.Row, f.Sent.Format(time.TimeOnly))
	}
	// Output:
	// row 3 was sent at 12:00:00, and nobody knows what became of it
}
