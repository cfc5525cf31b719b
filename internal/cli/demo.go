package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/demo"
	"evenledger/internal/report"
	"evenledger/internal/standin"
	"evenledger/internal/standin/desk"
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

// step is a command of the demonstration with what it is about.
type step struct {
	about string
	args  []string
	exit  int // that it should have
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
	if err := a.writeDemo(dir, practiceURL(listener.Addr()), "smtp://"+box.Address); err != nil {
		return err
	}
	token, err := practiceToken("file:" + filepath.Join(dir, "crewdesk.token"))
	if err != nil {
		return err
	}
	server, err := practice(standin.Options{Token: token, Data: filepath.Join(dir, "crewdesk.json")}, true)
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

// writeDemo makes the demonstration's workspaces, that for files with an export of an hour ago.
func (a *front) writeDemo(dir, url, mail string) error {
	if err := demo.Write(dir, url, mail, a.Clock.Now()); err != nil {
		return err
	}
	d, err := fileDesk(desk.Options{}, true, a.Clock.Now())
	if err != nil {
		return err
	}
	export := filepath.Join(dir, "desk", "exports", "people.csv")
	var text bytes.Buffer
	before := a.Clock.Now().Add(-time.Hour)
	return errors.Join(desk.Write(&text, d.Export()), os.WriteFile(export, text.Bytes(), 0o644), os.Chtimes(export, before, before))
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
	for i, act := range demoActs() {
		for _, s := range act {
			code, err := a.demoStep(ctx, dir, s)
			if err != nil {
				return err
			}
			ran = append(ran, map[string]any{"command": "evenledger " + strings.Join(s.args, " "), "exit": code})
			if code != s.exit {
				return fmt.Errorf("“evenledger %s” ended with %d where %d was expected", strings.Join(s.args, " "), code, s.exit)
			}
		}
		var err error
		switch i { // what somebody does before the next act
		case 0:
			lines, err = edit("again.csv", "Somebody opens again.csv and puts the cells right:", demo.Corrections(a.Clock.Now()))
		case 1:
			_, err = edit("managers.csv", "Somebody opens managers.csv and changes three cells:", demo.NewManagers())
		case 3:
			err = a.giveToDesk(dir)
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

// demoActs are the commands of the demonstration; between two acts a person does something.
func demoActs() [][]step {
	return [][]step{
		{
			{"What is in the sheet, and what would each column be?", []string{"peek", "starters.csv"}, exitDone},
			{"Is the brief in order? It says what the sheet's columns mean.", []string{"brief", "check", "starters"}, exitDone},
			{"Every problem of the sheet, before anything else.", []string{"check", "starters.csv", "-b", "starters"}, exitRows},
			{"What would happen to whom. Nothing is changed yet.", []string{"draft", "starters.csv", "-b", "starters"}, exitRows},
			{"One row first. (--yes answers the question that would be asked.)", []string{"post", "1", "--trial", "1", "--yes"}, exitRows},
			{"That went well: now the rest.", []string{"post", "1", "--yes"}, exitRows},
			{"The whole story of two rows.", []string{"show", "1", "--row", "5,6"}, exitDone},
			{"All of it as one page, to keep or send.", []string{"report", "1", "-o", "batch-1.html"}, exitDone},
			{"The rows to correct, with the reasons beside them.", []string{"fixes", "1", "-o", "again.csv"}, exitDone},
		},
		{
			{"The corrected rows, handed back in with the same brief.", []string{"draft", "again.csv", "-b", "starters"}, exitDone},
			{"", []string{"post", "2", "--yes"}, exitDone},
			{"Is the application even with the sheet now?", []string{"reconcile", "again.csv", "-b", "starters"}, exitDone},
			{"Somebody left, and somebody is back. What the office writes, the brief translates.", []string{"draft", "moves.csv", "-b", "moves"}, exitDone},
			{"", []string{"post", "3", "--yes"}, exitDone},
			{"The workshop has a new lead: an export, to edit and hand back in.", []string{"export", "crewdesk", "-o", "managers.csv", "--fields", "employeeNumber,userName,title,manager", "--only", `department == "Workshop"`}, exitDone},
		},
		{
			{"Only the managers are touched.", []string{"draft", "managers.csv", "--fields", "manager"}, exitDone},
			{"", []string{"post", "4", "--yes"}, exitDone},
			{"That was a mistake: undone, and only that.", []string{"reverse", "4"}, exitDone},
			{"", []string{"post", "5", "--yes"}, exitDone},
			{"", []string{"report", "crewdesk", "licences"}, exitDone},
			{"Every week the office's own database brings some hands.", []string{"peek", "feed:office"}, exitDone},
			{"They are to hear how to sign in. How would such a mail look?", []string{"notices", "try", "welcome", "-b", "weekly", "--row", "3"}, exitDone},
			{"The whole way with nobody at the keyboard: feed, draft, post, mails, report.", []string{"run", "weekly"}, exitDone},
			{"", []string{"notices", "last"}, exitDone},
			{"A scheduler may run it again and again: nothing new, nothing done.", []string{"run", "weekly"}, exitDone},
			{"Every batch so far; and nothing in the ledger was altered since.", []string{"batches"}, exitDone},
			{"", []string{"ledger", "check"}, exitDone},
		},
		{
			{"Deskbook takes nothing but files. A layout says what they look like, its export who is there.", []string{"draft", "desk/watch.csv", "-b", "watch", "--workspace", "desk"}, exitRows},
			{"Nothing is sent: the rows are handed over in a file of Deskbook's own form.", []string{"post", "1", "--yes", "--workspace", "desk"}, exitRows},
		},
		{
			{"Only what the new export shows counts as done; what was not taken says why.", []string{"settle", "1", "--results", "desk/not-taken.csv", "--workspace", "desk"}, exitRows},
		},
	}
}

// giveToDesk does what a person does with the file of the demonstration: it gives it to Deskbook's page, and saves
// what that lists and exports.
func (a *front) giveToDesk(dir string) error {
	d, err := fileDesk(desk.Options{Data: filepath.Join(dir, "desk", "deskbook.json")}, true, a.Clock.Now())
	if err != nil {
		return err
	}
	content, err := os.ReadFile(filepath.Join(dir, "desk", "outbox", "people-1-1.csv"))
	if err == nil {
		err = d.Take("people-1-1.csv", content, false)
	}
	if err != nil {
		return err
	}
	for name, list := range map[string][][]string{"not-taken.csv": d.NotTaken(), "exports/people.csv": d.Export()} {
		var text bytes.Buffer
		if err := errors.Join(desk.Write(&text, list), os.WriteFile(filepath.Join(dir, "desk", name), text.Bytes(), 0o644)); err != nil {
			return err
		}
	}
	if !a.json {
		page := a.page()
		page.Line("")
		page.Line("%s", page.Dim("# Somebody gives desk/outbox/people-1-1.csv to Deskbook's page, and saves its list of"))
		page.Line("%s", page.Dim("# what it did not take as desk/not-taken.csv, its new export as desk/exports/people.csv."))
	}
	return nil
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
func (a *front) demoStep(ctx context.Context, dir string, s step) (int, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	page := a.page()
	if !a.json {
		page.Line("")
		if s.about != "" {
			page.Line("%s", page.Dim("# "+s.about))
		}
		line := "$ evenledger"
		for _, arg := range s.args {
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
	args := s.args
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
