package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/posting"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

func (a *front) postCommand() *cobra.Command {
	var o order
	cmd := &cobra.Command{
		Use:     "post BATCH",
		GroupID: "carry",
		Short:   "Carry a batch out",
		Long: `Asks, then does what the draft said, with progress. What was sent and what came
of it is in the ledger at every moment: a post that was stopped or killed goes on
where it was when it is run again, and does nothing twice. An entry whose account
changed since the draft is refused.

Several batches, such as those that one sheet came to in the systems of a set, are
carried out side by side; a system that is down leaves the others alone.

Last, what was done is read back out of the system and held against what was to be: a row
that is otherwise is counted by what is there, and says so. “proof: none” in evenledger.yaml
or --no-proof leaves that away.

With --trial N the first N entries are carried out; “post” again does the rest.

Several processes may post one batch at once, each a part of it: on this machine with
--workers N, on others that share the ledger with the same command, or with “work”.

Passwords that the brief has generated are written to the file of --credentials,
encrypted to a key or with a passphrase, in the age format. They are shown nowhere.`,
		Example: `  evenledger post 17
  evenledger post 17 --trial 1
  evenledger post 12-14             the batches of a set; or its name, for the newest
  evenledger post 17 --yes          without asking
  evenledger post 17 --settle       after a cut: what became of what was sent? Nothing new is sent
  evenledger post 17 --give-up --row 5    a row that waits for ever: it has failed
  evenledger post 17 --workers 4    four processes share the work
  evenledger post 17 --credentials starters.age --passphrase env:HANDOUT`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.trial < 0 {
				return wrong("--trial takes a number from 1 on", "")
			}
			if o.workers < 1 || o.workers > 64 || o.workers > 1 && o.trial > 0 {
				return wrong("--workers takes a number from 1 to 64, and does not go with --trial", "")
			}
			if o.giveUp != (len(o.rows) > 0) {
				return wrong("--give-up and --row go together: it says which rows are not waited for any more", "Such as: evenledger post 17 --give-up --row 5,9")
			}
			a.longWork()
			return a.onBatches(cmd.Context(), args[0], false, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				if len(batches) > 1 && o.giveUp {
					return wrong("rows are given up in one batch at a time", "")
				}
				if len(batches) > 1 {
					return a.postSet(cmd.Context(), w, l, batches, o)
				}
				return a.post(cmd.Context(), w, l, batches[0], o)
			})
		},
	}
	cmd.Flags().BoolVarP(&o.yes, "yes", "y", false, "do not ask")
	o.credentials.add(cmd)
	cmd.Flags().BoolVar(&o.again, "again", false, "also what failed elsewhere (follow-ups), or of which nobody can say whether it was done")
	cmd.Flags().BoolVar(&o.hold, "hold-notices", false, "keep the mails until “notices BATCH --send”")
	cmd.Flags().BoolVar(&o.settle, "settle", false, "only find out what became of what was sent; send nothing new")
	cmd.Flags().BoolVar(&o.unproven, "no-proof", false, "do not read back what was done")
	cmd.Flags().BoolVar(&o.giveUp, "give-up", false, "count the rows of --row as failed that wait, and wait for them no more")
	cmd.Flags().IntSliceVar(&o.rows, "row", nil, "with --give-up: these `ROWS` of the sheet")
	cmd.Flags().IntVar(&o.workers, "workers", 1, "`N` processes on this machine share the work")
	cmd.Flags().IntVar(&o.trial, "trial", 0, "carry out only the first `N` entries that wait")
	ofRows.tell(cmd, "trial", "give-up", "row")
	ofDeeds.tell(cmd, "again", "hold-notices", "settle", "no-proof", "workers")
	return cmd
}

func (a *front) post(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, o order) error {
	envelope, err := o.credentials.envelope(w.Dir)
	if err != nil {
		return err
	}
	target, err := app.SystemOf(w, b)
	if err != nil {
		return err
	}
	o.target, o.envelope, o.workspace = target, envelope, w.Dir
	return a.postOne(ctx, w, l, b, o)
}

