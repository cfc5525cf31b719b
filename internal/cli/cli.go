// Package cli is the program's commands: flags in, the core called, words out.
//
// It is the one room that prints. Standard output has the answer; progress and
// remarks go to standard error. Run promises one of the exit codes below and, with
// --json, exactly one JSON document on standard output.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/user"
	"regexp"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/clock"
	feeds "evenledger/internal/feed/kinds"
	"evenledger/internal/report"
	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/store/engines"
	"evenledger/internal/system/kinds"
	"evenledger/internal/told"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

// The exit codes.
const (
	exitDone        = 0   // and every row is fine
	exitRows        = 1   // done, but rows were refused or failed
	exitWrong       = 2   // the command line, brief, workspace or sheet is wrong; nothing was done
	exitUnavailable = 3   // the system cannot be reached or turns us away
	exitGuard       = 4   // a guard stopped it
	exitInterrupted = 130 // by the person
)

// front is what every command shares.
type front struct {
	app.App
	out, err  io.Writer
	answer    *begun // beneath out
	terminal  bool   // out is one
	json      bool
	plain     bool
	exit      int        // of a command that did its work
	stepwise  bool       // demo waits for somebody before each command
	refusedOK bool       // --refused-ok: that rows are refused is no reason for another exit code
	tracing   sync.Mutex // over trace
	tracePath string     // --trace
	trace     *os.File   // open once a system was reached
	ballast   []byte     // see longWork
}

// longWork is called by commands that may run long. They keep little and make
// much: collecting at every doubling of a few megabytes would take a quarter of
// their time, so the collector is given a heap that looks larger. The memory is
// never touched and so takes no room.
func (a *front) longWork() { a.ballast = make([]byte, 24<<20) }

// begun knows whether an answer was begun.
type begun struct {
	io.Writer
	yes  bool
	json *report.Unturned // between, where the answer is JSON; else nil
}

func (b *begun) Write(p []byte) (int, error) {
	b.yes = true
	if b.json != nil {
		return b.json.Write(p)
	}
	return b.Writer.Write(p)
}

// Commands are the commands with their flags and help, for the manual; nothing can be done with them.
func Commands() *cobra.Command {
	return (&front{out: io.Discard, answer: &begun{Writer: io.Discard}, err: io.Discard}).root()
}

// Run runs the command line and returns the exit code.
func Run(ctx context.Context, args []string, in *os.File, out, errOut io.Writer) int {
	answer := &begun{Writer: out}
	a := &front{out: answer, terminal: isTerminal(out), err: errOut, answer: answer}
	a.App = app.App{Kinds: workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()}, In: in, By: who(), Clock: clock.Real(), Mask: secret.NewMask(), Trace: a.traceTo, Remark: a.remark}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(answer)
	root.SetErr(errOut)
	// So that a mistake in the flags themselves is told in the form asked for.
	for _, arg := range args {
		a.json = a.json || arg == "--json"
	}
	if a.json {
		answer.json = &report.Unturned{W: out}
	}
	err := root.ExecuteContext(ctx)
	if closing := a.Close(); err == nil {
		err = closing
	}
	if a.trace != nil {
		err = errors.Join(err, a.trace.Close())
		a.remark("%s: what was sent and answered, without the credentials. It has people's data in it.", a.tracePath)
	}
	if err != nil {
		return a.fail(ctx, meant(root, err))
	}
	return a.exit
}

