package app

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

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
	return errors.Join(l.Passwords(id).Wipe(ctx, nil), Vaults(w, l).Destroy(id), l.Upkeep().CutJournal(ctx))
}

// Settled is what became of the generated passwords of a batch.
type Settled struct {
	Handed int // now
	Kept   int // that could be handed out
	// Other is who handed them out, where somebody else was faster, or was cut short at it; nil: nobody.
	Other *batch.Handout
}

// Elsewhere says who else handed passwords out, or began to; empty: nobody.
func (s Settled) Elsewhere() string {
	switch {
	case s.Other == nil:
		return ""
	case s.Other.Done:
		return fmt.Sprintf("%d generated passwords were handed out by %s at %s, and to nobody else", s.Other.N, s.Other.By, s.Other.At.Local().Format(time.TimeOnly))
	case s.Handed == 0:
		return fmt.Sprintf("%s began to hand %d generated passwords out at %s and was cut short: they are in a file of theirs, and nowhere else", s.Other.By, s.Other.N, s.Other.At.Local().Format(time.TimeOnly))
	}
	return fmt.Sprintf("%s began to hand them out at %s and was cut short: a file of theirs may have the same passwords", s.Other.By, s.Other.At.Local().Format(time.TimeOnly))
}

// lockPause is how long it is waited before a lock that another has is asked for again.
const lockPause = 200 * time.Millisecond

// SettlePasswords hands the generated passwords of a batch out if there is an envelope for
// them, and forgets what is left once no account can want it any more. Of several who would, one
// does: that is noted in the ledger before a password is opened.
func (a *App) SettlePasswords(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, envelope secret.Envelope, path string) (s Settled, err error) {
	if b.Secrets == "" {
		return s, nil
	}
	unlock, err := l.Lock(fmt.Sprintf("passwords-%d", b.ID))
	for ; errors.Is(err, store.ErrBusy); unlock, err = l.Lock(fmt.Sprintf("passwords-%d", b.ID)) {
		if err := a.Clock.Wait(ctx, lockPause); err != nil {
			return s, err
		}
	}
	if err != nil {
		return s, err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	now, err := l.Batch(ctx, b.ID) // others may have been at it until now
	if err != nil {
		return s, err
	}
	*b = *now
	counts, err := l.Passwords(b.ID).Count(ctx)
	if err != nil {
		return s, err
	}
	kept := counts.Got
	switch last := b.Handout; {
	case kept == 0:
		if envelope.Given() { // who was cut short after they were forgotten here has the only file
			s.Other = last
		}
	case !envelope.Given():
		s.Kept = kept
		return s, nil
	default:
		if last != nil && !last.Done {
			s.Other = last
		}
		if err := a.noteHandout(ctx, l, b, &batch.Handout{By: a.Worker(w).Who, At: a.Clock.Now(), N: kept}); err != nil {
			s.Kept = kept
			return s, err
		}
		if s.Handed, err = handOut(ctx, w, l, b, envelope, path); err != nil {
			s.Kept = kept
			return s, errors.Join(err, a.noteHandout(ctx, l, b, last))
		}
		done := *b.Handout
		done.Done = true
		if err := a.noteHandout(ctx, l, b, &done); err != nil {
			return s, err
		}
	}
	if counts.Waiting+counts.Mailed == 0 && b.State == batch.Posted {
		err = Forget(ctx, w, l, b.ID)
	}
	return s, errors.Join(err, a.Endorse(ctx, w, l, b.ID))
}

// noteHandout notes who hands the passwords out. Others may save the batch meanwhile.
func (a *App) noteHandout(ctx context.Context, l store.Store, b *batch.Batch, h *batch.Handout) error {
	for {
		b.Handout = h
		err := l.Save(ctx, b)
		if !errors.Is(err, store.ErrChanged) {
			return err
		}
		now, err := l.Batch(ctx, b.ID)
		if err != nil {
			return err
		}
		*b = *now
	}
}

// handOut writes the generated passwords that accounts have got to a new file, and
// then keeps them no more. It returns how many.
func handOut(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, envelope secret.Envelope, path string) (int, error) {
	sealed := Vaults(w, l).Of(b.ID, b.Key)
	var rows []int
	n, err := envelope.WriteFile(path, func(yield func(secret.Credential, error) bool) {
		for e, err := range got(l.Entries(ctx, b.ID, store.Filter{Secrets: true})) {
			c := secret.Credential{}
			if err == nil {
				if c.Password, err = sealed.Open(e.Row, e.Secret); err == nil {
					c.Password, _ = e.Password(c.Password)
				}
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
	return n, l.Passwords(b.ID).Wipe(ctx, rows)
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
