package app

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// How a worker that only helps looks for work.
const (
	lookPause  = time.Second
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
	p := a.Poster(w, l, b, target)
	p.Helps = true
	if err := a.ConnectTo(target, p); err != nil {
		return err
	}
	return p.Run(ctx)
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

// Work helps with every batch that somebody posts, until ctx is done. Log is told what it begins
// and how that ended.
func (a *App) Work(ctx context.Context, w *workspace.Workspace, l store.Store, log func(id int, says string)) error {
	var mu sync.Mutex
	mine := map[int]bool{}
	var all sync.WaitGroup
	defer all.Wait()
	for {
		posting, err := a.posted(ctx, l)
		if err != nil {
			return err
		}
		for id := range posting {
			mu.Lock()
			has := mine[id]
			mu.Unlock()
			if has {
				continue
			}
			b, err := l.Batch(ctx, id)
			if errors.Is(err, store.ErrNoBatch) || err == nil && b.State != batch.Posting {
				continue // it is being made
			}
			if err != nil {
				return err
			}
			mu.Lock()
			mine[id] = true
			mu.Unlock()
			log(id, "helps")
			all.Go(func() {
				says := "done"
				if err := a.help(ctx, w, l, b); err != nil {
					says = a.Mask.Hide(err.Error())
				}
				log(id, says)
				_ = a.Clock.Wait(ctx, lookPause) // whoever began it may still be there
				mu.Lock()
				delete(mine, id)
				mu.Unlock()
			})
		}
		if err := a.Clock.Wait(ctx, lookPause); err != nil {
			return nil
		}
	}
}
