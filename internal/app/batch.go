package app

import (
	"context"
	"errors"
	"fmt"
	"os"

	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/workspace"
)

// OpenLedger opens the workspace's ledger; for reading alone, one that cannot be
// written to will do.
func (a *App) OpenLedger(ctx context.Context, toRead bool) (*workspace.Workspace, store.Store, error) {
	w, err := a.FindWorkspace()
	if err != nil {
		return nil, nil, err
	}
	open := sqlite.Open
	if _, err := os.Lstat(w.Ledger); toRead && err == nil {
		open = sqlite.OpenToRead
	}
	l, err := open(ctx, w.Ledger)
	if errors.Is(err, store.ErrOld) {
		l, err = sqlite.Open(ctx, w.Ledger)
	}
	if err != nil {
		return nil, nil, err
	}
	return w, l, nil
}

// LookAtBatch opens the ledger to read one batch of it; 0 is the newest.
func (a *App) LookAtBatch(ctx context.Context, id int, do func(store.Store, *batch.Batch) error) error {
	return a.withBatch(ctx, id, true, func(_ *workspace.Workspace, l store.Store, b *batch.Batch) error { return do(l, b) })
}

// OnBatch opens the ledger for work on one batch of it.
func (a *App) OnBatch(ctx context.Context, id int, do func(*workspace.Workspace, store.Store, *batch.Batch) error) error {
	return a.withBatch(ctx, id, false, do)
}

func (a *App) withBatch(ctx context.Context, id int, toRead bool, do func(*workspace.Workspace, store.Store, *batch.Batch) error) (err error) {
	w, l, err := a.OpenLedger(ctx, toRead)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	if id == 0 {
		if id, err = l.Newest(ctx); err != nil {
			return err
		}
	}
	b, err := l.Batch(ctx, id)
	if err != nil {
		return err
	}
	return do(w, l, b)
}

// Alone does a work of the workspace that nobody else may be at.
func Alone(l store.Store, work string, do func() error) (err error) {
	unlock, err := l.Lock(work)
	if errors.Is(err, store.ErrBusy) && work == "post" {
		return held("a batch of this workspace is being posted already", "Wait until that is done; “evenledger batches” shows it.")
	}
	if errors.Is(err, store.ErrBusy) {
		return held("another draft is being made in this workspace", "Wait until it is done.")
	}
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	return do()
}

func held(message, remedy string) error {
	return &batch.Guard{Message: message, Remedy: remedy}
}

// SystemOf finds the system that a batch was made for.
func SystemOf(w *workspace.Workspace, b *batch.Batch) (workspace.System, error) {
	target, err := w.System(b.System)
	if err != nil {
		return target, mistake(err.Error(), fmt.Sprintf("Batch %d was drafted for the system %s.", b.ID, b.System))
	}
	return target, nil
}

// Withdraw marks a draft as one that will not be posted, and destroys the passwords that
// it kept.
func Withdraw(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	return Alone(l, "post", func() error {
		switch {
		case b.State == batch.Withdrawn:
			return mistake(fmt.Sprintf("batch %d was withdrawn already", b.ID), "")
		case b.State != batch.Drafted || !b.Posted.IsZero():
			return mistake(fmt.Sprintf("batch %d is no draft any more: it is %s", b.ID, b.State), fmt.Sprintf("To undo what it did: evenledger reverse %d", b.ID))
		}
		b.State = batch.Withdrawn
		if err := l.Save(ctx, b); err != nil {
			return err
		}
		return Forget(ctx, w, l, b.ID)
	})
}
