package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"evenledger/internal/batch"
	"evenledger/internal/posting"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/told"
	"evenledger/internal/workspace"
)

// Posting says how batches are posted, by whomever.
type Posting struct {
	Trial      int  // only so many entries of each; 0: all
	Again      bool // also follow-ups that failed or are unclear
	SettleOnly bool // only what became of what was sent is found out
	HoldMails  bool // mails are kept until a person sends them
	Unproven   bool // what was done is not read back
	Whole      bool // it goes to its end though no row waits: what is done around it is done, and its report goes

	Envelope    secret.Envelope           // that generated passwords are handed out in; none given: they are kept
	Credentials func(*batch.Batch) string // the new file for those of a batch
	Pages       string                    // the folder that the page of each batch is written into; empty: none is
	Quiet       bool                      // its report is sent to nobody
	Workers     int                       // processes that share the work of each batch, this one among them; 0: this one alone
	Progress    func(string, int, int)    // stage, done, in all: of all batches together; may be nil
}

// A Posted is a batch that is to be posted, and then what became of it.
type Posted struct {
	Batch         *batch.Batch
	Target        workspace.System
	Over          bool     // nothing of it waited to be posted, and it was not asked for all the same
	Err           error    // why it may not be posted, or went no further; nil: neither
	After         error    // what went wrong with what follows a post
	Passwords     Settled  // what became of its generated passwords
	Credentials   string   // the file that those are in which were handed out; empty: nothing says where they go
	Shredded      int      // files with passwords that nobody needs any more
	Reported      string   // what became of its report, in words; empty: nobody was to get it
	HelpersFailed []string // why processes that were to help ended early, in words
	Left          Remains

	post *posting.Post // nil: it may not be posted
}

// Refused reports whether the batch may not be posted: nothing of it was.
func (p *Posted) Refused() bool { return p.post == nil }

// Posts are batches that are posted side by side. One whose system is down, or that may not be posted, leaves
// the others alone.
type Posts struct {
	All []*Posted

	*App
	workspace *workspace.Workspace
	ledger    store.Store
	how       Posting
}

