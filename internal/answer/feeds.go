package answer

import (
	"context"
	"fmt"

	"evenledger/internal/app"
	"evenledger/internal/feed"
	"evenledger/internal/report"
)

// Feeds are those of a workspace, with what each brought last.
type Feeds []app.Feed

// Document implements Answer.
func (all Feeds) Document(context.Context) any { return map[string]any{"feeds": []app.Feed(all)} }

// Draw implements Answer.
func (all Feeds) Draw(_ context.Context, page *report.Page) error {
	if len(all) == 0 {
		page.Line("No feed stands in evenledger.yaml.")
		page.Next("evenledger init --schema    # what may stand there")
		return nil
	}
	page.Line("%s", page.Dim(fmt.Sprintf("  %s %s %s %s %s", report.Pad("feed", 14), report.Pad("kind", 7), report.Pad("brought last", 18), report.Pad("what", 28), "batch")))
	for _, f := range all {
		when, what, of := "nothing yet", "", ""
		if f.Last != nil {
			when, what, of = f.Last.Brought.Local().Format("2 Jan 2006 15:04"), fmt.Sprintf("%s, %s bytes", f.Last.Name, report.Number(int(f.Last.Size))), fmt.Sprintf("%d, %s", f.Batch, f.State)
		}
		page.Line("  %s %s %s %s %s", page.Bold(report.Pad(report.Clip(f.Name, 14), 14)), report.Pad(f.Kind, 7), report.Pad(when, 18), report.Pad(report.Clip(what, 28), 28), of)
		page.Line("  %s", page.Dim(report.Clip(f.Address, 90)))
	}
	page.Next("evenledger peek " + feed.Prefix + all[0].Name)
	return nil
}