func (a *front) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "evenledger",
		Short: "Turn sheets of people into accounts, and account for every row",
		Long: `Even Ledger turns lists of people into accounts in the applications they use.
Every row that goes in is accounted for, exactly once.

The way of the work: check a sheet, draft a batch and look at it, post it, see
what became of every row, correct the rest and hand it back in.`,
		Example: `  evenledger demo                              all of it, on sample data, offline
  evenledger check starters.csv -b starters    every problem, at its row and column
  evenledger draft starters.csv -b starters    what would happen to whom
  evenledger post 1                            do it`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return cmd.Help()
		},
	}
	root.AddGroup(
		&cobra.Group{ID: "prepare", Title: "Prepare:"},
		&cobra.Group{ID: "carry", Title: "Carry out:"},
		&cobra.Group{ID: "look", Title: "Look back:"},
		&cobra.Group{ID: "around", Title: "Around it:"})
	flags := root.PersistentFlags()
	flags.BoolVar(&a.json, "json", false, "answer with one JSON document")
	flags.BoolVar(&a.plain, "plain", false, "no colours or styling (so does NO_COLOR)")
	flags.StringVar(&a.tracePath, "trace", "", "write each request to a system and its answer into this new `FILE`, without secrets")
	flags.StringVar(&a.Dir, "workspace", "", "the workspace's `FOLDER` (else the one you are in, or above)")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return wrong(err.Error(), fmt.Sprintf("See “%s --help”.", cmd.CommandPath()))
	})
	root.AddCommand(a.initCommand(), a.briefCommand(), a.peekCommand(), a.fieldsCommand(), a.lookupCommand(), a.blankCommand(), a.checkCommand(), a.candidatesCommand(), a.splitCommand(), a.draftCommand(), a.countersignCommand(), a.postCommand(), a.settleCommand(), a.outboxCommand(), a.layoutCommand(), a.systemCommand(), a.workCommand(), a.withdrawCommand(), a.reverseCommand(), a.reconcileCommand(), a.showCommand(), a.batchesCommand(), a.fixesCommand(), a.reportCommand(), a.exportCommand(), a.feedsCommand(), a.noticesCommand(), a.runCommand(), a.runsCommand(), a.explainCommand(), a.answersCommand(), a.standinCommand(), a.demoCommand(), a.ledgerCommand(), a.identityCommand(), a.versionCommand())
	root.SetUsageFunc(usage)
	root.SetHelpCommandGroupID("around")
	root.SetCompletionCommandGroupID("around")
	return root
}

// failure is an error with its exit code and what to do about it.
type failure struct {
	code    int
	message string
	remedy  string
	err     error
}

func (f *failure) Error() string { return f.message }
func (f *failure) Unwrap() error { return f.err }

// problems are the mistakes in a file, if that is what it is.
func (f *failure) problems() (problems yamldoc.Problems) {
	errors.As(f.err, &problems)
	return problems
}

func wrong(message, remedy string) error {
	return &failure{code: exitWrong, message: message, remedy: remedy}
}

func guard(message, remedy string) error {
	return &failure{code: exitGuard, message: message, remedy: remedy}
}

// exits are the exit codes of the classes of errors.
var exits = map[told.Class]int{told.Wrong: exitWrong, told.Away: exitUnavailable, told.Held: exitGuard}

// explained is how an error is told, and the exit code.
func explained(ctx context.Context, err error) failure {
	var known *failure
	if errors.As(err, &known) {
		return *known
	}
	says, is := told.Of(err)
	if ctx.Err() != nil && !says.Stands {
		return failure{code: exitInterrupted, message: "interrupted"}
	}
	// A worker that was not heard of is so because of its ledger, if that is in trouble.
	if trouble, has := engines.Tell(err); has && (!is || errors.Is(err, store.ErrFenced)) {
		says = trouble
	}
	f := failure{code: exits[says.Class], message: says.Message, remedy: says.Remedy}
	var problems yamldoc.Problems
	if errors.As(err, &problems) {
		f.message, f.err = problems.Error(), problems
	}
	return f
}

// unknownCommand is how the library tells of a command that there is none of.
var unknownCommand = regexp.MustCompile(`^unknown command "([^"]*)" for "([^"]*)"`)

// meant adds to the error of an unknown command which is nearly called so.
func meant(root *cobra.Command, err error) error {
	said := unknownCommand.FindStringSubmatch(err.Error())
	if said == nil {
		return err
	}
	above, _, findErr := root.Find(strings.Fields(said[2])[1:])
	if findErr != nil {
		above = root
	}
	var names []string
	for _, c := range above.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	told := &failure{code: exitWrong, message: fmt.Sprintf("there is no command “%s”", strings.TrimPrefix(said[2]+" "+said[1], root.Name()+" ")), remedy: fmt.Sprintf("“%s --help” lists the commands.", said[2])}
	if near := words.Nearest(said[1], names); near != "" {
		told.remedy = fmt.Sprintf("Did you mean “%s %s”?", said[2], near)
	}
	return told
}

