package drafting

import (
	"context"
	"encoding/json"
	"fmt"
	netmail "net/mail"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/expr"
	"evenledger/internal/feed"
	"evenledger/internal/mail"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// notices writes the mails of a batch, so that the draft shows just what is sent.
type notices struct {
	brief   *brief.Brief
	index   *batch.Index
	worker  *mapping.Worker
	rows    map[string]map[string]int // as in registry
	release func([]membership.Step)   // gives back what the steps of a refused entry would have taken

	trial string // address that a trial's mails go to, instead of people's; "": none go
	left  *leftAway
}

// leftAway counts what a trial leaves away: nobody but who tries hears of it.
type leftAway struct{ mails, followUps int }

// notices returns what writes the batch's mails; nil: there are none.
func (d *making) notices(index *batch.Index) *notices {
	if len(d.brief.Notices)+len(d.brief.FollowUps) == 0 || d.Compare {
		return nil
	}
	n := &notices{brief: d.brief, index: index, worker: d.Mapper.NewWorker(), rows: d.rows, release: d.ties.Return}
	if d.Batch.Trial != "" {
		n.trial, n.left = d.MailsTo, &leftAway{}
	}
	d.left = n.left
	return n
}

// mails adds to an entry the mails that follow it. What cannot be written is told, and holds
// nobody up.
func (n *notices) mails(e *batch.Entry, w *mapping.Wanted) {
	if n == nil || !e.Outcome.Waits() {
		return
	}
	n.followUps(e, w)
	for _, notice := range n.brief.Notices {
		if !slices.Contains(notice.On, e.Intent) {
			continue
		}
		step, why := n.mail(notice, e, w)
		if n.left != nil {
			step, why = n.onTrial(step, why)
		}
		if why != "" {
			e.Find(account.Warning, account.NoticeNotWritten, "", "", fmt.Sprintf("the mail “%s” is not sent: %s", notice.Name, why))
		} else if step != nil {
			e.Steps = append(e.Steps, *step)
		}
	}
}

// onTrial has a mail of a trial go to who tries, if they want it, and to nobody else.
func (n *notices) onTrial(step *membership.Step, why string) (*membership.Step, string) {
	if step == nil {
		return nil, why
	}
	if n.trial == "" {
		n.left.mails++
		return nil, ""
	}
	var m mail.Mail
	if err := json.Unmarshal([]byte(step.Sent), &m); err != nil {
		return nil, err.Error()
	}
	m.To, m.Subject = n.trial, "[trial] "+m.Subject
	text, err := json.Marshal(m)
	if err != nil {
		return nil, err.Error()
	}
	step.To, step.Row, step.Sent = n.trial, 0, string(text)
	return step, ""
}

// see has expressions see a row as its account is to be.
func (n *notices) see(e *batch.Entry, w *mapping.Wanted) (*expr.Scope, func(int) account.Value) {
	left := e.Left()
	var cells []string
	if w != nil {
		cells = w.Cells
	}
	value := func(i int) account.Value {
		if w != nil && w.Values[i].Filled() {
			return w.Values[i]
		}
		return left[n.brief.Fields[i].Name]
	}
	return n.worker.See(cells, value), value
}

// followUps adds to an entry what is done elsewhere about it. What cannot be worked out refuses
// the entry: another application would miss it.
func (n *notices) followUps(e *batch.Entry, w *mapping.Wanted) {
	for _, f := range n.brief.FollowUps {
		if !slices.Contains(f.On, e.Intent) {
			continue
		}
		scope, value := n.see(e, w)
		refuse := func(why string) {
			n.release(e.Steps)
			e.Find(account.Error, account.FollowUpFailed, "", "", fmt.Sprintf("the follow-up “%s” cannot be worked out: %s", f.Name, why))
			e.Refuse()
		}
		if f.When != nil {
			holds, err := f.When.True(scope)
			if err != nil {
				refuse(err.Error())
				return
			}
			if !holds {
				continue
			}
		}
		if n.left != nil {
			n.left.followUps++
			continue
		}
		order := feed.Order{Statement: f.Statement}
		if f.Statement != "" {
			order.Values = map[string]string{}
			for _, name := range f.Parameters {
				order.Values[name] = value(n.brief.Field(name)).Text()
			}
		} else {
			order.Body = map[string]string{}
			for name, t := range f.Body {
				text, err := t.Text(scope)
				if err != nil {
					refuse(err.Error())
					return
				}
				order.Body[name] = text
			}
		}
		text, err := json.Marshal(order)
		if err != nil {
			refuse(err.Error())
			return
		}
		e.Steps = append(e.Steps, membership.Step{Do: membership.Follow, Kind: "follow_ups", Name: f.Name, To: f.Feed, Sent: string(text)})
	}
}

// mail writes one mail; nil: it is not for this row.
func (n *notices) mail(notice *brief.Notice, e *batch.Entry, w *mapping.Wanted) (step *membership.Step, why string) {
	scope, value := n.see(e, w)
	if notice.When != nil {
		holds, err := notice.When.True(scope)
		if err != nil {
			return nil, "its condition could not be worked out: " + err.Error()
		}
		if !holds {
			return nil, ""
		}
	}
	if notice.Password && e.Secret == "" && e.Intent != "" {
		return nil, "the row sets no password that it could tell"
	}
	to, row, why := n.recipient(notice, e.Row, scope, value)
	if why != "" {
		return nil, why
	}
	language := ""
	if notice.Language >= 0 {
		language = value(notice.Language).Text()
	}
	m := mail.Mail{Notice: notice.Name, To: to}
	var err error
	if m.Subject, err = notice.Subject.In(language).Line(scope); err == nil {
		m.Text, err = notice.Text.In(language).Text(scope)
	}
	if page := notice.HTML.In(language); err == nil && page != nil {
		m.HTML, err = page.HTML(scope)
	}
	if err != nil {
		return nil, err.Error()
	}
	text, err := json.Marshal(m)
	if err != nil {
		return nil, err.Error()
	}
	step = &membership.Step{Do: membership.Notify, Kind: "notices", Name: notice.Name, To: to, Row: row, Sent: string(text), Tells: notice.Password}
	return step, ""
}

// recipient says to which one address a mail goes, or to the account of which row.
func (n *notices) recipient(notice *brief.Notice, own int, scope *expr.Scope, value func(int) account.Value) (to string, row int, why string) {
	one := func(text string) (string, int, string) {
		to, why := address(text)
		return to, 0, why
	}
	switch to := notice.To; {
	case to.Address != "":
		return to.Address, 0, ""
	case to.Made != nil:
		made, err := to.Made.Line(scope)
		if err != nil {
			return "", 0, err.Error()
		}
		return one(made)
	case n.brief.Fields[to.Field].Kind != account.Person:
		return one(value(to.Field).Text())
	default:
		f := n.brief.Fields[to.Field]
		who := value(to.Field).Text()
		if who == "" {
			return "", 0, fmt.Sprintf("nobody is named as %s", f.Label)
		}
		if hits := n.index.Find(f.Refers, who); len(hits) == 1 {
			return one(hits[0].Field("email").Text())
		}
		by := n.brief.Field(f.Refers)
		if by >= 0 {
			if row := n.rows[f.Refers][n.brief.Fields[by].Key(who)]; row > 0 && row != own {
				return "", row, "" // who it is, and by which address, is known when all rows are decided
			}
		}
		return "", 0, fmt.Sprintf("the account of %s, the %s, was not found", who, f.Label)
	}
}

// settleMails addresses the mails that go to people of other rows, now that these are decided.
func (d *making) settleMails(ctx context.Context) error {
	if len(d.brief.Notices) == 0 {
		return nil
	}
	for after := 0; ; {
		var window []batch.Entry
		for e, err := range d.Ledger.Entries(ctx, d.Batch.ID, store.Filter{Does: membership.Notify, Mails: true, Outcomes: []account.Outcome{account.Waiting}, After: after, Limit: chunk}) {
			if err != nil {
				return err
			}
			after = e.Row
			window = append(window, e)
		}
		if len(window) == 0 {
			return nil
		}
		var changed []batch.Entry
		for _, e := range window {
			again, err := d.addressMails(ctx, &e)
			if err != nil {
				return err
			}
			if again {
				changed = append(changed, e)
			}
		}
		if err := d.Ledger.Drafting(d.Batch.ID).Decide(ctx, changed); err != nil {
			return err
		}
	}
}

func (d *making) addressMails(ctx context.Context, e *batch.Entry) (changed bool, err error) {
	var steps []membership.Step
	for _, s := range e.Steps {
		if s.Do != membership.Notify || s.Row == 0 {
			steps = append(steps, s)
			continue
		}
		changed = true
		text := ""
		for other, err := range d.Ledger.Entries(ctx, d.Batch.ID, entryAt(s.Row)) {
			if err != nil {
				return false, err
			}
			if other.Outcome != account.Refused {
				text = other.Left()["email"].Text()
			}
		}
		to, why := address(text)
		if why != "" {
			e.Find(account.Warning, account.NoticeNotWritten, "", "", fmt.Sprintf("the mail “%s” is not sent: of the account in row %d, %s", s.Name, s.Row, why))
			continue
		}
		var m mail.Mail
		if err := json.Unmarshal([]byte(s.Sent), &m); err != nil {
			return false, err
		}
		m.To = to
		readdressed, err := json.Marshal(m)
		if err != nil {
			return false, err
		}
		s.To, s.Row, s.Sent = to, 0, string(readdressed)
		steps = append(steps, s)
	}
	e.Steps = steps
	return changed, nil
}

// address sees that a text is one address and nothing else.
func address(text string) (to, why string) {
	if text == "" {
		return "", "there is no address"
	}
	at, err := netmail.ParseAddress(text)
	if err != nil || at.Name != "" || at.Address != text {
		return "", fmt.Sprintf("“%s” is not one address", text)
	}
	return text, ""
}

// Preview writes the mail of a notice for a row as it would go if its account were looked at
// now; why says what keeps it from going.
func Preview(m *mapping.Mapper, notice *brief.Notice, w *mapping.Wanted) (written mail.Mail, why string, err error) {
	n := &notices{brief: m.Brief(), index: batch.NewIndex(nil, nil), worker: m.NewWorker()}
	e := &batch.Entry{Row: w.Row}
	step, why := n.mail(notice, e, w)
	if step == nil && notice.To.Field >= 0 && why != "" {
		// Whom the sheet alone does not tell.
		anyone := *notice
		anyone.To = brief.Recipient{Address: "somebody@example.invalid", Field: -1}
		step, _ = n.mail(&anyone, e, w)
	}
	if step == nil {
		return mail.Mail{}, why, nil
	}
	err = json.Unmarshal([]byte(step.Sent), &written)
	if why != "" {
		written.To = ""
	}
	return written, why, err
}
