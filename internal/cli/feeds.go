package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/feed"
	"evenledger/internal/report"
)

func (a *front) feedsCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "feeds",
		GroupID: "look",
		Short:   "List where sheets come from, and what each brought last",
		Long: `Lists the feeds of evenledger.yaml. Nobody is asked: what stands here is what the ledger has
of them. “feed:NAME” stands wherever a sheet is named.`,
		Example: "  evenledger feeds\n  evenledger peek feed:hr\n  evenledger draft feed:hr -b starters",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			feeds, err := a.Feeds(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.writeJSON(map[string]any{"feeds": feeds})
			}
			page := a.page()
			if len(feeds) == 0 {
				page.Line("No feed stands in evenledger.yaml.")
				page.Next("evenledger init --schema    # what may stand there")
				return page.Err()
			}
			page.Line("%s", page.Dim(fmt.Sprintf("  %s %s %s %s %s", report.Pad("feed", 14), report.Pad("kind", 7), report.Pad("brought last", 18), report.Pad("what", 28), "batch")))
			for _, f := range feeds {
				when, what, of := "nothing yet", "", ""
				if f.Last != nil {
					when, what, of = f.Last.Brought.Local().Format("2 Jan 2006 15:04"), fmt.Sprintf("%s, %s bytes", f.Last.Name, report.Number(int(f.Last.Size))), fmt.Sprintf("%d, %s", f.Batch, f.State)
				}
				page.Line("  %s %s %s %s %s", page.Bold(report.Pad(report.Clip(f.Name, 14), 14)), report.Pad(f.Kind, 7), report.Pad(when, 18), report.Pad(report.Clip(what, 28), 28), of)
				page.Line("  %s", page.Dim(report.Clip(f.Address, 90)))
			}
			page.Next("evenledger peek " + feed.Prefix + feeds[0].Name)
			return page.Err()
		},
	}
}