// fail tells an error and returns its exit code.
func (a *front) fail(ctx context.Context, err error) int {
	f := explained(ctx, err)
	f.message = a.Mask.Told(f.message)
	if a.json && a.answer.yes {
		return f.code // the document that was begun says why it breaks off
	}
	if a.json {
		told := map[string]any{"code": f.code, "message": f.message, "remedy": f.remedy}
		if problems := f.problems(); problems != nil {
			told["problems"] = problems
		}
		if err := a.writeJSON(map[string]any{"error": told}); err != nil {
			return exitWrong
		}
		return f.code
	}
	if a.answer.yes {
		fmt.Fprintln(a.err) // apart from the answer above
	}
	a.aside().Failure(f.message, f.remedy, f.problems())
	return f.code
}

func (a *front) writeJSON(document any) error {
	if stream, is := document.(answer.Stream); is {
		return stream(a.out)
	}
	encoder := json.NewEncoder(a.out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(document)
}

// tell gives an answer, in the form asked for.
func (a *front) tell(ctx context.Context, found answer.Answer) error {
	if a.json {
		return a.writeJSON(found.Document(ctx))
	}
	page := a.page()
	return errors.Join(found.Draw(ctx, page), page.Err())
}

// came gives an answer about batches, and has the exit code say whether all is well with their rows.
func (a *front) came(ctx context.Context, found interface {
	answer.Answer
	Fine() (bad int, even bool)
}) error {
	err := a.tell(ctx, found)
	a.judge(found.Fine())
	return err
}

// judge has the exit code say whether all is well with rows.
func (a *front) judge(bad int, even bool) {
	if a.exit = max(a.exit, a.rowsExit(bad)); !even {
		a.exit = max(a.exit, exitRows)
	}
}

// page writes the answer for a person; with --json nobody reads it.
func (a *front) page() *report.Page {
	if a.json {
		return &report.Page{W: io.Discard}
	}
	page := &report.Page{W: a.out, Color: a.color(a.terminal)}
	if file, ok := a.answer.Writer.(*os.File); ok && a.terminal {
		page.Width, _, _ = term.GetSize(int(file.Fd())) // 0 where it cannot be told
	}
	return page
}

// progress tells how far long work has come.
func (a *front) progress() *report.Progress {
	return report.NewProgress(a.err, isTerminal(a.err), a.Clock.Now)
}

// aside writes what is no part of the answer.
func (a *front) aside() *report.Page {
	return &report.Page{W: a.err, Color: a.color(isTerminal(a.err))}
}

func (a *front) color(terminal bool) bool {
	return terminal && !a.plain && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func isTerminal(w any) bool {
	file, ok := w.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// remark tells something by the way.
func (a *front) remark(format string, args ...any) {
	page := a.aside()
	page.Line("%s", page.Dim(fmt.Sprintf(format, args...)))
}

// traceTo opens the file of --trace when a system is first reached; nil: none is wanted.
// Secrets are hidden in whatever is logged.
func (a *front) traceTo() (*slog.Logger, error) {
	if a.tracePath == "" {
		return nil, nil
	}
	a.tracing.Lock() // the systems of a set are reached side by side
	defer a.tracing.Unlock()
	if a.trace == nil {
		file, err := os.OpenFile(a.tracePath, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, wrong(fmt.Sprintf("the trace cannot be written: %s", err), "Name a new file for --trace.")
		}
		a.trace = file
	}
	return slog.New(slog.NewJSONHandler(a.trace, &slog.HandlerOptions{ReplaceAttr: func(groups []string, attr slog.Attr) slog.Attr {
		if len(groups) == 0 && attr.Key == slog.LevelKey { // all are alike
			return slog.Attr{}
		}
		if attr.Value.Kind() == slog.KindString {
			attr.Value = slog.StringValue(a.Mask.Hide(attr.Value.String()))
		}
		return attr
	}})), nil
}

// who names the person at the keyboard for the ledger.
func who() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return nobody
}

// nobody is who is at work where the machine does not know.
const nobody = "unknown"