// Ready sees which batches may be posted, and in which something waits. Nothing is sent.
func (a *App) Ready(ctx context.Context, w *workspace.Workspace, l store.Store, how Posting, batches ...*batch.Batch) (*Posts, error) {
	p := &Posts{App: a, workspace: w, ledger: l, how: how}
	for _, b := range batches {
		one := &Posted{Batch: b}
		p.All = append(p.All, one)
		if one.Target, one.Err = SystemOf(w, b); one.Err != nil {
			continue
		}
		one.post = p.poster(one)
		if one.Err = one.post.May(ctx); one.Err == nil && how.Again {
			_, one.Err = one.post.Again(ctx)
		}
		if one.Err != nil {
			one.post = nil
			continue
		}
		if how.Whole {
			continue
		}
		var err error
		if one.Over, err = IsOver(ctx, l, b); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// Waiting are the batches that may be posted and in which something waits.
func (p *Posts) Waiting() (waiting []*Posted) {
	for _, one := range p.All {
		if one.Err == nil && !one.Over {
			waiting = append(waiting, one)
		}
	}
	return waiting
}

// CarryOut posts what waits, and sees to what follows each batch: its passwords, the feed that brought it, its report.
func (p *Posts) CarryOut(ctx context.Context) {
	waiting := p.Waiting()
	sum := &sum{of: map[int][2]int{}, tell: p.how.Progress, several: len(waiting) > 1}
	var all sync.WaitGroup
	for i, one := range waiting {
		one.post.Progress = func(stage string, done, total int) { sum.add(i, stage, done, total) }
		all.Go(func() { one.Err = p.run(ctx, one) })
	}
	all.Wait()
	for _, one := range p.All {
		if one.post != nil {
			p.finish(context.WithoutCancel(ctx), one)
		}
	}
}

// run posts one batch.
func (p *Posts) run(ctx context.Context, one *Posted) error {
	if err := p.reach(ctx, one); err != nil {
		return err
	}
	if p.how.Workers < 2 {
		return one.post.Run(ctx)
	}
	helping, enough := context.WithCancel(ctx)
	defer enough()
	wait, err := p.helpers(helping, one.Batch.ID, p.how.Workers-1, p.workspace.Dir)
	if err == nil {
		err = one.post.Run(ctx)
	}
	if err != nil {
		enough()
	}
	failed := wait()
	if ctx.Err() == nil && err == nil {
		one.HelpersFailed = failed
	}
	now, also := p.ledger.Batch(context.WithoutCancel(ctx), one.Batch.ID) // the last of them noted how far they came
	if also == nil {
		*one.Batch = *now
	}
	return errors.Join(err, also)
}

// reach connects a post to its system. Who is turned away there is so before anything is noted.
func (p *Posts) reach(ctx context.Context, one *Posted) error {
	if err := p.connectTo(one.Target, one.post); err != nil {
		return err
	}
	_, err := one.post.System.Describe(ctx)
	return err
}

// finish sees to what follows a post, however it ended: what was made is handed out all the same, and before anything is
// shown, as whoever reads the answer may stop reading.
func (p *Posts) finish(ctx context.Context, one *Posted) {
	if p.how.Credentials != nil {
		one.Credentials = p.how.Credentials(one.Batch)
	}
	var err, also error
	if one.Passwords, err = p.SettlePasswords(ctx, p.workspace, p.ledger, one.Batch, p.how.Envelope, one.Credentials); err == nil && one.Err == nil {
		err = p.took(ctx, p.workspace, p.ledger, one.Batch)
	}
	if !p.how.Quiet && p.how.Trial == 0 && !one.Over {
		one.Reported, also = p.report(ctx, p.workspace, p.ledger, one.Batch, p.how, p.why(one.Err), one.Credentials)
		err = errors.Join(err, also)
	}
	if one.Left, also = Remaining(ctx, p.ledger, one.Batch); p.how.Trial > 0 {
		one.Left.Waiting, one.Left.Unproven = 0, 0 // as was asked for; what a row of it waits for may be among them
	}
	one.After = errors.Join(err, also)
}

// why says to who is not there why a batch went no further; empty: it did.
func (a *App) why(err error) string {
	switch {
	case err == nil:
		return ""
	case errors.Is(err, context.Canceled):
		return "it was stopped"
	}
	says, _ := told.Of(err)
	return a.Mask.Told(says.Message)
}

// SendMails sends mails of a batch that wait for a person's word: those of these rows that are held, and with again those
// that were refused or are unclear.
func (a *App) SendMails(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, how Posting, rows []int, again bool) (*Posted, error) {
	p, one := &Posts{App: a, workspace: w, ledger: l, how: how}, &Posted{Batch: b}
	var err error
	if one.Target, err = SystemOf(w, b); err != nil {
		return nil, err
	}
	one.post = p.poster(one)
	one.post.Progress = how.Progress
	if err := a.connectTo(one.Target, one.post); err != nil {
		return nil, err
	}
	_, one.Err = one.post.Mails(ctx, rows, again)
	after := context.WithoutCancel(ctx)
	if one.Passwords, err = a.SettlePasswords(after, w, l, b, how.Envelope, ""); err == nil {
		one.Left, err = Remaining(after, l, b)
	}
	one.After = err
	return one, nil
}

// GiveUp has rows of a batch that wait count as failed. It returns how many waited.
func (p *Posts) GiveUp(ctx context.Context, rows []int) (n int, err error) {
	for _, one := range p.All {
		if one.Err != nil {
			return n, one.Err
		}
		given, err := one.post.GiveUp(ctx, rows, p.By)
		if n += given; err != nil {
			return n, err
		}
	}
	return n, nil
}

// poster readies the posting of a batch as it is wanted; the system is still to be connected.
func (p *Posts) poster(one *Posted) *posting.Post {
	post := p.newPost(p.workspace, p.ledger, one.Batch, one.Target)
	post.SettleOnly, post.Trial, post.HandsOut, post.HoldMails = p.how.SettleOnly, p.how.Trial, p.how.Envelope.Given(), p.how.HoldMails
	post.Unproven = post.Unproven || p.how.Unproven
	return post
}

// newPost readies the posting of a batch; the system is still to be connected.
func (a *App) newPost(w *workspace.Workspace, l store.Store, b *batch.Batch, target workspace.System) *posting.Post {
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
	return store.Worker{Name: rand.Text(), Who: fmt.Sprintf("%s on %s (process %d)", a.By, host, os.Getpid()), Term: w.Lease}
}

// A sum adds up how far batches have come that are posted side by side.
type sum struct {
	mu      sync.Mutex
	of      map[int][2]int // by batch: done, in all
	several bool
	tell    func(stage string, done, total int)
}

func (s *sum) add(of int, stage string, done, total int) {
	if s.tell == nil {
		return
	}
	if !s.several {
		s.tell(stage, done, total)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.of[of] = [2]int{done, total}
	var all [2]int
	for _, one := range s.of {
		all[0], all[1] = all[0]+one[0], all[1]+one[1]
	}
	s.tell("steps", all[0], all[1])
}
