package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

func (a *front) runCommand() *cobra.Command {
	var schedule, pages string
	var draftOnly, again, hold, noProof bool
	var credentials credentialFlags
	var to string
	cmd := &cobra.Command{
		Use:     "run BRIEF...",
		GroupID: "carry",
		Short:   "Go the whole way unattended, from the feed to the report",
		Long: `For each brief: takes what its feed brings (“sheet: {feed: …}”), drafts a batch of it, and
posts that without asking. Where the feed brings nothing new, nothing is done. A guard
stops it: the brief's limits (“refused” and “fewer” among them), a protected account, a
held-back batch. Two runs of one brief are never under way at once.

What happens stands on standard error, a line for each stage; the summary is the answer.
The exit code is the gravest of all briefs: 0 done or nothing new, 1 rows refused or failed,
2 something is wrong, 3 the system or feed cannot be reached, 4 held back. What
remains to be done, or is unclear, makes it 1 at least.

--schedule prints what a scheduler of the operating system has to be given to call it.`,
		Example: `  evenledger run starters
  evenledger run starters leavers --report reports
  evenledger run starters --draft-only
  evenledger run starters --credentials 'out/starters-{batch}.age' --to age1…
  evenledger run starters --schedule "Mon 06:00"`,
		Args:              atLeastOne("a brief"),
		ValidArgsFunction: a.completeBriefs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if schedule != "" {
				return a.schedule(cmd, schedule, args)
			}
			if err := mailsTo(to); err != nil {
				return err
			}
			a.longWork()
			return a.runAll(cmd.Context(), args, app.Run{DraftOnly: draftOnly, Again: again, MailsTo: to}, order{hold: hold, unproven: noProof, credentials: credentials}, pages)
		},
	}
	cmd.Flags().StringVar(&schedule, "schedule", "", "print what has a scheduler run it: weekly, daily or a `TIME` such as \"Mon 06:00\"")
	cmd.Flags().BoolVar(&draftOnly, "draft-only", false, "draft, and post nothing")
	cmd.Flags().BoolVar(&again, "again", false, "take what a feed brings though it was taken before")
	cmd.Flags().BoolVar(&hold, "hold-notices", false, "keep the mails until “notices BATCH --send”")
	cmd.Flags().StringVar(&to, "mails-to", "", "of a brief that is a trial (“trial_run”): send its mails to this `ADDRESS` instead of people")
	cmd.Flags().BoolVar(&noProof, "no-proof", false, "do not read back what was done")
	cmd.Flags().StringVar(&pages, "report", "", "write the page of each batch into this `FOLDER`")
	credentials.add(cmd)
	return cmd
}

// atLeastOne is for commands that take several of a kind.
func atLeastOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return one(what)(cmd, args)
		}
		return nil
	}
}

// runAll runs each brief, whatever became of the others, and sums them up.
func (a *front) runAll(ctx context.Context, briefs []string, r app.Run, o order, pages string) error {
	w, err := a.FindWorkspace()
	if err != nil {
		return err
	}
	if r.Posting, err = a.posting(w, o); err != nil {
		return err
	}
	r.Posting.Credentials = func(b *batch.Batch) string {
		return strings.ReplaceAll(o.credentials.file, "{batch}", fmt.Sprint(b.ID))
	}
	r.Posting.Pages = pages
	var all []answer.Ran
	log := a.stageLog()
	for _, name := range briefs {
		r.Brief = name
		r.Log = func(stage, message string) { log(slog.LevelInfo, name, stage, a.Mask.Hide(message)) }
		done, err := a.Run(ctx, r)
		one := answer.Ran{Run: done}
		if err != nil {
			told := explained(ctx, err)
			one.Exit, one.Message, one.Remedy = told.code, a.Mask.Hide(told.message), told.remedy
			log(slog.LevelError, name, "end", one.Message)
		} else {
			one.Exit = a.rowsExit(done.Outcomes.Bad())
			if done.Remains != "" {
				one.Exit = max(one.Exit, exitRows)
			}
		}
		a.exit = max(a.exit, one.Exit)
		all = append(all, one)
		if ctx.Err() != nil {
			a.exit = exitInterrupted
			break
		}
	}
	done := &answer.Ended{Runs: all}
	if last := all[len(all)-1]; len(all) == 1 && last.Batch > 0 && !a.json {
		after := context.WithoutCancel(ctx)
		return a.onBatches(after, fmt.Sprint(last.Batch), true, func(_ *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
			of, err := answer.NewBatch(after, l, batches[0])
			if err != nil {
				return err
			}
			done.Batch = &of
			return a.tell(after, done)
		})
	}
	return a.tell(ctx, done)
}

