package cli

import (
	"context"
	"fmt"
	"math"
	netmail "net/mail"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// mailsTo sees that what mails are to go to is one address.
func mailsTo(text string) error {
	if text == "" {
		return nil
	}
	if at, err := netmail.ParseAddress(text); err != nil || at.Address != text {
		return wrong(fmt.Sprintf("--mails-to: “%s” is no address", text), "Give one such as crewing@brindlesound.example.")
	}
	return nil
}

func (a *front) draftCommand() *cobra.Command {
	var flags sheetFlags
	var fields []string
	cmd := &cobra.Command{
		Use:     "draft SHEET",
		GroupID: "carry",
		Short:   "Make a batch: what would happen to whom, before and after",
		Long: `Checks the sheet, finds the accounts its rows mean, and writes into the ledger
what would be done with each row. The system is only read. Look at the batch, then
carry it out with “post”.

The draft says how many seats of each licence it takes, and refuses rows for which
none is left. Roles and groups that give rights over others are refused unless
--allow-elevated is given. A batch that would do more than the brief's “limits” is
drafted, and held back.`,
		Example: `  evenledger draft starters.csv -b starters
  evenledger draft starters.xlsx -b starters --rows 3-9,12
  evenledger draft starters.csv --system crewdesk     without a brief
  evenledger draft crew.csv -b crew --system quays    a batch for each system of a set
  evenledger draft crew.csv -b crew --pairs pairs.xlsx    whom rows mean, as a person answered
  evenledger draft accounts.xlsx --fields manager,title   touch nothing else`,
		Args: oneOrBrief("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			flags.Fields = fields
			if err := mailsTo(flags.MailsTo); err != nil {
				return err
			}
			return a.draft(cmd.Context(), first(args), flags)
		},
	}
	flags.add(a, cmd)
	cmd.Flags().StringSliceVar(&fields, "fields", nil, "touch only these `FIELDS` of accounts that exist, such as manager,title")
	completeFlag(cmd, "fields", listOf(fieldNames()...))
	cmd.Flags().StringVar(&flags.Rest, "rest", "", "with --pairs: what rows are that nobody answered for: `new` people (else they are refused)")
	completeFlag(cmd, "rest", oneOf("new"))
	cmd.Flags().StringSliceVar(&flags.Pairs, "pairs", nil, "whom rows mean that no key finds: the `SHEET` of “candidates”, with the answers")
	cmd.Flags().StringVar(&flags.Trial, "trial-run", "", "mark the batch as a trial of this `NAME`: no mails but to --mails-to, no follow-ups; “report SYSTEM trials” lists its accounts until they are removed")
	cmd.Flags().StringVar(&flags.MailsTo, "mails-to", "", "with --trial-run: send its mails to this `ADDRESS` instead of people")
	cmd.Flags().BoolVar(&a.refusedOK, "refused-ok", false, "end with 0 although rows were refused, for scripts in which something else says so")
	cmd.Flags().BoolVar(&flags.Elevated, "allow-elevated", false, "allow roles and groups that give rights over others")
	ofDeeds.tell(cmd, "fields", "pairs", "rest", "trial-run", "mails-to", "allow-elevated")
	return cmd
}

func (a *front) draft(ctx context.Context, path string, flags sheetFlags) error {
	if w, err := a.FindWorkspace(); err == nil {
		w.NoteDraft(0) // until it is made
	}
	return a.onSheets(ctx, path, flags, func(members []app.Member, set string, l store.Store) error {
		bar := a.progress()
		made := a.DraftSet(ctx, l, members, set, bar.stageDone)
		bar.end()
		if err := a.drafted(ctx, l, members, made); err != nil {
			return err
		}
		return a.tellSystems(ctx, ofMembers(members))
	})
}

// drafted shows the batches that were made, for which members one could be.
func (a *front) drafted(ctx context.Context, l store.Store, members []app.Member, made []*drafting.Made) error {
	var batches []*batch.Batch
	for i, m := range made {
		if m == nil {
			continue
		}
		b := m.Batch
		if batches = append(batches, b); b.Delivery != nil && b.Delivery.Ahead {
			a.exit = max(a.exit, exitRows)
		}
		if len(b.Held) > 0 {
			a.exit = exitGuard
		}
		for _, f := range m.Findings() {
			if members[i].Findings = append(members[i].Findings, f); a.json {
				a.remark("%s.", f.Message)
			}
		}
	}
	if len(batches) == 0 {
		return nil
	}
	a.made(batches[0])
	switch {
	case len(members) > 1:
		return a.showSet(ctx, l, batches, members)
	case a.json:
		return a.writeBatch(ctx, l, batches[0])
	}
	j := members[0].Job
	j.Findings = append(j.Findings, mapping.GuessedEncoding(j.Sheet.Info())...)
	page := a.page()
	if !j.Named {
		readAs(page, j)
		page.Line("")
	}
	return a.showDraft(ctx, page, l, batches[0], j, made[0].Way)
}

// made remembers which batch “last” is from now on.
func (a *front) made(b *batch.Batch) {
	if w, err := a.FindWorkspace(); err == nil {
		w.NoteDraft(b.ID)
	}
}

func (a *front) writeBatch(ctx context.Context, l store.Store, b *batch.Batch) error {
	counts, _, err := l.Counts(ctx, b.ID)
	if err != nil {
		return err
	}
	a.exit = max(a.exit, a.rowsExit(counts.Bad()))
	return report.WriteBatch(a.out, report.NewHead(b, counts), b, l.Entries(ctx, b.ID, store.Filter{Cells: true}))
}

func (a *front) showDraft(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch, j *app.Job, way system.Way) error {
	came, err := a.summary(ctx, page, l, b, j.Findings, nil)
	if err != nil {
		return err
	}
	page.Line("")
	looked := "by " + way.String()
	if b.AsOf != "" {
		looked = b.AsOf
	}
	page.Text(page.Dim, fmt.Sprintf("%s Accounts were looked up %s.%s Nothing has been changed.", b.Policies, looked, taken(b)))
	if err := a.load(ctx, page, l, b, j); err != nil {
		return err
	}
	if j.Brief.Gone != "" && b.Taken != "" {
		page.Text(page.Dim, "As only a part was taken, accounts that are not listed were not looked for.")
	}
	if a.held(page, b) {
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
	} else if a.toSign(page, b, came.ToDo(), false) {
		page.Next(signNext(fmt.Sprint(b.ID)))
	} else if came.ToDo() > 0 {
		post := fmt.Sprintf("evenledger post %d", b.ID)
		if b.MakesPasswords() {
			post += credentialsWanted
		}
		next := []string{post}
		if came.ToDo() > 1 {
			next = append(next, post+" --trial 1    # one row first")
		}
		page.Next(next...)
	} else if came.Counts[account.Refused] > 0 {
		page.Next(fmt.Sprintf("evenledger fixes %d -o %s", b.ID, freeName("again", b)))
	} else if b.Delivery != nil {
		page.Next(fmt.Sprintf("evenledger post %d    # nothing is sent; what the feed brought counts as taken", b.ID))
	} else {
		page.Next("evenledger batches")
	}
	return page.Err()
}

// load tells how many requests a post would send, and how long that may take.
func (a *front) load(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch, j *app.Job) error {
	load, err := app.LoadOf(ctx, l, b, j.Abilities())
	n := load.Requests()
	if err != nil || n == 0 || j.Target.Kind.Later {
		return err
	}
	var of []string
	for _, part := range []struct {
		n    int
		what string
	}{{load.Accounts, "for accounts"}, {load.Memberships, "for memberships"}, {load.Others, "for what follows"}} {
		if part.n > 0 && part.n < n {
			of = append(of, report.Number(part.n)+" "+part.what)
		}
	}
	said := "A post would send " + report.Counted(n, "request", "requests")
	if len(of) > 0 {
		said += ": " + strings.Join(of, ", ")
	}
	switch {
	case load.As > 0:
		said += fmt.Sprintf(". As batch %d went, that takes about %s", load.As, lasting(load.Seconds))
	case load.Seconds > 0:
		said += fmt.Sprintf(". At the rate that is allowed, that takes at least %s", lasting(load.Seconds))
	}
	page.Text(page.Dim, said+".")
	return nil
}

// lasting is a time, for people.
func lasting(seconds float64) string {
	switch {
	case seconds < 1:
		return "a second"
	case seconds < 90:
		return report.Counted(int(math.Ceil(seconds)), "second", "seconds")
	case seconds < 5400:
		return report.Counted(int(math.Ceil(seconds/60)), "minute", "minutes")
	}
	return fmt.Sprintf("%.1f hours", seconds/3600)
}

// toSign says who has to sign a batch before it is posted, if somebody has to. One of several is
// called by its system.
func (a *front) toSign(page *report.Page, b *batch.Batch, waiting int, several bool) bool {
	if waiting == 0 || b.State != batch.Drafted || !b.IsToBeSigned() {
		return false
	}
	who, of := "A second person has", ""
	if b.Signers() > 1 {
		who = "Two people have"
	}
	if several {
		of = b.System + ": "
	}
	page.Line("")
	page.Line("%s%s Seal of the draft: %s", of, page.Bold(who+" to sign it before it is posted."), shortSeal(b))
	if b.Signers() > 1 {
		page.Text(page.Dim, fmt.Sprintf("No key in evenledger.yaml is that of %s, who drafted it, so that nobody could tell whether they signed it as well. “evenledger identity” makes one's keys.", b.By))
	}
	return true
}

// signNext is the command by which batches are countersigned.
func signNext(batches string) string {
	return fmt.Sprintf("evenledger countersign %s    # a colleague", batches)
}

// held says why a batch may not be posted, if it may not.
func (a *front) held(page *report.Page, b *batch.Batch) bool {
	for i, why := range b.Held {
		if i == 0 {
			page.Line("")
		}
		page.Text(func(text string) report.Styled { return page.Level(account.Error, text) }, fmt.Sprintf("Held back: %s.", why))
	}
	return len(b.Held) > 0
}

// taken says which rows a batch took, if not all.
func taken(b *batch.Batch) string {
	if b.Taken == "" {
		return ""
	}
	return " Only a part was taken (" + b.Taken + "); the other rows are set aside."
}

// summary writes what a batch came to, and has the exit code say whether all is well.
func (a *front) summary(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch, more []account.Finding, told func(batch.Entry) bool) (report.Came, error) {
	came, err := page.Batch(ctx, l, b, more, told)
	if err == nil && !came.Even {
		a.exit = exitRows
	}
	a.exit = max(a.exit, a.rowsExit(came.Counts.Bad()))
	return came, err
}
