package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

func (a *front) noticesCommand() *cobra.Command {
	var send, again, yes bool
	var rows, only string
	cmd := &cobra.Command{
		Use:     "notices BATCH",
		GroupID: "look",
		Short:   "The mails of a batch: what became of each, and send those that are held",
		Long: `Lists the mails that go with a batch's entries, and what became of each: they wait for the
entry to be posted, are sent, were refused, are held (“post --hold-notices”), or nobody can
say whether they were sent, as the connection broke or the post was killed in between.

--send sends those that are held. Their accounts are looked at again first: a mail is left out,
and says why, if the account is gone or suspended by now or has another address, or if a later
batch has sent the mail. With --again, those that were refused or are unclear are sent
once more: look at them first, as somebody may get a mail twice.`,
		Example: `  evenledger notices 17
  evenledger notices 17 --send
  evenledger notices 17 --send --rows 3-9
  evenledger notices 17 --send --only 'department == "Deck"'
  evenledger notices try welcome starters.csv -b starters --row 3`,
		Args:              one("a batch's number"),
		ValidArgsFunction: a.completeBatches,
		RunE: func(cmd *cobra.Command, args []string) error {
			pick, err := app.NewPick(rows, only, a.Today())
			if err != nil {
				return err
			}
			if again && !send {
				return wrong("--again says which mails are sent, and --send is not given", "Give both.")
			}
			ctx := cmd.Context()
			return a.onBatches(ctx, args[0], !send, func(w *workspace.Workspace, l store.Store, batches []*batch.Batch) error {
				return a.severalBatches(batches, func(b *batch.Batch) error {
					if !send {
						return a.listMails(ctx, l, b, pick)
					}
					return a.sendMails(ctx, w, l, b, pick, again, yes)
				})
			})
		},
	}
	cmd.Flags().BoolVar(&send, "send", false, "send those that are held")
	cmd.Flags().BoolVar(&again, "again", false, "with --send: also those that were refused or are unclear")
	cmd.Flags().StringVar(&rows, "rows", "", "only these `ROWS`, such as 3-9,12")
	cmd.Flags().StringVar(&only, "only", "", "only of accounts for which this `EXPRESSION` holds, such as department == \"Deck\"")
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	cmd.AddCommand(a.noticesTryCommand())
	return cmd
}

func (a *front) sendMails(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, pick app.Pick, again, yes bool) error {
	all, err := app.Mails(ctx, l, b, pick, false)
	if err != nil {
		return err
	}
	send := app.ToSend(all, again)
	n := send.Mails
	if n+send.Cut == 0 {
		a.remark("No mail of batch %d is %s.", b.ID, map[bool]string{true: "held, refused or unclear", false: "held"}[again])
		left, err := app.Remaining(ctx, l, b)
		return errors.Join(a.listMails(ctx, l, b, pick), err, a.remains(left))
	}
	if !yes && n > 0 {
		if !isTerminal(a.In) {
			return guard(fmt.Sprintf("%s of batch %d would be sent, and nobody is there to be asked", report.Counted(n, "mail", "mails"), b.ID), "Give --yes if that is right.")
		}
		if !a.ask(fmt.Sprintf("Send %s of batch %d? [y/N] ", report.Counted(n, "mail", "mails"), b.ID)) {
			return guard("not confirmed; nothing was sent", "")
		}
	}
	bar := a.progress()
	how := app.Posting{Progress: bar.Of}
	sent, err := a.SendMails(ctx, w, l, b, how, send.Rows, again)
	bar.End()
	if err != nil {
		return err
	}
	a.followed(sent, false)
	return errors.Join(a.listMails(context.WithoutCancel(ctx), l, b, pick), sent.Err, sent.After, a.remains(sent.Left))
}

func (a *front) noticesTryCommand() *cobra.Command {
	var flags sheetFlags
	var row int
	var to, out string
	var offline bool
	cmd := &cobra.Command{
		Use:   "try NOTICE SHEET",
		Short: "Show one mail as it would go, or send it to yourself",
		Long: `Writes the mail of a notice for one row, as it would go. --send-to sends it to an address of
yours, with a mark in the subject; nobody else gets it, and nothing is noted. -o writes it as
a file that mail programs open.`,
		Example: `  evenledger notices try welcome starters.csv -b starters --row 3
  evenledger notices try welcome starters.csv -b starters --row 3 --send-to me@brindlesound.example
  evenledger notices try welcome starters.csv -b starters --row 3 -o welcome.eml`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			ctx := cmd.Context()
			a.Offline = offline
			j, err := a.Open(ctx, first(args[1:]), flags.Request)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, j.Close()) }()
			notice, err := j.Brief.NoticeNamed(args[0])
			if err != nil {
				return err
			}
			found, err := j.Row(ctx, row)
			if err != nil {
				return err
			}
			if found == nil {
				return wrong(fmt.Sprintf("%s has no row %d", j.Name, row), "Give --row with one of its rows; the headings stand in row 1.")
			}
			found.Wanted.Cells = j.Mapper.Conceal(found.Row.Cells)
			m, why, err := drafting.Preview(j.Mapper, notice, found.Wanted)
			if err != nil {
				return err
			}
			one := answer.ShownMail{Mail: m, Why: why}
			if j.Workspace != nil {
				one.Server = j.Workspace.Mail
			}
			return a.showMail(ctx, one, to, out)
		},
	}
	flags.add(a, cmd)
	cmd.Flags().IntVar(&row, "row", 2, "the `ROW` of the sheet")
	cmd.Flags().StringVar(&to, "send-to", "", "send it to this `ADDRESS` of yours")
	cmd.Flags().StringVarP(&out, "output", "o", "", "write it to this new `FILE`, as mail programs keep mails")
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the system which fields it takes")
	return cmd
}

// showMail shows a mail, after it was sent to an address of the person's own or written to a
// file, if that is wanted.
func (a *front) showMail(ctx context.Context, m answer.ShownMail, to, out string) error {
	if m.Subject == "" && m.Text == "" {
		return wrong("there is no such mail for the row: "+cmp.Or(m.Why, "its condition does not hold for the row"), "")
	}
	if (to != "" || out != "") && m.Server == nil {
		return wrong("evenledger.yaml does not say how mails are sent", "Add “mail” with “server” and “from” there.")
	}
	m.Text, m.HTML = strings.ReplaceAll(m.Text, brief.PasswordMark, "(the password)"), strings.ReplaceAll(m.HTML, brief.PasswordMark, "(the password)")
	if to != "" {
		if err := a.MailToOneself(ctx, m.Server, m.Mail, to); err != nil {
			return err
		}
		a.remark("Sent to %s, and to nobody else.", to)
	}
	if out != "" {
		if err := app.WriteMail(m.Server, m.Mail, out, a.Clock.Now()); err != nil {
			return err
		}
	}
	m.Sent = to != ""
	return a.tell(ctx, m)
}

func (a *front) listMails(ctx context.Context, l store.Store, b *batch.Batch, pick app.Pick) error {
	all, err := app.Mails(ctx, l, b, pick, a.json)
	if err != nil {
		return err
	}
	return a.tell(ctx, answer.Mails{Ledger: l, Batch: b, Mails: all})
}
