package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/demo"
	"evenledger/internal/report"
)

func (a *front) demoCommand() *cobra.Command {
	var dir string
	var stepwise bool
	cmd := &cobra.Command{
		Use:     "demo",
		GroupID: "around",
		Short:   "Show the whole way on sample data, offline, in a few seconds",
		Long: `Starts the practice application, makes a workspace in a new folder, and takes a
sheet of forty starters of a ferry company, with the troubles of real sheets, all
the way: check, draft, post, show, fixes, and the corrected rows handed back in.
Each command is shown as you would type it. The folder stays, to play in. With --step
it waits before each command until you press Enter.`,
		Example: "  evenledger demo\n  evenledger demo --dir try-it\n  evenledger demo --step",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if stepwise && (!isTerminal(a.In) || a.json) {
				return wrong("--step waits for somebody to press Enter, and nobody is there", "Leave it away.")
			}
			a.stepwise = stepwise
			return a.demo(cmd.Context(), dir)
		},
	}
	cmd.Flags().BoolVar(&stepwise, "step", false, "wait for Enter before each command")
	cmd.Flags().StringVar(&dir, "dir", "", "the new `FOLDER` (else brindlesound, brindlesound-2, …)")
	return cmd
}

func (a *front) demo(ctx context.Context, dir string) error {
	if dir == "" {
		dir = "brindlesound"
		for n := 2; exists(dir); n++ {
			dir = fmt.Sprintf("brindlesound-%d", n)
		}
	} else if exists(dir) {
		return wrong(fmt.Sprintf("%s exists already", dir), "Name a folder that doesn't.")
	}
	stage, err := demo.NewStage(ctx, dir, a.Clock.Now())
	if err != nil {
		return err
	}
	return errors.Join(a.play(ctx, dir, stage.Again), stage.Close())
}

// play goes through the acts, with what somebody does between them.
func (a *front) play(ctx context.Context, dir, again string) error {
	page := a.page()
	page.Line("Brindle Sound Ferries takes on people for the season. The crewing office sent")
	page.Line("starters.csv; the application to fill is the stand-in, which now runs. All of it")
	page.Line("is in the folder %s.", dir)
	played := answer.Played{Folder: dir, Again: again}
	for _, act := range demo.Acts() {
		for _, s := range act.Steps {
			code, err := a.demoStep(ctx, dir, s)
			if err != nil {
				return err
			}
			command := "evenledger " + strings.Join(s.Args, " ")
			played.Commands = append(played.Commands, answer.PlayedCommand{Command: command, Exit: code})
			if code != s.Exit {
				return fmt.Errorf("“%s” ended with %d where %d was expected", command, code, s.Exit)
			}
		}
		lines, err := act.Do(dir, a.Clock.Now())
		if err != nil {
			return err
		}
		if act.About != "" {
			page.Line("")
		}
		for line := range strings.Lines(act.About) {
			page.Line("%s", page.Dim("# "+strings.TrimSuffix(line, "\n")))
		}
		for _, line := range lines {
			page.Line("%s", page.Dim("#   "+line))
		}
		played.Corrections = append(played.Corrections, lines...)
	}
	return errors.Join(page.Err(), a.tell(ctx, played))
}

// entered waits for somebody to press Enter, and reports whether somebody did.
func (a *front) entered(ctx context.Context) bool {
	pressed := make(chan error, 1)
	go func() {
		_, err := bufio.NewReader(a.In).ReadString('\n')
		pressed <- err
	}()
	select {
	case err := <-pressed:
		return err == nil
	case <-ctx.Done():
		return false
	}
}

// demoStep runs one command as a person would, in the demonstration's folder.
func (a *front) demoStep(ctx context.Context, dir string, s demo.Step) (int, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	page := a.page()
	page.Line("")
	if s.About != "" {
		page.Line("%s", page.Dim("# "+s.About))
	}
	line := "$ evenledger"
	for _, arg := range s.Args {
		line += " " + report.Quoted(arg)
	}
	page.Line("%s", page.Bold(line))
	if a.stepwise {
		fmt.Fprint(a.err, page.Dim("[Enter runs it, Ctrl-C ends] "))
		if !a.entered(ctx) {
			return 0, context.Cause(ctx)
		}
	}
	args := s.Args
	if a.plain {
		args = append(args, "--plain")
	}
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Dir = dir
	cmd.Stdout, cmd.Stderr = a.answer.Writer, a.err
	if a.json {
		cmd.Stdout = nil
	}
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) && ctx.Err() == nil {
		return exit.ExitCode(), nil
	}
	return 0, err
}
