package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/report"
)

func (a *app) batchesCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "batches",
		GroupID: "look",
		Short:   "List every batch so far, newest first",
		Example: "  evenledger batches\n  evenledger batches --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			ctx := cmd.Context()
			_, l, err := a.openLedger(ctx)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			all, err := l.Batches(ctx)
			if err != nil {
				return err
			}
			heads := make([]report.Head, len(all))
			for i := range all {
				counts, _, err := l.Counts(ctx, all[i].ID)
				if err != nil {
					return err
				}
				heads[i] = report.NewHead(&all[i], counts)
			}
			if a.json {
				return a.writeJSON(map[string]any{"batches": heads})
			}
			page := a.page()
			if len(all) == 0 {
				page.Line("No batch has been drafted in this workspace yet.")
				page.Next("evenledger draft SHEET -b BRIEF")
				return page.Err()
			}
			page.Line("%s", page.Dim(fmt.Sprintf("%5s  %-8s %-17s  %s  %s  %s  %7s %7s %7s %7s", "batch", "state", "drafted", report.Pad("by", 10), report.Pad("sheet", 24), report.Pad("system", 12), "rows", "done", "waiting", "to fix")))
			for i, h := range heads {
				bad := h.Outcomes["refused"] + h.Outcomes["failed"]
				page.Line("%5d  %-8s %-17s  %s  %s  %s  %7s %7s %7s %s", h.Batch, string(h.State), all[i].Made.Local().Format("2 Jan 2006 15:04"),
					report.Pad(report.Clip(h.By, 10), 10), report.Pad(report.Clip(h.Sheet, 24), 24), report.Pad(h.System, 12),
					report.Number(h.Rows), report.Number(h.Rows-bad-h.Outcomes["waiting"]), report.Number(h.Outcomes["waiting"]), badCount(page, bad))
			}
			page.Next(fmt.Sprintf("evenledger show %d", heads[0].Batch))
			return page.Err()
		},
	}
}

func badCount(page *report.Page, n int) report.Styled {
	text := fmt.Sprintf("%7s", report.Number(n))
	if n == 0 {
		return report.Styled(text)
	}
	return page.Level(account.Error, text)
}
