package answer

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/report"
)

// A FirstBrief is one that was guessed for a sheet.
type FirstBrief struct {
	*app.FirstBrief
	Sheet string // as the command named it
}

// Document implements Answer.
func (f FirstBrief) Document(context.Context) any {
	columns := len(f.Source.Profile.Columns)
	switch {
	case f.Path == app.OnlyShown:
		return map[string]any{"brief": f.Text}
	case f.Source.Keyless:
		return map[string]any{"file": f.Path, "brief": f.Name, "columns": columns, "match": []string{}}
	}
	return map[string]any{"file": f.Path, "brief": f.Name, "fields": len(f.Brief.Fields), "columns": columns, "used": f.used(), "match": f.Brief.Match}
}

// used is how many of the columns fields are taken from.
func (f FirstBrief) used() (n int) {
	for _, field := range f.Brief.Fields {
		if field.From != "" {
			n++
		}
	}
	return n
}

// Draw implements Answer.
func (f FirstBrief) Draw(_ context.Context, page *report.Page) error {
	if f.Path == app.OnlyShown {
		_, err := fmt.Fprint(page.W, f.Text)
		return err
	}
	named := report.Quoted(f.Name)
	if f.Source.Keyless {
		page.Line("%s is begun, and to be completed: no column is a sure key, so nothing says which row is whose.", f.Path)
		page.Line("Look for “match” in it; what is not sure stands there as a comment.")
		page.Next("evenledger brief check " + named + "    # once “match” is there")
		return nil
	}
	shown := f.Path
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, f.Path); err == nil && len(rel) < len(f.Path) {
			shown = rel
		}
	}
	page.Line("%s: %d fields from %d of %d columns. Accounts are found by %s.", shown, len(f.Brief.Fields), f.used(), len(f.Source.Profile.Columns), strings.Join(f.Brief.Match, ", then "))
	page.Line("Read it line by line before you use it; what was guessed says so.")
	first := 2
	if f.Source.Info.HeadingRow > 0 {
		first = f.Source.Info.HeadingRow + 1
	}
	page.Next(fmt.Sprintf("evenledger brief try %s -b %s --row %d", report.Quoted(f.Sheet), named, first), fmt.Sprintf("evenledger check %s -b %s", report.Quoted(f.Sheet), named))
	return nil
}
