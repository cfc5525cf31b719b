package answer

import (
	"context"
	"fmt"

	"evenledger/internal/app"
	"evenledger/internal/report"
)

// A Cut is a sheet that was cut into files.
type Cut struct{ *app.Cut }

// Document implements Answer.
func (c Cut) Document(context.Context) any {
	files := c.Files
	if files == nil {
		files = []app.Piece{}
	}
	return map[string]any{"rows": c.Rows, "left": c.Left, "files": files}
}

// Draw implements Answer.
func (c Cut) Draw(_ context.Context, page *report.Page) error {
	in := 0
	for _, f := range c.Files {
		page.Line("%s  %s", report.Pad(f.File, 40), page.Dim(fmt.Sprintf("%s %s, %d to %d of the sheet", report.Number(f.Rows), report.Plural(f.Rows, "row", "rows"), f.From, f.To)))
		in += f.Rows
	}
	page.Account([]report.Side{{Label: "Rows in", N: c.Rows}}, []report.Side{{Label: fmt.Sprintf("In %d %s", len(c.Files), report.Plural(len(c.Files), "file", "files")), N: in}, {Label: "Left out", N: c.Left}})
	if len(c.Files) > 0 {
		page.Next("evenledger check " + report.Quoted(c.Files[0].File))
	}
	return nil
}
