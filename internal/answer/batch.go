package answer

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

// A Batch is what a batch came to.
type Batch struct {
	Ledger store.Store
	Of     *batch.Batch
	Counts account.Counts
	Even   bool // every row is accounted for, as far as that was drawn
}

// NewBatch counts what a batch came to.
func NewBatch(ctx context.Context, l store.Store, b *batch.Batch) (Batch, error) {
	counts, _, err := l.Counts(ctx, b.ID)
	return Batch{Ledger: l, Of: b, Counts: counts, Even: true}, err
}

// Fine returns how many rows were refused or failed, and whether all are accounted for.
func (b *Batch) Fine() (bad int, even bool) { return b.Counts.Bad(), b.Even }

// Document implements Answer.
func (b *Batch) Document(ctx context.Context) any {
	return b.stream(ctx, report.NewHead(b.Of, b.Counts), store.Filter{})
}

func (b *Batch) stream(ctx context.Context, head report.Head, filter store.Filter) Stream {
	filter.Cells = true
	return func(w io.Writer) error {
		return report.WriteBatch(w, head, b.Of, b.Ledger.Entries(ctx, b.Of.ID, filter))
	}
}

// summary writes what stands at the head of every batch.
func (b *Batch) summary(ctx context.Context, page *report.Page, more []account.Finding, told func(batch.Entry) bool) (report.Came, error) {
	came, err := page.Batch(ctx, b.Ledger, b.Of, more, told)
	b.Even = came.Even
	return came, err
}

// Draw implements Answer.
func (b *Batch) Draw(ctx context.Context, page *report.Page) error {
	_, err := b.summary(ctx, page, nil, nil)
	return err
}

// A Draft is a batch that was just drafted.
type Draft struct {
	Batch
	Job  *app.Job
	More []account.Finding // about the sheet as a whole
	Way  system.Way        // in which accounts were looked up
}

