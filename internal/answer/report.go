package answer

import (
	"context"
	"fmt"

	"evenledger/internal/app"
	"evenledger/internal/report"
)

// A Report is what became of the rows of batches, as it was written to a file.
type Report struct{ app.Report }

// Document implements Answer.
func (r Report) Document(context.Context) any {
	if len(r.Of.Batches) > 1 {
		return map[string]any{"set": r.Of.Name, "file": r.File, "rows": r.Rows}
	}
	return map[string]any{"batch": r.Of.Batches[0].ID, "file": r.File, "rows": r.Rows}
}

// Draw implements Answer.
func (r Report) Draw(_ context.Context, page *report.Page) error {
	of := fmt.Sprintf("of batch %d", r.Of.Batches[0].ID)
	if n := len(r.Of.Batches); n > 1 {
		of = fmt.Sprintf("in %d systems", n)
	}
	page.Line("%s: what became of %s %s %s.", r.File, report.Number(r.Rows), report.Plural(r.Rows, "row", "rows"), of)
	page.Next("evenledger show " + r.Of.Numbers())
	return nil
}

// Fixes are rows that were refused or failed, written to a sheet to be corrected.
type Fixes struct{ app.Fixes }

// Document implements Answer.
func (f Fixes) Document(context.Context) any {
	return map[string]any{"batch": f.Of.Batches[0].ID, "file": f.File, "rows": f.Rows}
}

// Draw implements Answer.
func (f Fixes) Draw(_ context.Context, page *report.Page) error {
	b := f.Of.Batches[0]
	if f.Rows == 0 {
		page.Line("No row of batch %s was refused or failed, so no sheet was written.", f.Of.Numbers())
	} else {
		page.Line("%s: %d %s to correct, with the reasons at the right.", f.File, f.Rows, report.Plural(f.Rows, "row", "rows"))
	}
	for i, left := range f.Left {
		if left.Any() {
			id := f.Of.Batches[i].ID
			page.Text(page.Plain, fmt.Sprintf("Of batch %d, and in no sheet as no row has to be corrected for it: %s. “evenledger notices %d” lists the mails; “evenledger post %d --again” does the follow-ups once more.", id, left, id, id))
		}
	}
	if f.Rows == 0 {
		return nil
	}
	draft := "evenledger draft " + f.File
	if b.Brief != "" {
		draft += " -b " + b.Brief
	}
	if b.Set != "" && len(f.Of.Batches) > 1 {
		draft += " --system " + b.Set
	}
	page.Next(draft)
	return nil
}
