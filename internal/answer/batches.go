package answer

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
)

// Batches are those of a ledger, newest first.
type Batches struct {
	Batches []batch.Batch
	Heads   []report.Head // of each
	Of      int           // that there are
	Working []store.At
	Now     time.Time
}

// Document implements Answer.
func (s Batches) Document(context.Context) any {
	return map[string]any{"batches": s.Heads, "working": s.Working}
}

// Draw implements Answer.
func (s Batches) Draw(_ context.Context, page *report.Page) error {
	if len(s.Batches) == 0 && s.Of > 0 {
		page.Line("None of the %s is such a one.", report.Counted(s.Of, "batch", "batches"))
		page.Next("evenledger batches")
		return nil
	}
	if len(s.Batches) == 0 {
		page.Line("No batch has been drafted in this workspace yet.")
		s.working(page)
		page.Next("evenledger draft SHEET -b BRIEF")
		return nil
	}
	s.lines(page)
	s.carriedOut(page)
	s.working(page)
	page.Next(fmt.Sprintf("evenledger show %d", s.Heads[0].Batch))
	return nil
}

// lines lists batches, a line each.
func (s Batches) lines(page *report.Page) {
	all, heads := s.Batches, s.Heads
	widest := 9
	for _, h := range heads {
		widest = max(widest, len(h.State))
	}
	table := page.Listing(report.Column{Title: "batch", Width: 5, Right: true}, report.Column{Title: "state", Width: widest}, report.Column{Title: "drafted", Width: 17, Rank: 2}, report.Column{Title: "by", Width: 8, Rank: 3}, report.Column{Title: "sheet", Width: 18}, report.Column{Title: "system", Width: 10, Rank: 1},
		report.Column{Title: "rows", Width: 5, Right: true}, report.Column{Title: "done", Width: 5, Right: true}, report.Column{Title: "waiting", Width: 7, Right: true}, report.Column{Title: "to fix", Width: 6, Right: true}, report.Column{Title: "proven", Width: 7, Right: true, Rank: 4})
	for i, h := range heads {
		bad := h.Outcomes["refused"] + h.Outcomes["failed"] - h.Corrected
		table.Row(report.Cell{Text: strconv.Itoa(h.Batch)}, report.Cell{Text: string(h.State)}, report.Cell{Text: all[i].Made.Local().Format("2 Jan 2006 15:04")}, report.Cell{Text: h.By}, report.Cell{Text: h.Sheet}, report.Cell{Text: h.System},
			report.Cell{Text: report.Number(h.Rows)}, report.Cell{Text: report.Number(h.Rows - bad - h.Outcomes["waiting"] - h.Outcomes[string(account.HandedOver)])}, report.Cell{Text: report.Number(h.Outcomes["waiting"])}, badCell(page, bad), page.ProvenOf(&all[i]))
	}
}

// carriedOut sums up the batches that were carried out.
func (s Batches) carriedOut(page *report.Page) {
	heads := s.Heads
	sum, corrected := map[account.Outcome]int{}, 0
	for _, h := range heads {
		if slices.Contains([]batch.State{batch.Posting, batch.Stopped, batch.Posted, batch.Handed, batch.Reversed}, h.State) {
			corrected += h.Corrected
			for outcome, n := range h.Outcomes {
				sum[account.Outcome(outcome)] += n
			}
		}
	}
	if len(heads) > 1 && len(sum) > 0 {
		var parts []string
		for _, outcome := range account.Outcomes() {
			if sum[outcome] > 0 {
				parts = append(parts, report.Number(sum[outcome])+" "+string(outcome))
			}
		}
		page.Line("")
		said := "Carried out in all: " + strings.Join(parts, ", ") + "."
		if corrected > 0 {
			said += fmt.Sprintf(" Of those refused or failed, %s handed back in.", report.Counted(corrected, "was", "were"))
		}
		page.Text(page.Dim, said)
	}
}

// working tells who is at which batch.
func (s Batches) working(page *report.Page) {
	if len(s.Working) == 0 {
		return
	}
	page.Line("")
	page.Line("%s", page.Bold("At work"))
	for _, at := range s.Working {
		heard := report.Styled("")
		if until := at.Until; until.Before(s.Now) {
			heard = page.Level(account.Warning, "  not heard of: its work is free for others")
		}
		page.Line("%5d  %s, since %s%s", at.Batch, at.Who, at.Began.Local().Format("15:04:05"), heard)
	}
}

// badCell is how many rows are still to be put right, in red.
func badCell(page *report.Page, n int) report.Cell {
	cell := report.Cell{Text: report.Number(n)}
	if n > 0 {
		cell.Style = func(text string) report.Styled { return page.Level(account.Error, text) }
	}
	return cell
}
