package app

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/store/engines"
	"evenledger/internal/workspace"
)

// How a worker that only helps looks for work.
const (
	lookPause  = time.Second
	failPause  = 15 * time.Second // before what went wrong is tried again
	startPause = 250 * time.Millisecond
	startWait  = 20 * time.Second // for a batch to be begun by who asked for help
)

// Help does a share of a batch that somebody else posts, until it is over. A batch that is about
// to be posted is waited for, but not for long.
func (a *App) Help(ctx context.Context, w *workspace.Workspace, l store.Store, id int) error {
	for until := a.Clock.Now().Add(startWait); ; {
		b, err := l.Batch(ctx, id)
		if err != nil {
			return err
		}
		posting, err := a.posted(ctx, l)
		if err != nil {
			return err
		}
		switch {
		case posting[id] && b.State == batch.Posting:
			return a.help(ctx, w, l, b)
		case b.State != batch.Drafted && b.State != batch.Stopped && b.State != batch.Posting:
			return nil // it is over
		case a.Clock.Now().After(until):
			return held(fmt.Sprintf("nobody posts batch %d", id), fmt.Sprintf("To post it: evenledger post %d", id))
		}
		if err := a.Clock.Wait(ctx, startPause); err != nil {
			return err
		}
	}
}

// help does a share of a batch that is being posted.
func (a *App) help(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	target, err := SystemOf(w, b)
	if err != nil {
		return err
	}
	p := a.newPost(w, l, b, target)
	p.Helps = true
	if err := a.connectTo(target, p); err != nil {
		return err
	}
	err = p.Run(ctx)
	return errors.Join(err, a.Close()) // who only helps goes on for long
}

// posted are the batches at which somebody is.
func (a *App) posted(ctx context.Context, l store.Store) (map[int]bool, error) {
	all, err := l.Working(ctx)
	at := map[int]bool{}
	for _, one := range all {
		at[one.Batch] = true
	}
	return at, err
}

// Work helps with every batch that somebody posts, until ctx is done; a ledger that is away for a
// while is waited for. Log is told what it begins and how that ended, and of batch 0 what is
// wrong with the ledger.
func (a *App) Work(ctx context.Context, w *workspace.Workspace, l store.Store, log func(id int, says string)) error {
	h := &helper{App: a, w: w, l: l, log: log, mine: map[int]bool{}}
	defer h.all.Wait()
	for away := false; ; {
		pause := lookPause
		switch err := h.look(ctx); {
		case engines.TroubleOf(err) == engines.Away && ctx.Err() == nil:
			if pause = failPause; !away {
				log(0, a.Mask.Hide(err.Error()))
			}
			away = true
		case err != nil:
			return err
		default:
			away = false
		}
		if err := a.Clock.Wait(ctx, pause); err != nil {
			return nil
		}
	}
}

// A helper helps with batches side by side.
type helper struct {
	*App
	w   *workspace.Workspace
	l   store.Store
	log func(id int, says string)
	all sync.WaitGroup

	mu   sync.Mutex
	mine map[int]bool // batches that it is at, or was a moment ago
}

// look begins to help with what is posted.
func (h *helper) look(ctx context.Context) error {
	posting, err := h.posted(ctx, h.l)
	if err != nil {
		return err
	}
	for id := range posting {
		b, err := h.l.Batch(ctx, id)
		if errors.Is(err, store.ErrNoBatch) || err == nil && (b.State != batch.Posting || !h.begins(id)) {
			continue // it is being made, or is helped with
		}
		if err != nil {
			return err
		}
		h.all.Go(func() { h.one(ctx, b) })
	}
	return nil
}

// begins reports whether a batch is to be helped with from now on.
func (h *helper) begins(id int) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	has := h.mine[id]
	h.mine[id] = true
	return !has
}

// one helps with a batch until it is over, or something is wrong.
func (h *helper) one(ctx context.Context, b *batch.Batch) {
	h.log(b.ID, "helps")
	says, pause := "done", lookPause // whoever began it may still be there
	if err := h.help(ctx, h.w, h.l, b); err != nil {
		says, pause = h.Mask.Hide(err.Error()), failPause
	}
	h.log(b.ID, says)
	_ = h.Clock.Wait(ctx, pause)
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.mine, b.ID)
}
