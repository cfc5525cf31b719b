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
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
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
				return a.post(cmd.Context(), w, l, batches, o)
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

// order is how batches are to be posted.
type order struct {
	yes         bool // without asking
	trial       int  // only so many entries; 0: all
	workers     int  // processes that share the work of each
	hold        bool // keep the mails
	unproven    bool // what was done is not read back
	settle      bool // only find out what became of what was sent
	again       bool // follow-ups that failed or are unclear
	giveUp      bool // rows, which wait
	rows        []int
	credentials credentialFlags
}

// posting is how they are posted, the credentials of each of several in a file of its own.
func (a *front) posting(w *workspace.Workspace, o order, batches ...*batch.Batch) (app.Posting, error) {
	envelope, err := o.credentials.envelope(w.Dir)
	for _, b := range batches {
		if path := o.credentials.of(b, len(batches) > 1); err == nil && path != "" && exists(path) {
			err = wrong(path+" exists already", "Name another file: passwords that stand in it would be lost.")
		}
	}
	how := app.Posting{Workers: o.workers, Trial: o.trial, Again: o.again, SettleOnly: o.settle, HoldMails: o.hold, Unproven: o.unproven, Envelope: envelope}
	how.Credentials = func(b *batch.Batch) string { return o.credentials.of(b, len(batches) > 1) }
	return how, err
}

// post carries batches out, side by side. One whose system is down, or that may not be posted, leaves the others alone.
func (a *front) post(ctx context.Context, w *workspace.Workspace, l store.Store, batches []*batch.Batch, o order) error {
	several := len(batches) > 1
	how, err := a.posting(w, o, batches...)
	if err != nil {
		return err
	}
	bar := a.progress()
	how.Progress = bar.Of
	posts, err := a.Ready(ctx, w, l, how, batches...)
	if err != nil {
		return err
	}
	if o.giveUp {
		return a.giveUp(ctx, l, posts, o)
	}
	switch waiting := posts.Waiting(); {
	case len(waiting) > 0:
		if err := a.confirm(ctx, l, waiting, o); err != nil {
			return err
		}
	case slices.ContainsFunc(posts.All, (*app.Posted).Refused): // why is told
	case several:
		a.remark("Nothing in these batches waits to be posted.")
	default:
		a.remark("Nothing in batch %d waits to be posted.", batches[0].ID)
	}
	stop := context.AfterFunc(ctx, func() {
		bar.End()
		a.remark("Stopping: the requests on their way are let to end. Press Ctrl-C again to leave at once; nothing is lost.")
	})
	posts.CarryOut(ctx)
	stop()
	bar.End()
	after := context.WithoutCancel(ctx)
	var troubles []inSystem
	for _, one := range posts.All {
		a.followed(one, several)
		troubles = append(troubles, inSystem{one.Batch.System, goesOn(ctx, one)})
	}
	var unclear *system.Unclear
	switch err := troubles[0].err; {
	case several:
		err = a.showSet(after, l, batches, nil)
		if err != nil {
			return err
		}
	case err != nil && !errors.As(err, &unclear):
		return err
	default:
		if err := a.tellPosted(after, w, l, posts.All[0], o); err != nil {
			return err
		}
	}
	for i, one := range posts.All {
		if left := a.remains(one.Left); troubles[i].err == nil {
			troubles[i].err = left
		}
	}
	if ctx.Err() != nil {
		a.exit = exitInterrupted
	}
	return a.tellSystems(ctx, troubles)
}

