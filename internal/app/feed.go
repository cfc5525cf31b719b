package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/expr"
	"evenledger/internal/feed"
	"evenledger/internal/feed/sqlfeed"
	"evenledger/internal/reach"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A Local is a sheet as a file of this machine: itself, or what a feed brought.
type Local struct {
	Path     string         // of the file
	Delivery *feed.Delivery // nil: it is no feed's
	spool    *feed.Spool
	most     int64 // bytes that it may come to unpacked; 0: any that a sheet may
}

// Close takes away what was brought.
func (l *Local) Close() error {
	if l.spool == nil {
		return nil
	}
	return l.spool.Close()
}

// Local returns the sheet that is named, and has it brought if it is a feed's. again brings
// what was taken before once more; takes says that a batch will be made of it.
func (a *App) Local(ctx context.Context, name string, again, takes bool) (*Local, error) {
	of, isFeed := strings.CutPrefix(name, feed.Prefix)
	if !isFeed {
		return &Local{Path: name}, nil
	}
	w, err := a.FindWorkspace()
	if err != nil {
		return nil, err
	}
	f, err := w.Feed(of)
	if err != nil {
		return nil, mistake(err.Error(), "")
	}
	last, err := a.lastOf(ctx, w, of)
	if err != nil {
		return nil, err
	}
	if last.Again = again; !takes { // whoever only looks is shown what there is
		last.Tag, last.Modified = "", time.Time{}
	}
	spool, err := feed.NewSpool(spoolsOf(w), f.Most)
	if err != nil {
		return nil, err
	}
	watched, stop := spool.Watch(ctx, f.Timeout)
	d, err := f.Source.Bring(watched, spool, last, a.feedWork(f))
	var silent *feed.Silent
	if err != nil && ctx.Err() == nil && errors.As(context.Cause(watched), &silent) {
		err = &reach.Unavailable{Message: silent.Error(), Remedy: "Nothing of it was used. Look whether it is well there, and at “timeout” of the feed in evenledger.yaml.", Err: silent}
	}
	stop()
	if err != nil {
		return nil, errors.Join(ofFeed(f, err), spool.Close())
	}
	if d.Ahead {
		a.Remark("feed %s: %s", of, aheadText(d))
	}
	if d.Feed = of; d.Brought.IsZero() {
		d.Brought = a.Clock.Now()
	}
	return &Local{d.Path, &d, spool, f.Most}, nil
}

// bring has a feed bring what a system is read from.
func (a *App) bring(ctx context.Context, name string) (path string, at time.Time, done func() error, err error) {
	l, err := a.Local(ctx, feed.Prefix+name, true, false)
	if err != nil {
		return "", at, nil, err
	}
	if at = l.Delivery.Modified; at.IsZero() {
		at = l.Delivery.Brought
	}
	return l.Path, at, l.Close, nil
}

// aheadText says that what was brought is dated in the future.
func aheadText(d feed.Delivery) string {
	return fmt.Sprintf("%s is dated %s, which is yet to come: a clock is wrong, there or here; it counts as written now", d.Name, d.Modified.Local().Format("2 Jan 2006 15:04"))
}

// spoolsOf is the folder for what feeds bring.
func spoolsOf(w *workspace.Workspace) string { return w.Ledger.Path + ".spool" }

// ofFeed says of which feed an error is.
func ofFeed(f workspace.Feed, err error) error {
	var secret *reach.NoSecret
	var down *reach.Unavailable
	var nothing *feed.Nothing
	switch {
	case errors.As(err, &secret):
		return mistake(fmt.Sprintf("feed %s: %s", f.Name, secret), fmt.Sprintf("evenledger.yaml, line %d, says where it is looked for: %s.", f.Line, secret.Reference))
	case errors.As(err, &nothing):
		return &feed.Nothing{Message: fmt.Sprintf("feed %s: %s", f.Name, nothing.Message), Same: nothing.Same}
	case errors.As(err, &down):
		return &reach.Unavailable{Message: fmt.Sprintf("feed %s: %s", f.Name, down.Message), Remedy: down.Remedy, Err: down.Err}
	}
	return err
}

