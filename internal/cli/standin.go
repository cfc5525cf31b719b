package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"evenledger/internal/demo"
	"evenledger/internal/report"
	"evenledger/internal/standin"
	"evenledger/internal/standin/desk"
	"evenledger/internal/standin/mooring"
	"evenledger/internal/workspace"
)

// A practiceWish is which practice application is asked for, and what it is to be like.
type practiceWish struct {
	options        standin.Options
	port, mailPort int
	token, mails   string
	sample         bool
	files, web     bool // the one that takes nothing but files, or the one with a web interface of its own
	rows           int
	jobs           time.Duration
	client         string
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
	options := &wish.options
	flags.IntVar(&wish.port, "port", 8085, "the port on this machine; 0: any free one")
	flags.StringVar(&wish.token, "token", "", "where the token is: env:NAME or file:PATH")
	flags.BoolVar(&wish.files, "files", false, "be an application that takes nothing but files")
	flags.BoolVar(&wish.web, "web", false, "be an application with a web interface of its own")
	flags.DurationVar(&wish.jobs, "jobs", 0, "with --web: accounts are made by jobs that take so long")
	flags.StringVar(&wish.client, "oauth", "", "with --web: tokens are got by this `CLIENT`, whose secret is --token")
	flags.IntVar(&wish.rows, "rows", 500, "with --files: most lines of a file")
	flags.StringVar(&options.Data, "data", "", "keep the data in this `FILE` (else in memory)")
	flags.StringVar(&wish.mails, "mail", "", "take mails too, and keep each in this `FOLDER`; nobody gets them")
	flags.IntVar(&wish.mailPort, "mail-port", 8025, "the port for mails on this machine; 0: any free one")
	flags.BoolVar(&wish.sample, "sample", false, "begin with the sample company's accounts, unless the data file is there")
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

// standIn serves the practice application that is asked for.
func (a *front) standIn(ctx context.Context, wish *practiceWish) error {
	if wish.files {
		a.longWork()
		return a.serveFiles(ctx, desk.Options{Data: wish.options.Data, Rows: wish.rows}, wish.port, wish.sample)
	}
	if wish.web && wish.options.Data != "" {
		return wrong("the practice application with a web interface of its own keeps its data in memory", "Leave --data out.")
	}
	secret, err := standin.OpenToken(wish.token)
	if err != nil {
		return wrong(err.Error(), "Give --token file:PATH or env:NAME.")
	}
	if wish.web {
		a.longWork()
		with := mooring.Options{Token: secret, Page: wish.options.Page, Unseen: wish.options.Faults.Unseen, Delay: wish.options.Faults.Delay, Jobs: wish.jobs}
		if wish.client != "" {
			with.Client, with.Secret = wish.client, secret
		}
		return a.serveWeb(ctx, with, wish.port, wish.sample)
	}
	wish.options.Token = secret
	server, err := demo.NewPractice(wish.options, wish.sample)
	if err != nil {
		return wrong(err.Error(), "")
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(150) // all that it keeps is in memory, and is looked at each time that is tidied
	}
	var box *standin.Mailbox
	if wish.mails != "" {
		if box, err = standin.NewMailbox(fmt.Sprintf("127.0.0.1:%d", wish.mailPort), wish.mails); err != nil {
			return wrong("mails cannot be taken: "+err.Error(), "Name another port with --mail-port, or another folder.")
		}
		defer box.Close()
	}
	return a.serve(ctx, server, wish.port, box)
}

func (a *front) serveFiles(ctx context.Context, options desk.Options, port int, sample bool) error {
	d, err := demo.NewDesk(options, sample, a.Clock.Now())
	if err != nil {
		return wrong(err.Error(), "")
	}
	return a.serveHandler(ctx, d, port, "/", func(page *report.Page, address string) {
		page.Line("The practice application for files is at %s", address)
		page.Line("%s", page.Dim("Open it in a browser. Ctrl-C ends it; in the background, kill %1 does."))
	})
}

// serveWeb serves the practice application with a web interface of its own; with sample it begins with the sample
// company's people.
func (a *front) serveWeb(ctx context.Context, options mooring.Options, port int, sample bool) error {
	server := mooring.New(options)
	if sample {
		if err := demo.Moor(server); err != nil {
			return wrong(err.Error(), "")
		}
	}
	return a.serveHandler(ctx, server, port, "/api", func(page *report.Page, address string) {
		page.Line("The practice application with a web interface of its own is at %s", address)
		page.Line("What it is like is told in a browser at %s", strings.TrimSuffix(address, "api"))
		page.Line("%s", page.Dim("Ctrl-C ends it; in the background, kill %1 does."))
	})
}

// serveHandler serves a practice application until it is stopped.
func (a *front) serveHandler(ctx context.Context, handler http.Handler, port int, path string, tell func(page *report.Page, address string)) error {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return wrong(fmt.Sprintf("port %d cannot be used: %s", port, err), a.otherPort(port))
	}
	address := fmt.Sprintf("http://%s%s", listener.Addr(), path)
	if a.json {
		err = a.writeJSON(map[string]any{"url": address})
	} else {
		page := a.page()
		tell(page, address)
		err = page.Err()
	}
	if err != nil {
		return err
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (a *front) serve(ctx context.Context, server *standin.Server, port int, box *standin.Mailbox) error {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return wrong(fmt.Sprintf("port %d cannot be used: %s", port, err), a.otherPort(port))
	}
	address := practiceURL(listener.Addr())
	if a.json {
		told := map[string]any{"url": address}
		if box != nil {
			told["mail"] = "smtp://" + box.Address
		}
		if err := a.writeJSON(told); err != nil {
			return err
		}
	} else {
		page := a.page()
		page.Line("The practice application is at %s", address)
		if w, err := a.FindWorkspace(); err == nil && !slices.ContainsFunc(w.Systems, func(s workspace.System) bool { return s.URL() == address }) {
			page.Line("To use it, write this url for a system in %s.", workspace.File)
		}
		if box != nil {
			page.Line("It takes mails at smtp://%s", box.Address)
		}
		page.Line("%s", page.Dim("Ctrl-C ends it; in the background, kill %1 does."))
	}
	return server.Serve(ctx, listener)
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
	return fmt.Sprintf("Give --port %d, and in %s make the url %s %s", free, workspace.File, which, practiceURL(listener.Addr()))
}

func practiceURL(at net.Addr) string { return fmt.Sprintf("http://%s/scim/v2", at) }
