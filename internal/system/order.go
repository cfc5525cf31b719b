package system

import (
	"context"
	"errors"
	"fmt"

	"evenledger/internal/account"
)

// A Verb is what an Order has done with an account.
type Verb string

// The verbs.
const (
	// Creates makes the account that is wanted.
	Creates Verb = "create"
	// Changes makes the changes to the account that is known, and no others.
	Changes Verb = "change"
	// Removes removes the account that is known for good.
	Removes Verb = "remove"
	// Renews gives the account that is known the password of the one that is wanted, and makes
	// the changes that go with it. Nobody can read whether it was set; setting the same once more does
	// no harm. The account's identifier stays.
	Renews Verb = "renew"
	// Completes gives an account that was found after no clear answer had come to its making
	// what it may lack of what was wanted. Doing it once more does no harm.
	Completes Verb = "complete"
)

// VerbOf is what is ordered to carry an intent out.
func VerbOf(i account.Intent) Verb {
	switch i {
	case account.Create:
		return Creates
	case account.Remove:
		return Removes
	}
	return Changes
}

// An Order says what is to be done with one account. If what is known of it has a Version and the system can
// tell that the account isn't of that version any more, the error is ErrChanged.
type Order struct {
	Does    Verb
	Known   account.Account  // as it was read; none where it is to be made
	Wanted  account.Account  // as it is to be made, or completed; of an account that Renews its password alone
	Changes []account.Change // of one that Changes or Renews
}

// A Result is what became of an order: the account as the system now has it, where one is left, or why not. A
// Refusal, ErrGone and ErrChanged are a no to it; of an Unclear nobody knows, or not yet; a Partial tells what was done of
// changes that take more than one request.
type Result struct {
	Account account.Account // where Abilities.Moves, perhaps under another identifier
	Err     error
}

// Each carries out orders one after the other, for a kind of system that takes one at a time.
func Each(orders []Order, do func(Order) (account.Account, error)) ([]Result, error) {
	results := make([]Result, 0, len(orders))
	for i, o := range orders {
		now, err := do(o)
		if i == 0 && err != nil && !IsOfOne(err) {
			return nil, err
		}
		results = append(results, Result{now, err})
	}
	return results, nil
}

// IsOfOne reports whether an error is of the account that was ordered about, and says nothing of the next.
func IsOfOne(err error) bool {
	var refusal *Refusal
	var part *Partial
	return errors.As(err, &refusal) || errors.As(err, &part) || errors.Is(err, ErrGone) || errors.Is(err, ErrChanged)
}

// apply carries out one order.
func apply(ctx context.Context, may Permit, s System, o Order, fields []string) (account.Account, error) {
	results, err := s.Apply(ctx, may, []Order{o}, fields)
	switch {
	case err != nil:
		return account.Account{}, err
	case len(results) != 1:
		return account.Account{}, &Unclear{Err: fmt.Errorf("there was one order, and %d results came back", len(results))}
	}
	return results[0].Account, results[0].Err
}

// Change changes an account, and returns it as the system now has it.
func Change(ctx context.Context, may Permit, s System, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	return apply(ctx, may, s, Order{Does: Changes, Known: known, Changes: changes}, fields)
}

// Complete gives an account what it may lack of what was wanted.
func Complete(ctx context.Context, may Permit, s System, known, wanted account.Account) error {
	_, err := apply(ctx, may, s, Order{Does: Completes, Known: known, Wanted: wanted}, nil)
	return err
}
