package system_test

import (
	"context"
	"errors"
	"fmt"
	"log"

	"evenledger/internal/account"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
	"evenledger/internal/system/systemtest"
)

// What a system takes and can do is told beforehand, and what it cannot is refused as that.
func ExampleSystem() {
	ctx := context.Background()
	directory := memory.NewDirectory("Deck", "Engine")
	about, err := directory.Describe(ctx)
	if err != nil {
		log.Fatal(err)
	}
	zoe, err := systemtest.Create(ctx, nil, directory, account.Account{Fields: map[string]account.Value{"userName": account.Of("zoe"), "unit": account.Of("Deck")}}, nil)
	if err != nil {
		log.Fatal(err)
	}
	moved, err := system.Change(ctx, nil, directory, zoe, []account.Change{{Field: "unit", Before: account.Of("Deck"), After: account.Of("Engine")}}, nil)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("identifiers may change:", about.Can.Moves)
	fmt.Println(zoe.ID, "→", moved.ID)
	_, err = directory.Count(ctx)
	fmt.Println("can it be counted:", about.Can.Counts, errors.Is(err, system.ErrCannot))
	// Output:
	// identifiers may change: true
	// uid=zoe,ou=Deck,dc=sound → uid=zoe,ou=Engine,dc=sound
	// can it be counted: false true
}
