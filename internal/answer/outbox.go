package answer

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

// An Outbox is the files in which rows of a batch were handed over.
type Outbox struct {
	Dir    string // of the workspace
	Target workspace.System
	Batch  *batch.Batch
	Waits  map[string]int // by file, the rows of which nobody knows yet what became of them
}

// Document implements Answer.
func (o Outbox) Document(context.Context) any {
	type file struct {
		batch.File
		Open int    `json:"open"` // rows
		Path string `json:"path"`
	}
	files := []file{}
	for _, f := range o.Batch.Files {
		files = append(files, file{f, o.Waits[f.Name], pathOf(o.Target, f)})
	}
	return map[string]any{"batch": o.Batch.ID, "system": o.Batch.System, "files": files}
}

// Draw implements Answer.
func (o Outbox) Draw(_ context.Context, page *report.Page) error {
	if len(o.Batch.Files) == 0 {
		page.Line("Batch %d handed nothing over.", o.Batch.ID)
		page.Next(fmt.Sprintf("evenledger show %d", o.Batch.ID))
		return nil
	}
	o.files(page)
	next := fmt.Sprintf("evenledger settle %d", o.Batch.ID)
	if len(o.Waits) == 0 {
		next = fmt.Sprintf("evenledger show %d", o.Batch.ID)
	}
	page.Next(next)
	return nil
}

// pathOf is where a file of the outbox is.
func pathOf(target workspace.System, f batch.File) string {
	if at, is := target.Connection.(system.FileConnection); is {
		return at.File(f.Name, f.Sealed)
	}
	return f.Name
}

// Within is a path as the person at the workspace writes it.
func Within(dir, path string) string {
	if short, err := filepath.Rel(dir, path); err == nil && !strings.HasPrefix(short, "..") {
		return short
	}
	return path
}

// files lists them.
func (o Outbox) files(page *report.Page) {
	dir, target, waits := o.Dir, o.Target, o.Waits
	longest := 12
	for _, f := range o.Batch.Files {
		longest = max(longest, len([]rune(Within(dir, pathOf(target, f))))) // it is typed, or looked for
	}
	table := page.Listing(report.Column{Title: "file", Width: longest}, report.Column{Title: "rows", Width: 6, Right: true}, report.Column{Title: "open", Width: 6, Right: true}, report.Column{Title: "size", Width: 8, Right: true}, report.Column{Title: "handed over", Width: 17, Rank: 1})
	for _, f := range o.Batch.Files {
		table.Row(report.Cell{Text: Within(dir, pathOf(target, f))}, report.Cell{Text: report.Number(f.Rows)}, report.Cell{Text: report.Number(waits[f.Name])}, report.Cell{Text: size(f.Bytes)}, report.Cell{Text: f.At.Local().Format("2 Jan 2006 15:04")})
	}
}

// size is a number of bytes, for people.
func size(bytes int64) string {
	switch {
	case bytes < 1000:
		return fmt.Sprintf("%d B", bytes)
	case bytes < 1_000_000:
		return fmt.Sprintf("%d kB", (bytes+500)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(bytes)/1e6)
}

// handedOver tells which files the application is to be given, and what then.
func handedOver(ctx context.Context, page *report.Page, dir string, l store.Store, b *batch.Batch, target workspace.System) error {
	waits, err := batch.HandedOver(l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{account.HandedOver}}))
	if err != nil || len(waits) == 0 {
		return err
	}
	var open, sealed []batch.File
	for _, f := range b.Files {
		if waits[f.Name] > 0 {
			if open = append(open, f); f.Sealed {
				sealed = append(sealed, f)
			}
		}
	}
	page.Line("")
	page.Line("%s", page.Bold(fmt.Sprintf("To be given to %s", b.System)))
	shown := *b
	shown.Files = open
	Outbox{Dir: dir, Target: target, Batch: &shown, Waits: waits}.files(page)
	then, them := "Give it to the application.", "it"
	if len(open) > 1 {
		then, them = "Give them to the application, in this order.", "them"
	}
	if len(sealed) > 0 {
		then = fmt.Sprintf("They hold passwords and lie sealed: “evenledger outbox %d --open” opens them. ", b.ID) + then
	}
	export := "its accounts"
	if at, is := target.Connection.(system.FileConnection); is && at.Export() != "" {
		export = "its accounts to " + Within(dir, at.Export())
	}
	page.Line("")
	page.Text(page.Dim, then+" When it has taken what is in "+them+", export "+export+": only what that shows counts as done.")
	return nil
}