// Draw implements Answer.
func (d *Draft) Draw(ctx context.Context, page *report.Page) error {
	b, j := d.Of, d.Job
	if !j.Named {
		ReadAs(page, j)
		page.Line("")
	}
	came, err := d.summary(ctx, page, d.More, nil)
	if err != nil {
		return err
	}
	page.Line("")
	looked := "by " + d.Way.String()
	if b.AsOf != "" {
		looked = b.AsOf
	}
	page.Text(page.Dim, fmt.Sprintf("%s Accounts were looked up %s.%s Nothing has been changed.", b.Policies, looked, taken(b)))
	if err := load(ctx, page, d.Ledger, b, j); err != nil {
		return err
	}
	if j.Brief.Gone != "" && b.Taken != "" {
		page.Text(page.Dim, "As only a part was taken, accounts that are not listed were not looked for.")
	}
	if held(page, b) {
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
	} else if toSign(page, b, came.ToDo(), false) {
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
	return nil
}

// A Reversal is a batch that was drafted to undo another.
type Reversal struct {
	Batch
	Undoes *batch.Batch
}

// Draw implements Answer.
func (r *Reversal) Draw(ctx context.Context, page *report.Page) error {
	b, of := r.Of, r.Undoes
	came, err := r.summary(ctx, page, nil, nil)
	if err != nil {
		return err
	}
	if came.ToDo() == 0 {
		page.Makes(b)
	}
	page.Line("")
	page.Text(page.Dim, b.Policies+" Nothing has been changed.")
	if of.State != batch.Posted {
		page.Text(func(text string) report.Styled { return page.Level(account.Warning, text) }, fmt.Sprintf("Batch %d was not carried out to its end: what still waits in it is not touched.", of.ID))
	}
	var stay []string
	for _, m := range of.Makes {
		if m.Section != "" {
			stay = append(stay, m.Title())
		}
	}
	if len(stay) > 0 {
		page.Text(page.Dim, fmt.Sprintf("Sections that batch %d added stay: %s.", of.ID, strings.Join(stay, "; ")))
	}
	if toSign(page, b, came.ToDo(), false) {
		page.Next(signNext(fmt.Sprint(b.ID)))
	} else if came.ToDo() > 0 || len(b.Unmakes) > 0 {
		page.Next(fmt.Sprintf("evenledger post %d", b.ID), fmt.Sprintf("evenledger post %d --trial 1    # one row first", b.ID))
	} else {
		page.Next(fmt.Sprintf("evenledger show %d", b.ID))
	}
	return nil
}

// A Posted is a batch that was just posted or settled.
type Posted struct {
	Batch
	Left   app.Remains
	Target workspace.System
	Dir    string // of the workspace
	Again  string // flags with which it is posted once more
}

// Draw implements Answer.
func (p *Posted) Draw(ctx context.Context, page *report.Page) error {
	b := p.Of
	// What the draft told is not told again.
	came, err := p.summary(ctx, page, nil, func(e batch.Entry) bool {
		return e.Outcome != account.Refused && e.Outcome != account.Aside || slices.ContainsFunc(e.Findings, func(f account.Finding) bool { return f.Code == account.Stale })
	})
	if err != nil {
		return err
	}
	left := p.Left
	if left.FollowUps+left.Mails > 0 {
		page.Line("")
		page.Line("%s", page.Level(account.Warning, "Left over: "+app.Remains{Mails: left.Mails, FollowUps: left.FollowUps}.String()+"."))
	}
	if n := came.Counts[account.Refused]; n > 0 {
		page.Line("")
		page.Line("%s", page.Dim(fmt.Sprintf("Refused rows and why: evenledger show %d --outcome refused", b.ID)))
	}
	if err := handedOver(ctx, page, p.Dir, p.Ledger, b, p.Target); err != nil {
		return err
	}
	next := nextAfter(b, came.Counts, p.Again)
	if left.FollowUps > 0 {
		next = append(next, fmt.Sprintf("evenledger post %d --again    # the follow-ups once more: look first", b.ID))
	}
	if left.Mails > 0 {
		next = append(next, fmt.Sprintf("evenledger notices %d", b.ID))
	}
	page.Next(next...)
	return nil
}

// GivenUp is a batch some of whose rows count as failed from now on.
type GivenUp struct {
	Batch
	Rows int
}

// Draw implements Answer.
func (g *GivenUp) Draw(_ context.Context, page *report.Page) error {
	id := g.Of.ID
	page.Line("%s of batch %d given up: failed, and looked for no more.", report.Counted(g.Rows, "row is", "rows are"), id)
	page.Next(fmt.Sprintf("evenledger post %d    # ends it", id), fmt.Sprintf("evenledger fixes %d -o again.csv", id))
	return nil
}

// Withdrawn is a draft that will not be posted.
type Withdrawn struct{ Batch }

// Draw implements Answer.
func (d *Withdrawn) Draw(_ context.Context, page *report.Page) error {
	b := d.Of
	page.Line("Batch %d is withdrawn: it can be looked at, and not be posted.", b.ID)
	if b.Secrets != "" {
		page.Line("The passwords it kept are destroyed.")
	}
	page.Next("evenledger batches")
	return nil
}

// A Shown is a batch that somebody looks at, or some of its entries in full.
type Shown struct {
	Batch
	Workspace *workspace.Workspace
	Filter    store.Filter
	Signed    []string // who countersigned it
}

// whole reports whether it is not about some of the entries.
func (s *Shown) whole() bool {
	return len(s.Filter.Outcomes)+len(s.Filter.Intents)+len(s.Filter.Rows) == 0
}

// Document implements Answer.
func (s *Shown) Document(ctx context.Context) any {
	return Stream(func(w io.Writer) (err error) {
		head := report.NewHead(s.Of, s.Counts)
		head.Countersigned = s.Signed
		if head.SignedBy, head.Doubts, err = app.Vouched(ctx, s.Workspace, s.Ledger, s.Of); err != nil {
			return err
		}
		return s.stream(ctx, head, s.Filter)(w)
	})
}

// Draw implements Answer.
func (s *Shown) Draw(ctx context.Context, page *report.Page) error {
	l, b, filter := s.Ledger, s.Of, s.Filter
	if s.whole() {
		if _, err := s.summary(ctx, page, nil, nil); err != nil {
			return err
		}
		if b.IsToBeSigned() || len(s.Signed) > 0 {
			page.Line("")
			page.Line("Countersigned by %s. Seal of the draft: %s", cmp.Or(strings.Join(s.Signed, " and "), "nobody yet"), shortSeal(b))
		}
		if err := vouch(ctx, page, s.Workspace, l, b); err != nil {
			return err
		}
		if err := correctedBy(ctx, page, l, b); err != nil {
			return err
		}
		page.Next(nextAfter(b, s.Counts, "")...)
		return nil
	}
	page.Title(b)
	filter.Cells = true
	found := 0
	for e, err := range l.Entries(ctx, b.ID, filter) {
		if err != nil {
			return err
		}
		page.Entry(e, b.Headings)
		steps, err := l.Attempts(ctx, b.ID, e.Row)
		if err != nil {
			return err
		}
		for _, s := range steps {
			line := fmt.Sprintf("%s  %s sent", s.Sent.Local().Format("15:04:05"), e.Intent)
			if !s.Ended.IsZero() {
				line += fmt.Sprintf(", settled %s: %s", s.Ended.Local().Format("15:04:05"), s.Result)
			}
			page.Line("    %s", page.Dim(line))
		}
		found++
	}
	if found == 0 {
		page.Line("")
		page.Line("  No entry of batch %d is like that.", b.ID)
	}
	return nil
}

// ReadAs writes how each column is read, for a sheet without a brief.
func ReadAs(page *report.Page, j *app.Job) {
	page.Line("")
	page.Line("%s", page.Bold("Without a brief, the headings are read as"))
	for _, c := range j.Mapper.Columns() {
		switch {
		case c.Heading == "":
			continue
		case len(c.Fields) > 0 && slices.Contains(brief.Kinds(), c.Fields[0]):
			what := "these are joined"
			if strings.HasPrefix(words.Key(c.Heading), words.Key(brief.All)) {
				what = "just these; others are left"
			}
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim(what))
		case len(c.Fields) > 0 && !j.Touches(c.Fields[0]):
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim("not touched"))
		case len(c.Fields) > 0:
			what := "a field of its own"
			if field, known := account.FieldNamed(c.Fields[0]); known {
				what = field.Label + ", " + field.Kind.String()
			}
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim(what))
		default:
			page.Line("  %s   %s", report.Pad(report.Clip(c.Heading, 28), 28), page.Dim("not used"))
		}
	}
}