// order is how a batch is to be posted.
type order struct {
	yes         bool // without asking
	trial       int  // only so many entries; 0: all
	workers     int  // processes that share the work
	workspace   string
	hold        bool // keep the mails
	unproven    bool // what was done is not read back
	settle      bool // only find out what became of what was sent
	again       bool // follow-ups that failed or are unclear
	giveUp      bool // rows, which wait
	rows        []int
	credentials credentialFlags
	target      workspace.System
	envelope    secret.Envelope // that the credentials go in
}

// postOne posts a batch.
func (a *front) postOne(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, o order) error {
	_, waiting, err := l.Counts(ctx, b.ID)
	if err != nil {
		return err
	}
	p := a.poster(w, l, b, o)
	if err := p.May(ctx); err != nil {
		return err
	}
	if o.giveUp {
		return a.giveUp(ctx, l, b, p, o)
	}
	if o.again {
		if _, err := p.Again(ctx); err != nil {
			return err
		}
		if _, waiting, err = l.Counts(ctx, b.ID); err != nil {
			return err
		}
	}
	over, err := app.IsOver(ctx, l, b)
	if err != nil {
		return err
	}
	if over {
		a.remark("Nothing in batch %d waits to be posted.", b.ID)
		return errors.Join(a.Took(ctx, w, l, b), a.writeCredentials(ctx, w, l, b, o), a.posted(ctx, l, b, o), a.remaining(ctx, l, b, o))
	}
	if err := a.confirm(b, waiting, o.yes || o.settle, o.trial); err != nil {
		return err
	}
	err = a.carryOut(ctx, p, o)
	// What was made before it broke off is to be handed out all the same, and before
	// anything is shown: whoever reads the answer may stop reading.
	err = errors.Join(err, a.writeCredentials(context.WithoutCancel(ctx), w, l, b, o))
	if err == nil {
		err = a.Took(context.WithoutCancel(ctx), w, l, b)
	}
	var unclear *system.Unclear
	if err != nil && !errors.As(err, &unclear) {
		return errors.Join(err, a.reported(context.WithoutCancel(ctx), w, l, b, o, err))
	}
	after := context.WithoutCancel(ctx)
	if err := errors.Join(a.posted(after, l, b, o), err, a.reported(after, w, l, b, o, err), a.remaining(after, l, b, o)); err != nil {
		return err
	}
	if ctx.Err() != nil {
		a.exit = exitInterrupted
	}
	return nil
}

// giveUp has rows that wait count as failed.
func (a *front) giveUp(ctx context.Context, l store.Store, b *batch.Batch, p *posting.Post, o order) error {
	if !o.yes {
		if !isTerminal(a.In) {
			return guard(fmt.Sprintf("rows of batch %d would be given up, and nobody is there to be asked", b.ID), "Give --yes if that is right.")
		}
		if !a.ask(fmt.Sprintf("Give up %s of batch %d, whatever became of them? [y/N] ", counted(len(o.rows), "row", "rows"), b.ID)) {
			return guard("not confirmed; nothing was given up", "")
		}
	}
	n, err := p.GiveUp(ctx, o.rows, a.By)
	if err != nil {
		return err
	}
	if n == 0 {
		return wrong(fmt.Sprintf("none of these rows of batch %d waits", b.ID), fmt.Sprintf("“evenledger show %d --outcome waiting” lists those that do.", b.ID))
	}
	if a.json {
		return a.writeBatch(ctx, l, b)
	}
	a.exit = exitRows
	page := a.page()
	page.Line("%s of batch %d given up: failed, and looked for no more.", counted(n, "row is", "rows are"), b.ID)
	page.Next(fmt.Sprintf("evenledger post %d    # ends it", b.ID), fmt.Sprintf("evenledger fixes %d -o again.csv", b.ID))
	return page.Err()
}

// poster readies the posting of a batch as it was ordered.
func (a *front) poster(w *workspace.Workspace, l store.Store, b *batch.Batch, o order) *posting.Post {
	p := a.Poster(w, l, b, o.target)
	p.SettleOnly = o.settle
	p.Trial, p.HandsOut, p.HoldMails, p.Unproven = o.trial, o.envelope.Given(), o.hold, p.Unproven || o.unproven
	return p
}

