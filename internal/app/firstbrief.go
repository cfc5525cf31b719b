package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/compose"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/told"
	"evenledger/internal/workspace"
)

// OnlyShown is the path of a first brief that is not to be written.
const OnlyShown = "-"

// A FirstBrief is a brief for a sheet, guessed.
type FirstBrief struct {
	Name      string // empty: as the sheet is called
	System    string // whose accounts are meant; empty: the only one there is
	Path      string // where to; empty: among the briefs of the workspace
	Overwrite bool
	Offline   bool // the system is not asked what it takes

	Text    string
	Source  *compose.Source
	Brief   *brief.Brief // as it is read; nil: it is to be completed by hand
	Problem error        // why it is
}

// Ready sees where a first brief of a sheet is to be written, and whether it may be.
func (f *FirstBrief) Ready(w *workspace.Workspace, info sheet.Info) error {
	if f.Name == "" {
		f.Name = compose.NameOf(info.Name)
	}
	if f.Path == "" {
		f.Path = filepath.Join(w.Dir, "briefs", f.Name+".yaml")
	}
	if f.Path == OnlyShown {
		return nil
	}
	if ext := filepath.Ext(f.Path); ext != ".yaml" && ext != ".yml" {
		return mistake(f.Path+" is not called as a brief", "Let its name end in .yaml, or give - to see it on the screen.")
	}
	if _, err := os.Stat(f.Path); err == nil && !f.Overwrite {
		return mistake(f.Path+" exists already", "Name the brief otherwise with --name, or give --overwrite.")
	}
	return nil
}

// Guess looks through a sheet, asks the system what it takes, and writes the brief's text; without an answer of the system's
// the work goes on.
func (a *App) Guess(ctx context.Context, w *workspace.Workspace, s *sheet.Sheet, f *FirstBrief, looked func(rows int)) (err error) {
	f.Source = &compose.Source{Name: f.Name, System: f.System, Today: a.Today()}
	target, err := w.System(f.System)
	switch {
	case err == nil:
		f.Source.System = target.Name
		if !f.Offline {
			f.Source.Schema = a.takes(ctx, target)
		}
	case f.System != "":
		return mistake(err.Error(), "")
	}
	if f.Source.Profile, err = profile.Of(s.Info(), s.Rows(), looked); err != nil {
		return err
	}
	f.Source.Info = s.Info()
	f.Text = f.Source.Brief()
	f.Source.Keyless = len(f.Source.Match(nil)) == 0
	if f.Brief, err = brief.Parse(filepath.Base(f.Path), []byte(f.Text), a.BriefOptions(w)); err != nil {
		f.Brief, f.Problem = nil, fmt.Errorf("the brief is to be completed by hand: %w", err)
	}
	return nil
}

// Write writes it to its file, with the folder of that.
func (f *FirstBrief) Write() error {
	if f.Path == OnlyShown {
		return nil
	}
	err := os.MkdirAll(filepath.Dir(f.Path), 0o755)
	if err == nil {
		err = os.WriteFile(f.Path, []byte(f.Text), 0o644)
	}
	if err != nil {
		return mistake(err.Error(), "")
	}
	return nil
}

// takes asks a system what it takes; nil: it could not be asked, which is told.
func (a *App) takes(ctx context.Context, target workspace.System) *account.Schema {
	client, err := a.Connect(target)
	if err == nil {
		var about *system.Description
		if about, err = client.Describe(ctx); err == nil {
			return about.Schema
		}
	}
	says, _ := told.Of(err)
	first, _, _ := strings.Cut(says.Message, "\n")
	a.Remark("%s could not be asked what it takes (%s); the brief is written without.", target.Name, a.Mask.Told(first))
	return nil
}
