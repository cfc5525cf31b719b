package systemtest

import (
	"context"
	"fmt"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// Making are orders that make accounts.
func Making(wanted ...account.Account) (orders []system.Order) {
	for _, a := range wanted {
		orders = append(orders, system.Order{Does: system.Creates, Wanted: a})
	}
	return orders
}

// apply carries out one order.
func apply(ctx context.Context, may system.Permit, s system.System, o system.Order, fields []string) (account.Account, error) {
	results, err := s.Apply(ctx, may, []system.Order{o}, fields)
	switch {
	case err != nil:
		return account.Account{}, err
	case len(results) != 1:
		return account.Account{}, fmt.Errorf("there was one order, and %d results came back", len(results))
	}
	return results[0].Account, results[0].Err
}

// Create makes an account, and returns it as the system now has it.
func Create(ctx context.Context, may system.Permit, s system.System, wanted account.Account, fields []string) (account.Account, error) {
	return apply(ctx, may, s, system.Order{Does: system.Creates, Wanted: wanted}, fields)
}

// Remove removes an account.
func Remove(ctx context.Context, may system.Permit, s system.System, known account.Account) error {
	_, err := apply(ctx, may, s, system.Order{Does: system.Removes, Known: known}, nil)
	return err
}

// SetPassword gives an account another password.
func SetPassword(ctx context.Context, may system.Permit, s system.System, known account.Account, password string, also []account.Change) error {
	_, err := apply(ctx, may, s, system.Order{Does: system.Renews, Known: known, Wanted: account.Account{Password: password}, Changes: also}, nil)
	return err
}