// giveUp has rows that wait count as failed.
func (a *front) giveUp(ctx context.Context, l store.Store, posts *app.Posts, o order) error {
	one := posts.All[0]
	b := one.Batch
	if one.Err != nil {
		return one.Err
	}
	if !o.yes {
		if !isTerminal(a.In) {
			return guard(fmt.Sprintf("rows of batch %d would be given up, and nobody is there to be asked", b.ID), "Give --yes if that is right.")
		}
		if !a.ask(fmt.Sprintf("Give up %s of batch %d, whatever became of them? [y/N] ", report.Counted(len(o.rows), "row", "rows"), b.ID)) {
			return guard("not confirmed; nothing was given up", "")
		}
	}
	n, err := posts.GiveUp(ctx, o.rows)
	if err != nil {
		return err
	}
	if n == 0 {
		return wrong(fmt.Sprintf("none of these rows of batch %d waits", b.ID), fmt.Sprintf("“evenledger show %d --outcome waiting” lists those that do.", b.ID))
	}
	a.exit = exitRows
	of, err := answer.NewBatch(ctx, l, b)
	if err != nil {
		return err
	}
	return a.tell(ctx, &answer.GivenUp{Batch: of, Rows: n})
}

// followed tells what followed a post, of one of several with the system's name.
func (a *front) followed(p *app.Posted, several bool) {
	for _, line := range answer.Followed(p) {
		if several {
			line = p.Batch.System + ": " + line
		}
		a.remark("%s", line)
	}
}

// confirm asks the person, unless the answer was given beforehand.
func (a *front) confirm(ctx context.Context, l store.Store, batches []*app.Posted, o order) error {
	if o.yes || o.settle {
		return nil
	}
	all, unmakes := map[account.Intent]int{}, false
	var systems []string
	for _, one := range batches {
		unmakes = unmakes || one.Batch.Unmaking()
		_, waiting, err := l.Counts(ctx, one.Batch.ID)
		if err != nil {
			return err
		}
		for intent, n := range waiting {
			all[intent] += n
		}
		systems = append(systems, fmt.Sprintf("%s (batch %d)", one.Batch.System, one.Batch.ID))
	}
	who, where := "Batches of "+strings.Join(systems, ", "), strings.Join(systems, ", ")
	if len(batches) == 1 {
		who, where = fmt.Sprintf("Batch %d", batches[0].Batch.ID), batches[0].Batch.System
	}
	what := answer.Intended(all, unmakes, o.trial)
	if !isTerminal(a.In) {
		return guard(fmt.Sprintf("%s%s would %s in %s, and nobody is there to be asked", strings.ToLower(who[:1]), who[1:], what, where), "Give --yes if that is right.")
	}
	if !a.ask(fmt.Sprintf("%s: %s in %s? [y/N] ", who, what, where)) {
		return guard("not confirmed; nothing was sent", "")
	}
	return nil
}

// ask asks on standard error, as standard output is for the answer.
func (a *front) ask(question string) bool {
	fmt.Fprint(a.err, question)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	answer := strings.ToLower(strings.TrimSpace(line))
	return err == nil && (answer == "y" || answer == "yes")
}

// goesOn says how a post goes on that broke off.
func goesOn(ctx context.Context, p *app.Posted) error {
	var guarded *batch.Guard
	switch {
	case p.Refused():
		return p.Err
	case errors.As(p.Err, &guarded):
		return errors.Join(guarded, p.After)
	case p.Err == nil || ctx.Err() != nil:
		return p.After
	}
	told := explained(ctx, p.Err)
	told.err = p.Err
	var unclear *system.Unclear
	if told.remedy = strings.TrimSpace(told.remedy + fmt.Sprintf(" Then “evenledger post %d” goes on where it was.", p.Batch.ID)); errors.As(p.Err, &unclear) {
		told.remedy = fmt.Sprintf("Run “evenledger post %d” again, in a while: it looks before it sends anything.", p.Batch.ID)
	}
	return errors.Join(&told, p.After)
}

// remains has the exit code say that something remains of a batch, or is unclear.
func (a *front) remains(left app.Remains) error {
	if left.Any() {
		a.exit = max(a.exit, exitRows)
	}
	return left.Err()
}

// tellPosted shows what a batch came to after posting.
func (a *front) tellPosted(ctx context.Context, w *workspace.Workspace, l store.Store, p *app.Posted, o order) error {
	of, err := answer.NewBatch(ctx, l, p.Batch)
	if err != nil {
		return err
	}
	return a.came(ctx, &answer.Posted{Batch: of, Left: p.Left, Target: p.Target, Dir: w.Dir, Again: o.credentials.again()})
}
