package app

import (
	"context"
	"errors"
	"os"
	"slices"

	"evenledger/internal/export"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

// An ExportWish is what is wanted of a system's accounts.
type ExportWish struct {
	Only        string   // the condition that holds for them; empty: all
	Fields      []string // in this order; none: those that there is a plain word for
	Memberships []string // kinds, a column each
	Each        string   // a kind: a row for each membership of it
	All         bool     // the system's own fields and all memberships too
}

// An Exported is accounts that were written to a sheet.
type Exported struct {
	System, File string
	Rows         int
	Export       *export.Export
	Left         string // which of the system's fields have no column
}

// Export writes accounts of a system to a file.
func (a *App) Export(ctx context.Context, target workspace.System, client system.System, w ExportWish, out string, told func(stage string, n int)) (done Exported, err error) {
	if w.Each != "" && len(w.Memberships) > 0 {
		return done, mistake("--each and --memberships cannot both be given", "Keep one of them.")
	}
	about, err := client.Describe(ctx)
	if err != nil {
		return done, err
	}
	if w.Each != "" && len(w.Fields) == 0 {
		w.Fields = []string{about.Naming}
	}
	columns, err := export.Columns(about.Schema, w.Fields, w.All)
	if err != nil {
		return done, err
	}
	e, kinds := &export.Export{System: client, Columns: columns, Kinds: w.Memberships, Each: w.Each}, namedKinds(about)
	done = Exported{System: target.Name, File: out, Export: e}
	switch {
	case w.All && w.Each == "":
		e.Kinds, done.Left = kinds, export.LeftOut(about.Schema, columns, nil)
	case len(w.Fields) == 0:
		done.Left = export.LeftOut(about.Schema, columns, slices.DeleteFunc(kinds, func(kind string) bool { return slices.Contains(w.Memberships, kind) }))
	}
	if err := e.Only(about.Schema, w.Only, a.Today()); err != nil {
		return done, err
	}
	if err := e.Register(ctx, about); err != nil {
		return done, err
	}
	done.Rows, err = writeWhole(out, func(file *os.File) (rows int, err error) {
		to, err := sheetWriter(file, out)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, to.Close()) }()
		return e.Write(ctx, to, func(looked int) { told("looked at accounts", looked) })
	})
	return done, err
}
