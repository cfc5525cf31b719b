package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/feed"
	"evenledger/internal/posting"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A Run takes a brief the whole way, from its feed to the report, with nobody at the
// keyboard: a guard stops it, and it never asks.
type Run struct {
	Brief       string
	DraftOnly   bool
	Again       bool                        // what the feed brings is taken though it was taken before
	HoldMails   bool                        // mails are kept until a person sends them
	Unproven    bool                        // what was done is not read back
	MailsTo     string                      // of a trial: the address that its mails go to
	Envelope    secret.Envelope             // that generated passwords are handed out in
	Credentials string                      // the new file for them; {batch} stands for the batch's number
	Log         func(stage, message string) // a line for each stage
	// Report gives the report of a batch to whom it is for, with why it went no further, if so,
	// and the file of credentials, if there is one. It returns a line about it; empty: there is none.
	Report func(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, why, credentials string) (string, error)
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
	if err := l.SaveRun(ctx, &done); err != nil {
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
	return done, errors.Join(err, l.SaveRun(context.WithoutCancel(ctx), &done))
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
	return a.runPostAndReport(ctx, w, l, r, b, done)
}

// runPostAndReport posts a batch of a run, says what came of it, and sends its report.
func (a *App) runPostAndReport(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, b *batch.Batch, done *store.Run) (store.Ending, error) {
	err := a.runPost(ctx, w, l, r, b)
	after := context.WithoutCancel(ctx)
	counts, _, countErr := l.Counts(after, b.ID)
	for outcome, n := range counts {
		done.Outcomes[outcome] += n
	}
	left, leftErr := Remaining(after, l, b)
	ended := store.RunFailed
	if err == nil && countErr == nil && left.Waiting+left.Unproven == 0 {
		ended = store.RunPosted
	}
	r.Log("post", ofSystem(b)+summed(counts))
	why := ""
	if err != nil {
		why = a.Mask.Told(err.Error())
	}
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
	return ended, errors.Join(err, countErr, leftErr, a.runReport(after, w, l, r, b, why))
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
	for i := range all {
		b := &all[i]
		if b.Brief != r.Brief || b.State != batch.Handed || r.DraftOnly {
			continue
		}
		target, err := SystemOf(w, b)
		if err != nil {
			return err
		}
		p, err := a.Settler(ctx, w, l, b, target, Answer{})
		if err != nil {
			r.Log("settle", fmt.Sprintf("batch %d: %s", b.ID, a.Mask.Told(err.Error())))
			continue
		}
		p.HandsOut, p.HoldMails, p.Unproven = r.Envelope.Given(), r.HoldMails, p.Unproven || r.Unproven
		shredded, err := a.Settle(ctx, w, l, b, target, p)
		if shredded > 0 {
			r.Log("settle", fmt.Sprintf("batch %d: files with passwords shredded: %d", b.ID, shredded))
		}
		if err = errors.Join(err, a.handOutOf(context.WithoutCancel(ctx), r, w, l, b)); err != nil {
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
		came, postErr := a.runPostAndReport(ctx, w, l, r, b, done)
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
		for _, pattern := range made.Unprotecting {
			r.Log("draft", fmt.Sprintf("“%s” stands under “protect”, and no account is called so", pattern))
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

// runPost carries the batch out.
func (a *App) runPost(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, b *batch.Batch) error {
	target, err := SystemOf(w, b)
	if err != nil {
		return err
	}
	p := a.Poster(w, l, b, target)
	p.HandsOut, p.HoldMails, p.Unproven = r.Envelope.Given(), r.HoldMails, p.Unproven || r.Unproven
	if err := p.May(ctx); err != nil {
		return err
	}
	if err := a.ConnectTo(target, p); err != nil {
		return err
	}
	if _, err := p.System.Describe(ctx); err != nil { // turned away? then before anything is noted
		return err
	}
	err = p.Run(ctx)
	after := context.WithoutCancel(ctx)
	return errors.Join(err, a.handOutOf(after, r, w, l, b), a.Took(after, w, l, b))
}

// handOutOf hands generated passwords of a run out, and logs it.
func (a *App) handOutOf(ctx context.Context, r Run, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	path := r.credentialsOf(b)
	s, err := a.SettlePasswords(ctx, w, l, b, r.Envelope, path)
	if s.Handed > 0 {
		r.Log("post", fmt.Sprintf("%d generated passwords are in %s, and kept nowhere else", s.Handed, path))
	}
	if says := s.Elsewhere(); says != "" {
		r.Log("post", says)
	}
	if s.Kept > 0 {
		r.Log("post", fmt.Sprintf("%d generated passwords are still to be handed out: evenledger post %d --credentials FILE --to KEY", s.Kept, b.ID))
	}
	return err
}

func (a *App) runReport(ctx context.Context, w *workspace.Workspace, l store.Store, r Run, b *batch.Batch, why string) error {
	says, err := r.Report(ctx, w, l, b, why, r.credentialsOf(b))
	if err == nil && says != "" {
		r.Log("report", says)
	}
	return err
}

// credentialsOf is the file that the generated passwords of a batch are handed out in.
func (r Run) credentialsOf(b *batch.Batch) string {
	return strings.ReplaceAll(r.Credentials, "{batch}", fmt.Sprint(b.ID))
}

// Poster readies the posting of a batch; the system is still to be connected.
func (a *App) Poster(w *workspace.Workspace, l store.Store, b *batch.Batch, target workspace.System) *posting.Post {
	return &posting.Post{
		Ledger: l, Batch: b, Worker: a.Worker(w), URL: target.URL(), Together: target.Together, Shared: target.Shared, Settle: target.Settle, Timeout: target.Timeout, Unproven: target.Unproven,
		Approved: func(ctx context.Context, b *batch.Batch) error { return approved(ctx, w, l, b) },
		Free:     func(ctx context.Context, b *batch.Batch) error { return notTaken(ctx, l, b) },
		Endorse:  func(ctx context.Context, id int) error { return a.Endorse(ctx, w, l, id) },
		Waiting: func(until time.Time) {
			a.Remark("%s does not show all of it yet: it is looked at again until %s (“settle” in evenledger.yaml). Ctrl-C ends the waiting, and “post %d” goes on with it later.", target.Name, until.Local().Format(time.TimeOnly), b.ID)
		},
		Later: target.Kind.Later, Protect: target.Protect, Vault: Vaults(w, l).Of(b.ID, b.Key), Mask: a.Mask, Clock: a.Clock, Mail: w.Mail, Do: a.do(w),
	}
}

// Worker names this process among those that are at one ledger.
func (a *App) Worker(w *workspace.Workspace) store.Worker {
	host, err := os.Hostname()
	if err != nil {
		host = "an unknown machine"
	}
	return store.Worker{Name: rand.Text(), Who: fmt.Sprintf("%s on %s (process %d)", a.By, host, os.Getpid()), Lease: w.Lease}
}
