package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/feed"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A Run takes a brief the whole way, from its feed to the report, with nobody at the
// keyboard: a guard stops it, and it never asks.
type Run struct {
	Brief     string
	DraftOnly bool
	Again     bool                        // what the feed brings is taken though it was taken before
	MailsTo   string                      // of a trial: the address that its mails go to
	Posting   Posting                     // how its batches are posted
	Log       func(stage, message string) // a line for each stage
}

// Run goes the whole way of one brief, and notes in the ledger how it ended. What went wrong
// is in the result as well as in the error.
func (a *App) Run(ctx context.Context, r Run) (done store.Run, err error) {
	done = store.Run{Brief: r.Brief, By: a.By, Began: a.Clock.Now(), Came: store.RunFailed}
	w, l, err := a.OpenLedger(ctx, false)
	if err != nil {
		return done, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	unlock, err := l.Lock("run-" + filepath.Base(r.Brief))
	if errors.Is(err, store.ErrBusy) {
		return done, held(fmt.Sprintf("another run of %s is under way", r.Brief), "Wait until it is done; “evenledger runs” shows it.")
	}
	if err != nil {
		return done, err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	// How it ends is noted also where it never does.
	if err := l.Runs().Save(ctx, &done); err != nil {
		return done, err
	}
	err = a.wholeWay(ctx, w, l, r, &done)
	done.Ended = a.Clock.Now()
	var nothing *feed.Nothing
	if errors.As(err, &nothing) {
		r.Log("feed", nothing.Message)
		if err = nil; done.Batch == 0 { // else there was a batch to go on with
			done.Came, done.Message = store.RunNothing, nothing.Message
		}
	}
	if err != nil && done.Message == "" {
		done.Message = a.Mask.Told(err.Error())
	}
	return done, errors.Join(err, l.Runs().Save(context.WithoutCancel(ctx), &done))
}

func (a *App) wholeWay(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, done *store.Run) error {
	if err := errors.Join(a.settleRun(ctx, w, l, r, done), a.goOn(ctx, w, l, r, done)); err != nil {
		return err
	}
	batches, draftErr := a.runDraft(ctx, l, r, done)
	if len(batches) == 0 {
		return draftErr
	}
	done.Batch, done.Outcomes = batches[0].ID, account.Counts{}
	came, errs := store.RunPosted, []error{draftErr}
	for _, b := range batches { // one that is held, or whose system is down, leaves the others alone
		ended, err := a.carryOn(ctx, w, l, r, b, done)
		if ended != store.RunPosted && came != store.RunHeld {
			came = ended
		}
		errs = append(errs, err)
	}
	if done.Came = came; draftErr != nil {
		done.Came = store.RunFailed
	}
	return errors.Join(errs...)
}

// carryOn posts a batch of a run, unless it is held back or only to be drafted, and sends its
// report.
func (a *App) carryOn(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, b *batch.Batch, done *store.Run) (store.Ending, error) {
	counts, _, err := l.Counts(ctx, b.ID)
	if err != nil {
		return store.RunFailed, err
	}
	add := func(counts account.Counts) {
		for outcome, n := range counts {
			done.Outcomes[outcome] += n
		}
	}
	switch {
	case len(b.Held) > 0:
		add(counts)
		done.Message = strings.Join(b.Held, "; ")
		r.Log("draft", "held back: "+done.Message)
		return store.RunHeld, errors.Join(a.runReport(ctx, w, l, r, b, done.Message), held(fmt.Sprintf("batch %d is held back: %s", b.ID, done.Message), fmt.Sprintf("Look at it: evenledger show %d", b.ID)))
	case r.DraftOnly:
		add(counts)
		return store.RunDrafted, a.runReport(ctx, w, l, r, b, "")
	}
	return a.runPost(ctx, w, l, r, b, done)
}

// runPost posts a batch of a run, says what came of it, and sends its report.
func (a *App) runPost(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, b *batch.Batch, done *store.Run) (store.Ending, error) {
	how := r.Posting
	how.Whole = true
	posts, err := a.Ready(ctx, w, l, how, b)
	if err != nil {
		return store.RunFailed, err
	}
	posts.CarryOut(ctx)
	one, after := posts.All[0], context.WithoutCancel(ctx)
	counts, _, err := l.Counts(after, b.ID)
	if err != nil {
		return store.RunFailed, errors.Join(one.Err, err)
	}
	if one.Refused() { // nothing of it was done, and nothing followed
		one.Left, one.After = Remaining(after, l, b)
		one.After = errors.Join(one.After, a.runReport(after, w, l, r, b, a.why(one.Err)))
	}
	for outcome, n := range counts {
		done.Outcomes[outcome] += n
	}
	ended, left, err := store.RunFailed, one.Left, errors.Join(one.Err, one.After)
	if err == nil && left.Waiting+left.Unproven == 0 {
		ended = store.RunPosted
	}
	r.followed(one)
	r.Log("post", ofSystem(b)+summed(counts))
	if left.Handed > 0 {
		says := ofSystem(b) + Remains{Handed: left.Handed}.String()
		r.Log("post", says)
		done.Handed = strings.TrimPrefix(done.Handed+"; "+says, "; ")
		left.Handed = 0
	}
	if left.Any() {
		says := ofSystem(b) + left.String()
		r.Log("post", says)
		done.Remains = strings.TrimPrefix(done.Remains+"; "+says, "; ")
		if err == nil {
			err = left.Err()
		}
	}
	if one.Reported != "" {
		r.Log("report", one.Reported)
	}
	return ended, err
}

// followed logs what became of the passwords of a batch.
func (r Run) followed(p *Posted) {
	if p.Shredded > 0 {
		r.Log("settle", fmt.Sprintf("batch %d: files with passwords shredded: %d", p.Batch.ID, p.Shredded))
	}
	if p.Passwords.Handed > 0 {
		r.Log("post", fmt.Sprintf("%d generated passwords are in %s, and kept nowhere else", p.Passwords.Handed, p.Credentials))
	}
	if says := p.Passwords.Elsewhere(); says != "" {
		r.Log("post", says)
	}
	if p.Passwords.Kept > 0 {
		r.Log("post", fmt.Sprintf("%d generated passwords are still to be handed out: evenledger post %d --credentials FILE --to KEY", p.Passwords.Kept, p.Batch.ID))
	}
}

// ofSystem names the system of a batch that is one of several.
func ofSystem(b *batch.Batch) string {
	if b.Set == "" {
		return ""
	}
	return b.System + ": "
}

// settleRun finds out what became of what earlier batches of the brief handed over, as far as the applications' newest exports
// show it.
func (a *App) settleRun(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, done *store.Run) error {
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	how := r.Posting
	how.Quiet = true // its report went when it was posted
	for i := range all {
		b := &all[i]
		if b.Brief != r.Brief || b.State != batch.Handed || r.DraftOnly {
			continue
		}
		settled, err := a.Settle(ctx, w, l, b, Answer{}, how)
		if err != nil {
			r.Log("settle", fmt.Sprintf("batch %d: %s", b.ID, a.Mask.Told(err.Error())))
			continue
		}
		r.followed(settled)
		if err := errors.Join(settled.Err, settled.After); err != nil {
			return err
		}
		counts, _, err := l.Counts(ctx, b.ID)
		if err != nil {
			return err
		}
		says := fmt.Sprintf("batch %d: %s", b.ID, summed(counts))
		r.Log("settle", says)
		done.Settled = strings.TrimPrefix(done.Settled+"; "+says, "; ")
	}
	return nil
}

// goOn posts the rest of the brief's last batch, or of the last that stand together, if that was
// stopped: what its feed brought counts as taken, so that nobody else would.
func (a *App) goOn(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, done *store.Run) (err error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	var last *batch.Batch
	for i := range all {
		b := &all[i]
		if b.Brief != r.Brief || b.Delivery == nil {
			continue
		}
		if last != nil && (b.Beside == 0 || b.Beside != last.Beside) {
			break
		}
		if last = b; b.State != batch.Stopped && b.State != batch.Posting || r.DraftOnly {
			continue
		}
		r.Log("post", fmt.Sprintf("goes on with batch %d, which was stopped", b.ID))
		done.Batch, done.Sheet = b.ID, b.Sheet
		if done.Outcomes == nil {
			done.Outcomes, done.Came = account.Counts{}, store.RunPosted
		}
		came, postErr := a.runPost(ctx, w, l, r, b, done)
		if came != store.RunPosted {
			done.Came = came
		}
		err = errors.Join(err, postErr)
	}
	return err
}

// runDraft brings what the feed has and makes a batch of it, or one for each system of a set. An
// error beside batches is that of systems which have none.
func (a *App) runDraft(ctx context.Context, l store.Store, r Run, done *store.Run) (batches []*batch.Batch, err error) {
	members, set, err := a.OpenSet(ctx, "", Request{Brief: r.Brief, Again: r.Again, MailsTo: r.MailsTo})
	if err != nil {
		return nil, err
	}
	defer func() {
		if err := CloseSet(members); err != nil { // its batch is as good
			r.Log("feed", fmt.Sprintf("what was brought could not be taken away from this machine again: %s", err))
		}
	}()
	for _, m := range members {
		if m.Job != nil {
			done.Sheet = m.local.named(m.Sheet.Info())
			r.Log("feed", fmt.Sprintf("%s brings %s, %d bytes", m.Name, m.local.Delivery.Name, m.local.Delivery.Size))
			if m.local.Delivery.Ahead {
				done.Remains = aheadText(*m.local.Delivery)
			}
			break
		}
	}
	for _, made := range a.DraftSet(ctx, l, members, set, nil) {
		if made == nil {
			continue
		}
		batches = append(batches, made.Batch)
		for _, f := range made.Findings() {
			r.Log("draft", ofSystem(made.Batch)+f.Message)
		}
	}
	for _, m := range members {
		if m.Err != nil && set != "" {
			r.Log("draft", m.System+": "+a.Mask.Told(m.Err.Error()))
		}
		err = errors.Join(err, m.Err)
	}
	for _, b := range batches {
		counts, waiting, countErr := l.Counts(ctx, b.ID)
		if countErr != nil {
			return nil, countErr
		}
		done.Outcomes = counts
		says := summed(counts)
		for _, intent := range account.Intents() {
			if n := waiting[intent]; n > 0 {
				says += fmt.Sprintf(", %d to %s", n, intent)
			}
		}
		r.Log("draft", fmt.Sprintf("batch %d: %s%s", b.ID, ofSystem(b), says))
		if b.Trial != "" {
			r.Log("draft", b.Policies)
		}
	}
	return batches, err
}

// summed says what rows came to.
func summed(counts account.Counts) string {
	parts := []string{fmt.Sprintf("%d rows", counts.Total())}
	for _, outcome := range account.Outcomes() {
		if n := counts[outcome]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, outcome))
		}
	}
	return strings.Join(parts, ", ")
}

// runReport sends the report of a batch that is not posted.
func (a *App) runReport(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, b *batch.Batch, why string) error {
	says, err := a.report(ctx, w, l, b, r.Posting, why, "")
	if err == nil && says != "" {
		r.Log("report", says)
	}
	return err
}
