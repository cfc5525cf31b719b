package answer

import (
	"context"
	"fmt"

	"evenledger/internal/app"
	"evenledger/internal/report"
)

// Pairs are sheets of candidates, one for each system that could be asked.
type Pairs struct {
	Files []string
	Came  map[string]*app.Pairing // by system
	Draft string                  // the command that takes the sheet again
}

// Add adds the sheet of one system, and tells it.
func (p *Pairs) Add(page *report.Page, system, file string, came *app.Pairing) {
	p.Files, p.Came[system] = append(p.Files, file), came
	pairing(page, system, file, came)
}

// Document implements Answer.
func (p Pairs) Document(context.Context) any {
	return map[string]any{"files": p.Files, "systems": p.Came}
}

// Draw implements Answer. What each sheet came to was told as it was written.
func (p Pairs) Draw(_ context.Context, page *report.Page) error {
	if len(p.Files) == 0 {
		return nil
	}
	page.Line("")
	page.Text(page.Dim, "Answer in the column “Answer”: yes for the first, 2 or 3 for another, new for nobody, or a user name. What is left blank is refused.")
	draft := p.Draft
	for _, file := range p.Files {
		draft += " --pairs " + report.Quoted(file)
	}
	page.Next(draft)
	return nil
}

// pairing tells what looking for candidates in one system came to.
func pairing(page *report.Page, system, file string, p *app.Pairing) {
	page.Line("%s", page.Bold(fmt.Sprintf("%s: whom the rows may mean in %s", file, system)))
	page.Account([]report.Side{{Label: "Rows in", N: p.Rows}}, []report.Side{{Label: "Found by a key", N: p.Known}, {Label: "With candidates", N: p.Candidates}, {Label: "Without any", N: p.Without}, {Label: "Set aside", N: p.Aside}})
	if len(p.First) == 0 {
		return
	}
	page.Line("")
	table := page.Listing(report.Column{Title: "row", Width: 5, Right: true}, report.Column{Title: "says", Width: 26}, report.Column{Title: "may be", Width: 30}, report.Column{Title: "sure", Width: 5, Right: true}, report.Column{Title: "why", Rank: 1})
	for _, c := range p.First {
		may, sure, why := report.Cell{Text: "nobody that is known", Style: page.Dim}, "", ""
		if len(c.Best) > 0 {
			may, sure, why = report.Cell{Text: c.Label}, fmt.Sprintf("%d %%", c.Best[0].Sure), c.Best[0].Why
		}
		table.Row(report.Cell{Text: fmt.Sprint(c.Row)}, report.Cell{Text: c.Key}, may, report.Cell{Text: sure}, report.Cell{Text: why, Style: page.Dim})
	}
	if more := p.Candidates + p.Without - len(p.First); more > 0 {
		page.Line("  %s", page.Dim(fmt.Sprintf("… and %s more in the sheet", report.Number(more))))
	}
}
