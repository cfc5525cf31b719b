package answer

import (
	"context"

	"evenledger/internal/report"
)

// A PlayedCommand is one of the demonstration's, and how it ended.
type PlayedCommand struct {
	Command string `json:"command"`
	Exit    int    `json:"exit"`
}

// Played is what the demonstration went through.
type Played struct {
	Folder      string
	Commands    []PlayedCommand
	Corrections []string
	Again       string // the command that serves the practice application once more
}

// Document implements Answer.
func (p Played) Document(context.Context) any {
	return map[string]any{"folder": p.Folder, "commands": p.Commands, "corrections": p.Corrections, "standin": p.Again}
}

// Draw implements Answer.
func (p Played) Draw(_ context.Context, page *report.Page) error {
	page.Line("")
	page.Line("Every row is accounted for. To play on:")
	page.Line("")
	page.Line("  %s", page.Bold("cd "+p.Folder))
	page.Line("  %s", page.Bold(p.Again+" &"))
	page.Line("  %s", page.Bold("evenledger show 1 --outcome refused"))
	return nil
}