// load tells how many requests a post would send, and how long that may take.
func load(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch, j *app.Job) error {
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

// held says why a batch may not be posted, if it may not.
func held(page *report.Page, b *batch.Batch) bool {
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

// toSign says who has to sign a batch before it is posted, if somebody has to. One of several is
// called by its system.
func toSign(page *report.Page, b *batch.Batch, waiting int, several bool) bool {
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

// shortSeal is the beginning of a batch's seal, which people compare.
func shortSeal(b *batch.Batch) string { return fmt.Sprintf("%.12s", b.Seal) }

// credentialsWanted stands in a command to type where a batch makes passwords.
const credentialsWanted = " --credentials FILE --to KEY"

// freeName proposes a file that is not there, of the kind the batch's sheet was.
func freeName(name string, b *batch.Batch) string {
	ending := ".csv"
	if b.Workbook {
		ending = ".xlsx"
	}
	for n := 1; ; n++ {
		path := name + ending
		if n > 1 {
			path = fmt.Sprintf("%s-%d%s", name, n, ending)
		}
		if _, err := os.Lstat(path); err != nil {
			return path
		}
	}
}

// nextAfter are the commands that suit a batch as it stands.
// flags are those that posting it needs, with a space before.
func nextAfter(b *batch.Batch, counts account.Counts, flags string) []string {
	var next []string
	if flags == "" && b.MakesPasswords() {
		flags = credentialsWanted
	}
	if counts.Waiting() > 0 && b.State == batch.Drafted && b.IsToBeSigned() {
		next = append(next, signNext(fmt.Sprint(b.ID))+", if nobody has")
	}
	later := counts.Elsewhere() > 0 && len(b.Files) == 0 // the system itself says what became of it
	if (counts.Waiting() > 0 || later) && b.State != batch.Withdrawn {
		next = append(next, fmt.Sprintf("evenledger post %d%s", b.ID, flags))
	}
	if counts.Elsewhere() > 0 && !later {
		next = append(next, fmt.Sprintf("evenledger settle %d", b.ID))
	}
	if counts.Bad() > 0 {
		next = append(next, fmt.Sprintf("evenledger fixes %d -o %s", b.ID, freeName("again", b)))
	}
	if len(next) == 0 {
		next = append(next, fmt.Sprintf("evenledger show %d", b.ID))
	}
	return next
}

// correctedBy tells which batches corrected rows of this one.
func correctedBy(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch) error {
	all, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	var by []string
	for i := range all {
		if all[i].Corrects == b.ID {
			by = append(by, fmt.Sprint(all[i].ID))
		}
	}
	if len(by) == 0 {
		return nil
	}
	fixed, err := app.Corrected(ctx, l, all)
	if err != nil {
		return err
	}
	slices.Reverse(by)
	page.Line("")
	page.Line("Its fix sheet was handed back in as batch %s: %s corrected.", strings.Join(by, ", "), report.Counted(len(fixed[b.ID]), "row is", "rows are"))
	return nil
}

// vouch tells it.
func vouch(ctx context.Context, page *report.Page, w *workspace.Workspace, l store.Store, b *batch.Batch) error {
	by, doubts, err := app.Vouched(ctx, w, l, b)
	if err != nil {
		return err
	}
	for _, doubt := range doubts {
		page.Line("")
		page.Line("%s", page.Level(account.Error, doubt))
	}
	if by != "" {
		page.Line("")
		page.Line("What became of it is signed by %s.", by)
	}
	return nil
}
