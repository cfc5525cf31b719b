package answer

import (
	"context"

	"evenledger/internal/report"
)

// Done is a small thing that was done, or is so: told in a few lines.
type Done struct {
	Holds map[string]any // the document
	Lines []string
	Aside string   // less weighty than they are
	Next  []string // commands
}

// Document implements Answer.
func (d Done) Document(context.Context) any { return d.Holds }

// Draw implements Answer.
func (d Done) Draw(_ context.Context, page *report.Page) error {
	for _, line := range d.Lines {
		page.Line("%s", line)
	}
	if d.Aside != "" {
		page.Line("%s", page.Dim(d.Aside))
	}
	page.Next(d.Next...)
	return nil
}
