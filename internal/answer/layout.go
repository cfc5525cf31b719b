package answer

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"evenledger/internal/layout"
	"evenledger/internal/report"
)

// A Layout is one without mistakes.
type Layout struct {
	*layout.Layout
	Path, Today string
}

// Document implements Answer.
func (l Layout) Document(context.Context) any {
	return map[string]any{"layout": l.Name, "format": l.File.Format, "key": l.Key, "headings": l.Headings(), "memberships": l.Kinds(), "problems": []string{}}
}

// Draw implements Answer.
func (l Layout) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s is in order: files of %d columns, in which %s says whose a row is.", l.Path, len(l.Headings()), l.Key)
	page.Text(page.Plain, "Headings: "+strings.Join(l.Headings(), ", "))
	page.Line("A file of batch 17 would be called %s.", l.FileName(17, 1, "VALUE", l.Today))
	name := strings.TrimSuffix(filepath.Base(l.Path), filepath.Ext(l.Path))
	page.Next(fmt.Sprintf("evenledger fields %s    # once evenledger.yaml says: %s: {kind: files, layout: %s, accounts: EXPORT}", name, name, l.Path))
	return nil
}

// A First is the first text of a file that a person goes on with, made from another.
type First struct {
	What  string // it is of: a layout, a description
	Text  string
	From  string // what it was made from
	File  string // to which it was written; empty: it is shown
	Check string // the command that looks at the file
}

// Document implements Answer.
func (f First) Document(context.Context) any {
	if f.File == "" {
		return map[string]any{f.What: f.Text}
	}
	return map[string]any{"file": f.File}
}

// Draw implements Answer.
func (f First) Draw(_ context.Context, page *report.Page) error {
	if f.File == "" {
		_, err := fmt.Fprint(page.W, f.Text)
		return err
	}
	page.Line("%s is written from %s.", f.File, f.From)
	page.Next(f.Check + f.File)
	return nil
}
