package app

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// Forget destroys what is left of a batch's passwords: they can be opened by nobody
// any more, whatever still has them.
func Forget(ctx context.Context, w *workspace.Workspace, l store.Store, id int) error {
	return errors.Join(l.Wipe(ctx, id, nil), Vaults(w, l).Destroy(id), l.CutJournal(ctx))
}

// SettlePasswords hands the generated passwords of a batch out if there is an envelope for
// them, and forgets what is left once no account can want it any more. It returns how many
// were handed out, and how many are kept that could be.
func SettlePasswords(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, envelope secret.Envelope, path string) (handed, kept int, err error) {
	if b.Secrets == "" {
		return 0, 0, nil
	}
	kept, waiting, mailed, err := l.Secrets(ctx, b.ID)
	if err != nil {
		return 0, 0, err
	}
	if kept > 0 {
		if !envelope.Given() {
			return 0, kept, nil
		}
		if handed, err = handOut(ctx, w, l, b, envelope, path); err != nil {
			return 0, kept, err
		}
	}
	if waiting+mailed == 0 && b.State == batch.Posted {
		err = Forget(ctx, w, l, b.ID)
	}
	return handed, 0, err
}

// handOut writes the generated passwords that accounts have got to a new file, and
// then keeps them no more. It returns how many.
func handOut(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, envelope secret.Envelope, path string) (int, error) {
	sealed := Vaults(w, l).Of(b.ID)
	var rows []int
	n, err := envelope.WriteFile(path, func(yield func(secret.Credential, error) bool) {
		for e, err := range got(l.Entries(ctx, b.ID, store.Filter{Secrets: true})) {
			c := secret.Credential{}
			if err == nil {
				c.Password, err = sealed.Open(e.Secret)
			}
			left := e.Left()
			c.UserName, c.Name, c.Email = left["userName"].Text(), left["displayName"].Text(), left["email"].Text()
			if c.Name == "" {
				c.Name = strings.TrimSpace(left["givenName"].Text() + " " + left["familyName"].Text())
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

// got yields the entries whose account has got a generated password that is kept.
func got(entries iter.Seq2[batch.Entry, error]) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for e, err := range entries {
			has := e.Did == account.Created || slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Do == membership.Renew && s.Result == membership.Done })
			if (err != nil || e.Secret != "" && !secret.IsGiven(e.Secret) && has && !slices.ContainsFunc(e.Steps, membership.Step.HoldsPassword)) && !yield(e, err) {
				return
			}
		}
	}
}
