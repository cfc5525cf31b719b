package answer

import (
	"context"
	"io"
	"iter"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

// Checked is what checking a sheet came to, for each system that could be asked: one, or those of a set.
type Checked struct {
	Set  string
	All  []app.Checked
	Left []string // what is left to which system
	Out  string   // where the sheet was written with its faults marked; empty: nowhere
	Next string   // what may be typed next
}

// Document implements Answer.
func (c *Checked) Document(context.Context) any {
	all := c.All
	if all == nil {
		all = []app.Checked{}
	}
	return map[string]any{"set": c.Set, "systems": all}
}

// Fine tells how many rows are refused, and whether all of the sheet was read.
func (c *Checked) Fine() (bad int, even bool) {
	even = true
	for _, one := range c.All {
		bad, even = max(bad, one.Refused), even && one.Even
	}
	return bad, even
}

// Draw implements Answer.
func (c *Checked) Draw(_ context.Context, page *report.Page) error {
	of := c.All[0].Job
	page.Line("%s", About(of.Sheet.Info()))
	page.Read(of.Sheet.Info().Read)
	sides := func(i int) []report.Side {
		return []report.Side{{Label: "Fine", N: c.All[i].Fine}, {Label: "Set aside", N: c.All[i].Aside}, {Label: "Refused", N: c.All[i].Refused}}
	}
	set := report.Set{Name: c.Set}
	var systems []string
	var causes []*report.Causes
	for i := range c.All {
		one := &c.All[i]
		systems, causes, set.Batches = append(systems, one.System), append(causes, one.Causes), append(set.Batches, one.Draft())
	}
	if c.Set == "" {
		if !of.Named {
			ReadAs(page, of)
		}
		page.Account([]report.Side{{Label: "Rows in", N: c.All[0].Rows}}, sides(0))
	} else {
		page.Line("")
		page.Sides(set, false, sides, page.Bold("even"))
	}
	for _, line := range c.Left {
		page.Line("  %s", page.Dim(line))
	}
	page.Findings(report.Together(systems, causes))
	if c.Out != "" {
		page.Line("")
		page.Line("%s has the sheet with the reasons beside each row.", c.Out)
	}
	page.Next(c.Next)
	return nil
}

// CheckStream is the document of a sheet that is checked for one system: the counts are known only after its findings, so they
// stand at the end.
func CheckStream(c *app.Checked, found iter.Seq2[account.Finding, error]) Stream {
	return func(w io.Writer) error {
		info := c.Job.Sheet.Info()
		info.Read = sheet.Tally{} // it stands at the end, once all is read
		head := map[string]any{"sheet": info, "columns": c.Job.Mapper.Columns()}
		return report.WriteJSON(w, head, "findings", found, func() any {
			read := c.Job.Sheet.Info()
			return map[string]any{"read": read.Read, "rows": c.Rows, "fine": c.Fine, "aside": c.Aside, "refused": c.Refused, "encoding": read.Encoding}
		})
	}
}