// stageLog tells of the stages of runs on standard error: to a person line by line, else as logs
// are kept.
func (a *front) stageLog() func(level slog.Level, brief, stage, message string) {
	if !isTerminal(a.err) {
		log := slog.New(slog.NewTextHandler(a.err, nil))
		return func(level slog.Level, brief, stage, message string) {
			log.Log(context.Background(), level, message, "brief", brief, "stage", stage)
		}
	}
	page := &report.Page{W: a.err, Color: a.color(true)}
	return func(level slog.Level, brief, stage, message string) {
		said := page.Plain(message)
		if level >= slog.LevelError {
			said = page.Level(account.Error, message)
		}
		page.Line("%s %s %s %s", page.Dim(a.Clock.Now().Local().Format("15:04:05")), report.Pad(report.Clip(brief, 14), 14), page.Dim(report.Pad(stage, 6)), said)
	}
}

func (a *front) runsCommand() *cobra.Command {
	var late string
	cmd := &cobra.Command{
		Use:     "runs",
		GroupID: "look",
		Short:   "List the unattended runs, newest first",
		Long: `Lists the unattended runs, newest first. With --late: the briefs whose last run that went well
began longer ago, and whether there is any (exit code 1): what a monitor asks.`,
		Example: "  evenledger runs\n  evenledger runs --json\n  evenledger runs --late 8d       for a monitor: 1 if a brief's last good run is older",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			_, l, err := a.OpenLedger(cmd.Context(), true)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			all, err := l.Runs().List(cmd.Context(), 0)
			if err != nil {
				return err
			}
			if late != "" {
				return a.lateRuns(cmd.Context(), all, late)
			}
			return a.tell(cmd.Context(), answer.Runs(all))
		},
	}
	cmd.Flags().StringVar(&late, "late", "", "only briefs whose last good run is older than this `AGE`, such as 8d or 26h; ends with 1 if there is one")
	return cmd
}

// lateRuns tells the briefs whose last good run is older than an age.
func (a *front) lateRuns(ctx context.Context, all []store.Run, text string) error {
	age, err := ageOf(text)
	if err != nil {
		return err
	}
	late, briefs := app.LateBriefs(all, a.Clock.Now().Add(-age))
	if len(late) > 0 || briefs == 0 {
		a.exit = exitRows
	}
	return a.tell(ctx, answer.Late{Briefs: late, Of: briefs, Age: text})
}

// ageOf reads an age such as 8d or 26h.
func ageOf(text string) (time.Duration, error) {
	if age, is := yamldoc.ParseAge(text); is {
		return age, nil
	}
	return 0, wrong(fmt.Sprintf("“%s” is no age", text), "Write it as 8d, 26h or 90m.")
}

// schedule prints what has a scheduler call the run.
func (a *front) schedule(cmd *cobra.Command, text string, briefs []string) error {
	when, err := app.ParseSchedule(text)
	if err != nil {
		return err
	}
	w, err := a.FindWorkspace()
	if err != nil {
		return err
	}
	for _, name := range briefs {
		if _, err := w.BriefPath(name); err != nil {
			return wrong(err.Error(), "")
		}
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	here, err := os.Getwd() // that the paths of flags are taken from
	if err != nil {
		return err
	}
	command := scheduledCommand(cmd, append(append([]string{program, "run"}, briefs...), "--workspace", w.Dir))
	return a.tell(cmd.Context(), answer.Timer(app.NewTimer(when, command, here, a.By, briefs)))
}

// scheduledCommand adds to a command the flags that were given with it.
func scheduledCommand(cmd *cobra.Command, words []string) []string {
	for _, flag := range []string{"draft-only", "hold-notices", "no-proof", "mails-to", "report", "credentials", "to", "passphrase"} {
		f := cmd.Flags().Lookup(flag)
		switch {
		case f == nil || !f.Changed:
		case f.Value.Type() == "bool":
			words = append(words, "--"+flag)
		case f.Value.Type() == "stringArray" || f.Value.Type() == "stringSlice":
			for _, value := range strings.Split(strings.Trim(f.Value.String(), "[]"), ",") {
				words = append(words, "--"+flag, value)
			}
		default:
			words = append(words, "--"+flag, f.Value.String())
		}
	}
	return words
}
