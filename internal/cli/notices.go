package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	netmail "net/mail"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/expr"
	"evenledger/internal/mail"
	"evenledger/internal/membership"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/words"
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
			pick, err := newPick(rows, only, a.Today())
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

// A pick says of which entries mails are meant.
type pick struct {
	rows  [][2]int     // none: all
	only  *brief.Brief // whose one condition holds for them; nil: any
	scope *expr.Scope
}

func newPick(rows, only, today string) (p pick, err error) {
	if rows != "" {
		if p.rows, err = sheet.ParseRows(rows); err != nil {
			return p, wrong("--rows: "+err.Error(), "")
		}
	}
	if only == "" {
		return p, nil
	}
	if p.only, err = brief.Condition(account.Fields(), only, today); err != nil {
		return p, err
	}
	p.scope = p.only.NewScope(nil)
	return p, nil
}

// takes reports whether an entry is meant, by its account as the batch leaves it.
func (p pick) takes(e *batch.Entry) (bool, error) {
	if len(p.rows) > 0 && !slices.ContainsFunc(p.rows, func(r [2]int) bool { return r[0] <= e.Row && e.Row <= r[1] }) {
		return false, nil
	}
	if p.only == nil {
		return true, nil
	}
	left := e.Left()
	for _, i := range p.only.Only[0].Uses {
		p.scope.Set(i, left[p.only.Fields[i].Name].Text())
	}
	return p.only.Only[0].True(p.scope)
}

// oneMail is a mail of a batch.
type oneMail struct {
	Row     int    `json:"row"`
	Notice  string `json:"notice"`
	To      string `json:"to"`
	Subject string `json:"subject"`
	State   string `json:"state"`
	Text    string `json:"text,omitempty"`
	Why     string `json:"why,omitempty"` // it was not sent, as far as that is known

	result membership.Result
}

// mailsOf reads the mails of a batch, of these rows or of all.
func mailsOf(ctx context.Context, l store.Store, b *batch.Batch, pick pick, whole bool) (all []oneMail, err error) {
	for e, err := range l.Entries(ctx, b.ID, store.Filter{Does: membership.Notify, Mails: true}) {
		if err != nil {
			return nil, err
		}
		if takes, err := pick.takes(&e); err != nil || !takes {
			if err != nil {
				return nil, err
			}
			continue
		}
		for _, s := range e.Steps {
			if s.Do != membership.Notify {
				continue
			}
			var m mail.Mail
			if err := json.Unmarshal([]byte(s.Sent), &m); err != nil {
				return nil, fmt.Errorf("the mail of row %d cannot be read out of the ledger: %w", e.Row, err)
			}
			one := oneMail{Row: e.Row, Notice: s.Name, To: s.To, Subject: m.Subject, State: report.MailState(s.Result), result: s.Result}
			for _, f := range e.FindingsOf(&s, account.NoticeNotSent, account.NoticeLeftOut) {
				one.Why = strings.TrimPrefix(f.Message, fmt.Sprintf("the mail “%s” to %s ", s.Name, s.To))
			}
			if whole {
				one.Text = strings.ReplaceAll(m.Text, brief.PasswordMark, "(the password)")
			}
			all = append(all, one)
		}
	}
	return all, nil
}

func (a *front) listMails(ctx context.Context, l store.Store, b *batch.Batch, pick pick) error {
	all, err := mailsOf(ctx, l, b, pick, a.json)
	if err != nil {
		return err
	}
	if a.json {
		if all == nil {
			all = []oneMail{}
		}
		return a.writeJSON(map[string]any{"batch": b.ID, "mails": all})
	}
	page := a.page()
	page.Title(b)
	if len(all) == 0 {
		page.Line("")
		page.Line("No mail goes with it.")
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
		return page.Err()
	}
	if err := page.Outgoing(ctx, l, b); err != nil {
		return err
	}
	page.Line("")
	held, cut := 0, 0
	for _, m := range all {
		page.Line("  row %4d  %s %s %s %s", m.Row, report.Pad(m.State, 10), report.Pad(report.Clip(m.Notice, 14), 14), report.Pad(report.Clip(m.To, 40), 40), page.Dim(report.Clip(m.Subject, 50)))
		if m.Why != "" {
			page.Line("            %s", page.Dim(m.Why))
		}
		switch m.result {
		case membership.Held, membership.Queued:
			if m.result == membership.Queued || m.Why == "" { // those left out would be so again
				held++
			}
		case membership.Sending:
			cut++
		}
	}
	switch {
	case cut > 0:
		page.Next(fmt.Sprintf("evenledger notices %d --send    # goes on, and tells of which it is unclear whether they were sent", b.ID))
	case held > 0:
		page.Next(fmt.Sprintf("evenledger notices %d --send", b.ID))
	default:
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
	}
	return page.Err()
}

