package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

func (a *front) workCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "work [BATCH]",
		GroupID: "carry",
		Short:   "Help with what others post, from this machine",
		Long: `Stays, and does a share of every batch that is posted with the workspace's ledger: of one
that several machines share, or of this machine's own. With a batch's number it helps with
that one and ends with it.

Whoever began to post a batch asks for its passwords' file, its mails to be held or its
report; a worker needs nothing but the systems' secrets. One that is killed does no harm:
what it had is looked up and done by the others when its lease is over.`,
		Example: "  evenledger work                  on a server, until it is stopped\n  evenledger work 17",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			ctx := cmd.Context()
			a.longWork()
			w, l, err := a.OpenLedger(ctx, false)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			if len(args) == 1 {
				id, err := strconv.Atoi(args[0])
				if err != nil {
					return wrong(fmt.Sprintf("“%s” is not a batch's number", args[0]), "“evenledger batches” lists them.")
				}
				if err := a.Help(ctx, w, l, id); err != nil {
					return err
				}
				return a.helped(id)
			}
			a.remark("Waiting for batches to be posted. Ctrl-C stops it.")
			return a.Work(ctx, w, l, func(id int, says string) {
				about := "the ledger"
				if id > 0 {
					about = fmt.Sprintf("batch %d", id)
				}
				a.remark("%s  %s: %s", a.Clock.Now().Format(time.TimeOnly), about, says)
			})
		},
	}
}

// helped says that a batch was helped with.
func (a *front) helped(id int) error {
	if a.json {
		return a.writeJSON(map[string]any{"batch": id})
	}
	page := a.page()
	page.Line("There is nothing more to do in batch %d.", id)
	page.Next(fmt.Sprintf("evenledger show %d", id))
	return page.Err()
}

// helpers starts processes that help with a batch until ctx is done, and returns what waits for
// them to end. What one could not do the others did; why it could not is said.
func (a *front) helpers(ctx context.Context, id, n int, workspace string) (wait func() []string, err error) {
	var started []*exec.Cmd
	wait = func() (failed []string) {
		for _, cmd := range started {
			if err := cmd.Wait(); err != nil {
				failed = append(failed, a.Mask.Told(cmp.Or(cmd.Stderr.(*errorLine).text(), err.Error())))
			}
		}
		return failed
	}
	self, err := os.Executable()
	if err != nil {
		return wait, err
	}
	for range n {
		cmd := exec.CommandContext(ctx, self, "work", strconv.Itoa(id), "--workspace", workspace)
		cmd.Stderr = &errorLine{}
		cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
		if err := cmd.Start(); err != nil {
			return wait, err
		}
		started = append(started, cmd)
	}
	return wait, nil
}

// errorLine keeps the end of what a process of this program writes, and finds in it why that failed.
type errorLine struct{ end []byte }

func (e *errorLine) Write(p []byte) (int, error) {
	e.end = append(e.end, p...)
	e.end = e.end[max(0, len(e.end)-longestEnd):]
	return len(p), nil
}

const longestEnd = 4 << 10

// text is the last line that tells an error; empty: none does.
func (e *errorLine) text() (why string) {
	for line := range strings.Lines(string(e.end)) {
		if told, is := strings.CutPrefix(line, "evenledger: "); is {
			why = strings.TrimSpace(told)
		}
	}
	return why
}
