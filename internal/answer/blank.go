package answer

import (
	"context"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/export"
	"evenledger/internal/report"
)

// A Blank is an empty sheet that was made for a system, or for a brief.
type Blank app.Blank

// Document implements Answer.
func (b Blank) Document(context.Context) any {
	headings := make([]string, len(b.Columns))
	for i, c := range b.Columns {
		headings[i] = c.Heading
	}
	document := map[string]any{"file": b.File, "system": b.System, "headings": headings, "required": export.Required(b.Columns), "note": b.Left}
	if b.Brief != "" {
		document["brief"] = b.Brief
	}
	return document
}

// Draw implements Answer.
func (b Blank) Draw(_ context.Context, page *report.Page) error {
	who, flags := b.System, "--system "+b.System
	if b.Brief != "" {
		who, flags = "the brief "+b.Brief, "-b "+report.Quoted(b.Brief)
	}
	required := export.Required(b.Columns)
	page.Line("%s: a blank for %s with %d columns.", b.File, who, len(b.Columns))
	if len(required) > 0 {
		page.Line("Each row must have: %s.", strings.Join(required, ", "))
	}
	if b.Left != "" {
		page.Text(page.Dim, b.Left)
	}
	page.Next("evenledger check " + report.Quoted(b.File) + " " + flags + "    # once it is filled in")
	return nil
}
