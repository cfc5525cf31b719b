package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
)

func (a *front) batchesCommand() *cobra.Command {
	var only batchesOf
	cmd := &cobra.Command{
		Use:     "batches",
		GroupID: "look",
		Short:   "List every batch so far, newest first",
		Long: `Lists every batch, newest first, with what became of its rows, and those that were carried
out in one sum.
With flags: only those of a system, of a sheet (in whose name * stands for anything), in a state, drafted since a day.`,
		Example: "  evenledger batches\n  evenledger batches --system crewdesk --state drafted\n  evenledger batches --sheet 'start*' --since 2027-03-01\n  evenledger batches --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			ctx := cmd.Context()
			_, l, err := a.OpenLedger(ctx, true)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			all, err := l.Batches(ctx)
			if err != nil {
				return err
			}
			every := len(all)
			fixed, err := corrections(ctx, l, all)
			if err != nil {
				return err
			}
			if all, err = only.of(all); err != nil {
				return err
			}
			heads := make([]report.Head, len(all))
			for i := range all {
				counts, _, err := l.Counts(ctx, all[i].ID)
				if err != nil {
					return err
				}
				heads[i] = report.NewHead(&all[i], counts)
				heads[i].Corrected = len(fixed[all[i].ID])
			}
			working, err := l.Working(ctx)
			if err != nil {
				return err
			}
			working = slices.DeleteFunc(working, func(at store.At) bool { return at.Batch < 0 })
			if a.json {
				return a.writeJSON(map[string]any{"batches": heads, "working": working})
			}
			page := a.page()
			if len(all) == 0 && every > 0 {
				page.Line("None of the %s is such a one.", counted(every, "batch", "batches"))
				page.Next("evenledger batches")
				return page.Err()
			}
			if len(all) == 0 {
				page.Line("No batch has been drafted in this workspace yet.")
				a.working(page, working)
				page.Next("evenledger draft SHEET -b BRIEF")
				return page.Err()
			}
			batchLines(page, all, heads)
			carriedOut(page, heads)
			a.working(page, working)
			page.Next(fmt.Sprintf("evenledger show %d", heads[0].Batch))
			return page.Err()
		},
	}
	cmd.Flags().StringVar(&only.system, "system", "", "only batches for this `SYSTEM`")
	cmd.Flags().StringVar(&only.sheet, "sheet", "", "only batches of this `SHEET`; * stands for anything")
	cmd.Flags().StringVar(&only.state, "state", "", "only batches in this `STATE`, such as drafted or posted")
	completeFlag(cmd, "system", a.completeSystems)
	completeFlag(cmd, "state", oneOf(listedStates()...))
	cmd.Flags().StringVar(&only.since, "since", "", "only batches drafted on this `DAY` or later, such as 2027-03-01")
	return cmd
}

// batchLines lists batches, a line each.
func batchLines(page *report.Page, all []batch.Batch, heads []report.Head) {
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
func carriedOut(page *report.Page, heads []report.Head) {
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
			said += fmt.Sprintf(" Of those refused or failed, %s handed back in.", counted(corrected, "was", "were"))
		}
		page.Text(page.Dim, said)
	}
}

// listedStates are the states in which batches are listed.
func listedStates() (names []string) {
	for _, state := range []batch.State{batch.Drafted, batch.Posting, batch.Stopped, batch.Handed, batch.Posted, batch.Reversed, batch.Withdrawing, batch.Withdrawn} {
		names = append(names, string(state))
	}
	return names
}

// batchesOf says which batches are listed.
type batchesOf struct{ system, sheet, state, since string }

