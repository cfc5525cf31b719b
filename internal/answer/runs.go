package answer

import (
	"context"
	"fmt"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

// Runs are those of a ledger, newest first.
type Runs []store.Run

// Document implements Answer.
func (all Runs) Document(context.Context) any {
	if all == nil {
		all = Runs{}
	}
	return map[string]any{"runs": all}
}

// Draw implements Answer.
func (all Runs) Draw(_ context.Context, page *report.Page) error {
	if len(all) == 0 {
		page.Line("No brief was run unattended in this workspace yet.")
		page.Next("evenledger run BRIEF --draft-only")
		return nil
	}
	for _, r := range all {
		runLine(page, r)
	}
	page.Next("evenledger batches")
	return nil
}

// A Ran is a run that has just ended, with the exit code that it asks for.
type Ran struct {
	store.Run
	Exit   int    `json:"exit"`
	Remedy string `json:"remedy,omitempty"`
}

// Ended are the runs of one command.
type Ended struct {
	Runs  []Ran
	Batch *Batch // of the only one; nil: none was drafted, or there are several
}

// Document implements Answer.
func (e *Ended) Document(context.Context) any { return map[string]any{"runs": e.Runs} }

// Draw implements Answer.
func (e *Ended) Draw(ctx context.Context, page *report.Page) error {
	next := "evenledger runs"
	for _, one := range e.Runs {
		runLine(page, one.Run)
		if one.Remedy != "" {
			page.Text(page.Dim, "  → "+one.Remedy)
		}
		if one.Batch > 0 {
			next = fmt.Sprintf("evenledger show %d", one.Batch)
		}
	}
	if e.Batch != nil {
		page.Line("")
		if err := e.Batch.Draw(ctx, page); err != nil {
			return err
		}
	}
	page.Next(next)
	return nil
}

// runLine says what a run came to.
func runLine(page *report.Page, r store.Run) {
	level := map[store.Ending]account.Level{store.RunHeld: account.Error, store.RunFailed: account.Error}[r.Came]
	came := string(r.Came)
	if r.Came == store.RunFailed && r.Ended.IsZero() {
		came = "under way, or killed"
	}
	said := report.Styled(came)
	if level != "" {
		said = page.Level(level, came)
	}
	page.Line("%s  %s · %s", page.Bold(report.Pad(report.Clip(r.Brief, 18), 18)), said, page.Dim(r.Began.Local().Format("2 Jan 2006 15:04")+" by "+r.By))
	if r.Batch > 0 {
		parts := []string{fmt.Sprintf("batch %d of %s", r.Batch, r.Sheet)}
		for _, outcome := range account.Outcomes() {
			if n := r.Outcomes[outcome]; n > 0 {
				parts = append(parts, fmt.Sprintf("%s %s", report.Number(n), outcome))
			}
		}
		page.Text(page.Plain, "  "+strings.Join(parts, ", "))
	}
	if r.Message != "" {
		page.Text(page.Plain, "  "+r.Message)
	}
	if r.Settled != "" {
		page.Text(page.Plain, "  settled: "+r.Settled)
	}
	if r.Handed != "" {
		page.Text(page.Plain, "  "+r.Handed)
	}
	if r.Remains != "" {
		page.Text(func(s string) report.Styled { return page.Level(account.Warning, s) }, "  "+r.Remains)
	}
}

// Late are the briefs whose last run that went well is longer ago than an age.
type Late struct {
	Briefs []app.LateBrief
	Of     int // that were ever run
	Age    string
}

// Document implements Answer.
func (s Late) Document(context.Context) any {
	return map[string]any{"late": s.Briefs, "briefs": s.Of}
}

// Draw implements Answer.
func (s Late) Draw(_ context.Context, page *report.Page) error {
	switch {
	case s.Of == 0:
		page.Line("No brief was run unattended in this workspace yet.")
	case len(s.Briefs) == 0:
		page.Line("%s: the last good run of each is not older than %s.", report.Counted(s.Of, "brief is run", "briefs are run"), s.Age)
	}
	for _, l := range s.Briefs {
		good := "never went well"
		if !l.Good.IsZero() {
			good = "last went well " + l.Good.Local().Format("2 Jan 2006 15:04")
		}
		page.Line("  %s  %s; its last run, %s, %s", report.Pad(l.Brief, 20), good, l.Last.Began.Local().Format("2 Jan 2006 15:04"), strings.TrimSpace(string(l.Last.Came)+" "+l.Last.Message))
	}
	return nil
}

// A Timer is what has a scheduler run briefs.
type Timer app.Timer

// Document implements Answer.
func (t Timer) Document(context.Context) any {
	return map[string]any{"cron": t.Cron, "timer": map[string]string{"name": t.Name + ".timer", "text": t.Timer}, "service": map[string]string{"name": t.Name + ".service", "text": t.Service}}
}

// Draw implements Answer.
func (t Timer) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s", page.Bold("As a timer of systemd: /etc/systemd/system/"+t.Name+".timer"))
	page.Lines(t.Timer)
	page.Line("%s", page.Bold("and /etc/systemd/system/"+t.Name+".service"))
	page.Lines(t.Service)
	page.Line("%s", page.Bold("Or as a line of cron (crontab -e)"))
	page.Line("%s", t.Cron)
	page.Text(page.Dim, "A run that does not end is ended after "+t.Longest+". The journal has its exit code: 0, and every row is fine; 1, and rows are not; 3, and a system was away.")
	page.Text(page.Dim, "Secrets that evenledger.yaml looks for in the environment have to be there for whoever the scheduler runs it as; files are easier.")
	page.Next("sudo systemctl enable --now "+t.Name+".timer", "evenledger runs    # what became of them")
	return nil
}