// reported mails the report of a batch that was posted to whom it is for, but of a trial.
func (a *front) reported(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, o order, posted error) error {
	if o.trial > 0 {
		return nil
	}
	why := ""
	if posted != nil {
		why = a.Mask.Hide(posted.Error())
	}
	credentials := o.credentials.file
	if o.credentials.clear {
		credentials = ""
	}
	says, err := a.mailReport(ctx, w, l, b, why, credentials)
	if says != "" {
		a.remark("%s.", says)
	}
	return err
}

// confirm asks the person, unless the answer was given beforehand.
func (a *front) confirm(b *batch.Batch, waiting map[account.Intent]int, yes bool, trial int) error {
	if yes {
		return nil
	}
	return a.confirmed(fmt.Sprintf("Batch %d", b.ID), intended(waiting, b.Unmaking(), trial), b.System)
}

// intended says what would be done.
func intended(waiting map[account.Intent]int, unmakes bool, trial int) string {
	var parts []string
	for _, intent := range account.Intents() {
		if n := waiting[intent]; n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", intent, people(n)))
		}
	}
	what := "read back what was done"
	if unmakes {
		what = "remove what the batch undone had made"
	}
	if len(parts) > 0 {
		what = parts[len(parts)-1]
	}
	if len(parts) > 1 {
		what = strings.Join(parts[:len(parts)-1], ", ") + " and " + what
	}
	if trial > 0 {
		what = fmt.Sprintf("try the first %d of: %s", trial, what)
	}
	return what
}

// confirmed asks the person whether this is to be done.
func (a *front) confirmed(who, what, where string) error {
	if !isTerminal(a.In) {
		return guard(fmt.Sprintf("%s%s would %s in %s, and nobody is there to be asked", strings.ToLower(who[:1]), who[1:], what, where), "Give --yes if that is right.")
	}
	if !a.ask(fmt.Sprintf("%s: %s in %s? [y/N] ", who, what, where)) {
		return guard("not confirmed; nothing was sent", "")
	}
	return nil
}

func people(n int) string {
	if n == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", n)
}

// ask asks on standard error, as standard output is for the answer.
func (a *front) ask(question string) bool {
	fmt.Fprint(a.err, question)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	answer := strings.ToLower(strings.TrimSpace(line))
	return err == nil && (answer == "y" || answer == "yes")
}

func (a *front) carryOut(ctx context.Context, p *posting.Post, o order) error {
	bar := a.progress()
	p.Progress = bar.of
	stop := context.AfterFunc(ctx, func() {
		bar.end()
		a.remark("Stopping: the requests on their way are let to end. Press Ctrl-C again to leave at once; nothing is lost.")
	})
	err := a.carryOutOne(ctx, p, o)
	stop()
	bar.end()
	return err
}

// carryOutOne posts a batch, and says how to go on where that breaks off.
func (a *front) carryOutOne(ctx context.Context, p *posting.Post, o order) error {
	if err := a.ConnectTo(o.target, p); err != nil {
		return err
	}
	if _, err := p.System.Describe(ctx); err != nil { // turned away? then before anything is noted
		return err
	}
	helping, enough := context.WithCancel(ctx)
	defer enough()
	wait, err := a.helpers(helping, p.Batch.ID, o.workers-1, o.workspace)
	if err == nil {
		err = p.Run(ctx)
	}
	if err != nil {
		enough()
	}
	wait()
	if o.workers > 1 { // the last of them noted how far they came
		now, also := p.Ledger.Batch(context.WithoutCancel(ctx), p.Batch.ID)
		if err = errors.Join(err, also); also == nil {
			*p.Batch = *now
		}
	}
	var guarded *batch.Guard
	if errors.As(err, &guarded) {
		return guarded
	}
	if err != nil && ctx.Err() == nil {
		told := explained(ctx, err)
		told.err = err
		var unclear *system.Unclear
		if told.remedy = strings.TrimSpace(told.remedy + fmt.Sprintf(" Then “evenledger post %d” goes on where it was.", p.Batch.ID)); errors.As(err, &unclear) {
			told.remedy = fmt.Sprintf("Run “evenledger post %d” again, in a while: it looks before it sends anything.", p.Batch.ID)
		}
		return &told
	}
	return nil
}

