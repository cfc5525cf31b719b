package app

import (
	"context"
	"errors"
	"os"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/export"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// A Blank is an empty sheet for a system, or for a brief.
type Blank struct {
	File, System, Brief string
	Columns             []export.Column
	Left                string // which of the system's fields have no column, in words
}

// namedKinds are the kinds of things a system has that a brief can name.
func namedKinds(about *system.Description) (names []string) {
	for _, kind := range about.Kinds {
		if slices.Contains(brief.Kinds(), kind.Name) {
			names = append(names, kind.Name)
		}
	}
	return names
}

// BlankOf is the blank with a column for each field of a system; only, if any, says for which, and all that its own
// fields and memberships have one, too.
func BlankOf(about *system.Description, only []string, all bool) (b Blank, err error) {
	kinds := namedKinds(about)
	if b.Columns, err = export.Columns(about.Schema, only, all); err != nil {
		return b, err
	}
	b.Left = export.LeftOut(about.Schema, b.Columns, kinds)
	if all {
		b.Left = export.LeftOut(about.Schema, b.Columns, nil)
		for _, kind := range kinds {
			// What the system has of the same name in an account is what memberships give.
			b.Columns = slices.DeleteFunc(b.Columns, func(c export.Column) bool { return words.Key(c.Heading) == words.Key(kind) })
			c := export.Column{BlankColumn: sheet.BlankColumn{Heading: words.Title(kind), Note: "Names or ids, with “;” between several; of a course also with the role in brackets behind it."}}
			c.Field.Label, c.Field.Kind = kind+" the person gets", account.List
			b.Columns = append(b.Columns, c)
		}
	}
	if len(only) > 0 {
		b.Left = ""
	}
	return b, nil
}

// BlankOfBrief is the blank that a brief reads, with what there is in its system to choose from.
func (a *App) BlankOfBrief(ctx context.Context, name string) (blank Blank, err error) {
	w, err := a.FindWorkspace()
	if err != nil {
		return blank, err
	}
	b, err := a.LoadBrief(w, name, "", "")
	if err != nil {
		return blank, err
	}
	of := b.System
	if set, is := w.Set(of); is {
		of = set.Systems[0] // of a set the first says what it takes
	}
	target, err := w.System(of)
	if err != nil {
		return blank, mistake(err.Error(), "")
	}
	client, err := a.Connect(target)
	if err != nil {
		return blank, err
	}
	about, err := client.Describe(ctx)
	if err != nil {
		return blank, err
	}
	things := map[string][]account.Thing{}
	for _, kind := range about.Kinds {
		if !b.Names(kind.Name) {
			continue
		}
		for t, err := range client.Things(ctx, kind.Name, false) {
			if err != nil {
				return blank, err
			}
			things[kind.Name] = append(things[kind.Name], t)
		}
	}
	columns := export.OfBrief(b, about.Schema, func(kind string) []account.Thing { return things[kind] })
	return Blank{System: target.Name, Brief: name, Columns: columns}, nil
}

// Write writes the blank to its file: a workbook has lists and notes, and a text has the notes above its headings.
func (b Blank) Write() error {
	_, err := writeWhole(b.File, func(file *os.File) (int, error) {
		if sheet.TraitsOf(b.File).Workbook {
			return 0, sheet.WriteBlank(file, export.Workbook(b.Columns))
		}
		w, err := sheetWriter(file, b.File)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		who := b.System
		if b.Brief != "" {
			who = "the brief " + b.Brief
		}
		for _, line := range export.Text(who, b.Columns) {
			err = errors.Join(err, w.Write(line))
		}
		return 0, errors.Join(err, w.Close())
	})
	return err
}