func (a *App) feedWork(f workspace.Feed) feed.Work {
	work := feed.Work{Timeout: f.Timeout, Mask: a.Mask, Clock: a.Clock}
	if a.Trace != nil {
		work.Trace, _ = a.Trace()
	}
	return work
}

// lastOf returns what was taken of a feed the last time.
func (a *App) lastOf(ctx context.Context, w *workspace.Workspace, name string) (last feed.Last, err error) {
	if _, err := os.Lstat(w.Ledger.Path); err != nil && !w.Ledger.Shared() {
		return last, nil // nothing yet
	}
	_, l, err := a.OpenLedger(ctx, true)
	if err != nil {
		return last, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	all, err := l.Batches(ctx)
	if err != nil {
		return last, err
	}
	if i := slices.IndexFunc(all, func(b batch.Batch) bool { return b.Delivery != nil && b.Delivery.Feed == name && b.Took() }); i >= 0 {
		last.Delivery = *all[i].Delivery
	}
	return last, nil
}

// notTaken sees that what a feed brought was not taken by another batch than one of the same draft;
// what a batch took itself, it may go on with.
func notTaken(ctx context.Context, l store.Store, of *batch.Batch) error {
	d := of.Delivery
	if d == nil || d.Again || of.Took() {
		return nil
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	for _, b := range all {
		ofOneDraft := of.ID != 0 && (b.ID == of.ID || of.Beside != 0 && b.Beside == of.Beside)
		if !ofOneDraft && b.Delivery != nil && b.Delivery.Feed == d.Feed && b.Delivery.Sum == d.Sum && b.Took() {
			return &feed.Nothing{Message: fmt.Sprintf("feed %s brings what batch %d took on %s", d.Feed, b.ID, b.Posted.Local().Format("2 Jan 2006 at 15:04")), Same: true}
		}
	}
	return nil
}

// do does a follow-up where a feed is, which is opened once for all of a post.
func (a *App) do(w *workspace.Workspace) func(context.Context, string, feed.Order) error {
	var mu sync.Mutex
	opened := map[string]feed.Place{}
	open := func(f workspace.Feed) (feed.Place, error) {
		mu.Lock()
		defer mu.Unlock()
		if place := opened[f.Name]; place != nil {
			return place, nil
		}
		doer, can := f.Source.(feed.Doer)
		if !can {
			return nil, mistake(fmt.Sprintf("nothing can be done in feed %s", f.Name), "")
		}
		place, err := doer.Open(a.feedWork(f))
		if err != nil {
			return nil, ofFeed(f, err)
		}
		a.keep(place)
		opened[f.Name] = place
		return place, nil
	}
	return func(ctx context.Context, name string, order feed.Order) error {
		f, err := w.Feed(name)
		if err != nil {
			return mistake(err.Error(), "")
		}
		place, err := open(f)
		if err != nil {
			return err
		}
		return ofFeed(f, place.Do(ctx, order))
	}
}

// fitFollowUps sees that what the brief does elsewhere can be done there.
func (j *Job) fitFollowUps() error {
	around := slices.Concat(j.Brief.Begin, j.Brief.End)
	for _, f := range slices.Concat(j.Brief.FollowUps, around) {
		whole := slices.Contains(around, f)
		at, err := j.Workspace.Feed(f.Feed)
		if err != nil {
			return mistake(fmt.Sprintf("the follow-up %s: %s", f.Name, err), "")
		}
		doer, can := at.Source.(feed.Doer)
		switch {
		case !can:
			return mistake(fmt.Sprintf("the follow-up %s: nothing can be done in feed %s, which is of kind %s", f.Name, f.Feed, at.Kind.Name), "Name a feed of kind sql or web.")
		case doer.Does() != (f.Statement != ""):
			return mistake(fmt.Sprintf("the follow-up %s: feed %s is of kind %s", f.Name, f.Feed, at.Kind.Name), "Give “statement” for a database, and “body” for a web address.")
		case f.Statement == "":
			continue
		}
		names, err := sqlfeed.Parameters(f.Statement)
		if err != nil {
			return mistake(fmt.Sprintf("the follow-up %s: %s", f.Name, err), "Correct the statement.")
		}
		for _, name := range names {
			if !whole && name == "id" || whole && (name == "batch" || name == "today") {
				continue
			}
			if whole {
				return mistake(fmt.Sprintf("what is done about the batch as a whole: nothing gives the parameter “:%s”", name), "There are :batch, its number, and :today.")
			}
			if f.Parameters = append(f.Parameters, name); j.Brief.Field(name) < 0 {
				return mistake(fmt.Sprintf("the follow-up %s: nothing gives its parameter “:%s”", f.Name, name), "Parameters are fields of the brief, and :id.")
			}
		}
	}
	return nil
}

// wholes readies what is done elsewhere about a batch as a whole; its number is put in when it
// has one.
func (a *App) wholes(all []*brief.FollowUp, scope *expr.Scope) (ready []batch.Whole, err error) {
	for _, f := range all {
		w := batch.Whole{Feed: f.Feed, Order: feed.Order{Statement: f.Statement}}
		if f.Statement != "" {
			w.Order.Values = map[string]string{"today": a.Today()}
		} else {
			w.Order.Body = map[string]string{}
			for name, t := range f.Body {
				if w.Order.Body[name], err = t.Text(scope); err != nil {
					return nil, mistake(fmt.Sprintf("what is done about the batch as a whole: %s", err), "")
				}
			}
		}
		ready = append(ready, w)
	}
	return ready, nil
}

// took marks what a batch was made of as taken where it came from, once all of the batch is
// posted, or if there was nothing to post. That it could not be marked undoes nothing: it is
// told, and not taken twice.
func (a *App) took(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	if b.Delivery == nil || b.Marked || b.State != batch.Posted && b.State != batch.Drafted || len(b.Held) > 0 {
		return nil
	}
	_, waiting, err := l.Counts(ctx, b.ID)
	if err != nil || len(waiting) > 0 {
		return err
	}
	if b.State == batch.Drafted {
		b.State, b.Posted = batch.Posted, a.Clock.Now()
		if err := l.Save(ctx, b); err != nil {
			return err
		}
	}
	f, err := w.Feed(b.Delivery.Feed)
	if err == nil {
		err = f.Source.Take(ctx, *b.Delivery, a.feedWork(f))
	}
	if err != nil {
		a.Remark("what feed %s brought could not be marked as taken where it came from: %s", b.Delivery.Feed, a.Mask.Hide(err.Error()))
		return nil
	}
	b.Marked = true
	return l.Save(ctx, b)
}

// named says what a sheet is called in a batch.
func (l *Local) named(info sheet.Info) string {
	switch {
	case l.Delivery == nil:
		return info.Name
	case l.Delivery.Name == l.Delivery.Feed+".csv", l.Delivery.Name == l.Delivery.Feed+".jsonl":
		return feed.Prefix + l.Delivery.Feed
	}
	return fmt.Sprintf("%s%s (%s)", feed.Prefix, l.Delivery.Feed, l.Delivery.Name)
}

// A Feed is a feed, with what it brought last.
type Feed struct {
	Name    string         `json:"feed"`
	Kind    string         `json:"kind"`
	Address string         `json:"address"`
	Last    *feed.Delivery `json:"last,omitempty"`
	Batch   int            `json:"batch,omitempty"` // that was made of it
	State   batch.State    `json:"state,omitempty"` // of the batch
}

// Feeds lists the feeds of the workspace, in the order of evenledger.yaml.
func (a *App) Feeds(ctx context.Context) (feeds []Feed, err error) {
	w, l, err := a.OpenLedger(ctx, true)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range w.Feeds {
		one := Feed{Name: f.Name, Kind: f.Kind.Name, Address: f.Source.Address()}
		if i := slices.IndexFunc(all, func(b batch.Batch) bool { return b.Delivery != nil && b.Delivery.Feed == f.Name }); i >= 0 {
			one.Last, one.Batch, one.State = all[i].Delivery, all[i].ID, all[i].State
		}
		feeds = append(feeds, one)
	}
	return feeds, nil
}