// of picks batches.
func (o batchesOf) of(all []batch.Batch) ([]batch.Batch, error) {
	var since time.Time
	if o.since != "" {
		var err error
		if since, err = time.ParseInLocation(time.DateOnly, o.since, time.Local); err != nil {
			return nil, wrong(fmt.Sprintf("“%s” is no day", o.since), "Write it as year-month-day, such as 2027-03-01.")
		}
	}
	if states := listedStates(); o.state != "" && !slices.Contains(states, o.state) {
		return nil, wrong(fmt.Sprintf("no batch is ever “%s”", o.state), fmt.Sprintf("The states are %s.", strings.Join(states, ", ")))
	}
	if _, err := path.Match(o.sheet, ""); err != nil {
		return nil, wrong(fmt.Sprintf("“%s” is no name of sheets", o.sheet), "Write a name, in which * stands for anything.")
	}
	return slices.DeleteFunc(all, func(b batch.Batch) bool {
		is, _ := path.Match(o.sheet, b.Sheet) // it was looked at above
		return o.system != "" && b.System != o.system || o.sheet != "" && !is || o.state != "" && string(b.State) != o.state || b.Made.Before(since)
	}), nil
}

// working tells who is at which batch.
func (a *front) working(page *report.Page, working []store.At) {
	if len(working) == 0 {
		return
	}
	page.Line("")
	page.Line("%s", page.Bold("At work"))
	for _, at := range working {
		heard := report.Styled("")
		if until := at.Until; until.Before(a.Clock.Now()) {
			heard = page.Level(account.Warning, "  not heard of: its work is free for others")
		}
		page.Line("%5d  %s, since %s%s", at.Batch, at.Who, at.Began.Local().Format("15:04:05"), heard)
	}
}

// corrections finds, of each batch, the refused and failed rows that were corrected
// since: by batches made from its fix sheet, or from those' own.
func corrections(ctx context.Context, l store.Store, newestFirst []batch.Batch) (map[int]map[int]bool, error) {
	fixed := map[int]map[int]bool{}
	for _, b := range newestFirst {
		_, column := sheet.FixesOf(b.Headings)
		of := b.Corrects // of a set's fix sheet, which names the first batch, that of the same system
		if of == 0 || column < 0 || b.Posted.IsZero() {
			continue
		}
		for e, err := range l.Entries(ctx, b.ID, store.Filter{Cells: true}) {
			if err != nil {
				return nil, err
			}
			bad := e.Outcome.IsBad() || e.Outcome.Waits() || e.Outcome == account.Aside
			if column >= len(e.Cells) || bad && !fixed[b.ID][e.Row] {
				continue
			}
			if row, err := strconv.Atoi(e.Cells[column]); err == nil {
				if fixed[of] == nil {
					fixed[of] = map[int]bool{}
				}
				fixed[of][row] = true
			}
		}
	}
	for i := range newestFirst { // a row that nobody had to correct was not
		rows := fixed[newestFirst[i].ID]
		if len(rows) == 0 {
			continue
		}
		bad := map[int]bool{}
		for e, err := range l.Entries(ctx, newestFirst[i].ID, store.Filter{Outcomes: account.Bad()}) {
			if err != nil {
				return nil, err
			}
			bad[e.Row] = true
		}
		maps.DeleteFunc(rows, func(row int, _ bool) bool { return !bad[row] })
	}
	return fixed, nil
}

// correctedBy tells which batches corrected rows of this one.
func (a *front) correctedBy(ctx context.Context, page *report.Page, l store.Store, b *batch.Batch) error {
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
	fixed, err := corrections(ctx, l, all)
	if err != nil {
		return err
	}
	slices.Reverse(by)
	page.Line("")
	page.Line("Its fix sheet was handed back in as batch %s: %s corrected.", strings.Join(by, ", "), counted(len(fixed[b.ID]), "row is", "rows are"))
	return nil
}

// badCell is how many rows are still to be put right, in red.
func badCell(page *report.Page, n int) report.Cell {
	cell := report.Cell{Text: report.Number(n)}
	if n > 0 {
		cell.Style = func(text string) report.Styled { return page.Level(account.Error, text) }
	}
	return cell
}
