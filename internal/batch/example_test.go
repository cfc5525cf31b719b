package batch_test

import (
	"fmt"
	"log"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
)

// A row and the account that was found come to an entry: what changes, from what to what.
func ExampleDecider() {
	b, err := brief.Parse("crew.yaml", []byte("match: [employeeNumber]\nfields:\n  employeeNumber: {from: Staff no}\n  title: {from: Position}\n"), brief.Options{})
	if err != nil {
		log.Fatal(err)
	}
	index := batch.NewIndex([]account.Field{b.Fields[0].Field}, map[string][]string{"employeeNumber": {"00417"}})
	index.Add(account.Account{ID: "u-000001", Fields: map[string]account.Value{"userName": account.Of("zoe"), "employeeNumber": account.Of("00417"), "title": account.Of("Mate")}})
	decider := &batch.Decider{Brief: b, Index: index, Schema: &account.Schema{Naming: "userName"}, Column: func(int) string { return "" }}

	e := batch.Entry{Row: 2}
	decider.Decide(&e, &mapping.Wanted{Row: 2, Values: []account.Value{account.Of("00417"), account.Of("Master")}})
	fmt.Println(e.Intent, e.Account)
	for _, c := range e.Changes {
		fmt.Println(c.Field, c.Before, "→", c.After)
	}
	// Output:
	// update u-000001
	// title Mate → Master
}
