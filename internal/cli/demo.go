package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/demo"
	"evenledger/internal/report"
	"evenledger/internal/standin"
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
	listener, err := net.Listen("tcp", "127.0.0.1:8085")
	if err != nil {
		if listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return err
		}
	}
	box, err := standin.NewMailbox("127.0.0.1:8025", filepath.Join(dir, "mails"))
	if err != nil {
		if box, err = standin.NewMailbox("127.0.0.1:0", filepath.Join(dir, "mails")); err != nil {
			return err
		}
	}
	defer box.Close()
	if err := demo.Write(dir, practiceURL(listener.Addr()), "smtp://"+box.Address, a.Clock.Now()); err != nil {
		return err
	}
	token, err := standin.OpenToken("file:" + filepath.Join(dir, "crewdesk.token"))
	if err != nil {
		return err
	}
	server, err := demo.NewPractice(standin.Options{Token: token, Data: filepath.Join(dir, "crewdesk.json")}, true)
	if err != nil {
		return err
	}
	serving, stop := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- server.Serve(serving, listener) }()
	_, mailPort, _ := net.SplitHostPort(box.Address)
	err = a.demoSteps(ctx, dir, fmt.Sprintf("evenledger standin --data crewdesk.json --token file:crewdesk.token --port %d --mail mails --mail-port %s", listener.Addr().(*net.TCPAddr).Port, mailPort))
	stop()
	return errors.Join(err, <-served)
}

func (a *front) demoSteps(ctx context.Context, dir, serve string) error {
	page := a.page()
	if !a.json {
		page.Line("Brindle Sound Ferries takes on people for the season. The crewing office sent")
		page.Line("starters.csv; the application to fill is the stand-in, which now runs. All of it")
		page.Line("is in the folder %s.", dir)
	}
	edit := func(name, about string, corrections []demo.Correction) ([]string, error) {
		lines, err := demo.Correct(filepath.Join(dir, name), corrections)
		if err != nil || a.json {
			return lines, err
		}
		page.Line("")
		page.Line("%s", page.Dim("# "+about))
		for _, line := range lines {
			page.Line("%s", page.Dim("#   "+line))
		}
		return lines, nil
	}
	var ran []map[string]any
	var lines []string
	for i, act := range demo.Acts() {
		for _, s := range act {
			code, err := a.demoStep(ctx, dir, s)
			if err != nil {
				return err
			}
			ran = append(ran, map[string]any{"command": "evenledger " + strings.Join(s.Args, " "), "exit": code})
			if code != s.Exit {
				return fmt.Errorf("“evenledger %s” ended with %d where %d was expected", strings.Join(s.Args, " "), code, s.Exit)
			}
		}
		var err error
		switch i { // what somebody does before the next act
		case 0:
			lines, err = edit("again.csv", "Somebody opens again.csv and puts the cells right:", demo.Corrections(a.Clock.Now()))
		case 1:
			_, err = edit("managers.csv", "Somebody opens managers.csv and changes three cells:", demo.NewManagers())
		case 3:
			if err = demo.GiveToDesk(dir, a.Clock.Now()); err == nil && !a.json {
				page.Line("")
				page.Line("%s", page.Dim("# Somebody gives desk/outbox/people-1-1.csv to Deskbook's page, and saves its list of"))
				page.Line("%s", page.Dim("# what it did not take as desk/not-taken.csv, its new export as desk/exports/people.csv."))
			}
		}
		if err != nil {
			return err
		}
	}
	if a.json {
		return a.writeJSON(map[string]any{"folder": dir, "commands": ran, "corrections": lines, "standin": serve})
	}
	page.Line("")
	page.Line("Every row is accounted for. To play on:")
	page.Line("")
	page.Line("  %s", page.Bold("cd "+dir))
	page.Line("  %s", page.Bold(serve+" &"))
	page.Line("  %s", page.Bold("evenledger show 1 --outcome refused"))
	return page.Err()
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
	if !a.json {
		page.Line("")
		if s.About != "" {
			page.Line("%s", page.Dim("# "+s.About))
		}
		line := "$ evenledger"
		for _, arg := range s.Args {
			line += " " + report.Quoted(arg)
		}
		page.Line("%s", page.Bold(line))
	}
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
