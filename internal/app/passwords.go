package app

import (
	"context"
	"errors"
	"fmt"
	"iter"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// Forget destroys what is left of a batch's passwords: they can be opened by nobody
// any more, whatever still has them.
func Forget(ctx context.Context, w *workspace.Workspace, l store.Store, id int) error {
	return errors.Join(l.Wipe(ctx, id, nil), Vaults(w).Destroy(id), l.CutJournal(ctx))
}

// HandOut writes the generated passwords of the accounts that were made to a new file, and
// then keeps them no more. It returns how many.
func HandOut(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, envelope secret.Envelope, path string) (int, error) {
	sealed := Vaults(w).Of(b.ID)
	var rows []int
	n, err := envelope.WriteFile(path, func(yield func(secret.Credential, error) bool) {
		for e, err := range made(l.Entries(ctx, b.ID, store.Filter{Secrets: true})) {
			c := secret.Credential{}
			if err == nil {
				c.Password, err = sealed.Open(e.Secret)
			}
			fields := map[string]string{}
			for _, change := range e.Changes {
				fields[change.Field] = change.After.Text()
			}
			c.UserName, c.Name, c.Email = fields["userName"], fields["displayName"], fields["email"]
			if c.Name == "" {
				c.Name = fields["givenName"] + " " + fields["familyName"]
			}
			if !yield(c, err) {
				return
			}
			rows = append(rows, e.Row)
		}
	})
	if err != nil {
		return 0, fmt.Errorf("the passwords could not be written and are kept, sealed: %w", err)
	}
	return n, l.Wipe(ctx, b.ID, rows)
}

// made yields the entries whose account was created and whose password is kept.
func made(entries iter.Seq2[batch.Entry, error]) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for e, err := range entries {
			if (err != nil || e.Secret != "" && !secret.IsGiven(e.Secret) && e.Did == account.Created) && !yield(e, err) {
				return
			}
		}
	}
}
