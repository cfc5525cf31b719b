package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"runtime/debug"
	"slices"
	"strconv"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"evenledger/internal/answer"
	"evenledger/internal/demo"
	"evenledger/internal/standin"
	"evenledger/internal/workspace"
)

// A practiceWish is which practice application is asked for, and where.
type practiceWish struct {
	demo.Practice
	port, mailPort int
	mails          string // the folder for mails; empty: none are taken
}

func (a *front) standinCommand() *cobra.Command {
	wish := &practiceWish{}
	cmd := &cobra.Command{
		Use:     "standin",
		GroupID: "around",
		Short:   "Serve a practice application on this machine",
		Long: `Serves a small application with accounts and groups over SCIM 2.0, on this machine
only, until Ctrl-C. Use it to try a brief, or this program, without harming anyone.
With --sample it begins with a few accounts, groups, courses and licences of a
ferry company, as in the demonstration.

The token is a reference, as in evenledger.yaml. If it names a file that isn't
there, the file is made with a random token in it.

With --mail FOLDER it takes mails as well, and keeps each as a file there: addresses that begin
with “refused” are refused, those with “busy” have to be tried twice, those with “slow” take a second.

With --files it is another: an application with a page in the browser that takes nothing
but files, says what it did not take, and exports its people; without a token.

With --web it is a third: an application with a web interface of its own, JSON over HTTP of no
standard. What it is like stands on its page; docs/web-systems.md describes it step by step.

The faults let you see how posting copes: each is the share of requests that meet
it, and with the same --seed the same requests meet the same.`,
		Example: `  evenledger standin --token file:crewdesk.token --sample
  evenledger standin --token env:CREWDESK_TOKEN --data crewdesk.json --port 8085
  evenledger standin --token file:crewdesk.token --sample --mail mails
  evenledger standin --token file:crewdesk.token --busy 0.1 --drops 0.05
  evenledger standin --files --sample --port 8086
  evenledger standin --web --sample --token file:mooring.token --port 8087`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.standIn(cmd.Context(), wish) },
	}
	wish.flags(cmd.Flags())
	return cmd
}

func (wish *practiceWish) flags(flags *pflag.FlagSet) {
	options := &wish.Options
	flags.IntVar(&wish.port, "port", 8085, "the port on this machine; 0: any free one")
	flags.StringVar(&wish.Token, "token", "", "where the token is: env:NAME or file:PATH")
	flags.BoolVar(&wish.Files, "files", false, "be an application that takes nothing but files")
	flags.BoolVar(&wish.Web, "web", false, "be an application with a web interface of its own")
	flags.DurationVar(&wish.Jobs, "jobs", 0, "with --web: accounts are made by jobs that take so long")
	flags.StringVar(&wish.Client, "oauth", "", "with --web: tokens are got by this `CLIENT`, whose secret is --token")
	flags.IntVar(&wish.Rows, "rows", 500, "with --files: most lines of a file")
	flags.StringVar(&options.Data, "data", "", "keep the data in this `FILE` (else in memory)")
	flags.StringVar(&wish.mails, "mail", "", "take mails too, and keep each in this `FOLDER`; nobody gets them")
	flags.IntVar(&wish.mailPort, "mail-port", 8025, "the port for mails on this machine; 0: any free one")
	flags.BoolVar(&wish.Sample, "sample", false, "begin with the sample company's accounts, unless the data file is there")
	flags.IntVar(&options.Page, "page", 200, "most accounts in one answer")
	flags.IntVar(&options.Bulk, "bulk", 0, "serve bulk requests of at most this many operations")
	flags.BoolVar(&options.NoPatch, "no-patch", false, "do not serve PATCH")
	flags.BoolVar(&options.NoETag, "no-etag", false, "keep no versions")
	flags.BoolVar(&options.NoFilter, "no-filter", false, "do not serve filters")
	flags.Int64Var(&options.Faults.Seed, "seed", 1, "which requests meet the faults")
	flags.DurationVar(&options.Faults.Delay, "delay", 0, "wait this long before each answer")
	flags.Float64Var(&options.Faults.Busy, "busy", 0, "`SHARE` of requests answered 429")
	flags.DurationVar(&options.Faults.RetryAfter, "retry-after", 0, "what a 429 asks for, in whole seconds")
	flags.Float64Var(&options.Faults.Errors, "errors", 0, "`SHARE` of requests answered 503, half of them after they were carried out")
	flags.Float64Var(&options.Faults.Drops, "drops", 0, "`SHARE` of connections cut, half of them after the request was carried out")
	flags.DurationVar(&options.Faults.Unseen, "unseen", 0, "how long a new account is not shown")
}

// standIn serves the practice application that is asked for, until it is stopped.
func (a *front) standIn(ctx context.Context, wish *practiceWish) (err error) {
	application, err := wish.Open(a.Clock.Now())
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, application.Close()) }()
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(150) // all that it keeps is in memory, and is looked at each time that is tidied
	}
	var box *standin.Mailbox
	if wish.mails != "" && !application.Scim() {
		return wrong("only the practice application over SCIM takes mails", "Leave --mail out, or --files and --web.")
	}
	if wish.mails != "" {
		if box, err = standin.NewMailbox(fmt.Sprintf("127.0.0.1:%d", wish.mailPort), wish.mails); err != nil {
			return wrong("mails cannot be taken: "+err.Error(), "Name another port with --mail-port, or another folder.")
		}
		defer box.Close()
	}
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", wish.port))
	if err != nil {
		return wrong(fmt.Sprintf("port %d cannot be used: %s", wish.port, err), a.otherPort(wish.port))
	}
	address := fmt.Sprintf("http://%s%s", listener.Addr(), application.Path)
	serving := answer.Done{Holds: map[string]any{"url": address}, Lines: application.About(address), Aside: "Ctrl-C ends it; in the background, kill %1 does."}
	if w, err := a.FindWorkspace(); err == nil && application.Scim() && !slices.ContainsFunc(w.Systems, func(s workspace.System) bool { return s.URL() == address }) {
		serving.Lines = append(serving.Lines, fmt.Sprintf("To use it, write this url for a system in %s.", workspace.File))
	}
	if box != nil {
		serving.Holds["mail"] = "smtp://" + box.Address
		serving.Lines = append(serving.Lines, "It takes mails at smtp://"+box.Address)
	}
	if err := a.tell(ctx, serving); err != nil {
		return errors.Join(err, listener.Close())
	}
	return standin.Serve(ctx, listener, application)
}

// otherPort says how to go on where a port cannot be used: with one that is free,
// written also where systems are looked up.
func (a *front) otherPort(taken int) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "Name another with --port."
	}
	defer listener.Close()
	free := listener.Addr().(*net.TCPAddr).Port
	which := "of the system"
	if w, err := a.FindWorkspace(); err == nil {
		for _, system := range w.Systems {
			if u, err := url.Parse(system.URL()); err == nil && u.Port() == strconv.Itoa(taken) {
				which = "of " + system.Name
			}
		}
	}
	return fmt.Sprintf("Give --port %d, and in %s make the url %s %s", free, workspace.File, which, fmt.Sprintf("http://%s%s", listener.Addr(), standin.Path))
}
