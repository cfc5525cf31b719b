package answer

import (
	"context"

	"evenledger/internal/app"
	"evenledger/internal/report"
)

// Exported are accounts that were written to a sheet.
type Exported app.Exported

// Document implements Answer.
func (e Exported) Document(context.Context) any {
	return map[string]any{"system": e.System, "file": e.File, "accounts": e.Export.Looked, "rows": e.Rows, "headings": e.Export.Headings(), "note": e.Left}
}

// Draw implements Answer.
func (e Exported) Draw(_ context.Context, page *report.Page) error {
	if e.Export.Each != "" {
		page.Line("%s: %s %s of %s, a row each.", e.File, report.Number(e.Rows), e.Export.Each, e.System)
		page.Next("evenledger draft " + report.Quoted(e.File) + " --system " + e.System)
		return nil
	}
	page.Line("%s: %s of the %s %s of %s, with %d columns.", e.File, report.Number(e.Rows), report.Number(e.Export.Looked), report.Plural(e.Export.Looked, "account", "accounts"), e.System, len(e.Export.Headings()))
	page.Line("Edit it and hand it back in; a cell that you empty leaves its field as it is. The last column says")
	page.Line("which account a row is, whatever else of it you change.")
	if e.Left != "" {
		page.Text(page.Dim, e.Left)
	}
	page.Next("evenledger draft " + report.Quoted(e.File) + " --system " + e.System)
	return nil
}