// posted shows what a batch came to after posting.
func (a *front) posted(ctx context.Context, l store.Store, b *batch.Batch, o order) error {
	if a.json {
		return a.writeBatch(ctx, l, b)
	}
	page := a.page()
	// What the draft told is not told again.
	counts, _, err := a.summary(ctx, page, l, b, nil, func(e batch.Entry) bool {
		return e.Outcome != account.Refused && e.Outcome != account.Aside || slices.ContainsFunc(e.Findings, func(f account.Finding) bool { return f.Code == account.Stale })
	})
	if err != nil {
		return err
	}
	left, err := app.Remaining(ctx, l, b)
	if err != nil {
		return err
	}
	if left.FollowUps+left.Mails > 0 {
		page.Line("")
		page.Line("%s", page.Level(account.Warning, "Left over: "+app.Remains{Mails: left.Mails, FollowUps: left.FollowUps}.String()+"."))
	}
	if n := counts[account.Refused]; n > 0 {
		page.Line("")
		page.Line("%s", page.Dim(fmt.Sprintf("Refused rows and why: evenledger show %d --outcome refused", b.ID)))
	}
	if err := a.handedOver(ctx, page, o.workspace, l, b, o.target); err != nil {
		return err
	}
	next := nextAfter(b, counts, o.credentials.again())
	if left.FollowUps > 0 {
		next = append(next, fmt.Sprintf("evenledger post %d --again    # the follow-ups once more: look first", b.ID))
	}
	if left.Mails > 0 {
		next = append(next, fmt.Sprintf("evenledger notices %d", b.ID))
	}
	page.Next(next...)
	return page.Err()
}

// remaining has the exit code say that something remains of a batch, or is unclear.
func (a *front) remaining(ctx context.Context, l store.Store, b *batch.Batch, o order) error {
	left, err := app.Remaining(ctx, l, b)
	if err != nil {
		return err
	}
	if o.trial > 0 {
		left.Waiting, left.Unproven = 0, 0 // as was asked for; what a row of it waits for may be among them
	}
	if left.Any() {
		a.exit = max(a.exit, exitRows)
	}
	return left.Err()
}

// freeName proposes a file that is not there, of the kind the batch's sheet was.
func freeName(name string, b *batch.Batch) string {
	ending := ".csv"
	if b.Workbook {
		ending = ".xlsx"
	}
	for n := 1; ; n++ {
		path := name + ending
		if n > 1 {
			path = fmt.Sprintf("%s-%d%s", name, n, ending)
		}
		if !exists(path) {
			return path
		}
	}
}

// nextAfter are the commands that suit a batch as it stands.
// flags are those that posting it needs, with a space before.
func nextAfter(b *batch.Batch, counts account.Counts, flags string) []string {
	var next []string
	if flags == "" && (b.Secrets == "generate" || b.Secrets == "both") {
		flags = " --credentials FILE --to KEY"
	}
	if counts.Waiting() > 0 && b.State == batch.Drafted && b.IsToBeSigned() {
		next = append(next, signNext(fmt.Sprint(b.ID))+", if nobody has")
	}
	later := counts.Elsewhere() > 0 && len(b.Files) == 0 // the system itself says what became of it
	if (counts.Waiting() > 0 || later) && b.State != batch.Withdrawn {
		next = append(next, fmt.Sprintf("evenledger post %d%s", b.ID, flags))
	}
	if counts.Elsewhere() > 0 && !later {
		next = append(next, fmt.Sprintf("evenledger settle %d", b.ID))
	}
	if counts.Bad() > 0 {
		next = append(next, fmt.Sprintf("evenledger fixes %d -o %s", b.ID, freeName("again", b)))
	}
	if len(next) == 0 {
		next = append(next, fmt.Sprintf("evenledger show %d", b.ID))
	}
	return next
}