func (a *front) sendMails(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, pick pick, again, yes bool) error {
	// What is to go now was asked for before, and that was cut short.
	states, named := []membership.Result{membership.Held, membership.Queued}, "held"
	if again {
		states, named = append(states, membership.Failed, membership.Unclear, membership.Sending), "held, refused or unclear"
	}
	all, err := mailsOf(ctx, l, b, pick, false)
	if err != nil {
		return err
	}
	var rows []int
	n, cut := 0, 0
	for _, m := range all {
		if m.result == membership.Sending && !again {
			rows = append(rows, m.Row)
			cut++
		}
		if slices.Contains(states, m.result) {
			rows = append(rows, m.Row)
			n++
		}
	}
	if n+cut == 0 {
		a.remark("No mail of batch %d is %s.", b.ID, named)
		left, err := app.Remaining(ctx, l, b)
		return errors.Join(a.listMails(ctx, l, b, pick), err, a.remains(left))
	}
	if !yes && n > 0 {
		if !isTerminal(a.In) {
			return guard(fmt.Sprintf("%s of batch %d would be sent, and nobody is there to be asked", counted(n, "mail", "mails"), b.ID), "Give --yes if that is right.")
		}
		if !a.ask(fmt.Sprintf("Send %s of batch %d? [y/N] ", counted(n, "mail", "mails"), b.ID)) {
			return guard("not confirmed; nothing was sent", "")
		}
	}
	bar := a.progress()
	how := app.Posting{Progress: bar.of}
	sent, err := a.SendMails(ctx, w, l, b, how, slices.Compact(rows), again)
	bar.end()
	if err != nil {
		return err
	}
	a.followed(sent, how, false)
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
			notice, err := noticeNamed(j.Brief, args[0])
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
			one := shownMail{Mail: m, why: why}
			if j.Workspace != nil {
				one.server = j.Workspace.Mail
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

// noticeNamed finds a notice of a brief.
func noticeNamed(b *brief.Brief, name string) (*brief.Notice, error) {
	var names []string
	for _, n := range b.Notices {
		if n.Name == name {
			return n, nil
		}
		names = append(names, n.Name)
	}
	switch near := words.Nearest(name, names); {
	case len(names) == 0:
		return nil, wrong(fmt.Sprintf("the brief %s has no notices", b.Name), "Add “notices” to it.")
	case near != "":
		return nil, wrong(fmt.Sprintf("the brief has no notice “%s”", name), fmt.Sprintf("Did you mean “%s”?", near))
	}
	return nil, wrong(fmt.Sprintf("the brief has no notice “%s”", name), "It has "+strings.Join(names, ", ")+".")
}

// shownMail is a mail that is looked at before it goes to anybody.
type shownMail struct {
	mail.Mail
	why    string       // it would not go; empty: it would
	server *mail.Server // that would send it; nil: nothing says how
}

// showMail shows a mail, after it was sent to an address of the person's own or written to a
// file, if that is wanted.
func (a *front) showMail(ctx context.Context, m shownMail, to, out string) error {
	if m.Subject == "" && m.Text == "" {
		return wrong("there is no such mail for the row: "+cmp.Or(m.why, "its condition does not hold for the row"), "")
	}
	if (to != "" || out != "") && m.server == nil {
		return wrong("evenledger.yaml does not say how mails are sent", "Add “mail” with “server” and “from” there.")
	}
	m.Text, m.HTML = strings.ReplaceAll(m.Text, brief.PasswordMark, "(the password)"), strings.ReplaceAll(m.HTML, brief.PasswordMark, "(the password)")
	if to != "" {
		if err := a.mailToOneself(ctx, m, to); err != nil {
			return err
		}
	}
	if out != "" {
		if err := m.write(out, a.Clock.Now()); err != nil {
			return err
		}
	}
	from := "(evenledger.yaml does not say how mails are sent)"
	if m.server != nil {
		from = m.server.From.Name + " <" + m.server.From.Address + ">"
	}
	if a.json {
		return a.writeJSON(map[string]any{"from": from, "to": m.To, "why": m.why, "subject": m.Subject, "text": m.Text, "html": m.HTML})
	}
	page := a.page()
	page.Line("%s  %s", page.Dim("From   "), from)
	if m.why == "" {
		page.Line("%s  %s", page.Dim("To     "), m.To)
	} else {
		page.Line("%s  %s", page.Dim("To     "), page.Dim("not known yet: "+m.why))
	}
	page.Line("%s  %s", page.Dim("Subject"), page.Bold(m.Subject))
	page.Line("")
	lines(page, m.Text)
	if m.HTML != "" {
		page.Line("%s", page.Dim("and the same as a page, for mail programs that show one; -o FILE writes all of it"))
	}
	if to == "" {
		page.Next("the same with --send-to and an address of yours")
	}
	return page.Err()
}

// mailToOneself sends a mail to an address of the person's own, marked.
func (a *front) mailToOneself(ctx context.Context, m shownMail, to string) error {
	at, err := netmail.ParseAddress(to)
	if err != nil || at.Name != "" {
		return wrong(fmt.Sprintf("--send-to: “%s” is no address", to), "")
	}
	sender, err := m.server.Open(mail.Work{Mask: a.Mask, Clock: a.Clock})
	if err != nil {
		return err
	}
	defer sender.Close()
	trial := m.Mail
	trial.To, trial.Subject = at.Address, "[trial] "+m.Subject
	if err := sender.Send(ctx, trial); err != nil {
		return &failure{code: exitUnavailable, message: a.Mask.Hide(err.Error()), remedy: "Nobody else was written to."}
	}
	a.remark("Sent to %s, and to nobody else.", at.Address)
	return nil
}

// write writes the mail to a new file, as mail programs keep mails.
func (m shownMail) write(path string, now time.Time) error {
	if exists(path) {
		return wrong(path+" exists already", "Name another file.")
	}
	m.To = cmp.Or(m.To, "somebody@example.invalid")
	text, err := m.server.Text(m.Mail, now)
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(text), 0o600)
}
